"""The states of a session in a pool and of a pool, with the moves between them.

A session is made in `opening` and is gone when the pool forgets it; that is no state. Everything that happens to it is one of these:

| from | what happens | to |
| --- | --- | --- |
| opening | it is open | warm, or at once in use where somebody waits |
| warm | a call borrows it | in use |
| warm | it was idle for long, others of its endpoint were lost, or the backend would end it soon | checking |
| checking | it gave a sign of life | warm, or in use where somebody waits |
| in use | it comes back as it was | warm, or in use where somebody waits |
| in use | it comes back unclean | resetting |
| resetting | it is as it was | warm, or in use where somebody waits |
| in use | it was recycled or evicted, its pool stopped, or its endpoint holds too many | draining |
| draining | it is said again | draining |
| any | it is lost, too old, too idle, or comes back while draining | gone |
"""

from enum import StrEnum


class SessionState(StrEnum):
    OPENING = "opening"
    WARM = "warm"
    IN_USE = "in use"
    CHECKING = "checking"
    RESETTING = "resetting"
    DRAINING = "draining"  # to be closed when it comes back


# Not asked at each move, since a pool makes two of them a call; the tests of the pool run with sessions that ask it.
SESSION_MOVES: dict[SessionState, frozenset[SessionState]] = {
    SessionState.OPENING: frozenset((SessionState.WARM, SessionState.IN_USE)),
    SessionState.WARM: frozenset((SessionState.IN_USE, SessionState.CHECKING)),
    SessionState.CHECKING: frozenset((SessionState.WARM, SessionState.IN_USE)),
    SessionState.IN_USE: frozenset((SessionState.WARM, SessionState.IN_USE, SessionState.RESETTING, SessionState.DRAINING,
                                    SessionState.CHECKING)),
    SessionState.RESETTING: frozenset((SessionState.WARM, SessionState.IN_USE)),
    SessionState.DRAINING: frozenset((SessionState.DRAINING,)),
}


class PoolState(StrEnum):
    """Serving, asleep until the next call, stopped by a person, retired for another pool, closed with the service; seen from outside
    also at risk or faulting, by the circuits of its endpoints."""

    SERVING = "serving"
    ASLEEP = "asleep"
    STOPPED = "stopped"
    RETIRED = "retired"
    CLOSED = "closed"
    AT_RISK = "at risk"
    FAULTING = "faulting"


NOT_LENDING = frozenset((PoolState.STOPPED, PoolState.CLOSED))
KEEPING = frozenset((PoolState.SERVING, PoolState.ASLEEP))  # sessions that come back stay
