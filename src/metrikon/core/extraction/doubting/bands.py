"""The lines on which rows stand."""

from __future__ import annotations

from collections.abc import Sequence

from metrikon.core.extraction.doubting.seen import Seen
from metrikon.core.extraction.indexing.index import squeezed

NEAR = 6  # lines within which the values of one row stand, at most


ENOUGH = 0.96  # of the values that wider bands would hold


def bands_of(seen: Sequence[Sequence[Seen]]) -> list[tuple[int, int] | None]:
    """For each row the lines on which it stands: as few for all rows as hold nearly as many values as more would."""
    most = [_band(each, NEAR) for each in seen]
    wanted = ENOUGH * sum(held for held, _ in most) - 1
    for near in range(NEAR):
        found = [_band(each, near) for each in seen]
        if sum(held for held, _ in found) >= wanted:
            most = found
            break
    made: list[tuple[int, int] | None] = []
    before = -1
    for (held, bands), each in zip(most, seen, strict=True):
        own = next((band for band in bands if band[0] > before), bands[0]) if held >= 2 else _alone(each)
        before = own[0] if own is not None else before
        made.append(own)
    return made


def _alone(values: Sequence[Seen]) -> tuple[int, int] | None:
    """The line of a row of which only one text is found, when that stands only once."""
    lines = [each.at[0][0] for each in values if len(each.at) == 1 and isinstance(each.value, str) and len(squeezed(each.value)) > 1]
    return (lines[0], lines[0]) if lines else None


def _band(values: Sequence[Seen], near: int) -> tuple[int, list[tuple[int, int]]]:
    """How many values of a row stand together at most, and the fewest lines, at most `near` apart, on which they do: all such places."""
    spots = sorted((line, number) for number, each in enumerate(values) for line, _ in each.at)
    best, places = (0, 0), [(0, 0)]
    for start, (line, _) in enumerate(spots):
        held: set[int] = set()
        for end in range(start, len(spots)):
            if spots[end][0] - line > near:
                break
            if spots[end][1] not in held:
                held.add(spots[end][1])
                score = (len(held), -(spots[end][0] - line))
                if score > best:
                    best, places = score, []
                if score == best and (line, spots[end][0]) not in places:
                    places.append((line, spots[end][0]))
    return best[0], places
