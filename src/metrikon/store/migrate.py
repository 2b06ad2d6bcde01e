"""Bring a database to the tables of this version: a new one in one step, an older one by its changes (Alembic), each with its note in one transaction."""

from __future__ import annotations

from importlib import resources

from sqlalchemy import Connection, inspect, text

from metrikon.store import outside_tables  # noqa: F401  (its tables belong to the same metadata)
from metrikon.store.database import Database, StoreFailed
from metrikon.store.tables import metadata

_VERSIONS = resources.files("metrikon.store") / "migrations" / "versions"
HEAD = max(each.name[1:5] for each in _VERSIONS.iterdir() if each.name.startswith("v0"))
_NOTE = "CREATE TABLE alembic_version (version_num VARCHAR(32) NOT NULL, CONSTRAINT alembic_version_pkc PRIMARY KEY (version_num))"


class NewerDatabase(StoreFailed):
    """The database was brought to tables that this version does not know."""


def migrate(database: Database) -> None:
    """Create or upgrade the tables; does nothing when they are current."""
    with database.reading() as connection:
        tables = inspect(connection).get_table_names()
        current = connection.execute(text("SELECT version_num FROM alembic_version")).scalar() if "alembic_version" in tables else None
    if current == HEAD:
        return
    if current is not None and current > HEAD:
        raise NewerDatabase(
            f"This folder was last used by a newer version of Metrikon (its database is at {current}, this version knows it up to {HEAD}). "
            "Start that version, or give this one another folder."
        )
    with database._writing.begin() as connection:
        if tables:
            upgrade(connection)
        else:
            metadata.create_all(connection)
            connection.execute(text(_NOTE))
            connection.execute(text("INSERT INTO alembic_version VALUES (:head)"), {"head": HEAD})


def upgrade(connection: Connection) -> None:
    """Make all changes that are missing, one after the other."""
    from alembic import command  # heavy: only loaded when there is something to do
    from alembic.config import Config

    config = Config()
    with resources.as_file(resources.files("metrikon.store") / "migrations") as folder:
        config.set_main_option("script_location", str(folder))
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
