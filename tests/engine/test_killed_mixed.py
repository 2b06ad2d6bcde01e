"""Killed with -9 at random moments over flows of all kinds: waits, questions, used flows, loops side by side. Every row once, every journal whole."""

from __future__ import annotations

import random
import sqlite3
import time
from collections import Counter
from pathlib import Path

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.engine.answers import NotNow
from metrikon.engine.looking import state_of
from metrikon.store import questions
from metrikon.store.tables import runs
from tests.engine.test_killed import kill, serve
from tests.helpers import eventually, states

ITEMS, KILLS = 12, 10
INNER = """
metrikon: 1
name: inner
intakes: [{kind: upload}]
destinations: {table: {kind: sql, url: "sqlite:///out.db", table: rows}}
steps:
  - {name: rest, wait: {for: 0.3}}
  - {name: row, write: {to: table, key: ["${item.name}", "inner", "${given.n}"], columns: {N: "${given.n}"}}}
  - {name: result, set: {n: "${given.n}"}}
"""
MIXED = """
metrikon: 1
name: mixed
intakes: [{kind: folder, path: in, settled: 0}]
destinations: {table: {kind: sql, url: "sqlite:///out.db", table: rows}}
steps:
  - {name: paper, read: {}}
  - {name: known, lookup: {in: letters, where: {letter: a}}}
  - {name: who, decide: {table: shares, given: {n: "${number(substring(item.name, 1, 1))}"}}}
  - name: parts
    each:
      of: ${[1, 2, 3]}
      as: part
      at_once: 2
      steps:
        - {name: row, write: {to: table, key: ["${item.name}", "part", "${part}"], columns: {N: "${part}"}}}
        - {name: used, use: {flow: inner, given: {n: "${part}"}}}
  - name: sort
    choose:
      cases:
        - when: who.outcome = "asks"
          steps:
            - {name: asked, ask: {question: "Go on?", options: [{name: yes, label: Go on}]}}
  - {name: last, write: {to: table, key: ["${item.name}", "last"], columns: {N: "${known.row.value + who.outcome}"}}}
"""
TABLE = """
decision: shares
hit: first
inputs: [{name: n, type: number}]
outputs: [{name: way, type: string}]
rules:
  - {when: {n: "< 5"}, then: {way: '"asks"'}}
  - {then: {way: '"goes"'}}
"""


def test_kills_at_any_moment_lose_nothing_and_write_nothing_twice(tmp_path: Path, seed: int) -> None:
    home = tmp_path / "home"
    app = App(Settings(home=home))
    app.workshop.lists.put("letters", "letter,value\na,ok\n")
    app.catalog.put_decision_table(TABLE)
    app.catalog.put_flow(INNER)
    app.catalog.put_flow(MIXED)
    app.close()
    (home / "in").mkdir()
    dice = random.Random(seed)
    names = [f"{number % 10}-{number}.txt" for number in range(ITEMS)]
    for number in range(KILLS):
        for name in names[number * 2 : number * 2 + 2]:
            (home / "in" / f".{name}").write_text(f"a note called {name}\n")
            (home / "in" / f".{name}").rename(home / "in" / name)
        process = serve(home)
        assert process.stdout is not None
        assert process.stdout.readline().startswith(b"Metrikon is ready")
        time.sleep(dice.uniform(0.0, 1.0))
        kill(process)
    last = App(Settings(home=home))
    try:
        last.start()
        eventually(lambda: _answered(last) and set(states(last)) == {"done"} and sum(states(last).values()) == ITEMS * 4, 120)
        with last.database.reading() as connection:
            every = connection.execute(runs.select()).mappings().all()
        for run in every:
            assert state_of(last.database, last.catalog, last.files, run["id"], run["flow"], run["flow_version"]).outcome == "done"
    finally:
        last.close()
    with sqlite3.connect(home / "out.db") as table:
        keys = [key for (key,) in table.execute("SELECT delivery_key FROM rows")]
        counts = Counter(value for (value,) in table.execute("SELECT n FROM rows"))
    assert len(keys) == len(set(keys)) == ITEMS * 7
    assert counts["1"] == counts["2"] == counts["3"] == ITEMS * 2
    asking = sum(1 for name in names if int(name[0]) < 5)
    assert (counts["okasks"], counts["okgoes"]) == (asking, ITEMS - asking)


def _answered(app: App) -> bool:
    with app.database.reading() as connection:
        waiting = questions.listed(connection)
    for each in waiting:
        try:
            app.questions.answer(each["id"], "yes", "ada")
        except NotNow:
            continue
    return not waiting
