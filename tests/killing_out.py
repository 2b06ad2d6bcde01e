"""A service that is killed with -9 at random moments while it writes to destinations of all kinds at once; what stands at each of them in the end."""

from __future__ import annotations

import csv
import random
import sqlite3
import time
from collections import Counter
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path

from sqlalchemy import select

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.core.flows.connecting import Way
from metrikon.core.values.exact import dumps
from metrikon.destinations.ods import OdsFormat
from metrikon.destinations.xlsx import XlsxFormat
from metrikon.sandbox.chat import TOKEN as CHAT
from metrikon.sandbox.records import DESCRIPTION, TOKEN
from metrikon.sandbox.services import Services, World
from metrikon.store import journal
from metrikon.store.tables import items, runs
from tests.dav import SECRET as DAV
from tests.dav import USER as DAV_USER
from tests.dav import DavServer
from tests.destinations.servers import SECRET, USER, MariaDB, PostgreSQL
from tests.helpers import eventually, states
from tests.killing import kill, serve
from tests.post import SECRET as POST
from tests.post import Post

FOUND = 0.5  # seconds after which the service finds what was made
RETRY = "{attempts: 30, wait: 0.2}"
SHEETS = ("table", "book", "open", "text", "beside", "postgres", "maria", "far")


def _write(place: str) -> str:
    return f'  - {{name: in_{place}, write: {{to: {place}, key: ["${{item.name}}"], columns: {{Name: "${{item.name}}"}}}}, retry: RETRY}}'


FLOW = """
metrikon: 1
name: out
intakes: [{kind: folder, path: in, settled: 0}]
destinations:
  table: {kind: sql, url: "sqlite:///out.db", table: rows}
  book: {kind: xlsx, path: out.xlsx, sheet: Rows}
  open: {kind: ods, path: out.ods, sheet: Rows}
  text: {kind: csv, path: out.csv}
  contacts: {kind: service, connection: crm, records: contacts, by: [email]}
  tasks: {kind: service, connection: crm, records: tasks}
  blind: {kind: service, connection: crm, records: unsearched}
  beside: {kind: csv, path: beside.csv, key_in: side file}
  postgres: {kind: sql, connection: postgresql, table: notes}
  maria: {kind: sql, connection: mariadb, table: notes}
  far: {kind: csv, connection: files, path: far.csv}
  listed: {kind: service, connection: crm, records: listed}
  unlisted: {kind: service, connection: crm, records: unlisted}
steps:
WRITES
  - {name: contact, write: {to: contacts, key: ["${item.name}"], columns: {email: "${item.name}@mail.example"}}, retry: RETRY}
  - {name: task, write: {to: tasks, key: ["${item.name}"], columns: {title: "${item.name}"}}, retry: RETRY}
  - {name: file, save: {file: "${item.file}", to: "saved/${item.name}"}}
  - {name: said, post: {connection: chat, room: "#receipts:sandbox", text: "${item.name}"}, retry: RETRY}
  - {name: blindly, write: {to: blind, key: ["${item.name}", "blind"], columns: {email: "blind-${item.name}@mail.example"}}}
  - {name: on_page, write: {to: listed, key: ["${item.name}"], columns: {page: listed, text: "${item.name}"}}, retry: RETRY}
  - {name: on_other, write: {to: unlisted, key: ["${item.name}"], columns: {page: unlisted, text: "${item.name}"}}}
  - {name: handed, attach: {connection: crm, records: contacts, by: {email: "${item.name}@mail.example"}, file: "${item.file}", name: "${item.name}"}, retry: RETRY}
  - {name: told, mail: {connection: post, sender: office@garden.example, to: ada@x.example, subject: "${item.name}", text: It came.}}
""".replace("WRITES", "\n".join(_write(each) for each in SHEETS)).replace("RETRY", RETRY)
NOTES = {
    "records": {
        "contacts": {
            "create": "makeContact",
            "find": {"operation": "listContacts", "by": {"email": "email"}, "records": "data", "next": "next", "page": "cursor"},
            "set": {"operation": "setContact", "id": "id"},
            "found_within": FOUND,
            "attach": {"operation": "uploadFile", "given": "file_id", "then": "attachFile", "then_id": "id", "then_file": "file_id"},
        },
        "listed": {
            "append": {
                "operation": "appendParagraphs",
                "records": "children",
                "listed": {"operation": "listParagraphs", "records": "children", "next": "next", "page": "cursor"},
            },
            "found_within": FOUND,
        },
        "unlisted": {"append": {"operation": "appendParagraphs", "records": "children"}},
        "unsearched": {"create": "makeContact"},
        "tasks": {"create": "makeTask", "once_header": "Idempotency-Key"},
    }
}


@dataclass
class Out:
    """How often each name stands at each destination; `unasked` at those that are blind, before a person was asked; `asked` how often one was."""

    names: list[str]
    held: dict[str, Counter[str]] = field(default_factory=dict)
    unasked: dict[str, Counter[str]] = field(default_factory=dict)
    asked: int = 0

    @property
    def rows(self) -> int:
        return sum(held.total() for held in self.held.values())

    @property
    def wrong(self) -> list[str]:
        """What is not there exactly once."""
        told = [f"{place}: {name} {held[name]} times" for place, held in self.held.items() for name in self.names if held[name] != 1]
        told += [f"{place}: {len(held)} names of {len(self.names)}" for place, held in self.held.items() if len(held) != len(self.names)]
        return told + [f"{place}: {name} {count} times, unasked" for place, held in self.unasked.items() for name, count in held.items() if count > 1]


class Places:
    """The servers that rows go to, each a real one or a stand-in."""

    def __init__(self, stack: ExitStack, folder: Path) -> None:
        self.services = Services().start()
        stack.callback(self.services.stop)
        self.services.world.records.found_after = FOUND / 2
        self.post = Post()
        stack.callback(self.post.controller.stop)
        self.files = DavServer(folder / "files")
        stack.callback(self.files.end)
        self.postgresql, self.mariadb = PostgreSQL(), MariaDB()
        stack.callback(self.postgresql.remove)
        stack.callback(self.mariadb.remove)

    @property
    def world(self) -> World:
        return self.services.world

    def mails(self) -> Counter[str]:
        return Counter(str(each["Subject"]) for each in self.post.taken)

    def contacts(self, begins: str) -> Counter[str]:
        """Names of contacts whose mail begins so, after that."""
        names = (str(each["email"]).partition("@")[0] for each in self.world.records.contacts.values())
        return Counter(name.removeprefix("blind-") for name in names if name.startswith(begins))

    def paragraphs(self, page: str) -> Counter[str]:
        return Counter(str(each["text"]) for each in self.world.records.paragraphs.get(page, ()))

    def handed(self) -> Counter[str]:
        """Names of contacts, as often as they have a file."""
        every = self.world.records.contacts.values()
        return Counter({str(each["email"]).partition("@")[0]: len(each["files"]) for each in every if each.get("files")})

    def asked_of(self) -> dict[str, Counter[str]]:
        """What is where, at those places of which a person is asked, by the step that goes there."""
        return {
            "blindly": self.contacts("blind-"),
            "told": self.mails(),
            "on_other": self.paragraphs("unlisted"),
            "handed": self.handed(),
        }

    def held(self, home: Path) -> dict[str, Counter[str]]:
        """How often each name stands where."""
        room = self.world.chat.rooms["!receipts:sandbox"]
        with sqlite3.connect(home / "out.db") as table:
            rows = [name for (name,) in table.execute("SELECT name FROM rows")]
        return {
            "sql": Counter(rows),
            "xlsx": Counter(str(row["Name"]) for _, row in XlsxFormat("Rows").rows(home / "out.xlsx")),
            "ods": Counter(str(row["Name"]) for _, row in OdsFormat("Rows").rows(home / "out.ods")),
            "csv": _names(home / "out.csv"),
            "csv with keys beside": _names(home / "beside.csv"),
            "csv over WebDAV": _names(self.files.root / "far.csv"),
            "PostgreSQL": Counter(name for (name,) in self.postgresql.run("SELECT name FROM notes")),
            "MariaDB": Counter(name for (name,) in self.mariadb.run("SELECT name FROM notes")),
            "found by mail": self.contacts("n"),
            "once by header": Counter(str(each["title"]) for each in self.world.records.tasks.values()),
            "files": Counter(each.name for each in (home / "saved").iterdir() if not each.name.startswith(".")),
            "chat": Counter(str(each["content"]["body"]) for each in room.events),
            "blind": self.contacts("blind-"),
            "mail": self.mails(),
            "append that is listed": self.paragraphs("listed"),
            "append that is not": self.paragraphs("unlisted"),
            "attached": self.handed(),
        }


def killed_out(folder: Path, seed: int, kills: int, count: int) -> Out:
    """Items that come in while the service is killed again and again; then one that is let be, and whoever waits is answered by what is there."""
    with ExitStack() as stack:
        places, home = Places(stack, folder), folder / "home"
        _put(home, places)
        dice = random.Random(seed)
        found = Out([f"n{number}" for number in range(count)])
        waiting = list(found.names)
        for number in range(kills):
            for _ in range(-(-len(waiting) // max(1, kills - number - 3))):
                _drop(home, waiting.pop()) if waiting else None
            process = serve(home)
            assert process.stdout is not None
            assert process.stdout.readline().startswith(b"Metrikon is ready")
            time.sleep(dice.uniform(0.0, 1.2))
            kill(process)
        for name in waiting:
            _drop(home, name)
        _end(home, places, found)
        found.held = places.held(home)
        return found


def _put(home: Path, places: Places) -> None:
    app = App(Settings(home=home, fetch_private=True, fetches_a_minute=0))
    url = places.services.url
    app.connections.put("crm", f"{url}/records", Way("bearer"), TOKEN, "ada")
    app.connections.put("chat", url, Way("bearer"), CHAT, "ada", "_matrix/client/v3/account/whoami")
    app.connections.put("post", places.post.url, Way("basic", "ada"), POST, "ada")
    app.connections.put("files", places.files.url, Way("basic", DAV_USER), DAV, "ada")
    app.connections.put("postgresql", places.postgresql.address, Way("basic", USER), SECRET, "ada")
    app.connections.put("mariadb", places.mariadb.address, Way("basic", USER), SECRET, "ada")
    app.describing.put("crm", dumps(DESCRIPTION))
    app.describing.note("crm", NOTES)
    app.catalog.put_flow(FLOW)
    app.close()
    (home / "in").mkdir()


def _drop(home: Path, name: str) -> None:
    (home / "in" / f".{name}").write_text(f"A note called {name}")
    (home / "in" / f".{name}").rename(home / "in" / name)


def _end(home: Path, places: Places, found: Out) -> None:
    """Let all of it come to its end; what nobody can tell of is answered as a person would, who looks."""
    app = App(Settings(home=home, fetch_private=True, fetches_a_minute=0))
    try:
        app.start()
        eventually(lambda: sum(states(app).values()) == len(found.names) and set(states(app)) <= {"done", "parked"}, 120)
        found.unasked = places.asked_of()
        with app.database.reading() as connection:
            parked = connection.execute(select(runs.c.id, items.c.name).join_from(runs, items).where(runs.c.state == "parked")).all()
            steps = {run: next(entry.path for _, entry in reversed(journal.load(connection, run)) if entry.event == "failed") for run, _ in parked}
        for run, name in parked:
            found.asked += 1
            there = found.unasked[steps[run]][name]
            app.answers.continue_run(run, "ada", unsure="went" if there else "again")
        eventually(lambda: set(states(app)) == {"done"}, 120)
    finally:
        app.close()


def _names(path: Path) -> Counter[str]:
    with path.open(newline="", encoding="utf-8-sig") as source:
        return Counter(row["Name"] for row in csv.DictReader(source))
