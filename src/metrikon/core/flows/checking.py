"""Everything that is wrong with the text of a flow, with line and column: the same for the service, its console and the command line."""

from __future__ import annotations

from metrikon.core.flows.kind import Known, Language
from metrikon.core.flows.lines import with_lines
from metrikon.core.flows.model import Flow
from metrikon.core.flows.problems import Problem
from metrikon.core.flows.text import NotYaml, from_yaml
from metrikon.core.flows.verify import check_flow

MOST_LINES = 3000


def checked(text: str, language: Language, known: Known) -> tuple[Flow | None, list[Problem]]:
    """The flow in a text, as far as it can be read, and all that is wrong with it, in the order of the text."""
    lines = text.count("\n")
    if lines > MOST_LINES:
        return None, [
            Problem("", "", f"The flow has {lines} lines; at most {MOST_LINES} are read. Put some of it into a flow of its own.", line=1, column=1)
        ]
    try:
        data = from_yaml(text)
    except NotYaml as error:
        return None, [Problem("", "", str(error), line=error.line, column=error.column)]
    flow, problems = check_flow(data, language, known)
    return flow, with_lines(problems, text) if problems else []
