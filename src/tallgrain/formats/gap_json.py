"""Gap files: gauge touches and trial prints, as JSON of our own."""

from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from tallgrain.core.solve.gap import FeelWord, GaugeLoop, GaugeTouch, Trial, Verdict
from tallgrain.errors import InputError
from tallgrain.formats.own_json import parse_own
from tallgrain.textio import read_text

Length = Annotated[float, Field(ge=-100, le=100)]
Thickness = Annotated[float, Field(gt=0, lt=3)]
Small = Annotated[float, Field(gt=0, le=1)]


class _Record(BaseModel):
    model_config = ConfigDict(extra="allow", allow_inf_nan=False)


class TouchRecord(_Record):
    """One gauge touch."""

    z: Length
    feel: FeelWord
    gauge_mm: Thickness | None = None
    trip_z_mm: Length | None = None


class TrialRecord(_Record):
    """One trial print."""

    trip_height_mm: Length
    verdict: Verdict
    first_layer_mm: Annotated[float, Field(gt=0.02, le=2)] = 0.2


class GapRecord(_Record):
    """The file. trip_height_mm is what the printer held while the touches were made."""

    format: Literal["tallgrain-gap"]
    version: Literal[1]
    trip_height_mm: Length
    z_step_mm: Small = 0.0025
    gauge_mm: Thickness = 0.1
    gauge_tolerance_mm: Annotated[float, Field(ge=0, le=0.5)] = 0.005
    probe_s_r_mm: Annotated[float, Field(ge=0, le=1)] = 0.003
    growth_mm: Annotated[float, Field(ge=0, le=1)] = 0.0
    settle_mm: Annotated[float, Field(ge=0, le=1)] = 0.0
    touches: tuple[TouchRecord, ...] = ()
    trials: tuple[TrialRecord, ...] = ()


def read_gap(path: Path) -> tuple[GaugeLoop, tuple[Trial, ...], float]:
    """A gap file: what was felt, what was tried, and the gauge. Raises InputError."""
    return parse_gap(read_text(path), str(path))


def parse_gap(text: str, where: str) -> tuple[GaugeLoop, tuple[Trial, ...], float]:
    """read_gap, from the text."""
    record = parse_own(text, where, "gap", GapRecord)
    touches = tuple(
        GaugeTouch(t.z, t.feel, record.gauge_mm if t.gauge_mm is None else t.gauge_mm, t.trip_z_mm)
        for t in record.touches
    )
    loop = GaugeLoop(
        record.trip_height_mm,
        touches,
        record.z_step_mm,
        record.gauge_tolerance_mm,
        record.probe_s_r_mm,
        record.growth_mm,
        record.settle_mm,
    )
    trials = tuple(Trial(t.trip_height_mm, t.verdict, t.first_layer_mm) for t in record.trials)
    if not touches and not trials:
        raise InputError("nothing was felt or tried yet.", where, "Add touches or trials.")
    return loop, trials, record.gauge_mm
