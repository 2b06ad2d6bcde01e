"""Days that are given where another field has its day."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any

from metrikon.core.extraction.doubting.claims import Claims
from metrikon.core.records.findings import Finding
from metrikon.core.records.meaning import label_fit
from metrikon.core.records.pointers import get
from metrikon.core.records.types import Field

_DAYS = re.compile(r"(?<!\d)\d{1,2}(?!\d)")
_FIGURED = re.compile(r"\S*\d\S*")


def day_of_another(claims: Claims) -> Iterator[Finding]:
    """Days of fields that may have none, given where another field has its day, in a line that says nothing of them."""
    days: dict[str, list[Field]] = {}
    for each, value in claims.of_the_record("date"):
        if isinstance(value, str) and claims.how(each.shape) == "printed":
            days.setdefault(value, []).append(each)
    for value, fields in days.items():
        said = _lines_of(claims, value, fields)
        fits = [max((label_fit(each, _FIGURED.sub(" ", text)) for text in said), default=1.0) for each in fields]
        for each, fit in zip(fields, fits, strict=True):
            other = _whose(each, fields, said) if each.nullable and fit == 0 else None
            if other is not None:
                message = f"{each.title} is given as {value}, which stands only where {other.title} stands."
                yield Finding("same words", "stop", message, (each.shape, other.shape))


def _lines_of(claims: Claims, value: str, fields: Sequence[Field]) -> list[str]:
    """The lines on which a day stands that several fields are given and that stands fewer times; none for other days, and in talks."""
    if len(fields) < 2 or claims.index.document.sentences:
        return []
    spots = claims.places(fields[0], value)
    if len({(spot.page, spot.words[-1]) for spot in spots}) >= len(fields):
        return []
    return [claims.index.pages[page].lines[line].text for page, line in map(claims.line_of, spots)]


def _whose(field: Field, fields: Sequence[Field], said: Sequence[str]) -> Field | None:
    """The other field whose day it is."""
    return next((one for one in fields if one is not field and (not one.nullable or label_fit(one, said[0]))), None)


def end_of_a_span(claims: Claims) -> Iterator[Finding]:
    """Two days that are the same and stand on one line that names another day, too: one of them is its other end."""
    spans: dict[tuple[str, int, Any], list[Field]] = {}
    for each in claims.kind.header:
        known = claims.evidence.get(each.shape)
        if known is None or each.kind not in ("date", "moment") or known.how != "mapped" or known.box is None:
            continue
        if len(set(_DAYS.findall(known.quote))) > 1:
            spans.setdefault((str(get(claims.record, each.shape)), known.page, known.box), []).append(each)
    for (value, _, _), fields in spans.items():
        if len(fields) > 1:
            message = f"{fields[0].title} and {fields[1].title} are given as {value}, on a line that names another day, too."
            yield Finding("same words", "stop", message, tuple(each.shape for each in fields))
