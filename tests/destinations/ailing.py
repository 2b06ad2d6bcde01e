"""What ails destinations: real full and read-only disks, files that somebody holds or changes, servers that refuse, are slow, or whose answer is lost."""

from __future__ import annotations

import csv
import resource
import shutil
import signal
import socket
import sqlite3
import subprocess
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import odfdo
import pytest
import python_calamine
from openpyxl import load_workbook


@contextmanager
def _disk(folder: Path) -> Iterator[None]:
    """A folder on a disk of its own of 256 kB, with what is in it."""
    with tempfile.TemporaryDirectory() as aside:
        shutil.copytree(folder, aside, dirs_exist_ok=True)
        mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=256k", "tmpfs", str(folder)], capture_output=True, check=False)
        if mounted.returncode:
            pytest.skip("A disk of its own wants somebody who may mount one.")
        try:
            shutil.copytree(aside, folder, dirs_exist_ok=True)
            yield
            subprocess.run(["mount", "-o", "remount,rw", str(folder)], check=True, capture_output=True)
            shutil.rmtree(aside)
            shutil.copytree(folder, aside, ignore=shutil.ignore_patterns("filler"))
        finally:
            subprocess.run(["umount", "-l", str(folder)], check=True, capture_output=True)
            shutil.copytree(aside, folder, dirs_exist_ok=True)


@contextmanager
def full(_: Any, folder: Path) -> Iterator[None]:
    """A disk with no room left."""
    with _disk(folder):
        with suppress(OSError), (folder / "filler").open("wb", buffering=0) as out:
            while True:
                out.write(b"x" * 512)
        yield


@contextmanager
def read_only(_: Any, folder: Path) -> Iterator[None]:
    """A disk that takes nothing."""
    with _disk(folder):
        subprocess.run(["mount", "-o", "remount,ro", str(folder)], check=True, capture_output=True)
        yield


@contextmanager
def over_quota(_: Any, folder: Path) -> Iterator[None]:
    """No file of this process may become longer than it is allowed to."""
    before, ours = resource.getrlimit(resource.RLIMIT_FSIZE), signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_FSIZE, (60, before[1]))
    try:
        yield
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, before)
        signal.signal(signal.SIGXFSZ, ours)


@contextmanager
def open_elsewhere(contract: Any, folder: Path) -> Iterator[None]:
    """An office program has the file open."""
    lock = folder / f".~lock.{contract.name}#"
    lock.touch()
    yield
    lock.unlink()


@contextmanager
def held_database(contract: Any, folder: Path) -> Iterator[None]:
    """Another program writes into the database for long."""
    with _holding(folder / contract.name):
        yield


@contextmanager
def slow_database(contract: Any, folder: Path) -> Iterator[None]:
    """Another program writes into the database for a second."""
    done = threading.Event()

    def hold() -> None:
        with _holding(folder / contract.name):
            done.set()
            time.sleep(1)

    thread = threading.Thread(target=hold)
    thread.start()
    done.wait()
    yield
    thread.join()


@contextmanager
def _holding(path: Path) -> Iterator[None]:
    other = sqlite3.connect(path, isolation_level=None)
    other.execute("BEGIN IMMEDIATE")
    yield
    other.execute("ROLLBACK")
    other.close()


@contextmanager
def gone(contract: Any, folder: Path) -> Iterator[None]:
    """The server answers no more, for a while."""
    contract.server.stop() if hasattr(contract.server, "stop") else contract.server.end()
    try:
        yield
    finally:
        contract.server.start() if hasattr(contract.server, "start") else contract.server.begin()


def dav(ail: str) -> Any:
    """What ails a server of files."""

    @contextmanager
    def comes(contract: Any, folder: Path) -> Iterator[None]:
        contract.server.ails = ail
        yield
        contract.server.ails = ""

    return comes


def service(kind: str, times: int = -1) -> Any:
    """What ails a service."""

    @contextmanager
    def comes(contract: Any, folder: Path) -> Iterator[None]:
        failing = contract.house.services.world.failing
        failing.slow, failing.writes, failing.retry_after = 1.5, True, 1
        failing.set(kind, 1.0, times)
        yield
        failing.set("", 0, 0)

    return comes


@contextmanager
def service_gone(contract: Any, folder: Path) -> Iterator[None]:
    """The service answers no more, for a while."""
    port = int(contract.house.services.url.rpartition(":")[2])
    contract.house.services.stop()
    yield
    contract.house.services.again(port)


def statements(*before: str, after: tuple[str, ...] = ()) -> Any:
    """What ails a server of databases that somebody has told something; `{table}` is the table, `{user}` who writes."""

    @contextmanager
    def comes(contract: Any, folder: Path) -> Iterator[None]:
        def told(each: str) -> str:
            return each.replace("{table}", contract.table)

        contract.server.run(*map(told, before))
        contract.engine.dispose()
        try:
            yield
        finally:
            contract.server.run(*map(told, after))
            contract.engine.dispose()

    return comes


@contextmanager
def row_held(contract: Any, folder: Path) -> Iterator[None]:
    """Somebody holds the table."""
    other = contract.server.client()
    other.cursor().execute(contract.holds.replace("{table}", contract.table))
    try:
        yield
    finally:
        other.rollback()
        other.close()


@contextmanager
def answer_lost(contract: Any, folder: Path) -> Iterator[None]:
    """A commit is handed to the server, and its answer never comes."""
    relay, direct = Relay(contract.server.port), contract.engine
    contract.engine = contract.engine_at(contract.server.address.replace(str(contract.server.port), str(relay.port)))
    try:
        yield
        assert relay.lost
    finally:
        contract.engine.dispose()
        contract.engine = direct
        relay.end()


class Relay:
    """Between a client and a server. The first commit is passed on, and the connection cut before it is answered."""

    def __init__(self, port: int) -> None:
        self._to, self.lost = port, False
        self._heard = socket.create_server(("127.0.0.1", 0))
        self.port: int = self._heard.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        with suppress(OSError):
            while True:
                client, _ = self._heard.accept()
                server = socket.create_connection(("127.0.0.1", self._to))
                threading.Thread(target=self._pass, args=(client, server, True), daemon=True).start()
                threading.Thread(target=self._pass, args=(server, client, False), daemon=True).start()

    def _pass(self, source: socket.socket, target: socket.socket, asks: bool) -> None:
        with suppress(OSError):
            while data := source.recv(65536):
                cuts = asks and not self.lost and b"commit" in data.lower()
                if cuts:
                    self.lost = True
                    target.sendall(data)
                    time.sleep(0.2)  # it is done by then
                    break
                target.sendall(data)
        for each in (source, target):
            with suppress(OSError):
                each.shutdown(socket.SHUT_RDWR)

    def end(self) -> None:
        """Pass nothing more on."""
        self._heard.close()


def column_put_in(contract: Any, folder: Path) -> Any:
    """A person puts a column before all others."""
    return _redone(folder / contract.name, lambda rows: [[head, *row] for head, row in zip(["Seen", *[""] * len(rows)], rows, strict=False)])


def rows_turned(contract: Any, folder: Path) -> Any:
    """A person puts the rows in another order."""
    return _redone(folder / contract.name, lambda rows: [rows[0], *reversed(rows[1:])])


@contextmanager
def _redone(path: Path, changed: Callable[[list[list[Any]]], list[list[Any]]]) -> Iterator[None]:
    """A sheet as another program saves it, after a person has changed something in it."""
    if path.suffix == ".csv":
        with path.open(newline="", encoding="utf-8-sig") as source:
            rows = changed(list(csv.reader(source)))
        with path.open("w", newline="", encoding="utf-8-sig") as target:
            csv.writer(target).writerows(rows)
    elif path.suffix == ".xlsx":
        book = load_workbook(path)
        sheet = book["Lines"]
        rows = changed([list(each) for each in sheet.iter_rows(values_only=True)])
        sheet.delete_rows(1, sheet.max_row)
        for row in rows:
            sheet.append(row)
        book.save(path)
    else:
        rows = changed(python_calamine.CalamineWorkbook.from_path(str(path)).get_sheet_by_name("Lines").to_python())
        made, table = odfdo.Document("spreadsheet"), odfdo.Table("Lines")
        for each in rows:
            line = odfdo.Row()
            line.set_values([None if value == "" else value for value in each])
            table.append_row(line)
        made.body.clear()
        made.body.append(table)
        made.save(path)
    yield


@contextmanager
def table_changed(contract: Any, folder: Path) -> Iterator[None]:
    """Somebody gives a column of the table another name."""
    with sqlite3.connect(folder / contract.name) as other:
        other.execute("ALTER TABLE rows RENAME COLUMN vendor TO supplier")
    yield
