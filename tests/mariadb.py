"""Real MariaDB servers for tests: Debian's package, each in a folder of its own, on loopback."""

import os
import pwd
import shutil
import subprocess
import tempfile
import time
from pathlib import Path
from typing import Any

import pymysql

from tests.postgres import PASSWORD, free_port


def find_programs() -> tuple[str, str] | None:
    server, install = shutil.which("mariadbd", path="/usr/sbin:/usr/bin"), shutil.which("mariadb-install-db")
    return (server, install) if server and install else None


class MariaServer:
    """One server with the user `bricola` and the database `registry`. It can be killed and started again."""

    def __init__(self) -> None:
        programs = find_programs()
        assert programs is not None
        self._server, install = programs
        self._folder = Path(tempfile.mkdtemp(prefix="bricola-maria-"))
        self.port = free_port()
        self._user = []
        if os.getuid() == 0:  # the server refuses to run as root
            account = pwd.getpwnam("mysql")
            os.chown(self._folder, account.pw_uid, account.pw_gid)
            self._user = ["--user=mysql"]
        self._data = self._folder / "data"
        subprocess.run([install, "--no-defaults", *self._user, f"--datadir={self._data}", "--skip-test-db",
                        "--auth-root-authentication-method=normal"], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        self._process: subprocess.Popen[bytes] | None = None
        self.start()
        with self._root() as connection, connection.cursor() as cursor:
            cursor.execute("CREATE DATABASE registry CHARACTER SET utf8mb4 COLLATE utf8mb4_bin")
            cursor.execute(f"CREATE USER bricola IDENTIFIED BY '{PASSWORD}'")
            cursor.execute("GRANT ALL ON *.* TO bricola WITH GRANT OPTION")

    @property
    def address(self) -> str:
        return f"127.0.0.1:{self.port}"

    def _root(self) -> Any:
        return pymysql.connect(unix_socket=str(self._folder / "socket"), user="root", autocommit=True)

    def connect(self) -> Any:
        """A connection that speaks standard SQL, as Bricola's own do."""
        return pymysql.connect(host="127.0.0.1", port=self.port, user="bricola", password=PASSWORD, database="registry", autocommit=True,
                               charset="utf8mb4", init_command="SET sql_mode='ANSI_QUOTES,STRICT_ALL_TABLES,PIPES_AS_CONCAT'")

    def start(self) -> None:
        self._process = subprocess.Popen(
            [self._server, "--no-defaults", *self._user, f"--datadir={self._data}", f"--socket={self._folder / 'socket'}", f"--port={self.port}",
             "--bind-address=127.0.0.1", "--skip-log-bin", "--innodb-flush-log-at-trx-commit=0", "--innodb-buffer-pool-size=32M",
             f"--pid-file={self._folder / 'pid'}"],
            stdout=subprocess.DEVNULL, stderr=(self._folder / "log").open("ab"), cwd="/")
        deadline = time.monotonic() + 60
        while True:
            try:
                self._root().close()
                return
            except pymysql.Error:
                if self._process.poll() is not None or time.monotonic() > deadline:
                    raise RuntimeError((self._folder / "log").read_text()) from None
                time.sleep(0.05)

    def kill(self) -> None:
        assert self._process is not None
        self._process.kill()
        self._process.wait()

    def remove(self) -> None:
        self.kill()
        shutil.rmtree(self._folder, ignore_errors=True)
