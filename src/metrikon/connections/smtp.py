"""Mail going out (SMTP, RFC 5321): signed in over TLS, at the address that was checked; whether a mail was taken is told apart from what nobody can tell."""

from __future__ import annotations

import ipaddress
import smtplib
import socket
import ssl
from collections.abc import Sequence
from email.message import EmailMessage
from email.policy import SMTP as WIRE
from urllib.parse import urlsplit

from metrikon.connections.fetching import FetchFailed, checked, trusting
from metrikon.core.flows.connecting import Way

PORTS = {"smtp": 587, "smtps": 465}
CONNECTS, ANSWERS = 20, 60  # seconds
DOWN = (OSError, smtplib.SMTPException)


class Sender(smtplib.SMTP):
    """A session whose address was looked up and checked by us."""

    def __init__(self, host: str, port: int, address: str, context: ssl.SSLContext | None) -> None:
        self._address, self._context, self._name = address, context, host
        super().__init__(host, port, timeout=CONNECTS)

    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        made = socket.create_connection((self._address, port), timeout)
        made = self._context.wrap_socket(made, server_hostname=self._name) if self._context is not None else made
        made.settimeout(ANSWERS)
        return made


def signed_in(address: str, way: Way, secret: str, *, private: bool, trusted: str = "") -> Sender:
    """A session that is signed in. Raises `FetchFailed`, with words that a person can act on."""
    parts = urlsplit(address)
    host, scheme = parts.hostname or "", parts.scheme.lower()
    port = parts.port or PORTS[scheme]
    at = checked(host, port, private=private)
    try:
        session = Sender(host, port, at, trusting(trusted) if scheme == "smtps" else None)
    except ssl.SSLError as error:
        raise FetchFailed(f"{host} does not prove to be {host}: {error.reason or 'its certificate is not trusted'}.") from error
    except DOWN as error:
        raise FetchFailed(f"{host}:{port} does not answer as a server that takes mail: {type(error).__name__}.", cause="unreachable") from error
    try:
        session.ehlo_or_helo_if_needed()
        if scheme == "smtp":
            _safely(session, host, at, trusted)
        if way.kind == "basic":
            session.login(way.user, secret)
    except smtplib.SMTPAuthenticationError as error:
        session.close()
        raise FetchFailed(f"{host} does not let {way.user} in: wrong user or secret, or it is no longer valid.", status=401) from error
    except ssl.SSLError as error:
        session.close()
        raise FetchFailed(f"{host} does not prove to be {host}: {error.reason or 'its certificate is not trusted'}.") from error
    except DOWN as error:
        session.close()
        raise FetchFailed(f"{host} broke off while one signed in: {type(error).__name__}.", cause="unreachable") from error
    except BaseException:
        session.close()
        raise
    return session


def _safely(session: Sender, host: str, at: str, trusted: str) -> None:
    """See to it that no mail goes over a network in the clear."""
    if session.has_extn("starttls"):
        session.starttls(context=trusting(trusted))
        session.ehlo()
    elif not ipaddress.ip_address(at.partition("%")[0]).is_loopback:
        raise FetchFailed(f"{host} offers no TLS, and no mail is sent to it in the clear. Use its address with smtps://.")


def told(session: Sender, host: str, user: str) -> str:
    """What a look at a server found: as whom, and how large a mail may be."""
    size = session.esmtp_features.get("size", "")
    largest = f" Mails of up to {int(size) / 1e6:.0f} MB are taken." if size.isdecimal() and int(size) else ""
    return f"{host} takes mail{f' from {user}' if user else ''}.{largest}"


def send(session: Sender, message: EmailMessage, sender: str, to: Sequence[str]) -> dict[str, str]:
    """Hand a mail over; addresses that were refused, each with why. Raises `FetchFailed`: `sent` where nobody can tell whether it was taken."""
    try:
        _good(session.mail(sender), f"mail from {sender}")
        refused: dict[str, str] = {}
        passing = False
        for each in to:
            code, words = session.rcpt(each)
            if code >= 400:
                refused[each] = f"{code} {words.decode('utf-8', 'replace')[:200]}"
                passing = passing or code < 500
        if len(refused) == len(to):
            session.rset()
            told_ = "; ".join(f"{each}: {why}" for each, why in refused.items())
            raise FetchFailed(f"The mail was taken for nobody: {told_}.", cause="busy" if passing else "")
    except smtplib.SMTPException as error:
        raise FetchFailed(f"The server of mails broke off: {error}.", cause="unreachable") from error
    except OSError as error:
        raise FetchFailed(f"The server of mails broke off: {error.strerror or type(error).__name__}.", cause="unreachable") from error
    try:
        _good(session.data(message.as_bytes(policy=WIRE)), "the mail")
    except FetchFailed:
        raise
    except smtplib.SMTPDataError as error:
        raise _refused(error.smtp_code, error.smtp_error, "the mail") from error
    except DOWN as error:
        raise FetchFailed("The connection was lost while the mail was handed over.", cause="unreachable", sent=True) from error
    return refused


def _good(answer: tuple[int, bytes], what: str) -> None:
    code, words = answer
    if code >= 400:
        raise _refused(code, words, what)


def _refused(code: int, words: bytes | str, what: str) -> FetchFailed:
    text = words.decode("utf-8", "replace") if isinstance(words, bytes) else words
    return FetchFailed(f"The server of mails did not take {what}: {code} {text[:200]}.", cause="busy" if code < 500 else "", status=code)
