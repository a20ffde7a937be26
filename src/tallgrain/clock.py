"""The program's one wall clock, kept out of the core."""

from datetime import UTC, datetime


def now() -> datetime:
    """This instant, in UTC."""
    return datetime.now(UTC)
