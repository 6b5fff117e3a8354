"""Identities of callers."""

import base64

import pytest

from bricola.core.calls.callers import Caller, Callers, Token, token_digest
from bricola.core.problems import Kind, ProblemError

DESK = Caller("harbour-desk", frozenset({"lock-desk"}))


def basic(name: str, token: str) -> bytes:
    return b"Basic " + base64.b64encode(f"{name}:{token}".encode())


def make() -> Callers:
    callers = Callers(lambda: now[0])
    callers.replace([Token(token_digest("secret"), DESK)])
    return callers


now = [0.0]


def test_basic_and_bearer_find_the_caller() -> None:
    callers = make()
    for header in (basic("harbour-desk", "secret"), b"Bearer secret", b"bearer  secret ", b"Bearer secret"):
        assert callers.identify(header) is DESK


@pytest.mark.parametrize("header", [
    b"", b"Basic", b"Basic %%%", b"Basic " + base64.b64encode(b"nocolon"), b"Bearer wrong", b"Digest x", b"Bearer \xff",
    basic("someone-else", "secret"), basic("harbour-desk", "wrong"), basic("harbour-desk", ""),
])
def test_everything_else_is_refused_without_saying_which_part_is_wrong(header: bytes) -> None:
    with pytest.raises(ProblemError) as caught:
        make().identify(header)
    assert caught.value.problem.kind is Kind.IDENTITY
    assert b"secret" not in str(caught.value.problem.as_dict()).encode()


def test_revoking_takes_effect_at_once_and_loans_end() -> None:
    callers = make()
    assert callers.identify(b"Bearer secret") is DESK
    callers.replace([])
    with pytest.raises(ProblemError):
        callers.identify(b"Bearer secret")
    loan = callers.lend(DESK, 60).encode()
    assert callers.identify(b"Bearer " + loan) is DESK
    now[0] += 61
    with pytest.raises(ProblemError):
        callers.identify(b"Bearer " + loan)


def test_a_clock_that_jumps_neither_locks_out_nor_revives() -> None:
    callers = Callers(lambda: now[0])
    now[0] = 1_000_000.0
    callers.replace([Token(token_digest("day"), DESK, expires=now[0] + 86_400), Token(token_digest("ever"), DESK)])
    for moment in (1_000_000.0, 1_050_000.0, 100.0, 1_000_001.0):  # forth, far back, and right again
        now[0] = moment
        assert callers.identify(b"Bearer day") is DESK
        assert callers.identify(b"Bearer ever") is DESK
    now[0] = 1_086_400.0
    with pytest.raises(ProblemError, match="has expired"):
        callers.identify(b"Bearer day")
    now[0] = 0.0
