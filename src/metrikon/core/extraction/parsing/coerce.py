"""A parsed answer made to fit its record type: types, names and forms; every change is recorded."""

from __future__ import annotations

import re
from collections.abc import Mapping
from decimal import Decimal, InvalidOperation
from typing import Any

from metrikon.core.extraction.indexing.forms import formed
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.pointers import escape, shape
from metrikon.core.records.types import Field, RecordType, resolved
from metrikon.core.values.dates import parse_date
from metrikon.core.values.numbers import CURRENCY_CODES, currency_in, parse_number
from metrikon.core.values.text import clean, fold, name_key

_BLANK = {"", "null", "none", "n/a", "na", "unknown", "not found", "-", "not specified"}
_YES, _NO = {"yes", "true", "ja", "oui"}, {"no", "false", "nein", "non", "nee"}


class Coercion:
    """One answer on its way to a record; `changes` says what was changed and where."""

    def __init__(self, kind: RecordType, index: Index) -> None:
        self.kind = kind
        self.index = index
        self.changes: list[str] = []
        self.dropped: list[str] = []  # pointers of values that could not be used

    def record(self, answer: Any) -> dict[str, Any]:
        """The record an answer stands for; unknown names and blanks are left out."""
        value = self._value(self.kind.schema, self.unwrapped(answer), "")
        return value if isinstance(value, dict) else {}

    def unwrapped(self, answer: Any) -> Any:
        """An answer out of lists and objects around it."""
        if isinstance(answer, list) and len(answer) == 1:
            answer = answer[0]
            self.changes.append("A list of one was taken for its only element.")
        inner = answer.get("properties") if isinstance(answer, dict) else None
        if isinstance(inner, dict) and "properties" not in self.kind.schema["properties"]:
            answer = inner
            self.changes.append("The values were taken out of what repeats the JSON Schema.")
        if isinstance(answer, dict) and len(answer) == 1:
            (name, inner), *_ = answer.items()
            if isinstance(inner, dict) and name not in self.kind.schema["properties"]:
                answer = inner
                self.changes.append(f"The record was taken out of {name!r}.")
        return answer

    def leaf(self, field: Field, value: Any) -> Any:
        """A single value fitted to its field; nothing is noted."""
        kept = len(self.changes), len(self.dropped)
        fitted = self._leaf(resolved(self.kind.schema, field.schema), value, field.shape)
        del self.changes[kept[0] :], self.dropped[kept[1] :]
        return fitted

    def _value(self, schema: Mapping[str, Any], value: Any, pointer: str) -> Any:
        schema = resolved(self.kind.schema, schema)
        if value is None or (isinstance(value, str) and value.strip().casefold() in _BLANK):
            return None
        if "properties" in schema:
            return self._object(schema, value, pointer)
        if "items" in schema:
            return self._list(schema, value, pointer)
        return self._leaf(schema, value, pointer)

    def _object(self, schema: Mapping[str, Any], value: Any, pointer: str) -> dict[str, Any] | None:
        if not isinstance(value, dict):
            self.changes.append(f"{pointer or '/'}: an object was expected; {_short(value)} was left out.")
            self.dropped.append(pointer)
            return None
        names = self.kind.spellings.get(shape(pointer), {})
        found: dict[str, Any] = {}
        for given, part in value.items():
            name = given if given in schema["properties"] else names.get(name_key(str(given)))
            if name is None:
                self.changes.append(f"{pointer}/{str(given)[:40]} is no field of the record type and was left out.")
                continue
            if name != given:
                self.changes.append(f"{pointer}/{given} was taken for {name}.")
            fitted = self._value(schema["properties"][name], part, f"{pointer}/{escape(name)}")
            if fitted is not None:
                found[name] = fitted
        return {name: found[name] for name in schema["properties"] if name in found}

    def _list(self, schema: Mapping[str, Any], value: Any, pointer: str) -> list[Any]:
        if not isinstance(value, list):
            self.changes.append(f"{pointer}: one value was taken for a list of one.")
            value = [value]
        rows = [self._value(schema["items"], part, f"{pointer}/{number}") for number, part in enumerate(value)]
        return [row for row in rows if row not in (None, {})]

    def _leaf(self, schema: Mapping[str, Any], value: Any, pointer: str) -> Any:
        if isinstance(value, list) and len(value) == 1:
            value = value[0]
            self.changes.append(f"{pointer}: a list of one was taken for its only element.")
        if isinstance(value, dict) and not isinstance(value.get("value", {}), dict | list):
            value = value["value"]
            self.changes.append(f"{pointer}: the value was taken out of an object around it.")
            return None if value is None else self._leaf(schema, value, pointer)
        if isinstance(value, dict | list):
            self.changes.append(f"{pointer}: one value was expected; {_short(value)} was left out.")
            self.dropped.append(pointer)
            return None
        given = schema.get("type", "string")
        types = (given,) if isinstance(given, str) else tuple(given)
        if "number" in types or "integer" in types:
            number = self._number(value, pointer)
            if isinstance(number, Decimal | int) and not isinstance(number, bool) and number < 0 and asks_positive(schema):
                self.changes.append(f"{pointer}: {number} was written without its sign, as the field asks.")
                return -number
            return number
        if "boolean" in types:
            return self._yes_no(value, pointer)
        text = clean(f"{value:f}" if isinstance(value, Decimal) else str(value))
        field = self.kind.by_shape.get(shape(pointer))
        if schema.get("format") == "date" or (field is not None and field.kind == "date"):
            return self._date(text, pointer)
        if "enum" in schema:
            return self._choice(schema["enum"], text, pointer)
        if field is not None and field.kind == "currency":
            return self._currency(text, pointer)
        form = formed(field, text, self.index) if field is not None else None
        if form is not None and form != text:
            self.changes.append(f"{pointer}: {text!r} was written as {form}.")
        return form or text

    def _number(self, value: Any, pointer: str) -> Decimal | int | str | None:
        if isinstance(value, bool):
            return str(value)
        if isinstance(value, float):
            value = Decimal(repr(value))
        if isinstance(value, Decimal | int):
            return value if not isinstance(value, Decimal) or value.is_finite() else None
        if isinstance(value, str):
            number = parse_number(clean(value), self.index.mark) or _plain_number(value)
            if number is not None:
                self.changes.append(f"{pointer}: the text {_short(value)} was read as {number}.")
                return number
        return clean(str(value))[:200]

    def _yes_no(self, value: Any, pointer: str) -> bool | str:
        if isinstance(value, bool):
            return value
        word = str(value).strip().casefold()
        if word in _YES or word in _NO:
            self.changes.append(f"{pointer}: {_short(value)} was read as {'yes' if word in _YES else 'no'}.")
            return word in _YES
        return clean(str(value))[:200]

    def _date(self, text: str, pointer: str) -> str:
        found = parse_date(text.split("T")[0] if text[:4].isdecimal() else text, self.index.day_first)
        if found is None:
            return text
        if found.isoformat() != text:
            self.changes.append(f"{pointer}: the date {text!r} was written as {found.isoformat()}.")
        return found.isoformat()

    def _choice(self, options: list[Any], text: str, pointer: str) -> str:
        for option in options:
            if fold(str(option)) == fold(text):
                if option != text:
                    self.changes.append(f"{pointer}: {text!r} was taken for {option!r}.")
                return str(option)
        return text

    def _currency(self, text: str, pointer: str) -> str:
        if text in CURRENCY_CODES:
            return text
        code = currency_in(text)
        if code is not None:
            self.changes.append(f"{pointer}: {text!r} was read as {code}.")
        return code or text


_POSITIVE = re.compile(
    r"\b(?:positive?|positiv(?:e[rnms]?)?|positif|positivo|positiva|positief|dodatni\w*|ohne vorzeichen|without (?:a )?sign|sans signe|sin signo|senza segno)\b",
    re.IGNORECASE,
)


def asks_positive(schema: Mapping[str, Any]) -> bool:
    """Whether a number is wanted without its sign, by the description or the least that is allowed."""
    least = schema.get("minimum", schema.get("exclusiveMinimum"))
    return bool(_POSITIVE.search(str(schema.get("description") or ""))) or (isinstance(least, int | Decimal | float) and least >= 0)


def _plain_number(text: str) -> Decimal | None:
    """A number with words around it: "12 pcs"."""
    words = [word for word in text.replace("€", " ").replace("£", " ").split() if any(c.isdecimal() for c in word)]
    try:
        return Decimal(words[0]) if len(words) == 1 else None
    except InvalidOperation:
        return None


def _short(value: Any) -> str:
    text = str(value)
    return repr(text if len(text) <= 40 else text[:37] + "...")
