"""A printer's stored season with all that can be told of it: for the window, reports and verbs."""

from dataclasses import dataclass
from datetime import datetime

from tallgrain.core.drift.charts import Signals, joint_signals
from tallgrain.core.drift.judged import Action, Drift, Noted, judge_season, whole_terms
from tallgrain.core.drift.scatter import ProbeTrend, probe_trend
from tallgrain.core.drift.season import SeasonRows
from tallgrain.core.drift.terms import SHAPES
from tallgrain.core.drift.thermal import Thermal, thermal_of
from tallgrain.core.drift.workshop import WorkshopRow, workshop_row
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import TallGrainError
from tallgrain.formats.machine_toml import parse_sheet
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import GapSolved
from tallgrain.store.entries import MachineEvent
from tallgrain.store.ledger import Ledger

# A survey of so few touches that it only asks which stored one still fits.
CHECK = "check"


@dataclass(frozen=True)
class PrinterSeason:
    """All stored surveys of a printer and its events; what changed among those that are like the
    newest (drift, one joint signal), what heat does, and how its probe went."""

    sheet: MachineSheet
    rows: SeasonRows
    events: tuple[MachineEvent, ...]
    drift: Drift
    signals: Signals | None
    thermal: Thermal | None
    trend: ProbeTrend | None

    @property
    def action(self) -> Action:
        """What to do next: a probe that got worse comes before what the bed seems to do."""
        worse = self.trend is not None and self.trend.worse_from is not None
        return "check the probe" if worse else self.drift.action

    @property
    def advice(self) -> str:
        """The next thing with its grounds, as a sentence."""
        said = self.drift.advice
        if self.trend is not None and self.trend.worse_from is not None:
            said = self.trend.sentence
        return said[:1].upper() + said[1:]


def read_season(
    ledger: Ledger,
    sheet: MachineSheet,
    on: str | None = None,
    base: tuple[int, int] | None = None,
    rows: SeasonRows | None = None,
) -> PrinterSeason:
    """Read and judge a printer's season; on: only surveys on this sheet; base: the surveys (first,
    one past the last, of those that are judged) that the builder takes as all being well; rows:
    the season, where it was read already."""
    rows = ledger.season(sheet.name) if rows is None else rows
    figures = whole_terms(rows, sheet)
    events = tuple(ledger.events(sheet.name))
    found = judge_season(rows, sheet, [Noted(e.at, e.kind, e.note) for e in events], on, figures)
    signals = joint_signals(found.figures[:, : len(SHAPES)], base or found.base)
    used = on
    if used is None and found.idents:
        newest = next(h for h in rows.heads if h.ident == found.idents[-1])
        used = newest.conditions.sheet
    # Touches of another sheet scatter alike: all surveys tell of the probe.
    quiet = found.idents[slice(*found.base)]
    return PrinterSeason(
        sheet,
        rows,
        events,
        found,
        signals,
        thermal_of(rows, sheet, used, quiet, figures),
        probe_trend(rows.heads),
    )


def last_gap(ledger: Ledger, machine: str) -> tuple[float, float] | None:
    """The newest trip height that was felt, and its standard uncertainty (mm)."""
    solved = Journal(ledger, machine).newest(GapSolved)
    return (solved.figures.t, solved.figures.u) if solved is not None else None


def workshop(ledger: Ledger, now: datetime) -> tuple[tuple[WorkshopRow, ...], tuple[str, ...]]:
    """Every printer's line, the most urgent first; and printers that can't be judged, with why."""
    lines, odd = [], []
    for name, text in ledger.machines():
        try:
            season = read_season(ledger, parse_sheet(text, f"sheet of {name}"))
        except TallGrainError as error:
            odd.append(f"{name}: {error}")
            continue
        last = season.drift.times[-1] if season.drift.times else None
        stale = [
            e.kind
            for e in season.events
            if last is not None and e.at > last and "Surface" in e.stale
        ]
        lines.append(
            workshop_row(
                name,
                season.drift,
                season.sheet.tolerance.flatness_mm,
                last_gap(ledger, name),
                now,
                stale,
            )
        )
    order = ("now", "soon", "later", "nothing")
    lines.sort(key=lambda row: order.index(row.urgency))
    return tuple(lines), tuple(odd)
