"""Alembic's way in: uses the connection that `store.migrate` hands over."""

from alembic import context

from metrikon.store import outside_tables  # noqa: F401  (its tables belong to the same metadata)
from metrikon.store.tables import metadata

context.configure(connection=context.config.attributes["connection"], target_metadata=metadata, render_as_batch=True)
context.run_migrations()
