"""Ask, parse, and ask again with the error: the loop around the pure stages of extraction."""

from __future__ import annotations

from dataclasses import dataclass

from metrikon.core.extraction.parse import NotUnderstood
from metrikon.core.extraction.prompt import again
from metrikon.core.extraction.settle import Reading
from metrikon.core.records.findings import Finding
from metrikon.core.records.types import RecordType
from metrikon.ports.model import Model, ModelRequest, Usage
from metrikon.ports.paper import Paper

ATTEMPTS = 3  # answers asked for before a person must look


@dataclass(frozen=True)
class Extracted:
    """A reading and what it cost; `asked` counts the answers that were needed."""

    reading: Reading
    usage: Usage
    model: str
    asked: int


def extract(model: Model, kind: RecordType, paper: Paper, today: str, context: str = "", attempts: int = ATTEMPTS) -> Extracted:
    """The record in a document. Raises `ModelDown` or `ModelRefused` from the model; never fails on an answer."""
    first = asked = paper.messages(kind, today, context)
    usage, problem = Usage(), ""
    for attempt in range(1, attempts + 1):
        answer = model.answer(ModelRequest(asked, kind, paper.patterns))
        usage = usage.plus(answer.usage)
        try:
            reading = paper.settle(kind, answer)
        except NotUnderstood as error:
            problem = str(error)
            asked = again(first, answer.text, problem)
            continue
        return Extracted(reading, usage, model.name, attempt)
    message = f"The model gave {attempts} answers that could not be used. The last: {problem} Fill in the record by hand."
    return Extracted(Reading({}, {}, [Finding("no answer", "stop", message)]), usage, model.name, attempts)
