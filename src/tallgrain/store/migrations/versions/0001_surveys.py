"""Machines, surveys, points and touches."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    """Create the first tables."""
    op.create_table(
        "machines",
        sa.Column("name", sa.String, primary_key=True),
        sa.Column("sheet", sa.String, nullable=False),
        sa.Column("changed_at", sa.String, nullable=False),
    )
    op.create_table(
        "surveys",
        sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
        sa.Column("machine", sa.String, nullable=False),
        sa.Column("kind", sa.String, nullable=False),
        sa.Column("taken_at", sa.String, nullable=False),
        sa.Column("state", sa.String, nullable=False),
        sa.Column("ended_why", sa.String, nullable=False),
        sa.Column("columns", sa.Integer),
        sa.Column("rows", sa.Integer),
        sa.Column("planned", sa.Integer, nullable=False),
        sa.Column("samples", sa.Integer, nullable=False),
        sa.Column("nozzle_c", sa.Float),
        sa.Column("plate_c", sa.Float),
        sa.Column("soak_min", sa.Float),
        sa.Column("sheet", sa.String),
        sa.Column("note", sa.String, nullable=False),
        sa.Column("extra", sa.JSON, nullable=False),
        sqlite_autoincrement=True,
    )
    op.create_index("ix_surveys_machine", "surveys", ["machine"])
    op.create_index("ix_surveys_taken_at", "surveys", ["taken_at"])
    op.create_table(
        "points",
        sa.Column("survey", sa.Integer, sa.ForeignKey("surveys.id"), primary_key=True),
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("x", sa.Float, nullable=False),
        sa.Column("y", sa.Float, nullable=False),
        sa.Column("z", sa.Float),
    )
    op.create_table(
        "touches",
        sa.Column("survey", sa.Integer, sa.ForeignKey("surveys.id"), primary_key=True),
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("touch", sa.Integer, primary_key=True),
        sa.Column("z", sa.Float, nullable=False),
    )
