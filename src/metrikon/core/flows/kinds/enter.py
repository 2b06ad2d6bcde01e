"""enter: type a record into a program that has only a screen."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import Field

from metrikon.core.deliveries.sending import Sends
from metrikon.core.flows.around import Around, closed, listed, text
from metrikon.core.flows.form import Form
from metrikon.core.flows.keys import readable
from metrikon.core.flows.kind import Kind, Missing, Said, Schema
from metrikon.core.flows.words import shown
from metrikon.core.values.near import meant


class Enter(Form):
    """Type a record into a program that has only a screen, by a way in that was shown once; once for its key. A picture of every screen stands in the run."""

    way: str = Field(..., description="Name of the way in.")
    key: list[Any] = Field(..., min_length=1, max_length=20, description="What tells this record from all others, e.g. vendor, number.")
    values: dict[str, Any] = Field(..., min_length=1, description="What the way in takes, by its names.")
    dry: bool = Field(False, description="Whether it is only tried, up to the last press, which is not done.")


def _check(parameters: Enter, around: Around) -> Iterable[Said]:
    ways = around.known.ways
    takes = ways.get(parameters.way)
    if takes is None:
        if around.known.whole:
            yield (
                "way",
                f"There is no way in {parameters.way!r}{meant(parameters.way, sorted(ways))} Known: {', '.join(sorted(ways)) or 'none yet; keep one first'}.",
            )
        return
    for name in parameters.values:
        if name not in takes:
            yield f"values/{name}", f"The way in takes no {name!r}{meant(name, takes)} It takes {', '.join(takes)}."


def _lacks(values: Mapping[str, Any], missing: Missing) -> str:
    if all(part is not None for part in values["key"]):
        return ""
    return f"The key is not complete: {', '.join(missing('key')) or 'a part of it'} has no value. Correct the record or the flow, then continue."


def _result(parameters: Enter, around: Around) -> Schema:
    told = text(result='"entered", "there already" or "tried".', way="The way in.", by="The run that entered it, if another.")
    pictures = listed(text(told="When it was taken.", file="The picture, kept as a file."))
    return closed(
        {**told["properties"], "version": {"type": "integer"}, "read": {"type": "object"}, "chosen": listed({"type": "string"}), "pictures": pictures}
    )


def _sends(values: Mapping[str, Any]) -> Sends | None:
    return None if values["dry"] else Sends("entry", str(values["way"]), dict(values["values"]), values["key"], looks=True)


SAMPLE = """\
enter: {way: old-ledger, key: ["${checked.record.number}"], values: {number: "${checked.record.number}"}}
"""
KIND = Kind(
    "enter",
    Enter,
    sends=_sends,
    result=_result,
    check=_check,
    lacks=_lacks,
    outward=True,
    uses=lambda parameters: [("way in", parameters.way)],
    tell=lambda parameters: f"{'Try to enter' if parameters.dry else 'Enter'} {shown(parameters.key)} by the way in {parameters.way}, once.",
    goes=lambda parameters: "" if parameters.dry else f"a program’s screen ({parameters.way})",
    would=lambda values: f"{readable(values['key'])} would be entered by the way in {values['way']}.",
    sample=SAMPLE,
)
