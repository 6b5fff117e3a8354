"""Figures in the Prometheus text format, version 0.0.4: pools, live services, and calls since the start."""

from bricola.server.bricola import Bricola

_POOL_GAUGES = ("pool_min", "pool_max", "pool_size", "pool_available", "requests_waiting")
_POOL_COUNTERS = ("requests_num", "requests_queued", "requests_wait_ms", "requests_errors", "usage_ms", "returns_bad",
                  "connections_num", "connections_ms", "connections_errors", "connections_lost")


def write_metrics(bricola: Bricola) -> str:
    lines: list[str] = []
    calls = sorted(bricola.calls.recorder.totals.items())
    _family(lines, "bricola_calls_total", "counter", "Calls answered, by result",
            [(f'environment="{e}",service="{s}",operation="{o}",result="{r}"', count)
             for (e, s, o, r), (count, _) in calls])
    _family(lines, "bricola_call_seconds_total", "counter", "Time inside the service, by result",
            [(f'environment="{e}",service="{s}",operation="{o}",result="{r}"', micros / 1e6)
             for (e, s, o, r), (_, micros) in calls])
    pools = [(f'environment="{one["environment"]}",backend="{one["backend"]}"', one)
             for one in bricola.places.pool_statistics()]
    for name in _POOL_GAUGES:
        _family(lines, f"bricola_pool_{name.removeprefix('pool_')}", "gauge", f"Pool sessions: {name.replace('_', ' ')}",
                [(labels, one[name]) for labels, one in pools])
    for name in _POOL_COUNTERS:
        _family(lines, f"bricola_pool_{name}_total", "counter", f"Pool: {name.replace('_', ' ')}",
                [(labels, one[name]) for labels, one in pools])
    _family(lines, "bricola_service_live", "gauge", "1 for each service that answers, with its release",
            [(f'environment="{one.environment}",service="{one.name}",release="{one.release}"', 1)
             for one in bricola.places.services()])
    return "\n".join(lines) + "\n"


def _family(lines: list[str], name: str, kind: str, help_text: str, values: list[tuple[str, object]]) -> None:
    lines += [f"# HELP {name} {help_text}", f"# TYPE {name} {kind}"]
    lines += [f"{name}{{{labels}}} {value}" for labels, value in values]
