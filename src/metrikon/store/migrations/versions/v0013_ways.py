"""Ways in, and what was entered by them."""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    """Add the tables."""
    op.create_table(
        "ways",
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("created_at", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("name", "version"),
    )
    op.create_table(
        "entered",
        sa.Column("key", sa.String(length=400), nullable=False),
        sa.Column("run_id", sa.String(length=26), nullable=False),
        sa.Column("path", sa.String(length=400), nullable=False),
        sa.Column("state", sa.String(length=10), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("key"),
    )
