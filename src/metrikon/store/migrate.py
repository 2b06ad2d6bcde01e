"""Bring a database to the tables of this version (Alembic). Each change and its note are one transaction."""

from __future__ import annotations

from importlib import resources

from sqlalchemy import inspect, text

from metrikon.store.database import Database

_VERSIONS = resources.files("metrikon.store") / "migrations" / "versions"
HEAD = max(each.name[1:5] for each in _VERSIONS.iterdir() if each.name.startswith("v0"))


def migrate(database: Database) -> None:
    """Create or upgrade the tables; does nothing when they are current."""
    with database.reading() as connection:
        current = None
        if inspect(connection).has_table("alembic_version"):
            current = connection.execute(text("SELECT version_num FROM alembic_version")).scalar()
    if current == HEAD:
        return
    from alembic import command  # heavy: only loaded when there is something to do
    from alembic.config import Config

    config = Config()
    with resources.as_file(resources.files("metrikon.store") / "migrations") as folder:
        config.set_main_option("script_location", str(folder))
        with database._writing.begin() as connection:
            config.attributes["connection"] = connection
            command.upgrade(config, "head")
