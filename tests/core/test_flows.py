"""Flows: what is wrong is found when a flow is saved; a run is a fold over its journal."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from metrikon.app.kinds import kinds
from metrikon.core.flows.fold import advance, todo
from metrikon.core.flows.kind import Known
from metrikon.core.flows.model import Flow, Retry, exhausted
from metrikon.core.flows.problems import BadFlow
from metrikon.core.flows.reading import flow_from as read_from
from metrikon.core.flows.state import Again, AskPerson, Effect, Entry, Park, Perform, Settle, State
from metrikon.core.flows.text import NotYaml, from_yaml
from metrikon.core.flows.verify import verify
from metrikon.core.records.types import RecordType
from metrikon.demo.scenario import flow_text

START = Entry("started", "", {"item": {"id": "i", "file": "f", "name": "a.pdf"}, "run": {"id": "r", "today": "2026-11-23"}})
RECORD = {"vendor": "Fernhill", "number": "7", "document_type": "invoice", "lines": [{"amount": 1}, {"amount": 2}]}
NOW = 1_800_000_000_000  # milliseconds


def flow_from(data: Any) -> Flow:
    return read_from(data, kinds().language)


def done(path: str, result: Any = None) -> Entry:
    return Entry("done", path, {"result": result})


def lived(flow_yaml: str, entries: list[Entry]) -> tuple[State, list[Effect]]:
    state, effects = State(flow_from(from_yaml(flow_yaml))), []
    for entry in entries:
        state, more = advance(state, entry)
        effects = list(more)
    return state, effects


UP_TO_ROWS = [
    START,
    done("document", {"document": "f"}),
    done("invoice", {"id": "x", "record": RECORD}),
    done("checked", {"id": "x", "record": RECORD}),
]
ROWS = ["lines[1]/ledger_row", "lines[2]/ledger_row"]


def paths(effects: list[Effect]) -> list[str]:
    return [each.path for each in effects if isinstance(each, Perform)]


def test_the_demo_flow_is_right(invoice: RecordType) -> None:
    assert verify(flow_from(from_yaml(flow_text())), Known({"invoice": invoice})) == []


@pytest.mark.parametrize(
    ("old", "new", "step", "said"),
    [
        ("record.total", "record.totl", "ledger_row", "'totl' is not known"),
        ("to: table", "to: tabel", "table_row", "no destination 'tabel'"),
        ("record_type: invoice", "record_type: bill", "invoice", "no record type 'bill'"),
        ("${document}", "${doc}", "invoice", "'doc' is not known"),
        ('record: "${invoice}"', 'record: "${document}"', "checked", "result of an extract step"),
        ("name: checked", "name: invoice", "invoice", "taken already"),
        ("${line.amount}", "${lien.amount}", "ledger_row", "'lien' is not known"),
        ("${line.amount}", "${line.amout}", "ledger_row", "'amout' is not known"),
        ("${line.amount}", "${summ(line.amount)}", "ledger_row", "no function 'summ'"),
        ("${line.amount}", "${line.amount +}", "ledger_row", "ends too early"),
        ('= "delivery note"', "= ", "sort", "ends too early"),
        ("record_type: invoice", "record_type: invoice\n      model: big", "invoice", "no model 'big'"),
    ],
)
def test_each_mistake_is_told_with_its_step(old: str, new: str, step: str, said: str, invoice: RecordType) -> None:
    problems = verify(flow_from(from_yaml(flow_text().replace(old, new, 1))), Known({"invoice": invoice}))
    assert any(each.step == step and said in each.message for each in problems), problems


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("read: {file", "reed: {file", "is not known here"),
        ("name: document", "name: Document 1", "is no name"),
        ("    key:", "    kee:", "is missing"),
        ("metrikon: 1", "metrikon: 2", "1"),
        ("settled: 0.5", "settled: soon", "number"),
    ],
)
def test_what_does_not_fit_the_form_is_told(old: str, new: str, said: str) -> None:
    with pytest.raises(BadFlow) as caught:
        flow_from(from_yaml(flow_text().replace(old, new)))
    assert said in str(caught.value)


def test_all_mistakes_are_told_at_once(invoice: RecordType) -> None:
    text = flow_text().replace("record.total", "record.totl").replace("to: table", "to: tabel")
    assert len(verify(flow_from(from_yaml(text)), Known({"invoice": invoice}))) >= 3


def test_yaml_is_1_2_and_exact() -> None:
    data = from_yaml("a: no\nb: 0.10\nc: 012\n")
    assert data["a"] == "no"
    assert str(data["b"]) == "0.10"
    assert data["c"] == 12


@pytest.mark.parametrize("text", ["a: [", "a: !!python/object:os.system x", "\t- a", "a: *b"])
def test_bad_or_hostile_yaml_is_refused(text: str) -> None:
    with pytest.raises((NotYaml, BadFlow)):
        flow_from(from_yaml(text))


def test_steps_follow_each_other_and_rows_go_side_by_side() -> None:
    assert paths(lived(flow_text(), [START])[1]) == ["document"]
    assert paths(lived(flow_text(), UP_TO_ROWS[:2])[1]) == ["invoice"]
    assert paths(lived(flow_text(), UP_TO_ROWS[:3])[1]) == ["checked"]
    assert paths(lived(flow_text(), UP_TO_ROWS)[1]) == ROWS


def test_the_run_is_done_when_its_last_row_is() -> None:
    entries = [*UP_TO_ROWS, *(done(path) for path in ROWS), done("lines[2]/table_row"), done("lines[1]/table_row")]
    state, effects = lived(flow_text(), entries)
    assert effects == [Settle("done")]
    assert state.outcome == "done"


def test_a_condition_takes_its_branch_and_stops_the_run() -> None:
    note = {"id": "x", "record": {"document_type": "delivery note"}}
    state, effects = lived(flow_text(), [*UP_TO_ROWS[:2], done("invoice", note)])
    assert isinstance(effects[0], Settle)
    assert state.outcome == "stopped"
    assert "delivery note" in state.reason


def test_a_condition_that_comes_out_null_parks_the_run_with_the_missing_name() -> None:
    text = flow_text().replace("          null_means: false\n", "").replace('document_type = "delivery note"', "total > 1000")
    without = [*UP_TO_ROWS[:2], done("invoice", {"id": "x", "record": {}})]
    _, effects = lived(text, without)
    assert isinstance(effects[0], Park)
    assert "invoice.record.total" in effects[0].reason
    said = text.replace("> 1000\n", "> 1000\n          null_means: false\n")
    assert paths(lived(said, without)[1]) == ["checked"]


def test_a_row_without_its_whole_key_is_never_written() -> None:
    record = {**RECORD, "number": None}
    state, effects = lived(flow_text(), [*UP_TO_ROWS[:3], done("checked", {"id": "x", "record": record})])
    assert all(isinstance(each, Park) for each in effects)
    assert "checked.record.number" in effects[0].reason  # type: ignore[union-attr]
    assert todo(state, NOW) == ()


def test_a_key_that_is_not_whole_names_what_it_lacks_and_no_column_that_is_empty() -> None:
    text = (
        "metrikon: 1\nname: f\nintakes: [{kind: upload}]\ndestinations: {s: {kind: csv, path: s.csv}}\nsteps:\n"
        '- {name: row, write: {to: s, key: ["${item.number}", "${item.name}"], columns: {Note: "${item.note}", Name: "${item.name}"}}}\n'
    )
    _, effects = lived(text, [START])
    (park,) = [each for each in effects if isinstance(each, Park)]
    assert "The key of the row is not complete: item.number has no value." in park.reason
    assert "item.note" not in park.reason


def test_a_failed_step_is_tried_again_then_parked_then_continued() -> None:
    failed = Entry("failed", "invoice", {"message": "down", "again": True, "at": NOW})
    state, effects = lived(flow_text(), [*UP_TO_ROWS[:2], failed])
    assert effects == [Again("invoice", NOW + 2_000)]
    waits = []
    for _ in range(3):
        state, more = advance(state, failed)
        waits.append(more[0])
    assert waits[:2] == [Again("invoice", NOW + 4_000), Again("invoice", NOW + 8_000)]
    assert waits[2] == Park("invoice", "down")
    state, more = advance(state, Entry("continued"))
    assert paths(list(more)) == ["invoice"]
    assert more[0].attempt == 1  # type: ignore[union-attr]


def failing(cause: str, flow: Any = None) -> tuple[int, float]:
    """How often a step fails before its run is parked, and after how many minutes."""
    state, _ = lived(flow or flow_text(), UP_TO_ROWS[:2])
    at = NOW
    for count in range(1, 1000):
        state, (effect,) = advance(state, Entry("failed", "invoice", {"message": "away", "again": True, "at": at, "cause": cause}))
        if isinstance(effect, Park):
            return count, (at - NOW) / 60_000
        assert isinstance(effect, Again)
        assert effect.due - at <= 300_000
        at = effect.due
    raise AssertionError("it is tried for ever")


def test_what_is_away_for_a_quarter_of_an_hour_parks_nothing_and_what_is_broken_does_at_once() -> None:
    for cause in ("busy", "slow", "unreachable"):
        count, minutes = failing(cause)
        assert 30 <= minutes <= 36
        assert count < 20  # waits grow, so that nobody is asked all the time
    assert failing("") == (4, 14 / 60)
    assert failing("machine") == (4, 14 / 60)
    few = flow_text().replace("extract:", "retry: {attempts: 2}\n    extract:", 1)
    assert failing("unreachable", few)[0] == 2


def test_the_server_may_ask_for_a_longer_wait() -> None:
    failed = Entry("failed", "invoice", {"message": "busy", "again": True, "wait": 30, "at": NOW, "jitter": 1.1})
    state, effects = lived(flow_text(), [*UP_TO_ROWS[:2], failed])
    assert effects == [Again("invoice", NOW + 33_000)]
    assert todo(state, NOW + 32_999) == (Again("invoice", NOW + 33_000),)  # whatever wakes the run
    assert paths(list(todo(state, NOW + 33_000))) == ["invoice"]


def test_a_begun_step_without_an_end_is_no_failed_attempt() -> None:
    state, _ = lived(flow_text(), [*UP_TO_ROWS[:2], Entry("begun", "invoice", {"attempt": 1})])
    (effect,) = todo(state, NOW)
    assert isinstance(effect, Perform)
    assert (effect.attempt, effect.begun) == (1, True)


def test_a_refused_file_ends_the_run() -> None:
    state, effects = lived(flow_text(), [START, Entry("failed", "document", {"message": "broken", "refused": True})])
    assert effects == [Settle("refused", "broken")]
    assert advance(state, done("document"))[1] == ()


def test_a_person_is_asked_and_answers() -> None:
    asked = [*UP_TO_ROWS[:3], Entry("asked", "checked", {"result": {"id": "x"}})]
    state, effects = lived(flow_text(), asked)
    assert effects == [AskPerson("checked")]
    assert todo(state, NOW) == ()
    yes = Entry("answered", "checked", {"decision": "approve", "result": {"id": "x", "record": RECORD}})
    assert paths(list(advance(state, yes)[1])) == ROWS
    no = Entry("answered", "checked", {"decision": "refuse", "by": "ada", "comment": "twice"})
    assert advance(state, no)[1] == (Settle("refused", "Refused by ada: twice"),)


def test_entries_that_come_twice_or_too_late_change_nothing() -> None:
    state, _ = lived(flow_text(), UP_TO_ROWS)
    again, effects = advance(state, UP_TO_ROWS[1])
    assert again == state
    assert effects == ()


def journals() -> Iterator[Entry]:
    yield from UP_TO_ROWS
    for path in ROWS:
        yield Entry("begun", path)
        yield done(path)
        yield done(path.replace("ledger", "table"))


@given(st.integers(0, 10), st.randoms(use_true_random=False))
@settings(max_examples=60)
def test_replaying_any_history_gives_the_state_that_was_lived(cut: int, dice: Any) -> None:
    head, tail = list(journals())[:4], list(journals())[4:]
    firsts, others = [e for e in tail if "ledger" in e.path], [e for e in tail if "table" in e.path]
    dice.shuffle(others)
    entries = [*head, *firsts, *others][: 4 + cut]
    flow = flow_from(from_yaml(flow_text()))
    live = State(flow)
    for entry in entries:
        live, _ = advance(live, entry)
    replayed = State(flow)
    for entry in [Entry(e.event, e.path, dict(e.data)) for e in entries]:
        replayed, _ = advance(replayed, entry)
    assert replayed == live
    assert todo(replayed, NOW) == todo(live, NOW)


def test_an_empty_list_has_nothing_to_do() -> None:
    state, effects = lived(flow_text(), [*UP_TO_ROWS[:3], done("checked", {"id": "x", "record": {**RECORD, "lines": []}})])
    assert effects == [Settle("done")]
    assert state.outcome == "done"


def test_a_list_that_is_missing_parks_the_run() -> None:
    _, effects = lived(flow_text(), [*UP_TO_ROWS[:3], done("checked", {"id": "x", "record": {"vendor": "a"}})])
    assert isinstance(effects[0], Park)
    assert "checked.record.lines" in effects[0].reason


def test_a_step_costs_the_same_however_many_came_before() -> None:
    many = {**RECORD, "lines": [{"amount": n} for n in range(400)]}
    state, _ = lived(flow_text(), [*UP_TO_ROWS[:3], done("checked", {"id": "x", "record": many})])
    before = state.frames
    after, _ = advance(state, done("lines[200]/ledger_row"))
    assert sum(1 for prefix in after.frames if after.frames[prefix] is not before[prefix]) == 1


def test_a_row_is_tried_as_long_as_a_step_is() -> None:
    assert [exhausted(*each) for each in ((0, 9, 1700), (0, 9, 1800), (0, 3, 9999), (2, 1, 9999), (2, 2, 0))] == [False, True, False, False, True]


def test_what_is_tried_for_a_time_is_never_asked_without_a_pause() -> None:
    hasty = Retry(wait=0, longest=0)
    assert [hasty.pause(cause, 3) for cause in ("unreachable", "machine")] == [1.0, 0.0]
    assert Retry(wait=0, attempts=3).pause("unreachable", 2) == 0.0
    assert Retry().pause("busy", 50) == 300.0
