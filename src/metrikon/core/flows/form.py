"""What parameters are made of: strict forms, in which conditions and blocks of steps are marked, so that whoever walks a flow finds them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import timedelta
from decimal import Decimal
from typing import Annotated, Any, ClassVar, get_args

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, WithJsonSchema
from pydantic.fields import FieldInfo
from pydantic_core import PydanticCustomError

from metrikon.core.feel.temporal import duration_from
from metrikon.core.feel.values import Months

NAME = r"^[a-z][a-z0-9_]{0,39}$"
Where = tuple[str | int, ...]  # a place in a document: names of entries and numbers of elements, from 0


class Form(BaseModel):
    """Strict: an unknown parameter is an error, not a silent default."""

    called: ClassVar[tuple[str, ...]] = ()  # what people call its kind elsewhere, in small letters
    conditions_see: ClassVar[Mapping[str, tuple[str, ...]]] = {}  # names that a condition of an intake sees, by the field, where it is not `item`

    model_config = ConfigDict(extra="forbid", populate_by_name=True, arbitrary_types_allowed=True)


class Marked:
    """What a field of a form holds."""

    def __init__(self, holds: str) -> None:
        self.holds = holds


_STEPS = {"type": "array", "items": {"$ref": "#/$defs/Step"}}
Block = Annotated[list[Any], Field(min_length=1), Marked("steps"), WithJsonSchema({**_STEPS, "minItems": 1})]  # once read: a list of `Step`
OptionalBlock = Annotated[list[Any], Marked("steps"), WithJsonSchema(_STEPS)]
LONGEST = timedelta(days=3660)


def _duration(value: Any) -> Any:
    if isinstance(value, str) and duration_from(value) is None:
        raise PydanticCustomError("duration", "It is no duration.", {})
    if isinstance(value, bool) or not isinstance(value, str | int | float | Decimal) or not 0 < seconds_of(value) <= LONGEST.total_seconds():
        raise PydanticCustomError("duration", "It is no duration.", {})
    return value


def seconds_of(duration: Any) -> float:
    """A duration in seconds; a month counts as 30 days, a year as 365."""
    if not isinstance(duration, str):
        return float(duration)
    found = duration_from(duration)
    if isinstance(found, Months):
        years, months = divmod(found.months, 12)
        return (years * 365 + months * 30) * 86400.0
    return found.total_seconds() if found is not None else 0.0


Duration = Annotated[
    Any, BeforeValidator(_duration), WithJsonSchema({"anyOf": [{"type": "number", "exclusiveMinimum": 0}, {"type": "string", "pattern": "^P"}]})
]


def _condition(value: Any) -> Any:
    """A condition that is plainly true or false is one in YAML, too."""
    return ("true" if value else "false") if isinstance(value, bool) else value


Condition = Annotated[str, Field(min_length=1), BeforeValidator(_condition), Marked("condition")]  # a FEEL expression without `${ … }`


ConnectionName = Annotated[str, Field(pattern=NAME), Marked("connection")]  # of a connection that is kept


def fields(form: Form, holds: str) -> Iterator[tuple[Where, Form, str, Any]]:
    """Every field of a form, and of those within it, that is marked so: its place, the form it is in, its name there, its value."""
    for name, field in type(form).model_fields.items():
        value = getattr(form, name)
        place = field.alias or name
        if holds in _marks(field):
            yield (place,), form, name, value
        for where, inner in _forms(value):
            yield from (((place, *where, *below), *rest) for below, *rest in fields(inner, holds))


def _marks(field: FieldInfo) -> set[str]:
    """What a field is marked to hold, also where it may be left out (`Condition | None`)."""
    inner = [each for part in get_args(field.annotation) for each in getattr(part, "__metadata__", ())]
    return {each.holds for each in (*field.metadata, *inner) if isinstance(each, Marked)}


def _forms(value: Any) -> Iterator[tuple[Where, Form]]:
    if isinstance(value, Form):
        yield (), value
    elif isinstance(value, list):
        yield from (((number,), each) for number, each in enumerate(value) if isinstance(each, Form))
    elif isinstance(value, dict):
        yield from (((name,), each) for name, each in value.items() if isinstance(each, Form))


def plain(form: Form) -> dict[str, Any]:
    """The parameters as plain data, holes still in them; blocks of steps and conditions are left out, as they are worked out by themselves."""
    found: dict[str, Any] = {}
    for name, field in type(form).model_fields.items():
        if _marks(field) - {"connection"}:
            continue
        found[field.alias or name] = _plain(getattr(form, name))
    return found | {name: _plain(value) for name, value in (form.model_extra or {}).items()}


def _plain(value: Any) -> Any:
    if isinstance(value, Form):
        return plain(value)
    if isinstance(value, list):
        return [_plain(each) for each in value]
    return {name: _plain(each) for name, each in value.items()} if isinstance(value, dict) else value
