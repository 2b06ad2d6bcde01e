"""Marks: each rests on a criterion and on words that can be looked up; the total is worked out by us; who somebody is, is not seen."""

from __future__ import annotations

import json
import random
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import ASK, SECOND, Asking, Given
from metrikon.core.judging import tasks
from metrikon.core.judging.blind import blinded
from metrikon.core.judging.criteria import Criterion, Judge, Mark, Threshold
from metrikon.core.judging.matter import set_out
from metrikon.core.judging.moving import corrected
from metrikon.core.judging.verdict import Verdict

CV = """Ada Fenwick
ada.fenwick@mail.example
Date of birth: 3 May 1991
Nationality: Norwegian
Marital status: married, two children
Three seasons in the propagation house of Moorgate Nurseries; she raised 4,000 ferns a year.
Led the school workshops of the arboretum, twelve groups a month.
I am without doubt the best gardener of the country.
Mr Hollis of Moorgate can be asked about him and his work."""
SCALE = (Mark(0, "none"), Mark(1, "one season"), Mark(2, "two seasons or more"), Mark(3, "five seasons or more"))
TASK = Judge(
    (
        Criterion("propagation", "Experience in raising plants.", SCALE, 3, must=True),
        Criterion("teaching", "Has led groups.", (Mark(0, "none"), Mark(1, "some"), Mark(2, "often")), 2),
        Criterion("tools", "Works with machines.", (Mark(0, "none"), Mark(1, "some")), 1),
    ),
    (Threshold("unfit", 0), Threshold("possible", 40), Threshold("ideal", 80)),
)
ASKING, TWICE = Asking("2026-11-27"), Asking("2026-11-27", second=True)
GOOD: dict[str, Any] = {
    "propagation": {
        "words": "Three seasons in the propagation house of Moorgate Nurseries",
        "reason": "Three seasons are named.",
        "missing": "two seasons more",
        "mark": 2,
    },
    "teaching": {
        "words": "Led the school workshops of the arboretum, twelve groups a month",
        "reason": "Twelve groups a month.",
        "missing": "",
        "mark": 2,
    },
    "tools": {"words": None, "reason": "Nothing is said of machines.", "missing": "any machine", "mark": 0},
}


def settled(answer: Any, task: Judge = TASK, asking: Asking = ASKING, second: Any = None, text: str = CV) -> Verdict:
    here = Index(set_out(text))
    given, following = [], tasks.asks(task, here, asking)
    while True:
        for request in following:
            said = second if request.stage == SECOND else answer
            given.append(Given(request.stage, said if isinstance(said, str) else json.dumps(said), "m", request.part, tries=request.tries))
        verdict = tasks.settled(task, here, given, asking)
        following = list(verdict.next)
        if not following:
            return verdict


def stops(verdict: Verdict) -> list[str]:
    return [each.check for each in verdict.findings if each.level == "stop"]


def prompt(text: str = CV, task: Judge = TASK) -> str:
    (request,) = tasks.asks(task, Index(set_out(text)), ASKING)
    return request.messages[1]["content"]


def test_each_mark_has_its_reason_its_words_and_why_it_is_not_higher() -> None:
    result = settled(GOOD).result
    propagation, teaching, tools = result["marks"]
    assert (propagation["mark"], propagation["of"], propagation["reason"]) == (2, 3, "Three seasons are named.")
    assert propagation["evidence"]["quote"] == "Three seasons in the propagation house of Moorgate Nurseries;"
    assert propagation["why_not_higher"] == "3 is for: five seasons or more"
    assert teaching["why_not_higher"] == ""
    assert tools["evidence"] is None
    assert result["speaks_for"] == ["teaching: Twelve groups a month."]
    assert result["missing"] == ["propagation: two seasons more", "tools: any machine"]
    assert result["to_ask"] == ["Ask about tools: Works with machines."]


def test_the_total_and_the_label_are_worked_out_from_the_marks_whatever_the_model_says_of_them() -> None:
    result = settled({**GOOD, "total": 100, "label": "ideal"}).result
    assert result["total"] == 67, "(3 * 2/3 + 2 * 2/2 + 1 * 0) of 6"
    assert result["outcome"] == "possible"
    assert settled(GOOD).findings == ()


def test_what_must_be_met_and_is_not_decides_alone() -> None:
    none = {"words": None, "reason": "", "missing": "", "mark": 0}
    verdict = settled({**GOOD, "propagation": none, "tools": {"words": "raised 4,000 ferns", "mark": 1, "reason": "", "missing": ""}})
    assert verdict.result["outcome"] == "unfit"
    assert any(each.check == "must" and "propagation must be met" in each.message for each in verdict.findings)


@pytest.mark.parametrize("words", ["Ten years as head gardener of a palace", "", None])
def test_a_mark_that_rests_on_no_words_of_the_document_is_put_before_a_person(words: str | None) -> None:
    verdict = settled({**GOOD, "teaching": {"words": words, "reason": "so", "missing": "", "mark": 2}})
    assert stops(verdict) == ["no ground"]


@pytest.mark.parametrize(("mark", "read"), [("2", 2), ("2/3", 2), ("2 - two seasons", 2), (2.0, 2)])
def test_a_mark_is_known_though_it_is_written_otherwise(mark: Any, read: int) -> None:
    assert settled({**GOOD, "propagation": {**GOOD["propagation"], "mark": mark}}).result["marks"][0]["mark"] == read


@pytest.mark.parametrize("mark", [7, -1, "good", None, True, [2], 1.5, "9" * 50])
def test_a_mark_that_the_scale_does_not_have_is_asked_again_and_then_put_before_a_person(mark: Any) -> None:
    answer = {**GOOD, "propagation": {**GOOD["propagation"], "mark": mark}}
    (request,) = tasks.settled(TASK, Index(set_out(CV)), [Given(ASK, json.dumps(answer), "m")], ASKING).next
    assert "propagation 0, 1, 2, 3" in request.messages[-1]["content"]
    verdict = settled(answer)
    assert stops(verdict) == ["no answer"]
    assert verdict.result["sure"] == 0


def test_readings_within_one_mark_are_level_and_those_further_apart_are_put_before_a_person() -> None:
    near = {**GOOD, "propagation": {**GOOD["propagation"], "mark": 3}}
    assert stops(settled(GOOD, asking=TWICE, second=near)) == []
    assert settled(GOOD, asking=TWICE, second=GOOD).result["marks"][0]["sure"] == 0.95
    far = {**GOOD, "teaching": {"words": None, "reason": "", "missing": "", "mark": 0}}
    assert stops(settled(GOOD, asking=TWICE, second=far)) == ["readings differ"]


def test_the_total_takes_both_readings_and_what_a_person_sets_counts_alone() -> None:
    near = {**GOOD, "propagation": {**GOOD["propagation"], "mark": GOOD["propagation"]["mark"] - 1}}
    once, twice = settled(GOOD).result, settled(GOOD, asking=TWICE, second=near).result
    lower = settled(near).result["total"]
    assert abs(twice["total"] - (once["total"] + lower) / 2) <= 1
    assert [each.get("second") for each in twice["marks"]] == [near[each["name"]]["mark"] for each in twice["marks"]]
    assert corrected(TASK, twice, {"propagation": GOOD["propagation"]["mark"]}, "ada")["total"] == once["total"]


def test_the_second_reading_has_criteria_and_marks_in_the_other_order() -> None:
    here = Index(set_out(CV))
    (second,) = tasks.settled(TASK, here, [Given(ASK, json.dumps(GOOD), "m")], TWICE).next
    assert list(second.schema["properties"]) == ["tools", "teaching", "propagation"]
    assert second.schema["properties"]["propagation"]["properties"]["mark"]["enum"] == [3, 2, 1, 0]


def many(words: Any, mark: int) -> Verdict:
    criteria = tuple(Criterion(f"c{n}", "Something.", (Mark(0, "none"), Mark(1, "some"), Mark(2, "much"))) for n in range(4))
    answer = {f"c{n}": {"words": words(n), "reason": "", "missing": "", "mark": mark} for n in range(4)}
    return settled(answer, Judge(criteria, TASK.labels))


def test_a_model_that_marks_everything_alike_is_told() -> None:
    lines = CV.splitlines()
    assert stops(many(lambda n: lines[5], 2)) == ["all alike"], "all for the same words"
    assert [each.check for each in many(lambda n: lines[5 + n % 3], 1).findings] == ["all alike"], "always the middle"


def test_who_somebody_is_is_not_seen() -> None:
    seen = prompt().partition("<document>")[2]
    for each in ("Ada", "Fenwick", "mail.example", "1991", "Norwegian", "married", " she ", " him ", " his ", "Mr "):
        assert each not in seen, each
    assert "Three seasons in the propagation house of Moorgate Nurseries; they raised 4,000 ferns a year." in " ".join(seen.split())
    assert settled(GOOD).result["left_out"] == ["name", "sex", "age", "origin", "family"]


def test_what_a_criterion_needs_is_seen_and_the_rest_is_not() -> None:
    needs = Judge((Criterion("age", "Is of age.", SCALE, sees=("age",)),), TASK.labels)
    assert "Date of birth: 3 May 1991" in prompt(task=needs)
    assert "Norwegian" not in prompt(task=needs)
    assert "Ada Fenwick" in prompt(task=Judge(TASK.criteria, TASK.labels, blind=False))


def test_names_that_are_known_are_taken_out_wherever_they_stand() -> None:
    text = "Curriculum vitae\nHead gardener at Moorgate\nReferences: Ms Wren says that Tove Wren-Ashby works well."
    assert blinded(text, ["Tove Wren-Ashby"]).text.splitlines()[2] == "References:  Wren says that [name] works well."
    assert blinded("Children of the school were led by me.\nTitle: Head gardener\n30 ans d'expérience").kinds == ()


def test_two_applicants_with_the_same_words_under_other_names_look_the_same() -> None:
    other = (
        CV.replace("Ada Fenwick", "Jorge Ibarra")
        .replace("ada.fenwick", "j.ibarra")
        .replace("she", "he")
        .replace("Norwegian", "Spanish")
        .replace("1991", "1964")
    )
    assert prompt(other).split() == prompt().split()


def test_no_picture_of_somebody_is_shown() -> None:
    (request,) = tasks.asks(TASK, Index(set_out(CV)), ASKING)
    assert request.pages == ()


@settings(max_examples=150, deadline=None)
@given(st.lists(st.tuples(st.integers(1, 9), st.integers(2, 6), st.integers(0, 5)), min_size=1, max_size=5), st.randoms())
def test_the_total_is_the_share_of_all_scales_by_weight_and_lies_within_its_label(spec: list[tuple[int, int, int]], dice: random.Random) -> None:
    criteria = tuple(Criterion(f"c{n}", "x", tuple(Mark(mark, "e") for mark in range(size)), weight) for n, (weight, size, _) in enumerate(spec))
    lines = CV.splitlines()[5:]
    answer = {
        f"c{n}": {"words": dice.choice(lines), "reason": "", "missing": "", "mark": min(mark, size - 1)} for n, (_, size, mark) in enumerate(spec)
    }
    result = settled(answer, Judge(criteria, TASK.labels)).result
    share = sum(weight * min(mark, size - 1) / (size - 1) for weight, size, mark in spec) / sum(weight for weight, _, _ in spec)
    assert abs(result["total"] - 100 * share) <= 0.5 + 1e-9
    assert result["outcome"] == ("ideal" if result["total"] >= 80 else "possible" if result["total"] >= 40 else "unfit")


def test_a_task_is_sent_and_read_again_as_it_was() -> None:
    assert tasks.unpacked(tasks.packed(TASK)) == TASK


@pytest.mark.parametrize(
    ("sentence", "gone"),
    [
        ("I am a woman of 34, born in Zagreb, married with two children.", ("woman", "34", "Zagreb", "married", "two children")),
        ("Ich bin 41, verheiratet, geboren in Graz, und katholisch.", ("41", "verheiratet", "Graz", "katholisch")),
        ("Né en 1990, célibataire, je suis originaire de Lyon.", ("1990", "célibataire", "Lyon")),
    ],
)
def test_what_sentences_say_of_a_person_is_not_seen(sentence: str, gone: tuple[str, ...]) -> None:
    seen = blinded(f"Letter\n{sentence} I have led a nursery since 2015.")
    assert not [each for each in gone if each in seen.text]
    assert "I have led a nursery since 2015." in seen.text


@pytest.mark.parametrize(
    "sentence",
    ["A man-made lake was planted single-handed.", "I come from a bakery and I am 34 km away.", "We have 20 children in the garden group."],
)
def test_what_only_sounds_like_it_stays(sentence: str) -> None:
    assert blinded(f"Letter\n{sentence}") == blinded(f"Letter\n{sentence}", shown=("name", "sex", "age", "origin", "family", "belief"))


def test_a_name_that_shares_its_line_with_an_address_is_taken_out() -> None:
    seen = blinded("Tove Holm   tove@mail.example\nI ran the propagation house. Holm is my name.")
    assert (seen.text, seen.kinds) == ("[name]   [mail]\nI ran the propagation house. [name] is my name.", ("name",))


def test_what_is_told_as_left_out_is_looked_up_in_what_goes_out() -> None:
    seen = blinded("kovac_ana wrote this for Ana Kovac.", ["Ana Kovac"])
    assert ("name" in seen.kinds, seen.open) == (False, ("name",))
    assert blinded("Ana Kovac wrote this.", ["Ana Kovac"]).kinds == ("name",)
    assert blinded("Write to office@fern.example.").kinds == ()
