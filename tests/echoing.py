"""A service that says all that it is sent, in every form that a secret may take, and leads on with it."""

from __future__ import annotations

import base64
import html
import json
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import quote, quote_plus

STATUSES = {"/round": 302, "/away": 302, "/lost": 404, "/broken": 500}


@dataclass
class Echo:
    """One of them: its address, that of another origin to which `/away` leads, and what it heard."""

    url: str = ""
    elsewhere: str = ""
    heard: list[str] = field(default_factory=list)


@contextmanager
def echoing() -> Iterator[Echo]:
    """A running one."""
    echo = Echo()

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            echo.heard.append(f"{self.path} {self.headers}")
            place, _, query = self.path.partition("?")
            raw = self.headers.get("Authorization", "").partition(" ")[2] or query
            encoded = [base64.b64encode(f"{'x' * before}{raw}".encode()).decode() for before in range(3)]
            body = json.dumps({"asked": self.path, "by": dict(self.headers), "html": html.escape(raw), "encoded": encoded}).encode()
            self.send_response(STATUSES.get(place, 200))
            heads = {"Content-Length": str(len(body)), "X-Said": raw, "Link": f"<{self.path}>; rel=next"}
            if STATUSES.get(place) == 302:
                heads["Location"] = f"{echo.elsewhere if place == '/away' else ''}/say?{query}"
            for name, value in heads.items():
                self.send_header(name, value)
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, format: str, *args: object) -> None:
            return None

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    echo.url = f"http://127.0.0.1:{server.server_address[1]}"
    try:
        yield echo
    finally:
        server.shutdown()
        server.server_close()


def forms_of(secret: str, user: str = "") -> list[str]:
    """The forms in which a secret is looked for: as it is, percent-encoded, as a form is, in HTML, in JSON, in base64."""
    pair = f"{user}:{secret}" if user else secret
    return [
        secret,
        quote(secret),
        quote_plus(secret),
        html.escape(secret),
        json.dumps(secret)[1:-1],
        base64.b64encode(pair.encode()).decode().rstrip("="),
    ]
