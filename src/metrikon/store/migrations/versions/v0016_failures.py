"""Failures for good, so that each cause is told once."""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"


def upgrade() -> None:
    """Add the table of failures."""
    op.create_table(
        "failures",
        sa.Column("id", sa.Integer(), nullable=False, autoincrement=True),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("run_id", sa.String(length=26), nullable=False),
        sa.Column("item_id", sa.String(length=26), nullable=False),
        sa.Column("path", sa.String(length=400), nullable=False),
        sa.Column("cause", sa.String(length=32), nullable=False),
        sa.Column("message", sa.Text(), nullable=False),
        sa.Column("attempts", sa.Integer(), nullable=False),
        sa.Column("own", sa.Boolean(), nullable=False),
        sa.Column("count", sa.Integer(), nullable=False),
        sa.Column("over_at", sa.BigInteger(), nullable=True),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("failures_open", "failures", ["flow", "cause", "over_at"])
    op.create_index("failures_of_run", "failures", ["run_id"])
    op.create_index("failures_of_item", "failures", ["item_id"])
