"""What the next first layer stands on: the coming print, what the printer holds, the ledger."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

import numpy as np

from tallgrain.core.held.surface import HeldSurface, Takes
from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.plausible import why_no_plate
from tallgrain.core.survey import Conditions, Survey
from tallgrain.journal.journal import Journal
from tallgrain.journal.printing import printing
from tallgrain.procedures.learning import PrinterLearnt, read_learnt
from tallgrain.seasons import PrinterSeason, read_season
from tallgrain.store.entries import MachineEvent
from tallgrain.store.ledger import Ledger

# A survey that covers less than this along an axis shows no plate (mm).
LEAST_MM = 20.0


@dataclass(frozen=True)
class Coming:
    """The coming print: the sheet that it lies on, temperatures (°C), layer as sliced (mm), and how
    long the plate soaks before it (min), and the box that it prints (None: all of the plate)."""

    sheet: str | None = None
    nozzle_c: float = 215.0
    plate_c: float = 60.0
    layer: float = 0.2
    box: Rectangle | None = None
    soak_min: float = 10.0

    @property
    def conditions(self) -> Conditions:
        """As a survey has them."""
        return Conditions(self.nozzle_c, self.plate_c, self.soak_min, self.sheet)


@dataclass(frozen=True)
class Holds:
    """What the printer itself holds, where it was asked: its trip height (mm); its surfaces by name
    as it follows them, the one that it uses ("": none), between which heights (mm) that fades, and
    what grids it takes. None: not asked, then the ledger's last word counts."""

    trip: float | None = None
    surfaces: Mapping[str, HeldSurface] | None = None
    using: str | None = None
    fades: tuple[float, float] | None = None
    takes: Takes | None = None


def coming(ledger: Ledger, machine: str, sheet: str | None, limits: tuple[float, float]) -> Coming:
    """As the builder prints, by what was said last."""
    low, high = limits
    layer = 0.2 if low < 0.2 < high else (low + high) / 2
    said = printing(Journal(ledger, machine))
    return Coming(sheet, said.nozzle_c, said.plate_c, said.layer or layer, soak_min=said.soak_min)


@dataclass(frozen=True)
class Ground:
    """What a situation stands on."""

    sheet: MachineSheet
    survey: Survey | None
    season: PrinterSeason
    learnt: PrinterLearnt
    events: tuple[MachineEvent, ...]
    journal: Journal
    now: datetime


def ground(
    ledger: Ledger,
    sheet: MachineSheet,
    now: datetime,
    on: str | None,
    season: PrinterSeason | None = None,
    learnt: PrinterLearnt | None = None,
) -> Ground:
    """Read it. on: the sheet on the plate; season, learnt: where they are known already."""
    season = season or read_season(ledger, sheet, on)
    ident = season.drift.idents[-1] if season.drift.idents else None
    if ident is None:
        ident = next((h.ident for h in reversed(season.rows.heads) if h.complete), None)
    survey = ledger.survey(ident) if ident is not None else None
    if survey is not None and shows_nothing(survey):
        survey = None
    learnt = learnt or read_learnt(ledger, sheet, season.rows)
    return Ground(sheet, survey, season, learnt, season.events, Journal(ledger, sheet.name), now)


def shows_nothing(survey: Survey) -> bool:
    """Whether a survey says nothing of a plate: too few points, on a line, or of no plate."""
    few = len(survey.points) < 4
    return (
        few
        or bool(why_no_plate(survey.xy, survey.heights))
        or bool((np.ptp(survey.xy, axis=0) < LEAST_MM).any())
    )
