"""A model that is always right, or that lies once a document: what do we make of it? No language model is needed.

    python -m bench.perfect CASES [--only PREFIX] [--share 0.5 --seed 28 [--rest]] [--lies SEEDS] [--again] [--second]
                            [--closed honest|first|own|none]
                            [--columns none|cells|worse] [--out DIR] [--kept DIR] [--verbose]

CASES holds folders with `doc.*`, `schema.json` and `truth.json`. The model answers each request with the truth, cut to the schema
that was asked. Where columns of a table are asked for, it says "none", or which column holds the cells of the truth; of both the
worse one counts. With --lies it is run once for each seed besides, with one value a document wrong: in its first reading only, or
in each answer (--again). --share and --seed draw some of the cases, --rest takes the others.
Told at the end: how many records a flow would write unattended at its ordinary limit (no finding that stops, no value below it) with
every right value kept and none put in, by kind; which checks stopped the others; how many right values were kept, over all and as
the mean by document; and how many lies would have been written unattended, by the kind of lie.
"""

from __future__ import annotations

import argparse
import collections
import copy
import datetime
import json
import math
import random
import re
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

from bench.cases import Case, cases
from metrikon.core.documents.model import Table
from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.records.checks import doubtful, doubts
from metrikon.core.records.confidence import UNATTENDED
from metrikon.core.values.exact import dumps
from metrikon.core.values.numbers import parse_number
from metrikon.drivers.extract import Extracted, extract
from metrikon.drivers.paper import LocalPaper
from metrikon.ports.model import ModelAnswer, ModelRequest, Usage
from metrikon.ports.reader import Refused

TODAY = "2026-11-26"


WAYS = ("none", "cells")  # in which columns of a table are answered


@dataclass
class Perfect:
    """Answers with the truth; `lied` in the first reading, or in each answer (`again`). `cells`: the document whose columns are told."""

    truth: Mapping[str, Any]
    lied: Mapping[str, Any] | None = None
    again: bool = False
    closed: str = "honest"  # how closed questions are answered: by what it knows, always "first", always its "own", always "none"
    cells: Index | None = None
    chance: float = 1.0  # which its server tells of each token
    name: str = "perfect"
    room: int = 24_000
    sees: int = 0
    calls: int = 0
    unknown: collections.Counter[str] = field(default_factory=collections.Counter)

    def answer(self, request: ModelRequest) -> ModelAnswer:
        """The truth, in the form that was asked."""
        self.calls += 1
        if request.stage == "doubt" and self.closed in ("first", "none"):
            return self._closed(request)
        own = self.closed == "own" and request.stage == "doubt"
        lies = self.lied is not None and (request.stage == "ask" or own or (self.again and request.stage != "second"))
        text = dumps(self._cut(request.schema, self.lied if lies else self.truth)).decode()
        read = sum(len(each["content"]) for each in request.messages) // 4
        tokens = ((len(text), math.log(self.chance)),) if self.chance < 1 else ()
        return ModelAnswer(text, Usage(read, len(text) // 4, 1), tokens=tokens)

    def _closed(self, request: ModelRequest) -> ModelAnswer:
        """An answer that was not thought about: the first of what may be said, or none."""
        return ModelAnswer(dumps(_first(request.schema, self.closed == "first")).decode(), Usage(1, 1, 1))

    def _cut(self, schema: Mapping[str, Any], value: Any) -> Any:
        if "enum" in schema and value is not None and value not in schema["enum"]:
            return next((option for option in schema["enum"] if option is not None and _same(option, value)), None)
        if "properties" in schema:
            asked = schema["properties"]
            if "columns" in asked and not isinstance(value, dict):
                table = self._table(asked["columns"]["properties"])
                told = (
                    dict.fromkeys(asked["columns"]["properties"], "none") if table is None else _columns(asked["columns"]["properties"], table, value)
                )
                odd = asked["not_rows"]["items"]["enum"] if "not_rows" in asked else []
                return {"columns": told, **({"not_rows": _no_rows(odd, table, value)} if odd else {})}
            own = value if isinstance(value, dict) else {}
            self.unknown.update(name for name in asked if isinstance(value, dict) and name not in own)
            return {name: self._cut(part, own.get(name)) for name, part in asked.items()}
        if "items" in schema and isinstance(value, list):
            return [self._cut(schema["items"], part) for part in value]
        return value

    def _table(self, asked: Mapping[str, Any]) -> Table | None:
        """The table whose columns are asked for; none where columns are answered with "none"."""
        heads = [head for part in asked.values() for head in part["enum"] if head != "none"]
        tables = self.cells.document.tables if self.cells is not None else ()
        return next((each for each in tables if _heads(each.header) == list(dict.fromkeys(heads))), None)


def _first(schema: Mapping[str, Any], first: bool) -> Any:
    if "properties" in schema:
        return {name: _first(part, first) for name, part in schema["properties"].items()}
    return schema["enum"][0] if first else None


def _columns(asked: Mapping[str, Any], table: Table, rows: Any) -> dict[str, str]:
    """For each field the head under which most of its cells stand, as a reader would say; "none" where none holds most."""
    told = dict.fromkeys(asked, "none")
    heads = _heads(table.header)
    at = [_row_of(row, table) for row in rows or () if isinstance(row, dict)]
    for name in asked:
        wanted = [(n, _as_cell(row.get(name))) for n, row in zip(at, rows or (), strict=False) if row.get(name) is not None and n is not None]
        held = [sum(_cell(table, n, column) == text for n, text in wanted) for column in range(len(heads))]
        best = max(range(len(heads)), key=lambda column: held[column])
        told[name] = heads[best] if wanted and held[best] * 2 > len(wanted) else "none"
    return told


def _row_of(row: Mapping[str, Any], table: Table) -> int | None:
    """The row of a table that holds most values of a record's row; none where none holds two."""
    wanted = {_as_cell(value) for value in row.values() if value is not None}
    called = {each for each in wanted if len(each) > 3 and not each.isdigit()}
    held = [[cell for column in range(len(table.header)) if (cell := _cell(table, n, column)) in wanted] for n in range(len(table.rows))]
    best = max(range(len(held)), key=lambda n: len(held[n]), default=0)
    return best if held and (len(held[best]) > 1 or called & set(held[best])) else None


def _cell(table: Table, row: int, column: int) -> str:
    """A cell as it is compared: figures as a number is written by us."""
    cells = table.rows[row]
    text = cells[column].text if column < len(cells) else ""
    number = parse_number(text, None)
    return squeezed(f"{number.normalize():f}" if number is not None else text) or "-"


def _as_cell(value: Any) -> str:
    number = isinstance(value, int | Decimal) and not isinstance(value, bool)
    return squeezed(f"{Decimal(value).normalize():f}" if number else str(value))


def _no_rows(odd: Sequence[int], table: Table | None, rows: Any) -> list[int]:
    """Of the rows that look unlike the others those that are none of the truth's."""
    if table is None:
        return []
    own = {_row_of(row, table) for row in rows or () if isinstance(row, dict)}
    return [number for number in odd if number - 1 not in own]


def _heads(header: Sequence[Any]) -> list[str]:
    texts = [cell.text for cell in header]
    return [text if text and texts.count(text) == 1 else f"column {n}" for n, text in enumerate(texts, 1)]


def leaves(value: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[tuple[Any, ...], Any]]:
    """All leaves with their paths, those without a value too."""
    if isinstance(value, dict):
        for name, part in value.items():
            yield from leaves(part, (*path, name))
    elif isinstance(value, list):
        for number, part in enumerate(value):
            yield from leaves(part, (*path, number))
    else:
        yield path, value


def at(value: Any, path: tuple[Any, ...]) -> Any:
    """The value at a path; None where there is none."""
    for step in path:
        try:
            value = value[step]
        except (KeyError, IndexError, TypeError):
            return None
    return value


def _schema_at(schema: Mapping[str, Any], path: tuple[Any, ...]) -> Mapping[str, Any]:
    for step in path:
        schema = schema.get("items", {}) if isinstance(step, int) else schema.get("properties", {}).get(step, {})
    return schema


@dataclass(frozen=True)
class Lie:
    """What was made wrong: the record with it, where it stands, what kind of lie it is, the wrong value."""

    record: Mapping[str, Any]
    path: tuple[Any, ...]
    kind: str
    wrong: Any


def lie(truth: Mapping[str, Any], schema: Mapping[str, Any], dice: random.Random) -> Lie | None:
    """The truth with one leaf made wrong."""
    every = list(leaves(truth))
    dice.shuffle(every)
    texts = [value for _, value in every if isinstance(value, str) and len(value) > 3]
    numbers = [value for _, value in every if isinstance(value, int | Decimal) and not isinstance(value, bool)]
    for path, value in every:
        found = _wrong(value, _schema_at(schema, path), texts, numbers, dice)
        if found is None or found[1] is None or found[1] == value:
            continue
        lied = copy.deepcopy(dict(truth))
        spot: Any = lied
        for step in path[:-1]:
            spot = spot[step]
        spot[path[-1]] = found[1]
        return Lie(lied, path, *found)
    return None


def _wrong(value: Any, schema: Mapping[str, Any], texts: list[str], numbers: list[Any], dice: random.Random) -> tuple[str, Any] | None:
    if value is None:
        return "invented", _invented(schema)
    if isinstance(value, bool):
        return "yes/no turned", not value
    if "enum" in schema:
        return "another option", dice.choice([option for option in schema["enum"] if option not in (value, None)] or [None])
    if isinstance(value, int | Decimal):
        others = [number for number in numbers if number != value]
        if others and dice.random() < 0.5:
            return "another number of the document", dice.choice(others)
        return "a digit changed", round(value + dice.choice([Decimal(1), Decimal(10), Decimal("0.1"), Decimal(-1)]), 2)
    if re.fullmatch(r"\d{4}-\d\d-\d\d", value):
        moved = datetime.date.fromisoformat(value) + datetime.timedelta(days=dice.choice([1, 10, 30, -7]))
        return "another date", moved.isoformat()
    if len(value) > 3:
        others = [text for text in texts if text != value]
        if others and dice.random() < 0.5:
            return "another text of the document", dice.choice(others)
        place = dice.randrange(len(value))
        return "a letter changed", value[:place] + ("7" if value[place].isdigit() else "x") + value[place + 1 :]
    return None


def _invented(schema: Mapping[str, Any]) -> Any:
    types = schema.get("type", [])
    types = [types] if isinstance(types, str) else types
    if "number" in types:
        return Decimal("41.7")
    if "integer" in types:
        return 3
    if "boolean" in types:
        return True
    return "2025-11-09" if schema.get("format") == "date" else None if "enum" in schema else "Wexcombe 4471"


def _same(one: Any, two: Any) -> bool:
    if isinstance(one, bool) or isinstance(two, bool):
        return one is two
    if isinstance(one, int | float | Decimal) and isinstance(two, int | float | Decimal):
        return abs(Decimal(str(one)) - Decimal(str(two))) <= Decimal("0.005")
    squeezed = [re.sub(r"[\W_]+", "", str(each)).casefold() for each in (one, two)]
    return squeezed[0] == squeezed[1]


def read_by(case: Case, model: Perfect, second: bool = False) -> Extracted:
    """What we make of a model's answers on a case."""
    return extract(model, case.record_type, LocalPaper(case.index), TODAY, second_reading=model if second else None)


def unattended(case: Case, found: Extracted) -> list[str]:
    """The checks that keep a record from being written unattended by a flow at its ordinary limit; none when it would be."""
    reading = found.reading
    low = doubts(case.record_type, reading.evidence)
    told = {pointer for each in reading.findings for pointer in each.fields}
    unsure = doubtful(case.record_type, reading.record, low, UNATTENDED, told)
    below = [each for each in reading.evidence.values() if each.confidence < UNATTENDED]
    stopping = [each.check for each in [*reading.findings, *unsure] if each.level == "stop"]
    return stopping or ["doubtful"] * bool(below)


def damage(case: Case, record: Mapping[str, Any]) -> list[str]:
    """Right values that were changed, and values where the truth has none."""
    right = dict(leaves(case.truth))
    told = [
        f"{path}: {value!r} became {at(record, path)!r}"
        for path, value in right.items()
        if value not in (None, "") and not _same(value, at(record, path))
    ]
    put_in = [(path, value) for path, value in leaves(record) if value not in (None, "") and right.get(path) in (None, "")]
    return told + [f"{path}: {value!r} was put in" for path, value in put_in]


@dataclass
class Tally:
    """Counts over some cases."""

    through: collections.Counter[str] = field(default_factory=collections.Counter)
    total: collections.Counter[str] = field(default_factory=collections.Counter)
    stopped: collections.Counter[str] = field(default_factory=collections.Counter)
    lies: collections.Counter[str] = field(default_factory=collections.Counter)
    written: collections.Counter[str] = field(default_factory=collections.Counter)
    right: int = 0
    changed: int = 0
    put_in: int = 0
    shares: list[float] = field(default_factory=list)  # of right values kept, by document
    calls: int = 0
    told: list[str] = field(default_factory=list)

    def add(self, other: Tally) -> None:
        """Take in what another counted."""
        for name in ("through", "total", "stopped", "lies", "written"):
            getattr(self, name).update(getattr(other, name))
        self.right += other.right
        self.changed += other.changed
        self.put_in += other.put_in
        self.calls += other.calls
        self.shares += other.shares
        self.told += other.told


@dataclass(frozen=True)
class Given:
    """What is to be measured."""

    lies: int
    again: bool
    second: bool
    closed: str
    ways: tuple[str, ...]
    out: Path | None


def run_true(case: Case, tally: Tally, given: Given) -> None:
    """One case with a model that is right; of the ways of answering the worse one counts."""
    tried = []
    for way in given.ways:
        model = Perfect(case.truth, cells=case.index if way == "cells" else None)
        found = read_by(case, model, given.second)
        tried.append((damage(case, found.reading.record), unattended(case, found), found, way, model.calls))
    bad, stopping, found, way, calls = max(tried, key=lambda each: (len(each[0]), len(each[1])))
    tally.calls += calls
    tally.total[case.kind] += 1
    tally.through[case.kind] += not bad and not stopping
    tally.stopped.update(set(stopping))
    right = sum(1 for _, value in leaves(case.truth) if value not in (None, ""))
    changed = sum(1 for each in bad if not each.endswith("was put in"))
    tally.right += right
    tally.changed += changed
    tally.put_in += len(bad) - changed
    tally.shares.append(1 - changed / max(1, right))
    tally.told += [f"  {case.name} ({way}) {each}" for each in bad]
    tally.told += [f"  {case.name} ({way}) {f.check} {f.fields}: {f.message[:200]}" for f in found.reading.findings if f.level == "stop"]
    low = {pointer: each for pointer, each in found.reading.evidence.items() if each.confidence < UNATTENDED}
    tally.told += [
        f"  {case.name} ({way}) sure {each.confidence} {pointer} {at(found.reading.record, steps_of(pointer))!r} {each.how} {each.inputs}"
        for pointer, each in low.items()
    ]
    if given.out:
        given.out.mkdir(parents=True, exist_ok=True)
        (given.out / f"{case.name}.json").write_bytes(dumps(found.reading.record))


def steps_of(pointer: str) -> tuple[Any, ...]:
    """A pointer as a path."""
    return tuple(int(part) if part.isdigit() else part for part in pointer.split("/")[1:])


def run_lies(case: Case, tally: Tally, given: Given) -> None:
    """One case with as many lies as there are seeds."""
    for seed in range(given.lies):
        told = lie(case.truth, case.record_type.schema, random.Random(f"{case.name} {seed}"))
        if told is None:
            continue
        found = read_by(case, Perfect(case.truth, told.record, given.again, given.closed), given.second)
        through = not unattended(case, found) and _same(at(found.reading.record, told.path), told.wrong)
        tally.lies[told.kind] += 1
        tally.written[told.kind] += through
        if through:
            tally.told.append(f"  written: {case.name} {told.path} {told.kind}: {told.wrong!r} for {at(case.truth, told.path)!r}")


def measured(case: Case, given: Given) -> Tally:
    """What one case comes to."""
    tally = Tally()
    try:
        run_true(case, tally, given)
        run_lies(case, tally, given)
    except Refused as error:  # nothing is made of a file that is not read
        right = sum(1 for _, value in leaves(case.truth) if value not in (None, ""))
        tally = Tally(total=collections.Counter([case.kind]), stopped=collections.Counter(["not read"]), right=right, changed=right, shares=[0.0])
        tally.told.append(f"  {case.name} was not read: {error}")
    return tally


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("cases", type=Path)
    parser.add_argument("--only", default="")
    parser.add_argument("--share", type=float, default=1.0, help="the share of the cases that is drawn")
    parser.add_argument("--seed", type=int, default=0, help="by which they are drawn")
    parser.add_argument("--rest", action="store_true", help="those that were not drawn")
    parser.add_argument("--lies", type=int, default=0, metavar="SEEDS")
    parser.add_argument("--again", action="store_true", help="the lie stands in each answer")
    parser.add_argument(
        "--closed", choices=("honest", "first", "own", "none"), default="honest", help="how closed questions are answered with --lies"
    )
    parser.add_argument("--second", action="store_true", help="with a second, independent reading of what is decided")
    parser.add_argument("--columns", choices=(*WAYS, "worse"), default="worse", help="how columns of a table are answered")
    parser.add_argument("--out", type=Path, help="a folder for the records")
    parser.add_argument("--kept", type=Path, help="a folder for documents that were read")
    parser.add_argument("--verbose", "-v", action="store_true")
    said = parser.parse_args()
    given = Given(said.lies, said.again, said.second, said.closed, WAYS if said.columns == "worse" else (said.columns,), said.out)
    tally = Tally()
    drawn = list(cases(said.cases, said.only, said.share, said.seed, said.kept, said.rest))
    with ProcessPoolExecutor(2) as pool:  # the cores of a small machine
        for each in pool.map(measured, drawn, [given] * len(drawn)):
            tally.add(each)
    if said.verbose:
        print("\n".join(tally.told))
    by_kind = ", ".join(f"{kind} {tally.through[kind]} of {tally.total[kind]}" for kind in tally.total)
    print(f"unattended: {by_kind}; all {sum(tally.through.values())} of {sum(tally.total.values())}; {tally.calls} requests")
    print("records stopped by:", json.dumps(dict(tally.stopped.most_common())))
    share = sum(tally.shares) / max(1, len(tally.shares))
    print(f"right values kept: {tally.right - tally.changed} of {tally.right} ({share:.1%} as the mean by document); put in: {tally.put_in}")
    if given.lies:
        told = ", ".join(f"{kind} {tally.written[kind]} of {tally.lies[kind]}" for kind in sorted(tally.lies))
        print(f"lies written unattended: {told}; all {sum(tally.written.values())} of {sum(tally.lies.values())}")


if __name__ == "__main__":
    main()
