"""A reading scored against the right record, value by value.

Numbers are the same within half a cent, dates and times by what they mean, texts without case, accents of writing, blanks and
punctuation, yes and no exactly. Rows of a list are paired so that most of their values agree (assignment by the Hungarian method,
Kuhn 1955). A value is *right*, *wrong* (another one), *missing* (none was given), or *invented* (given where nothing is right).
Texts in one's own words (`loose`) are compared by the words they share and counted apart.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from decimal import Decimal
from typing import Any

from metrikon.core.records.manner import DECIDED
from metrikon.core.records.types import RecordType

NEAR = Decimal("0.005")
ALIKE = 0.6  # share of words that two texts in one's own words must have in common


@dataclass(frozen=True)
class Rules:
    """What else counts as right, by path such as "lines[].name": further values, texts compared loosely, paths where nothing is right too."""

    accept: Mapping[str, Sequence[Any]] = field(default_factory=dict)
    loose: frozenset[str] = frozenset()
    accept_null: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Miss:
    """One value that is not as it should be. `what`: "wrong", "missing", "invented" or "loose"."""

    path: str
    what: str
    right: Any
    given: Any

    def __str__(self) -> str:
        return f"{self.what} {self.path}: {str(self.given)[:70]!r} for {str(self.right)[:70]!r}"


@dataclass
class Score:
    """Counts over the values of one record. `empty`: values that the right record leaves empty; `by_field`: the counts by path."""

    right: int = 0
    wrong: int = 0
    missing: int = 0
    invented: int = 0
    empty: int = 0
    loose_right: int = 0
    loose: int = 0
    errors: list[Miss] = field(default_factory=list)
    by_field: dict[str, dict[str, int]] = field(default_factory=dict)
    pairs: list[tuple[str, bool]] = field(default_factory=list)  # JSON Pointer in the reading, whether it is right

    @property
    def whole(self) -> bool:
        """Whether the record is wholly right."""
        return not (self.wrong or self.missing or self.invented)

    def note(self, what: str, path: str, pointer: str, right: Any = None, given: Any = None) -> None:
        """Count one value."""
        if what != "empty":
            counts = self.by_field.setdefault(path, dict.fromkeys(("right", "wrong", "missing", "invented"), 0))
            counts[what] += 1
        setattr(self, what, getattr(self, what) + 1)
        if what in ("right", "wrong", "invented"):
            self.pairs.append((pointer, what == "right"))
        if what not in ("right", "empty"):
            self.errors.append(Miss(path, what, right, given))


def score_record(kind: RecordType, right: Any, given: Any, rules: Rules | None = None) -> Score:
    """The score of a record. Texts in one's own words are loose by their manner where no rules say otherwise."""
    own = frozenset(each.shape[1:].replace("/*/", "[].").replace("/", ".") for each in kind.fields if each.manner == DECIDED and each.kind == "text")
    walker = _Walker(rules or Rules(loose=own))
    walker.walk("", "", right, given)
    return walker.score


def empty(value: Any) -> bool:
    """Whether a value says nothing."""
    return value is None or value == [] or value == {} or (isinstance(value, str) and not value.strip())


def same(one: Any, two: Any) -> bool:
    """Whether two values mean the same."""
    if isinstance(one, bool) or isinstance(two, bool):
        return one is two
    if isinstance(one, int | float | Decimal):
        return isinstance(two, int | float | Decimal) and abs(Decimal(str(one)) - Decimal(str(two))) <= NEAR
    if isinstance(one, str) and isinstance(two, str):
        moments = _moment(one), _moment(two)
        if moments[0] and moments[1]:
            return moments[0] == moments[1] or (len(one) == 10 and moments[0].date() == moments[1].date())
        return _squeezed(one) == _squeezed(two)
    return bool(one == two)


def _moment(text: str) -> datetime | None:
    if not re.match(r"\d{4}-\d\d-\d\d", text):
        return None
    try:
        return datetime.fromisoformat(text.strip().replace("Z", "+00:00").replace(" ", "T", 1)).replace(second=0, microsecond=0, tzinfo=None)
    except ValueError:
        return None


def _squeezed(text: str) -> str:
    return "".join(c for c in unicodedata.normalize("NFKC", text).casefold() if unicodedata.category(c)[0] not in "PZC")


def _words(text: str) -> set[str]:
    return {word for word in re.split(r"\W+", unicodedata.normalize("NFKC", text).casefold()) if len(word) > 2} or set(text.casefold().split())


class _Walker:
    def __init__(self, rules: Rules) -> None:
        self.rules = rules
        self.score = Score()

    def equal(self, path: str, right: Any, given: Any) -> bool:
        more = self.rules.accept.get(path, ())
        options = more.get(str(right), ()) if isinstance(more, Mapping) else more
        if empty(given):
            return path in self.rules.accept_null or any(empty(each) for each in options)
        return same(right, given) or any(not empty(each) and same(each, given) for each in options)

    def alike(self, path: str, right: Any, given: Any) -> bool:
        if empty(given):
            return path in self.rules.accept_null
        one, two = _words(str(right)), _words(str(given))
        return self.equal(path, right, given) or (
            bool(one and two) and len(one & two) >= ALIKE * min(len(one), len(two)) and len(two) >= 0.4 * len(one)
        )

    def walk(self, path: str, pointer: str, right: Any, given: Any) -> None:
        if isinstance(right, Mapping):
            own = given if isinstance(given, Mapping) else {}
            for name, part in right.items():
                self.walk(f"{path}.{name}" if path else name, f"{pointer}/{name}", part, own.get(name))
        elif isinstance(right, list):
            self._list(path, pointer, right, given if isinstance(given, list) else [] if empty(given) else [given])
        elif empty(right):
            self.score.note("empty", path, pointer)
            if not empty(given) and not any(not empty(each) and same(each, given) for each in self.rules.accept.get(path, ())):
                for _ in leaves_of(given):
                    self.score.note("invented", path, pointer, right, given)
        elif path in self.rules.loose:
            self.score.loose += 1
            self.score.loose_right += self.alike(path, right, given)
        elif self.equal(path, right, given):
            if not empty(given):
                self.score.note("right", path, pointer)
        else:
            self.score.note("missing" if empty(given) else "wrong", path, pointer, right, given)

    def _list(self, path: str, pointer: str, right: list[Any], given: list[Any]) -> None:
        inner = f"{path}[]"
        if not right:
            self.score.note("empty", path, pointer)
        pairs = paired([[self._likeness(inner, one, two) for two in given] for one in right]) if right and given else {}
        for number, part in enumerate(right):
            at = pairs.get(number)
            self.walk(inner, f"{pointer}/{at}", part, given[at] if at is not None else ({} if isinstance(part, Mapping) else None))
        for number in sorted(set(range(len(given))) - set(pairs.values())):
            for _ in leaves_of(given[number]):
                if inner not in self.rules.loose:
                    self.score.note("invented", inner, f"{pointer}/{number}", None, given[number])

    def _likeness(self, path: str, one: Any, two: Any) -> float:
        if isinstance(one, Mapping) and isinstance(two, Mapping):
            shares = [0.01 * empty(two.get(k)) if empty(v) else self._likeness(f"{path}.{k}", v, two.get(k)) for k, v in one.items()]
            return float(sum(shares))
        if isinstance(one, list | Mapping):
            return 0.3 if one == two else 0.0
        if empty(two):
            return 0.0
        if self.equal(path, one, two):
            return 1.0
        first, second = (_words(str(one)), _words(str(two))) if isinstance(one, str) and isinstance(two, str) else (set(), set())
        return 0.5 * len(first & second) / max(len(first), len(second)) if first and second else 0.0


def leaves_of(value: Any) -> Iterator[Any]:
    """The values in a value that say something."""
    if isinstance(value, Mapping):
        for part in value.values():
            yield from leaves_of(part)
    elif isinstance(value, list):
        for part in value:
            yield from leaves_of(part)
    elif not empty(value):
        yield value


def paired(likeness: Sequence[Sequence[float]]) -> dict[int, int]:
    """Pairs of rows by which the sum of their likeness is largest: row of the first to row of the second."""
    rows, columns = len(likeness), len(likeness[0])
    if rows == columns and all(likeness[n][n] >= max(likeness[n]) - 1e-9 for n in range(rows)):
        return {n: n for n in range(rows)}
    top = max(max(row) for row in likeness) + 1
    cost = [[top - likeness[i][j] + 1e-6 * abs(i - j) for j in range(columns)] for i in range(rows)]
    turned = rows > columns
    if turned:
        cost = [list(column) for column in zip(*cost, strict=True)]
    found = _hungarian(cost)
    return {two: one for one, two in found.items()} if turned else found


def _hungarian(cost: Sequence[Sequence[float]]) -> dict[int, int]:
    """The cheapest assignment of each row to a column of its own; no more rows than columns. O(n³), by potentials."""
    n, m = len(cost), len(cost[0])
    row_potential, column_potential = [0.0] * (n + 1), [0.0] * (m + 1)
    owner, way = [0] * (m + 1), [0] * (m + 1)
    for row in range(1, n + 1):
        owner[0], at = row, 0
        least, seen = [float("inf")] * (m + 1), [False] * (m + 1)
        while owner[at]:
            seen[at] = True
            here, step, following = owner[at], float("inf"), 0
            for column in range(1, m + 1):
                if seen[column]:
                    continue
                reduced = cost[here - 1][column - 1] - row_potential[here] - column_potential[column]
                if reduced < least[column]:
                    least[column], way[column] = reduced, at
                if least[column] < step:
                    step, following = least[column], column
            for column in range(m + 1):
                if seen[column]:
                    row_potential[owner[column]] += step
                    column_potential[column] -= step
                else:
                    least[column] -= step
            at = following
        while at:
            owner[at], at = owner[way[at]], way[at]
    return {owner[column] - 1: column - 1 for column in range(1, m + 1) if owner[column]}
