"""The store: what is committed stays, what is not leaves no trace, and old databases are brought up."""

from __future__ import annotations

import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import Connection, Engine, func, inspect, select, text

from metrikon.core.flows.state import Entry
from metrikon.engine.results import KEPT, packed, unpacked
from metrikon.ports.clock import StillClock, SystemClock
from metrikon.store import changes
from metrikon.store.current import Current
from metrikon.store.database import AlreadyOpen, Database, StoreFailed
from metrikon.store.files import DiskFiles
from metrikon.store.hot import Hot
from metrikon.store.migrate import migrate, upgrade
from metrikon.store.tables import metadata
from tests.helpers import eventually


@pytest.fixture
def database(tmp_path: Path) -> Iterator[Database]:
    made = Database(tmp_path / "a.db")
    migrate(made)
    made.start()
    yield made
    made.close()


def count(connection: Connection) -> int:
    return int(connection.execute(text("SELECT count(*) FROM changes")).scalar_one())


def shape(engine: Engine) -> dict[str, Any]:
    """All that a database says of its tables."""
    looked, found = inspect(engine), dict[str, Any]()
    for table in looked.get_table_names():
        keys = looked.get_foreign_keys(table)
        found[table] = {
            "columns": {each["name"]: (str(each["type"]), each["nullable"], each["default"]) for each in looked.get_columns(table)},
            "primary key": looked.get_pk_constraint(table)["constrained_columns"],
            "foreign keys": sorted((each["constrained_columns"], each["referred_table"], each["referred_columns"]) for each in keys),
            "unique": sorted(each["column_names"] for each in looked.get_unique_constraints(table)),
            "indexes": sorted((each["name"], each["column_names"], each["unique"]) for each in looked.get_indexes(table)),
        }
    return found


def test_a_new_database_is_as_one_that_all_changes_have_led_to(database: Database, tmp_path: Path) -> None:
    old = Database(tmp_path / "old.db")
    with old._writing.begin() as connection:
        upgrade(connection)
    assert set(shape(database.engine)) == {*metadata.tables, "alembic_version"}
    assert shape(database.engine) == shape(old.engine)
    with database.reading() as new, old.reading() as upgraded:
        assert new.execute(text("SELECT * FROM alembic_version")).all() == upgraded.execute(text("SELECT * FROM alembic_version")).all()
    old.close()


def test_migrating_twice_changes_nothing(database: Database) -> None:
    migrate(database)


def test_a_job_that_fails_leaves_no_trace_and_spoils_no_other(database: Database) -> None:
    gate = threading.Event()
    database.submit(lambda connection: gate.wait(5))

    def bad(connection: Connection) -> None:
        changes.note(connection, "run", ["bad"], 1)
        raise ValueError("no")

    good = database.submit(lambda connection: changes.note(connection, "run", ["good"], 1))
    failing = database.submit(bad)
    also_good = database.submit(lambda connection: changes.note(connection, "run", ["also good"], 1))
    gate.set()
    good.result(5)
    also_good.result(5)
    with pytest.raises(ValueError, match="no"):
        failing.result(5)
    with database.reading() as connection:
        assert connection.execute(text("SELECT ref FROM changes ORDER BY number")).scalars().all() == ["good", "also good"]


def test_a_database_that_cannot_be_written_says_so(database: Database) -> None:
    with pytest.raises(StoreFailed, match="no such table"):
        database.write(lambda connection: connection.execute(text("INSERT INTO nowhere VALUES (1)")))


def test_a_reading_sees_one_state_throughout_whatever_kind_of_statement_comes_first(database: Database) -> None:
    hot = Hot(select(func.count()).select_from(metadata.tables["changes"]))
    with database.reading() as connection:
        before = hot.scalar(connection, {})
        database.write(lambda writing: changes.note(writing, "run", ["1"], 1))
        assert count(connection) == hot.scalar(connection, {}) == before
    with database.reading() as connection:
        assert count(connection) == before + 1


def test_commits_are_synced_and_in_write_ahead_mode(database: Database) -> None:
    with database.reading() as connection:
        assert connection.execute(text("PRAGMA journal_mode")).scalar() == "wal"
        assert connection.execute(text("PRAGMA synchronous")).scalar() == 2


def test_the_feed_tells_what_changed_after_a_number(database: Database) -> None:
    database.write(lambda connection: changes.note(connection, "run", ["a", "b", "a"], 1))
    with database.reading() as connection:
        first = changes.after(connection, 0)
        assert [each["ref"] for each in first["changes"]] == ["a", "b"]
        assert changes.after(connection, first["last"])["changes"] == []


def test_files_are_kept_once_under_their_hash(tmp_path: Path) -> None:
    files = DiskFiles(tmp_path)
    sha256 = files.put(b"hello")
    assert files.put(b"hello") == sha256
    assert files.get(sha256) == b"hello"
    assert [path.name for path in (tmp_path / "files").rglob("*") if path.is_file()] == [sha256]


@pytest.mark.parametrize("name", ["../../etc/passwd", "x", "A" * 64, "", "0" * 63 + "/"])
def test_no_path_can_be_asked_of_the_files(name: str, tmp_path: Path) -> None:
    with pytest.raises(KeyError):
        DiskFiles(tmp_path).get(name)


def test_a_large_result_lives_in_a_file(tmp_path: Path) -> None:
    files = DiskFiles(tmp_path)
    small, large = {"result": "x"}, {"result": "x" * 70_000}
    assert packed(small, files) == small
    kept = packed(large, files)
    assert set(kept) == {KEPT}
    assert unpacked(Entry("done", "a", kept), files).data == large


def test_ids_sort_by_time() -> None:
    clock = StillClock()
    first = clock.new_id()
    clock.at += 1
    assert first < clock.new_id() < SystemClock().new_id()
    assert len(first) == 26


def test_what_is_held_of_the_database_is_read_anew_after_a_commit_and_not_before(database: Database) -> None:
    read = []

    def counted(connection: Connection, name: str) -> int:
        read.append(name)
        return count(connection)

    held = Current(database, counted)
    assert [held["a"], held["a"], held["b"]] == [0, 0, 0]
    assert read == ["a", "b"]
    database.write(lambda connection: changes.note(connection, "run", ["one"], 1))
    assert [held["a"], held["a"]] == [1, 1]
    assert read == ["a", "b", "a"]


def test_whoever_is_told_that_a_change_is_kept_sees_it(database: Database) -> None:
    held = Current(database, lambda connection, name: count(connection))
    gate, seen = threading.Event(), list[int]()

    def waited(connection: Connection) -> None:
        gate.wait(5)
        changes.note(connection, "run", ["one"], 1)

    told = database.submit(waited)
    assert held["a"] == 0
    told.add_done_callback(lambda _: seen.append(held["a"]))
    gate.set()
    told.result(5)
    assert eventually(lambda: seen, 5) == [1]


def test_whoever_is_told_that_a_change_is_kept_sees_it_where_another_one_failed(database: Database) -> None:
    held = Current(database, lambda connection, name: count(connection))
    gate, seen = threading.Event(), list[int]()

    def failing(connection: Connection) -> None:
        gate.wait(5)
        raise ValueError("no")

    bad = database.submit(failing)
    good = database.submit(lambda connection: changes.note(connection, "run", ["one"], 1))
    assert held["a"] == 0
    good.add_done_callback(lambda _: seen.append(held["a"]))
    gate.set()
    with pytest.raises(ValueError, match="no"):
        bad.result(5)
    good.result(5)
    assert eventually(lambda: seen, 5) == [1]


def test_what_a_killed_service_leaves_behind_is_waited_for_and_a_service_that_runs_is_not(tmp_path: Path) -> None:
    begins = "import os, sys, time\nfrom pathlib import Path\nfrom metrikon.store.database import Database\nDatabase(Path(sys.argv[1]))\n"
    begins += "if os.fork() == 0:\n    time.sleep(1.5)\n    os._exit(0)\nprint('open', flush=True)\ntime.sleep(60)\n"
    service = subprocess.Popen([sys.executable, "-c", begins, str(tmp_path / "m.db")], stdout=subprocess.PIPE)
    assert service.stdout is not None
    assert service.stdout.readline() == b"open\n"
    start = time.monotonic()
    with pytest.raises(AlreadyOpen):
        Database(tmp_path / "m.db")
    assert time.monotonic() - start < 1, "who runs is not waited for"
    service.kill()
    service.wait()
    service.stdout.close()
    Database(tmp_path / "m.db").close()  # the process that it began holds the lock for a moment more
