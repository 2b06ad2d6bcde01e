"""Writing: prose from a document by the builder's instructions. Figures are worked out by us; whatever is in no source is found, asked away, or stops it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

import msgspec

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning import prompt
from metrikon.core.extraction.planning.asking import ASK, Asking, Given, Request
from metrikon.core.extraction.planning.estimate import Estimate
from metrikon.core.judging.founded import NOUNS, Sources, unfounded
from metrikon.core.judging.putting import DATA, again, answers, no_answer, objects, suspicious, taken
from metrikon.core.judging.verdict import Verdict
from metrikon.core.records.findings import Finding

WRITTEN, USE, LEAVE = "written", "use it", "leave it"
OUTCOMES = (USE, LEAVE)  # that a person may give
NOTES = "notes"  # what of a part of a long document is wanted
TRIES = 3  # a text is written anew twice, with what was wrong with it
TOO_LONG = 1.3  # times the words that were wanted
FOUNDED, DOUBTED = 0.9, 0.3
MOST_NAMED = 12
LETTER = 6  # characters of a word on average, with its blank
LETTERS = 25  # of a word, more than any has on average: a text that has more was never meant
_RULES = """You write one text from a document by instructions, and answer with one JSON object: {"text": "…"}.
- Use only what stands in the document and under "Figures". Every number, date and name of your text must stand there, just as exact: never round, convert, add up or guess.
- What the instructions ask for and neither holds, leave out or say that it is not known."""


_NOTING = """You read one part of a document, from which somebody else will write a text by instructions, and answer with one JSON object: {"notes": ["…"]}.
- Note in short sentences what of this part the instructions ask for, at most 12; an empty list where there is nothing.
- Every number, date and name as it stands in this part: never round, convert, add up or guess."""
_MOST_NOTES, _LONGEST_NOTE = 12, 300


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
    """The request to write; of a document that is longer than one request takes, first what of each part is wanted."""
    parts = prompt.parts(index, {}, asking.room, today=asking.today)
    return [_writing(task, asking, parts[0].text, parts[0].pages)] if len(parts) == 1 else _noting(task, asking, parts)


def _writing(task: Draft, asking: Asking, text: str, pages: tuple[int, ...] = ()) -> Request:
    figures = ["Figures:", *(f"- {each.name}: {each.value}" for each in task.figures)] if task.figures else []
    how = f"Write at most {task.words} words{f' in {task.language}' if task.language else ''}."
    head = "\n".join(each for each in (asking.context, f"Instructions: {task.instructions}", how, *figures) if each)
    return _request(ASK, f"a text of {task.words} words", _RULES, head, text, {"text": {"type": "string"}}, pages=pages)


def _noting(task: Draft, asking: Asking, parts: Sequence[prompt.Shown]) -> list[Request]:
    head = "\n".join(each for each in (asking.context, f"Instructions: {task.instructions}") if each)
    schema = {"notes": {"type": "array", "items": {"type": "string"}, "maxItems": _MOST_NOTES}}
    return [
        _request(NOTES, f"what is wanted of part {number + 1} of {len(parts)}", _NOTING, head, part.text, schema, number, part.pages)
        for number, part in enumerate(parts)
    ]


def _request(
    stage: str, about: str, rules: str, head: str, text: str, properties: Mapping[str, Any], part: int = 0, pages: tuple[int, ...] = ()
) -> Request:
    user = f"{head}\n\n<document>\n{prompt.guarded(text)}\n</document>"
    messages = [{"role": "system", "content": f"{rules}\n{DATA}"}, {"role": "user", "content": user}]
    return Request(stage, about, messages, objects(properties), part, pages=pages)


def estimated(task: Draft, index: Index, asking: Asking) -> Estimate:
    """What writing would take."""
    made = asks(task, index, asking)
    if len(made) > 1:
        notes = _MOST_NOTES * _LONGEST_NOTE // 3
        made = [*made, _writing(task, asking, " " * min(notes * len(made), asking.room))]
        return taken(made, twice=False, answer=notes * (len(made) - 1) + LETTER * task.words)
    return taken(made, twice=False, answer=LETTER * task.words)


def settled(task: Draft, index: Index, given: Sequence[Given], asking: Asking) -> Verdict:
    """The text, with what of it is in no source, and the request to write it anew."""
    sources = _sources(task, index, asking)
    first, findings, following = _first(task, index, given, asking, sources)
    if first is None or (following and not any(each.stage == ASK for each in given)):
        return Verdict({}, (), following)
    value, problem, answer = answers(given).get(0, (None, "There is no answer.", Given(ASK, "")))
    text = value.get("text") if isinstance(value, Mapping) else None
    if not problem and (not isinstance(text, str) or not text.strip()):
        problem = 'It must be {"text": "…"} with the text that was asked for.'
    if isinstance(text, str) and len(text) > LETTERS * task.words + LETTERS * 20:
        problem = problem or f"The text has {len(text):,} characters; at most {task.words} words are wanted."
    text = text.strip() if isinstance(text, str) and not problem else ""
    wrong = [] if problem else unfounded(text, sources)
    count = len(text.split())
    long = count > task.words * TOO_LONG
    told = problem or _told(wrong, count if long else 0, task.words)
    if told and answer.tries + 1 < TRIES:
        messages = prompt.again(first.messages, answer.text, told)
        more = Request(ASK, f"{first.about}, written anew", messages, first.schema, tries=answer.tries + 1, pages=first.pages)
        return Verdict({}, (), (more,))
    findings = [*([no_answer(problem)] if problem else []), *suspicious(index), *findings]
    if wrong:
        findings.append(Finding("in no source", "stop", f"In none of its sources: {', '.join(wrong[:MOST_NAMED])}. Correct the text, or leave it."))
    if long:
        findings.append(Finding("too long", "warn", f"It has {count} words; {task.words} were wanted."))
    sure = 0.0 if problem else DOUBTED if wrong else FOUNDED
    result = {"outcome": WRITTEN, "sure": sure, "text": text, "words": count, "in_no_source": wrong, "evidence": None}
    return Verdict(result, tuple(findings))


def _first(
    task: Draft, index: Index, given: Sequence[Given], asking: Asking, sources: Sources
) -> tuple[Request | None, list[Finding], tuple[Request, ...]]:
    """The request to write the text, what is to be known of how it came about, and what is asked next; no request while notes are wanting."""
    made = asks(task, index, asking)
    if made[0].stage == ASK:
        return made[0], [], ()
    notes: list[str] = []
    findings: list[Finding] = []
    following: list[Request] = []
    told = answers(given, NOTES)
    left_out = 0
    for each in made:
        value, problem, answer = told.get(each.part, (None, "There is no answer.", None))
        found = value.get("notes") if isinstance(value, Mapping) else None
        if not isinstance(found, list):
            wrong = problem or 'It must be {"notes": ["…"]}.'
            more = again(each, answer, wrong) if answer is not None else None
            following += [more] if more else []
            if not more:
                findings.append(Finding("not whole", "stop", f"Of part {each.part + 1} of {len(made)} of the document nothing was noted. {wrong}"))
            continue
        kept = [note[:_LONGEST_NOTE] for note in found[:_MOST_NOTES] if isinstance(note, str) and note.strip()]
        founded = [note for note in kept if not unfounded(note, sources)]
        left_out += len(kept) - len(founded)
        notes += founded
    if following:
        return None, findings, tuple(following)
    if left_out:
        findings.append(Finding("left out", "warn", f"{left_out} notes of the document were left out: what they say is not in it."))
    room, shown = asking.room, [note for number, note in enumerate(notes) if sum(map(len, notes[: number + 1])) < asking.room]
    if len(shown) < len(notes):
        findings.append(
            Finding("not whole", "stop", f"More was noted of the document than one request takes ({room:,} characters). Give less of it.")
        )
    request = _writing(task, asking, "\n".join(shown) or "(nothing)")
    return request, findings, (request,)


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
