"""When a survey or a printer that was entered by mistake was put away."""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    """Add the two columns."""
    for table in ("surveys", "machines"):
        op.add_column(table, sa.Column("withdrawn_at", sa.String))
