"""Taking in: mails a second, posts accepted a second, and the memory of looking at a mailbox of 20,000 mails."""

from __future__ import annotations

import email
import email.policy
import json
import os
import secrets
import sqlite3
import statistics
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

import httpx
from imapclient import IMAPClient
from waitress.server import create_server

from bench.report import Result, result
from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.core.flows.connecting import Way
from metrikon.intakes.webhook import signature
from metrikon.service.serving import Server
from tests.intakes.dovecot import SECRET, MailServer

MAILS = """
metrikon: 1
name: letters
intakes: [{kind: mailbox, connection: post}]
steps: [{name: made, set: {subject: "${item.data.subject}"}}]
"""
CALLS = """
metrikon: 1
name: calls
intakes: [{kind: webhook}]
steps: [{name: made, set: {caller: "${item.data.caller}"}}]
"""
TEXT = "Dear garden, please find below what we have in stock this week.\r\n" + "Rosa canina, 3 litre pots, 120 pieces at 4.50 each.\r\n" * 60
BATCH = 16


def _fill(server: MailServer, count: int, at: int = 1_760_000_000) -> None:
    """Mails as a mail server keeps them (Maildir), since sending so many takes longer than looking at them."""
    folder = server.folder / "mail" / "ada" / "new"
    for number in range(count):
        head = f"From: Rosa <rosa@seeds.example>\r\nTo: garden@ellerby.example\r\nSubject: Letter {number}\r\nMessage-ID: <{number}@seeds.example>\r\n\r\n"
        place = folder / f"{at + number}.M{number}.bench"
        place.write_bytes((head + TEXT).encode())
        os.utime(place, (at + number, at + number))
        if os.geteuid() == 0:
            os.chown(place, 65534, 65534)


def mails_taken(folder: Path, less: int) -> list[Result]:
    """Mails taken a second, against a plain script with the same library that keeps them in SQLite."""
    count = 2000 // less
    server = MailServer()
    try:
        server.empty()
        _fill(server, count)
        plain = _plain_mails(server, folder / "plain.db")
        app = App(Settings(home=folder / "home", fetch_private=True, ask_items=0, look_first=False))
        app.connections.put("post", server.url, Way("basic", "ada"), SECRET, "bench")
        app.catalog.put_flow(MAILS)
        flow = app.catalog.newest_flow("letters")
        app.watching.look(flow, flow.intakes[0])
        app.database.write(lambda connection: connection.exec_driver_sql("DELETE FROM runs") and None)
        app.database.write(lambda connection: connection.exec_driver_sql("DELETE FROM items") and None)
        app.database.write(lambda connection: connection.exec_driver_sql("UPDATE intakes SET cursor = NULL") and None)
        began = time.perf_counter()
        taken = app.watching.look(flow, flow.intakes[0]).count
        ours = time.perf_counter() - began
        app.close()
    finally:
        server.remove()
    assert taken == count, taken
    told = f"{count / ours:,.0f} mails a second, the script {count / plain:,.0f}"
    return [result("mails taken a second / a plain script", plain / ours, "at least 0.6", lambda r: r >= 0.6, told)]


def _plain_mails(server: MailServer, place: Path) -> float:
    """Seconds of a plain script: mails fetched and kept with sender, subject and attachments, each batch in a commit that is synced."""
    database = sqlite3.connect(place)
    database.execute("PRAGMA journal_mode=WAL")
    database.execute("PRAGMA synchronous=FULL")
    database.execute("CREATE TABLE mails (id TEXT PRIMARY KEY, sender TEXT, subject TEXT, attachments TEXT, body BLOB)")
    began = time.perf_counter()
    with IMAPClient("127.0.0.1", server.port, ssl=False) as client:
        client.login("ada", SECRET)
        client.select_folder("INBOX", readonly=True)
        numbers = client.search(["UNDELETED"])
        for start in range(0, len(numbers), BATCH):
            for number, parts in client.fetch(numbers[start : start + BATCH], ["RFC822.SIZE", "INTERNALDATE", "BODY.PEEK[]"]).items():
                mail = email.message_from_bytes(parts[b"BODY[]"], policy=email.policy.default)
                names = json.dumps([each.get_filename() for each in mail.iter_attachments()])
                row = (str(number), str(mail["from"]), str(mail["subject"]), names, parts[b"BODY[]"])
                database.execute("INSERT INTO mails VALUES (?, ?, ?, ?, ?)", row)
            database.commit()
    seconds = time.perf_counter() - began
    database.close()
    return seconds


def posts_accepted(folder: Path, less: int) -> list[Result]:
    """Posts of 50 at once accepted a second, against a bare handler of the same server that keeps one row with the same durability; and the slowest hundredth."""
    count = 2000 // less
    app = App(Settings(home=folder / "home", port=0, ask_items=0, look_first=False))
    app.catalog.put_flow(CALLS)
    flow = app.catalog.newest_flow("calls")
    address, secret = app.addresses.make(flow, flow.intakes[0])
    server = Server(app)
    server.start()
    try:
        ours, times = _crowd(f"{server.url}/in/{address}", count, secret)
    finally:
        server.close()
    bare, _ = _bare(folder / "bare.db", count)
    ordered = sorted(times)
    worst = ordered[int(len(ordered) * 0.99)] / statistics.median(ordered)
    told = f"{count / ours:,.0f} posts a second with their runs beside, the bare handler {count / bare:,.0f}"
    return [
        result("posts accepted a second / a bare handler", bare / ours, "at least 0.5", lambda r: r >= 0.5, told),
        result("slowest hundredth of posts / the middle", worst, "at most 5", lambda r: r <= 5, f"middle {statistics.median(ordered) * 1000:.0f} ms"),
    ]


def _crowd(url: str, count: int, secret: str = "") -> tuple[float, list[float]]:
    """Seconds of so many posts, 50 at once, and the seconds of each."""
    times: list[float] = []
    ids: set[str] = set()

    def some(start: int) -> None:
        with httpx.Client(timeout=120) as http:
            for number in range(start, count, 50):
                body = json.dumps({"event": "report", "caller": f"caller {number}", "text": TEXT[:1500]}).encode()
                id_, now = secrets.token_hex(8), int(time.time())
                headers = {"webhook-id": id_, "webhook-timestamp": str(now), "webhook-signature": signature(secret, id_, now, body)}
                began = time.perf_counter()
                answer = http.post(url, content=body, headers={"Content-Type": "application/json", **headers})
                times.append(time.perf_counter() - began)
                assert answer.status_code == 202, answer.text
                ids.add(answer.json()["item"])

    crowd = [threading.Thread(target=some, args=(start,)) for start in range(50)]
    began = time.perf_counter()
    for each in crowd:
        each.start()
    for each in crowd:
        each.join()
    assert len(ids) == count, f"{len(ids)} of {count}"
    return time.perf_counter() - began, times


def _bare(place: Path, count: int) -> tuple[float, list[float]]:
    """The same posts to a handler that keeps one row, each in a commit that is synced."""
    database = sqlite3.connect(place, check_same_thread=False)
    database.execute("PRAGMA journal_mode=WAL")
    database.execute("PRAGMA synchronous=FULL")
    database.execute("CREATE TABLE posts (id TEXT PRIMARY KEY, body BLOB)")
    lock = threading.Lock()

    def handler(environ: dict[str, object], start: Callable[..., object]) -> list[bytes]:
        body = environ["wsgi.input"].read()  # type: ignore[attr-defined]
        id_ = str(environ["HTTP_WEBHOOK_ID"])
        with lock:
            database.execute("INSERT INTO posts VALUES (?, ?)", (id_, body))
            database.commit()
        start("202 Accepted", [("Content-Type", "application/json")])
        return [json.dumps({"item": id_}).encode()]

    server = create_server(handler, host="127.0.0.1", port=0, threads=8)
    threading.Thread(target=server.run, daemon=True).start()
    try:
        return _crowd(f"http://127.0.0.1:{server.effective_port}/", count)
    finally:
        server.close()


_LOOK = """
import resource, sys
from pathlib import Path
from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.core.flows.connecting import Way
app = App(Settings(home=Path(sys.argv[1]), fetch_private=True, look_first=False))
app.connections.put("post", sys.argv[2], Way("basic", "ada"), sys.argv[3], "bench")
app.catalog.put_flow(sys.argv[4])
flow = app.catalog.newest_flow("letters")
would = app.watching.would(flow, flow.intakes[0], 50)
app.close()
print(would.count, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)
"""


def preview_memory(folder: Path, less: int) -> list[Result]:
    """The memory of looking at a mailbox of 20,000 mails against one of 200."""
    peaks: dict[int, tuple[int, float]] = {}
    for count in (200, 20_000 // less):
        server = MailServer()
        try:
            server.empty()
            _fill(server, count)
            began = time.perf_counter()
            ran = subprocess.run(
                [sys.executable, "-c", _LOOK, str(folder / str(count)), server.url, SECRET, MAILS],
                capture_output=True,
                text=True,
                check=True,
                timeout=1200,
            )
            found, peak = (int(each) for each in ran.stdout.split())
            assert found == count, found
            peaks[count] = (peak, time.perf_counter() - began)
        finally:
            server.remove()
    (few, _), (many, seconds) = peaks.values()
    told = f"{many / 1000:.0f} MB and {seconds:.0f} s"
    return [result(f"memory of looking at {20_000 // less:,} mails / at 200", many / few, "at most 1.2", lambda r: r <= 1.2, told)]
