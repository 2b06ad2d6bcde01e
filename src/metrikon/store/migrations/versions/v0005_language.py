"""Decision tables, questions to people, events that runs wait for, paused flows; who put a flow, and why; runs that runs use."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    """Add the tables and columns."""
    op.add_column("flows", sa.Column("put_by", sa.String(length=80), nullable=True))
    op.add_column("flows", sa.Column("why", sa.Text(), nullable=True))
    op.add_column("runs", sa.Column("used_by", sa.String(length=26), nullable=True))
    op.add_column("runs", sa.Column("used_at", sa.String(length=400), nullable=True))
    op.add_column("runs", sa.Column("given", sa.LargeBinary(), nullable=True))
    op.create_index("runs_used", "runs", ["used_by"])
    op.create_table(
        "fetched",
        sa.Column("address", sa.String(length=64), nullable=False),
        sa.Column("page", sa.LargeBinary(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("address"),
    )
    op.create_table(
        "paused",
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("by", sa.String(length=80), nullable=False),
        sa.PrimaryKeyConstraint("flow"),
    )
    op.create_table(
        "decision_tables",
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("created_at", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("name", "version"),
    )
    op.create_table(
        "questions",
        sa.Column("id", sa.String(length=26), nullable=False),
        sa.Column("run_id", sa.String(length=26), nullable=False),
        sa.Column("item_id", sa.String(length=26), nullable=False),
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("path", sa.String(length=400), nullable=False),
        sa.Column("asked", sa.LargeBinary(), nullable=False),
        sa.Column("state", sa.String(length=10), nullable=False),
        sa.Column("asked_at", sa.BigInteger(), nullable=False),
        sa.Column("answered_at", sa.BigInteger(), nullable=True),
        sa.Column("answer", sa.String(length=40), nullable=True),
        sa.Column("answered_by", sa.String(length=80), nullable=True),
        sa.Column("comment", sa.Text(), nullable=True),
        sa.ForeignKeyConstraint(["run_id"], ["runs.id"]),
        sa.ForeignKeyConstraint(["item_id"], ["items.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("questions_by_state", "questions", ["state", "id"])
    op.create_index("questions_of_run", "questions", ["run_id"])
    op.create_table(
        "events",
        sa.Column("id", sa.String(length=26), nullable=False),
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("key", sa.String(length=200), nullable=False),
        sa.Column("identity", sa.String(length=200), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("taken", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("flow", "identity"),
    )
    op.create_index("events_to_take", "events", ["flow", "key", "taken"])
    op.create_table(
        "event_waits",
        sa.Column("run_id", sa.String(length=26), nullable=False),
        sa.Column("path", sa.String(length=400), nullable=False),
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("key", sa.String(length=200), nullable=False),
        sa.PrimaryKeyConstraint("run_id", "path"),
    )
    op.create_index("event_waits_for", "event_waits", ["flow", "key"])
