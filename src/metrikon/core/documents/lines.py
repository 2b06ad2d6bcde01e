"""Words to lines: which words stand on one line of print, and which of them belong together."""

from __future__ import annotations

from collections.abc import Sequence

from metrikon.core.documents.model import Line, Segment, Word

OVERLAP = 0.5  # of the lower word's height: this much shared height puts two words on one line
GAP = 0.68  # of the line's height: a wider gap parts two segments
SPACE = 1.3  # of a character's width: a gap up to this is a space, also where all characters are as wide as each other


def in_lines(words: Sequence[Word]) -> tuple[tuple[Word, ...], tuple[Line, ...]]:
    """Words in reading order with their lines, top to bottom and left to right."""
    rows: list[list[Word]] = []
    for word in sorted(words, key=lambda w: ((w.y0 + w.y1) / 2, w.x0)):
        for row in reversed(rows[-4:]):
            if _shares_line(row, word):
                row.append(word)
                break
        else:
            rows.append([word])
    rows.sort(key=lambda row: min([(w.y0 + w.y1) / 2 for w in row]))
    ordered: list[Word] = []
    lines: list[Line] = []
    for row in rows:
        row.sort(key=lambda w: w.x0)
        lines.append(Line(tuple(_segments(row, len(ordered)))))
        ordered.extend(row)
    return tuple(ordered), tuple(lines)


def _shares_line(row: list[Word], word: Word) -> bool:
    last = row[-1]
    top, foot, above, below = word.y0, word.y1, last.y0, last.y1
    if below <= top:
        return False
    shared = (below if below < foot else foot) - (above if above > top else top)
    return shared > OVERLAP * min(below - above, foot - top) and not _covers(row, word)


def _covers(row: list[Word], word: Word) -> bool:
    """Whether a word of the row stands in the same place (then they are two lines, printed close)."""
    middle = (word.x0 + word.x1) / 2
    for w in row:  # noqa: SIM110
        if w.x0 < middle < w.x1 and abs(w.y0 - word.y0) > 1:
            return True
    return False


def _segments(row: list[Word], start: int) -> list[Segment]:
    heights = sorted(w.y1 - w.y0 for w in row)
    wide, wider = GAP * heights[len(heights) // 2], 0.0
    parts: list[list[Word]] = [[row[0]]]
    for word in row[1:]:
        last = parts[-1]
        reach = last[-1].x1 if len(last) == 1 else max(last[-1].x1, last[-2].x1)
        gap = word.x0 - reach
        if gap > wide:
            wider = wider or SPACE * sum(w.x1 - w.x0 for w in row) / sum(len(w.text) for w in row)
        if gap > wide and gap > wider:
            parts.append([word])
        else:
            last.append(word)
    found = []
    for part in parts:
        if len(part) == 1:
            (word,) = part
            found.append(Segment(start, start + 1, word.text, word.x0, word.y0, word.x1, word.y1))
            start += 1
            continue
        text = " ".join(w.text for w in part)
        found.append(
            Segment(
                start,
                start + len(part),
                text,
                part[0].x0,
                min(w.y0 for w in part),
                max(w.x1 for w in part),
                max(w.y1 for w in part),
            )
        )
        start += len(part)
    return found
