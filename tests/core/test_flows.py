"""Screen flows played on the demo's hosts over loopback: what they answer, and what they do when the host does not play along."""

import asyncio
from pathlib import Path
from typing import Any

import pytest

from bricola.core.calls.call import Call
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.kinds.screens.definition import ScreenFlowDefinition
from bricola.core.kinds.screens.runner import Runner
from bricola.core.kinds.screens.sessions import ScreenError
from bricola.core.kinds.screens.shape import resolve_flow
from bricola.core.kinds.screens.walks import compile_walks
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import ProblemError
from bricola.demo.hosts.records import BerthFile, LedgerFile
from tests.core.terminals import (
    CATALOGUE,
    PASSWORD,
    USER,
    Passwords,
    accounts,
    backend_of,
    demo_host,
    handler_of,
    pool_to,
    problem_of,
    settled,
    until,
)

ALL = {"registration": "LK-0412", "maxRows": 500}


def expected_rows(registry: Path, registration: str = "LK-0412") -> list[dict[str, Any]]:
    account = LedgerFile(registry).account(registration)
    assert account is not None
    return [{"passedOn": one.passed_on, "lockNumber": one.lock, "direction": {"U": "up", "D": "down"}[one.direction],
             "tonnes": one.tonnes, "toll": one.toll} for one in account.lines]


async def test_a_ledger_of_300_rows_over_20_pages_is_complete_and_right(registry: Path) -> None:
    async with demo_host("ledger", registry) as (server, port), pool_to(backend_of("ledger"), port) as pool:
        call = handler_of("LockLedger", pool)
        answer = await call(dict(ALL))
        assert len(answer["passage"]) == 300
        assert answer["passage"] == expected_rows(registry)
        assert (answer["complete"], answer["accountStatus"], answer["lastPassage"]) == (True, "open", answer["passage"][0]["passedOn"])
        await until(settled(pool))
        assert server.keys == pool.statistics()["pool_size"] + 2 + 19 + 1  # sign-ons, menu and enquiry, the other pages, the way back
        for most, complete in ((30, False), (299, False), (300, True)):
            bounded = await call({**ALL, "maxRows": most})
            assert (bounded["passage"], bounded["complete"]) == (answer["passage"][:most], complete)
        with pytest.raises(DeclaredFaultError) as caught:
            await call({**ALL, "registration": "LK-9999"})
        assert (caught.value.name, caught.value.detail["registration"]) == ("VesselNotFound", "LK-9999")
        assert caught.value.message == "VESSEL LK-9999 IS NOT ON FILE"
        await until(settled(pool))
        assert len(server.devices) == pool.statistics()["pool_size"]  # every session is still signed on


async def test_a_berth_with_its_bookings_over_pages(registry: Path) -> None:
    file = BerthFile(registry)
    berths = file.from_code("")
    async with demo_host("berths", registry) as (server, port), \
            pool_to(backend_of("berths"), port, devices=("LKB01", "LKB02"), max_size=2) as pool:
        call = handler_of("BerthDesk", pool)
        for count in (0, 7, 37):
            berth = next(one for one in berths if len(one.bookings) == count)
            answer = await call({"code": berth.code})
            assert answer == {"place": berth.place, "metres": berth.metres, "kind": berth.kind, "dailyRate": berth.rate, "booking": [
                {"from": one.start, "to": one.end, "registration": one.registration} for one in berth.bookings]}
        with pytest.raises(DeclaredFaultError, match="Berth NONE-1 not found"):
            await call({"code": "NONE-1"})
        assert set(server.devices) <= {"LKB01", "LKB02"}
        await until(settled(pool))
        assert [one["identity"].split(" on ")[0] for one in pool.view()["sessions"]] == ["LKCLERK"] * pool.statistics()["pool_size"]


async def test_a_device_that_somebody_has_is_passed_over_for_the_next_of_the_list(registry: Path) -> None:
    async with demo_host("berths", registry) as (server, port), \
            pool_to(backend_of("berths"), port, devices=("LKB01",), min_size=1, max_size=1):
        await until(lambda: set(server.devices) == {"LKB01"})
        async with pool_to(backend_of("berths"), port, devices=("LKB01", "LKB02"), min_size=1, max_size=1) as second:
            await until(lambda: set(server.devices) == {"LKB01", "LKB02"})  # a session counts from when it is opened
            assert second.statistics()["pool_size"] == 1


async def test_what_cannot_be_typed_is_refused_before_a_key_is_pressed(registry: Path) -> None:
    async with demo_host("berths", registry) as (server, port), pool_to(backend_of("berths"), port) as pool:
        call = handler_of("BerthDesk", pool)
        await call({"code": "ALDE-1"})
        await until(settled(pool))
        keys = server.keys
        letter = await problem_of(call({"code": "ALD€-1"}))
        assert (letter.code, letter.place) == ("codepage.character", "GetBerth/code")
        assert '"€"' in letter.message
        long = await problem_of(call({"code": "ALDERFEN-1"}))
        assert (long.code, long.found) == ("terminal.too-long", "10 characters")
        assert server.keys == keys


async def test_broadcasts_that_cover_the_screen_are_taken_away(registry: Path) -> None:
    async with demo_host("ledger", registry, broadcast_every=4) as (_, port), pool_to(backend_of("ledger"), port) as pool:
        call = handler_of("LockLedger", pool)
        for _ in range(2):
            answer = await call(dict(ALL))
            assert (answer["passage"], answer["complete"]) == (expected_rows(registry), True)


async def test_a_session_that_the_host_ended_signs_on_again(registry: Path) -> None:
    async with demo_host("ledger", registry, idle_seconds=1.0) as (_, port), \
            pool_to(backend_of("ledger"), port, max_size=1, check_after=600) as pool:
        call = handler_of("LockLedger", pool)
        await call({**ALL, "maxRows": 1})
        await until(lambda: pool._idle[0].session.screen.lines[0][1:7] == "LKM000" if pool._idle else False)
        assert pool._idle[0].session.screen.lines[0][1:7] == "LKM000"  # the host signed it off
        assert len((await call({**ALL, "maxRows": 20}))["passage"]) == 20
        assert pool.statistics()["connections_num"] == 1


class Rotating(Passwords):
    """A credential that is rotated."""

    def rotate(self, value: str) -> None:
        self._value = value


async def test_a_session_that_signs_on_again_presents_the_secret_of_now(registry: Path) -> None:
    """Idle sessions that the host signed off came back with the password of before a rotation; a real host locks the account."""
    secrets, known = Rotating(), accounts()
    async with demo_host("ledger", registry, known, idle_seconds=1.0) as (_, port), \
            pool_to(backend_of("ledger"), port, secrets=secrets, max_size=1, check_after=600) as pool:
        call = handler_of("LockLedger", pool)
        await call({**ALL, "maxRows": 1})
        await until(lambda: pool._idle[0].session.screen.lines[0][1:7] == "LKM000" if pool._idle else False)
        known[USER].password = "WEIR4711"  # the host's side of the rotation, then ours
        secrets.rotate("WEIR4711")
        assert len((await call({**ALL, "maxRows": 20}))["passage"]) == 20
        assert pool.statistics()["connections_num"] == 1


async def test_keep_alive_holds_sessions_that_the_host_would_end(registry: Path) -> None:
    async with demo_host("ledger", registry, idle_seconds=2.5) as (server, port), \
            pool_to(backend_of("ledger"), port, min_size=1, max_size=1, keep_alive=1.0, check_after=600) as pool:
        await until(lambda: server.keys == 1)
        await asyncio.sleep(3.2)
        await until(lambda: bool(pool._idle))  # it may just be asked for a sign of life
        assert pool._idle[0].session.screen.lines[0][1:7] == "LKM100"
        assert server.keys > 1
        assert pool.statistics()["connections_num"] == 1


@pytest.mark.parametrize(("secrets", "words"), [
    (Passwords(value="WRONG"), "USER ID OR PASSWORD IS WRONG"), (Passwords("LKOLD"), "YOUR PASSWORD HAS EXPIRED")])
async def test_a_refused_sign_on_tells_what_the_host_says(registry: Path, secrets: Passwords, words: str) -> None:
    async with demo_host("ledger", registry) as (_, port), pool_to(backend_of("ledger"), port, secrets=secrets, min_size=0) as pool:
        problem = await problem_of(handler_of("LockLedger", pool)(dict(ALL)))
    assert problem.code == "backend.sign-on"
    assert words in problem.inner
    assert words not in problem.sentence()  # for owners


async def test_two_calls_share_the_one_session_that_is_allowed(registry: Path) -> None:
    async with demo_host("ledger", registry) as (server, port), \
            pool_to(backend_of("ledger"), port, secrets=Passwords("LKONE", PASSWORD), min_size=0, max_size=2) as pool:
        call = handler_of("LockLedger", pool)
        answers = await asyncio.gather(*(call({**ALL, "maxRows": 40}) for _ in range(3)))
        assert [len(one["passage"]) for one in answers] == [40, 40, 40]
        assert len(server.devices) <= 2
        assert pool.statistics()["pool_size"] == 1  # the second was refused: already signed on
        (end,) = pool.endpoints  # which is a bound of the host and no failure: nothing is left alone for it
        assert (end.failures, str(end.circuit), str(pool.state), pool.view()["backend_limit"]) == (0, "closed", "serving", 1)


async def test_callers_who_are_gone_leave_the_queue_and_stop_their_walk(registry: Path) -> None:
    async with demo_host("ledger", registry, delay=0.05) as (server, port), \
            pool_to(backend_of("ledger"), port, max_size=1) as pool:  # so slow that the walk is still under way when the callers leave
        call = handler_of("LockLedger", pool)
        gone = asyncio.Event()
        walking = asyncio.create_task(call(dict(ALL)))
        await until(lambda: server.keys > 4)  # in the middle of its twenty pages
        waiting = [asyncio.create_task(call(dict(ALL), Call(left=gone.wait))) for _ in range(40)]  # type: ignore[arg-type]
        await asyncio.sleep(0.01)
        gone.set()
        assert {(await problem_of(one)).code for one in waiting} == {"caller.left"}
        walking.cancel()
        await asyncio.wait((walking,))
        await until(settled(pool))  # it has found its way back, signed on as it was
        keys = server.keys
        assert (await call({**ALL, "maxRows": 5}))["passage"] == expected_rows(registry)[:5]
        assert (pool.statistics()["connections_num"], server.keys - keys < 5) == (1, True)


async def test_a_host_that_drops_is_left_for_its_twin(registry: Path) -> None:
    async with demo_host("ledger", registry) as (north, first), demo_host("ledger", registry) as (south, second), \
            pool_to(backend_of("ledger"), first, second, max_size=4, min_size=2, breaker={"failures": 2, "retry_after": 0.5}) as pool:
        call = handler_of("LockLedger", pool)
        done = 0

        async def calling() -> None:
            nonlocal done
            for _ in range(12):
                assert (await call({**ALL, "maxRows": 60}))["passage"] == expected_rows(registry)[:60]
                done += 1

        calls = [asyncio.create_task(calling()) for _ in range(3)]
        await until(lambda: done > 6)
        await north.close()
        await asyncio.gather(*calls)
        assert done == 36  # no call was lost
        await until(lambda: pool.view()["endpoints"][0]["circuit"] == "open" or pool.view()["endpoints"][0]["sessions"] == 0)
        await north.start(first)
        await until(lambda: pool.view()["endpoints"][0]["circuit"] == "closed" and pool.state == "serving")
        assert (await call({**ALL, "maxRows": 5}))["complete"] is False
        assert south.keys > 0


@pytest.mark.parametrize(("fault", "codes"), [
    ("drop", {"terminal.dropped"}), ("freeze", {"terminal.silent"}), ("half", {"terminal.silent"}),
    ("garbage", {"terminal.silent", "screen.unexpected", "terminal.dropped", "telnet.record", "terminal.protected"})])
async def test_a_host_that_misbehaves_fails_the_call_in_time_and_costs_one_session(registry: Path, fault: str, codes: set[str]) -> None:
    backend = backend_of("ledger")
    async with demo_host("ledger", registry) as (server, port), pool_to(backend, port, min_size=1, max_size=1) as pool:
        call = handler_of("LockLedger", pool, quick())
        await call({**ALL, "maxRows": 1})
        await until(settled(pool))
        server.behaviour.fault = fault
        problem = await problem_of(call(dict(ALL)))
        assert problem.code in codes
        assert problem.kind.value in ("backend", "unreachable", "busy")
        server.behaviour.fault = ""
        assert len((await call({**ALL, "maxRows": 30}))["passage"]) == 30


def quick() -> Catalogue:
    """The demo's definitions with moves that wait half a second at most."""
    flow = CATALOGUE.get(ScreenFlowDefinition, "vessel-ledger")
    assert flow is not None
    moves = tuple(one.model_copy(update={"seconds": 0.5}) for one in flow.moves)
    return CATALOGUE | Catalogue([flow.model_copy(update={"moves": moves})])


async def test_a_slow_host_is_waited_for(registry: Path) -> None:
    async with demo_host("ledger", registry, delay=0.02, fault="slow") as (_, port), pool_to(backend_of("ledger"), port) as pool:
        answer = await handler_of("LockLedger", pool)({**ALL, "maxRows": 40})
        assert answer["passage"] == expected_rows(registry)[:40]


async def test_a_host_that_negotiates_for_ever_is_given_up(registry: Path) -> None:
    async with demo_host("ledger", registry, fault="negotiate") as (_, port), pool_to(backend_of("ledger"), port, min_size=0) as pool:
        problem = await problem_of(handler_of("LockLedger", pool)(dict(ALL)))
    assert problem.code == "terminal.negotiation"


async def test_several_flows_run_one_after_another_on_one_session(registry: Path) -> None:
    """A signed-on place is kept between them; later a workflow will borrow once for all its flows."""
    definition = CATALOGUE.get(ScreenFlowDefinition, "vessel-ledger")
    assert definition is not None
    source = resolve_flow(definition, CATALOGUE)
    flow = compile_walks(definition, source.host, source.screens, source.inputs, source.outputs)
    async with (
        demo_host("ledger", registry) as (server, port),
        pool_to(backend_of("ledger"), port, max_size=1) as pool,
        pool.session() as session,
    ):
        player = Runner(session, flow.ways, asyncio.get_running_loop().time)
        for registration in ("LK-0001", "LK-0002", "LK-0003"):
            assert (await player.play(flow, {"registration": registration, "maxRows": 5}))["name"]
            assert await player.go_back()
        with pytest.raises(DeclaredFaultError):
            await player.play(flow, {"registration": "LK-7777", "maxRows": 5})
        assert await player.go_back()
        assert server.keys == 1 + 3 * 3 + 3


async def test_a_screen_that_nobody_expected_stops_the_walk_and_is_kept(registry: Path) -> None:
    """A flow that was recorded elsewhere: it presses 2 in the menu and expects the enquiry."""
    flow = CATALOGUE.get(ScreenFlowDefinition, "vessel-ledger")
    assert flow is not None
    first = flow.moves[0].model_copy(update={"fill": (flow.moves[0].fill[0].model_copy(update={"value": "2"}),)})
    wrong = CATALOGUE | Catalogue([flow.model_copy(update={"moves": (first, *flow.moves[1:])})])
    async with demo_host("ledger", registry) as (server, port), pool_to(backend_of("ledger"), port, max_size=1) as pool:
        with pytest.raises(ScreenError) as caught:
            await handler_of("LockLedger", pool, wrong)(dict(ALL))
        problem = caught.value.problem
        assert (problem.code, problem.expected, problem.found) == ("screen.unexpected", "enquiry", "the screen menu")
        assert any("TOLLS OF THE DAY ARE PRINTED" in line for line in caught.value.picture.lines)
        assert "TOLLS" not in problem.sentence()  # the caller sees names, no content
        assert server.keys == 2  # nothing was typed into the wrong screen
        assert len((await handler_of("LockLedger", pool)({**ALL, "maxRows": 3}))["passage"]) == 3
        assert pool.statistics()["connections_num"] == 1


async def test_a_stopped_pool_and_a_cut_session_are_told(registry: Path) -> None:
    async with demo_host("ledger", registry, delay=0.1) as (_, port), pool_to(backend_of("ledger"), port, max_size=1) as pool:
        task = asyncio.create_task(handler_of("LockLedger", pool)(dict(ALL)))
        await until(lambda: bool(pool._lent))
        await asyncio.sleep(0.2)
        pool.stop(cut=True)
        with pytest.raises(ProblemError) as caught:
            await task
        assert caught.value.problem.kind.value == "busy"
