"""Values that are doubted for what stands around them: ones that another reading has otherwise, ones that an order put there."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.extraction.indexing.orders import order_lines
from metrikon.core.extraction.indexing.placed import said_of
from metrikon.core.extraction.planning.plan import Plan
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.meaning import concept_of
from metrikon.core.records.pointers import get, shape
from metrikon.core.records.types import RecordType
from metrikon.core.values.number_words import plain

TELLING = 0.7  # how sure an independent reading must be of a value for it to count against another
CERTAIN = 0.85  # of what was read besides, from which it is held against the model


def read_otherwise(
    kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], planned: Plan, settled: frozenset[str]
) -> list[Finding]:
    """Values of which the reading beside the model is certain that they are others; a count of one where more is printed.

    `settled`: pointers of values that this reading gave, or that a closed question bore out.
    """
    return [*_amounts_otherwise(record, planned, settled), *_ones_otherwise(kind, record, evidence, planned)]


def _amounts_otherwise(record: Mapping[str, Any], planned: Plan, settled: frozenset[str]) -> Iterator[Finding]:
    """Amounts of which the reading beside the model is certain that they are others."""
    for each in planned.header:
        value, other = record.get(each.name), planned.besides.record.get(each.name)
        certain = planned.besides.sure.get(each.shape, 0.0) >= CERTAIN and "labels" not in each.ours and each.shape not in settled
        if certain and each.kind == "amount" and None not in (value, other) and value != other:
            message = f"{each.title} was read as {value}, but {other} stands where it is called so."
            yield Finding("readings differ", "stop", message, (each.shape,), {"first": str(value), "second": str(other)})


def _ones_otherwise(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], planned: Plan) -> Iterator[Finding]:
    """Counts of one in rows where more is printed."""
    for pointer, fields in kind.lists.items():
        rows, others = record.get(pointer[1:]), planned.besides.record.get(pointer[1:])
        if not isinstance(rows, list) or not isinstance(others, list) or len(rows) != len(others) or pointer in planned.certain:
            continue
        for each in (field for field in fields if concept_of(field) == "quantity"):
            for number, (row, other) in enumerate(zip(rows, others, strict=True)):
                at, printed = f"{pointer}/{number}/{each.name}", other.get(each.name)
                one = isinstance(row, dict) and row.get(each.name) == 1 and at in planned.besides.places
                if one and printed not in (None, 1) and evidence[at].how != "person":
                    message = f"{kind.titled(at)} was read as 1, but {printed} is printed in its row."
                    yield Finding("readings differ", "stop", message, (at,), {"first": "1", "second": str(printed)})


def of_orders(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index, planned: Plan) -> list[Finding]:
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


def of_its_own_date(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index) -> list[Finding]:
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
