"""Amounts as people print them: marks, groups, currencies, signs; always exact."""

from __future__ import annotations

import re
from collections.abc import Iterable
from decimal import Decimal
from functools import lru_cache

CURRENCY_SIGNS = {"€": "EUR", "£": "GBP", "$": "USD", "¥": "JPY", "zł": "PLN", "Kč": "CZK"}
CURRENCY_CODES = (
    "EUR", "GBP", "USD", "CHF", "SEK", "NOK", "DKK", "PLN", "CZK", "HUF", "CAD", "AUD", "NZD", "JPY", "ZAR",
)  # fmt: skip

_MONEY_WORD = "|".join([*CURRENCY_CODES, *(re.escape(sign) for sign in CURRENCY_SIGNS), "kr\\.?", "Fr\\."])
_AROUND = re.compile(rf"^(?:{_MONEY_WORD})\s*|\s*(?:{_MONEY_WORD})$", re.IGNORECASE)
_PER = re.compile(r"(?<=\d)/[^\W\d_]{1,8}\.?$")  # "98 000/an": what it is for
_DIGITS = re.compile(r"\d[\d.,'’ \u00a0\u202f]*\d|\d")
_SHAPE = re.compile(r"^\d+(?:[.,'’ ]\d+)*$")
_VOTE = re.compile(r"(?<![\d.,])\d{1,3}(?:[.,' ’]\d{3})*([.,])(\d{2})(?![\d.,])")
_WHOLE = re.compile(r"(\d)[.,](?:-{1,2}|[–—])(?=$|[\s€£$/])")  # "12,-" says that there are no cents
LONGEST = 40  # characters; longer digit strings are no amounts


def decimal_mark(texts: Iterable[str]) -> str | None:
    """The decimal mark a document uses, by counting numbers that end in a mark and two digits."""
    votes = {".": 0, ",": 0}
    for mark, _ in _VOTE.findall("\n".join(texts)):
        votes[mark] += 1
    if votes["."] == votes[","]:
        return None
    return "." if votes["."] > votes[","] else ","


@lru_cache(maxsize=8192)
def parse_number(text: str, mark: str | None = None) -> Decimal | None:
    """The exact number that `text` is, or None when it is not one number and nothing else.

    Takes currency signs and codes around it, a percent sign, signs before and after, brackets for
    negative amounts, and groups of three with any usual separator. `mark` is the decimal mark of
    the document, which decides "1.250" (12 hundred or one and a quarter).
    """
    if len(text) > LONGEST:
        return None
    body, negative = _unsigned(_WHOLE.sub(r"\1", text.strip()))
    if not _SHAPE.match(body):
        return None
    plain = _plain(body, mark)
    if plain is None:
        return None
    value = Decimal(plain)
    return -value if negative else value


def _unsigned(text: str) -> tuple[str, bool]:
    """Text without currency, percent and sign; and whether it is negative."""
    negative = False
    body = text.replace("\u00a0", " ").replace("\u202f", " ").replace("\u2212", "-").replace("–", "-")
    for _ in range(4):
        before = body
        if body.startswith("(") and body.endswith(")"):
            body, negative = body[1:-1], True
        if body.startswith("-") or (body.endswith("-") and body[:1].isdecimal()):
            body, negative = body.strip("-"), True
        body = body.removeprefix("+").removesuffix("%").strip()
        body = _PER.sub("", _AROUND.sub("", body)).strip()
        if body == before:
            break
    return body, negative


def _plain(body: str, mark: str | None) -> str | None:
    """Digits with a point, from a body of digits and marks; None when the groups make no sense."""
    marks = re.findall(r"[.,'’ ]", body)
    if not marks:
        return body
    last = marks[-1]
    if last in ".," and marks.count(last) == 1 and _last_is_decimal(body, last, marks, mark):
        whole, fraction = body.rsplit(last, 1)
        return f"{_joined(whole)}.{fraction}" if _joined(whole) is not None else None
    return _joined(body)


def _last_is_decimal(body: str, last: str, marks: list[str], mark: str | None) -> bool:
    whole, fraction = body.rsplit(last, 1)
    if len(marks) > 1 or len(fraction) != 3 or len(whole) > 3 or whole == "0":
        return True
    return last == (mark or ".")


def _joined(whole: str) -> str | None:
    """Digits of a number whose groups must be of three, all with the same separator."""
    parts = re.split(r"[.,'’ ]", whole)
    if len(parts) == 1:
        return whole
    same = len(set(re.findall(r"[.,'’ ]", whole))) == 1
    good = same and 1 <= len(parts[0]) <= 3 and all(len(part) == 3 for part in parts[1:])
    return "".join(parts) if good else None


def numbers_in(text: str) -> list[str]:
    """The digit groups that stand in a text, as printed."""
    return _DIGITS.findall(text)


def currency_in(text: str) -> str | None:
    """The ISO 4217 code that a piece of text names by code or sign, or None."""
    upper = text.upper()
    for code in CURRENCY_CODES:
        if re.search(rf"(?<![A-Z]){code}(?![A-Z]|-[A-Z])", upper):
            return code
    for sign, code in CURRENCY_SIGNS.items():
        if sign in text:
            return code
    return None
