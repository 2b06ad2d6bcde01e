"""What people write out of habit from elsewhere, and how FEEL writes it."""

from __future__ import annotations

import re

_DATE = re.compile(r"(?<!\d)(\d{1,2})[./](\d{1,2})[./](\d{4})(?!\d)")
_ISO = re.compile(r"(?<!\d)(\d{4})-(\d{2})-(\d{2})(?!\d)")
_DECIMAL = re.compile(r"(?<![\d.])(\d+),(\d+)(?![\d.])")
_SIGNS = {
    "==": "what is equal is written with one =",
    "&&": "both is written `and`",
    "||": "one or the other is written `or`",
    "!": "not is written `not(…)`, and unequal !=",
    "?": "a choice is written `if … then … else …`",
    "'": "texts stand between double quotation marks",
    "&": "both is written `and`; texts are joined with +",
    "%": "a share is written as a number, such as 0.19; a rest with modulo(…)",
}


def habit(text: str, at: int) -> str:
    """How that is written which stands at a place (from 0) of an expression and cannot stand there; empty where that is not known."""
    for sign, told in _SIGNS.items():
        if text.startswith(sign, at) or (len(sign) == 2 and at and text.startswith(sign, at - 1)):
            return told
    for match in _DATE.finditer(text):
        if match.start() <= at <= match.end():
            day, month, year = match.groups()
            return f'a date is written date("{year}-{int(month):02}-{int(day):02}")'
    for match in _ISO.finditer(text):
        if match.start() <= at <= match.end():
            return f'a date is written date("{match.group()}")'
    for match in _DECIMAL.finditer(text):
        if match.start() <= at <= match.end():
            return f"a decimal is written with a point: {match[1]}.{match[2]}"
    return ""
