"""The first tables."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    """Make the tables."""
    op.create_table(
        "changes",
        sa.Column("number", sa.BigInteger().with_variant(sa.Integer(), "sqlite"), autoincrement=True, nullable=False),
        sa.Column("kind", sa.String(length=12), nullable=False),
        sa.Column("ref", sa.String(length=60), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("number"),
    )
    op.create_table(
        "claims",
        sa.Column("record_type", sa.String(length=60), nullable=False),
        sa.Column("key", sa.String(length=400), nullable=False),
        sa.Column("item_id", sa.String(length=26), nullable=False),
        sa.Column("record_id", sa.String(length=26), nullable=False),
        sa.PrimaryKeyConstraint("record_type", "key"),
    )
    op.create_table(
        "flows",
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("created_at", sa.BigInteger(), nullable=False),
        sa.Column("running", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("name", "version"),
    )
    op.create_table(
        "items",
        sa.Column("id", sa.String(length=26), nullable=False),
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("intake", sa.String(length=40), nullable=False),
        sa.Column("identity", sa.String(length=200), nullable=False),
        sa.Column("sha256", sa.String(length=64), nullable=False),
        sa.Column("name", sa.String(length=255), nullable=False),
        sa.Column("size", sa.Integer(), nullable=False),
        sa.Column("received_at", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("flow", "intake", "identity"),
    )
    op.create_index("items_by_content", "items", ["flow", "sha256"], unique=False)
    op.create_table(
        "people",
        sa.Column("name", sa.String(length=80), nullable=False),
        sa.Column("password", sa.Text(), nullable=False),
        sa.Column("created_at", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("name"),
    )
    op.create_table(
        "record_types",
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("created_at", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("name", "version"),
    )
    op.create_table(
        "sessions",
        sa.Column("id_hash", sa.String(length=64), nullable=False),
        sa.Column("person", sa.String(length=80), nullable=False),
        sa.Column("csrf", sa.String(length=64), nullable=False),
        sa.Column("until", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("id_hash"),
    )
    op.create_table(
        "tokens",
        sa.Column("id", sa.String(length=26), nullable=False),
        sa.Column("name", sa.String(length=80), nullable=False),
        sa.Column("hash", sa.String(length=64), nullable=False),
        sa.Column("created_at", sa.BigInteger(), nullable=False),
        sa.Column("used_at", sa.BigInteger(), nullable=True),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("hash"),
    )
    op.create_table(
        "runs",
        sa.Column("id", sa.String(length=26), nullable=False),
        sa.Column("item_id", sa.String(length=26), nullable=False),
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("flow_version", sa.Integer(), nullable=False),
        sa.Column("state", sa.String(length=10), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("wake_at", sa.BigInteger(), nullable=True),
        sa.Column("owner", sa.String(length=60), nullable=True),
        sa.Column("epoch", sa.Integer(), nullable=False),
        sa.Column("lease_until", sa.BigInteger(), nullable=True),
        sa.Column("entries", sa.Integer(), nullable=False),
        sa.Column("created_at", sa.BigInteger(), nullable=False),
        sa.Column("changed_at", sa.BigInteger(), nullable=False),
        sa.Column("settled_at", sa.BigInteger(), nullable=True),
        sa.Column("calls", sa.Integer(), nullable=False),
        sa.Column("input_tokens", sa.Integer(), nullable=False),
        sa.Column("output_tokens", sa.Integer(), nullable=False),
        sa.Column("cost", sa.String(length=40), nullable=False),
        sa.ForeignKeyConstraint(
            ["item_id"],
            ["items.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("runs_by_state", "runs", ["state", "id"], unique=False)
    op.create_index("runs_of_item", "runs", ["item_id"], unique=False)
    op.create_index("runs_to_wake", "runs", ["state", "wake_at"], unique=False)
    op.create_table(
        "deliveries",
        sa.Column("key", sa.String(length=500), nullable=False),
        sa.Column("destination", sa.String(length=300), nullable=False),
        sa.Column("run_id", sa.String(length=26), nullable=False),
        sa.Column("path", sa.String(length=400), nullable=False),
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("flow_version", sa.Integer(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("target", sa.String(length=60), nullable=False),
        sa.Column("values", sa.LargeBinary(), nullable=False),
        sa.Column("state", sa.String(length=10), nullable=False),
        sa.Column("attempts", sa.Integer(), nullable=False),
        sa.Column("most_attempts", sa.Integer(), nullable=False),
        sa.Column("not_before", sa.BigInteger(), nullable=False),
        sa.Column("begun_at", sa.BigInteger(), nullable=False),
        sa.Column("done_at", sa.BigInteger(), nullable=True),
        sa.Column("receipt", sa.Text(), nullable=True),
        sa.Column("error", sa.Text(), nullable=True),
        sa.ForeignKeyConstraint(
            ["run_id"],
            ["runs.id"],
        ),
        sa.PrimaryKeyConstraint("key"),
    )
    op.create_index("deliveries_of_run", "deliveries", ["run_id"], unique=False)
    op.create_index("deliveries_to_do", "deliveries", ["destination", "state", "not_before"], unique=False)
    op.create_table(
        "journal",
        sa.Column("run_id", sa.String(length=26), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("event", sa.String(length=12), nullable=False),
        sa.Column("path", sa.String(length=400), nullable=False),
        sa.Column("kind", sa.String(length=12), nullable=False),
        sa.Column("kind_version", sa.Integer(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("took", sa.Integer(), nullable=True),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.ForeignKeyConstraint(
            ["run_id"],
            ["runs.id"],
        ),
        sa.PrimaryKeyConstraint("run_id", "number"),
    )
    op.create_table(
        "records",
        sa.Column("id", sa.String(length=26), nullable=False),
        sa.Column("run_id", sa.String(length=26), nullable=False),
        sa.Column("item_id", sa.String(length=26), nullable=False),
        sa.Column("path", sa.String(length=400), nullable=False),
        sa.Column("record_type", sa.String(length=60), nullable=False),
        sa.Column("type_version", sa.Integer(), nullable=False),
        sa.Column("state", sa.String(length=10), nullable=False),
        sa.Column("document", sa.String(length=64), nullable=False),
        sa.Column("model", sa.String(length=80), nullable=False),
        sa.Column("title", sa.String(length=200), nullable=False),
        sa.Column("words", sa.Text(), nullable=False),
        sa.Column("values", sa.LargeBinary(), nullable=False),
        sa.Column("evidence", sa.LargeBinary(), nullable=False),
        sa.Column("findings", sa.LargeBinary(), nullable=False),
        sa.Column("changes", sa.LargeBinary(), nullable=False),
        sa.Column("as_read", sa.LargeBinary(), nullable=False),
        sa.Column("created_at", sa.BigInteger(), nullable=False),
        sa.Column("reviewed_at", sa.BigInteger(), nullable=True),
        sa.Column("reviewed_by", sa.String(length=80), nullable=True),
        sa.Column("comment", sa.Text(), nullable=True),
        sa.ForeignKeyConstraint(
            ["item_id"],
            ["items.id"],
        ),
        sa.ForeignKeyConstraint(
            ["run_id"],
            ["runs.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("run_id", "path"),
    )
    op.create_index("records_by_state", "records", ["state", "id"], unique=False)
