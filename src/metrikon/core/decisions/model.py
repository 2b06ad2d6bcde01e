"""A decision table: inputs, outputs, rules, and what counts when several rules hold."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError

from metrikon.core.decisions.cells import Index, index_of
from metrikon.core.feel import BadExpression, names, parse, parse_tests
from metrikon.core.flows.form import NAME, Form
from metrikon.core.flows.problems import in_our_words
from metrikon.core.values.near import meant

ANY = "-"
Type = Literal["string", "number", "boolean", "date", "time", "date and time", "days and time duration", "years and months duration", "Any"]
Hit = Literal["unique", "any", "priority", "first", "rule order", "output order", "collect"]
SINGLE: tuple[Hit, ...] = ("unique", "any", "priority", "first")
MOST_RULES = 10_000


class Input(Form):
    """What is looked at: a FEEL expression over what the table is given."""

    name: str = Field(..., pattern=NAME, description="What rules call it.")
    label: str = Field("", max_length=200, description="What people call it.")
    expression: str = Field("", max_length=4000, description="A FEEL expression; its name when left out.")
    type: Type = Field("Any", description="The type of its values.")
    values: str = Field("", max_length=4000, description='The values that it may have, as unary tests, such as "seed", "bulb" or [0..1000].')

    @property
    def wanted(self) -> str:
        """The expression."""
        return self.expression or self.name


class Output(Form):
    """What is decided."""

    name: str = Field(..., pattern=NAME, description="What it is called in the result.")
    label: str = Field("", max_length=200, description="What people call it.")
    type: Type = Field("Any", description="The type of its values.")
    values: str = Field("", max_length=4000, description="The values that it may have, those of the highest priority first.")
    default: str | None = Field(None, max_length=4000, description="A FEEL expression: its value when no rule holds.")


class Rule(Form):
    """When tests hold, this is decided."""

    when: dict[str, str] = Field(default_factory=dict, description="Unary tests for inputs by name; an input that is left out may be anything.")
    then: dict[str, str] = Field(..., min_length=1, description="A FEEL expression for each output.")
    note: str = Field("", max_length=1000, description="Why, in words for people.")


class Table(Form):
    """A decision table."""

    metrikon: Literal[1] = Field(1, description="Version of this form of document.")
    decision: str = Field(..., pattern=r"^[a-z][a-z0-9-]{0,59}$", description="What the table is called.")
    about: str = Field("", max_length=1000, description="What it decides, in words for people.")
    hit: Hit = Field("unique", description="What counts when several rules hold.")
    collect: Literal["sum", "min", "max", "count"] | None = Field(None, description="With `collect`: what is made of the values.")
    inputs: Annotated[list[Input], Field(min_length=1, max_length=50)] = Field(..., description="What is looked at.")
    outputs: Annotated[list[Output], Field(min_length=1, max_length=50)] = Field(..., description="What is decided.")
    rules: Annotated[list[Rule], Field(min_length=1, max_length=MOST_RULES)] = Field(..., description="The rules, in order.")

    @cached_property
    def columns(self) -> tuple[tuple[str, ...], ...]:
        """The tests of all rules, input by input."""
        return tuple(tuple(rule.when.get(each.name, ANY) or ANY for rule in self.rules) for each in self.inputs)

    @cached_property
    def index(self) -> Index:
        """By which the rules that hold are found."""
        return index_of(self.columns)

    @cached_property
    def needs(self) -> list[str]:
        """The names that a table must be given, in the order of its inputs."""
        return list(dict.fromkeys(path[0] for each in self.inputs for path in names(parse(each.wanted))))


class BadTable(ValueError):
    """A decision table that cannot be kept; `problems` lists all that was found."""

    def __init__(self, problems: list[str]) -> None:
        super().__init__("\n".join(problems))
        self.problems = problems


def table_from(data: Any) -> Table:
    """The table in plain data. Raises `BadTable` with all that is wrong with its form and its expressions."""
    try:
        table = Table.model_validate(data)
    except ValidationError as error:
        raise BadTable([_told(each) for each in error.errors()]) from error
    problems = list(_wrong(table))
    if problems:
        raise BadTable(problems)
    return table


def _told(error: Any) -> str:
    place = "/".join(str(each) for each in error["loc"])
    within: dict[str, type[Form]] = {"inputs": Input, "outputs": Output, "rules": Rule}
    known = within.get(str(error["loc"][0]) if error["loc"] else "", Table)
    return f"{place or 'the table'}: {in_our_words(error, list(known.model_fields))}"


def _wrong(table: Table) -> Iterator[str]:
    inputs, outputs = [each.name for each in table.inputs], [each.name for each in table.outputs]
    for what, found in (("input", inputs), ("output", outputs)):
        yield from (f"{what} {name}: There are two of that name; call one otherwise." for name in dict.fromkeys(found) if found.count(name) > 1)
    for each in table.inputs:
        yield from _unread(f"input {each.name}", each.wanted)
        yield from _unread(f"input {each.name}, values", each.values, tests=True)
    for given in table.outputs:
        yield from _unread(f"output {given.name}, values", given.values, tests=True)
        yield from _unread(f"output {given.name}, default", given.default or "")
    for number, rule in enumerate(table.rules, 1):
        for name, tests in rule.when.items():
            if name not in inputs:
                yield f"rule {number}: There is no input {name!r}{meant(name, inputs)} Known: {', '.join(inputs)}."
            yield from _unread(f"rule {number}, {name}", tests, tests=True)
        for name, value in rule.then.items():
            if name not in outputs:
                yield f"rule {number}: There is no output {name!r}{meant(name, outputs)} Known: {', '.join(outputs)}."
            yield from _unread(f"rule {number}, {name}", value)
        yield from (f"rule {number}: The output {name} is missing; say what is decided." for name in outputs if name not in rule.then)
    if table.collect and table.hit != "collect":
        yield f"collect: It goes with the hit policy collect, not with {table.hit}; leave it out, or change the policy."
    if table.collect and table.collect != "count" and len(outputs) > 1:
        yield f"collect: {table.collect} takes one output; this table has {len(outputs)}."
    if table.hit in ("priority", "output order"):
        yield from (f"output {each.name}: Give its values in order, for the hit policy {table.hit}." for each in table.outputs if not each.values)


def _unread(where: str, text: str, *, tests: bool = False) -> Iterator[str]:
    if not text:
        return
    try:
        (parse_tests if tests else parse)(text)
    except BadExpression as error:
        yield f"{where}: {error}"
