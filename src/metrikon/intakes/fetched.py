"""What intakes over HTTP share: a page that is asked for again only where it changed."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import Field

from metrikon.connections.fetching import Fetched, FetchFailed, Wanted
from metrikon.core.flows.coming import Gathered
from metrikon.core.flows.form import ConnectionName
from metrikon.ports.intake import IntakeFailed

SECONDS = 60.0  # that a page may take


class FromPage(Gathered):
    """What every intake says that looks at an address."""

    url: str = Field(..., min_length=1, max_length=2000, description="Its address; with a connection what comes after the address of that.")
    connection: ConnectionName | None = Field(None, description="Name of a connection, by which it is signed in.")
    every: float = Field(900.0, ge=5, le=86_400, description="Seconds after which it is looked at anew.")


def page(calling: Any, connection: str | None, url: str, largest: int, known: Mapping[str, str] | None = None) -> Fetched:
    """A page as it is now; without its bytes where it is as it was. Raises `IntakeFailed`."""
    try:
        found: Fetched = calling.fetch(Wanted(url, largest, SECONDS, connection=connection or "", known=known or {}))
    except FetchFailed as error:
        raise IntakeFailed(str(error), wait=error.wait) from error
    return found
