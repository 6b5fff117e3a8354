"""The demo's hosts beside tests that have no event loop of their own."""

import asyncio
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from bricola.demo.registry import make_registry
from tests.core.terminals import demo_host


@contextmanager
def host_on_a_thread(kind: str, folder: Path) -> Iterator[str]:
    """The address of one of the demo's hosts, which runs on a thread."""
    registry = folder / "registry.db"
    make_registry(registry)
    ready, done = threading.Event(), threading.Event()
    ports: list[int] = []

    async def run() -> None:
        async with demo_host(kind, registry) as (_, port):
            ports.append(port)
            ready.set()
            await asyncio.to_thread(done.wait)

    thread = threading.Thread(target=lambda: asyncio.run(run()), daemon=True)
    thread.start()
    assert ready.wait(30)
    try:
        yield f"127.0.0.1:{ports[0]}"
    finally:
        done.set()
        thread.join(30)
