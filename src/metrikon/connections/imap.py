"""Mail servers (IMAP4rev1, RFC 3501): signed in over TLS, at the address that was checked."""

from __future__ import annotations

import imaplib
import ipaddress
import logging
import socket
import ssl
from urllib.parse import urlsplit

from imapclient import IMAPClient, SocketTimeout
from imapclient.exceptions import IMAPClientError, LoginError

from metrikon.connections.fetching import FetchFailed, checked, trusting
from metrikon.core.flows.connecting import Way

logging.getLogger("imapclient").setLevel(logging.WARNING)  # it logs what is sent, and a password is among that
PORTS = {"imap": 143, "imaps": 993}
TIMES = SocketTimeout(connect=20, read=60)  # seconds
DOWN = (OSError, IMAPClientError, imaplib.IMAP4.error, EOFError)  # what a lost connection may raise


class _Plain(imaplib.IMAP4):
    """A connection to an address that was checked."""

    def __init__(self, address: str, port: int, context: ssl.SSLContext | None, name: str) -> None:
        self._context, self._name = context, name
        super().__init__(address, port, timeout=TIMES.connect)

    def _create_socket(self, timeout: float | None) -> socket.socket:
        made = socket.create_connection((self.host, self.port), timeout)
        return self._context.wrap_socket(made, server_hostname=self._name) if self._context is not None else made


class Mailserver(IMAPClient):  # type: ignore[misc]
    """A client whose address was looked up and checked by us."""

    def __init__(self, host: str, port: int, address: str, *, tls: bool, trusted: str = "") -> None:
        self.address, self.trusted = address, trusted
        super().__init__(host, port, ssl=tls, timeout=TIMES, ssl_context=trusting(trusted) if tls else None)

    def _create_IMAP4(self) -> imaplib.IMAP4:
        return _Plain(self.address, self.port, self.ssl_context if self.ssl else None, self.host)


def signed_in(address: str, way: Way, secret: str, *, private: bool, trusted: str = "") -> Mailserver:
    """A client that is signed in. Raises `FetchFailed`, with words that a person can act on."""
    parts = urlsplit(address)
    host, scheme = parts.hostname or "", parts.scheme.lower()
    port = parts.port or PORTS[scheme]
    try:
        client = Mailserver(host, port, checked(host, port, private=private), tls=scheme == "imaps", trusted=trusted)
    except ssl.SSLError as error:
        raise FetchFailed(f"{host} does not prove to be {host}: {error.reason or 'its certificate is not trusted'}.") from error
    except DOWN as error:
        raise FetchFailed(f"{host}:{port} does not answer as a mail server: {type(error).__name__}.", cause="unreachable") from error
    try:
        _sign_in(client, host, way, secret)
    except BaseException:
        client.shutdown()
        raise
    return client


def _sign_in(client: Mailserver, host: str, way: Way, secret: str) -> None:
    try:
        _safely(client, host)
        if way.kind in ("bearer", "client", "consent"):
            client.oauthbearer_login(way.user, secret)
        elif way.kind == "basic":
            client.login(way.user, secret)
        else:
            raise FetchFailed(f"A mail server wants a user and a password, or a token; the connection signs in by {way.kind!r}.")
    except LoginError as error:
        raise FetchFailed(f"{host} does not let {way.user or 'the token'} in: wrong user or secret, or it is no longer valid.") from error
    except ssl.SSLError as error:
        raise FetchFailed(f"{host} does not prove to be {host}: {error.reason or 'its certificate is not trusted'}.") from error
    except DOWN as error:
        raise FetchFailed(f"{host} broke off while one signed in: {type(error).__name__}.", cause="unreachable") from error


def _safely(client: Mailserver, host: str) -> None:
    """See to it that no password goes over a network in the clear."""
    if client.ssl:
        return
    if client.has_capability("STARTTLS"):
        client.starttls(trusting(client.trusted))
    elif not ipaddress.ip_address(client.address.partition("%")[0]).is_loopback:
        raise FetchFailed(f"{host} offers no TLS, and no password is sent to it in the clear. Use its address with imaps://.")


def folders(client: Mailserver) -> list[str]:
    """The folders of a mailbox that hold mails."""
    return [str(name) for flags, _, name in client.list_folders() if b"\\Noselect" not in flags]


def told(client: Mailserver, host: str, user: str) -> str:
    """What a look at a mail server found: as whom, how many folders, what it can do."""
    names = folders(client)
    tells = "it tells when a mail comes" if client.has_capability("IDLE") else "it is asked again and again, since it does not tell when a mail comes"
    return f"{host} let {user or 'the token'} in; {tells}. Folders: {', '.join(names[:12])}{' and others' if len(names) > 12 else ''}."
