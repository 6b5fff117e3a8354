"""Figures for Prometheus, by its client library: calls with their times, pools, live services, changes.

A registry for each running service, so that several in one process do not meet.
"""

from collections.abc import Iterator
from typing import Protocol

from prometheus_client import CollectorRegistry, Counter, Histogram, generate_latest
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric
from prometheus_client.registry import Collector

from bricola.api.words import PlaceState
from bricola.core.serving.pipeline import CallRecord, Pipeline
from bricola.server.usecases import soundness as states_of
from bricola.server.usecases.soundness import soundness

CONTENT_TYPE = "text/plain; version=0.0.4; charset=utf-8"
_SECONDS = (0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, 30.0)
_POOL_GAUGES = ("pool_min", "pool_max", "pool_size", "pool_available", "requests_waiting")
_POOL_COUNTERS = ("requests_num", "requests_queued", "requests_wait_ms", "requests_errors", "usage_ms", "returns_bad",
                  "connections_num", "connections_ms", "connections_errors", "connections_lost")
_BY_OPERATION = ("environment", "service", "operation", "result")
_BY_POOL = ("environment", "backend")
_STATES = [one for one in PlaceState if one is not PlaceState.NOT_DEPLOYED]


class Ports(states_of.Ports, Protocol):
    pipeline: Pipeline


class Metrics:
    """The figures of one running service. `count` is called for each call, off the hot path."""

    def __init__(self) -> None:
        self._registry = CollectorRegistry()
        self._calls = Counter("bricola_calls", "Calls answered, by result", _BY_OPERATION, registry=self._registry)
        self._seconds = Histogram("bricola_call_seconds", "Time inside the service", _BY_OPERATION, buckets=_SECONDS,
                                  registry=self._registry)

    def count(self, record: CallRecord) -> None:
        labels = (record.environment, record.service, record.operation, record.result)
        self._calls.labels(*labels).inc()
        self._seconds.labels(*labels).observe(record.micros / 1e6)

    def follow(self, ports: Ports) -> None:
        """Tell of pools and live services too, as they are when they are asked for."""
        self._registry.register(_Now(ports))

    def text(self) -> bytes:
        """In the text format of Prometheus, version 0.0.4."""
        return generate_latest(self._registry)


class _Now(Collector):
    """What is asked for at each scrape."""

    def __init__(self, ports: Ports) -> None:
        self._ports = ports

    def collect(self) -> Iterator[Metric]:
        pools = self._ports.places.pool_statistics()
        for name in _POOL_GAUGES:
            words = f"Pool sessions: {name.replace('_', ' ')}"
            gauge = GaugeMetricFamily(f"bricola_pool_{name.removeprefix('pool_')}", words, labels=_BY_POOL)
            for one in pools:
                gauge.add_metric([one["environment"], one["backend"]], one[name])
            yield gauge
        for name in _POOL_COUNTERS:
            counter = CounterMetricFamily(f"bricola_pool_{name}", f"Pool: {name.replace('_', ' ')}", labels=_BY_POOL)
            for one in pools:
                counter.add_metric([one["environment"], one["backend"]], one[name])
            yield counter
        live = GaugeMetricFamily("bricola_service_live", "1 for each release that is loaded",
                                 labels=("environment", "service", "release"))
        for service in self._ports.places.services():
            live.add_metric([service.environment, service.segment, str(service.release)], 1)
        yield live
        strangers = CounterMetricFamily("bricola_strangers", "Requests of nobody who is known; without a service: at no address",
                                        labels=("environment", "service"))
        for (environment, segment), count in self._ports.pipeline.strangers.total.items():
            strangers.add_metric([environment, segment], count)
        yield strangers
        states = GaugeMetricFamily("bricola_service_state", "1 for the state that each deployed service is in, with all that it needs",
                                   labels=("environment", "service", "state"))
        for environment, segment in self._ports.places.deployed():
            found = soundness(self._ports, environment, segment).state
            for state in _STATES:
                states.add_metric([environment, segment, state], float(state is found))
        yield states
