"""The words that stand for states and actions in answers."""

from enum import StrEnum


class PlaceState(StrEnum):
    """What a service does in an environment."""

    SERVING = "serving"
    AT_RISK = "at risk"  # it answers, and something that it needs is not as it should be
    STOPPED = "stopped"  # somebody stopped what it needs
    FAULTING = "faulting"
    ENDED = "ended"  # its announced end has come
    NOT_DEPLOYED = "not deployed"


class DraftState(StrEnum):
    """A draft beside the newest release."""

    EDITED = "edited"
    RELEASED = "released"
    REMOVED = "removed"


class Stage(StrEnum):
    """Where the newest words of a service are."""

    EDITED = "edited, not released"
    RELEASED = "released, not live"
    LIVE = "live"
    REMOVED = "removed"
    REMOVED_STILL_LIVE = "removed, still live"


class GateOutcome(StrEnum):
    """Whether a release may pass; with consent it may, for a reason; what is due is tried when it is deployed."""

    OPEN = "open"
    CLOSED = "closed"
    CONSENT = "consent"
    DUE = "due"


class ChangeAction(StrEnum):
    """What applying does to a definition; kept: newer here, and the author left it alone."""

    ADDED = "added"
    CHANGED = "changed"
    MOVED = "moved"
    REMOVED = "removed"
    UNCHANGED = "unchanged"
    KEPT = "kept"


class CallResult(StrEnum):
    """How a call ended: with an answer, a declared fault, or a failure."""

    ANSWERED = "answered"
    FAULT = "fault"
    FAILED = "failed"


class Role(StrEnum):
    """What a user may do; each may do what the ones before may."""

    VIEWER = "viewer"
    OPERATOR = "operator"
    INTEGRATOR = "integrator"
    ADMIN = "admin"


class CredentialKind(StrEnum):
    PASSWORD = "password"
    TOKEN = "token"
    CERTIFICATE = "certificate"


class PoolAct(StrEnum):
    """Start; stop (calls in flight end); cut (they fail); recycle (every session is renewed)."""

    START = "start"
    STOP = "stop"
    CUT = "cut"
    RECYCLE = "recycle"
