"""What every intake may say, and what becomes of a thing because of it: taken, or let go with a reason."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, date, datetime, time
from typing import Any, Literal
from zoneinfo import ZoneInfo

from pydantic import Field

from metrikon.core.feel import BadExpression, FeelError, evaluate
from metrikon.core.feel.holes import fill_text
from metrikon.core.flows.form import NAME, Condition, Form
from metrikon.core.values.exact import as_kept
from metrikon.core.values.text import clean

LONGEST_NAME, LONGEST_ENDING = 200, 8  # characters of the name of an item, and of the ending of a file
Repeats = Literal["hold", "let go", "take"]
OPENED = "Whether each file in an archive, and each attachment of a mail, becomes an item of its own."


class MayRepeat(Form):
    """What every intake may say of equal content."""

    repeats: Repeats | None = Field(
        None,
        description="What becomes of one that holds what an earlier one of the flow held, under another identity: it is held until a person says that both are "
        "meant; it is kept, and its run ends at once; or it is taken like any other. Held when left out, but for texts of a chat, which are taken.",
    )


class Coming(MayRepeat):
    """What every intake may say."""

    name: str | None = Field(None, pattern=NAME, description="What its items stand under; its kind when left out. Needed for a second one of a kind.")
    where: Condition | None = Field(
        None,
        description="A FEEL condition on what came, which sees `item.name`, `item.size`, `item.at` and `item.data`. What does not meet it is let go, "
        "counted, and listed with the reason.",
    )
    item_name: str | None = Field(
        None,
        max_length=300,
        description="What its items are called, such as Call of ${item.data.caller}; its holes see what `where` sees. The ending of a file stays. As they "
        "came when left out, and where a part of it is missing.",
    )


class Gathered(Coming):
    """What every intake may say that is looked at again and again."""

    since: date | None = Field(None, description="Only what came on this day or later, such as 2026-11-01.")
    most: int | None = Field(None, ge=1, le=1_000_000, description="The most things it takes in all, from when it was last changed on.")


def too_early(said: Any, at: int, zone: ZoneInfo) -> bool:
    """Whether a thing came before the day from which on things are taken."""
    since = getattr(said, "since", None)
    return since is not None and at < int(datetime.combine(since, time(), zone).timestamp() * 1000)


def called(said: Any, name: str, size: int, at: int, data: Any) -> str:
    """What a thing is called by its intake; nothing where that does not say, or where a part of it is missing."""
    text = getattr(said, "item_name", None)
    if text is None:
        return ""
    filled: list[str] = []

    def noted(value: str) -> str:
        filled.append(value)
        return value

    try:
        told = fill_text(text, _scope(name, size, at, data), datetime.fromtimestamp(at / 1000, UTC), noted)
    except (BadExpression, FeelError):
        return ""  # told where the flow is kept; what came is taken all the same
    if "" in filled:
        return ""  # a part of it is missing
    return " ".join(clean(told).replace("/", "-").replace("\\", "-").split())[:LONGEST_NAME]


def with_ending(told: str, name: str) -> str:
    """A name with the ending of another one, by which readers know what it is."""
    stem, dot, ending = name.rpartition(".")
    if not dot or not stem or len(ending) > LONGEST_ENDING or not ending.isalnum() or told.lower().endswith(f".{ending.lower()}"):
        return told
    return f"{told}.{ending}"


def _scope(name: str, size: int, at: int, data: Any) -> Mapping[str, Any]:
    moment = datetime.fromtimestamp(at / 1000, UTC)
    return {"item": as_kept({"name": name, "size": size, "at": moment.isoformat(timespec="seconds"), "data": data})}


def let_go(said: Any, name: str, size: int, at: int, data: Any) -> str:
    """Why a thing is not taken, by the condition of its intake; nothing when it is."""
    condition = getattr(said, "where", None)
    if condition is None:
        return ""
    moment = datetime.fromtimestamp(at / 1000, UTC)
    scope = _scope(name, size, at, data)
    missing: list[str] = []
    try:
        holds = evaluate(condition, scope, missing, moment)
    except (BadExpression, FeelError) as error:
        return f"Its condition {condition!r} could not be worked out: {error}"
    if holds is None:
        return f"Its condition {condition!r} comes out null: {', '.join(dict.fromkeys(missing)) or 'a value'} is missing."
    return "" if holds is True else f"It does not meet {condition!r}."
