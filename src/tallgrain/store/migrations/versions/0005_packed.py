"""A survey's heights in one piece beside its points, so that a season of them is read at once."""

import sqlalchemy as sa
from alembic import op

from tallgrain.store.packed import pack

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    """Create the table and fill it from the surveys that have ended."""
    op.create_table(
        "packed",
        sa.Column("survey", sa.Integer, sa.ForeignKey("surveys.id"), primary_key=True),
        sa.Column("heights", sa.LargeBinary, nullable=False),
        sa.Column("squares", sa.Float, nullable=False),
        sa.Column("freedom", sa.Integer, nullable=False),
    )
    connection = op.get_bind()
    ended = connection.execute(sa.text("SELECT id FROM surveys WHERE state != 'running'"))
    for (number,) in ended.fetchall():
        pack(connection, number)
