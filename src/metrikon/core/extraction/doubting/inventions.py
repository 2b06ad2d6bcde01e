"""Values that can only be invented: they stay as a suggestion beside an empty field."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.indexing.placed import said_of
from metrikon.core.extraction.state import State
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.meaning import concept_of
from metrikon.core.records.pointers import get, shape, with_values
from metrikon.core.records.types import Field, RecordType
from metrikon.core.values.number_words import MARKS, plain

_POSTCODE_AND_TOWN = re.compile(r"(?:[A-Z]{1,2}-)?\d{4,5}\s+[^\W\d_]{3}.*")
_FAX = re.compile(r"fax|telecop", re.IGNORECASE)
INVENTED = ("phone", "mail", "iban", "web address")  # kinds of values that a model makes up whole


def leave_out_inventions(state: State) -> State:
    """Without such values; each is told."""
    if state.by_patterns:
        return state
    invented = inventions(state.kind, state.record, state.evidence, state.index)
    if not invented:
        return state
    evidence = {pointer: each for pointer, each in state.evidence.items() if pointer not in invented}
    return replace(state, record=with_values(state.record, dict.fromkeys(invented)), evidence=evidence).noted(invented.values())


def inventions(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index) -> dict[str, Finding]:
    """Values that can only be invented, by pointer: they stay as a suggestion beside an empty field.

    What no value of its kind looks like; and a telephone number, an address or an account that stands nowhere, of a field that may be
    empty, where the document holds nothing of that kind at all, in whatever spelling. Where it does, the value stays and is doubted.
    """
    found = {}
    for pointer, each in evidence.items():
        field = kind.by_shape.get(shape(pointer))
        value = get(record, pointer)
        if field is None or not isinstance(value, str) or each.how in ("person", "list"):
            continue
        if (none := _none_of_its_kind(field, value) or _not_named(field, index)) is not None:
            stop = not (field.nullable or not field.required)
            message = f"{kind.titled(pointer)} was given as {value[:60]!r}, which is {none}; the field was left empty."
            found[pointer] = Finding("unsupported", "stop" if stop else "warn", message, (pointer,), {"suggested": value[:200]})
            continue
        if each.found:
            continue
        optional = field.nullable or not field.required
        if optional and field.kind in INVENTED and not _holds_any(field.kind, index) and not (field.kind == "mail" and _read_out(index)):
            message = f"{kind.titled(pointer)} was given as {value}, which stands nowhere in the document; the field was left empty."
            found[pointer] = Finding("unsupported", "warn", message, (pointer,), {"suggested": value})
    return found


def _read_out(index: Index) -> bool:
    """Whether an address is read out in a talk: "at", and soon after it "dot"."""
    for _, words, _ in said_of(index).runs if index.document.sentences else ():
        marks = [MARKS.get(plain(word)) for word in words]
        if any(mark == "@" and "." in marks[at + 1 : at + 9] for at, mark in enumerate(marks)):
            return True
    return False


def _none_of_its_kind(field: Field, value: str) -> str | None:
    """What a value is not that lacks what every value of its kind has."""
    if field.kind == "mail" and "@" not in value:
        return "no mail address"
    if field.kind not in ("phone", "date", "moment", "time", "month"):
        return None
    if field.kind == "phone" and _POSTCODE_AND_TOWN.fullmatch(value):
        return "no telephone number"
    figures = sum(c.isdecimal() for c in value)
    if (field.kind == "phone" and figures < 3) or (field.kind in ("date", "moment", "time", "month") and not figures):
        return {"phone": "no telephone number", "time": "no time", "month": "no month"}.get(field.kind, "no date")
    return None


def _not_named(field: Field, index: Index) -> str | None:
    """What a value cannot be that documents always call by its name."""
    if field.kind != "phone" or concept_of(field) != "fax" or index.once("fax", lambda each: any(_FAX.search(page.text) for page in each.texts)):
        return None
    return "no fax number, for the document names none"


_AT = re.compile(r"@|\W(?:at|ät|arroba|chiocciola|arobase|apenstaartje|snabel-?a|małpa|zavin[aá]č|klammeraffe)\W", re.IGNORECASE)
_WEB = re.compile(r"www|\.(?:[a-z]{2,8})\b|\bdot\b|\bpunkt\b|\bpunto\b", re.IGNORECASE)


def _holds_any(kind: str, index: Index) -> bool:
    """Whether the document holds a value of a kind at all."""
    if kind in ("date", "moment"):
        return bool(index.dates)
    if kind in ("mail", "web address"):
        sign = _AT if kind == "mail" else _WEB
        return any(sign.search(line.text) for page in index.document.pages for line in page.lines) or bool(index.document.links)
    said = bool(index.document.sentences) and any(len(figures) >= 6 for _, figures, *_ in said_of(index).figures)
    return said or any(sum(c.isdecimal() for c in line.text) >= 7 for page in index.document.pages for line in page.lines)
