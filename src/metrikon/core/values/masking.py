"""Secrets masked: wherever one stands in a text or in bytes, in whatever form it is sent in, a mark stands in its place."""

from __future__ import annotations

import base64
import html
import re
from collections.abc import Iterable, Iterator
from urllib.parse import quote, quote_plus

from metrikon.core.values.exact import dumps

SHORTEST = 8  # characters: a shorter secret would be found by chance in what has nothing to do with it, and is guessed in no time
MARK = "•••"
_LINE = 20  # characters of a line of a key in PEM that is a secret by itself


class Mask:
    """Masks some secrets. Forms that are known: as it is, percent-encoded (RFC 3986), as a form is, in JSON, in HTML, in base64 wherever it begins there
    (RFC 4648); capitals count for nothing."""

    def __init__(self, secrets: Iterable[str]) -> None:
        forms = {form for secret in secrets for each in _parts(secret) for form in _forms(each)}
        self._forms = sorted(forms, key=len, reverse=True)
        self._small = [(form.lower(), form.lower().encode()) for form in self._forms]
        self._texts = re.compile("|".join(map(re.escape, self._forms)), re.I) if forms else None
        self._bytes = re.compile(b"|".join(re.escape(form.encode()) for form in self._forms), re.I) if forms else None

    def holds(self, told: str) -> bool:
        """Whether a secret stands in a text."""
        small = told.lower()
        return any(form in small for form, _ in self._small)

    def text(self, told: str) -> str:
        """A text with a mark for each secret in it."""
        return self._texts.sub(MARK, told) if self._texts is not None and self.holds(told) else told

    def data(self, told: bytes) -> bytes:
        """The same of bytes."""
        small = told.lower()  # many times faster than the pattern, where nothing is found
        found = self._bytes is not None and any(form in small for _, form in self._small)
        return self._bytes.sub(MARK.encode(), told) if found and self._bytes is not None else told


def _parts(secret: str) -> Iterator[str]:
    """A secret, or the lines of one that has several: of a key in PEM each is one."""
    if "\n" not in secret.strip():
        yield from [secret] if len(secret) >= SHORTEST else []
        return
    for line in secret.splitlines():
        if len(line) >= _LINE and not line.startswith("-----"):
            yield line


def _forms(secret: str) -> Iterator[str]:
    yield secret
    yield quote(secret, safe="")
    yield quote(secret)
    yield quote_plus(secret)
    yield dumps(secret).decode()[1:-1]
    yield html.escape(secret)
    data = secret.encode()
    for before in range(3):  # bytes that stand before it in what was encoded
        told = base64.b64encode(b"\0" * before + data).decode()
        whole = told[-(-before * 8 // 6) : (before + len(data)) * 8 // 6]  # the signs that it alone decides
        yield whole
        yield whole.translate(str.maketrans("+/", "-_"))
