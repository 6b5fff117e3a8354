"""Findings about the pools of an environment, from their settings and from what was measured."""

import math
from collections.abc import Iterator
from typing import Any

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.findings import Area, Facts, Finding, PoolFact, Rule, Rules, Severity
from bricola.core.definitions.model import Binding, EnvironmentDefinition, PoolSettings, ServiceDefinition
from bricola.core.kinds.registry import backends_of

_E, _W, _H = Severity.ERROR, Severity.WARNING, Severity.HINT

RULES = Rules(
    Rule("pool.bounds", Area.CAPACITY, _E, "The least size cannot be above the greatest.", True),
    Rule("pool.rigid", Area.CAPACITY, _W, "A pool whose least and greatest size are equal can neither grow nor shrink.", True),
    Rule("pool.small", Area.CAPACITY, _W, "By what was measured, calls will wait.", True),
    Rule("pool.large", Area.CAPACITY, _H, "By what was measured, a fraction of these sessions would do."),
    Rule("pool.backend-limit", Area.CAPACITY, _W, "The backend refuses sessions above its own limit.", True),
    Rule("pool.timeouts", Area.CAPACITY, _W, "A connect that may take as long as a call waits leaves no time for another endpoint.", True),
    Rule("pool.lifetimes", Area.CAPACITY, _W, "A session that may idle longer than it may live never shrinks the pool.", True),
    Rule("pool.cold", Area.CAPACITY, _H, "The first call after a pause pays for the sign-on."),
    Rule("pool.no-waiting", Area.CAPACITY, _W, "With no waiting allowed, a burst is refused while sessions are about to come free.", True),
)
finding = RULES.finding

_GENEROUS = 4  # times the advised size, from which on a pool is called large
_ROOM_TO_WAIT = 1000


def findings(catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition,
             facts: Facts) -> Iterator[Finding]:
    for name in backends_of(catalogue, service):
        binding = environment.binding(name)
        if binding is not None and binding.ends:
            yield from _settings(environment, binding)
            yield from _measured(environment, binding, facts.pools.get(name, PoolFact()))


def _mended(environment: EnvironmentDefinition, binding: Binding, **settings: Any) -> EnvironmentDefinition:
    pool = binding.pool.model_copy(update=settings)
    bindings = tuple(one.model_copy(update={"pool": pool}) if one.name == binding.name else one for one in environment.backends)
    return environment.model_copy(update={"backends": bindings})


def _settings(environment: EnvironmentDefinition, binding: Binding) -> Iterator[Finding]:
    pool, place = binding.pool, f"environment {environment.name}, backends, {binding.name}, pool"
    if pool.min_size > pool.max_size:
        yield finding("pool.bounds", "The pool's least size is above its greatest.", place, expected=f"min_size up to {pool.max_size}",
                      found=str(pool.min_size), mend=f"Set min_size to {pool.max_size}.",
                      mended=_mended(environment, binding, min_size=pool.max_size))
    elif pool.min_size == pool.max_size > 1:
        least = max(1, pool.max_size // 4)
        yield finding("pool.rigid", "The pool cannot grow or shrink.", place, expected="min_size below max_size",
                      found=f"min_size and max_size are both {pool.max_size}", mend=f"Set min_size to {least}.",
                      mended=_mended(environment, binding, min_size=least))
    elif pool.min_size == 0 and environment.protected and pool.start == "service":
        yield finding("pool.cold", "The pool keeps nothing warm.", place, expected="min_size of 1 or more", found="0",
                      mend="Set min_size to 1, or 'start: first-call' when this is meant.")
    if pool.connect_timeout >= pool.timeout:
        seconds = round(pool.timeout / 3, 2)
        yield finding("pool.timeouts", "One connect may take all the time that a call waits.", place,
                      expected=f"connect_timeout below {pool.timeout:g}", found=f"{pool.connect_timeout:g}",
                      mend=f"Set connect_timeout to {seconds:g}.", mended=_mended(environment, binding, connect_timeout=seconds))
    if pool.max_idle > pool.max_lifetime:
        yield finding("pool.lifetimes", "A session may be idle for longer than it may live.", place,
                      expected=f"max_idle up to {pool.max_lifetime:g}", found=f"{pool.max_idle:g}",
                      mend=f"Set max_idle to {pool.max_lifetime:g}.", mended=_mended(environment, binding, max_idle=pool.max_lifetime))
    if pool.max_waiting == 0:
        yield finding("pool.no-waiting", "Nobody may wait for a session.", place, expected="max_waiting above 0", found="0",
                      mend=f"Set max_waiting to {_ROOM_TO_WAIT}.", mended=_mended(environment, binding, max_waiting=_ROOM_TO_WAIT))


def _measured(environment: EnvironmentDefinition, binding: Binding, fact: PoolFact) -> Iterator[Finding]:
    pool: PoolSettings = binding.pool
    place = f"environment {environment.name}, backends, {binding.name}, pool"
    limit, advised = fact.backend_limit, fact.advised_size
    allowed = limit * len(binding.ends) if limit is not None else None
    if allowed is not None and pool.max_size > allowed:
        yield finding("pool.backend-limit", "The backend allows fewer sessions than the pool may open.", f"{place}, max_size",
                      expected=f"at most {allowed}", found=str(pool.max_size), mend=f"Set max_size to {allowed}.",
                      mended=_mended(environment, binding, max_size=max(1, allowed)))
    if advised is not None and advised > pool.max_size:
        size = advised if allowed is None else max(1, min(advised, allowed))
        yield finding("pool.small", "The pool is too small for what was measured.", f"{place}, max_size",
                      expected=f"{advised} sessions, so that fewer than 1 call in 20 waits", found=str(pool.max_size),
                      mend=f"Set max_size to {size}.", mended=_mended(environment, binding, max_size=size))
    elif advised is not None and pool.max_size > max(_GENEROUS, _GENEROUS * advised):
        yield finding("pool.large", "The pool may grow far beyond what was measured.", f"{place}, max_size",
                      expected=f"some {math.ceil(advised * 2)} sessions", found=str(pool.max_size))
