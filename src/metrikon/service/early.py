"""Requests that are refused by their head, before their body is taken: what nobody signed need not be read."""

from __future__ import annotations

import threading
import time
from collections.abc import Mapping
from typing import Any

from metrikon.app.assemble import App
from metrikon.connections.sealing import CannotOpen
from metrikon.engine.refusing import NotThere
from metrikon.intakes.webhook import Webhook, unproved_by_head
from metrikon.service.parsing import Early
from metrikon.service.webhooks import PATH, WRONG

SELDOM = 10.0  # seconds between two times that Today is told of the same intake, however many are refused


def early_of(app: App) -> Early:
    """What is posted to the address of an intake must be proved by its head, as far as that can tell."""
    told_at: dict[tuple[str, str], float] = {}  # by flow and intake

    def why(method: str, path: str, headers: Mapping[str, str]) -> str:
        if method not in ("POST", "PUT") or not path.startswith(PATH):
            return ""
        try:
            found = app.addresses.find(path.removeprefix(PATH))
        except (NotThere, CannotOpen):
            return ""  # it is told as it is for all others
        said: Any = found.said.form
        given = {name.lower().replace("_", "-"): value for name, value in headers.items()}
        wrong = unproved_by_head(said, found.secret, given, time.time()) if isinstance(said, Webhook) else ""
        key, now = (found.flow.name, found.said.name), time.monotonic()
        if wrong and now - told_at.get(key, -SELDOM) >= SELDOM:  # in a thread of its own: whoever looks at heads waits for nothing
            told_at[key] = now
            threading.Thread(target=app.taking.came, args=(*key, f"{WRONG} {wrong}"), kwargs={"failed": True}, daemon=True).start()
        return wrong

    return why
