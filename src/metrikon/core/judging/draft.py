"""Writing: prose from a document by the builder's instructions. Figures are worked out by us; whatever is in no source is found, asked away, or stops it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

import msgspec

from metrikon.core.extraction import prompt
from metrikon.core.extraction.asking import ASK, Asking, Given, Request
from metrikon.core.extraction.index import Index
from metrikon.core.judging.founded import NOUNS, Sources, unfounded
from metrikon.core.judging.putting import DATA, answers, no_answer, objects, suspicious
from metrikon.core.judging.verdict import Verdict
from metrikon.core.records.findings import Finding

WRITTEN, USE, LEAVE = "written", "use it", "leave it"
OUTCOMES = (USE, LEAVE)  # that a person may give
TRIES = 3  # a text is written anew twice, with what was wrong with it
TOO_LONG = 1.3  # times the words that were wanted
FOUNDED, DOUBTED = 0.9, 0.3
MOST_NAMED = 12
LETTERS = 25  # of a word, more than any has on average: a text that has more was never meant
_RULES = """You write one text from a document by instructions, and answer with one JSON object: {"text": "…"}.
- Use only what stands in the document and under "Figures". Every number, date and name of your text must stand there, just as exact: never round, convert, add up or guess.
- What the instructions ask for and neither holds, leave out or say that it is not known."""


class Figure(msgspec.Struct, frozen=True):
    """A figure that was worked out, which may be used under its name."""

    name: str
    value: str


class Draft(msgspec.Struct, frozen=True, omit_defaults=True, tag="draft", tag_field="task"):
    """A text to be written: what it is to say, how long it may be (words), in which language, and figures that may be used."""

    instructions: str
    words: int = 200
    language: str = ""
    figures: tuple[Figure, ...] = ()


def asks(task: Draft, index: Index, asking: Asking, stage: str = ASK) -> list[Request]:
    """The request to write."""
    shown = prompt.parts(index, {}, asking.room, today=asking.today)[0]
    figures = ["Figures:", *(f"- {each.name}: {each.value}" for each in task.figures)] if task.figures else []
    how = f"Write at most {task.words} words{f' in {task.language}' if task.language else ''}."
    head = "\n".join(each for each in (asking.context, f"Instructions: {task.instructions}", how, *figures) if each)
    user = f"{head}\n\n<document>\n{prompt.guarded(shown.text)}\n</document>"
    schema = objects({"text": {"type": "string"}})
    return [
        Request(
            stage,
            f"a text of {task.words} words",
            [{"role": "system", "content": f"{_RULES}\n{DATA}"}, {"role": "user", "content": user}],
            schema,
            pages=shown.pages,
        )
    ]


def settled(task: Draft, index: Index, given: Sequence[Given], asking: Asking) -> Verdict:
    """The text, with what of it is in no source, and the request to write it anew."""
    value, problem, answer = answers(given).get(0, (None, "There is no answer.", Given(ASK, "")))
    text = value.get("text") if isinstance(value, Mapping) else None
    if not problem and (not isinstance(text, str) or not text.strip()):
        problem = 'It must be {"text": "…"} with the text that was asked for.'
    if isinstance(text, str) and len(text) > LETTERS * task.words + LETTERS * 20:
        problem = problem or f"The text has {len(text):,} characters; at most {task.words} words are wanted."
    text = text.strip() if isinstance(text, str) and not problem else ""
    wrong = [] if problem else unfounded(text, _sources(task, index, asking))
    count = len(text.split())
    long = count > task.words * TOO_LONG
    told = problem or _told(wrong, count if long else 0, task.words)
    if told and answer.tries + 1 < TRIES:
        (first,) = asks(task, index, asking)
        messages = prompt.again(first.messages, answer.text, told)
        more = Request(ASK, f"{first.about}, written anew", messages, first.schema, tries=answer.tries + 1, pages=first.pages)
        return Verdict({}, (), (more,))
    findings = [*([no_answer(problem)] if problem else []), *suspicious(index)]
    if wrong:
        findings.append(Finding("in no source", "stop", f"In none of its sources: {', '.join(wrong[:MOST_NAMED])}. Correct the text, or leave it."))
    if long:
        findings.append(Finding("too long", "warn", f"It has {count} words; {task.words} were wanted."))
    if len(prompt.parts(index, {}, asking.room, today=asking.today)) > 1:
        findings.append(
            Finding("not whole", "stop", "The document is longer than one request takes: what stands at its end was not seen. Give less of it.")
        )
    sure = 0.0 if problem else DOUBTED if wrong else FOUNDED
    result = {"outcome": WRITTEN, "sure": sure, "text": text, "words": count, "in_no_source": wrong, "evidence": None}
    return Verdict(result, tuple(findings))


def _sources(task: Draft, index: Index, asking: Asking) -> Sources:
    given = " ".join([task.instructions, asking.context, asking.today])
    return Sources(index, [(each.name, each.value) for each in task.figures], given, nouns=task.language.lower().startswith(NOUNS))


def _told(wrong: Sequence[str], count: int, words: int) -> str:
    said = []
    if wrong:
        said.append(
            f"These are neither in the document nor among the figures: {', '.join(wrong[:MOST_NAMED])}. Leave them out, or say what stands there."
        )
    if count:
        said.append(f"It has {count} words; at most {words} are wanted.")
    return " ".join(said)


def worked_out(value: Any, name: str = "") -> list[Figure]:
    """Figures that may be wanted of a record: how many rows its lists have, and the sums of their numbers; exact."""
    found: list[Figure] = []
    if isinstance(value, Mapping):
        for key, part in value.items():
            found += worked_out(part, f"{name}.{key}" if name else str(key))
    elif isinstance(value, list) and value:
        found.append(Figure(f"number of {name or 'rows'}", str(len(value))))
        rows = [each for each in value if isinstance(each, Mapping)]
        for key in dict.fromkeys(key for row in rows for key in row):
            numbers = [Decimal(row[key]) for row in rows if isinstance(row.get(key), Decimal | int) and not isinstance(row.get(key), bool)]
            if numbers:
                found.append(Figure(f"sum of {name}.{key}" if name else f"sum of {key}", f"{sum(numbers, Decimal(0)):f}"))
    return found
