"""Whom the stand-ins let in."""

from __future__ import annotations

TOKEN = "sandbox-token-1"  # noqa: S105  (of made-up services that listen on this machine alone)
KEY = "sandbox-key-1"  # of the recruiting service, in a header of its own
FORMER_KEY = _FORMER = "sandbox"  # of versions before 0.7, which connections of older folders may still send


def lets_in(authorization: str | None) -> bool:
    """Whether a header lets one in (RFC 6750)."""
    return authorization in (f"Bearer {TOKEN}", f"Bearer {_FORMER}")
