"""The door that speaks TLS: handshakes are made here, and what comes after them goes to the connections of the other door, with its guards.

Whoever begins no handshake holds up nobody: each has a deadline, and an address may have few under way.
"""

from __future__ import annotations

import asyncio
import copy
import logging
import socket
import ssl
import threading
from collections import defaultdict
from contextlib import suppress
from functools import partial
from typing import Any

from metrikon.app.settings import BadSetting, Settings
from metrikon.service.channels import MOST, listening

log = logging.getLogger("metrikon.service")
HANDSHAKE = 10.0  # seconds in which one must be made
UNDER_WAY = 20  # handshakes of one address: one more ends that which has taken longest
PIECE = 65_536  # bytes that are passed on at once


class SecureDoor:
    """Accepts connections at a port of its own, and hands them on to a server (`waitress`) once they are secured. Raises `BadSetting`."""

    def __init__(self, settings: Settings) -> None:
        self._context = _context(settings)
        self._server: Any = None
        self._adjusted: Any = None
        self._trusted = bool(settings.trusted_proxy)
        self._under_way: defaultdict[str, dict[asyncio.Task[None], None]] = defaultdict(dict)  # by address, in their order
        self._passing: set[asyncio.Task[None]] = set()
        try:
            self._socket = socket.create_server((settings.host, settings.tls_port), backlog=1024, family=_family(settings.host))
        except OSError as error:
            raise BadSetting(f"Port {settings.tls_port} cannot be used for https: {error.strerror or error}.") from error
        self._socket.setblocking(False)
        self.port = int(self._socket.getsockname()[1])
        self._loop = asyncio.new_event_loop()
        self._ready = threading.Event()
        self._thread = threading.Thread(target=self._run, name="https", daemon=True)

    def start(self, server: Any) -> None:
        """Begin to accept, and to hand on to a server."""
        self._server = next(iter(listening(server)))
        self._adjusted = copy.copy(self._server.adj)
        self._adjusted.url_scheme = "https"
        self._thread.start()
        self._ready.wait()

    def accept_no_more(self) -> None:
        """What is being passed on goes on until the other door ends it."""
        if self._thread.is_alive():
            self._loop.call_soon_threadsafe(self._accepting.cancel)

    def stop(self) -> None:
        """End what is still passed on."""
        if self._thread.is_alive():
            self._loop.call_soon_threadsafe(self._loop.stop)
            self._thread.join(5)
        self._socket.close()

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._accepting = self._loop.create_task(self._accept())
        self._ready.set()
        try:
            self._loop.run_forever()
        finally:
            every = [self._accepting, *self._passing, *(task for each in self._under_way.values() for task in each)]
            for task in every:
                task.cancel()
            self._loop.run_until_complete(asyncio.gather(*every, return_exceptions=True))
            self._loop.close()

    async def _accept(self) -> None:
        while True:
            try:
                plain, address = await self._loop.sock_accept(self._socket)
            except OSError:  # no more files may be open: others end, and then it goes on
                await asyncio.sleep(0.1)
                continue
            plain.setblocking(False)
            own = self._under_way[address[0]]
            if len(own) >= (MOST if self._trusted else UNDER_WAY):
                next(iter(own)).cancel()
            task = self._loop.create_task(self._secured(plain, address))
            own[task] = None
            task.add_done_callback(partial(self._settled, plain, address[0]))

    def _settled(self, plain: socket.socket, host: str, task: asyncio.Task[None]) -> None:
        if task.cancelled():  # before it began
            plain.close()
        self._under_way[host].pop(task, None)
        if not self._under_way[host]:
            del self._under_way[host]

    async def _secured(self, plain: socket.socket, address: Any) -> None:
        """Make the handshake of a connection, and hand it on."""
        try:
            reader = asyncio.StreamReader(limit=PIECE)
            protocol = asyncio.StreamReaderProtocol(reader)
            made = self._loop.connect_accepted_socket(lambda: protocol, plain, ssl=self._context, ssl_handshake_timeout=HANDSHAKE)
            transport, _ = await made
        except (OSError, ssl.SSLError, asyncio.CancelledError, TimeoutError):
            plain.close()
            return
        ours, theirs = socket.socketpair()
        inner = await asyncio.open_connection(sock=ours, limit=PIECE)
        task = self._loop.create_task(_passed_on((reader, asyncio.StreamWriter(transport, protocol, reader, self._loop)), inner))
        self._passing.add(task)
        task.add_done_callback(self._passing.discard)
        try:
            self._server.trigger.pull_trigger(lambda: self._taken(theirs, address))
        except OSError:  # the other door has ended
            theirs.close()

    def _taken(self, theirs: socket.socket, address: Any) -> None:
        """In the thread of the other door: a connection like those that it accepts itself."""
        theirs.setblocking(False)
        self._server.channel_class(self._server, theirs, address, self._adjusted, map=self._server._map)


def _context(settings: Settings) -> ssl.SSLContext:
    try:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.minimum_version = ssl.TLSVersion.TLSv1_2
        context.load_cert_chain(settings.tls_certificate, settings.tls_key)
    except (OSError, ssl.SSLError) as error:
        raise BadSetting(f"The certificate {settings.tls_certificate} with the key {settings.tls_key} cannot be used: {error}.") from error
    return context


def _family(host: str) -> socket.AddressFamily:
    return socket.AF_INET6 if ":" in host else socket.AF_INET


Stream = tuple[asyncio.StreamReader, asyncio.StreamWriter]


async def _passed_on(outer: Stream, inner: Stream) -> None:
    """Pass on what comes from either side, until one of them ends."""
    ways = [asyncio.ensure_future(_piped(outer[0], inner[1])), asyncio.ensure_future(_piped(inner[0], outer[1]))]
    try:
        await ways[1]  # the service ends a connection, also one whose other end has nothing more to say
    finally:
        for each in ways:
            each.cancel()
        for _, writer in (outer, inner):
            with suppress(OSError, RuntimeError):
                writer.close()


async def _piped(source: asyncio.StreamReader, target: asyncio.StreamWriter) -> None:
    with suppress(OSError, ssl.SSLError):
        while piece := await source.read(PIECE):
            target.write(piece)
            await target.drain()
        if target.can_write_eof():
            target.write_eof()
