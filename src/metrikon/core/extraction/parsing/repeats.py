"""Lists without what a model said again and again: a small one that has said all there is goes round in a loop.

Two rows alike may both be right; only what is said three times, and more often than it stands in the document, is a loop.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Any

from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.records.pointers import leaves
from metrikon.core.records.types import Field

LOOP = 3  # times that a row is said from which it is taken for a loop


def without_repeats(fields: Sequence[Field], rows: Sequence[Any], index: Index) -> list[Any]:
    """Rows and texts without those of a loop."""
    copied = [each.name for each in fields if each.kind == "text" and each.copied]
    whole = [tuple(squeezed(str(value)) for _, value in leaves(row)) if isinstance(row, dict) else (squeezed(str(row)),) for row in rows]
    called = [_called(row, copied) for row in rows]
    again = {key for key, count in Counter(whole).items() if count >= LOOP and count > _printed(key, index)}
    again |= {texts for texts, count in Counter(called).items() if any(texts) and count >= LOOP and 0 < _printed(texts, index) < count}
    kept: list[Any] = []
    seen: set[tuple[str, ...]] = set()
    for row, key, texts in zip(rows, whole, called, strict=True):
        if any(each in again and each in seen for each in (key, texts)):
            continue
        seen |= {key, texts}
        kept.append(row)
    return kept


def _called(row: Any, copied: Sequence[str]) -> tuple[str, ...]:
    """What a row is called: its texts that are more than figures."""
    texts = [squeezed(str(row.get(each) or "")) for each in copied] if isinstance(row, dict) else []
    return tuple(text for text in texts if any(c.isalpha() for c in text))


def _printed(key: tuple[str, ...], index: Index) -> int:
    """How often the rarest text of a row stands in the document."""
    return min((len(index.find_text(text)) for text in key if len(text) > 2), default=1)
