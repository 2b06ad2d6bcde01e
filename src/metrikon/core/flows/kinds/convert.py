"""convert: an amount in the currency of the house, at the rate of its day."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from pydantic import Field

from metrikon.core.flows.around import Around, closed
from metrikon.core.flows.form import Form
from metrikon.core.flows.kind import Kind, Said, Schema
from metrikon.core.flows.rating import RatesFrom, unknown
from metrikon.core.flows.words import shown


class Convert(Form):
    """Turn an amount into another currency at the rate of its own day; on a day without a rate at that of the last day before, which is said."""

    amount: Any = Field(..., description="The amount, such as ${read.total}.")
    currency: str = Field(..., min_length=1, description="Its currency (ISO 4217), such as ${read.currency}.")
    on: Any = Field(..., description="The day whose rate is taken, such as ${read.date}.")
    into: str = Field(..., min_length=1, description="The currency that is wanted, such as EUR.")
    rates: RatesFrom = Field(..., description="Where rates come from.")
    tax: Any = Field(None, description="The tax in the amount, where what it is before tax is wanted, too.")


def _check(parameters: Convert, around: Around) -> Iterable[Said]:
    yield from unknown(parameters.rates, around)


def _result(parameters: Convert, around: Around) -> Schema:
    number: Schema = {"type": "number"}
    text: Schema = {"type": "string"}
    before = {"before_tax": number, "before_tax_there": number} if parameters.tax is not None else {}
    return closed({"amount": number, "currency": text, "rate": number, "day": text, "said": text, **before})


SAMPLE = """\
convert: {amount: "${checked.record.total}", currency: "${checked.record.currency}", on: "${checked.record.date}", into: EUR, rates: {connection: rates}}
"""
KIND = Kind(
    "convert",
    Convert,
    result=_result,
    check=_check,
    needs=("amount", "currency", "on", "into"),
    outward=True,
    uses=lambda parameters: [("connection", parameters.rates.connection)],
    tell=lambda parameters: (
        f"Turn {shown(parameters.amount)} {shown(parameters.currency)} into {shown(parameters.into)} at the rate of {shown(parameters.on)}."
    ),
    sample=SAMPLE,
)
