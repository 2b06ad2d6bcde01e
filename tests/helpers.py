"""Helpers of the tests: small, with a name that says what they do."""

from __future__ import annotations

import json
import random
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select

from metrikon.app.assemble import App
from metrikon.client import Client
from metrikon.core.documents.lines import in_lines
from metrikon.core.documents.model import Document, Page, Word
from metrikon.core.documents.tables import find_tables
from metrikon.ports.model import ModelAnswer, ModelRequest, Usage
from metrikon.sandbox.answering import Answering, find_parts
from metrikon.store import listing
from metrikon.store.tables import deliveries, runs

MOVING = ("ready", "running", "waiting")
HEIGHT, WIDE = 10.0, 5.0  # of a line of print, and of one character, in made-up pages


@dataclass
class Running:
    """A service on loopback, with a client that may come in."""

    app: App
    url: str
    client: Client
    token: str
    secure_url: str = ""  # over TLS, where a certificate is set


def typed_page(text: str, number: int = 1) -> Page:
    """A page as a typewriter would print it: each character as wide as any other, one line under the other."""
    words = []
    for row, line in enumerate(text.splitlines()):
        at = 0
        for part in line.split(" "):
            if part:
                x, y = 20 + at * WIDE, 20 + row * HEIGHT * 1.4
                words.append(Word(part, x, y, x + len(part) * WIDE, y + HEIGHT))
            at += len(part) + 1
    ordered, lines = in_lines(words)
    return Page(number, 600, 800, "text", ordered, lines)


def typed_document(*texts: str) -> Document:
    """A document of typed pages, with its tables."""
    pages = tuple(typed_page(text, number) for number, text in enumerate(texts, 1))
    return Document("0" * 64, "pdf", pages, find_tables(pages))


def eventually(holds: Callable[[], Any], seconds: float = 30.0, pause: float = 0.05) -> Any:
    """Wait until something holds; its value. Fails when it does not come to hold in time."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        value = holds()
        if value:
            return value
        time.sleep(pause)
    raise AssertionError(f"it did not come to hold within {seconds:g} seconds")


def states(app: App) -> dict[str, int]:
    with app.database.reading() as connection:
        return listing.state_counts(connection)


def run_state(app: App, run_id: str) -> tuple[str, str]:
    """State and reason of a run."""
    with app.database.reading() as connection:
        row = connection.execute(select(runs.c.state, runs.c.reason).where(runs.c.id == run_id)).one()
    return row.state, row.reason


def at_rest(app: App, count: int, seconds: float = 60.0) -> dict[str, int]:
    """Wait until so many runs are there and none moves; how many stand in each state."""

    def still() -> dict[str, int] | None:
        now = states(app)
        return now if sum(now.values()) >= count and not any(now.get(state) for state in MOVING) else None

    try:
        found: dict[str, int] = eventually(still, seconds)
    except AssertionError as error:
        with app.database.reading() as connection:
            told = connection.execute(select(runs.c.state, runs.c.reason, runs.c.owner, runs.c.entries)).all()
        raise AssertionError(f"{error}: {told}") from error
    return found


def delivered(app: App) -> dict[str, str]:
    """State of every delivery, by key."""
    with app.database.reading() as connection:
        return {row.key: row.state for row in connection.execute(select(deliveries.c.key, deliveries.c.state))}


def answer_here(request: ModelRequest) -> ModelAnswer:
    """What the stand-in answers, without a server."""
    document, schema = find_parts([dict(each) for each in request.messages], {"json_schema": {"schema": request.schema}})
    return ModelAnswer(json.dumps(Answering(document, schema or {}).answer()), Usage(10, 10, 1, 0.0))


def damaged(given: bytes, dice: random.Random) -> bytes:
    """A file with a few bytes changed, left out, doubled or cut off."""
    data = bytearray(given)
    for _ in range(dice.randrange(1, 12)):
        if not data:
            break
        at, kind = dice.randrange(len(data)), dice.randrange(4)
        if kind == 0:
            data[at] = dice.randrange(256)
        elif kind == 1:
            del data[at : at + dice.randrange(1, 60)]
        elif kind == 2:
            data[at:at] = data[max(0, at - dice.randrange(200)) : at]
        else:
            del data[at:]
    return bytes(data)
