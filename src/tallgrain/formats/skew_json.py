"""Skew files: distances measured on a printed gauge, as JSON of our own."""

from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from tallgrain.core.solve.skew import Distance, Gauge, Plane, Side
from tallgrain.formats.own_json import parse_own
from tallgrain.textio import read_text

Place = Annotated[float, Field(ge=-10_000, le=10_000)]
Reading = Annotated[float, Field(gt=0, le=10_000)]


class _Record(BaseModel):
    model_config = ConfigDict(extra="allow", allow_inf_nan=False, populate_by_name=True)


class DistanceRecord(_Record):
    """One distance, read once or several times (mm)."""

    start: Annotated[str, Field(alias="from", min_length=1)]
    end: Annotated[str, Field(alias="to", min_length=1)]
    measured_mm: Reading | Annotated[list[Reading], Field(min_length=1)]
    u_mm: Annotated[float, Field(gt=0, le=10)] | None = None
    side: Side = "outside"


class FitRecord(_Record):
    """What is solved for beside the skew."""

    scale: bool = True
    bias: bool = False


class SkewRecord(_Record):
    """The file. points: where each was commanded, in the plane (mm)."""

    format: Literal["tallgrain-skew"]
    version: Literal[1]
    plane: Plane = "xy"
    points: dict[str, tuple[Place, Place]]
    distances: Annotated[list[DistanceRecord], Field(min_length=1, max_length=10_000)]
    fit: FitRecord = FitRecord()


def read_skew(path: Path) -> Gauge:
    """A skew file. Raises InputError."""
    return parse_skew(read_text(path), str(path))


def parse_skew(text: str, where: str) -> Gauge:
    """read_skew, from the text."""
    record = parse_own(text, where, "skew", SkewRecord)
    distances = tuple(
        Distance(
            d.start,
            d.end,
            tuple(d.measured_mm) if isinstance(d.measured_mm, list) else (d.measured_mm,),
            d.u_mm,
            d.side,
        )
        for d in record.distances
    )
    return Gauge(record.plane, record.points, distances, record.fit.scale, record.fit.bias)
