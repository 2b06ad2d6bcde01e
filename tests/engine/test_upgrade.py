"""Databases of earlier versions are brought up to date, and the runs that were in flight in them finish."""

from __future__ import annotations

import shutil
import sqlite3
from pathlib import Path

import pytest
from openpyxl import load_workbook
from sqlalchemy import text

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.store import questions
from tests.helpers import eventually, states
from tests.kept.make import FOLDER, LANGUAGE, OUT

EVERY = sorted(path.name for path in FOLDER.iterdir() if (path / "metrikon.db").exists())
KEPT = [name for name in EVERY if not name.endswith((LANGUAGE, OUT))]


@pytest.mark.parametrize("name", KEPT)
def test_a_kept_folder_opens_and_its_runs_finish(name: str, tmp_path: Path) -> None:
    home = tmp_path / "home"
    shutil.copytree(FOLDER / name, home)
    app = App(Settings(home=home))
    try:
        assert states(app) == {"review": 1, "waiting": 1, "ready": 1}
        app.start()
        eventually(lambda: states(app) == {"review": 1, "done": 2})
        with app.database.reading() as connection:
            record = connection.execute(text("SELECT id FROM records WHERE state = 'waits'")).scalar_one()
        app.answers.approve(record, None, "ada")
        eventually(lambda: states(app) == {"done": 3})
        with app.database.reading() as connection:
            items = connection.execute(text("SELECT id FROM items")).scalars().all()
        for item in items:  # rows that were written under the keys of that version are known by them
            app.again.item(item, "")
        eventually(lambda: not set(states(app)) - {"done", "review"})
        with app.database.reading() as connection:
            waiting = connection.execute(text("SELECT id FROM records WHERE state = 'waits'")).scalars().all()
        for again in waiting:
            app.answers.approve(again, None, "ada")
        eventually(lambda: states(app) == {"done": 6})
    finally:
        app.close()
    with sqlite3.connect(home / "ledger.db") as connection:
        assert connection.execute("SELECT count(*), count(DISTINCT delivery_key) FROM invoice_lines").fetchone() == (7, 7)
    sheet = load_workbook(home / "ledger.xlsx")["Invoice lines"]
    assert sheet.max_row == 8


@pytest.mark.parametrize("name", [name for name in EVERY if name.endswith(LANGUAGE)])
def test_runs_that_wait_for_events_and_answers_finish_on_the_versions_that_they_began_with(name: str, tmp_path: Path) -> None:
    home = tmp_path / "home"
    shutil.copytree(FOLDER / name, home)
    app = App(Settings(home=home))
    try:
        app.start()
        app.questions.send("orders", "hoes has come", None, "2")

        def answered() -> bool:
            with app.database.reading() as connection:
                waiting = questions.listed(connection)
            for each in waiting:
                app.questions.answer(each["id"], "fine", "ada")
            return states(app) == {"done": 4}

        eventually(answered)
        with app.database.reading() as connection:
            versions = connection.execute(text("SELECT DISTINCT flow_version FROM runs WHERE flow = 'orders'")).scalars().all()
        assert list(versions) == [1]
    finally:
        app.close()
    with sqlite3.connect(home / "orders.db") as orders:
        assert sorted(orders.execute("SELECT n, count(*) FROM rows GROUP BY n")) == [("1", 2), ("2", 2), ("fine", 2)]


@pytest.mark.parametrize("name", [name for name in EVERY if name.endswith(OUT)])
def test_what_waits_for_a_person_before_it_goes_out_goes_on_when_they_have_looked(name: str, tmp_path: Path) -> None:
    home = tmp_path / "home"
    shutil.copytree(FOLDER / name, home)
    app = App(Settings(home=home))
    try:
        app.start()
        assert states(app) == {"review": 1, "parked": 3}
        with app.database.reading() as connection:
            (question,) = questions.listed(connection)
            parked = {each.flow: each.id for each in connection.execute(text("SELECT flow, id FROM runs WHERE state = 'parked'"))}
        app.questions.answer(question["id"], "booking", "ada")
        app.answers.continue_run(parked["visitors"], "ada", unsure="went")
        app.answers.continue_run(parked["shown"], "ada", looked=True)
        eventually(lambda: states(app) == {"done": 4})
        assert app.ways.get("old-ledger")[1] == 1
    finally:
        app.close()
    rows = (home / "list.csv").read_text("utf-8-sig").splitlines()
    assert [each.rpartition(",")[0] for each in rows] == ["Name,What", "bo,a visitor", "mail,booking"]
    assert sorted(each.partition(",")[0] for each in (home / "first.csv").read_text("utf-8-sig").splitlines()) == ["Name", "ada", "cy"]
