"""Running again: an item, from its start or from any step on, with what came before as it was or as a person corrected it; one, or a chosen set.

Rows that were written are not written again: their keys still hold.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Any

from sqlalchemy import Connection

from metrikon.core.flows.around import lost
from metrikon.core.flows.corrected import NotThereIn, added, all_corrected, corrected, parts_of, value_at
from metrikon.core.flows.differences import same_steps
from metrikon.core.flows.fold import replayed
from metrikon.core.flows.kind import Schema
from metrikon.core.flows.model import Flow
from metrikon.core.flows.state import Entry, State
from metrikon.core.flows.verify import results_of
from metrikon.core.values.exact import NotJson, loads
from metrikon.core.values.near import meant
from metrikon.engine.answers import MUST_HOLD, Answers
from metrikon.engine.catalog import Catalog
from metrikon.engine.engine import Engine
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.engine.results import packed, unpacked
from metrikon.ports.clock import Clock
from metrikon.ports.files import Files
from metrikon.store import flows, items, journal, keeping, listing, outgoing, records, runs
from metrikon.store.database import Database
from metrikon.store.journal import Written

ENDS = ("done", "answered", "woken", "came")  # entries that are taken over: what was only begun is begun anew
REPLACED = ("parked", "review")  # states of a run that a new one takes the place of
MOST = 10_000  # items of a set
AT_ONCE = 200  # runs begun in one commit


@dataclass(frozen=True)
class Chosen:
    """Which items of a flow: by the state of their latest run, when they came in, a text in their name or values."""

    flow: str
    states: tuple[str, ...] = ()
    since: int = 0
    until: int = 0
    search: str = ""


@dataclass(frozen=True)
class Cost:
    """What running a set again would take: how many items, and at most what their latest runs took of models."""

    items: int
    calls: int
    tokens: int
    cost: Decimal
    sent: Mapping[str, int] = field(default_factory=dict)  # of each kind what went out before: it goes out again only where that is said


@dataclass(frozen=True)
class Wish:
    """How an item is to be run again: from which step on, with which values corrected. `record`: the path of a record with all its values, as a person has
    corrected it, and `noted` what of it, each path with its value."""

    item_id: str
    by: str
    start: str = ""
    values: Mapping[str, Any] = field(default_factory=dict)
    record: tuple[str, Mapping[str, Any]] | None = None
    noted: Mapping[str, Any] = field(default_factory=dict)
    behind: bool = False
    send_again: bool = False  # mails, messages and calls that went out go out again
    anew: bool = False  # models are asked anew: what they answered before is not used


class Again:
    """Begins runs of items that were run before."""

    def __init__(self, database: Database, catalog: Catalog, files: Files, clock: Clock, answers: Answers, engine: Engine) -> None:
        self._database, self._catalog, self._files, self._clock = database, catalog, files, clock
        self._answers, self._engine = answers, engine

    def item(
        self,
        item_id: str,
        by: str,
        start: str = "",
        values: Mapping[str, Any] | None = None,
        *,
        typed: Mapping[str, str] | None = None,
        send_again: bool = False,
        anew: bool = False,
    ) -> str:
        """A new run of an item on the newest version of its flow, its id; one that is parked or in review is replaced.

        `start`: the step from which on it is done anew, all of it without one. `values`: results of steps before that one, corrected, by their
        paths, such as `checked.record.total`. `typed`: the same as a person types them. `send_again`: mails, messages and calls that went out before go out again. `anew`: models are asked anew by the steps that are repeated. Raises `NotThere`, and `NotNow` with what stands in the way.
        """
        every = {**(values or {}), **(self.read(item_id, typed) if typed else {})}
        found = self._database.write(lambda connection: self.begin(connection, Wish(item_id, by, start, every, send_again=send_again, anew=anew)))
        self._engine.wake()
        return found

    def read(self, item_id: str, typed: Mapping[str, str]) -> dict[str, Any]:
        """What a person has typed for results of the latest run of an item, by their paths: of a record as its record type reads it, else in JSON, or a text.

        Raises `NotThere`, `NotNow` and `BadTyped`.
        """
        with self._database.reading() as connection:
            last = self._last(connection, item_id)
            entries = [unpacked(entry, self._files) for _, entry in journal.load(connection, last["id"])]
        scope = _scope(self._catalog.flow(str(last["flow"]), int(last["flow_version"])), entries)
        found: dict[str, Any] = {}
        for path, text in typed.items():
            head, _, rest = path.partition(".")
            result = scope.get(head)
            if isinstance(result, Mapping) and _is_record(result) and rest.startswith("record."):
                found[path] = self._of_record(result, rest, text)
            else:
                found[path] = _plain(text)
        return found

    def _of_record(self, result: Mapping[str, Any], path: str, text: str) -> Any:
        """A value that was typed for a record, as it is read there. Raises `NotNow` for one that its field does not take."""
        held = all_corrected(result, {path: text or None})["record"]  # a path that leads nowhere is told where the run begins
        reading = self._answers.check(str(result["id"]), held)
        pointer = "/".join(["", *(str(part - 1) if isinstance(part, int) else part for part in parts_of(path)[1:])])
        wrong = [each.message for each in reading.findings if each.check in MUST_HOLD and pointer in each.fields]
        if wrong:
            raise NotNow(f"{path} cannot be corrected: {' '.join(wrong)}")
        return value_at({"record": reading.record}, path)

    def run_of(self, run_id: str) -> str:
        """The item of a run. Raises `NotThere`."""
        with self._database.reading() as connection:
            run = runs.get(connection, run_id)
        if run is None:
            raise NotThere(f"There is no run {run_id}.")
        return str(run["item_id"])

    def cost(self, chosen: Chosen, start: str = "") -> Cost:
        """What running a set again would take."""
        flow = self._flow(chosen.flow)
        _checked(flow, start)
        found = self._items(chosen)
        sent = self._sent(found, flow, start)
        if not any(step.kind.asks(step.parameters) for step in _from(flow, start)):
            return Cost(len(found), 0, 0, Decimal(0), sent)
        tokens = sum(int(row["input_tokens"]) + int(row["output_tokens"]) for row in found)
        spent = sum((Decimal(row["cost"]) for row in found), Decimal(0))
        return Cost(len(found), sum(int(row["calls"]) for row in found), tokens, spent, sent)

    def _sent(self, found: list[dict[str, Any]], flow: Flow, start: str) -> dict[str, int]:
        """What went out before by items, of each kind how much, where the steps that are done anew send something out."""
        if not any(step.kind.sends is not None for step in _from(flow, start)):
            return {}
        with self._database.reading() as connection:
            return outgoing.counted(connection, [str(row["id"]) for row in found])

    def several(self, chosen: Chosen, count: int, by: str, start: str = "", *, send_again: bool = False, anew: bool = False) -> list[str]:
        """Run a set again; the new runs. `count`: how many items were told before, which must still hold. Raises as `item`."""
        _checked(self._flow(chosen.flow), start)
        found = [str(row["id"]) for row in self._items(chosen)]
        if len(found) != count:
            raise NotNow(f"There are {len(found)} such items now, and not {count}. Look again, then say yes.")
        begun: list[str] = []
        for at in range(0, len(found), AT_ONCE):
            begun += self._database.write(
                self._beginning(found[at : at + AT_ONCE], Wish("", by, start, behind=True, send_again=send_again, anew=anew))
            )
            self._engine.wake()
        return begun

    def _beginning(self, part: list[str], wish: Wish) -> Callable[[Connection], list[str]]:
        return lambda connection: [self.begin(connection, replace(wish, item_id=each)) for each in part]

    def _items(self, chosen: Chosen) -> list[dict[str, Any]]:
        states = chosen.states or (*runs.SETTLED, "parked")
        wrong = set(states) - {*runs.SETTLED, *REPLACED}
        if wrong:
            raise NotNow(f"Runs that are {', '.join(sorted(wrong))} cannot be run again: settle or cancel them first.")
        with self._database.reading() as connection:
            found = listing.chosen(
                connection, flow=chosen.flow, states=states, search=chosen.search, since=chosen.since, until=chosen.until, most=MOST + 1
            )
        if len(found) > MOST:
            raise NotNow(f"There are more than {MOST} such items. Choose fewer, by the day that they came in.")
        return found

    def _flow(self, name: str) -> Flow:
        try:
            return self._catalog.newest_flow(name)
        except KeyError as error:
            raise NotThere(str(error.args[0])) from error

    def begin(self, connection: Connection, wish: Wish) -> str:
        """Begin a run of an item again, in a transaction of the caller's; its id. Raises as `item`."""
        last = self._last(connection, wish.item_id)
        name = str(last["flow"])
        standing = flows.standing(connection, name)
        version = standing[0] if standing else int(last["flow_version"])
        newer = self._catalog.flow(name, version)
        _checked(newer, wish.start)
        if wish.values and not wish.start:
            raise NotNow("Say from which step on it is run again: values can be corrected of steps before that one.")
        run_id, now = self._clock.new_id(), self._clock.now()
        written = self._taken_over(connection, wish, last, (newer, version), now) if wish.start else []
        if last["state"] in REPLACED:
            self._answers.end(connection, last["id"], wish.by, f"Replaced by a new run on version {version} of the flow.")
        told: dict[str, Any] = {"send_again": True} if wish.send_again else {}
        told |= {"anew": now} if wish.anew else {}
        told |= {} if wish.start else self._corrected_before(connection, last)
        items.start_run(connection, run_id, wish.item_id, name, version, now, behind=wish.behind, given=told or None)
        if written:
            runs.begun_before(connection, run_id)
            told |= {"run": {**written[0].data["run"], "id": run_id}, "versions": self._catalog.versions_in(newer)}
            journal.append(connection, run_id, [replace(written[0], data={**written[0].data, **told}), *written[1:]])
            for record_id in _records_in(written, self._files):
                records.passed_on(connection, record_id, run_id)
        return run_id

    def _corrected_before(self, connection: Connection, last: Mapping[str, Any]) -> dict[str, Any]:
        """What people have corrected for the last run of an item: it stays so, whatever is read anew."""
        begun = [] if last["forgotten_at"] else journal.of_event(connection, last["id"], "started")
        data = unpacked(begun[0], self._files).data if begun else {}
        if not data.get("corrected"):
            return {}
        return {"corrected": data["corrected"], "corrections": data.get("corrections", []), "after": last["id"]}

    def _last(self, connection: Connection, item_id: str) -> dict[str, Any]:
        """The latest run of an item, which must have come to its end, be parked or in review."""
        last = runs.latest(connection, item_id)
        if last is None:
            raise NotThere(f"There is no item {item_id}.")
        if keeping.is_forgotten(connection, item_id):
            raise NotThere(f"The item {item_id} was forgotten: there is nothing left that could be run again.")
        if last["state"] not in (*runs.SETTLED, *REPLACED):
            raise NotNow(f"The item has a run that is {last['state']}. Settle or cancel that one first.")
        return last

    def _taken_over(self, connection: Connection, wish: Wish, last: Mapping[str, Any], to: tuple[Flow, int], now: int) -> list[Written]:
        """The first entries of a run that goes on from an earlier one; records that are corrected hold what they hold now. `to`: its flow, with the version."""
        newer, version = to
        if last["forgotten_at"]:
            raise NotNow("What its steps gave is kept no longer; run it from its start.")
        entries = [unpacked(entry, self._files) for _, entry in journal.load(connection, last["id"])]
        if not entries or entries[0].event != "started":
            raise NotNow("Its last run never began; run it from its start.")
        before = _before(newer, wish.start)
        same = same_steps(self._catalog.flow(newer.name, int(last["flow_version"])), newer) & before
        told: dict[str, dict[str, Any]] = {}
        if wish.values:
            told, found = self._corrected(wish.values, entries, newer, before)
            for record_id, values in found:
                self._answers.rewrite(connection, record_id, values, wish.by)
        if wish.record is not None:
            path, held = wish.record
            told = {path: {"record": held}}
        noted = [{"path": path, "value": value, "by": wish.by, "at": now} for path, value in (wish.noted or wish.values).items()]
        return list(self._carried(list(taken(entries, same)), entries, (str(last["id"]), newer.name, version), told, noted))

    def _carried(
        self,
        kept: list[Entry],
        entries: list[Entry],
        before: tuple[str, str, int],
        values: Mapping[str, Mapping[str, Any]],
        noted: list[dict[str, Any]],
    ) -> Iterator[Written]:
        """The first entries of a run that goes on from another: run, flow and version of `before`. What was corrected before stays so; `noted` comes to it."""
        first, (last, name, version) = entries[0], before
        told = added(first.data.get("corrected", {}), values)
        data = {**first.data, "run": {**first.data["run"], "flow": f"{name} {version}"}, "after": last}
        data |= {"corrected": told, "corrections": [*first.data.get("corrections", ()), *noted]} if told else {}
        yield Written("started", "", data, at=first.at)
        for each in kept:
            yield Written(each.event, each.path, packed(each.data, self._files), "", each.at)

    def _corrected(
        self, values: Mapping[str, Any], entries: list[Entry], flow: Flow, before: set[str]
    ) -> tuple[dict[str, dict[str, Any]], list[tuple[str, dict[str, Any]]]]:
        """Corrected values by the path of their step, then by that within its result; and the records that they are of, each with all its values.

        Raises `NotNow` for one that is not there.
        """
        results = results_of(flow, self._catalog.known())
        scope = _scope(flow, entries)
        found: dict[str, dict[str, Any]] = {}
        for path, value in values.items():
            head, _, rest = path.partition(".")
            name = _names(head)[-1]
            if name not in before:
                raise NotNow(f"No step before it gave {path!r}{meant(name, before)} Known: {', '.join(sorted(before)) or 'none'}.")
            inside = _entries_of(results.get(name))
            wrong = next(lost([each for each in parts_of(rest) if isinstance(each, str)], inside), "") if inside is not None else ""
            try:
                corrected(scope[head], rest, value) if head in scope and not wrong else None
            except NotThereIn as error:
                wrong = str(error)
            if wrong:
                raise NotNow(f"{path} cannot be corrected: {wrong}")
            found.setdefault(head, {})[rest] = value
        whole = {head: all_corrected(scope[head], told) for head, told in found.items()}
        return found, [(str(each["id"]), each["record"]) for each in whole.values() if _is_record(each)]


def _scope(flow: Flow, entries: list[Entry]) -> Mapping[str, Any]:
    """What the steps of a run gave, by their names."""
    state = replayed(State(flow), entries)
    return state.frames[""].scope if "" in state.frames else {}


def _plain(text: str) -> Any:
    """A value in JSON, or the text itself."""
    try:
        return loads(text)
    except NotJson:
        return text


def taken(entries: Iterable[Entry], same: set[str]) -> Iterator[Entry]:
    """What came of steps that are the same, as are those around them."""
    return (entry for entry in entries if entry.event in ENDS and all(name in same for name in _names(entry.path)))


def _is_record(result: Any) -> bool:
    """Whether what a step gave is a record with its id."""
    return isinstance(result, Mapping) and isinstance(result.get("record"), Mapping) and isinstance(result.get("id"), str)


def _records_in(written: Iterable[Written], files: Files) -> Iterator[str]:
    """The ids of the records that entries hold."""
    for each in written:
        result = unpacked(each.entry, files).data.get("result")
        if result is not None and _is_record(result):
            yield str(result["id"])


def _names(path: str) -> list[str]:
    """The names of a step and of those around it: of lines[3]/row, lines and row."""
    return [re.sub(r"\[.*?\]$", "", each) for each in path.split("/")]


def _checked(flow: Flow, start: str) -> None:
    names = [step.name for step in flow.every_step]
    if start and start not in names:
        raise NotThere(f"The flow {flow.name} has no step {start!r}{meant(start, names)} Known: {', '.join(names)}.")


def _from(flow: Flow, start: str) -> Iterator[Any]:
    """The steps from one on, all of them without one."""
    reached = not start
    for step in flow.every_step:
        reached = reached or step.name == start
        if reached:
            yield step


def _before(flow: Flow, start: str) -> set[str]:
    """The names of the steps that stand before one, in the order of the text; those around it are among them."""
    found: set[str] = set()
    for step in flow.every_step:
        if step.name == start:
            break
        found.add(step.name)
    return found


def _entries_of(schema: Schema | None) -> Mapping[str, Schema | None] | None:
    """The schemas of the entries of what a step gives; None where it may hold any."""
    return schema["properties"] if schema and schema.get("additionalProperties") is False else None
