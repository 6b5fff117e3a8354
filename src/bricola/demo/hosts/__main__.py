"""`python -m bricola.demo.hosts ledger --registry FILE --accounts FILE [--port N] …` runs one simulated host until it is stopped.

Its first line of output is its port. Accounts are JSON: {"USER": {"password": "…", "expired": false, "most": 100}}.
"""

import argparse
import asyncio
import json
import os
import secrets
import signal
import sys
from datetime import datetime
from pathlib import Path

from bricola.demo.hosts.application import Account, Accounts
from bricola.demo.hosts.berths import BerthDesk
from bricola.demo.hosts.ledger import Ledger
from bricola.demo.hosts.records import BerthFile, LedgerFile
from bricola.demo.hosts.server import FAULTS, Behaviour, HostServer
from bricola.demo.outside.lock_signals import LockSignals
from bricola.demo.outside.river_board import RiverBoard
from bricola.demo.outside.web import WebService

KINDS = ("ledger", "berths", "river-board", "lock-signals")


def new_server(kind: str, registry: Path, accounts: dict[str, Account], behaviour: Behaviour) -> HostServer | WebService:
    """A host of one kind, not started."""
    known = Accounts(accounts)
    if kind == "river-board":
        return RiverBoard(registry, {f"{user}@larkmere": one.password for user, one in accounts.items()}, behaviour.delay)
    if kind == "lock-signals":
        own = accounts.get("LKSIGNAL")  # a folder of an older demo has none
        return LockSignals(own.password if own is not None else secrets.token_hex(8), behaviour.delay)
    if kind == "berths":
        return HostServer(BerthDesk(BerthFile(registry), known, datetime.now).session, True, behaviour, "LKB")
    return HostServer(Ledger(LedgerFile(registry), known, datetime.now).session, False, behaviour)


def read_accounts(text: str) -> dict[str, Account]:
    return {user: Account(one["password"], one.get("expired", False), one.get("most", 100)) for user, one in json.loads(text).items()}


async def _run(arguments: argparse.Namespace) -> None:
    behaviour = Behaviour(
        arguments.delay, arguments.idle, arguments.broadcast_every, fault=arguments.fault, fault_every=arguments.fault_every
    )
    server = new_server(arguments.kind, arguments.registry, read_accounts(arguments.accounts.read_text()), behaviour)
    port = await server.start(arguments.port)
    sys.stdout.write(f"{port}\n")
    sys.stdout.flush()
    ended = asyncio.Event()
    loop = asyncio.get_running_loop()
    for one in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(one, ended.set)
    watching = asyncio.create_task(_outlived(ended))
    await ended.wait()
    watching.cancel()
    await server.close()


async def _outlived(ended: asyncio.Event) -> None:
    """End when the program that started this one is gone, however it went."""
    parent = os.getppid()
    while os.getppid() == parent:  # noqa: ASYNC110 - the kernel tells nobody of it
        await asyncio.sleep(1.0)
    ended.set()


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m bricola.demo.hosts", description="A simulated terminal host of the demo.")
    parser.add_argument("kind", choices=KINDS)
    parser.add_argument("--registry", type=Path, required=True, help="the registry database")
    parser.add_argument("--accounts", type=Path, required=True, help="who may sign on, as JSON")
    parser.add_argument("--port", type=int, default=0, help="0 takes a free one")
    parser.add_argument("--delay", type=float, default=0.0, help="seconds before each answer")
    parser.add_argument("--idle", type=float, default=600.0, help="seconds without a key that end a session")
    parser.add_argument("--broadcast-every", type=int, default=0, help="keys between messages that cover the screen")
    parser.add_argument("--fault", choices=("", *FAULTS), default="", help="what goes wrong")
    parser.add_argument("--fault-every", type=int, default=1, help="at every so many keys")
    asyncio.run(_run(parser.parse_args()))


if __name__ == "__main__":
    main()
