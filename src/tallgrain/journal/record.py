"""A record's figures as a class: what is missing gets its default, what is unknown is kept.

Another version may have written keys that are unknown here, or left out some that are known. A key
that is needed and missing keeps that one entry from being read; whatever else is odd about it gets
the default. What is unknown stays with the record and goes back into the ledger with it.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from math import isfinite
from typing import Any, ClassVar, Generic, Self, TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError

VERSION = "version"


class Record(BaseModel):
    """The figures of one observation. A class for each topic, or for each kind of outcome of it."""

    model_config = ConfigDict(
        frozen=True, extra="allow", strict=True, allow_inf_nan=False, defer_build=True
    )
    topic: ClassVar[str]
    outcomes: ClassVar[tuple[str, ...]] = ()  # which of the topic's outcomes it is for; () for all
    written: ClassVar[int] = 1  # the version of its keys
    # Shown at a printer that this computer is linked to, and good for nothing else: the order of
    # entry is its order, whatever the clock said, and no pack brings it.
    local: ClassVar[bool] = False

    @classmethod
    def of(cls, stored: object) -> Self | None:
        """Figures as the ledger has them; None where what is needed is not there."""
        figures = dict(stored) if isinstance(stored, dict) else {}
        figures.pop(VERSION, None)
        try:
            return cls.model_validate(figures)
        except ValidationError as error:
            for problem in error.errors():
                figures.pop(problem["loc"][0], None)
        try:
            return cls.model_validate(figures)
        except ValidationError:
            return None

    def stored(self) -> dict[str, Any]:
        """As the ledger keeps it; unknown keys go along."""
        return {**self.model_dump(), VERSION: self.written}


class Named(Record):
    """Figures by names that a builder or a printer gave."""

    @property
    def by_name(self) -> dict[str, float]:
        """Every figure that is one, by its name."""
        return {
            name: float(value)
            for name, value in (self.model_extra or {}).items()
            if isinstance(value, int | float) and not isinstance(value, bool) and isfinite(value)
        }


R = TypeVar("R", bound=Record)


@dataclass(frozen=True)
class Entry(Generic[R]):
    """One observation: when, of what, what came of it, in words, and its figures."""

    at: datetime
    item: str
    outcome: str
    note: str
    figures: R
    number: int = 0


def kind_of(kinds: Sequence[type[Record]], outcome: str) -> type[Record] | None:
    """Which of several records an outcome is told by."""
    return next((k for k in kinds if not k.outcomes or outcome in k.outcomes), None)
