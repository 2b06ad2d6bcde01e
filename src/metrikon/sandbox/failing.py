"""Failing on request: what a service does wrong with the next calls, or with a share of them."""

from __future__ import annotations

import random
import threading
import time
from dataclasses import dataclass, field

from flask import Response, abort, has_request_context, request

KINDS = ("busy", "error", "full", "closed", "slow", "cut", "lost", "twice")
TOLD = {
    "busy": "429, with Retry-After",
    "error": "500",
    "full": "507: it has no room left",
    "closed": "403 to whatever would change something",
    "slow": "an answer after five seconds",
    "cut": "half of the answer",
    "lost": "an answer that is lost after what was sent was kept",
    "twice": "what it sends is sent twice",
}


@dataclass
class Failing:
    """How a service fails: in which way, how often, and how many times more (-1: without end)."""

    kind: str = ""
    rate: float = 1.0
    times: int = -1
    retry_after: int = 2
    slow: float = 5.0  # seconds
    writes: bool = False  # only what changes something
    dice: random.Random = field(default_factory=lambda: random.Random(7))
    lock: threading.Lock = field(default_factory=threading.Lock)

    def set(self, kind: str, rate: float, times: int) -> None:
        """Fail so from now on; an empty kind: no more."""
        with self.lock:
            self.kind, self.rate, self.times = kind if kind in KINDS else "", rate, times

    def now(self, *kinds: str) -> str:
        """Whether it is time to fail in one of some ways; which one, or nothing."""
        if (self.writes or self.kind in ("full", "closed")) and has_request_context() and request.method in ("GET", "HEAD"):
            return ""
        with self.lock:
            if self.kind not in kinds or self.times == 0 or self.dice.random() >= self.rate:
                return ""
            if self.times > 0:
                self.times -= 1
            return self.kind

    def before(self) -> None:
        """Fail before anything is done."""
        kind = self.now("busy", "error", "full", "closed", "slow")
        if kind == "busy":
            abort(Response("too many", 429, {"Retry-After": str(self.retry_after)}))
        if kind == "error":
            abort(Response("it does not work", 500))
        if kind == "full":
            abort(Response("no room left", 507))
        if kind == "closed":
            abort(Response('{"error": "read only"}', 403, content_type="application/json"))
        if kind == "slow":
            time.sleep(self.slow)

    def after(self, response: Response) -> Response:
        """Fail with the answer: cut off in the middle, or lost."""
        kind = self.now("cut", "lost")
        if not kind:
            return response
        data = response.get_data()
        half = data[: len(data) // 2] if kind == "cut" else b""
        response.set_data(half)
        response.headers["Content-Length"] = str(len(data) + 1)  # the rest never comes: the connection is closed before
        response.headers["Connection"] = "close"
        return response
