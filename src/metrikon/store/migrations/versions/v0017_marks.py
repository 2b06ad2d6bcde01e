"""What a row is marked with when it is taken back, instead of being removed; whether it was handed over, and what came of it is to be asked; whether a correction takes it along."""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"


def upgrade() -> None:
    """Add the columns."""
    op.add_column("deliveries", sa.Column("mark", sa.LargeBinary(), nullable=True))
    op.add_column("deliveries", sa.Column("handed", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("deliveries", sa.Column("moves", sa.Boolean(), nullable=False, server_default=sa.true()))
    op.execute("UPDATE deliveries SET moves = 0 WHERE kind NOT IN ('row', 'file')")
    op.execute(
        "UPDATE records SET state = 'replaced' WHERE state IN ('approved', 'clear') AND EXISTS (SELECT 1 FROM records later"
        " JOIN runs own ON own.id = records.run_id JOIN runs newer ON newer.id = later.run_id"
        " WHERE later.item_id = records.item_id AND later.path = records.path AND later.record_type = records.record_type AND later.id > records.id"
        " AND later.state IN ('approved', 'clear') AND newer.flow = own.flow AND newer.used_at IS own.used_at)"
    )
