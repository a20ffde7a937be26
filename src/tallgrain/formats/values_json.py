"""Values files: all that a printer stores, as JSON of our own; written before every change."""

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Annotated, Literal

from pydantic import AwareDatetime, BaseModel, ConfigDict, Field

from tallgrain.core.values import unit_of
from tallgrain.formats.own_json import parse_own
from tallgrain.textio import read_text, unwritable, write_text

Figure = Annotated[float, Field(ge=-10_000, le=10_000)]
# How many automatic backups of a printer are kept.
BACKUPS = 50


class _Record(BaseModel):
    model_config = ConfigDict(extra="allow", allow_inf_nan=False)


class ValueRecord(_Record):
    """One value: the printer's own name and figures; its meaning, and what is live in Tall Grain's
    sign: live_mm for a length, live_mrad for a skew, live_deg for an angle."""

    name: str
    meaning: str = ""
    live: float
    kept: float | None = None
    live_mm: Figure | None = None
    live_mrad: Figure | None = None
    live_deg: Figure | None = None

    @property
    def ours(self) -> float | None:
        """What is live, in Tall Grain's sign and unit."""
        told = (self.live_mm, self.live_mrad, self.live_deg)
        return next((v for v in told if v is not None), None)


_KEYS = {"mm": "live_mm", "mrad": "live_mrad", "°": "live_deg"}


def value_record(
    name: str, meaning: str, live: float, kept: float | None, ours: float
) -> ValueRecord:
    """One value, in the unit that its meaning is told in."""
    return ValueRecord.model_validate(
        {
            "name": name,
            "meaning": meaning,
            "live": live,
            "kept": kept,
            _KEYS[unit_of(meaning)]: ours,
        }
    )


class ValuesRecord(_Record):
    """The file."""

    format: Literal["tallgrain-values"] = "tallgrain-values"
    version: Literal[1] = 1
    machine: str
    taken_at: AwareDatetime
    why: str = ""
    values: Annotated[tuple[ValueRecord, ...], Field(min_length=1)]

    def ours(self) -> dict[str, float]:
        """Live values by meaning, in Tall Grain's sign."""
        return {v.meaning: v.ours for v in self.values if v.meaning and v.ours is not None}


def write_values(path: Path, record: ValuesRecord) -> None:
    """Write it in one step: a crash leaves the old file or the new one. Raises JobError."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise unwritable(path.parent, error) from None
    write_text(path, record.model_dump_json(indent=1) + "\n")


def read_values(path: Path) -> ValuesRecord:
    """A values file. Raises InputError."""
    return parse_values(read_text(path), str(path))


def parse_values(text: str, where: str) -> ValuesRecord:
    """A values file's text. Raises InputError."""
    return parse_own(text, where, "values", ValuesRecord)


def back_up(folder: Path, record: ValuesRecord) -> Path:
    """Write a backup beside the others of its printer, and let the oldest beyond BACKUPS go."""
    path = folder / f"{_stamp(record.taken_at)}.json"
    write_values(path, record)
    for old in backups(folder)[:-BACKUPS]:
        old.unlink(missing_ok=True)
    return path


def backups(folder: Path) -> Sequence[Path]:
    """A printer's backups, oldest first."""
    return sorted(folder.glob("values-*.json"))


def _stamp(when: datetime) -> str:
    return f"values-{when:%Y%m%d-%H%M%S-%f}"
