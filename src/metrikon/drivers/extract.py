"""Ask, settle, and ask for what is left: the loop around the pure stages of extraction."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

from metrikon.core.extraction.doubting.row import spoiling
from metrikon.core.extraction.planning.asking import REPAIR, SECOND, Asking, Given, Request, answered
from metrikon.core.extraction.settle import Reading
from metrikon.core.records.findings import Finding
from metrikon.core.records.types import RecordType
from metrikon.models.pattern import PATTERN
from metrikon.ports.model import Model, ModelAnswer, ModelRequest, Usage
from metrikon.ports.paper import Paper

MOST_CALLS = 12  # requests for one document, before a person must look


@dataclass(frozen=True)
class Extracted:
    """A reading and what it cost; `asked` counts the answers that were needed."""

    reading: Reading
    usage: Usage
    model: str
    asked: int
    kept: int = 0


@dataclass
class Tally:
    """What was answered so far, and what it cost; `rejected` is told of calls whose answers are not to be given again."""

    given: list[Given] = field(default_factory=list)
    usage: Usage = field(default_factory=Usage)
    kept: int = 0
    rejected: Callable[[str], None] = lambda call: None
    calls: dict[int, str] = field(default_factory=dict)


def extract(
    model: Model,
    kind: RecordType,
    paper: Paper,
    today: str,
    context: str = "",
    second: Model | None = None,
    most_calls: int = MOST_CALLS,
    rejected: Callable[[str], None] = lambda call: None,
    second_reading: Model | None = None,
) -> Extracted:
    """The record in a document. Raises `ModelDown` or `ModelRefused` from the model; never fails on an answer.

    `second`: a stronger model that reads again what the first could not mend. `second_reading`: the model that reads what is
    decided a second time, by itself; it may be the first. `rejected` is told of calls
    whose answers were no good, so that they are not given again.
    """
    if model.name == PATTERN:
        given = paper.patterns(kind)
        return Extracted(paper.settle(kind, [given], Asking(today, context)), Usage(calls=1), model.name, 1)
    asking = Asking(today, context, model.room, 1 if second is not None else 0, second_reading is not None)
    tally = Tally(rejected=rejected)
    asks: Sequence[Request] = paper.asks(kind, asking)
    left_out = len(asks) - most_calls
    asks = asks[:most_calls]
    while True:
        for ask in asks:
            reader = second_reading if ask.stage == SECOND else second if ask.stage == REPAIR else None
            ask_one(ask, reader or model, paper, tally)
        reading = paper.settle(kind, tally.given, asking)
        asks = reading.next[: most_calls - len(tally.given)]
        if not asks:
            if any(each.check in spoiling() for each in reading.findings):
                for call in tally.calls.values():
                    rejected(call)
            names = dict.fromkeys(each.model for each in tally.given)
            reading = reading if left_out <= 0 else replace(reading, findings=[_not_all(left_out, most_calls), *reading.findings])
            return Extracted(reading, tally.usage, " and ".join(names) or "the file's own data", len(tally.given), tally.kept)


def _not_all(left_out: int, most: int) -> Finding:
    parts = f"{left_out} part{'s' if left_out != 1 else ''} of it"
    return Finding("calls", "stop", f"The document takes more requests than the {most} that may be made for it (calls): {parts} were not read.")


def ask_one(ask: Request, model: Model, paper: Paper, tally: Tally) -> None:
    """Put one request to a model, and keep what it answers."""
    pictures = paper.pictures(ask.pages[: model.sees]) if model.sees and ask.pages else ()
    fresh = ask.tries > 0 and ask.stage != REPAIR
    answer: ModelAnswer = model.answer(ModelRequest(ask.messages, ask.schema, fresh, ask.stage, pictures, about=paper.about))
    if ask.tries and ask.stage != REPAIR:  # the answer before was no good
        before = next((n for n in range(len(tally.given) - 1, -1, -1) if tally.given[n].stage == ask.stage and tally.given[n].part == ask.part), None)
        if before is not None and tally.calls.get(before):
            tally.rejected(tally.calls[before])
    tally.usage = tally.usage.plus(answer.usage)
    tally.kept += answer.kept
    if answer.call:
        tally.calls[len(tally.given)] = answer.call
    tally.given.append(answered(ask, answer.text, model.name, answer.tokens))
