"""set: give values names."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from pydantic import ConfigDict

from metrikon.core.flows.around import Around, closed
from metrikon.core.flows.form import NAME, Form
from metrikon.core.flows.kind import ANYTHING, Kind, Said, Schema, Steady
from metrikon.core.flows.words import shown

if TYPE_CHECKING:
    from metrikon.core.flows.walk import Here, Walk


class Set(Form):
    """Give values names, such as `set: {gross: "${net * 1.2}"}`: `${NAME.gross}` has it then."""

    model_config = ConfigDict(extra="allow")


class _Setting(Steady):
    def enter(self, walk: Walk, here: Here) -> None:
        values, _ = walk.filled(here, here.step.plain)
        walk.go_on(here, values)


def _values(parameters: Set) -> dict[str, Any]:
    return parameters.model_extra or {}


def _check(parameters: Set, around: Around) -> Iterable[Said]:
    if not _values(parameters):
        yield "", "It sets nothing; give at least one name with a value."
    for name in _values(parameters):
        if not re.match(NAME, name):
            yield name, f"{name!r} is no name; use small letters, figures and underscores, a letter first."


def _result(parameters: Set, around: Around) -> Schema:
    found: dict[str, Schema] = {}
    for name, value in _values(parameters).items():
        found[name] = (around.schema_of(value) or ANYTHING) if isinstance(value, str) else ANYTHING
    return closed(found)


def _tell(parameters: Set) -> str:
    return f"Set {', '.join(f'{name} to {shown(value)}' for name, value in _values(parameters).items())}."


SAMPLE = """\
set: {net: "${checked.record.total / 1.2}", note: A note of the office}
"""
KIND = Kind(
    "set",
    Set,
    result=_result,
    check=_check,
    control=_Setting(),
    tell=_tell,
    sample=SAMPLE,
)
