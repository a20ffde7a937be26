"""Touches that do not count, first places touched again, and a drift that is taken out."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    """Add what a survey tells of its own quality."""
    op.add_column(
        "touches", sa.Column("counts", sa.Boolean, nullable=False, server_default=sa.true())
    )
    op.add_column("surveys", sa.Column("drift_rate_mm", sa.Float))
    op.create_table(
        "rechecks",
        sa.Column("survey", sa.Integer, sa.ForeignKey("surveys.id"), primary_key=True),
        sa.Column("after", sa.Integer, primary_key=True),
        sa.Column("touch", sa.Integer, primary_key=True),
        sa.Column("z", sa.Float, nullable=False),
    )
