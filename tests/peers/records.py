"""The other side of a program, as a process of its own: over HTTP, or in a folder. It answers with what TOLLCALC answers, or badly.

    python -m tests.peers.records http|folder WHAT FOLDER

WHAT is well, short, long, garbage, refuse, media, slow. Its first line of output is its port (0 for a folder).
"""

import sys
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from bricola.demo.programs.tollcalc import SIZE, called


def answer(what: str, area: bytes) -> bytes:
    reply = called(area.ljust(SIZE, b"\x00"))
    return {"short": reply[:40], "long": reply + b"\x00" * 8, "garbage": b"\x07" * SIZE}.get(what, reply)


class Taker(BaseHTTPRequestHandler):
    """Takes a record by POST."""

    what = "well"

    def do_POST(self) -> None:
        area = self.rfile.read(int(self.headers["Content-Length"]))
        if self.what == "slow":
            time.sleep(3)
        reply = answer(self.what, area)
        self.send_response(503 if self.what == "refuse" else 200 if self.path == "/programs/TOLLCALC" else 404)
        self.send_header("Content-Type", "text/html" if self.what == "media" else "application/octet-stream")
        self.send_header("Content-Length", str(len(reply)))
        self.end_headers()
        self.wfile.write(reply)

    def do_OPTIONS(self) -> None:
        self.send_response(204)
        self.end_headers()

    def log_message(self, *_: object) -> None:
        pass


def look(what: str, folder: Path) -> None:
    """Answer every request that is left, each with a file that is moved to its place when it is whole."""
    while True:
        for request in folder.glob("*.request"):
            area = request.read_bytes()
            request.unlink()
            if what != "slow":
                half = request.with_suffix(".half")
                half.write_bytes(answer(what, area))
                half.replace(request.with_suffix(".reply"))
        time.sleep(0.005)


if __name__ == "__main__":
    way, what, where = sys.argv[1:]
    if way == "folder":
        print(0, flush=True)
        look(what, Path(where))
    Taker.what = what
    server = ThreadingHTTPServer(("127.0.0.1", 0), Taker)
    print(server.server_address[1], flush=True)
    server.serve_forever()
