"""Calls of models: what was asked, what came back, what it cost."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    """Make the table."""
    op.create_table(
        "calls",
        sa.Column("id", sa.String(length=26), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("model", sa.String(length=120), nullable=False),
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("run_id", sa.String(length=26), nullable=False),
        sa.Column("stage", sa.String(length=12), nullable=False),
        sa.Column("request", sa.String(length=64), nullable=False),
        sa.Column("outcome", sa.String(length=10), nullable=False),
        sa.Column("prompt", sa.LargeBinary()),
        sa.Column("answer", sa.LargeBinary()),
        sa.Column("prompt_size", sa.Integer(), nullable=False),
        sa.Column("input_tokens", sa.Integer(), nullable=False),
        sa.Column("output_tokens", sa.Integer(), nullable=False),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("cost", sa.String(length=40), nullable=False),
        sa.Column("took", sa.Integer(), nullable=False),
        sa.Column("error", sa.Text()),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("calls_by_request", "calls", ["request", "id"])
    op.create_index("calls_of_run", "calls", ["run_id", "id"])
    op.create_index("calls_by_time", "calls", ["at"])
