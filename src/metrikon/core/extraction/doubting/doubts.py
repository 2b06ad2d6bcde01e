"""Values that are doubted for what stands around them: invented ones, ones that another reading has otherwise, ones that an order put there."""

from __future__ import annotations

import copy
import re
from collections.abc import Mapping
from typing import Any

from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.extraction.indexing.orders import order_lines
from metrikon.core.extraction.indexing.placed import said_of
from metrikon.core.extraction.parsing.readings import Draft
from metrikon.core.extraction.planning.plan import Plan
from metrikon.core.records.confidence import MODEL
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.meaning import concept_of
from metrikon.core.records.pointers import get, shape, steps
from metrikon.core.records.types import Field, RecordType
from metrikon.core.values.number_words import MARKS, plain

SUGGESTED = 0.5  # confidence below which a value of a field that may be empty is a suggestion: on documents of other hands most are wrong
CERTAIN = 0.85  # of what was read besides, from which it is held against the model


def read_otherwise(kind: RecordType, record: dict[str, Any], evidence: Mapping[str, Evidence], planned: Plan, made: Draft) -> list[Finding]:
    """Values of which the reading beside the model is certain that they are others; a count of one where more is printed."""
    found = []
    for each in planned.header:
        value, other = record.get(each.name), planned.besides.record.get(each.name)
        if (
            "labels" in each.ours
            or each.shape in made.replaced
            or value is None
            or other is None
            or planned.besides.sure.get(each.shape, 0.0) < CERTAIN
        ):
            continue
        if each.kind == "amount" and value != other:
            message = f"{each.title} was read as {value}, but {other} stands where it is called so."
            found.append(Finding("readings differ", "stop", message, (each.shape,), {"first": str(value), "second": str(other)}))
    for pointer, fields in kind.lists.items():
        rows, others = record.get(pointer[1:]), planned.besides.record.get(pointer[1:])
        if not isinstance(rows, list) or not isinstance(others, list) or len(rows) != len(others) or pointer in planned.certain:
            continue
        for each in fields:
            for number, (row, other) in enumerate(zip(rows, others, strict=True)):
                at = f"{pointer}/{number}/{each.name}"
                one = concept_of(each) == "quantity" and isinstance(row, dict) and row.get(each.name) == 1 and at in planned.besides.places
                if one and other.get(each.name) not in (None, 1) and evidence[at].how != "person":
                    message = f"{kind.titled(at)} was read as 1, but {other[each.name]} is printed in its row."
                    found.append(Finding("readings differ", "stop", message, (at,), {"first": "1", "second": str(other[each.name])}))
    return found


def of_orders(kind: RecordType, record: dict[str, Any], evidence: Mapping[str, Evidence], index: Index, planned: Plan) -> list[Finding]:
    """Values that stand only in words which give orders to the reader, and that the reading beside the model does not have."""
    lines = index.once("order lines", order_lines)
    found = []
    for pointer, each in evidence.items() if lines else ():
        field = kind.by_shape.get(shape(pointer))
        if field is None or each.box is None or each.how == "person":
            continue
        if not any(page == each.page and low < each.box[3] and each.box[1] < high for page, low, high in lines):
            continue
        value = get(record, pointer)
        if squeezed(str(value)) != squeezed(str(get(planned.besides.record, pointer))):
            message = f"{kind.titled(pointer)} {value!s} stands in words that give orders to the reader of the document; compare it."
            found.append(Finding("orders", "stop", message, (pointer,)))
    return found


_TALK = (
    r"(?:call|phone call|conversation|meeting|recording|anruf|gesprach|gespraech|telefonat|sitzung|aufnahme|appel|reunion|enregistrement|llamada|conversacion|grabacion"
    r"|chiamata|telefonata|riunione|gesprek|vergadering|opname|chamada|conversa|reuniao|opkald|samtal|mode|rozmow\w*|spotkani\w*)s?"
)
_DAY = r"(?:date|day|datum|tag|jour|fecha|dia|data|giorno|dag|dato|dzien)"
_SMALL = r"(?: (?:of|the|de|des|der|du|la|l|del|della|van|het|da|do|den|av))*"
_THE_TALK = re.compile(rf"\b{_DAY}{_SMALL} {_TALK}\b|\b{_TALK} {_DAY}\b|\b(?:anruf|gesprachs?|gespraechs?|sitzungs?|aufnahme)datum\b")
_AFTER_IT = re.compile(r"\b(?:back|next|return|follow|ruck\w*|zuruck|rappel\w*|devol\w*|vuelta|richiam\w*|terug\w*|proxim\w*|nachst\w*|naechst\w*)")


def of_its_own_date(kind: RecordType, record: dict[str, Any], evidence: Mapping[str, Evidence], index: Index) -> list[Finding]:
    """A date that a record gives a talk, where the talk says of itself that it was on another."""
    own = said_of(index).own_date if index.document.sentences else None
    found = []
    for each in kind.header if own is not None else ():
        value = get(record, each.shape)
        known = evidence.get(each.shape)
        if each.kind not in ("date", "moment") or not isinstance(value, str) or known is None or known.how in ("person", "list"):
            continue
        about = " ".join(re.findall(r"\w+", plain(f"{each.name.replace('_', ' ')} . {each.schema.get('description') or ''}")))
        if own is not None and value[:10] != own.isoformat() and _THE_TALK.search(about) and not _AFTER_IT.search(about):
            message = f"{each.title} is given as {value}, but the talk says of itself that it was on {own.isoformat()}."
            found.append(Finding("own date", "stop", message, (each.shape,), {"given": value, "own": own.isoformat()}))
    return found


def unsure(kind: RecordType, record: dict[str, Any], evidence: dict[str, Evidence]) -> tuple[dict[str, Any], list[Finding]]:
    """The record without values that are more likely wrong than right, of fields that may be empty; each stays as a suggestion beside its field.

    Only those of which the reader itself was unsure: a value that is sure and stands nowhere is held by its own finding.
    """
    found: list[Finding] = []
    for each in kind.header:
        known = evidence.get(each.shape)
        value = get(record, each.shape)
        may_be_empty = (each.nullable or not each.required) and each.ours.get("unsure") != "warn"  # which says that doubt need not stop it
        if known is None or value is None or not may_be_empty or known.confidence >= SUGGESTED or known.inputs.get("reading", MODEL) >= MODEL:
            continue
        record = record if found else copy.deepcopy(record)
        holder, last = get(record, each.shape.rpartition("/")[0]), steps(each.shape)[-1]
        if each.nullable:
            holder[last] = None
        else:
            del holder[last]
        del evidence[each.shape]
        told = {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)[:200]
        message = f"{each.title} was given as “{told[:60]}”, which is {known.confidence:.0%} sure; the field was left empty. Compare it."
        found.append(Finding("suggested", "stop", message, (each.shape,), {"suggested": told}))
    return record, found


_POSTCODE_AND_TOWN = re.compile(r"(?:[A-Z]{1,2}-)?\d{4,5}\s+[^\W\d_]{3}.*")
_FAX = re.compile(r"fax|telecop", re.IGNORECASE)
INVENTED = {"phone": "phone", "mail": "mail", "iban": "iban", "web address": "web address"}


def inventions(kind: RecordType, record: dict[str, Any], evidence: Mapping[str, Evidence], index: Index) -> dict[str, Finding]:
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
    figures = sum(c.isdigit() for c in value)
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
    return said or any(sum(c.isdigit() for c in line.text) >= 7 for page in index.document.pages for line in page.lines)
