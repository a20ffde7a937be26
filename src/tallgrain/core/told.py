"""What a result has to say beside its figures: sentences that are data too."""

from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class Told:
    """A sentence about a result, its code, and the figures in it (lengths in mm)."""

    code: str
    sentence: str
    figures: dict[str, float] = field(default_factory=dict)

    @property
    def document(self) -> dict[str, Any]:
        """As JSON tells it."""
        figures = {name: round(float(value), 6) for name, value in self.figures.items()}
        return {"code": self.code, "sentence": self.sentence, **figures}
