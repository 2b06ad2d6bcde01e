"""A proxy on loopback for a browser of ours: whatever a page asks for, hosts are looked up here, and only addresses that are allowed are connected to.

It speaks HTTP/1.1 proxying (RFC 9110): CONNECT for TLS, absolute addresses for the rest. Bytes are counted, and stop where the limit is.
"""

from __future__ import annotations

import contextlib
import select
import socket
import socketserver
import threading
from urllib.parse import urlsplit

from metrikon.connections.fetching import FetchFailed, checked

_NOTHING = b"HTTP/1.1 502 Bad Gateway\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
HEAD, STEP, IDLE = 65_536, 65_536, 30.0  # bytes of a request's head, of a piece; seconds without any


class Guard:
    """The proxy. `most`: bytes that may come in; `refused`: hosts that were not connected to, each with why."""

    def __init__(self, *, private: bool, most: int) -> None:
        self.private, self.left = private, most
        self.refused: dict[str, str] = {}
        self.full = False
        self._open: set[socket.socket] = set()
        self._lock = threading.Lock()
        self._server = _Server(("127.0.0.1", 0), _Handler)
        self._server.guard = self
        self._thread = threading.Thread(target=self._server.serve_forever, args=(0.05,), daemon=True, name="guard")

    def __enter__(self) -> Guard:
        self._thread.start()
        return self

    def __exit__(self, *given: object) -> None:
        self._server.shutdown()
        self._server.server_close()

    @property
    def address(self) -> str:
        """Host and port, as a browser is told of them."""
        host, port = self._server.server_address[:2]
        return f"{host!s}:{port}"

    def fresh(self) -> None:
        """End the connections that are open: what is asked next goes over one of its own. A browser repeats a request by itself, unasked, when one that it
        used before turns out to be closed; over a new one it never does."""
        with self._lock:
            for each in self._open:
                with contextlib.suppress(OSError):
                    each.shutdown(socket.SHUT_RDWR)
            self._open.clear()

    def opened(self, own: socket.socket) -> None:
        """A connection of the browser is open."""
        with self._lock:
            self._open.add(own)

    def closed(self, own: socket.socket) -> None:
        """It is no more."""
        with self._lock:
            self._open.discard(own)

    def came(self, count: int) -> bool:
        """Count bytes that came in; False where they are too many."""
        with self._lock:
            self.left -= count
            self.full = self.full or self.left < 0
            return not self.full


class _Server(socketserver.ThreadingTCPServer):
    daemon_threads = True
    block_on_close = False
    guard: Guard


class _Handler(socketserver.BaseRequestHandler):
    def handle(self) -> None:
        own: socket.socket = self.request
        guard: Guard = self.server.guard  # type: ignore[attr-defined]
        own.settimeout(IDLE)
        guard.opened(own)
        try:
            self._serve(own, guard)
        finally:
            guard.closed(own)

    def _serve(self, own: socket.socket, guard: Guard) -> None:
        with contextlib.suppress(OSError, ValueError):
            head, rest = _head(own)
            line, _, headers = head.partition(b"\r\n")
            method, target, version = line.decode("latin-1").split(" ")
            secure = method == "CONNECT"
            parts = urlsplit(f"//{target}" if secure else target)
            host, port = parts.hostname or "", parts.port or (443 if secure else 80)
            if not secure and parts.scheme != "http":
                raise ValueError(target)
            try:
                address = checked(host, port, private=guard.private)
            except FetchFailed as error:
                guard.refused[host] = str(error)
                own.sendall(b"HTTP/1.1 403 Forbidden\r\nContent-Length: 0\r\nConnection: close\r\n\r\n")
                return
            try:
                other = socket.create_connection((address, port), 10)
            except OSError:
                own.sendall(_NOTHING)
                return
            with other:
                other.settimeout(IDLE)
                if secure:
                    own.sendall(b"HTTP/1.1 200 Connected\r\n\r\n")
                    other.sendall(rest)
                else:
                    path = f"{parts.path or '/'}{'?' + parts.query if parts.query else ''}"
                    kept = b"\r\n".join(each for each in headers.split(b"\r\n") if not each.lower().startswith((b"proxy-", b"connection:")))
                    other.sendall(f"{method} {path} {version}\r\n".encode("latin-1") + kept + b"\r\nConnection: close\r\n\r\n" + rest)
                if not _passed_on(own, other, guard) and not secure:
                    own.sendall(_NOTHING)  # an end without a word would have the browser ask again


def _head(own: socket.socket) -> tuple[bytes, bytes]:
    """The head of a request, and what came with it. Raises ValueError for one that is too long or cut off."""
    data = b""
    while b"\r\n\r\n" not in data:
        part = own.recv(4096)
        data += part
        if not part or len(data) > HEAD:
            raise ValueError("no request")
    head, _, rest = data.partition(b"\r\n\r\n")
    return head, rest


def _passed_on(own: socket.socket, other: socket.socket, guard: Guard) -> bool:
    """Pass bytes on in both directions until one side ends, nothing comes, or there are too many; whether anything was answered."""
    answered = False
    while True:
        ready, _, _ = select.select([own, other], [], [], IDLE)
        for each in ready:
            try:
                part = each.recv(STEP)
            except OSError:
                return answered
            if not part or (each is other and not guard.came(len(part))):
                return answered
            answered = answered or each is other
            (other if each is own else own).sendall(part)
        if not ready:
            return answered
