"""A service that is killed with -9 at random moments, over flows of all kinds of step; what came of it in the end."""

from __future__ import annotations

import os
import random
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from sqlalchemy import select

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.engine.looking import state_of
from metrikon.engine.refusing import NotNow
from metrikon.sandbox.model_server import NAME, ModelServer
from metrikon.store import questions
from metrikon.store.tables import records, runs
from tests.helpers import eventually, states

ROWS = 9  # of an item: three parts twice, the bed, the state, the last one
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
settings: {asks: {value: asks}}
intakes: [{kind: folder, path: in, settled: 0}]
destinations: {table: {kind: sql, url: "sqlite:///out.db", table: rows}}
steps:
  - {name: paper, read: {}}
  - {name: found, extract: {document: "${paper}", record_type: bed, model: pattern}}
  - {name: checked, check: {record: "${found}", unattended: 0}}
  - {name: state, write: {to: table, key: ["${item.name}", "state"], columns: {N: begun}}}
  - {name: page, fetch: {url: "BASE/beds", pages: {list: page.beds}}, retry: {attempts: 50, wait: 0.2}}
  - {name: kind, classify: {of: "${paper}", unsure: go on, labels: [{name: note, about: A note called something.}, {name: bill, about: A bill.}]}}
  - name: marks
    judge:
      of: ${paper}
      unsure: go on
      criteria: [{name: bed, about: Says which bed., marks: {0: no, 1: yes}}]
      labels: {poor: 0, good: 50}
  - {name: changed, compare: {of: "${paper}", before: A note}}
  - {name: text, draft: {of: "${paper}", unsure: go on, instructions: Say what it is., words: 20}}
  - {name: known, lookup: {in: letters, where: {letter: a}}}
  - {name: who, decide: {table: shares, given: {n: "${number(substring(item.name, 1, 1))}"}}}
  - name: parts
    each:
      of: ${page.list}
      as: part
      at_once: 2
      on_failure: gather
      steps:
        - {name: row, write: {to: table, key: ["${item.name}", "part", "${part}"], columns: {N: "${part}"}}}
        - {name: used, use: {flow: inner, given: {n: "${part}"}}}
  - name: sort
    choose:
      cases:
        - when: who.outcome = settings.asks
          steps:
            - {name: asked, ask: {question: "Go on?", options: [{name: yes, label: Go on}]}}
      otherwise:
        - {name: told, wait: {event: "go ${item.name}"}}
  - {name: bed, write: {to: table, key: ["${item.name}", "bed"], columns: {N: "${checked.record.bed}"}}}
  - {name: ended, write: {to: table, key: ["${item.name}", "state"], if_there: update, columns: {N: ended}}}
  - {name: last, write: {to: table, key: ["${item.name}", "last"], columns: {N: "${known.row.value + who.outcome}"}}}
  - {name: end, stop: {reason: All is written}}
"""
BED = '{"type": "object", "title": "bed", "properties": {"bed": {"type": ["string", "null"], "title": "Bed"}}}'
TABLE = """
decision: shares
hit: first
inputs: [{name: n, type: number}]
outputs: [{name: way, type: string}]
rules:
  - {when: {n: "< 5"}, then: {way: '"asks"'}}
  - {then: {way: '"goes"'}}
"""


@dataclass(frozen=True)
class Ended:
    """What came of it: rows by their value, rows and different keys, runs whose journal does not replay to where they stand."""

    values: Counter[str]
    rows: int
    keys: int
    unlike: int
    wanted: Counter[str]

    @property
    def whole(self) -> bool:
        return self.values == self.wanted and self.rows == self.keys and not self.unlike


class _Beds(BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        data = b'{"beds": [1, 2, 3]}'
        self.send_response(200)
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def log_message(self, format: str, *args: object) -> None:
        return None


@contextmanager
def beds() -> Iterator[str]:
    """A server of a list of beds."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Beds)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()
    server.server_close()


@contextmanager
def language_model() -> Iterator[str]:
    """A stand-in for a language model."""
    server = ModelServer().start()
    yield server.url
    server.stop()


def serve(home: Path, model: str = "") -> subprocess.Popen[bytes]:
    """A service in a process of its own. `model`: the address of its language model."""
    command = [sys.executable, "-m", "metrikon.cli", "serve", "--home", str(home), "--port", "0", "--new"]
    command += ["--model-url", model, "--model", NAME] if model else []
    environment = {**os.environ, "METRIKON_FETCH_PRIVATE": "true", "METRIKON_LOOK_FIRST": "false"}
    return subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, start_new_session=True, env=environment)


def kill(process: subprocess.Popen[bytes]) -> None:
    """Kill the service and the processes that read for it."""
    os.killpg(process.pid, signal.SIGKILL)
    process.wait()
    assert process.stdout is not None
    process.stdout.close()


def killed(home: Path, seed: int, kills: int, items: int) -> Ended:
    """Items that come in while the service is killed again and again; then one that is let be."""
    with beds() as base, language_model() as model:
        _put(home, base, model)
        dice = random.Random(seed)
        names = [f"{number % 10}-{number}.txt" for number in range(items)]
        waiting = list(names)
        for number in range(kills):
            for _ in range(-(-len(waiting) // max(1, kills - number - 3))):
                _drop(home, waiting.pop()) if waiting else None
            process = serve(home, model)
            assert process.stdout is not None
            assert process.stdout.readline().startswith(b"Metrikon is ready")
            time.sleep(dice.uniform(0.0, 1.0))
            kill(process)
        for name in waiting:
            _drop(home, name)
        return _ended(home, names, model)


def _put(home: Path, base: str, model: str) -> None:
    app = App(Settings(home=home, model_url=model, model_name=NAME))
    app.workshop.lists.put("letters", "letter,value\na,ok\n")
    app.catalog.put_decision_table(TABLE)
    app.catalog.put_record_type("bed", BED)
    app.catalog.put_flow(INNER)
    app.catalog.put_flow(MIXED.replace("BASE", base))
    app.close()
    (home / "in").mkdir()


def _drop(home: Path, name: str) -> None:
    (home / "in" / f".{name}").write_text(f"A note called {name}\n\nBed: North {name[0]}\n")
    (home / "in" / f".{name}").rename(home / "in" / name)


def _ended(home: Path, names: list[str], model: str) -> Ended:
    app = App(Settings(home=home, fetch_private=True, model_url=model, model_name=NAME))
    try:
        app.start()
        for name in names:
            app.questions.send("mixed", f"go {name}", None, name)
        eventually(
            lambda: _answered(app) and set(states(app)) == {"done", "stopped"} and sum(states(app).values()) == len(names) * 4, 60 + 2 * len(names)
        )
        with app.database.reading() as connection:
            every = connection.execute(runs.select()).mappings().all()
        lived = [(run["state"], state_of(app.database, app.catalog, app.files, run["id"], run["flow"], run["flow_version"]).outcome) for run in every]
    finally:
        app.close()
    with sqlite3.connect(home / "out.db") as table:
        found = table.execute("SELECT delivery_key, n FROM rows").fetchall()
    asking = sum(1 for name in names if int(name[0]) < 5)
    wanted = Counter(
        {"1": 2 * len(names), "2": 2 * len(names), "3": 2 * len(names), "ended": len(names), "okasks": asking, "okgoes": len(names) - asking}
    )
    wanted += Counter(f"North {name[0]}" for name in names)
    unlike = sum(now != replayed for now, replayed in lived)
    return Ended(Counter(value for _, value in found), len(found), len({key for key, _ in found}), unlike, wanted)


def _answered(app: App) -> bool:
    """Whether nobody waits for a person; who does is answered."""
    with app.database.reading() as connection:
        waiting = questions.listed(connection)
        looked = connection.execute(select(records.c.id).where(records.c.state == "waits")).scalars().all()
    for each in looked:
        with suppress(NotNow):
            app.answers.approve(each, None, "ada")
    for question in waiting:
        with suppress(NotNow):
            app.questions.answer(question["id"], "yes", "ada")
    return not waiting and not looked
