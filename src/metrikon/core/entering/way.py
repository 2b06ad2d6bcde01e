"""A way in: what is opened, filled, chosen and pressed, in order; each thing on the screen named as a person names it, by its label, before any path."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, Literal

from pydantic import Field, ValidationError, model_validator

from metrikon.core.feel import BadExpression, names, parse
from metrikon.core.feel.holes import expressions
from metrikon.core.flows.form import NAME, ConnectionName, Form
from metrikon.core.flows.problems import in_our_words

MOST_STEPS, MOST_ROWS = 500, 500
VERBS = ("open", "sign_in", "fill", "choose", "press", "expect", "rows", "attach", "read_back")


class BadWay(ValueError):
    """A way in that cannot be kept; `problems`: each place with what is wrong there."""

    def __init__(self, problems: Sequence[tuple[str, str]]) -> None:
        super().__init__("; ".join(f"{place}: {told}" for place, told in problems))
        self.problems = list(problems)


_ASKS = re.compile(r"\[\s*([\w*-]*\|)?value\b", re.I)
_ESCAPED = re.compile(r"\\([0-9a-f]{1,6})\s?", re.I)


def asks_values(path: str) -> bool:
    """Whether a path (CSS) asks what a field holds, so that letters could be guessed one by one; escapes (CSS Syntax 3, 4.3.7) are read as they are meant."""
    plain = _ESCAPED.sub(lambda found: chr(min(int(found.group(1), 16), 0x10FFFF)), re.sub(r"/\*.*?\*/", "", path, flags=re.S))
    return bool(_ASKS.search(plain.replace("\\", "")))


class Place(Form):
    """Something on the screen."""

    label: str = Field("", max_length=300, description="What is written on it or beside it, as a person reads it.")
    near: str = Field("", max_length=300, description="Text that stands near it, where several are labelled so: the nearest is meant.")
    row: Literal["", "last"] | int = Field("", description="In a table: the row, from 1, or the last.")
    path: str = Field("", max_length=500, description="Where nothing is written there: its path (CSS). It is tried last.")

    @model_validator(mode="after")
    def _named(self) -> Place:
        if not self.label and not self.path:
            raise ValueError("It names nothing on the screen: give its label.")
        if asks_values(self.path):
            raise ValueError("A path asks for no values of fields: they may hold what nobody is to read. Say it by the label, or by an id.")
        return self

    @property
    def told(self) -> str:
        """It, as a person is told of it."""
        row = "" if self.row == "" else " in the last row" if self.row == "last" else f" in row {self.row}"
        return f"“{self.label or self.path}”{row}{f' near “{self.near}”' if self.near else ''}"


def _as_place(value: Any) -> Any:
    return {"label": value} if isinstance(value, str) else value


class At(Form):
    """What is done somewhere on the screen."""

    place: Place = Field(..., alias="in", description="Where: its label, or label with `near`, `row`, `path`.")

    @model_validator(mode="before")
    @classmethod
    def _short(cls, value: Any) -> Any:
        return {**value, "in": _as_place(value["in"])} if isinstance(value, Mapping) and "in" in value else value


class Fill(At):
    """Type a value into a field, in the place of what stands there."""

    value: Any = Field(..., alias="with", description="The value, such as ${number}.")


class Choose(At):
    """Choose one of a list."""

    option: Any = Field(..., description="The option, as it is written there.")
    otherwise: str = Field("", max_length=300, description="Another option that is chosen where there is none like that, such as Miscellaneous.")


class Press(Form):
    """Press a button or a link."""

    place: Place = Field(..., alias="on", description="Which.")
    last: bool = Field(False, description="Whether this enters it for good: a trial ends before it, and it is never done twice unasked.")

    @model_validator(mode="before")
    @classmethod
    def _short(cls, value: Any) -> Any:
        if isinstance(value, str):
            return {"on": {"label": value}}
        return {**value, "on": _as_place(value["on"])} if isinstance(value, Mapping) and "on" in value else value


class SignIn(Form):
    """Sign in by the connection, where its program asks for it."""

    user: str = Field(..., max_length=300, description="The label of the field for the user.")
    password: str = Field(..., max_length=300, description="That of the field for the password.")
    press: str = Field(..., max_length=300, description="The button.")


class Attach(At):
    """Give a file to a field for files."""

    file: Any = Field(..., description="The file, such as ${file}.")
    name: Any = Field("paper", description="Its name there.")


class Rows(Form):
    """Do steps for each of a list."""

    of: str = Field(..., min_length=1, description="The list, such as ${lines}.")
    each: str = Field("line", pattern=NAME, description="The name of one element in these steps.")
    steps: list[Do] = Field(..., min_length=1, max_length=MOST_STEPS, description="What is done for each.")


class Do(Form):
    """One step of a way in: exactly one verb."""

    open: str | None = Field(None, max_length=1000, description="Open a page, after the address of the connection.")
    sign_in: SignIn | None = Field(None, description="Sign in, where a form for that shows.")
    fill: Fill | None = Field(None, description="Type a value into a field.")
    choose: Choose | None = Field(None, description="Choose one of a list.")
    press: Press | None = Field(None, description="Press a button or a link.")
    expect: str | None = Field(None, max_length=500, description="Wait until this text stands on the screen; it is an error when it does not come.")
    rows: Rows | None = Field(None, description="Do steps for each of a list.")
    attach: Attach | None = Field(None, description="Give a file.")
    read_back: dict[str, Any] | None = Field(None, description="Read what the screen shows beside a label, and compare it with a value.")

    @model_validator(mode="after")
    def _one(self) -> Do:
        given = [verb for verb in VERBS if getattr(self, verb) is not None]
        if len(given) != 1:
            raise ValueError(f"A step has one verb; this one has {', '.join(given) or 'none'}. The verbs: {', '.join(VERBS)}.")
        return self

    @property
    def verb(self) -> str:
        """Its verb."""
        return next(verb for verb in VERBS if getattr(self, verb) is not None)


class LookUp(Form):
    """How is seen whether it is there already."""

    steps: list[Do] = Field(..., min_length=1, max_length=50, description="What is done to look.")
    there: str = Field(
        ...,
        min_length=1,
        max_length=300,
        description="The text that stands in the screen's table, list or fields where it is there, such as ${number}.",
    )
    none: str = Field("", max_length=300, description="The text that stands there where it is not; without one the other is waited for a moment.")


class WayIn(Form):
    """A way in. `look_up`: without it, one that was cut off waits for a person."""

    way: str = Field(..., pattern=r"^[a-z][a-z0-9-]{0,59}$", description="Its name.")
    about: str = Field("", max_length=2000, description="What it is for.")
    connection: ConnectionName = Field(..., description="The program: a connection with its address, signed in by user and password.")
    takes: list[str] = Field(..., min_length=1, max_length=100, description="The names of the values that it takes.")
    look_up: LookUp | None = Field(None, description="How is seen whether it is there already.")
    enter: list[Do] = Field(..., min_length=1, max_length=MOST_STEPS, description="What is done, in order.")
    patience: float = Field(20.0, ge=1, le=300, description="Seconds for which the screen is waited for.")
    messages: list[str] = Field(
        default_factory=lambda: ["[role=alert]", ".error", ".warning"],
        max_length=20,
        description="Where the program shows its messages (CSS); one that nothing expects stops the work at once.",
    )

    @model_validator(mode="after")
    def _guess_nothing(self) -> WayIn:
        if any(asks_values(each) for each in self.messages):
            raise ValueError("`messages` are paths that ask for no values of fields.")
        return self


Rows.model_rebuild()


def way_from(data: Any) -> WayIn:
    """The way in plain data. Raises `BadWay` with all that is wrong."""
    if not isinstance(data, Mapping):
        raise BadWay([("", "A way in is a mapping that starts with `way` and its name.")])
    try:
        made = WayIn.model_validate(data)
    except ValidationError as error:
        raise BadWay([("/".join(map(str, each["loc"])), _told(each)) for each in error.errors()]) from error
    problems = list(_wrong(made))
    if problems:
        raise BadWay(problems)
    return made


def _told(error: Any) -> str:
    if error["type"] == "value_error":
        return str(error["msg"]).removeprefix("Value error, ")
    return in_our_words(error, [])


def every(steps: Sequence[Do], place: str) -> Iterator[tuple[str, Do, tuple[str, ...]]]:
    """Every step with its place, those within rows too, each with the names that are known besides."""
    for number, step in enumerate(steps):
        yield f"{place}/{number}", step, ()
        if step.rows is not None:
            for inner, one, names in every(step.rows.steps, f"{place}/{number}/rows/steps"):
                yield inner, one, (step.rows.each, *names)


def _wrong(way: WayIn) -> Iterator[tuple[str, str]]:
    known = set(way.takes)
    blocks = [("enter", way.enter), *([("look_up/steps", way.look_up.steps)] if way.look_up else [])]
    for root, steps in blocks:
        for place, step, besides in every(steps, root):
            yield from _unknown(place, step, known | set(besides))
            if step.press is not None and step.press.last and root != "enter":
                yield place, "Looking enters nothing: no press there is the last."
            if step.rows is not None and root != "enter":
                yield place, "Looking goes through no rows."
    if way.look_up is not None:
        yield from _unknown("look_up/there", way.look_up.there, known)
    last = [place for place, step, _ in every(way.enter, "enter") if step.press is not None and step.press.last]
    if len(last) != 1:
        yield (
            "enter",
            "One press is the last, by which it is entered for good (`press: {on: Save, last: true}`); "
            + (f"these are: {', '.join(last)}." if last else "none is."),
        )
    elif "/rows/" in last[0]:
        yield last[0], "The last press stands within rows, and would be done for each. Put it behind them."


def _unknown(place: str, step: Any, known: set[str]) -> Iterator[tuple[str, str]]:
    data = step if isinstance(step, str) else step.model_dump(by_alias=True, exclude_none=True)
    if isinstance(data, dict) and "rows" in data:
        data = {"of": data["rows"]["of"]}
    try:
        for _, text in expressions(data):
            unknown = [path[0] for path in _names(text) if path and path[0] not in known]
            if unknown:
                yield place, f"{unknown[0]!r} is not known here. The way takes {', '.join(sorted(known))}."
    except BadExpression as error:
        yield place, str(error)


def _names(text: str) -> Iterator[tuple[str, ...]]:
    yield from names(parse(text))
