"""With a model that is always right, every judgement of the made-up applications, calls and price lists is right; with one that lies, a lie that rests on nothing is seen."""

from __future__ import annotations

import json
import random
import re
from collections.abc import Callable, Sequence
from typing import Any

import pytest

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Asking, Given, Request
from metrikon.core.judging import tasks
from metrikon.core.judging.compare import Compare
from metrikon.core.judging.draft import Draft, Figure
from metrikon.core.judging.matter import set_out
from metrikon.core.judging.verdict import Verdict
from metrikon.demo.judged import LINE, MATTERS, POST, applications, matters, pairs, phoned

Answering = Callable[[Request], Any]
ONCE, TWICE = Asking("2026-11-27"), Asking("2026-11-27", second=True)


def judged(task: tasks.Task, text: str, answer: Answering, asking: Asking = TWICE) -> Verdict:
    index = Index(set_out(text))
    given: list[Given] = []
    following: Sequence[Request] = tasks.asks(task, index, asking)
    while True:
        given += [Given(each.stage, json.dumps(answer(each)), "m", each.part, tries=each.tries) for each in following]
        verdict = tasks.settled(task, index, given, asking)
        following = verdict.next
        if not following:
            return verdict


def stops(verdict: Verdict) -> list[str]:
    return [each.check for each in verdict.findings if each.level == "stop"]


def test_every_application_has_its_marks_and_stands_in_the_right_order() -> None:
    right, found = [], []
    for each in applications(30):
        verdict = judged(POST, each.text, lambda request, each=each: each.answer)  # type: ignore[misc]
        assert {mark["name"]: mark["mark"] for mark in verdict.result["marks"]} == each.marks
        assert stops(verdict) == []
        right.append(sum(each.marks[one.name] * one.weight / one.scale[-1].mark for one in POST.criteria))
        found.append(verdict.result["total"])
    order = sorted(range(30), key=lambda n: right[n])
    assert [found[n] for n in order] == sorted(found)


def test_the_same_application_in_another_order_under_another_name_has_the_same_marks_and_looks_the_same() -> None:
    for each in applications(10, seed=5):
        lines = each.text.replace(each.name, "Somebody Else").splitlines()
        body = lines[3:-2]
        random.Random(1).shuffle(body)
        other = "\n".join([*lines[:3], *body, *lines[-2:]])
        seen: list[str] = []

        def answer(request: Request, each: Any = each, seen: list[str] = seen) -> Any:
            seen.append(request.messages[1]["content"])
            return each.answer

        one, two = judged(POST, each.text, answer, ONCE), judged(POST, other, answer, ONCE)
        assert (one.result["total"], one.result["outcome"]) == (two.result["total"], two.result["outcome"])
        assert sorted(re.findall(r"\w+", seen[0])) == sorted(re.findall(r"\w+", seen[1]))


def test_every_call_has_its_answers_and_the_first_that_is_true_is_the_outcome() -> None:
    for each in phoned(60):
        verdict = judged(LINE, each.text, lambda request, each=each: each.answer)  # type: ignore[misc]
        assert {one["name"]: one["answer"] == "yes" for one in verdict.result["answers"]} == each.answers
        assert verdict.result["outcome"] == each.outcome
        assert stops(verdict) == []


def test_of_every_pair_of_price_lists_it_is_right_whether_it_changed_and_whether_that_matters() -> None:
    def answer(request: Request) -> Any:
        text = request.messages[1]["content"].partition("<document>")[2]
        lines = dict(re.findall(r"^(\d+)\. (.*)$", text, re.MULTILINE))
        return {name: {"why": "", "material": "yes" if matters(lines[name], "") else "no"} for name in request.schema["properties"]}

    for each in pairs(60):
        verdict = judged(Compare(tuple(each.before), None, MATTERS), "\n".join(each.after), answer)
        assert verdict.result["outcome"] == each.outcome, each
        assert stops(verdict) == (["another text"] if each.notice else [])


@pytest.mark.parametrize("seed", range(30))
def test_a_text_of_true_sentences_is_written_and_one_lie_in_it_is_always_found(seed: int) -> None:
    dice = random.Random(seed)
    each = dice.choice(pairs(20, seed))
    prices = [line.rpartition("  ") for line in each.before[1:]]
    total = f"{sum(float(price.split()[0]) for _, _, price in prices):.2f}"
    task = Draft("Tell the head gardener what the plants cost.", 80, "", (Figure("sum of prices", total),))
    said = [f"{plant} costs {price}." for plant, _, price in dice.sample(prices, 4)]
    true = " ".join([*said, f"Together all of them cost {total} EUR."])
    assert judged(task, "\n".join(each.before), lambda request: {"text": true}, ONCE).findings == ()
    lie = dice.choice(
        [
            true.replace(total, f"{float(total) + 10:.2f}"),
            true.replace(total, f"{round(float(total), -1):.0f}0"),
            f"{true} Ask Jorge Ibarra.",
            f"{true} It is valid from 3 May 2026.",
        ]
    )
    assert stops(judged(task, "\n".join(each.before), lambda request: {"text": lie}, ONCE)) == ["in no source"]


def test_a_mark_or_a_yes_that_is_given_for_words_of_somebody_else_is_never_taken_on_trust() -> None:
    other = applications(1, seed=99)[0]
    for each in applications(20, seed=7):
        part = next((name for name, mark in each.marks.items() if mark == 0 and other.marks[name] > 0 and other.words[name] not in each.text), None)
        if part is not None:
            lie = {**each.answer, part: other.answer[part]}
            assert stops(judged(POST, each.text, lambda request, lie=lie: lie)) != []  # type: ignore[misc]
    for call in phoned(20, seed=8):
        for name, yes in call.answers.items():
            if not yes:
                lie = {**call.answer, name: {"words": "Something that nobody said in this call at all", "answer": "yes"}}
                verdict = judged(LINE, call.text, lambda request, lie=lie: lie, ONCE)  # type: ignore[misc]
                assert all(one["sure"] <= 0.35 for one in verdict.result["answers"] if one["name"] == name)
