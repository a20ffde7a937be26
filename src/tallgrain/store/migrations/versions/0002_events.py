"""Events: what happened to a printer, and which stations that made stale."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    """Create the events table."""
    op.create_table(
        "events",
        sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
        sa.Column("machine", sa.String, nullable=False),
        sa.Column("at", sa.String, nullable=False),
        sa.Column("kind", sa.String, nullable=False),
        sa.Column("note", sa.String, nullable=False),
        sa.Column("stale", sa.JSON, nullable=False),
        sa.Column("withdrawn_at", sa.String),
        sqlite_autoincrement=True,
    )
    op.create_index("ix_events_machine", "events", ["machine"])
