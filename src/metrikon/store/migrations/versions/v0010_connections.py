"""Connections, their secrets sealed."""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    """Add the table."""
    op.create_table(
        "connections",
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("address", sa.Text(), nullable=False),
        sa.Column("way", sa.LargeBinary(), nullable=False),
        sa.Column("probe", sa.Text(), nullable=False),
        sa.Column("sealed", sa.LargeBinary(), nullable=True),
        sa.Column("put_at", sa.BigInteger(), nullable=False),
        sa.Column("put_by", sa.String(length=80), nullable=False),
        sa.Column("tested_at", sa.BigInteger(), nullable=True),
        sa.Column("told", sa.Text(), nullable=False),
        sa.Column("failing_since", sa.BigInteger(), nullable=True),
        sa.PrimaryKeyConstraint("name"),
    )
