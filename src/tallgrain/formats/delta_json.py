"""Delta files: heights probed under a stored geometry, as JSON of our own."""

from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from tallgrain.core.machine.sheet import Delta
from tallgrain.core.solve.delta import DISTANCE_U_MM, PrintedDistance
from tallgrain.core.solve.delta_geometry import DEFAULT_FREE, DeltaGeometry, geometry_of
from tallgrain.core.survey import Floats
from tallgrain.formats.own_json import parse_own
from tallgrain.textio import read_text

Place = Annotated[float, Field(ge=-10_000, le=10_000)]
Pair = tuple[Place, Place]
Reading = Annotated[float, Field(gt=0, le=10_000)]


class _Record(BaseModel):
    model_config = ConfigDict(extra="allow", allow_inf_nan=False, populate_by_name=True)


class PointRecord(_Record):
    """A commanded place and the height that was probed there (mm)."""

    x: Place
    y: Place
    z: Annotated[float, Field(ge=-100, le=100)]


class DistanceRecord(_Record):
    """A distance measured on something printed, between commanded places (mm)."""

    start: Annotated[Pair, Field(alias="from")]
    end: Annotated[Pair, Field(alias="to")]
    measured_mm: (
        Annotated[float, Field(gt=0)]
        | Annotated[list[Annotated[float, Field(gt=0)]], Field(min_length=1)]
    )
    u_mm: Annotated[float, Field(gt=0, le=10)] = DISTANCE_U_MM


class DeltaRecord(_Record):
    """The file."""

    format: Literal["tallgrain-delta"]
    version: Literal[1]
    current: Delta
    points: Annotated[list[PointRecord], Field(min_length=1, max_length=1_000_000)]
    distances: list[DistanceRecord] = []
    free: list[str] = list(DEFAULT_FREE)


@dataclass(frozen=True)
class DeltaFile:
    """What a file asks: heights (n,) at commanded places (n, 2) mm, and what is free."""

    current: DeltaGeometry
    xy: Floats
    heights: Floats
    distances: tuple[PrintedDistance, ...]
    free: tuple[str, ...]


def read_delta(path: Path) -> DeltaFile:
    """A delta file. Raises InputError."""
    return parse_delta(read_text(path), str(path))


def parse_delta(text: str, where: str) -> DeltaFile:
    """read_delta, from the text."""
    record = parse_own(text, where, "delta", DeltaRecord)
    distances = tuple(
        PrintedDistance(d.start, d.end, float(np.mean(d.measured_mm)), d.u_mm)
        for d in record.distances
    )
    points = np.array([(p.x, p.y, p.z) for p in record.points], dtype=float)
    return DeltaFile(
        geometry_of(record.current), points[:, :2], points[:, 2], distances, tuple(record.free)
    )
