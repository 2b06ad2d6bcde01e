"""Rows that are parts alike of a page: a telephone number or an address of a row stands in the part of the row, or it is another's."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from itertools import pairwise
from typing import Any

from metrikon.core.documents.setting import PITCH
from metrikon.core.extraction.indexing.forms import EXTENSION, formed
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.types import Field, RecordType
from metrikon.core.values.web import parse_mail

Part = list[tuple[int, int]]  # lines: page, number


def of_their_parts(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index) -> dict[str, Any]:
    """Values of rows that stand outside the part of their row, by pointer, with what stands within it, or None where nothing does."""
    parts = index.once("parts", parts_of) if index.document.alike else []
    instead: dict[str, Any] = {}
    for pointer, fields in kind.lists.items() if parts else ():
        wanted = [each for each in fields if each.kind in ("phone", "mail") and each.nullable and "/" not in each.shape.rpartition("/*/")[2]]
        rows = record.get(pointer[1:]) if pointer.count("/") == 1 and wanted else None
        for number, _ in enumerate(rows if isinstance(rows, list) else ()):
            above = f"{pointer}/{number}/"
            at = {each: _line(known, index) for each, known in evidence.items() if each.startswith(above) and known.how in ("printed", "mapped")}
            part = _own(parts, [line for each, line in at.items() if line and each[len(above) :] not in {f.name for f in wanted}])
            for each in wanted if part else ():
                line = at.get(above + each.name)
                if part and line is not None and line not in part:
                    found = list(dict.fromkeys(_held(each, part, index)))
                    instead[above + each.name] = found[0] if len(found) == 1 else None
    return instead


def parts_of(index: Index) -> list[Part]:
    """The lines of each part alike: from where it begins to where the next does, or to the next gap."""
    starts = sorted((each.page, each.line) for each in index.document.alike)
    lines = [(page.number, number) for page in index.document.pages for number in range(len(page.lines))]
    place = {line: n for n, line in enumerate(lines)}
    found = []
    for one, two in pairwise([*starts, (0, 0)]):
        first = place[one]
        last = next((n for n in range(first + 1, len(lines)) if lines[n] == two or _apart(lines[n], index)), len(lines))
        found.append(lines[first:last])
    return found


def _apart(line: tuple[int, int], index: Index) -> bool:
    page, number = index.pages[line[0]], line[1]
    return number > 0 and page.lines[number].box[1] - page.lines[number - 1].box[1] > 1.5 * PITCH


def _line(known: Evidence, index: Index) -> tuple[int, int] | None:
    page = index.pages.get(known.page)
    if page is None or known.box is None:
        return None
    middle = (known.box[1] + known.box[3]) / 2
    return next(((page.number, n) for n, line in enumerate(page.lines) if line.box[1] <= middle <= line.box[3]), None)


def _own(parts: list[Part], lines: list[tuple[int, int]]) -> Part | None:
    """The part that most of some lines belong to."""
    counts = Counter(n for n, part in enumerate(parts) for line in lines if line in part)
    best = counts.most_common(1)
    return parts[best[0][0]] if best and best[0][1] * 2 > len(lines) else None


def _held(field: Field, part: Part, index: Index) -> Iterator[str]:
    """The values of a field's kind in a part."""
    for number, line in part:
        page = index.pages[number]
        words = [word.text for word in page.words[page.lines[line].first : page.lines[line].last]]
        for text in words:
            bare = text.strip(",;.<>()")
            if field.kind == "mail" and (mail := parse_mail(bare)):
                yield mail
            elif field.kind == "phone" and EXTENSION.fullmatch(text.strip(",;.")) and (whole := formed(field, text.strip(",;."), index)):
                yield whole
