"""Samples of flows; what was forgotten, and its proof; when a question was brought to mind; back-fills."""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    """Add the tables and columns."""
    op.add_column("runs", sa.Column("forgotten_at", sa.BigInteger(), nullable=True))
    op.add_column("runs", sa.Column("behind", sa.Boolean(), nullable=False, server_default="0"))
    op.drop_index("runs_to_wake", "runs")
    op.create_index("runs_due", "runs", ["behind", "state", "wake_at"])
    op.add_column("questions", sa.Column("remind_at", sa.BigInteger(), nullable=True))
    op.add_column("questions", sa.Column("reminded", sa.Integer(), nullable=False, server_default="0"))
    op.create_index("questions_to_remind", "questions", ["state", "remind_at"])
    op.create_table(
        "samples",
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("why", sa.Text(), nullable=False),
        sa.Column("sha256", sa.String(length=64), nullable=False),
        sa.Column("file_name", sa.String(length=255), nullable=False),
        sa.Column("intake", sa.String(length=40), nullable=False),
        sa.Column("size", sa.Integer(), nullable=False),
        sa.Column("received_at", sa.BigInteger(), nullable=False),
        sa.Column("kept_at", sa.BigInteger(), nullable=False),
        sa.Column("kept_by", sa.String(length=80), nullable=False),
        sa.PrimaryKeyConstraint("flow", "name"),
    )
    op.create_index("samples_by_file", "samples", ["sha256"])
    op.create_table(
        "forgotten",
        sa.Column("id", sa.String(length=26), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("by", sa.String(length=80), nullable=False),
        sa.Column("proof", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
