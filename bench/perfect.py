"""A model that is always right, or that lies once a document: what do we make of it? No language model is needed.

    python -m bench.perfect CASES [--only PREFIX] [--lies SEEDS] [--second] [--out DIR] [--kept DIR] [--verbose]

CASES holds folders with `doc.*`, `schema.json` and `truth.json`. The model answers each request with the truth, cut to the schema
that was asked. With --lies it is run once for each seed besides, with one value a document wrong, in its first reading only.
Told at the end: how many records would be written unattended, by kind; which checks stopped the others; how many right values
were changed on their way; and how many lies would have been written unattended, by the kind of lie.
"""

from __future__ import annotations

import argparse
import collections
import copy
import datetime
import json
import random
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

from bench.cases import Case, cases
from metrikon.core.records.findings import stops
from metrikon.core.values.exact import dumps
from metrikon.drivers.extract import Extracted, extract
from metrikon.drivers.paper import LocalPaper
from metrikon.ports.model import ModelAnswer, ModelRequest, Usage

TODAY = "2026-11-26"


@dataclass
class Perfect:
    """Answers with the truth; `lied` once, in the first reading."""

    truth: Mapping[str, Any]
    lied: Mapping[str, Any] | None = None
    name: str = "perfect"
    room: int = 24_000
    sees: int = 0
    calls: int = 0
    unknown: collections.Counter[str] = field(default_factory=collections.Counter)

    def answer(self, request: ModelRequest) -> ModelAnswer:
        """The truth, in the form that was asked."""
        self.calls += 1
        said = self.truth if self.lied is None or request.stage == "second" else self.lied
        text = dumps(self._cut(request.schema, said)).decode()
        read = sum(len(each["content"]) for each in request.messages) // 4
        return ModelAnswer(text, Usage(read, len(text) // 4, 1))

    def _cut(self, schema: Mapping[str, Any], value: Any) -> Any:
        if "properties" in schema:
            asked = schema["properties"]
            if "columns" in asked and not isinstance(value, dict):
                return {"columns": dict.fromkeys(asked["columns"]["properties"], "none"), **({"not_rows": []} if "not_rows" in asked else {})}
            own = value if isinstance(value, dict) else {}
            self.unknown.update(name for name in asked if isinstance(value, dict) and name not in own)
            return {name: self._cut(part, own.get(name)) for name, part in asked.items()}
        if "items" in schema and isinstance(value, list):
            return [self._cut(schema["items"], part) for part in value]
        return value


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


@dataclass
class Tally:
    """Counts over all cases."""

    through: collections.Counter[str] = field(default_factory=collections.Counter)
    total: collections.Counter[str] = field(default_factory=collections.Counter)
    stopped: collections.Counter[str] = field(default_factory=collections.Counter)
    lies: collections.Counter[str] = field(default_factory=collections.Counter)
    written: collections.Counter[str] = field(default_factory=collections.Counter)
    kept: int = 0
    changed: int = 0


def run_true(case: Case, tally: Tally, given: argparse.Namespace) -> None:
    """One case with a model that is right."""
    found = read_by(case, Perfect(case.truth), given.second)
    record, findings = found.reading.record, found.reading.findings
    tally.total[case.kind] += 1
    tally.through[case.kind] += not stops(findings)
    tally.stopped.update({each.check for each in findings if each.level == "stop"})
    for path, value in leaves(case.truth):
        if value is None or value == "":
            continue
        got = at(record, path)
        tally.kept += _same(value, got)
        tally.changed += not _same(value, got)
        if given.verbose and not _same(value, got):
            print(f"  {case.name} {path}: {value!r} became {got!r}")
    if given.verbose:
        for each in findings:
            if each.level == "stop":
                print(f"  {case.name} {each.check} {each.fields}: {each.message[:150]}")
    if given.out:
        given.out.mkdir(parents=True, exist_ok=True)
        (given.out / f"{case.name}.json").write_bytes(dumps(record))


def run_lies(case: Case, seeds: int, tally: Tally, given: argparse.Namespace) -> None:
    """One case with as many lies as there are seeds."""
    for seed in range(seeds):
        told = lie(case.truth, case.record_type.schema, random.Random(f"{case.name} {seed}"))
        if told is None:
            continue
        found = read_by(case, Perfect(case.truth, told.record), given.second)
        through = not stops(found.reading.findings) and _same(at(found.reading.record, told.path), told.wrong)
        tally.lies[told.kind] += 1
        tally.written[told.kind] += through
        if through and given.verbose:
            print(f"  written: {case.name} {told.path} {told.kind}: {told.wrong!r} for {at(case.truth, told.path)!r}")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("cases", type=Path)
    parser.add_argument("--only", default="")
    parser.add_argument("--lies", type=int, default=0, metavar="SEEDS")
    parser.add_argument("--second", action="store_true", help="with a second, independent reading of what is decided")
    parser.add_argument("--out", type=Path, help="a folder for the records")
    parser.add_argument("--kept", type=Path, help="a folder for documents that were read")
    parser.add_argument("--verbose", "-v", action="store_true")
    given = parser.parse_args()
    tally = Tally()
    for case in cases(given.cases, given.only, kept=given.kept):
        run_true(case, tally, given)
        run_lies(case, given.lies, tally, given)
    by_kind = ", ".join(f"{kind} {tally.through[kind]} of {tally.total[kind]}" for kind in tally.total)
    print(f"unattended: {by_kind}; all {sum(tally.through.values())} of {sum(tally.total.values())}")
    print("records stopped by:", json.dumps(dict(tally.stopped.most_common())))
    print(f"right values kept: {tally.kept} of {tally.kept + tally.changed}")
    if given.lies:
        told = ", ".join(f"{kind} {tally.written[kind]} of {tally.lies[kind]}" for kind in sorted(tally.lies))
        print(f"lies written unattended: {told}; all {sum(tally.written.values())} of {sum(tally.lies.values())}")


if __name__ == "__main__":
    main()
