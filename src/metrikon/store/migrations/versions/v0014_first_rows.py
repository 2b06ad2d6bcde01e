"""First rows that a person has looked at before they were written."""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"


def upgrade() -> None:
    """Add the table, and what finds rows that wait to be looked at."""
    op.create_table(
        "first_rows",
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("target", sa.String(length=60), nullable=False),
        sa.Column("by", sa.String(length=80), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("flow", "version", "target"),
    )
