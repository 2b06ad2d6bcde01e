"""Delivery keys are exact: their parts are kept beside them, and who else waits for a row."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    """Add the column and the table."""
    op.add_column("deliveries", sa.Column("parts", sa.LargeBinary(), nullable=True))
    op.create_table(
        "delivery_waits",
        sa.Column("key", sa.String(length=500), nullable=False),
        sa.Column("run_id", sa.String(length=26), nullable=False),
        sa.Column("path", sa.String(length=400), nullable=False),
        sa.PrimaryKeyConstraint("run_id", "path"),
    )
    op.create_index("delivery_waits_for", "delivery_waits", ["key"])
