"""What a delivery is for, what was there before it, and what is there otherwise; states by the names of the table of moves. What records held before."""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"
STATES = {"to do": "entered", "done": "written", "given up": "failed"}


def upgrade() -> None:
    """Add the columns and the table of record versions, and rename the states."""
    op.add_column("deliveries", sa.Column("kind", sa.String(length=10), nullable=False, server_default="row"))
    op.add_column("deliveries", sa.Column("purpose", sa.String(length=10), nullable=False, server_default="write"))
    op.add_column("deliveries", sa.Column("asks", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("deliveries", sa.Column("over", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("deliveries", sa.Column("only", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("deliveries", sa.Column("moved_from", sa.String(length=500), nullable=True))
    op.add_column("deliveries", sa.Column("differs", sa.LargeBinary(), nullable=True))
    op.add_column("deliveries", sa.Column("result", sa.LargeBinary(), nullable=True))
    op.add_column("deliveries", sa.Column("before", sa.LargeBinary(), nullable=True))
    op.execute("UPDATE deliveries SET purpose = 'set' WHERE key LIKE '%+set-%'")
    op.execute("UPDATE deliveries SET over = 1 WHERE how LIKE '%over%'")
    op.execute("UPDATE deliveries SET only = 1 WHERE how LIKE '%only%'")
    for before, now in STATES.items():
        op.execute(f"UPDATE deliveries SET state = '{now}' WHERE state = '{before}'")
    op.drop_column("deliveries", "how")
    op.create_table(
        "record_versions",
        sa.Column("id", sa.Integer(), nullable=False, autoincrement=True),
        sa.Column("record_id", sa.String(length=26), nullable=False),
        sa.Column("values", sa.LargeBinary(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("by", sa.String(length=80), nullable=False),
        sa.Column("comment", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("record_versions_of", "record_versions", ["record_id", "id"])
