"""What an expression gives, as far as its text and the schemas of its names tell: so that a text compared with a number is told beforehand."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from metrikon.core.feel import syntax as s
from metrikon.core.feel.closures import written
from metrikon.core.feel.temporal import literal
from metrikon.core.feel.values import kind_of

Schema = Mapping[str, Any]
Lookup = Callable[[tuple[str, ...]], Schema | None]  # the schema of a path; None for one that nothing is known of
ALWAYS = ("string", "number", "boolean", "list", "context")
_FROM_JSON = {"string": "string", "number": "number", "integer": "number", "boolean": "boolean", "array": "list", "object": "context"}
_GIVES = {
    **dict.fromkeys(("string", "substring", "upper case", "lower case", "substring before", "substring after", "replace", "string join"), "string"),
    **dict.fromkeys(("day of week", "month of year"), "string"),
    **dict.fromkeys(("number", "string length", "count", "sum", "mean", "product", "median", "stddev", "decimal", "floor", "ceiling"), "number"),
    **dict.fromkeys(("round up", "round down", "round half up", "round half down", "modulo", "sqrt", "log", "exp"), "number"),
    **dict.fromkeys(("day of year", "week of year"), "number"),
    **dict.fromkeys(("not", "contains", "starts with", "ends with", "matches", "list contains", "all", "any", "odd", "even", "is"), "boolean"),
    **dict.fromkeys(("split", "append", "concatenate", "reverse", "distinct values", "union", "flatten", "sort", "sublist", "get entries"), "list"),
    "date": "date",
    "time": "time",
    "date and time": "date and time",
    "now": "date and time",
    "today": "date",
    "years and months duration": "years and months duration",
}
_HELP = {
    ("string", "number"): "number({0}) makes a number of it",
    ("string", "date"): "date({0}) makes a date of it",
    ("string", "date and time"): "date and time({0}) makes a moment of it",
    ("string", "time"): "time({0}) makes a time of it",
    ("date", "date and time"): 'date and time({0}, @"00:00:00") makes a moment of it',
}


def type_of_schema(schema: Schema | None) -> str | None:
    """The type of values that a JSON Schema describes; None where it may be of several."""
    if not schema:
        return None
    named = schema.get("type")
    found = [each for each in ([named] if isinstance(named, str) else named or ()) if each != "null"]
    if len(found) == 1:
        return _FROM_JSON.get(found[0])
    values = [each for each in schema.get("enum", ()) if each is not None]
    kinds = {kind_of(each) for each in values}
    return next(iter(kinds)) if len(kinds) == 1 else None


def type_of(part: s.Part, lookup: Lookup) -> str | None:
    """The type of what a part gives, when it does not give null; None where it cannot be told."""
    if isinstance(part, s.Literal):
        return None if part.value is None else kind_of(part.value)
    if isinstance(part, s.AtLiteral):
        value = literal(part.text)
        return None if value is None else kind_of(value)
    path = path_of(part)
    if path is not None:
        return type_of_schema(lookup(path))
    if isinstance(part, s.Invocation) and isinstance(part.function, s.BuiltIn):
        return _GIVES.get(part.function.name)
    if isinstance(part, s.Compare | s.Between | s.In | s.And | s.Or | s.Quantified | s.InstanceOf):
        return "boolean"
    if isinstance(part, s.Chain):
        kinds = {type_of(each, lookup) for each in (part.first, *(each for _, each in part.rest))}
        return next(iter(kinds)) if kinds in ({"number"}, {"string"}) else None
    if isinstance(part, s.If):
        kinds = {type_of(part.then, lookup), type_of(part.otherwise, lookup)}
        return next(iter(kinds)) if len(kinds) == 1 else None
    return "list" if isinstance(part, s.ListOf | s.For) else "context" if isinstance(part, s.Context) else None


def path_of(part: s.Part) -> tuple[str, ...] | None:
    """The names of a part that is a name, or a path from one."""
    if isinstance(part, s.Name):
        return (part.name,)
    return (part.base.name, *part.names) if isinstance(part, s.Path) and isinstance(part.base, s.Name) else None


def mismatches(part: s.Part, lookup: Lookup) -> Iterator[str]:
    """What can only give null: values of different types compared or added."""
    for each in s.whole(part):
        if isinstance(each, s.Compare):
            yield from _unlike(each.left, each.right, lookup)
            yield from _impossible(each, lookup)
        elif isinstance(each, s.Between):
            yield from _unlike(each.value, each.low, lookup)
        elif isinstance(each, s.Chain):
            for sign, other in each.rest:
                kinds = (type_of(each.first, lookup), type_of(other, lookup))
                if "string" in kinds and None not in kinds and (sign != "+" or kinds[0] != kinds[1]):
                    yield f"{_shown(each.first)} {sign} {_shown(other)}: a {kinds[0]} and a {kinds[1]} give null. string(…) makes a text, number(…) a number."


def _unlike(left: s.Part, right: s.Part, lookup: Lookup) -> Iterator[str]:
    kinds = (type_of(left, lookup), type_of(right, lookup))
    if None in kinds or kinds[0] == kinds[1]:
        return
    help = _HELP.get((str(kinds[0]), str(kinds[1])), "").format(_shown(left)) or _HELP.get((str(kinds[1]), str(kinds[0])), "").format(_shown(right))
    yield f"{_shown(left)} is a {kinds[0]} and {_shown(right)} a {kinds[1]}; compared they give null{f'. {help}' if help else ''}."


def _impossible(part: s.Compare, lookup: Lookup) -> Iterator[str]:
    """A comparison with a value that can never be."""
    for one, two in ((part.left, part.right), (part.right, part.left)):
        path = path_of(one)
        if path is None or not isinstance(two, s.Literal) or part.sign != "=":
            continue
        values = (lookup(path) or {}).get("enum")
        if values and two.value is not None and two.value not in values:
            yield f"It can never hold: {'.'.join(path)} is one of {', '.join(str(each) for each in values if each is not None)}."


def _shown(part: s.Part) -> str:
    if isinstance(part, s.Literal):
        return f'"{part.value}"' if isinstance(part.value, str) else str(part.value)
    return (
        written(part)
        if path_of(part) is not None
        else f"{part.function.name}(…)"
        if isinstance(part, s.Invocation) and isinstance(part.function, s.BuiltIn)
        else "…"
    )
