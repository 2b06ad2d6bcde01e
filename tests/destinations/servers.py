"""Real servers of databases (PostgreSQL, MariaDB) for tests, each in a folder of its own."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from pathlib import Path
from typing import Any

import pg8000.dbapi
import pymysql

SECRET = "saffron-crocus-17"
USER, BASE = "ada", "garden"


class Server:
    """A server on loopback, with a database and a user of it."""

    scheme = ""
    account = ""

    def __init__(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="database-"))
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port: int = free.getsockname()[1]
        if os.geteuid() == 0:
            shutil.chown(self.folder, self.account)
        self.folder.chmod(0o755)
        self.process: subprocess.Popen[bytes] | None = None
        self.begin()
        self.start()
        self.prepare()

    @property
    def address(self) -> str:
        """What a connection to it says."""
        return f"{self.scheme}://127.0.0.1:{self.port}/{BASE}"

    def begin(self) -> None:
        """Make its files."""

    def command(self) -> list[str]:
        """What starts it."""
        raise NotImplementedError

    def prepare(self) -> None:
        """Make the database and its user."""
        raise NotImplementedError

    def client(self, base: str = BASE) -> Any:
        """A session of somebody else, who may do everything."""
        raise NotImplementedError

    def own(self, command: list[str]) -> list[str]:
        """A command as the account of the server."""
        return ["runuser", "-u", self.account, "--", *command] if os.geteuid() == 0 else command

    def start(self) -> None:
        """Start it, and wait until it answers."""
        self.process = subprocess.Popen(self.own(self.command()), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True)
        until = time.monotonic() + 30
        while True:
            try:
                self.client(self.first).close()
                return
            except (OSError, pg8000.dbapi.Error, pymysql.Error):
                if time.monotonic() > until:
                    self.remove()
                    raise
                time.sleep(0.05)

    first = ""
    at_once = signal.SIGKILL

    def stop(self) -> None:
        """Stop it at once."""
        if self.process is not None:
            os.killpg(self.process.pid, self.at_once)
            self.process.wait(20)
            self.process = None

    def remove(self) -> None:
        """Stop it, and remove what it held."""
        self.stop()
        shutil.rmtree(self.folder, ignore_errors=True)

    def run(self, *statements: str, base: str = BASE) -> list[Any]:
        """What the last of some statements gives."""
        client = self.client(base)
        rows: list[Any] = []
        try:
            for each in statements:
                cursor = client.cursor()
                cursor.execute(each)
                rows = list(cursor.fetchall()) if cursor.description else []
            client.commit()
        finally:
            client.close()
        return rows


class PostgreSQL(Server):
    scheme, account, first = "postgresql", "postgres", "postgres"
    at_once = signal.SIGQUIT  # its own processes go with it

    def begin(self) -> None:
        home = sorted(Path("/usr/lib/postgresql").iterdir())[-1] / "bin"
        self.programs = home
        made = [str(home / "initdb"), "-D", str(self.folder / "data"), "-A", "scram-sha-256", "-U", "postgres", "-E", "UTF8", "--locale=C.UTF-8"]
        secret = self.folder / "secret"
        secret.write_text(SECRET)
        secret.chmod(0o644)
        subprocess.run(self.own([*made, "--no-sync", f"--pwfile={secret}"]), check=True, capture_output=True, cwd=self.folder)

    def command(self) -> list[str]:
        told = ("listen_addresses=127.0.0.1", f"port={self.port}", f"unix_socket_directories={self.folder}", "fsync=off")
        return [str(self.programs / "postgres"), "-D", str(self.folder / "data"), *(part for each in told for part in ("-c", each))]

    def prepare(self) -> None:
        client = self.client("postgres")
        client.autocommit = True
        client.cursor().execute(f"CREATE ROLE {USER} LOGIN PASSWORD '{SECRET}'")
        client.cursor().execute(f"CREATE DATABASE {BASE} OWNER {USER}")
        client.close()

    def client(self, base: str = BASE) -> Any:
        return pg8000.dbapi.connect("postgres", "127.0.0.1", base, self.port, password=SECRET, timeout=20)


class MariaDB(Server):
    scheme, account = "mariadb", "mysql"

    def begin(self) -> None:
        made = [
            "mariadb-install-db",
            "--no-defaults",
            f"--datadir={self.folder / 'data'}",
            "--auth-root-authentication-method=normal",
            "--skip-test-db",
        ]
        subprocess.run([*made, f"--user={self.account}"] if os.geteuid() == 0 else made, check=True, capture_output=True)

    def command(self) -> list[str]:
        told = {"datadir": self.folder / "data", "port": self.port, "socket": self.folder / "s.sock", "pid-file": self.folder / "pid"}
        told |= {"log-error": self.folder / "err.log", "bind-address": "127.0.0.1", "character-set-server": "utf8mb4"}
        return ["/usr/sbin/mariadbd", "--no-defaults", "--skip-name-resolve", *(f"--{name}={value}" for name, value in told.items())]

    def prepare(self) -> None:
        self.run(f"CREATE DATABASE {BASE}", f"CREATE USER {USER} IDENTIFIED BY '{SECRET}'", f"GRANT ALL ON {BASE}.* TO {USER}", base="")

    def client(self, base: str = BASE) -> Any:
        return pymysql.connect(host="127.0.0.1", port=self.port, user="root", database=base or None, charset="utf8mb4", connect_timeout=20)
