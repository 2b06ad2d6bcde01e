"""How a flow says into which currency amounts are turned, and where the rates come from."""

from __future__ import annotations

from collections.abc import Iterable

from pydantic import Field

from metrikon.core.flows.around import Around
from metrikon.core.flows.form import ConnectionName, Form
from metrikon.core.flows.kind import Said
from metrikon.core.values.near import meant


class RatesFrom(Form):
    """A list of exchange rates of days, in the XML form of the European reference rates."""

    connection: ConnectionName = Field(..., description="Name of a connection to the service that gives the rates.")
    path: str = Field("", max_length=1000, description="Where it gives them, after the address of the connection.")
    oldest: int = Field(7, ge=0, le=366, description="How many days older than the day itself a rate may be, where that day has none.")


def unknown(rates: RatesFrom, around: Around) -> Iterable[Said]:
    """What is wrong with where rates come from."""
    known = around.known.connections
    if rates.connection not in known and around.known.whole:
        told = ", ".join(sorted(known)) or "none"
        yield "rates/connection", f"There is no connection {rates.connection!r}{meant(rates.connection, sorted(known))} Known: {told}."
