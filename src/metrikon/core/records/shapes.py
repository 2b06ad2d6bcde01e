"""What form the values of a field have, found by trying samples on its schema: nothing is read out of the text of a pattern.

A pattern that takes +441632960143 and not 01632 960143 wants telephone numbers in E.164; one that takes 2026-03 wants months.
A value whose form alone is wrong is brought into the form that the schema takes, where that can be done without doubt.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from functools import lru_cache
from typing import Any

import jsonschema_rs

from metrikon.core.records.sound import quick

_SAMPLES = (
    ("phone", ("+441632960143", "+4930901820"), ("01632960143", "2026", "A1")),
    ("moment", ("2026-03-31T14:30", "2026-03-31T14:30:00", "2026-03-31T14:30:00Z", "2026-03-31 14:30"), ("2026-03-31", "14:30", "A1")),
    ("date", ("2026-03-31",), ("2026-03", "2026", "31", "A1")),
    ("month", ("2026-03", "03/2026"), ("2026-03-31", "A1", "2026-3-31")),
    ("time", ("14:30", "14:30:00", "14h30"), ("2026", "A1", "1430")),
    ("iban", ("GB29NWBK60161331926819",), ("2026", "A1", "GBP")),
    ("currency", ("GBP", "EUR"), ("GB", "GBPX", "A1", "123")),
)
_FORM_IN_WORDS = re.compile(r"(?<![A-Za-z])[YJAR]{4}-M{2}(?:-[DTJGX]{2})?(?:[T ][HS]{2}:M{2})?(?![A-Za-z])|(?<![A-Za-z-])[HS]{2}:M{2}(?![A-Za-z])")
CURRENCY_WORDS = [
    "currency",
    "currencies",
    "waehrung",
    "wahrung",
    "devise",
    "monnaie",
    "moneda",
    "divisa",
    "valuta",
    "munt",
    "moeda",
    "waluta",
    "mena",
    "valutakod",
    "valutakode",
    "money",
    "coin",
    "iso",
    "4217",
    "coinage",
]
PATTERN_LONGEST = 400  # characters of a pattern that is tried


@lru_cache(maxsize=512)
def _validator(pattern: str) -> Any:
    try:
        return quick({"type": "string", "pattern": pattern}) if len(pattern) <= PATTERN_LONGEST else None
    except (ValueError, jsonschema_rs.ValidationError):
        return None


def takes(pattern: str | None, text: str) -> bool:
    """Whether a pattern (ECMA 262, as JSON Schema has it) takes a text; one that cannot be tried takes all."""
    validator = _validator(pattern) if pattern else None
    return validator is None or bool(validator.is_valid(text))


@lru_cache(maxsize=512)
def kind_of_pattern(pattern: str) -> str | None:
    """The kind of value that a pattern is made for, or None when it is open."""
    if _validator(pattern) is None or takes(pattern, "any words at all"):
        return None
    for kind, good, bad in _SAMPLES:
        if any(takes(pattern, text) for text in good) and not any(takes(pattern, text) for text in bad):
            return kind
    return None


@lru_cache(maxsize=4096)
def kind_of_form(description: str) -> str | None:
    """The kind of value whose form a description spells out: "YYYY-MM-DD", "HH:MM", also "JJJJ-MM-TT", "AAAA-MM-DD"; None for none or several."""
    told = {match.group() for match in _FORM_IN_WORDS.finditer(description)}
    if len(told) != 1:
        return None
    form = told.pop()
    if ":" in form:
        return "moment" if "-" in form else "time"
    return "date" if form.count("-") == 2 else "month"


def shaped(schema: Mapping[str, Any], forms: Iterator[str] | list[str]) -> str | None:
    """The first of some forms of a value that the pattern and the lengths of a schema take; None when none is."""
    pattern, least, most = schema.get("pattern"), schema.get("minLength", 0), schema.get("maxLength", 1_000_000)
    return next((form for form in forms if least <= len(form) <= most and takes(pattern, form)), None)


def code_forms(text: str) -> Iterator[str]:
    """A code as it stands, and in the forms in which it says the same: without blanks and marks, in capitals, its last figures."""
    yield text
    bare = "".join(text.split())
    yield from (bare, text.upper(), bare.upper(), re.sub(r"[\s./-]+", "", text), re.sub(r"[\s./-]+", "", text).upper())
    yield text.strip(" .,;:#()[]*")
    if masked := re.fullmatch(r"[\s*xX•·.#-]*?[*xX•#]{2,}[\s*xX•·.#-]*(\d{2,6})", text.strip()):
        yield masked.group(1)
    figures = re.sub(r"\D+", "", text)
    if figures:
        yield figures
