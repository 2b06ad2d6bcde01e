"""A service that is killed again and again while mails, rows and messages come in: each is one item, and every mail is marked."""

from __future__ import annotations

import random
import time
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.core.flows.connecting import Way
from metrikon.sandbox import chat
from metrikon.sandbox.services import Services
from metrikon.store import listing
from tests.helpers import eventually
from tests.intakes.dovecot import SECRET, MailServer, letter
from tests.killing import kill, serve

FLOW = """
metrikon: 1
name: all
intakes:
  - {kind: mailbox, connection: post, mark: taken, every: 5}
  - {kind: chat, connection: chat, rooms: ["#receipts:sandbox"], every: 2}
  - {kind: rows, path: sites.csv, key: [Site], every: 1}
steps:
  - {name: made, set: {came: "${item.data}"}}
"""
KILLS, EACH = 4, 5


@pytest.fixture
def places() -> Iterator[tuple[MailServer, Services]]:
    mails, services = MailServer(), Services().start()
    yield mails, services
    mails.remove()
    services.stop()


def test_kills_while_things_come_in_lose_none_and_take_none_twice(tmp_path: Path, seed: int, places: tuple[MailServer, Services]) -> None:
    mails, services = places
    home = tmp_path / "home"
    app = App(Settings(home=home, fetch_private=True, look_first=False))
    app.connections.put("post", mails.url, Way("basic", "ada"), SECRET, "ada")
    app.connections.put("chat", services.url, Way("bearer"), chat.TOKEN, "ada", "_matrix/client/v3/account/whoami")
    app.catalog.put_flow(FLOW)
    app.close()
    dice, sites = random.Random(seed), ["Site,Address"]
    for turn in range(KILLS):
        for number in range(turn * EACH, turn * EACH + EACH):
            mails.put(letter(number), at=datetime(2026, 11, 3, tzinfo=UTC))
            services.world.chat.say("!receipts:sandbox", "@ada:sandbox", f"{number} on potting soil")
            sites.append(f"site {number},https://{number}.example")
        (home / "sites.csv.part").write_text("\n".join(sites) + "\n")
        (home / "sites.csv.part").replace(home / "sites.csv")
        process = serve(home)
        assert process.stdout is not None
        assert process.stdout.readline().startswith(b"Metrikon is ready")
        time.sleep(dice.uniform(0.0, 1.0))
        kill(process)
    last = App(Settings(home=home, fetch_private=True, look_first=False))
    try:
        last.start()
        eventually(lambda: sum(_came(last).values()) >= 3 * KILLS * EACH, 60)
        eventually(lambda: _marked(mails) == KILLS * EACH, 60)
        time.sleep(3)  # another look at each
        assert _came(last) == dict.fromkeys(("mailbox", "chat", "rows"), KILLS * EACH)
    finally:
        last.close()


def _came(app: App) -> Counter[str]:
    with app.database.reading() as connection:
        return Counter(row["intake"] for row in listing.item_page(connection, most=500).rows)


def _marked(mails: MailServer) -> int:
    with mails.client() as client:
        client.select("INBOX", readonly=True)
        return len(client.search(None, "KEYWORD", "taken")[1][0].split())
