"""What each stage of a reading came to, told in a sentence."""

from __future__ import annotations

from collections.abc import Sequence

from metrikon.core.extraction.planning.asking import Stage
from metrikon.core.extraction.state import State
from metrikon.core.records.confidence import UNATTENDED
from metrikon.core.records.findings import Finding

SHOWN = 200  # changes that are told one by one


def stages(state: State, findings: Sequence[Finding]) -> tuple[Stage, ...]:
    """What each stage came to."""
    made, evidence = state.draft, state.evidence
    found = sum(1 for each in evidence.values() if each.found)
    stopping = sum(1 for each in findings if each.level == "stop")
    unread = f"{len(made.unread)} could not be understood" if made.unread else "all were understood"
    doubtful = sum(1 for each in evidence.values() if each.confidence < UNATTENDED)
    return (
        Stage("plan", "The pattern reader reads the whole record." if state.by_patterns else state.planned.outcome),
        Stage("ask", _asked(state)),
        Stage("parse", f"{unread}; {len(state.changes)} changes.".capitalize(), state.changes[:SHOWN]),
        Stage("ground", f"{found} of {len(evidence)} values stand in the document."),
        Stage("check", f"{len(findings)} findings, {stopping} of them stop it." if findings else "Nothing was found wrong."),
        Stage("repair", _repaired(state, stopping), state.mended),
        Stage("settle", "More is asked." if state.next else f"{len(evidence)} values, {doubtful} of them doubtful."),
    )


def _asked(state: State) -> str:
    names = dict.fromkeys(each.model for each in state.given if each.model)
    if not names:
        return "No answer was needed."
    return f"{len(state.given)} answer{'s' if len(state.given) != 1 else ''} of {', '.join(names)}."


def _repaired(state: State, stopping: int) -> str:
    if state.draft.repairs:
        return f"{len(state.draft.repairs)} tried."
    return "None was tried." if stopping else "None was needed."
