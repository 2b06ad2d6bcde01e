"""Writing: nothing stands in a text that is in none of its sources; what is, is not taken for it."""

from __future__ import annotations

import json
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import ASK, Asking, Given
from metrikon.core.judging import tasks
from metrikon.core.judging.draft import Draft, Figure, worked_out
from metrikon.core.judging.founded import Sources, unfounded
from metrikon.core.judging.matter import set_out
from metrikon.core.judging.verdict import Verdict

REPORT = """Report of the propagation house, March 2026
Ida Wren raised 1,240 ferns and 310 primulas; 12.5 % of them were lost to frost on 14 March 2026.
The mist house was repaired by Thornby Glass Ltd for 742.50 EUR.
Questions: ida.wren@garden.example, 01632 960 118"""
TASK = Draft("Summarise the month for the trustees.", 40, "", (Figure("plants in all", "1550"),))
ASKING = Asking("2026-11-27")
INDEX = Index(set_out(REPORT))


def missing(text: str, nouns: bool = False, figures: tuple[tuple[str, str], ...] = (("plants in all", "1550"),)) -> list[str]:
    return unfounded(text, Sources(INDEX, figures, "Summarise the month for the trustees of Ellerby.", nouns))


FOUNDED = [
    "In March 2026 Ida Wren raised 1,240 ferns.",
    "Wren raised 1240 ferns and 310 primulas, 1,550 plants in all.",
    "Dear trustees,\n1. Ferns: 1.240\n2. Primulas: 310\nThe loss was 12,5 %.",
    "On 2026-03-14, there was frost; on 14.03.2026 it was over.",
    "Thornby Glass repaired the mist house for 742.5 EUR.",
    "Thornby's bill was 742.50. However, nothing else is known. Write to ida.wren@garden.example or 01632 960118.",
    "The trustees of Ellerby may be glad. Nobody knows more.",
    "March was good. Kind regards",
]


@pytest.mark.parametrize("text", FOUNDED)
def test_what_stands_in_the_sources_is_founded_however_it_is_written(text: str) -> None:
    assert missing(text) == []


UNFOUNDED = [
    ("About 1,200 ferns were raised.", ["1,200"]),
    ("More than 1,600 plants, 13 % lost.", ["1,600", "13"]),
    ("The repair cost 810.00 USD.", ["810.00", "USD"]),
    ("The frost came on 15 March 2026.", ["15 March 2026"]),
    ("It was repaired by Moorgate Glass.", ["Moorgate Glass"]),
    ("The head gardener, Jorge Ibarra, raised them.", ["Jorge Ibarra"]),
    ("Write to office@garden.example.", ["office@garden.example"]),
    ("Seven hundred is 700.", ["700"]),
    ("In 2027 there will be 310 primulas again.", ["2027"]),
]


@pytest.mark.parametrize(("text", "words"), UNFOUNDED)
def test_what_is_rounded_added_converted_or_made_up_is_found(text: str, words: list[str]) -> None:
    assert missing(text) == words


def test_a_figure_that_was_worked_out_may_be_used_and_one_that_was_not_may_not() -> None:
    assert missing("It was 1550 plants.") == []
    assert missing("It was 1550 plants.", figures=()) == ["1550"]


def test_in_german_one_noun_is_no_name_but_two_together_are() -> None:
    assert missing("Die Farne und die Primeln litten unter dem Frost.", nouns=True) == []
    assert missing("Der Betrieb Gartenbau Holz hat sie gezogen.", nouns=True) == ["Betrieb Gartenbau Holz"]


def settled(*texts: Any, task: Draft = TASK) -> tuple[Verdict, list[str]]:
    """What texts come to, each written after what was wrong with the one before; and what was told of each."""
    given, told = [], []
    following = tasks.asks(task, INDEX, ASKING)
    for text in texts:
        (request,) = following
        told.append(request.messages[-1]["content"])
        said = text if isinstance(text, str) and text.startswith("!") else json.dumps(text if isinstance(text, dict) else {"text": text})
        given.append(Given(ASK, said, "m", tries=request.tries))
        verdict = tasks.settled(task, INDEX, given, ASKING)
        following = list(verdict.next)
    assert not following
    return verdict, told


def test_a_text_that_is_founded_is_written() -> None:
    verdict, told = settled("Ida Wren raised 1,550 plants.")
    assert (verdict.result["outcome"], verdict.result["text"], verdict.result["words"]) == ("written", "Ida Wren raised 1,550 plants.", 5)
    assert verdict.findings == ()
    assert "- plants in all: 1550" in told[0]


def test_what_is_in_no_source_is_asked_away() -> None:
    verdict, told = settled("Ida Wren raised about 1,600 plants.", "Ida Wren raised 1,550 plants.")
    assert "neither in the document nor among the figures: 1,600" in told[1]
    assert verdict.findings == ()


def test_what_cannot_be_asked_away_stops_it() -> None:
    verdict, _ = settled(*["Jorge Ibarra raised 1,600 plants."] * 3)
    assert [each.check for each in verdict.findings] == ["in no source"]
    assert verdict.result["in_no_source"] == ["Jorge Ibarra", "1,600"]
    assert verdict.result["sure"] == 0.3


def test_a_text_that_is_far_too_long_is_written_anew_and_then_told() -> None:
    verdict, told = settled(*["The ferns did well. " * 30] * 3)
    assert "It has 120 words; at most 40 are wanted." in told[1]
    assert [(each.check, each.level) for each in verdict.findings] == [("too long", "warn")]


@pytest.mark.parametrize("answer", [{}, {"text": ""}, {"text": 7}, "! no JSON at all"])
def test_an_answer_without_a_text_is_asked_again_and_then_put_before_a_person(answer: Any) -> None:
    verdict, _ = settled(answer, answer, answer)
    assert [each.check for each in verdict.findings if each.level == "stop"] == ["no answer"]
    assert verdict.result["text"] == ""


def test_a_text_without_end_is_not_even_looked_through() -> None:
    verdict, told = settled(*["Ida Wren raised 7 ferns. " * 40_000] * 3)
    assert "at most 40 words are wanted" in told[1]
    assert [each.check for each in verdict.findings if each.level == "stop"] == ["no answer"]


def test_of_a_record_counts_and_sums_are_worked_out_exactly() -> None:
    record = {"lines": [{"amount": Decimal("0.10"), "plant": "Fern"}, {"amount": Decimal("0.20"), "plant": "Yew"}], "tags": ["a"], "none": []}
    assert worked_out(record) == [Figure("number of lines", "2"), Figure("sum of lines.amount", "0.30"), Figure("number of tags", "1")]
    assert worked_out([{"n": 3}, {"n": True}]) == [Figure("number of rows", "2"), Figure("sum of n", "3")]


@settings(max_examples=200, deadline=None)
@given(st.text(max_size=200))
def test_any_text_whatever_it_holds_is_looked_through(text: str) -> None:
    assert isinstance(missing(text), list)
    assert missing(REPORT) == []


def test_a_task_is_sent_and_read_again_as_it_was() -> None:
    assert tasks.unpacked(tasks.packed(TASK)) == TASK


LONG = Index(
    set_out("\n".join(f"In week {n} Ida Wren raised {n * 7} ferns, and {n} trays were lost to frost in the house of Moorgate." for n in range(1, 61)))
)
SMALL = Asking("2026-11-27", room=1500)


def written(notes: Any, *texts: Any) -> tuple[Verdict, list[Any]]:
    """What a long document comes to whose parts are noted so, and what was asked."""
    given: list[Given] = []
    asked: list[Any] = []
    left = list(texts)
    following = tasks.asks(TASK, LONG, SMALL)
    while following:
        asked += following
        for each in following:
            said = {"text": left.pop(0)} if each.stage == ASK else notes(each)
            given.append(Given(each.stage, json.dumps(said), "m", each.part, tries=each.tries))
        verdict = tasks.settled(TASK, LONG, given, SMALL)
        following = list(verdict.next)
    return verdict, asked


def numbered(request: Any) -> dict[str, Any]:
    """A note of the first line of a part, as it stands there."""
    return {"notes": [request.messages[1]["content"].partition("<document>\n")[2].splitlines()[0][:100]]}


def test_of_a_long_document_each_part_is_noted_and_the_text_is_written_from_the_notes() -> None:
    verdict, asked = written(numbered, "In week 1 Ida Wren raised 7 ferns.")
    assert [each.stage for each in asked] == ["notes"] * (len(asked) - 1) + [ASK]
    assert len(asked) > 4
    last = asked[-1].messages[1]["content"]
    assert all(numbered(each)["notes"][0] in last for each in asked[:-1])
    assert verdict.findings == ()
    assert verdict.result["text"] == "In week 1 Ida Wren raised 7 ferns."


def test_a_note_of_something_that_is_not_in_the_document_is_left_out_of_what_the_text_is_written_from() -> None:
    verdict, asked = written(lambda each: {"notes": [*numbered(each)["notes"], "Jorge Ibarra lost 9,999 ferns."]}, "Ida Wren raised ferns.")
    assert "Ibarra" not in asked[-1].messages[1]["content"]
    assert [(each.check, each.level) for each in verdict.findings] == [("left out", "warn")]


def test_a_part_of_which_nothing_can_be_noted_is_asked_again_and_then_put_before_a_person() -> None:
    verdict, asked = written(lambda each: {"notes": 7} if each.part == 1 else numbered(each), "Ida Wren raised ferns.")
    assert sum(each.part == 1 for each in asked) == 2
    assert [(each.check, each.level) for each in verdict.findings] == [("not whole", "stop")]


def test_a_long_document_is_priced_with_its_notes_and_its_text() -> None:
    short, long = tasks.estimate(TASK, INDEX, SMALL), tasks.estimate(TASK, LONG, SMALL)
    assert short.requests == 1
    assert long.requests == len(written(numbered, "Ida Wren raised ferns.")[1])
    assert long.prompt > 5 * short.prompt
