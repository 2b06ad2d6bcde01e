"""What a flow says of a table of a database."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from metrikon.connections.sql import SQLITE
from metrikon.core.flows.form import ConnectionName, Form


class SqlTable(Form):
    """A table of a database."""

    called = ("database", "db", "sqlite", "postgres", "postgresql", "mysql", "mariadb")

    connection: ConnectionName | None = Field(None, description="Name of a connection to a server (postgresql://…, mariadb://…).")
    url: str | None = Field(
        None, max_length=1000, description="Or a file of SQLite, e.g. sqlite:///ledger.db; relative paths start at the service's folder."
    )
    table: str = Field(
        ...,
        pattern=r"^([A-Za-z_][A-Za-z0-9_]{0,62}\.)?[A-Za-z_][A-Za-z0-9_]{0,62}$",
        description="The table, after its schema and a point where it is in another; it is made when it is not there.",
    )
    key: list[str] = Field(
        default_factory=list,
        max_length=20,
        description="Columns of the table's own that tell a row from others, and are unique together: the table is used as it is then. Without any it has a "
        "column delivery_key of ours, and columns that are missing are added.",
    )
    cannot_hold: Literal["clean", "refuse"] = Field(
        "clean", description="Signs that a column cannot hold: left out (or ? in their place), or the row is refused."
    )

    @model_validator(mode="after")
    def _one_place(self) -> SqlTable:
        if (self.connection is None) == (self.url is None):
            raise ValueError("Give a connection to a server, or a file (url), one of them.")
        if self.url is not None and not self.url.startswith(SQLITE):
            raise ValueError(
                "The address of a server stands in a connection, with its secret: make one, and name it as `connection`. A file is sqlite:///…."
            )
        return self
