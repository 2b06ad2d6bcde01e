"""Fetching a page or a file by HTTP (RFC 9110): limited in size, type, redirects and time; without cookies.

The name of a host is resolved once, its addresses are looked at, and one of these very addresses is connected to: a name that leads elsewhere a
moment later leads nowhere. Private addresses are refused unless the settings allow them.
"""

from __future__ import annotations

import ipaddress
import logging
import re
import socket
import ssl
import tempfile
import time
from collections.abc import Callable, Hashable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from email.utils import parsedate_to_datetime
from functools import lru_cache
from typing import Protocol
from urllib.parse import parse_qsl, unquote, urlencode, urljoin, urlsplit, urlunsplit
from urllib.robotparser import RobotFileParser

import certifi
import httpx

from metrikon.connections.kept import Kept
from metrikon.connections.through import transport
from metrikon.core.flows.connecting import origin
from metrikon.core.values.masking import Mask

for _library in ("httpx", "httpcore"):
    logging.getLogger(_library).setLevel(logging.WARNING)  # they log whole addresses and headers, and a parameter of these may be a secret

AGENT = "Metrikon"
LARGEST_ROBOTS = 500_000  # bytes (RFC 9309)
_NAME = re.compile(r"filename\*?=(?:UTF-8'')?\"?([^\";]+)", re.I)
UNDONE = (425, 429, 503, 507)  # answers that say that nothing was done (RFC 8470, 6585, 9110, 4918)
NOT_SENT = (httpx.ConnectError, httpx.ConnectTimeout, httpx.PoolTimeout, httpx.UnsupportedProtocol, httpx.ProxyError)
Resolve = Callable[[str, int], list[str]]


class FetchFailed(Exception):
    """Nothing was fetched; the message says why. `cause`: "busy", "slow" or "unreachable" where trying later may help, after `wait` seconds if that was
    said; "turn" where it was not asked for, since it was not one's turn. `status`: what was answered, 0 where nothing was. `sent`: what was asked may have
    been done all the same: the answer was lost, or tells of an error of the server. `told`: the beginning of what was answered; `headers`: those of the answer, by
    small letters.
    """

    def __init__(
        self,
        message: str,
        *,
        cause: str = "",
        wait: float | None = None,
        status: int = 0,
        sent: bool = False,
        told: str = "",
        headers: Mapping[str, str] | None = None,
    ) -> None:
        super().__init__(message)
        self.headers = headers or {}
        self.sent = sent
        self.told = told
        self.status = status
        self.cause = cause
        self.wait = wait


class SentAlong(Protocol):
    """Headers and parameters that are sent to one origin (scheme, host, port), and to no other that it leads on to."""

    @property
    def to(self) -> tuple[str, str, int]: ...

    @property
    def headers(self) -> Mapping[str, str]: ...

    @property
    def parameters(self) -> Mapping[str, str]: ...

    @property
    def certificate(self) -> str:
        """That of the client, with its key (PEM); empty for none."""
        ...

    @property
    def secrets(self) -> Sequence[str]:
        """What of it no other origin may get."""
        ...


@dataclass(frozen=True)
class Wanted:
    """What is to be fetched, and its limits. `types`: beginnings of media types that are taken, all when empty; `known`: validators of what is kept."""

    url: str
    most_bytes: int = 20_000_000
    seconds: float = 30.0
    redirects: int = 5
    types: Sequence[str] = ()
    robots: bool = False
    private: bool = False
    known: Mapping[str, str] = field(default_factory=dict)
    signed: SentAlong | None = None
    connection: str = ""  # by which it is signed in
    method: str = "GET"
    body: bytes | None = None
    more: Mapping[str, str] = field(default_factory=dict)  # headers
    good: tuple[int, ...] = (200,)  # statuses that are an answer
    trusted: str = ""  # a file of certificates that are trusted besides those that everybody trusts
    drawn: bool = False  # by a browser, with what its scripts make of it
    twice: bool = False  # it may be asked twice without harm: one of `kept` is used, and where that turns out to be closed another one
    kept: Kept | None = None  # connections that are open already
    proxy: str = ""  # the address of one through which is called; the address of the host is checked all the same

    @property
    def kept_as(self) -> str:
        """Under what it is kept: what comes by one connection is not given to what comes by another, or by none."""
        drawn = "drawn " if self.drawn else ""
        return f"{drawn}{self.connection} {self.url}" if self.connection else f"{drawn}{self.url}"


@dataclass(frozen=True)
class Fetched:
    """What came: None as `data` where it is still as it was. `validators`: headers by which it is asked for again."""

    url: str
    status: int
    media: str
    name: str
    data: bytes | None
    validators: Mapping[str, str]
    links: str = ""  # its Link header (RFC 8288)
    headers: Mapping[str, str] = field(default_factory=dict)  # by their names in small letters


def fetch(wanted: Wanted, resolve: Resolve | None = None) -> Fetched:
    """Fetch a page or a file. Raises `FetchFailed`."""
    until = time.monotonic() + wanted.seconds
    url, looked_up = wanted.url, resolve or resolved
    for _ in range(wanted.redirects + 1):
        if wanted.robots and not allowed(url, wanted, looked_up, until):
            raise FetchFailed(f"{url} is not fetched: the robots.txt of its host asks not to.")
        answer = _once(url, wanted, looked_up, until)
        if not isinstance(answer, str):
            return answer
        url = _led_on(url, answer, wanted.signed)
    raise FetchFailed(f"{wanted.url} leads on more than {wanted.redirects} times.")


def _led_on(url: str, to: str, signed: SentAlong | None) -> str:
    """The address that another leads on to, without what signs in. Raises `FetchFailed` where it would carry a secret to another origin."""
    if signed is None:
        return to
    parts = urlsplit(to)
    pairs = parse_qsl(parts.query, keep_blank_values=True)
    kept = [(name, value) for name, value in pairs if signed.parameters.get(name) != value]
    bare = urlunsplit(parts._replace(query=urlencode(kept))) if kept != pairs else to
    if origin(bare) != signed.to and Mask(signed.secrets).holds(bare):
        raise FetchFailed(f"{url} leads on to {origin(bare)[1]} with the secret of the connection in the address. It is not followed.")
    return bare


def posted(url: str, form: Mapping[str, str], headers: Mapping[str, str], *, private: bool, seconds: float = 20.0, most: int = 100_000) -> Fetched:
    """What a form that is sent comes back with, whatever its status; nothing that it leads on to is followed. Raises `FetchFailed`."""
    wanted = Wanted(url, most, seconds, private=private)
    host, port, address = address_of(url, wanted, resolved)
    target, sent = _target(url, host, port, address)
    try:
        with (
            httpx.Client(trust_env=False, follow_redirects=False, timeout=seconds) as client,
            client.stream("POST", target, data=dict(form), headers={**sent, **headers}, extensions={"sni_hostname": host}) as response,
        ):
            data = b""
            for part in response.iter_bytes():
                data += part
                if len(data) > most:
                    raise FetchFailed(f"{url} answers with more than {most:,} bytes.")
            return Fetched(url, response.status_code, "", "", data, {})
    except httpx.TimeoutException as error:
        raise FetchFailed(f"{url} did not answer in time.", cause="slow") from error
    except httpx.HTTPError as error:
        raise FetchFailed(f"{url} could not be reached: {type(error).__name__}.", cause="unreachable") from error


def trusting(trusted: str, own: str = "") -> ssl.SSLContext:
    """A context of TLS that trusts a file of certificates besides the usual ones, with a certificate of one's own (PEM, with its key). Raises `FetchFailed`."""
    try:
        context = ssl.create_default_context(cafile=certifi.where())
        if trusted:
            context.load_verify_locations(trusted)
        if own:
            with tempfile.NamedTemporaryFile("w", prefix="metrikon-", suffix=".pem") as file:  # of mode 600; the library reads files alone
                file.write(own)
                file.flush()
                context.load_cert_chain(file.name)
    except (OSError, ssl.SSLError) as error:
        what = "The certificate of this connection with its key" if own else f"The file {trusted} of trusted certificates"
        raise FetchFailed(f"{what} cannot be used: {getattr(error, 'reason', None) or type(error).__name__}.") from error
    return context


def resolved(host: str, port: int) -> list[str]:
    """The addresses of a host. Raises OSError."""
    return [str(each[4][0]) for each in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)]


def address_of(url: str, wanted: Wanted, resolve: Resolve) -> tuple[str, int, str]:
    """Host, port and the address that is connected to. Raises `FetchFailed`."""
    if any(ord(sign) < 32 or ord(sign) == 127 for sign in url):
        raise FetchFailed(f"{url[:200]!r} is no address of a page: it has control characters in it.")
    try:
        parts = urlsplit(url)
        host, port = parts.hostname or "", parts.port or (443 if parts.scheme == "https" else 80)
    except ValueError as error:
        raise FetchFailed(f"{url!r} is no address of a page.") from error
    if parts.scheme not in ("http", "https") or not host:
        raise FetchFailed(f"{url!r} is no address of a page; give one that begins with https:// or http://.")
    if parts.username or parts.password:
        raise FetchFailed("The address holds a name or a password. Take it out.")
    return host, port, checked(host, port, private=wanted.private, resolve=resolve)


def checked(host: str, port: int, *, private: bool, resolve: Resolve | None = None) -> str:
    """The address of a host that is connected to; all of them must be allowed. Raises `FetchFailed`."""
    try:
        found = (resolve or resolved)(host, port)
    except (OSError, UnicodeError) as error:
        raise FetchFailed(f"The host {host} cannot be found.", cause="unreachable") from error
    for each in found:
        if not private and not _public(each):
            raise FetchFailed(f"{host} is at {each}, an address of a private network. The setting fetch_private allows these.")
    if not found:
        raise FetchFailed(f"The host {host} has no address.", cause="unreachable")
    return found[0]


_NAT64 = ipaddress.ip_network("64:ff9b::/96")  # RFC 6052, 2.1
_LOCAL = tuple(
    ipaddress.ip_network(each)
    for each in ("64:ff9b:1::/48", "fec0::/10", "::ffff:0:0:0/96", "2001::/32", "5f00::/16")  # RFC 8215, 3879, 7915, 4380, 9602
)


def _public(address: str) -> bool:
    """Whether an address is one of the open network, and whichever IPv4 address it holds within it as well."""
    found = ipaddress.ip_address(address.partition("%")[0])
    if not found.is_global or found.is_multicast or any(found in each for each in _LOCAL if each.version == found.version):
        return False
    inner = _within(found) if isinstance(found, ipaddress.IPv6Address) else None
    return inner is None or (inner.is_global and not inner.is_multicast)


def _within(address: ipaddress.IPv6Address) -> ipaddress.IPv4Address | None:
    """The IPv4 address that one of IPv6 stands for: mapped, 6to4, translated, compatible (RFC 4291, 3056, 6052)."""
    if address in _NAT64 or int(address) >> 32 == 0:
        return ipaddress.IPv4Address(int(address) & 0xFFFFFFFF)
    return address.ipv4_mapped or address.sixtofour


def _once(url: str, wanted: Wanted, resolve: Resolve, until: float) -> Fetched | str:
    """What came, or the address that it leads on to."""
    host, port, address = address_of(url, wanted, resolve)
    target, sent = _target(url, host, port, address)
    headers = {**sent, **wanted.known, **wanted.more}
    if wanted.signed is not None and wanted.signed.to == origin(url):
        headers |= wanted.signed.headers
        target = target.copy_merge_params(dict(wanted.signed.parameters)) if wanted.signed.parameters else target
    left = until - time.monotonic()
    if left <= 0:
        raise FetchFailed(f"{url} did not come within {wanted.seconds:g} seconds.", cause="slow")
    own = wanted.signed.certificate if wanted.signed is not None and wanted.signed.to == origin(url) else ""

    def client() -> httpx.Client:
        verify = trusting(wanted.trusted, own) if wanted.trusted or own else _usual()
        carried = transport(wanted.proxy, verify) if wanted.proxy else None
        return httpx.Client(trust_env=False, follow_redirects=False, verify=verify, transport=carried)

    def ask(by: httpx.Client) -> Fetched | str:
        name, patience = {"sni_hostname": host}, min(left, 20.0)
        with by.stream(wanted.method, target, headers=headers, content=wanted.body, timeout=patience, extensions=name) as response:
            return _taken(url, response, wanted, until)

    try:
        if wanted.twice and wanted.kept is not None:
            with suppress(_Closed):
                return _by_kept(wanted.kept, (target.scheme, target.host, target.port, host, wanted.trusted, wanted.proxy, own), client, ask)
        with client() as one:
            return ask(one)
    except httpx.TimeoutException as error:
        raise FetchFailed(f"{url} did not answer in time.", cause="slow", sent=not isinstance(error, NOT_SENT)) from error
    except httpx.HTTPError as error:
        raise FetchFailed(f"{url} could not be fetched: {_why(error, wanted)}.", cause="unreachable", sent=not isinstance(error, NOT_SENT)) from error


class _Closed(Exception):
    """A connection that was kept open has been closed at its other end."""


def _by_kept(kept: Kept, place: Hashable, make: Callable[[], httpx.Client], ask: Callable[[httpx.Client], Fetched | str]) -> Fetched | str:
    with kept.client(place, make) as (client, used):
        try:
            return ask(client)
        except (httpx.RemoteProtocolError, httpx.ReadError, httpx.WriteError) as error:
            if used:
                raise _Closed from error
            raise


@lru_cache(maxsize=1)
def _usual() -> ssl.SSLContext:
    """A context of TLS that trusts the usual certificates: reading these takes longer than many a call."""
    return trusting("")


def _why(error: Exception, wanted: Wanted) -> str:
    """What the library says of it; where something secret was sent along only the kind of error, since it may quote that."""
    return str(error) if wanted.signed is None else type(error).__name__


def _target(url: str, host: str, port: int, address: str) -> tuple[httpx.URL, dict[str, str]]:
    """The address that is connected to, and the headers that say which host is meant."""
    usual = port == (443 if urlsplit(url).scheme == "https" else 80)
    name = f"[{host}]" if ":" in host else host
    target = httpx.URL(url).copy_with(host=address, port=None if usual else port)
    return target, {"Host": name if usual else f"{name}:{port}", "User-Agent": AGENT, "Accept-Encoding": "gzip, deflate"}


def _taken(url: str, response: httpx.Response, wanted: Wanted, until: float) -> Fetched | str:
    status = response.status_code
    if status in (301, 302, 303, 307, 308) and response.headers.get("location"):
        return urljoin(url, response.headers["location"])
    if status == 304 and wanted.known:
        return Fetched(url, status, "", "", None, {})
    if status not in wanted.good and (status in (408, 425, 429) or status >= 500):
        cause = "busy" if status in (425, 429, 503) else "slow" if status in (408, 504) else "unreachable"
        wait = _wait(response.headers.get("retry-after"))
        message, told = f"{url} answered {status}.", _begins(response)
        raise FetchFailed(message, cause=cause, wait=wait, status=status, sent=status not in UNDONE, told=told, headers=_headers(response))
    if status not in wanted.good:
        raise FetchFailed(f"{url} answered {status} {response.reason_phrase}.", status=status, told=_begins(response))
    media = response.headers.get("content-type", "").partition(";")[0].strip().lower()
    if wanted.types and not any(media.startswith(each.lower()) for each in wanted.types):
        raise FetchFailed(f"{url} is {media or 'of no type that it tells'}; wanted is {' or '.join(wanted.types)}.")
    told = response.headers.get("content-length", "")
    if told.isdecimal() and int(told) > wanted.most_bytes:
        raise FetchFailed(f"{url} has {int(told) / 1e6:.1f} MB; at most {wanted.most_bytes / 1e6:.1f} MB are fetched.")
    data = bytearray()
    for part in response.iter_bytes(65_536):
        data += part
        if len(data) > wanted.most_bytes:
            raise FetchFailed(f"{url} has more than the {wanted.most_bytes / 1e6:.1f} MB that are fetched.")
        if time.monotonic() > until:
            raise FetchFailed(f"{url} did not come within {wanted.seconds:g} seconds.", cause="slow")
    pairs = (("If-None-Match", "etag"), ("If-Modified-Since", "last-modified"))
    validators = {ask: response.headers[told] for ask, told in pairs if response.headers.get(told)}
    return Fetched(
        url,
        status,
        media,
        _named(url, response.headers.get("content-disposition", "")),
        bytes(data),
        validators,
        response.headers.get("link", "")[:4000],
        _headers(response),
    )


def _headers(response: httpx.Response) -> dict[str, str]:
    return {name.lower(): value[:1000] for name, value in response.headers.items()}


def _begins(response: httpx.Response) -> str:
    """The beginning of what a server says of an error."""
    try:
        return next(response.iter_bytes(4000), b"")[:4000].decode("utf-8", "replace")
    except httpx.HTTPError:
        return ""


def _named(url: str, disposition: str) -> str:
    """What the file is called: as its server says, or by the end of its address."""
    told = _NAME.search(disposition)
    name = unquote(told.group(1)) if told else unquote(urlsplit(url).path.rstrip("/").rpartition("/")[2])
    return "".join(c for c in name.replace("\\", "/").rpartition("/")[2] if c.isprintable()).strip()[:200] or "page"


def _wait(told: str | None) -> float | None:
    """Seconds that a server asks to wait (RFC 9110, 10.2.3)."""
    if not told:
        return None
    if told.strip().isdecimal():
        return float(told)
    try:
        return max(0.0, parsedate_to_datetime(told).timestamp() - time.time())
    except (ValueError, TypeError):
        return None


def allowed(url: str, wanted: Wanted, resolve: Resolve, until: float) -> bool:
    """Whether the robots.txt of a host lets us fetch a page (RFC 9309): none there, or none that comes, allows all."""
    parts = urlsplit(url)
    place = f"{parts.scheme}://{parts.netloc}/robots.txt"
    try:
        found = _once(place, Wanted(place, LARGEST_ROBOTS, wanted.seconds, private=wanted.private), resolve, until)
    except FetchFailed as error:
        return not error.cause  # a server that is in trouble is left alone
    if isinstance(found, str) or found.data is None:
        return True
    robots = RobotFileParser()
    robots.parse(found.data.decode("utf-8", "replace").splitlines())
    return robots.can_fetch(AGENT, url)
