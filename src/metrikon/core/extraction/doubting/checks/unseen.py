"""A value that nobody who looks at the document sees, where the page shows another one."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from metrikon.core.extraction.doubting.doubts import CERTAIN
from metrikon.core.extraction.grounding.data import UNSEEN, targets
from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import leaves, shape
from metrikon.core.records.types import Field
from metrikon.core.values.codes import iban_problem, vat_problem

_IBAN = re.compile(r"(?<![A-Z0-9])[A-Z]{2}\d{2}(?:[ \u00a0]?[A-Z0-9]){11,30}(?![A-Z0-9])")
_VAT = re.compile(r"(?<![A-Z0-9])[A-Z]{2}[ \u00a0]?U?\d[\dA-Z. \u00a0]{6,14}(?![A-Z0-9])")
_MAIL = re.compile(r"[\w.+-]{1,64}@[\w-]{1,63}(?:\.[\w-]{1,63})+")
_PHONE = re.compile(r"(?<!\d)(?:\+|00)?\d[\d ()/.\u00a0-]{6,20}\d(?!\d)")
FORMS: Mapping[str, tuple[re.Pattern[str], Any]] = {  # by the kind of a field: what has its form, and whether it really is one
    "iban": (_IBAN, lambda text: iban_problem(text) is None),
    "vat number": (_VAT, lambda text: vat_problem(text) is None),
    "mail": (_MAIL, lambda text: True),
    "phone": (_PHONE, lambda text: True),
}


def run(state: State) -> Iterable[Finding]:
    """Findings about values that stand only where nobody sees them, and that differ from what is printed."""
    for pointer, value in leaves(state.record):
        given = state.evidence.get(pointer)
        field = state.kind.by_shape.get(shape(pointer))
        if (
            given is None
            or field is None
            or value is None
            or not (_in_data(given) or (pointer.count("/") == 1 and _behind_a_link(value, given, state.index)))
        ):
            continue
        other = _printed(field, value, state)
        if other:
            message = f"{field.title} {value} stands only where nobody who looks at the document sees it, and {other} is printed."
            yield Finding("unseen", "stop", message, (pointer,), {"unseen": str(value), "printed": other})


def _in_data(given: Evidence) -> bool:
    return given.how == "fact" and given.sure <= UNSEEN


def _behind_a_link(value: Any, given: Evidence, index: Index) -> bool:
    """Whether a value stands where a reader has put what a link leads to, behind its words: "Write to us <office@…>". In rows each link stands with what it
    belongs to, so that another one of the page says nothing of it: they are left out (`field.shape` of a header field has one slash)."""
    own = squeezed(str(value))
    put = given.how == "printed" and given.quote.startswith("<") and given.quote.endswith(">")
    return put and any(own == squeezed(each) for link in index.document.links for each in targets(link))


def _printed(field: Field, value: Any, state: State) -> str:
    """Another value of the same form that the page shows; nothing where it shows none."""
    own = squeezed(str(value))
    read = state.other.header.get(field.name) if field.shape.count("/") == 1 else None
    certain = state.other.sure.get(field.shape, 0.0) >= CERTAIN
    if certain and read is not None and squeezed(str(read)) != own:
        return str(read)
    if field.kind not in FORMS:
        return ""
    others = {squeezed(str(each)) for _, each in leaves(state.record)}  # of other people, of other rows
    behind = {squeezed(each) for link in state.index.document.links for each in targets(link)}
    printed = (each for each in _of_form(field.kind, state.index) if squeezed(each) not in {own, *others, *behind})
    return next((each for each in printed if not _same_figures(each, value)), "")


def _of_form(kind: str, index: Index) -> Iterator[str]:
    pattern, holds = FORMS[kind]
    for page in index.document.pages:
        for line in page.lines:
            for found in pattern.finditer(line.text):
                if holds(found.group(0)):
                    yield found.group(0).strip()


def _same_figures(one: str, other: Any) -> bool:
    """Whether two numbers end with the same figures: one with its country, the other without."""
    mine, theirs = (re.sub(r"\D", "", str(each)) for each in (one, other))
    return bool(mine) and len(mine) > 5 and mine[-6:] == theirs[-6:]


CHECK = Check(("unseen",), "Whether a value that stands only in what nobody sees differs from what is printed.", run, models_only=True, rank=75)
