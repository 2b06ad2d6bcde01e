"""Through a proxy to an address that was checked: the proxy is told the address and never the name, which it would look up anew (RFC 9110, 9.3.6)."""

from __future__ import annotations

import base64
import socket
import ssl
from collections.abc import Callable, Iterable
from typing import Any
from urllib.parse import unquote, urlsplit

import httpcore
import httpx

HEAD = 65_536  # bytes of what a proxy answers


class ProxyRefused(OSError):
    """The proxy did not connect; the message says what it answered."""


def at(proxy: str) -> tuple[str, int]:
    """Host and port of a proxy."""
    parts = urlsplit(proxy)
    return parts.hostname or "", parts.port or 80


def letting_in(proxy: str) -> dict[str, str]:
    """The header by which one is let in at a proxy whose address holds a user."""
    parts = urlsplit(proxy)
    if not parts.username:
        return {}
    told = f"{unquote(parts.username)}:{unquote(parts.password or '')}"
    return {"Proxy-Authorization": f"Basic {base64.b64encode(told.encode()).decode()}"}


def tunnel(proxy: str, address: str, port: int, seconds: float) -> socket.socket:
    """A connection to an address and port, through a proxy. Raises OSError."""
    made = socket.create_connection(at(proxy), seconds)
    try:
        made.settimeout(seconds)
        made.sendall(_asked(proxy, address, port))
        _answered(lambda: made.recv(1))
    except BaseException:
        made.close()
        raise
    return made


def _asked(proxy: str, address: str, port: int) -> bytes:
    place = f"[{address}]:{port}" if ":" in address else f"{address}:{port}"
    head = [f"CONNECT {place} HTTP/1.1", f"Host: {place}", *(f"{name}: {value}" for name, value in letting_in(proxy).items()), "", ""]
    return "\r\n".join(head).encode("latin-1")


def _answered(read: Callable[[], bytes]) -> None:
    """Take the head of an answer, and not a byte more: what follows is of the other side. Raises `ProxyRefused`."""
    data = b""
    while b"\r\n\r\n" not in data:
        part = read()
        data += part
        if not part or len(data) > HEAD:
            raise ProxyRefused("the proxy broke off")
    status = data.split(b" ", 2)[1:2]
    if status != [b"200"]:
        raise ProxyRefused(f"the proxy answered {b''.join(status).decode('latin-1')[:20]}: it must let one connect (CONNECT) to addresses")


class _Through(httpcore.SyncBackend):
    """Connects through a proxy."""

    def __init__(self, proxy: str) -> None:
        self._proxy = proxy

    def connect_tcp(
        self, host: str, port: int, timeout: float | None = None, local_address: str | None = None, socket_options: Iterable[Any] | None = None
    ) -> httpcore.NetworkStream:
        stream = super().connect_tcp(*at(self._proxy), timeout, local_address, socket_options)
        try:
            stream.write(_asked(self._proxy, host, port), timeout)
            _answered(lambda: stream.read(1, timeout))
        except ProxyRefused as error:
            stream.close()
            raise httpcore.ProxyError(str(error)) from error
        except BaseException:
            stream.close()
            raise
        return stream


def transport(proxy: str, verify: ssl.SSLContext) -> httpx.HTTPTransport:
    """What carries requests through a proxy, to the addresses that they name."""
    made = httpx.HTTPTransport(verify=verify, trust_env=False)
    pool: Any = made._pool  # the library has no other way to say how it connects
    if not hasattr(pool, "_network_backend"):
        raise RuntimeError("the HTTP library connects in another way than was known")
    pool._network_backend = _Through(proxy)
    return made
