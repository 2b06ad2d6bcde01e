"""A small web service for tests: pages that a test sets, validators honoured, failures on request."""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlsplit

Page = Callable[[dict[str, str]], tuple[str, bytes, dict[str, str]]]  # the query; media type, bytes, headers


class Served(ThreadingHTTPServer):
    """Pages by their paths."""

    daemon_threads = True

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), _Answers)
        self.url = f"http://127.0.0.1:{self.server_address[1]}"
        self.pages: dict[str, Page] = {}
        self.status = 0  # answered instead, when set
        self.seen: list[tuple[str, int]] = []
        threading.Thread(target=self.serve_forever, daemon=True, kwargs={"poll_interval": 0.02}).start()

    def end(self) -> None:
        """Answer no more."""
        self.shutdown()
        self.server_close()


class _Answers(BaseHTTPRequestHandler):
    server: Served

    def log_message(self, *_: Any) -> None: ...

    def do_GET(self) -> None:
        parts = urlsplit(self.path)
        page = self.server.pages.get(parts.path)
        if self.server.status or page is None:
            self._answer(self.server.status or 404, "text/plain", b"", {})
            return
        media, data, headers = page({name: values[0] for name, values in parse_qs(parts.query, keep_blank_values=True).items()})
        tag = f'"{hashlib.sha256(data).hexdigest()[:16]}"'
        if self.headers.get("If-None-Match") == tag:
            self._answer(304, media, b"", {"ETag": tag})
        else:
            self._answer(200, media, data, {"ETag": tag, **headers})

    def _answer(self, status: int, media: str, data: bytes, headers: dict[str, str]) -> None:
        self.server.seen.append((self.path, status))
        self.send_response(status)
        for name, value in {"Content-Type": media, "Content-Length": str(len(data)), **headers}.items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(data)
