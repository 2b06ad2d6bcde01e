"""A proxy on loopback for a browser of ours: whatever a page asks for, hosts are looked up here, and only addresses that are allowed are connected to.

It speaks HTTP/1.1 proxying (RFC 9110): CONNECT for TLS, absolute addresses for the rest. Bytes are counted, and stop where the limit is. TLS ends here, at a
key of its own that the browser is told of, and begins anew: certificates are checked as for all else that is fetched, those of one's own network among them.
"""

from __future__ import annotations

import base64
import contextlib
import hashlib
import re
import select
import socket
import socketserver
import ssl
import tempfile
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from urllib.parse import urlsplit

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat
from cryptography.x509.oid import NameOID

from metrikon.connections.fetching import FetchFailed, checked, trusting
from metrikon.connections.through import tunnel
from metrikon.core.values.masking import Mask

_NOTHING = b"HTTP/1.1 502 Bad Gateway\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
_TLS = b"\x16"  # how a handshake begins (RFC 8446, 5.1)
HEAD, STEP, IDLE = 65_536, 65_536, 30.0  # bytes of a request's head, of a piece; seconds without any
BODY = 4_000_000  # bytes of a request that are looked at for a secret
_LENGTH = re.compile(rb"\r\ncontent-length:\s*(\d{1,12})", re.I)


class Guard:
    """The proxy. `most`: bytes that may come in; `trusted`: a file of certificates that are trusted besides the usual ones; `refused`: hosts that were not
    connected to, each with why; `key`: that which it shows the browser, as the SHA-256 of its public half in base64 (RFC 7469, 2.4)."""

    def __init__(self, *, private: bool, most: int, trusted: str = "", proxy: str = "") -> None:
        self.private, self.left, self._proxy = private, most, proxy
        self._kept_in: tuple[tuple[str, int], Mask] | None = None
        self.outward = trusting(trusted)
        self.inward, self.key = _own_key()
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

    def keep_in(self, host: str, port: int, mask: Mask) -> None:
        """From now on what holds a secret goes to this host alone."""
        self._kept_in = ((host, port), mask)

    def leaks(self, host: str, port: int, request: bytes, *, unknown: bool) -> bool:
        """Whether a request carries a secret to a host that it is not for, or may: of another protocol nothing can be looked at."""
        if self._kept_in is None or self._kept_in[0] == (host, port):
            return False
        return unknown or b"\r\nupgrade:" in request[:HEAD].lower() or self._kept_in[1].data(request) != request

    @property
    def keeps(self) -> bool:
        """Whether there is a secret that may not leave."""
        return self._kept_in is not None

    def connected(self, address: str, port: int) -> socket.socket:
        """A connection to an address that was checked. Raises OSError."""
        return tunnel(self._proxy, address, port, 10) if self._proxy else socket.create_connection((address, port), 10)

    def fresh(self) -> None:
        """End the connections that are open: what is asked next goes over one of its own. A browser repeats a request by itself, unasked, when one that it
        used before turns out to be closed; over a new one it never does."""
        with self._lock:
            for each in self._open:
                with contextlib.suppress(OSError):
                    each.shutdown(socket.SHUT_RDWR)
            self._open.clear()

    @contextmanager
    def open(self, own: socket.socket) -> Iterator[None]:
        """While a connection of the browser is open."""
        with self._lock:
            self._open.add(own)
        try:
            yield
        finally:
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
        with contextlib.suppress(OSError, ValueError), guard.open(own):
            head, rest = _head(own)
            method, target, _ = head.partition(b"\r\n")[0].decode("latin-1").split(" ")
            if method != "CONNECT":
                parts = urlsplit(target)
                if parts.scheme != "http":
                    raise ValueError(target)
                path = f"{parts.path or '/'}{'?' + parts.query if parts.query else ''}".encode("latin-1")
                head = head.replace(target.encode("latin-1"), path, 1)
                _asked(own, guard, parts.hostname or "", parts.port or 80, _once(head) + rest)
                return
            parts = urlsplit(f"//{target}")
            if not _may(own, guard, parts.hostname or "", parts.port or 443):
                return
            own.sendall(b"HTTP/1.1 200 Connected\r\n\r\n")
            if own.recv(1, socket.MSG_PEEK) != _TLS:
                _asked(own, guard, parts.hostname or "", parts.port or 443, b"", through=True)
                return
            with guard.inward.wrap_socket(own, server_side=True) as inner, guard.open(inner):
                head, rest = _head(inner)
                _asked(inner, guard, parts.hostname or "", parts.port or 443, _once(head) + rest, secure=True)
                inner.unwrap()


def _may(own: socket.socket, guard: Guard, host: str, port: int) -> str:
    """The address of a host that may be connected to; nothing, and the browser is told, for one that may not."""
    try:
        return checked(host, port, private=guard.private)
    except FetchFailed as error:
        _refuse(own, guard, host, str(error))
        return ""


def _refuse(own: socket.socket, guard: Guard, host: str, why: str) -> None:
    guard.refused[host] = why
    own.sendall(b"HTTP/1.1 403 Forbidden\r\nContent-Length: 0\r\nConnection: close\r\n\r\n")


def _whole(own: socket.socket, request: bytes) -> bytes:
    """A request with its body, as far as that is looked at."""
    head, _, rest = request.partition(b"\r\n\r\n")
    told = _LENGTH.search(head)
    wanted = min(int(told.group(1)), BODY) if told else 0
    parts = [request]
    left = wanted - len(rest)
    while left > 0 and (part := own.recv(min(STEP, left))):
        parts.append(part)
        left -= len(part)
    return b"".join(parts)


def _asked(own: socket.socket, guard: Guard, host: str, port: int, request: bytes, *, secure: bool = False, through: bool = False) -> None:
    """Hand a request to a host, and pass on what it answers. `through`: bytes of another protocol, of which nothing is known."""
    address = _may(own, guard, host, port)
    if not address:
        return
    if guard.keeps:
        request = request if through else _whole(own, request)
    if guard.leaks(host, port, request, unknown=through):
        _refuse(own, guard, f"{host}:{port}", f"{host} is not sent the secret of the connection, which is for its own program alone.")
        return
    try:
        with contextlib.ExitStack() as stack:
            other = stack.enter_context(guard.connected(address, port))
            other = stack.enter_context(guard.outward.wrap_socket(other, server_hostname=host)) if secure else other
            other.settimeout(IDLE)
            other.sendall(request)
            if _passed_on(own, other, guard) or through:
                return
    except ssl.SSLCertVerificationError as error:
        guard.refused[host] = f"The certificate of {host} is not trusted: {error.verify_message}."
    except OSError:
        pass
    own.sendall(_NOTHING)  # an end without a word would have the browser ask again


def _once(head: bytes) -> bytes:
    """The head of a request, for a connection that serves one alone; of one that is to become something else (RFC 9110, 7.8) as it is."""
    lines = head.split(b"\r\n")
    if any(each.lower().startswith(b"upgrade:") for each in lines):
        return head + b"\r\n\r\n"
    kept = [each for each in lines if not each.lower().startswith((b"proxy-", b"connection:"))]
    return b"\r\n".join([*kept, b"Connection: close", b"", b""])


def _own_key() -> tuple[ssl.SSLContext, str]:
    """A key with a certificate that nobody else has, for TLS with a browser on this machine; and the hash by which that knows it."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "metrikon")])
    now = datetime.now(UTC)
    made = x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key()).serial_number(x509.random_serial_number())
    certificate = made.not_valid_before(now - timedelta(days=1)).not_valid_after(now + timedelta(days=30)).sign(key, hashes.SHA256())
    private = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    with tempfile.NamedTemporaryFile("wb", prefix="metrikon-", suffix=".pem") as file:  # of mode 600; the library reads files alone
        file.write(private + certificate.public_bytes(Encoding.PEM))
        file.flush()
        context.load_cert_chain(file.name)
    public = key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return context, base64.b64encode(hashlib.sha256(public).digest()).decode()


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
        held = [each for each in (own, other) if isinstance(each, ssl.SSLSocket) and each.pending()]  # read already, so that nothing wakes for it
        ready = held or select.select([own, other], [], [], IDLE)[0]
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
