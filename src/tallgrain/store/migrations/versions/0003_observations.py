"""Observations: what a person saw and a routine found at a printer, dated."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    """Create the observations table."""
    op.create_table(
        "observations",
        sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
        sa.Column("machine", sa.String, nullable=False),
        sa.Column("at", sa.String, nullable=False),
        sa.Column("topic", sa.String, nullable=False),
        sa.Column("item", sa.String, nullable=False),
        sa.Column("outcome", sa.String, nullable=False),
        sa.Column("note", sa.String, nullable=False),
        sa.Column("figures", sa.JSON, nullable=False),
        sqlite_autoincrement=True,
    )
    op.create_index("ix_observations_machine", "observations", ["machine"])
