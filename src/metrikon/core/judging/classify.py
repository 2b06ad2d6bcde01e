"""Sorting: one label of several, or several questions of which the first that is true says what it is; each yes with the words it rests on."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import msgspec

from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.extraction.parsing.chances import chance_of, chances
from metrikon.core.extraction.planning.asking import ASK, SECOND, Asking, Given, Request
from metrikon.core.extraction.planning.estimate import Estimate
from metrikon.core.judging.putting import again, answers, no_answer, objects, readings, requests, suspicious, taken, unsure, words_schema, yes_or_no
from metrikon.core.judging.quoting import standing
from metrikon.core.judging.verdict import Answer, Option, Verdict
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding

NONE = "none of these"
WITH_WORDS, WITHOUT, INVENTED = 0.9, 0.6, 0.35  # how sure an answer is that rests on words, on none, on words that are not in the document
SILENT = 0.8  # a no, and none of these: no words speak for it
AGREED = 0.3  # what is left of the doubt when a second reading says the same
# what is said comes before the answer, so that it is thought of first; quoting letter by letter at the same time leads a small model astray
_ANSWER = objects({"about": {"type": "string"}, "answer": {"enum": ["yes", "no"]}})
WORDS = "words"  # the words of answers that were given without them
_LABELS = """You read one document and say which of some labels fits it, with one JSON object.
- words: the words of the document that decide it, copied letter by letter, at most twenty; null where no label fits.
- label: the name of the one label that fits best by what the document is about as a whole; where none does, "{none}"."""
_QUESTIONS = """You read one document and answer questions about it, with one JSON object.
- about: what the document says about that, in its own words, at most twenty of them; "nothing" where it does not speak of it.
- answer: "yes" where that means yes; "no" where it means no, or nothing is said; where somebody changes their mind the last word counts."""
_QUOTING = """You read one document. Somebody has answered questions about it with yes; you say with one JSON object in which words of it that stands.
- For each question: the words of the document that say so, copied letter by letter, at most twenty; null where none do."""


class Classify(msgspec.Struct, frozen=True, omit_defaults=True, tag="classify", tag_field="task"):
    """What is to be told of a document: which of some labels fits, or which of some questions are true, in an order of priority.

    `otherwise`: the outcome where none does. `least`: how sure the outcome must be, or a person must look.
    """

    labels: tuple[Option, ...] = ()
    questions: tuple[Option, ...] = ()
    otherwise: str = NONE
    least: float = 0.6

    @property
    def options(self) -> tuple[Option, ...]:
        """The labels or the questions, whichever were given."""
        return self.labels or self.questions


def asks(task: Classify, index: Index, asking: Asking, stage: str = ASK) -> list[Request]:
    """The requests of a reading; those of the second have everything in the other order."""
    ordered = tuple(reversed(task.options)) if stage == SECOND else task.options
    lines = [f"- {each.name}{f': {each.about}' if each.about else ''}" for each in ordered]
    about = f"one of {len(ordered)} labels" if task.labels else f"{len(ordered)} questions"
    about = f"{about}, a second time" if stage == SECOND else about
    if task.labels:
        schema = words_schema({"label": {"enum": [*(each.name for each in ordered), task.otherwise]}})
        rules, head = _LABELS.format(none=task.otherwise), "Labels:"
    else:
        schema = objects({each.name: _ANSWER for each in ordered})
        rules, head = _QUESTIONS, "Questions:"
    return list(requests(rules, [head, *lines], schema, about, index, asking, stage))


def estimated(task: Classify, index: Index, asking: Asking) -> Estimate:
    """What asking would take."""
    return taken(asks(task, index, asking), twice=asking.second)


def settled(task: Classify, index: Index, given: Sequence[Given], asking: Asking) -> Verdict:
    """What the answers come to, and what is asked next."""
    read, problems, following = readings(
        lambda stage: _read(task, index, given, asking, stage), lambda stage: asks(task, index, asking, stage), given, twice=asking.second
    )
    if following:
        return Verdict({}, (), following)
    first = read[0]
    if unquoted := [each.name for each in first if each.unquoted]:
        if not any(each.stage == WORDS for each in given):
            return Verdict({}, (), tuple(_words_asked(task, unquoted, index, asking)))
        first = _quoted(first, given, index)
    findings = [*problems, *suspicious(index)]
    made = (_labelled if task.labels else _answered)(task, first, read[1] if asking.second else None, findings)
    outcome, sure, told = made
    findings += unsure(outcome, sure, task.least)
    result = {
        "outcome": outcome,
        "sure": round(sure, 2),
        "evidence": next((each.evidence for each in told if each.name == outcome), None),
        "answers": told,
    }
    return Verdict(msgspec.to_builtins(result), tuple(findings))


class _Said(msgspec.Struct, frozen=True):
    """An option that an answer says yes to (a label is one); or a no."""

    name: str
    yes: bool
    sure: float
    evidence: Evidence | None = None
    unquoted: bool = False  # it was not asked for its words yet


def _words_asked(task: Classify, names: Sequence[str], index: Index, asking: Asking) -> Iterator[Request]:
    """Requests for the words that some answers rest on."""
    wanted = [each for each in task.questions if each.name in names]
    lines = ["Questions:", *(f"- {each.name}: {each.about}" for each in wanted)]
    schema = objects({each.name: {"type": ["string", "null"]} for each in wanted})
    return requests(_QUOTING, lines, schema, f"the words of {len(wanted)} answer{'s' if len(wanted) != 1 else ''}", index, asking, WORDS)


def _quoted(said: Sequence[_Said], given: Sequence[Given], index: Index) -> list[_Said]:
    """What was said, with the words that were asked for afterwards; sure by whether they stand in the document."""
    told = [value for value, _, _ in answers(given, WORDS).values() if isinstance(value, Mapping)]
    found = []
    for each in said:
        words = next((value[each.name] for value in told if isinstance(value.get(each.name), str) and value[each.name].strip()), None)
        found.append(msgspec.structs.replace(_said(each.name, each.yes, words, index, None), unquoted=False) if each.unquoted else each)
    return found


def _read(task: Classify, index: Index, given: Sequence[Given], asking: Asking, stage: str) -> tuple[list[_Said], list[Finding], list[Request]]:
    """What the answers of a reading say; what could not be used, and what is asked once more because of that."""
    said: list[_Said] = []
    problems: list[Finding] = []
    following: list[Request] = []
    put = {each.part: each for each in asks(task, index, asking, stage)}
    for part, (value, problem, answer) in answers(given, stage).items():
        known = chances([(answer.text, answer.tokens)]) if answer.tokens else {}
        read, wrong = _one(task, value, index, known) if not problem else ([], problem)
        if wrong:
            more = again(put[part], answer, wrong) if part in put else None
            following += [more] if more else []
            problems += [] if more else [no_answer(wrong)]
        said += read
    return said, problems, following


def _one(task: Classify, value: Any, index: Index, known: Any) -> tuple[list[_Said], str]:
    """What one answer says, and what is wrong with it."""
    if not isinstance(value, Mapping):
        return [], "It must be one JSON object."
    if task.labels:
        label = _meant(value.get("label"), [*(each.name for each in task.labels), task.otherwise])
        if label is None:
            return (
                [],
                f"label must be one of {', '.join(each.name for each in task.labels)} or {task.otherwise!r}, not {str(value.get('label'))[:60]!r}.",
            )
        chance = chance_of(known, "/label", value.get("label"))
        return [_said(label, label != task.otherwise, value.get("words"), index, chance)], ""
    said, unusable = [], []
    for each in task.questions:
        answer = value.get(each.name)
        answer = answer if isinstance(answer, Mapping) else {"answer": answer}
        yes = yes_or_no(answer.get("answer"))
        if yes is None:
            unusable.append(each.name)
            continue
        chance, about = chance_of(known, f"/{each.name}/answer", answer.get("answer")), answer.get("about")
        if "words" in answer or not yes or not isinstance(about, str):
            said.append(_said(each.name, yes, answer.get("words"), index, chance))
        else:  # what it says about that is a quotation, or is asked for one
            found = _said(each.name, yes, about, index, chance)
            stands = found.evidence is not None and found.evidence.found
            said.append(found if stands else _Said(each.name, yes, WITHOUT, None, unquoted=True))
    return said, f'The answer to {", ".join(unusable)} must be "yes" or "no".' if unusable else ""


def _said(name: str, yes: bool, words: Any, index: Index, chance: float | None) -> _Said:
    evidence = standing(words, index) if yes and isinstance(words, str) and words.strip() else None
    if not yes:
        sure = SILENT
    elif evidence is None:
        sure = WITHOUT
    else:
        sure = WITH_WORDS * evidence.sure / 0.95 if evidence.found else INVENTED
    return _Said(name, yes, min(sure, chance) if chance is not None else sure, evidence)


def _meant(value: Any, names: Sequence[str]) -> str | None:
    """The name that an answer means: letter by letter but for case and marks, or the only one that it holds."""
    if not isinstance(value, str):
        return None
    wanted = squeezed(value)
    exact = [name for name in names if squeezed(name) == wanted]
    held = [name for name in names if squeezed(name) and squeezed(name) in wanted]
    return exact[0] if exact else held[0] if len(held) == 1 else None


def _labelled(task: Classify, found: Sequence[_Said], second: Sequence[_Said] | None, findings: list[Finding]) -> tuple[str, float, list[Answer]]:
    """The label of all parts together, with those that other parts fit."""
    best = _best(found)
    if best is None:
        return task.otherwise, 0.0 if not found else max(each.sure for each in found), []
    others = {each.name for each in found if each.yes and each.name != best.name}
    sure = best.sure
    if others:
        sure *= 0.8
        findings.append(
            Finding("parts differ", "warn", f"Parts of the document fit {' and '.join(sorted(others))} as well as {best.name}.", (best.name,))
        )
    if second is not None:
        other = _best(second)
        sure = _second(task, best.name, other.name if other else task.otherwise, sure, findings)
    return best.name, sure, [Answer(best.name, "yes", round(sure, 2), best.evidence)]


def _second(task: Classify, first: str, other: str, sure: float, findings: list[Finding]) -> float:
    """How sure an outcome is after a second reading."""
    if first == other:
        return 1 - (1 - sure) * AGREED
    names = [each.name for each in task.options]
    placed = first == names[0] and other == names[-1]
    why = " Both times it was the one that was put first: the model goes by the order." if placed and len(names) > 1 else ""
    findings.append(
        Finding(
            "readings differ",
            "stop",
            f"It was read as {first}, and as {other} by the second reading.{why}",
            (first,),
            {"first": first, "second": other},
        )
    )
    return sure * 0.5


def _best(said: Sequence[_Said]) -> _Said | None:
    return max((each for each in said if each.yes), key=lambda each: each.sure, default=None)


def _answered(task: Classify, found: Sequence[_Said], second: Sequence[_Said] | None, findings: list[Finding]) -> tuple[str, float, list[Answer]]:
    """The first question, in the order of priority, that is true of any part; and what was said to each."""
    told, outcome, sure = [], "", 1.0
    alike = len({each.yes for each in found}) == 1 and len(task.questions) > 2
    for question in task.questions:
        said = [each for each in found if each.name == question.name]
        best = _best(said) or max(said, key=lambda each: each.sure, default=_Said(question.name, False, 0.0))
        own = best.sure
        if second is not None:
            other = _best([each for each in second if each.name == question.name])
            if (other is not None) != best.yes:
                words = ("yes", "no") if best.yes else ("no", "yes")
                message = f"{question.name} was read as {words[0]}, and as {words[1]} by the second reading."
                findings.append(
                    Finding("readings differ", "stop" if not outcome else "warn", message, (question.name,), {"first": words[0], "second": words[1]})
                )
                own *= 0.5
            else:
                own = 1 - (1 - own) * AGREED
        told.append(Answer(question.name, "yes" if best.yes else "no", round(own, 2), best.evidence))
        if not outcome:
            sure = min(sure, own)
            outcome = question.name if best.yes else ""
    if alike and found and found[0].yes:
        findings.append(Finding("all alike", "warn", "Every question was answered with yes: the model may not have told them apart."))
    return outcome or task.otherwise, sure, told


def option_names(task: Classify) -> Iterator[str]:
    """Every outcome that there may be."""
    yield from (each.name for each in task.options)
    yield task.otherwise
