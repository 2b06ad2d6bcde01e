"""Mail and web addresses in one form (RFC 5321, RFC 3986)."""

from __future__ import annotations

import re
from urllib.parse import urlsplit, urlunsplit

_MAIL = re.compile(r"^[A-Za-z0-9.!#$%&'*+/=?^_`{|}~-]{1,64}@(?:[A-Za-z0-9-]{1,63}\.)+[A-Za-z]{2,24}$")
_HOST = re.compile(r"^(?:[a-z0-9-]{1,63}\.)+[a-z]{2,24}$")


def parse_mail(text: str) -> str | None:
    """A mail address with its domain in small letters, or None: "Ada <Ada@Garden.Example>" gives Ada@garden.example."""
    inner = re.search(r"<([^<>]{3,200})>", text)
    body = (inner.group(1) if inner else text).strip(" .,;()").removeprefix("mailto:")
    if not _MAIL.match(body) or ".." in body:
        return None
    name, domain = body.rsplit("@", 1)
    return f"{name}@{domain.lower()}"


def parse_address(text: str) -> str | None:
    """A web address with its scheme and a host in small letters, or None: "www.Garden.example/a" gives https://www.garden.example/a."""
    body = text.strip(" .,;()<>")
    if not body or len(body) > 2000 or any(c.isspace() for c in body):
        return None
    try:
        parts = urlsplit(body if "://" in body else f"https://{body}")
        host = (parts.hostname or "").encode("idna").decode() if parts.hostname else ""
        port = f":{parts.port}" if parts.port else ""
    except (ValueError, UnicodeError):
        return None
    if parts.scheme not in ("http", "https") or not _HOST.match(host):
        return None
    return urlunsplit((parts.scheme, host + port, parts.path if parts.path != "/" else "", parts.query, ""))
