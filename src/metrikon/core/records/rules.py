"""Checks that a builder writes: FEEL rules over a record, and what makes two records alike; lists of known values are in `lists`.

Under `x-metrikon` a record type may hold:

- `rules`: list of {holds: a FEEL condition over the fields, message, fields: [pointers], level: "stop" or "warn"}; a condition
  that comes out null, because a value is missing, is told as a warning unless the rule says `null_means`: true or false;
- `alike`: pointers; records of another item with the same values there are shown to a person.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from metrikon.core.feel import BadExpression, FeelError, evaluate
from metrikon.core.records.checks import already_seen, business_key
from metrikon.core.records.findings import Finding
from metrikon.core.records.lists import Lists, known_values
from metrikon.core.records.pointers import get
from metrikon.core.records.types import RecordType
from metrikon.core.values.text import fold

MADE_ANEW = ("rule", "list", "already seen", "looks alike")  # checks that need lists or other records: made when a record is checked


def feel_rules(kind: RecordType, record: Mapping[str, Any]) -> Iterator[Finding]:
    """Findings of the rules that do not hold."""
    scope = dict.fromkeys(kind.schema["properties"]) | dict(record)
    for rule in kind.ours.get("rules", ()):
        fields = tuple(rule.get("fields", ()))
        level = str(rule.get("level", "stop"))
        missing: list[str] = []
        try:
            holds = evaluate(str(rule["holds"]), scope, missing)
        except (BadExpression, FeelError) as error:
            yield Finding("rule", "stop", f"The rule “{rule['holds']}” cannot be worked out: {error}", fields)
            continue
        if holds is None:
            holds = rule.get("null_means")
        if holds is None:
            what = f" {', '.join(dict.fromkeys(missing))} is missing" if missing else " a value is missing"
            yield Finding("rule", "warn", f"The rule “{rule['holds']}” could not be tried:{what}.", fields)
        elif holds is not True:
            compared = {pointer: str(get(record, pointer)) for pointer in fields}
            yield Finding("rule", level, str(rule.get("message") or f"The rule “{rule['holds']}” does not hold."), fields, compared)


def ruled(kind: RecordType, record: Mapping[str, Any], lists: Lists) -> list[Finding]:
    """What a builder's own rules and lists find in a record."""
    return [*feel_rules(kind, record), *known_values(kind, record, lists)]


def alike_key(kind: RecordType, record: Mapping[str, Any]) -> str | None:
    """What makes a record look like another: the values under `alike`, words without order or endings; None when one is missing."""
    pointers = kind.ours.get("alike") or ()
    values = [get(record, pointer) for pointer in pointers]
    if not values or any(value in (None, "") for value in values):
        return None
    return "~" + "|".join(" ".join(sorted(word[:5] for word in fold(str(value)).split() if len(word) > 1)) for value in values)


def looks_alike(kind: RecordType, before: str) -> Finding:
    """The finding for a record that looks like one of another item."""
    fields = tuple(kind.ours.get("alike") or ())
    titles = [field.title.lower() if (field := kind.by_shape.get(pointer)) else pointer for pointer in fields]
    return Finding(
        "looks alike",
        "stop",
        f"It has the same {', '.join(titles)} as a record of {before}. Is it the same under another number?",
        fields,
        {"before": before},
    )


def repeated(kind: RecordType, record: Mapping[str, Any], item_id: str, holder: Callable[[str], tuple[str, str] | None]) -> list[Finding]:
    """The finding for a record that another item had before, or that looks like one of another item.

    `holder`: the item that holds a key, and its name.
    """
    for key, told in ((business_key(kind, dict(record)), already_seen), (alike_key(kind, record), looks_alike)):
        held = holder(key) if key else None
        if held is not None and held[0] != item_id:
            return [told(kind, held[1])]
    return []


def held_keys(kind: RecordType, record: Mapping[str, Any]) -> list[str]:
    """What a record is recognised by in other bytes."""
    return [key for key in (business_key(kind, dict(record)), alike_key(kind, record)) if key]
