"""Places that tell their own uncertainty: gauges felt by hand."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    """Add it."""
    op.add_column("points", sa.Column("u", sa.Float))
