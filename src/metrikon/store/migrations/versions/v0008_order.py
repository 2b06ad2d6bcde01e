"""What is ready is found by the time that it was begun."""

from alembic import op

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    """Add the index."""
    op.create_index("runs_ready", "runs", ["behind", "state", "id"])
