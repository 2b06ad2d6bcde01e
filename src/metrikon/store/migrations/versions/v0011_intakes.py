"""Where intakes stand, what they let go, what came with an item; calls by connections."""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    """Add the tables and the columns."""
    op.add_column("items", sa.Column("data", sa.LargeBinary(), nullable=True))
    op.add_column("items", sa.Column("body", sa.LargeBinary(), nullable=True))
    op.add_column("samples", sa.Column("data", sa.LargeBinary(), nullable=True))
    op.create_table(
        "intakes",
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("name", sa.String(length=40), nullable=False),
        sa.Column("place", sa.Text(), nullable=False),
        sa.Column("said", sa.String(length=32), nullable=False),
        sa.Column("agreed", sa.Boolean(), nullable=False),
        sa.Column("would", sa.LargeBinary(), nullable=True),
        sa.Column("cursor", sa.LargeBinary(), nullable=True),
        sa.Column("taken", sa.Integer(), nullable=False),
        sa.Column("let_go", sa.Integer(), nullable=False),
        sa.Column("looked_at", sa.BigInteger(), nullable=True),
        sa.Column("told", sa.Text(), nullable=False),
        sa.Column("failing_since", sa.BigInteger(), nullable=True),
        sa.Column("address", sa.String(length=64), nullable=True),
        sa.Column("sealed", sa.LargeBinary(), nullable=True),
        sa.PrimaryKeyConstraint("flow", "name"),
    )
    op.create_index("intakes_by_address", "intakes", ["address"], unique=True)
    op.create_table(
        "let_go",
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("intake", sa.String(length=40), nullable=False),
        sa.Column("identity", sa.String(length=200), nullable=False),
        sa.Column("name", sa.String(length=255), nullable=False),
        sa.Column("came_at", sa.BigInteger(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("why", sa.Text(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=True),
        sa.Column("body", sa.LargeBinary(), nullable=True),
        sa.PrimaryKeyConstraint("flow", "intake", "identity"),
    )
    op.create_index("let_go_latest", "let_go", ["flow", "intake", "at"])
    op.create_table(
        "outside_calls",
        sa.Column("number", sa.BigInteger().with_variant(sa.Integer(), "sqlite"), nullable=False, autoincrement=True),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("connection", sa.String(length=60), nullable=False),
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("method", sa.String(length=12), nullable=False),
        sa.Column("address", sa.String(length=400), nullable=False),
        sa.Column("status", sa.Integer(), nullable=False),
        sa.Column("size", sa.Integer(), nullable=False),
        sa.Column("took", sa.Integer(), nullable=False),
        sa.Column("error", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("number"),
    )
    op.create_index("outside_calls_of", "outside_calls", ["connection", "number"])
