"""Lists without what a model said again and again: a small one that has said all there is goes round in a loop."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Any

from metrikon.core.extraction.index import Index, squeezed
from metrikon.core.records.pointers import leaves
from metrikon.core.records.types import Field

LOOP = 3  # times that a row is said from which it is taken for a loop


def without_repeats(fields: Sequence[Field], rows: Sequence[Any], index: Index) -> list[Any]:
    """Rows and texts as often as they stand; of rows that share what only one of them can have, the first."""
    copied = [each.name for each in fields if each.kind == "text" and each.copied]
    times = [each.name for each in fields if each.kind in ("month", "date", "moment")]
    whole = [tuple(squeezed(str(value)) for _, value in leaves(row)) if isinstance(row, dict) else (squeezed(str(row)),) for row in rows]
    called = [_called(row, copied) for row in rows]
    again = {key for key, count in Counter(whole).items() if count >= LOOP and count > _printed(key, index)}
    again |= {texts for texts, count in Counter(called).items() if any(texts) and count >= LOOP and 0 < _printed(texts, index) < count}
    scarce = {text for text, count in Counter(text for texts in called for text in set(texts)).items() if 0 < len(index.find_text(text)) < count}
    kept: list[Any] = []
    seen: set[tuple[str, ...]] = set()
    for row, key, texts in zip(rows, whole, called, strict=True):
        if any(each in again and each in seen for each in (key, texts)):
            continue
        seen |= {key, texts}
        if not any(_of_one(row, other, times, copied, scarce) for other in kept):
            kept.append(row)
    return kept


def _of_one(row: Any, other: Any, times: Sequence[str], copied: Sequence[str], scarce: set[str]) -> bool:
    """Whether two rows share what only one can have: all their times, or the times that they have and a text that stands too seldom for both."""
    if not (isinstance(row, dict) and isinstance(other, dict)) or not times:
        return False
    span = [row.get(each) for each in times]
    if span != [other.get(each) for each in times] or not any(span):
        return False
    if len(times) > 1 and all(span):
        return True
    return any(row.get(each) and row.get(each) == other.get(each) and squeezed(str(row[each])) in scarce for each in copied)


def _called(row: Any, copied: Sequence[str]) -> tuple[str, ...]:
    """What a row is called: its texts that are more than figures."""
    texts = [squeezed(str(row.get(each) or "")) for each in copied] if isinstance(row, dict) else []
    return tuple(text for text in texts if any(c.isalpha() for c in text))


def _printed(key: tuple[str, ...], index: Index) -> int:
    """How often the rarest text of a row stands in the document."""
    return min((len(index.find_text(text)) for text in key if len(text) > 2), default=1)
