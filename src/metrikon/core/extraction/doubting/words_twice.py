"""The same words for two fields: texts that are given several times and stand fewer times in the document."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from metrikon.core.extraction.doubting.claims import Claims
from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.records.findings import Finding
from metrikon.core.records.manner import DECIDED
from metrikon.core.records.meaning import akin, concept_of
from metrikon.core.records.pointers import leaves, shape
from metrikon.core.records.types import Field, RecordType
from metrikon.core.values.number_words import plain

SHORTEST = 4  # letters of a text that is told from others
_OF_NO_PRINT = ("person", "list", "default")  # evidence of values that are not taken from the document
_OFTEN_THE_SAME = ("month", "date", "unit", "currency")


def words_twice(claims: Claims) -> Iterator[Finding]:
    """Texts that are given for several fields, or several times in a list, and stand fewer times in the document."""
    kind = claims.kind
    for wanted, pointers in _given(claims).items():
        of_lists = [pointer for pointer in pointers if shape(pointer).endswith("/*")]
        if len({pointer.rpartition("/")[0] for pointer in of_lists}) < len(of_lists):
            yield Finding("same words", "stop", f"{kind.titled(of_lists[0])} is given twice in one list.", tuple(of_lists))
        elif not _may_be_the_same(claims, pointers) and _times(wanted, claims.index) < len(pointers):
            names = " and ".join(dict.fromkeys(kind.titled(pointer) for pointer in pointers[:3]))
            yield Finding("same words", "stop", f"{names} are given the same words, which stand only once in the document.", tuple(pointers))


def _given(claims: Claims) -> dict[str, list[str]]:
    """Where each text was given that was given twice or more."""
    found: dict[str, list[str]] = {}
    for pointer, value in leaves(claims.record):
        field = claims.kind.by_shape.get(shape(pointer))
        if field is not None and isinstance(value, str) and _claims_words(claims, pointer, field) and len(squeezed(value)) >= SHORTEST:
            found.setdefault(squeezed(value), []).append(pointer)
    return {wanted: pointers for wanted, pointers in found.items() if len(pointers) > 1}


def _claims_words(claims: Claims, pointer: str, field: Field) -> bool:
    """Whether a value must have words of its own in the document."""
    return field.manner != DECIDED and field.kind not in _OFTEN_THE_SAME and claims.how(pointer) not in _OF_NO_PRINT


def _may_be_the_same(claims: Claims, pointers: Sequence[str]) -> bool:
    """Whether one text may be meant several times: in several rows, as cells, as times, or where one field says which row is meant."""
    shapes = {shape(pointer) for pointer in pointers}
    in_rows = len(shapes) == 1 and "/*/" in next(iter(shapes))  # whether it belongs there, the rows say
    own = all(pointer in claims.cells or claims.kind.by_shape[shape(pointer)].kind == "time" for pointer in pointers)
    return in_rows or own or _names_a_row(claims.kind, pointers)


def _names_a_row(kind: RecordType, pointers: Sequence[str]) -> bool:
    """Whether one field outside of rows says which row is meant: the present employer among posts, the chair among people, the choice of a list."""
    fields = [kind.by_shape[shape(pointer)] for pointer in pointers]
    outside = [each for each in fields if "/*" not in each.shape]
    if len(outside) == 1 and (_of_one_concept(fields) or _CHOSEN.search(plain(outside[0].worded))):
        return True
    rows = [each for each in fields if "/*/" in each.shape]
    return len({each.shape for each in rows}) == 1 and all(_speaks_of(kind, each, rows[0]) for each in fields if each is not rows[0])


def _of_one_concept(fields: Sequence[Field]) -> bool:
    """Whether two fields mean one thing."""
    concepts = {concept_of(each) for each in fields}
    return len(fields) == 2 and concepts != {""} and (len(concepts) == 1 or concepts <= _HOUSES)


_HOUSES = frozenset(["sender", "employer", "school"])
_CHOSEN = re.compile(
    r"cho(?:ice|sen|ix|isi)|select|pick|favou?rite|gewahlt|auswahl|wahl|retenu|elegid|eleccion|scelt|gekozen|keuze|escolh|valgt|vald|wybran|wybor|vybran"
    r"|current|actual|aktuell|present"
)


def _speaks_of(kind: RecordType, field: Field, of_rows: Field) -> bool:
    """Whether a field's words name the list, or the field of its rows, whose value it repeats: "current job" of "jobs"."""
    about = kind.part(field.shape[:-2]) if field.shape.endswith("/*") and "/*" not in field.shape[:-2] else field.schema
    said = f"{field.shape.replace('/', ' ')} {field.worded} {about.get('description') or ''}"
    return akin(said, f"{of_rows.shape.replace('/', ' ').replace('*', ' ')} {of_rows.worded}")


def _times(wanted: str, index: Index) -> int:
    printed = {(place.page, place.words) for page in index.texts for place in page.find(wanted)}
    told = sum(1 for fact in index.document.facts if not fact.words and wanted in squeezed(fact.value))
    return max(1, len(printed) + told)
