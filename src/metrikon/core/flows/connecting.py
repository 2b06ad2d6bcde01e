"""What a connection is, as far as flows and people see it: an address and a way of signing in; its secret is never part of it."""

from __future__ import annotations

import re
from urllib.parse import urlsplit

import msgspec

from metrikon.core.values.masking import SHORTEST

WAYS = {
    "none": "nothing is sent",
    "bearer": "the secret as a bearer token (RFC 6750)",
    "basic": "user and password (RFC 7617); the secret is the password",
    "header": "the secret in a header of its own",
    "query": "the secret as a parameter of the address",
    "signed": "each call is signed (Standard Webhooks); the secret is its key, such as whsec_…",
    "certificate": "a certificate of the client (TLS); the secret is the certificate and its key, one after the other (PEM)",
    "client": "OAuth 2, client credentials (RFC 6749, 4.4); the secret is that of the client",
    "consent": "OAuth 2, with a person's consent (RFC 6749, 4.1, with PKCE, RFC 7636); the secret is that of the client, if it has one",
}


MAIL = ("imaps", "imap")  # servers of mailboxes
SENDERS = ("smtps", "smtp")  # servers that take mail
DATABASES = {"postgresql": 5432, "mariadb": 3306}  # servers of databases, with the port that each has by custom
SCHEMES = ("https", "http", *MAIL, *SENDERS, *DATABASES)
_HEADER = re.compile(r"[A-Za-z0-9!#$%&'*+.^_`|~-]+")  # RFC 9110, 5.1


class Way(msgspec.Struct, frozen=True, omit_defaults=True):
    """How one signs in. `user`: of basic, or the id of an OAuth 2 client; `name`: of the header or parameter; `token_url`, `scope`: of OAuth 2; `consent_url`: where a person consents."""

    kind: str = "none"
    user: str = ""
    name: str = ""
    token_url: str = ""
    scope: str = ""
    consent_url: str = ""

    def wrong(self) -> str:
        """What is missing or wrong; nothing when it can be used."""
        if self.kind not in WAYS:
            return f"There is no way {self.kind!r} of signing in. Known: {', '.join(WAYS)}."
        wants = {
            "basic": ("user",),
            "header": ("name",),
            "query": ("name",),
            "client": ("user", "token_url"),
            "consent": ("user", "token_url", "consent_url"),
        }.get(self.kind, ())
        missing = [each for each in wants if not getattr(self, each)]
        if missing:
            return f"The way {self.kind} wants {' and '.join(missing)} as well."
        if not (self.name + self.user).isprintable() or (self.kind == "header" and not _HEADER.fullmatch(self.name)):
            return "A user is plain text in one line, and the name of a header has letters, figures and hyphens alone."
        if self.kind == "basic" and ":" in self.user:
            return "A user has no colon in it (RFC 7617)."
        for url in (self.token_url, self.consent_url) if self.kind in ("client", "consent") else ():
            if url and not url.startswith(("https://", "http://")):
                return f"{url!r} is no address of a page."
        return wrong_address(self.token_url) if self.kind in ("client", "consent") else ""

    def wrong_secret(self, secret: str) -> str:
        """Why a secret cannot be sent so; nothing when it can. It is never told itself."""
        if self.kind in ("bearer", "header") and (not secret.isascii() or not secret.isprintable() or secret != secret.strip()):
            return "The secret is sent in a header: it has plain ASCII characters in one line, and no blanks around it. Was it cut from somewhere with more?"
        if secret and len(secret) < SHORTEST:
            return f"The secret has less than {SHORTEST} characters: it could not be told from other words where an answer shows it. Have a longer one set at the service."
        if self.kind == "certificate" and secret and not ("BEGIN CERTIFICATE" in secret and "PRIVATE KEY" in secret):
            return "The secret of this way holds a certificate and its key, one after the other, as PEM has it."
        return ""


def wrong_address(address: str) -> str:
    """What is wrong with the address of a connection; nothing when it can be used."""
    if not address.isprintable() or any(sign.isspace() for sign in address):
        return f"{address[:200]!r} is no address: it has blanks or line breaks in it."
    try:
        parts = urlsplit(address)
        _ = parts.port
    except ValueError:
        return f"{address!r} is no address."
    if parts.scheme not in SCHEMES or not parts.hostname:
        if re.fullmatch(r"[\w-]+(\.[\w-]+)+(:\d+)?(/\S*)?", address):
            return f"{address!r} does not say how it is reached. Is https://{address} meant, or imaps://{address} for a mailbox?"
        return f"{address!r} is no address; give one that begins with {' or '.join(f'{each}://' for each in SCHEMES)}."
    if parts.scheme in (*MAIL, *SENDERS) and parts.path.strip("/"):
        return "The address of a mail server has no path: its folder is said by the intake."
    if parts.scheme in DATABASES and not re.fullmatch(r"/[^/]+", parts.path):
        return f"The address of a database ends with its name, such as {parts.scheme}://{parts.hostname}/ledger."
    if parts.username or parts.password:
        return "The address holds a name or a password. Give the password as the secret."
    return "The address holds parameters or a part after #. Leave them out." if parts.query or parts.fragment else ""


def unfit(address: str, way: Way) -> str:
    """Why one cannot sign in so at an address; nothing when one can."""
    if urlsplit(address).scheme in MAIL and way.kind not in ("basic", "bearer", "client", "consent"):
        return "At a mail server one signs in with a user and a password (basic), or with a token (bearer, client)."
    if urlsplit(address).scheme in SENDERS and way.kind not in ("basic", "none"):
        return "At a server that takes mail one signs in with a user and a password (basic), or not at all."
    if urlsplit(address).scheme in DATABASES and way.kind != "basic":
        return "At a database one signs in with a user and a password (basic)."
    if way.kind == "certificate" and urlsplit(address).scheme != "https":
        return "A certificate is shown over TLS alone: the address begins with https://."
    return ""


def origin(address: str) -> tuple[str, str, int]:
    """Scheme, host and port: a secret goes nowhere else (RFC 6454)."""
    parts = urlsplit(address)
    scheme = parts.scheme.lower()
    return scheme, (parts.hostname or "").lower(), parts.port or {"https": 443, **DATABASES}.get(scheme, 80)


def joined(address: str, path: str) -> str:
    """The address of something under a connection: the path after its address, or a whole address of the same origin. Raises ValueError for any other."""
    if path.startswith(("http://", "https://")):
        if origin(path) != origin(address):
            raise ValueError(f"{path} is not at {address}, and the connection signs in nowhere else.")
        return path
    found = f"{address.rstrip('/')}/{path.lstrip('/')}" if path else address
    if origin(found) != origin(address):
        raise ValueError(f"{path!r} leads away from {address}.")
    return found
