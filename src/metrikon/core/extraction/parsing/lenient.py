"""JSON as models write it when they do not quite: read in one pass, in time linear in the text.

Understood besides JSON (RFC 8259): quotes of either kind and typographic ones, names without quotes,
commas too many or left out, comments (//, #, /* */), True/False/None, NaN and Infinity (no value),
numbers with groups or units, line breaks within texts, brackets of the wrong kind, and an end that
is missing. What was changed is told; a key given twice keeps its first value and is told too.
"""

from __future__ import annotations

import re
from decimal import Decimal, InvalidOperation
from typing import Any

DEEPEST = 60
_SPACE = re.compile(r"(?:\s+|//[^\n]*|#[^\n]*|/\*.*?(?:\*/|$))+", re.DOTALL)
_BARE = re.compile(r"[^\s,:\[\]{}\"'“”]+(?:[ \t]+(?!//|#|/\*)[^\s,:\[\]{}\"'“”]+)*")
_RUNS_ON = re.compile(r"(?:,\d+)+(?:\.\d+)?(?=\s*[,}\n]|\s*$)")
_CLOSING = {'"': '"', "'": "'", "“": "”", "”": "”", "`": "`"}
_WORDS: dict[str, Any] = {
    "true": True,
    "false": False,
    "null": None,
    "none": None,
    "nan": None,
    "undefined": None,
    "infinity": None,
    "-infinity": None,
}
_ESCAPES = {"n": "\n", "t": "\t", "r": "\r", "b": "\b", "f": "\f", '"': '"', "'": "'", "\\": "\\", "/": "/"}
_AFTER_TEXT = re.compile(r"\s*(?:[,:}\]]|$|//|#|/\*)|\s*\n")


class TooDeep(ValueError):
    """Brackets within brackets beyond the limit."""


class Lenient:
    """One text read from `at` on; `changes` says what had to be overlooked, `cut` whether the end was missing."""

    def __init__(self, text: str, at: int = 0) -> None:
        self.text = text
        self.at = at
        self.end = len(text)
        self.changes: dict[str, None] = {}
        self.cut = False

    def value(self, depth: int = 0) -> Any:
        """The value that starts here. Raises `TooDeep`, and ValueError where there is none."""
        if depth > DEEPEST:
            raise TooDeep(f"The answer nests deeper than {DEEPEST} levels.")
        self._space()
        if self.at >= self.end:
            self.cut = True
            return _MISSING
        sign = self.text[self.at]
        if sign == "{":
            return self._object(depth)
        if sign == "[":
            return self._list(depth)
        if sign in _CLOSING:
            return self._quoted()
        return self._bare(False)

    def _space(self) -> None:
        found = _SPACE.match(self.text, self.at)
        if found:
            if not found.group().isspace():
                self._note("Comments were left out.")
            self.at = found.end()

    def _note(self, change: str) -> None:
        self.changes[change] = None

    def _next(self, closing: str) -> str:
        """The sign at which the next part within brackets begins; nothing at their end, or where the text ends."""
        while True:
            self._space()
            if self.at >= self.end:
                self.cut = True
                return ""
            sign = self.text[self.at]
            if sign in "}]":
                if sign != closing:
                    self._note("A bracket of the wrong kind was taken for the right one.")
                self.at += 1
                return ""
            if sign != ",":
                return sign
            self.at += 1
            self._comma_alone(closing)

    def _object(self, depth: int) -> dict[str, Any]:
        self.at += 1
        found: dict[str, Any] = {}
        while self._next("}"):
            key = self._key()
            if key is None:
                continue
            value = self._after_key(depth)
            if value is _MISSING:
                continue
            if key in found and found[key] != value:
                self._note(f"{key!r} was given twice; the first was kept.")
            found.setdefault(key, value)
            self._between()
        return found

    def _key(self) -> str | None:
        sign = self.text[self.at]
        if sign in _CLOSING:
            key = self._quoted(key=True)
        elif sign in "{[:":
            self.at += 1
            self._note("A sign out of place was left out.")
            return None
        else:
            found = _BARE.match(self.text, self.at)
            key = found.group() if found else sign
            self.at += len(key)
            self._note("Names without quotes were taken.")
        return str(key)

    def _after_key(self, depth: int) -> Any:
        self._space()
        if self.at < self.end and self.text[self.at] in ":=":
            self.at += 1
        elif self.at >= self.end:
            self.cut = True
            return _MISSING
        self._space()
        if self.at < self.end and self.text[self.at] in ",}]":
            return _MISSING
        if self.at < self.end and self.text[self.at] in "-+0123456789":
            return self._bare(True)
        return self.value(depth + 1)

    def _list(self, depth: int) -> list[Any]:
        self.at += 1
        found: list[Any] = []
        while sign := self._next("]"):
            if sign == ":":
                self.at += 1
                continue
            value = self.value(depth + 1)
            if value is not _MISSING:
                found.append(value)
            self._between()
        return found

    def _comma_alone(self, closing: str) -> None:
        self._space()
        if self.at < self.end and self.text[self.at] in (closing, ","):
            self._note("Commas too many were left out.")

    def _between(self) -> None:
        self._space()
        if self.at < self.end and self.text[self.at] not in ",}]":
            self._note("Commas that were missing were put in.")

    def _quoted(self, key: bool = False) -> Any:
        opened = self.text[self.at]
        closing = _CLOSING[opened]
        if opened != '"':
            self._note("Quotes of another kind were taken.")
        start = at = self.at + 1
        parts: list[str] = []
        while at < self.end:
            sign = self.text[at]
            if sign == "\\" and at + 1 < self.end:
                parts.append(self.text[start:at])
                at, text = self._escaped(at + 1)
                parts.append(text)
                start = at
                continue
            if sign == "\n":
                self._note("Line breaks within texts were taken.")
            if sign == closing and self._closes(at, key):
                parts.append(self.text[start:at])
                self.at = at + 1
                return "".join(parts)
            at += 1
        self.at = self.end
        self.cut = True
        return _MISSING  # a text that was cut off is no value: it may say something else than it would have

    def _closes(self, at: int, key: bool) -> bool:
        """Whether a quote ends its text: what follows must be able to follow; else it belongs to the text."""
        if self.text[at] == '"' or key:
            return True
        return _AFTER_TEXT.match(self.text, at + 1) is not None

    def _escaped(self, at: int) -> tuple[int, str]:
        sign = self.text[at]
        if sign == "u" and re.fullmatch(r"[0-9a-fA-F]{4}", self.text[at + 1 : at + 5]):
            code = int(self.text[at + 1 : at + 5], 16)
            low = self.text[at + 5 : at + 11]
            if 0xD800 <= code < 0xDC00 and re.fullmatch(r"\\u[dD][c-fC-F][0-9a-fA-F]{2}", low):
                return at + 11, chr(0x10000 + ((code - 0xD800) << 10) + (int(low[2:], 16) - 0xDC00))
            return at + 5, "\ufffd" if 0xD800 <= code < 0xE000 else chr(code)
        return at + 1, _ESCAPES.get(sign, sign)

    def _bare(self, in_object: bool) -> Any:
        found = _BARE.match(self.text, self.at)
        if not found:
            self.at += 1
            self._note("A sign out of place was left out.")
            return _MISSING
        word = found.group()
        self.at = found.end()
        if word.casefold() in _WORDS:
            if word not in ("true", "false", "null"):
                self._note(f"{word} was read as {_spoken(_WORDS[word.casefold()])}.")
            return _WORDS[word.casefold()]
        more = _RUNS_ON.match(self.text, self.at) if in_object and word[-1:].isdecimal() else None
        if more:  # 1,250.00 or 12,50: what follows a comma in an object is a name, never a figure
            self.at = more.end()
            self._note("Numbers with commas were taken as they stand.")
            return word + more.group()
        try:
            number = Decimal(word)
        except InvalidOperation:
            pass
        else:
            if self.at >= self.end:
                self.cut = True
                return _MISSING  # more digits may have followed
            return (
                int(number) if number.is_finite() and number == number.to_integral_value() and "." not in word and "e" not in word.lower() else number
            )
        if self.at >= self.end:
            self.cut = True
            return _MISSING
        self._note("Texts without quotes were taken.")
        return word


def _spoken(value: Any) -> str:
    return "no value" if value is None else str(value).lower()


class _Missing:
    """Where a value should stand and none is."""


_MISSING = _Missing()


def read_leniently(text: str, at: int = 0) -> tuple[Any, int, tuple[str, ...], bool]:
    """(value, where it ends, what was changed, whether the end was missing). Raises `TooDeep` and ValueError."""
    reading = Lenient(text, at)
    value = reading.value()
    if value is _MISSING:
        raise ValueError("no value stands there")
    return value, reading.at, tuple(reading.changes), reading.cut
