"""What each stage of a reading came to, told in a sentence."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from metrikon.core.extraction.parsing.readings import Draft
from metrikon.core.extraction.planning.asking import Given, Stage
from metrikon.core.extraction.planning.plan import Plan
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding


def stages(
    planned: Plan,
    made: Draft,
    given: Sequence[Given],
    evidence: Mapping[str, Evidence],
    findings: Sequence[Finding],
    told: Sequence[str],
    whole: bool,
    more: bool,
) -> tuple[Stage, ...]:
    """What each stage came to."""
    names = dict.fromkeys(each.model for each in given if each.model)
    asked = f"{len(given)} answer{'s' if len(given) != 1 else ''} of {', '.join(names)}" if given and names else "no answer was needed"
    found = sum(1 for each in evidence.values() if each.found)
    stopping = sum(1 for each in findings if each.level == "stop")
    unread = f"{len(made.unread)} could not be understood" if made.unread else "all were understood"
    doubtful = sum(1 for each in evidence.values() if each.confidence < 0.6)
    return (
        Stage("plan", "The pattern reader reads the whole record." if whole else planned.outcome),
        Stage("ask", f"{asked}."[:1].upper() + f"{asked}."[1:]),
        Stage("parse", f"{unread}; {len(made.changes)} changes.".capitalize(), tuple(made.changes[:200])),
        Stage("ground", f"{found} of {len(evidence)} values stand in the document."),
        Stage("check", f"{len(findings)} findings, {stopping} of them stop it." if findings else "Nothing was found wrong."),
        Stage("repair", f"{len(made.repairs)} tried." if made.repairs else "None was needed." if not stopping else "None was tried.", tuple(told)),
        Stage("settle", "More is asked." if more else f"{len(evidence)} values, {doubtful} of them doubtful."),
    )
