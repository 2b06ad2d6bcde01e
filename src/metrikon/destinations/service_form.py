"""What a flow says of records of a service, and when a field of one holds a value."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from pydantic import Field

from metrikon.core.flows.form import NAME, ConnectionName, Form
from metrikon.destinations.cells import same


class ServiceRecords(Form):
    """Records of a service: contacts, tasks, pages, rows of an online sheet."""

    called = ("rest", "openapi", "crm", "api")

    connection: ConnectionName = Field(..., description="Name of a connection whose service is described (OpenAPI) and noted.")
    records: str = Field(..., pattern=NAME, description="Which kind of record, as its notes name it, such as contacts.")
    by: list[str | list[str]] = Field(
        default_factory=list,
        max_length=5,
        description="Fields that tell a record from others, such as email; without any it is told by our delivery key. Lists are ways, one after the other: "
        "[[email], [phone]] finds a record by its mail, and where there is none by its telephone number.",
    )

    @property
    def ways(self) -> list[list[str]]:
        """The ways in which a record is told from others, in their order."""
        listed = [each for each in self.by if isinstance(each, list)]
        plain = [each for each in self.by if isinstance(each, str)]
        return [*([plain] if plain else []), *listed] or [[]]


def same_field(found: Any, wanted: Any) -> bool:
    """Whether a field holds what is wanted: addresses of mail whatever their capitals."""
    if isinstance(found, str) and isinstance(wanted, str) and "@" in wanted:
        return found.strip().casefold() == wanted.strip().casefold()
    if isinstance(found, int | Decimal) and isinstance(wanted, str):
        return f"{found:f}" == wanted if isinstance(found, Decimal) else str(found) == wanted
    return same(found, wanted) or (found in (None, "", []) and wanted in (None, "", []))
