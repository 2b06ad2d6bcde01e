"""Roles of people and tokens, the end of a token; places that flows may touch besides those of the service's folder."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    """Add the columns and the table. Whoever could come in before could do all, and still can."""
    op.add_column("people", sa.Column("role", sa.String(length=20), nullable=False, server_default="admin"))
    op.add_column("tokens", sa.Column("role", sa.String(length=20), nullable=False, server_default="admin"))
    op.add_column("tokens", sa.Column("until", sa.BigInteger(), nullable=True))
    op.create_table(
        "places",
        sa.Column("place", sa.String(length=500), nullable=False),
        sa.Column("why", sa.Text(), nullable=False),
        sa.Column("by", sa.String(length=80), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("place"),
    )
