"""tally: totals over rows or records of a period."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, Literal

from pydantic import Field

from metrikon.core.flows.around import Around, closed, entry, listed
from metrikon.core.flows.form import Condition, Form
from metrikon.core.flows.kind import ANYTHING, Kind, Said, Schema
from metrikon.core.flows.rating import RatesFrom, unknown
from metrikon.core.flows.words import shown
from metrikon.core.values.near import meant


class Home(Form):
    """The currency into which every amount is turned before it is summed."""

    into: str = Field(..., min_length=1, description="The currency of the sums, such as EUR.")
    currency: str = Field(..., min_length=1, description="The column that names the currency of a row.")
    rates: RatesFrom = Field(..., description="Where rates come from. Each row is turned at the rate of its own day.")


class Tally(Form):
    """Count rows, and sum columns of them by what they have in common: rows of a destination, records, or a list. Amounts stay exact."""

    place: str | None = Field(None, alias="in", description="A destination of this flow whose rows are summed.")
    records: str | None = Field(None, description="A record type whose records are summed: those that were approved, or needed nobody.")
    each: str | None = Field(None, max_length=100, description="With `records`: a list in them, such as lines, of which each row is summed.")
    of: Any = Field(None, description="A list of rows that is summed, such as ${found.rows}.")
    date: str | None = Field(None, max_length=200, description="The column that holds the day of a row.")
    since: Any = Field(None, alias="from", description="The first day.")
    until: Any = Field(None, description="The last day.")
    that: Condition | None = Field(None, description='A FEEL condition over a row, named `row`, such as row.Status = "paid".')
    by: list[str] = Field(default_factory=list, max_length=5, description="Columns by which is summed, such as Category.")
    per: Literal["day", "week", "month", "quarter", "year"] | None = Field(None, description="Summed for each of these, too, in a column `period`.")
    sum: list[str] = Field(default_factory=list, max_length=20, description="Columns that are summed.")
    home: Home | None = Field(None, description="Into which currency amounts are turned before they are summed; as they stand without it.")
    most: int = Field(50_000, ge=1, le=1_000_000, description="How many rows are looked at; more are an error, never left out.")


def _check(parameters: Tally, around: Around) -> Iterable[Said]:
    given = [name for name, value in (("in", parameters.place), ("records", parameters.records), ("of", parameters.of)) if value is not None]
    if len(given) != 1:
        yield "in", "It says nothing, or several things, to sum: give one of `in` (a destination), `records` (a record type) or `of` (a list)."
    if parameters.place is not None and parameters.place not in around.flow.destinations:
        known = list(around.flow.destinations)
        yield "in", f"There is no destination {parameters.place!r} in this flow{meant(parameters.place, known)} Known: {', '.join(known) or 'none'}."
    types = around.known.record_types
    if parameters.records is not None and parameters.records not in types and around.known.whole:
        known = sorted(types)
        yield "records", f"There is no record type {parameters.records!r}{meant(parameters.records, known)} Known: {', '.join(known) or 'none'}."
    if parameters.each is not None and parameters.records is None:
        yield "each", "A list within records is summed with `records` alone."
    if parameters.date is None and (parameters.since is not None or parameters.until is not None or parameters.per or parameters.home):
        yield "date", "The days of rows are wanted: say in `date` which column holds them."
    if parameters.home is not None:
        yield from ((f"home/{place}", told) for place, told in unknown(parameters.home.rates, around))
    yield from _unknown_columns(parameters, around)


def _unknown_columns(parameters: Tally, around: Around) -> Iterable[Said]:
    kind = around.known.record_types.get(parameters.records or "")
    if kind is None:
        return
    fields = entry(kind.schema, parameters.each) if parameters.each else kind.schema
    known = set((fields or {}).get("properties") or (fields or {}).get("items", {}).get("properties") or {})
    outer = set(kind.schema.get("properties") or {})
    wanted = (
        [("by", name) for name in parameters.by]
        + [("sum", name) for name in parameters.sum]
        + ([("date", parameters.date)] if parameters.date else [])
    )
    for place, name in wanted:
        if known and name.split(".")[0] not in known | outer:
            yield (
                place,
                f"Records of type {parameters.records} have no field {name!r}{meant(name, sorted(known | outer))} They have {', '.join(sorted(known))}.",
            )


def _result(parameters: Tally, around: Around) -> Schema:
    number: Schema = {"type": "number"}
    whole: Schema = {"type": "integer"}
    sums = dict.fromkeys(parameters.sum, number)
    row = closed({**dict.fromkeys(parameters.by, ANYTHING), **({"period": {"type": "string"}} if parameters.per else {}), "count": whole, **sums})
    told = closed({"currency": {"type": "string"}, "day": {"type": "string"}, "rate": number})
    made: dict[str, Schema] = {"rows": listed(row), "count": whole, "sums": closed(sums), "empty": whole, "without_day": whole}
    return closed({**made, **({"currency": {"type": "string"}, "rates": listed(told)} if parameters.home else {})})


def _row(parameters: Tally, around: Around) -> Mapping[str, Schema | None]:
    return {"row": ANYTHING}


def _tell(parameters: Tally) -> str:
    what = (
        f"the rows of {parameters.place}"
        if parameters.place
        else f"the {parameters.records} records"
        if parameters.records
        else f"the rows in {shown(parameters.of)}"
    )
    what = f"each of the {parameters.each} of {what}" if parameters.each else what
    days = " ".join(
        part
        for part in (
            f"from {shown(parameters.since)}" if parameters.since is not None else "",
            f"until {shown(parameters.until)}" if parameters.until is not None else "",
        )
        if part
    )
    by = [*parameters.by, *([f"each {parameters.per}"] if parameters.per else [])]
    summed = f"sum {', '.join(parameters.sum)} of" if parameters.sum else "count"
    home = f", in {shown(parameters.home.into)}" if parameters.home else ""
    that = f" where {parameters.that}" if parameters.that else ""
    return f"{summed.capitalize()} {what}{' ' + days if days else ''}{that}{', by ' + ' and '.join(by) if by else ''}{home}."


def _uses(parameters: Tally) -> Iterable[tuple[str, str]]:
    if parameters.records:
        yield "record type", parameters.records
    if parameters.home:
        yield "connection", parameters.home.rates.connection


SAMPLE = """\
tally: {records: invoice, date: date, from: "${run.today}", by: [currency], sum: [total]}
"""
KIND = Kind(
    "tally",
    Tally,
    result=_result,
    check=_check,
    sees=_row,
    outward=True,
    looks=True,
    uses=_uses,
    tell=_tell,
    sample=SAMPLE,
)
