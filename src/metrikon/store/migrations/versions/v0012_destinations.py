"""How a row is set, and what a person has set in it."""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    """Add the columns."""
    op.add_column("deliveries", sa.Column("how", sa.String(length=20), nullable=False, server_default=""))
    op.add_column("deliveries", sa.Column("left", sa.LargeBinary(), nullable=True))
    op.add_column("connections", sa.Column("description", sa.LargeBinary(), nullable=True))
    op.add_column("connections", sa.Column("notes", sa.LargeBinary(), nullable=True))
