"""Settings of a flow: values that a copy of it may change, while its steps stay as they are."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import Annotated, Any, Literal

from pydantic import Field, StringConstraints

from metrikon.core.feel.temporal import date_from
from metrikon.core.flows.form import NAME, Form
from metrikon.core.values.exact import dumps
from metrikon.core.values.near import meant

_HOLE = re.compile(r"\$\{\s*settings\.([a-z][a-z0-9_]*)\s*\}")
SettingName = Annotated[str, StringConstraints(pattern=NAME)]


class Setting(Form):
    """A value that is set once for the whole flow. In steps it is `settings.NAME`; whatever a flow says may be `${settings.NAME}`."""

    type: Literal["text", "number", "boolean", "date", "list", "data"] = Field(
        "text",
        description="What it is; a list is one of texts, data are lists and names with values as a step takes them, such as the criteria of a role.",
    )
    value: Any = Field(..., description="What it is set to, unless a copy of the flow sets it otherwise.")
    about: str = Field("", max_length=400, description="What it is for, in words for people.")
    options: list[str] = Field(default_factory=list, max_length=100, description="The texts that it may be; any when left out.")


def misfit(setting: Setting) -> str:
    """What is wrong with the value of a setting, or nothing."""
    value, told = setting.value, f"It is {_told(setting.value)}; "
    if not _FITS[setting.type](value):
        return f"{told}give {_WANTED[setting.type]}, or change its type."
    texts = list(_texts(value))
    if any("${" in each for each in texts):
        return "A setting is a value, and no expression; take ${ out of it."
    if setting.options and (wrong := [each for each in texts if each not in setting.options]):
        return f"{wrong[0]!r} is none of its options{meant(wrong[0], setting.options)} Known: {', '.join(setting.options)}."
    return ""


def right_kind(setting: Setting) -> Setting:
    """A setting with a value that fits its type."""
    return setting.model_copy(update={"value": _EXAMPLES[setting.type]})


def _texts(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, Mapping | list):
        for each in [*value, *value.values()] if isinstance(value, Mapping) else value:
            yield from _texts(each)


_EXAMPLES: Mapping[str, Any] = {"text": "x", "number": Decimal(1), "boolean": True, "date": "2000-01-01", "list": [], "data": []}


def _told(value: Any) -> str:
    return {True: "true", False: "false", None: "nothing"}.get(value, repr(value)) if value is None or isinstance(value, bool) else f"{value!r}"


_FITS: Mapping[str, Any] = {
    "text": lambda value: isinstance(value, str),
    "number": lambda value: isinstance(value, int | Decimal) and not isinstance(value, bool),
    "boolean": lambda value: isinstance(value, bool),
    "date": lambda value: isinstance(value, str) and date_from(value) is not None,
    "list": lambda value: isinstance(value, list) and all(isinstance(each, str) for each in value),
    "data": lambda value: isinstance(value, list | dict),
}
_WANTED = {
    "text": "a text (in quotation marks)",
    "number": "a number",
    "boolean": "true or false",
    "date": 'a date such as "2026-04-30" (in quotation marks)',
    "list": "a list of texts",
    "data": "a list, or names with values",
}


def values_of(settings: Mapping[str, Setting]) -> dict[str, Any]:
    """The values by name."""
    return {name: Decimal(each.value) if each.type == "number" else each.value for name, each in settings.items()}


def schema_of(settings: Mapping[str, Setting]) -> Mapping[str, Any]:
    """The schema of what `settings` holds in expressions."""
    properties = {name: {**_SCHEMAS[each.type], "description": each.about} for name, each in settings.items()}
    return {"type": "object", "properties": properties, "additionalProperties": False}


_SCHEMAS: Mapping[str, Any] = {
    "text": {"type": "string"},
    "number": {"type": "number"},
    "boolean": {"type": "boolean"},
    "date": {"type": "string", "format": "date"},
    "list": {"type": "array", "items": {"type": "string"}},
    "data": {},
}


def with_settings(data: Any, values: Mapping[str, Any]) -> Any:
    """Plain data of a flow with each `${settings.NAME}` in the place of its value; one that is not known stays."""
    if isinstance(data, str):
        return _filled(data, values)
    if isinstance(data, list):
        return [with_settings(each, values) for each in data]
    return {name: with_settings(each, values) for name, each in data.items()} if isinstance(data, dict) else data


def _filled(text: str, values: Mapping[str, Any]) -> Any:
    whole = _HOLE.fullmatch(text.strip())
    if whole and whole[1] in values:
        return values[whole[1]]
    return _HOLE.sub(lambda found: _plain(values[found[1]]) if found[1] in values else found[0], text)


def _plain(value: Any) -> str:
    if isinstance(value, Mapping) or (isinstance(value, list) and not all(isinstance(each, str) for each in value)):
        return dumps(value).decode()
    if isinstance(value, list):
        return ", ".join(value)
    return {True: "true", False: "false"}[value] if isinstance(value, bool) else f"{value:f}" if isinstance(value, Decimal) else str(value)


def unknown_settings(data: Any, values: Mapping[str, Any], where: tuple[str | int, ...] = ()) -> Iterator[tuple[tuple[str | int, ...], str]]:
    """Settings that are named and not known: the place, and what to do."""
    if isinstance(data, str):
        for name in _HOLE.findall(data):
            if name not in values:
                yield where, f"There is no setting {name!r}{meant(name, values)} Known: {', '.join(values) or 'none; add `settings` to the flow'}."
    elif isinstance(data, dict | list):
        for at, each in data.items() if isinstance(data, dict) else enumerate(data):
            yield from unknown_settings(each, values, (*where, at if isinstance(at, int) else str(at)))
