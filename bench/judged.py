"""A real language model on made-up applications, calls and price lists with known answers. By hand, not in CI.

    python -m bench.judged --model-url URL [--model NAME] [--size "1.5 billion parameters, 4 bits"] [--minutes 20] [--times 5] [--write] [PART …]

PART is any of applications, again, calls, plain, pairs, drafts; all when left out. Each ends when its documents or its share of the minutes are over. --write
keeps the rows of the parts that were run in docs/judging-real-model.md.
"""

from __future__ import annotations

import argparse
import sys
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from statistics import StatisticsError, correlation, mean

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.parsing.parse import NotUnderstood, parse_answer
from metrikon.core.extraction.planning.asking import Asking
from metrikon.core.judging.compare import Compare
from metrikon.core.judging.draft import Draft
from metrikon.core.judging.judge import totalled
from metrikon.core.judging.matter import set_out
from metrikon.core.judging.tasks import Task
from metrikon.demo.judged import LINE, MATTERS, POST, applications, pairs, phoned
from metrikon.drivers.judge import Judged, judge
from metrikon.drivers.paper import LocalPaper
from metrikon.models.chat import ChatModel, ChatSettings
from metrikon.ports.model import Model, ModelRequest

PLACE = Path("docs/judging-real-model.md")
ASKING, TWICE = Asking("2026-11-27"), Asking("2026-11-27", second=True)
PLAIN = 'Answer these questions about the call with JSON: {"name": true or false, …}. Answer with JSON only.'


@dataclass
class Told:
    """What a part came to."""

    name: str
    wanted: str
    found: str
    count: int
    seconds: float


def _judged(model: Model, task: Task, text: str, *, twice: bool = False) -> Judged:
    return judge(model, task, LocalPaper(Index(set_out(text))), TWICE if twice else ASKING, model if twice else None, 8)


def ranks(values: Sequence[float]) -> list[float]:
    """The ranks of some values, those that are equal sharing theirs."""
    return [sum(other < each for other in values) + (sum(other == each for other in values) + 1) / 2 for each in values]


def marks(model: Model, until: float, times: int) -> list[Told]:
    """Applications against the order by their known marks, each read twice: by the first reading alone, and by both."""
    began, right, once, both, off, ground = time.monotonic(), [], [], [], [], 0
    for each in applications(30):
        if time.monotonic() > until:
            break
        made = _judged(model, POST, each.text, twice=True)
        given = {mark["name"]: mark for mark in made.verdict.result.get("marks", ())}
        if len(given) == len(POST.criteria):
            right.append(sum(each.marks[one.name] * one.weight / one.scale[-1].mark for one in POST.criteria))
            once.append(float(totalled(POST, {name: mark["mark"] for name, mark in given.items()})[0]))
            both.append(float(made.verdict.result["total"]))
            off += [abs(mark["mark"] - each.marks[name]) for name, mark in given.items()]
            ground += made.needs_person
    exact, near = (mean(one <= least for one in off) if off else 0.0 for least in (0, 1))
    told = f"{_rho(right, once)}; {exact:.2f} of the marks exact, {near:.2f} within one"
    seconds, name = time.monotonic() - began, "applications: rank correlation with the known order"
    return [
        Told(f"{name}, one reading", "0.6", told, len(once), seconds / 2),
        Told(
            "applications: the same by two readings, of which the total takes both",
            "0.6",
            f"{_rho(right, both)}; {ground} put before a person",
            len(both),
            seconds,
        ),
    ]


def _rho(right: Sequence[float], found: Sequence[float]) -> str:
    try:
        return f"{correlation(ranks(right), ranks(found)):.2f}"
    except StatisticsError:
        return "none"


def again(model: Model, until: float, times: int) -> list[Told]:
    """The same application judged several times, asked anew each time."""
    began, apart, count = time.monotonic(), [], 0
    for each in applications(6, seed=11):
        if time.monotonic() > until:
            break
        seen: dict[str, list[int]] = {}
        for number in range(times):
            lines = each.text.splitlines()
            text = "\n".join([*lines[:3], *(lines[3:-2][number % 3 :] + lines[3:-2][: number % 3]), *lines[-2:]])  # the same words in another order
            for mark in _judged(model, POST, text).verdict.result.get("marks", ()):
                seen.setdefault(mark["name"], []).append(mark["mark"])
        apart += [max(values) - min(values) for values in seen.values()]
        count += 1
    told = f"{mean(one <= 1 for one in apart):.2f} of the marks, furthest apart {max(apart)}" if apart else "none"
    return [Told(f"the same words {times} times, in another order each: marks within one", "all", told, count, time.monotonic() - began)]


def calls(model: Model, until: float, times: int) -> list[Told]:
    """Yes and no of calls, by questions with their words."""
    return [
        _calls(
            "calls: yes/no right",
            "0.85",
            until,
            lambda text: {each["name"]: each["answer"] == "yes" for each in _judged(model, LINE, text).verdict.result.get("answers", ())},
        )
    ]


def plain(model: Model, until: float, times: int) -> list[Told]:
    """The same by one plain prompt."""

    def answered(text: str) -> dict[str, bool]:
        asked = "\n".join(f"{each.name}: {each.about}" for each in LINE.questions)
        schema = {
            "type": "object",
            "properties": {each.name: {"type": "boolean"} for each in LINE.questions},
            "required": [each.name for each in LINE.questions],
        }
        answer = model.answer(ModelRequest([{"role": "user", "content": f"{PLAIN}\n\n{asked}\n\n{text}"}], schema))
        try:
            value = parse_answer(answer.text).value
        except NotUnderstood:
            return {}
        return {name: value.get(name) is True for name in schema["properties"]} if isinstance(value, dict) else {}

    return [_calls("calls: yes/no right by a plain prompt", "0.1 less", until, answered)]


def _calls(name: str, wanted: str, until: float, answered: Callable[[str], dict[str, bool]]) -> Told:
    began, right, count = time.monotonic(), [], 0
    for each in phoned(60):
        if time.monotonic() > until:
            break
        found = answered(each.text)
        right += [found.get(question) == yes for question, yes in each.answers.items()]
        count += 1
    return Told(name, wanted, f"{mean(right):.3f}" if right else "none", count, time.monotonic() - began)


def changes(model: Model, until: float, times: int) -> list[Told]:
    """Whether a price list changed, and whether that matters."""
    began, right, asked = time.monotonic(), [], 0
    for each in pairs(60):
        if time.monotonic() > until:
            break
        made = _judged(model, Compare(tuple(each.before), None, MATTERS), "\n".join(each.after))
        right.append(made.verdict.result.get("outcome") == each.outcome)
        asked += made.asked
    told = f"{mean(right):.3f}; {asked} requests in all" if right else "none"
    return [Told("pairs of price lists: same, not material or material, right", "0.95", told, len(right), time.monotonic() - began)]


def drafts(model: Model, until: float, times: int) -> list[Told]:
    """Texts from applications and price lists: how many were stopped, and of how many requests."""
    began, stopped, count, asked, why = time.monotonic(), 0, 0, 0, []
    for number, each in enumerate(applications(15, seed=21) + applications(15, seed=22)):
        if time.monotonic() > until:
            break
        words = "Write a short friendly reply to the applicant: thank them and say which of their experience was noted."
        made = _judged(model, Draft(words, 60), each.text if number % 2 else "\n".join(pairs(30, seed=23)[number].before))
        stopped += bool(made.verdict.result.get("in_no_source"))
        why += made.verdict.result.get("in_no_source", [])[:2]
        count, asked = count + 1, asked + made.asked
    return [
        Told(
            "texts stopped",
            "1 in 10",
            f"{stopped} of {count}, {asked} requests; in no source: {', '.join(why[:10])}",
            count,
            time.monotonic() - began,
        )
    ]


PARTS: dict[str, Callable[[Model, float, int], list[Told]]] = {
    "applications": marks,
    "calls": calls,
    "plain": plain,
    "pairs": changes,
    "again": again,
    "drafts": drafts,
}


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("parts", nargs="*", choices=[*PARTS, []], metavar="PART")
    parser.add_argument("--model-url", required=True)
    parser.add_argument("--model", default="model")
    parser.add_argument("--size", default="")
    parser.add_argument("--minutes", type=float, default=60.0)
    parser.add_argument("--times", type=int, default=5)
    parser.add_argument("--write", action="store_true")
    given = parser.parse_args()
    model = ChatModel(ChatSettings(given.model_url, given.model, timeout=600))
    chosen = given.parts or list(PARTS)
    told: list[Told] = []
    for name in chosen:
        print(f"{name} …", flush=True)
        found = PARTS[name](model, time.monotonic() + given.minutes * 60 / len(chosen), given.times)
        told += found
        for each in found:
            print(f"  {each.name} (wanted {each.wanted}): {each.found}; {each.count} documents, {each.seconds:.0f} s", flush=True)
        if given.write:
            _write(told, given.size or given.model)
    return 0


def _write(told: Sequence[Told], size: str) -> None:
    rows = {line.split("|")[1].strip(): line for line in (PLACE.read_text("utf-8").splitlines() if PLACE.exists() else ()) if line.startswith("| ")}
    for each in told:
        rows[each.name] = f"| {each.name} | {each.wanted} | {each.found} | {each.count} | {each.seconds:.0f} | {date.today().isoformat()}, {size} |"
    rows.pop("what", None)
    head = [
        "# Judging with a real small model",
        "",
        "Made by hand (`python -m bench.judged`) on made-up applications, calls and price lists with known answers (`demo/judged.py`). With a model that is always",
        "right all of these are 1.0 (a test holds it).",
        "",
        "| what | wanted | found | documents | seconds | when, model |",
        "|---|---|---|---:|---:|---|",
    ]
    PLACE.write_text("\n".join([*head, *rows.values()]) + "\n", "utf-8")


if __name__ == "__main__":
    sys.exit(main())
