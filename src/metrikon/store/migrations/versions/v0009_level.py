"""Judgements as they were given and set right, the anchors of criteria, and what judging again came to."""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    """Add the tables."""
    op.create_table(
        "judgements",
        sa.Column("id", sa.String(length=26), nullable=False),
        sa.Column("run_id", sa.String(length=26), nullable=False),
        sa.Column("item_id", sa.String(length=26), nullable=False),
        sa.Column("path", sa.String(length=400), nullable=False),
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("flow_version", sa.Integer(), nullable=False),
        sa.Column("step", sa.String(length=40), nullable=False),
        sa.Column("criteria", sa.String(length=16), nullable=False),
        sa.Column("total", sa.Integer(), nullable=False),
        sa.Column("given", sa.LargeBinary(), nullable=False),
        sa.Column("result", sa.LargeBinary(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("corrected_at", sa.BigInteger(), nullable=True),
        sa.Column("corrected_by", sa.String(length=80), nullable=True),
        sa.Column("comment", sa.Text(), nullable=True),
        sa.ForeignKeyConstraint(["run_id"], ["runs.id"]),
        sa.ForeignKeyConstraint(["item_id"], ["items.id"]),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("run_id", "path"),
    )
    op.create_index("judgements_of_flow", "judgements", ["flow", "step", "total"])
    op.create_index("judgements_of_item", "judgements", ["item_id", "path", "id"])
    op.create_table(
        "anchors",
        sa.Column("id", sa.String(length=26), nullable=False),
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("criteria", sa.String(length=16), nullable=False),
        sa.Column("anchors", sa.LargeBinary(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("by", sa.String(length=80), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("anchors_of_criteria", "anchors", ["flow", "criteria", "id"])
    op.create_table(
        "rejudgings",
        sa.Column("id", sa.String(length=26), nullable=False),
        sa.Column("flow", sa.String(length=60), nullable=False),
        sa.Column("flow_version", sa.Integer(), nullable=False),
        sa.Column("step", sa.String(length=40), nullable=False),
        sa.Column("criteria", sa.String(length=16), nullable=False),
        sa.Column("anchors", sa.LargeBinary(), nullable=False),
        sa.Column("renewed", sa.Boolean(), nullable=False),
        sa.Column("judgements", sa.LargeBinary(), nullable=False),
        sa.Column("state", sa.String(length=10), nullable=False),
        sa.Column("problem", sa.Text(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("by", sa.String(length=80), nullable=False),
        sa.Column("taken_at", sa.BigInteger(), nullable=True),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "rejudged",
        sa.Column("rejudging_id", sa.String(length=26), nullable=False),
        sa.Column("judgement_id", sa.String(length=26), nullable=False),
        sa.Column("result", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("rejudging_id", "judgement_id"),
    )
