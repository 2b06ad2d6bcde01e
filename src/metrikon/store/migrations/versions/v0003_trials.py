"""Trials over reviewed records, and what each document came to."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    """Make the tables."""
    op.create_table(
        "trials",
        sa.Column("id", sa.String(length=26), nullable=False),
        sa.Column("record_type", sa.String(length=60), nullable=False),
        sa.Column("type_version", sa.Integer(), nullable=False),
        sa.Column("model", sa.String(length=120), nullable=False),
        sa.Column("context", sa.Text(), nullable=False),
        sa.Column("count", sa.Integer(), nullable=False),
        sa.Column("state", sa.String(length=10), nullable=False),
        sa.Column("problem", sa.Text(), nullable=False),
        sa.Column("created_at", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "trial_results",
        sa.Column("trial_id", sa.String(length=26), nullable=False),
        sa.Column("record_id", sa.String(length=26), nullable=False),
        sa.Column("result", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("trial_id", "record_id"),
    )
