"""Sums carried from page to page: no rows of a table, but kept as facts, so that nothing that is printed is lost."""

from __future__ import annotations

import re
from collections.abc import Iterable

from metrikon.core.documents.columns import has_figure
from metrikon.core.documents.model import Fact, Page

_CARRIED = re.compile(
    r"\b(?:carried|brought)\s+(?:forward|over)\b|\bübertrag\b|^reporté?\b.{0,12}$|\bà reporter\b|\btransport(?:eren)?\b|\ba riportare\b",
    re.IGNORECASE,
)


def carried_sums(pages: Iterable[Page]) -> list[Fact]:
    """A fact for each line that carries a sum over to the next page, or brings it from the one before."""
    found = []
    for page in pages:
        for number, line in enumerate(page.lines, 1):
            words = [s for s in line.segments if not has_figure(s.text)]
            figures = [s for s in line.segments if has_figure(s.text)]
            label = " ".join(s.text for s in words)
            if len(figures) == 1 and len(words) <= 2 and _CARRIED.search(label):
                (figure,) = figures
                place = f"/page[{page.number}]/line[{number}]"
                found.append(Fact("carried forward", place, label, figure.text, "", page.number, tuple(range(figure.first, figure.last))))
    return found
