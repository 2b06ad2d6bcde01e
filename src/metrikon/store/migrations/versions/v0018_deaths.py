"""Files that have ended the process that opened them; the file that a call of a model speaks of; how deep an item is."""

import sqlalchemy as sa
from alembic import op

revision = "0018"
down_revision = "0017"


def upgrade() -> None:
    """Make the table, and the column."""
    op.create_table(
        "deaths",
        sa.Column("sha256", sa.String(64), primary_key=True),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("count", sa.Integer(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("version", sa.String(20), nullable=False),
    )
    op.add_column("calls", sa.Column("about", sa.String(64), nullable=True))
    op.create_index("calls_about", "calls", ["about"])
    op.add_column("items", sa.Column("depth", sa.Integer(), nullable=False, server_default="0"))
