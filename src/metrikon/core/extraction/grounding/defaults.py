"""What holds where a document says nothing: a field may say it under `x-metrikon` as `default`, a FEEL expression.

The expression knows the fields of the record by their names, and `today`, the day of the run (such as the day of arrival).
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, date, datetime, time
from typing import Any

from metrikon.core.feel import BadExpression, FeelError, evaluate
from metrikon.core.records.evidence import BY_DEFAULT, Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.types import RecordType

OPEN = 0.6  # how sure a no is that a model left open


def open_as_no(kind: RecordType, record: Mapping[str, Any], evidence: dict[str, Evidence]) -> tuple[dict[str, Any], list[Finding]]:
    """The record with a no for each yes/no that must have a value and that a model left open; a person is asked to compare it."""
    made, found = dict(record), []
    for field in kind.header:
        if field.kind == "yes/no" and field.required and not field.nullable and field.shape.count("/") == 1 and record.get(field.name) is None:
            made[field.name] = False
            evidence[field.shape] = Evidence("decided", quote="no answer was given, and nothing says yes", sure=OPEN)
            found.append(Finding("left out", "stop", f"{field.title} was left open by the model and taken for no. Compare it.", (field.shape,)))
    return {name: made[name] for name in kind.schema["properties"] if name in made}, found


def with_defaults(kind: RecordType, record: Mapping[str, Any], evidence: dict[str, Evidence], today: str) -> tuple[dict[str, Any], list[Finding]]:
    """The record with what holds by default; its evidence is added, and findings of expressions that cannot be worked out."""
    made, found = dict(record), []
    for field in kind.header:
        expression = field.ours.get("default")
        if expression is None or field.shape.count("/") != 1 or record.get(field.name) is not None:
            continue
        scope = dict.fromkeys(kind.schema["properties"]) | dict(record) | {"today": date.fromisoformat(today) if today else None}
        try:
            value = evaluate(str(expression), scope, [], datetime.combine(scope["today"], time(), UTC) if scope["today"] else None)
        except (BadExpression, FeelError) as error:
            found.append(Finding("default", "stop", f"{field.title}: its default “{expression}” cannot be worked out: {error}", (field.shape,)))
            continue
        if value is not None:
            made[field.name] = value.isoformat() if isinstance(value, date) else value
            evidence[field.shape] = Evidence(BY_DEFAULT, quote=str(expression))
    return {name: made[name] for name in kind.schema["properties"] if name in made}, found
