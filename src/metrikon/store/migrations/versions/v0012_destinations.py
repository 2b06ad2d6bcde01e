"""What a person has set in a row, and whether it is set all the same."""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    """Add the columns."""
    op.add_column("deliveries", sa.Column("over", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("deliveries", sa.Column("left", sa.LargeBinary(), nullable=True))
