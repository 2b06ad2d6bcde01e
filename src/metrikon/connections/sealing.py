"""Secrets sealed at rest: AES-256-GCM (NIST SP 800-38D), bound to the name of what they belong to, under a key that stands in a file or the environment.

A key file holds one key a line, the newest first: while keys are changed it holds two, so that nothing is lost whenever that is cut off.
"""

from __future__ import annotations

import base64
import binascii
import os
from collections.abc import Sequence
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

FILE = "secret.key"
LENGTH, NONCE = 32, 12  # bytes


class CannotOpen(Exception):
    """A sealed secret cannot be opened: the key is another one, or it was changed."""


class BadKey(ValueError):
    """A key that cannot be used; the message says why."""


class Sealing:
    """Seals and opens. `keys`: the newest first."""

    def __init__(self, keys: Sequence[bytes]) -> None:
        self._keys = [AESGCM(key) for key in keys]

    def seal(self, secret: str, of: str) -> bytes:
        """A secret sealed with the newest key. `of`: what it belongs to; for nothing else it opens."""
        nonce = os.urandom(NONCE)
        return nonce + self._keys[0].encrypt(nonce, secret.encode(), of.encode())

    def open(self, sealed: bytes, of: str) -> str:
        """The secret. Raises `CannotOpen`."""
        for key in self._keys:
            try:
                return key.decrypt(sealed[:NONCE], sealed[NONCE:], of.encode()).decode()
            except (InvalidTag, ValueError):
                continue
        raise CannotOpen(f"The secret of {of} cannot be opened with the key of this service. Bring back {FILE}, or give the secret anew.")


def keys_of(root: Path, given: str = "") -> list[bytes]:
    """The keys: as given (base64, parted by commas, the newest first), or of the file under `root`, which is made when it is not there. Raises `BadKey`."""
    if given.strip():
        return [_key(each) for each in given.split(",")]
    place = root / FILE
    try:
        return [_key(line) for line in place.read_text("ascii", errors="replace").split() or [""]]
    except FileNotFoundError:
        return put_keys(root, [new_key()])


def put_keys(root: Path, keys: Sequence[bytes]) -> list[bytes]:
    """Keep keys in the file, which only the service's own user can read; whole or not at all."""
    place, aside = root / FILE, root / f"{FILE}.new"
    handle = os.open(aside, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w") as out:
        out.write("".join(f"{base64.b64encode(key).decode()}\n" for key in keys))
        out.flush()
        os.fsync(out.fileno())
    os.replace(aside, place)
    return list(keys)


def new_key() -> bytes:
    """A key by chance."""
    return os.urandom(LENGTH)


def _key(text: str) -> bytes:
    try:
        found = base64.b64decode(text.strip(), validate=True)
    except (binascii.Error, ValueError):
        found = b""
    if len(found) != LENGTH:
        raise BadKey(
            f"A key of secrets must be {LENGTH} bytes in base64 (METRIKON_SECRET_KEY, or the file {FILE}); make one with `openssl rand -base64 {LENGTH}`."
        )
    return found
