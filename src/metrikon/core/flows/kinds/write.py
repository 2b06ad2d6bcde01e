"""write: write one row to a destination, once for its key."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any, Literal

from pydantic import Field

from metrikon.core.deliveries.comparing import Differs
from metrikon.core.deliveries.comparing import told as in_words
from metrikon.core.feel import BadExpression, names, parse
from metrikon.core.feel.holes import expressions
from metrikon.core.flows.around import Around, closed, text
from metrikon.core.flows.form import Form
from metrikon.core.flows.keys import readable
from metrikon.core.flows.kind import Kind, Missing, Said, Schema, Writes
from metrikon.core.flows.words import shown
from metrikon.core.values.near import meant

OF_ONE_ITEM = (("item", "id"), ("run", "id"))  # paths that no two items share
OTHERWISE = "The row was there with other values, and was left so"


class Write(Form):
    """Write one row to a destination, once for its key."""

    to: str = Field(..., description="Name of the destination in this flow.")
    key: list[Any] = Field(..., min_length=1, description="What tells this row from all others, e.g. vendor, number, line.")
    columns: dict[str, Any] = Field(..., min_length=1, description="Column and value, in order.")
    if_there: Literal["keep", "update", "ask"] = Field(
        "keep",
        description="When a row with this key is there already: it is left as it is, and what it holds otherwise is told; these columns of it are set; or "
        "a person is asked where it holds something else.",
    )
    if_changed: Literal["leave", "take over"] = Field(
        "leave", description="With `update`: what a person has changed in the row since is left as it is, and told; or set all the same."
    )
    if_not_there: Literal["write", "leave"] = Field("write", description="With `update`: where there is no such row, one is written, or none.")
    if_taken_back: dict[str, Any] = Field(
        default_factory=dict,
        max_length=20,
        description="Columns that are set when the row is taken back, such as {Status: taken back}: it then stays. Without them it is removed. When it is written "
        "again, they are emptied, or set as `columns` say.",
    )
    show_first: bool = Field(
        False,
        description="Before anything is written by a version of the flow, its first row is put before a person; the others wait until it may be written.",
    )
    ignore_case: bool = Field(False, description="Take keys for the same that differ only in capitals and blanks.")


def _check(parameters: Write, around: Around) -> Iterable[Said]:
    known = around.flow.destinations
    if parameters.to not in known:
        told = ", ".join(known) or "none; add `destinations` to the flow"
        yield "to", f"There is no destination {parameters.to!r} in this flow{meant(parameters.to, known)} Known: {told}."
    for column, value in parameters.columns.items():
        if value is None or (isinstance(value, str) and not value.strip()):
            yield (
                f"columns/{column}",
                f"The column {column} has no value, and would always be empty. Give it one, such as ${{item.name}}, or take it out.",
            )
    yield from _wrong_mark(parameters)
    if parameters.if_there != "update" and not any(_has_hole(part) for part in parameters.key):
        yield (
            "key",
            "No part of this key is taken from what came in, so that every row after the first would count as there already. Put in what tells rows apart, "
            "such as ${item.id}, or say `if_there: update` where it is one row that is set again and again.",
        )
    for number, part in enumerate(parameters.key):
        if part is None or (isinstance(part, str) and not part.strip()):
            yield f"key/{number}", "This part of the key has no value, so that no row could be written. Give it one, or take it out."


def _wrong_mark(parameters: Write) -> Iterator[Said]:
    """A mark is for a row that would be removed: one that was set gets back what stood there before."""
    if parameters.if_taken_back and parameters.if_there == "update":
        yield (
            "if_taken_back",
            "With `if_there: update`, a row that is taken back gets what stood in it before, so that it needs no mark. Take `if_taken_back` out.",
        )
    for column, value in parameters.if_taken_back.items():
        if value is None or (isinstance(value, str) and not value.strip()):
            yield f"if_taken_back/{column}", f"The column {column} has no value, so that nothing would tell that the row was taken back. Give it one."


def _has_hole(value: Any) -> bool:
    """Whether a value is worked out for each row."""
    if isinstance(value, Mapping):
        return any(_has_hole(each) for each in value.values())
    if isinstance(value, list):
        return any(_has_hole(each) for each in value)
    return not isinstance(value, str | int | float | bool | None) or (isinstance(value, str) and "${" in value)


def _remarks(parameters: Write, around: Around) -> Iterable[Said]:
    """Where the key is of the paper's own values, a second paper may come with them: what then becomes of its row is for the builder to say."""
    if "if_there" in parameters.model_fields_set or any(name in OF_ONE_ITEM for name in _names(parameters.key)):
        return
    yield (
        "key",
        "It is made of values that a second paper may have as well. Where that one says something else, its row is left as it is, and the run tells what "
        "differs. Say what is wanted: `if_there: keep`, `if_there: update` or `if_there: ask`.",
    )


def _names(value: Any) -> Iterator[tuple[str, ...]]:
    """The first two names of each path in the holes of a value."""
    try:
        for _, text in expressions(value):
            yield from (each[:2] for each in names(parse(text)))
    except BadExpression:
        return  # told where expressions are checked


def _lacks(values: Mapping[str, Any], missing: Missing) -> str:
    if all(part is not None for part in values["key"]):
        return ""
    return f"The key of the row is not complete: {', '.join(missing('key')) or 'a part of it'} has no value. Correct the record or the flow, then continue."


def _result(parameters: Write, around: Around) -> Schema:
    told = text(
        key="The delivery key.",
        result='"written", "updated", "there already", "there otherwise" or "not there".',
        place="Where the row is.",
        by="The run that wrote it, if another.",
    )
    left: Schema = {"type": "array", "items": {"type": "string"}, "description": "Columns that a person has changed, and that were left."}
    column: Schema = closed({"column": {"type": "string"}, "there": {}, "wanted": {}})
    differs: Schema = {"type": "array", "items": column, "description": "Columns that are there otherwise, with both values."}
    return closed({**told["properties"], "left": left, "differs": differs})


def _writes(parameters: Write) -> Iterator[Writes]:
    """What it sets when it writes, and when its row is taken back."""
    yield Writes(parameters.to, parameters.columns, parameters.if_there != "update" or parameters.if_not_there == "write")
    if parameters.if_taken_back:
        yield Writes(parameters.to, parameters.if_taken_back, makes=False, under="if_taken_back")


def _told(result: Any) -> str:
    """What the run is to tell of a row that is there otherwise."""
    found = result.get("differs") if isinstance(result, Mapping) else None
    every = [Differs(str(each["column"]), each["there"], each["wanted"]) for each in found or ()]
    return f"{OTHERWISE}: {in_words(every)}" if every else ""


def _tell(parameters: Write) -> str:
    columns, key = ", ".join(parameters.columns), shown(parameters.key)
    looked = ", after a person has looked at the first one" if parameters.show_first else ""
    if parameters.if_there == "ask":
        return f"Write a row to {parameters.to} ({columns}), once for {key}; where it is there with other values, ask what is to be done{looked}."
    if parameters.if_there == "update":
        none = "or write one where there is none" if parameters.if_not_there == "write" else "if there is one"
        return f"Set {columns} in the row of {parameters.to} for {key}, {none}{looked}."
    return f"Write a row to {parameters.to} ({columns}), once for {key}{looked}."


def _would(values: Mapping[str, Any]) -> str:
    key = readable(values["key"])
    return (
        f"The row for {key} would be set, {'or written where there is none' if values['if_not_there'] == 'write' else 'if there is one'}."
        if values["if_there"] == "update"
        else f"A row would be written, once for {key}."
    )


SAMPLE = """\
write: {to: ledger, key: ["${checked.record.vendor}", "${checked.record.number}"], if_there: ask, columns: {Vendor: "${checked.record.vendor}"}}
"""
KIND = Kind(
    "write",
    Write,
    result=_result,
    check=_check,
    lacks=_lacks,
    outward=True,
    gathered=True,
    awaited=True,
    waits="Rows are being written.",
    writes=_writes,
    told=_told,
    tell=_tell,
    would=_would,
    remarks=_remarks,
    known_by=lambda values: None if values.get("if_there") == "update" else values.get("key"),
    sample=SAMPLE,
)
