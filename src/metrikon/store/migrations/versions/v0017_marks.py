"""What a row is marked with when it is taken back, instead of being removed."""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"


def upgrade() -> None:
    """Add the column."""
    op.add_column("deliveries", sa.Column("mark", sa.LargeBinary(), nullable=True))
