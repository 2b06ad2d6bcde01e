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
    op.execute(  # of the records that several runs of an item have read by one step only the last counts
        "UPDATE records SET state = 'replaced' WHERE state IN ('approved', 'clear') AND id NOT IN (SELECT max(last.id) FROM records last"
        " JOIN runs ON runs.id = last.run_id WHERE last.state IN ('approved', 'clear')"
        " GROUP BY last.item_id, last.path, last.record_type, runs.flow, coalesce(runs.used_at, ''))"
    )
