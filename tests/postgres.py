"""Real PostgreSQL servers for tests: Debian's package, each in a folder of its own, on loopback."""

import contextlib
import os
import pwd
import random
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psycopg
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

PASSWORD = "lock-gate-17"


def find_programs() -> Path | None:
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    return found[-1].parent if found else None


def free_port() -> int:
    """A port for a server that must be told one. Below those that systems give away by themselves, since it is taken only later."""
    while True:
        port = random.randrange(20_000, 32_000)
        with socket.socket() as one, contextlib.suppress(OSError):
            one.bind(("127.0.0.1", port))
            return port


class PostgresServer:
    """One server with the user `bricola` and the database `registry`. It can be killed and started again."""

    def __init__(self, tls: bool = False) -> None:
        programs = find_programs()
        assert programs is not None
        self._programs = programs
        self._folder = Path(tempfile.mkdtemp(prefix="bricola-pg-"))
        self.port = free_port()
        self._prefix: list[str] = []
        if os.getuid() == 0:  # the server refuses to run as root
            account = pwd.getpwnam("postgres")
            os.chown(self._folder, account.pw_uid, account.pw_gid)
            self._prefix = ["setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups"]
        self._data = self._folder / "data"
        secret = self._folder / "secret"
        secret.write_text(PASSWORD)
        secret.chmod(0o644)
        self._run("initdb", "-D", str(self._data), "-U", "bricola", "--auth=scram-sha-256", f"--pwfile={secret}", "--no-sync", "-E", "UTF8")
        self._options = self._make_certificate() if tls else []
        self._process: subprocess.Popen[bytes] | None = None
        self.start()
        with self.connect("postgres") as db:
            db.execute("CREATE DATABASE registry")

    @property
    def address(self) -> str:
        return f"127.0.0.1:{self.port}"

    def connect(self, database: str = "registry", user: str = "bricola", password: str = PASSWORD) -> psycopg.Connection:
        return psycopg.connect(host="127.0.0.1", port=self.port, dbname=database, user=user, password=password, autocommit=True)

    def start(self) -> None:
        self._process = subprocess.Popen(
            [*self._prefix, str(self._programs / "postgres"), "-D", str(self._data), "-p", str(self.port), "-h", "127.0.0.1",
             "-k", str(self._folder), "-c", "fsync=off", "-c", "max_connections=40", *self._options],
            stdout=subprocess.DEVNULL, stderr=(self._folder / "log").open("ab"), cwd="/")
        deadline = time.monotonic() + 60
        while True:
            try:
                self.connect("postgres").close()
                return
            except psycopg.OperationalError:
                if self._process.poll() is not None or time.monotonic() > deadline:
                    raise RuntimeError((self._folder / "log").read_text()) from None
                time.sleep(0.05)

    def _make_certificate(self) -> list[str]:
        """A certificate for 127.0.0.1 that nobody has reason to trust."""
        key = ec.generate_private_key(ec.SECP256R1())
        name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "127.0.0.1")])
        now = datetime.now(UTC)
        certificate = (x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key()).serial_number(1)
                       .not_valid_before(now - timedelta(hours=1)).not_valid_after(now + timedelta(days=2)).sign(key, hashes.SHA256()))
        files = {"server.crt": certificate.public_bytes(serialization.Encoding.PEM), "server.key": key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())}
        owner = self._data.stat()
        for file, content in files.items():
            path = self._data / file
            path.write_bytes(content)
            path.chmod(0o600)
            os.chown(path, owner.st_uid, owner.st_gid)
        return ["-c", "ssl=on"]

    def kill(self) -> None:
        """As a machine that is switched off: no goodbye to those who are connected."""
        assert self._process is not None
        os.kill(int((self._data / "postmaster.pid").read_text().split()[0]), signal.SIGQUIT)
        self._process.wait(60)

    def remove(self) -> None:
        if self._process is not None and self._process.poll() is None:
            self.kill()
        shutil.rmtree(self._folder, ignore_errors=True)

    def _run(self, program: str, *words: str) -> None:
        done = subprocess.run([*self._prefix, str(self._programs / program), *words], capture_output=True, text=True, cwd="/")
        if done.returncode:
            raise RuntimeError(done.stdout + done.stderr)
