"""What the schema of a record type wants: required fields, types, patterns."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from typing import Any

from metrikon.core.records.check import Check
from metrikon.core.records.checked import Checked
from metrikon.core.records.findings import Finding


def run(checked: Checked) -> Iterator[Finding]:
    """Required fields and rows must be there; where null is allowed it is an answer."""
    kind, record = checked.kind, checked.record
    whole = kind.with_nulls(record)
    if kind.quick.is_valid(whole):
        return
    told: set[str] = set()
    for error in kind.validator.iter_errors(_floats(whole)):
        place = "".join(f"/{part}" for part in error.absolute_path)
        if error.validator == "required":
            missing = {f"{place}/{name}" for name in error.validator_value if name not in error.instance} - told
            told |= missing  # the library tells of each missing name anew
            for pointer in sorted(missing):
                label = kind.titled(pointer)
                yield Finding("required", "stop", f"{label} is required and was not found.", (pointer,))
        elif error.validator == "minItems":
            least = error.validator_value
            yield Finding("required", "stop", f"{kind.titled(place)} needs at least {least} row{'s' if least != 1 else ''}.", (place,))
        else:
            yield Finding("type", "stop", f"{kind.titled(place)}: {_plain(error)}", (place,))


def _plain(error: Any) -> str:
    """The message of a failed schema rule without the library's quoting of the whole record."""
    value = str(error.instance)[:60]
    told: dict[Any, str] = {
        "type": f"{value!r} is not of type {error.validator_value}.",
        "enum": f"{value!r} is none of {', '.join(map(str, error.validator_value))}."
        if isinstance(error.validator_value, list)
        else error.message[:160],
        "pattern": f"{value!r} does not have the form {error.validator_value}.",
    }
    return told.get(error.validator, str(error.message)[:160])


def _floats(value: Any) -> Any:
    """A copy in which decimals are ints or floats: the schema library knows no `Decimal` as number."""
    if isinstance(value, Decimal):
        return int(value) if value == value.to_integral_value() else float(value)
    if isinstance(value, dict):
        return {name: _floats(part) for name, part in value.items()}
    return [_floats(part) for part in value] if isinstance(value, list) else value


CHECK = Check(
    ("required", "type"), "Whether a record is as its schema wants it.", run, mendable=("required", "type"), of_rows=("required", "type"), rank=0
)
