"""What a printer and its builder's hand turned out to be like, from the ledger's own records."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from itertools import pairwise
from typing import Any

import numpy as np

from tallgrain.core.drift.judged import whole_terms
from tallgrain.core.drift.season import SeasonRows, like
from tallgrain.core.learnt import Bias, Learnt, learnt_bias, learnt_reference, learnt_scatter
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.solve.gap import (
    HAND_BIAS_MM,
    HAND_MM,
    HAND_WEIGHT,
    GaugeLoop,
    GaugeTouch,
    Trial,
)
from tallgrain.core.surface.compare import Noise
from tallgrain.core.surface.quality import series_drift
from tallgrain.core.survey import Floats
from tallgrain.journal.journal import Journal
from tallgrain.journal.record import Entry
from tallgrain.journal.records import GapSolved, SeriesFound, TrialPrinted
from tallgrain.procedures.trials import trial_of, trials_kept
from tallgrain.store.entries import MachineEvent
from tallgrain.store.ledger import Ledger

# What was long ago says little of today: so many surveys and sittings back.
NEWEST, SITTINGS = 60, 60
# Surveys further apart may lie apart for more reasons than their references.
NEXT_DAYS = 14.0
# So many surveys back are asked what their first place did while they were made.
CREEPS = 20


# By how much a survey creeps from its first touch to its last where nothing was learnt of it (one
# standard deviation, mm).
CREEP_MM = 0.01


@dataclass(frozen=True)
class PrinterLearnt:
    """Of one printer: what a touch and a reference scatter by, and how far the first place moves
    while a survey is made; of its builder's hand: what one grip scatters by, and how far off it
    is."""

    touch: Learnt
    reference: Learnt
    creep: Learnt
    hand: Learnt
    bias: Bias

    def sheet(self, sheet: MachineSheet) -> MachineSheet:
        """The sheet with its figures as they were learnt, for what judges; never to be stored."""
        return with_touch(sheet, self.touch.s, self.reference.s)

    def noise(self, sheet: MachineSheet, sigma: float | None = None) -> Noise:
        """For comparing two surveys of it."""
        known = self.sheet(sheet)
        return Noise.of_sheet(known, sigma, self.reference.freedom)

    def loop(
        self, sheet: MachineSheet, t_set: float, touches: Sequence[GaugeTouch], **known: Any
    ) -> GaugeLoop:
        """What this hand felt at this printer."""
        return GaugeLoop(
            t_set,
            tuple(touches),
            z_step=sheet.travel.z_step,
            probe_s_r=self.touch.s,
            reference=self.reference.s,
            hand_bias=self.bias.size,
            hand_s=self.hand.s,
            hand_freedom=self.hand.freedom,
            **known,
        )


@dataclass(frozen=True)
class Line:
    """One thing that is known: its code, what it is, the figure with its 95 % limits and what was
    stated before (mm), what it rests on, and what it is used for."""

    code: str
    name: str
    mm: float
    low: float
    high: float
    stated: float
    learnt: bool
    rests_on: str
    used_for: str


def lines(learnt: PrinterLearnt, sheet: MachineSheet) -> tuple[Line, ...]:
    """What a printer and a hand are like, as the window and `tallgrain learnt` tell it."""
    before = stated(sheet)
    made = [
        _line("touch", "One touch scatters by", learnt.touch, before.touch,
              "{seen:,} repeats on {times} days",
              "every ± of a height"),
        _line("reference", "A new reference scatters by", learnt.reference, before.reference,
              "{seen} times from a survey to the next", "comparing, the gap, the first layer"),
        _line("creep", "While it surveys, its first place moves", learnt.creep, before.creep,
              "{times} surveys that touched it again", "what a survey can't show, the first layer"),
        _line("hand", "One grip of your hand scatters by", learnt.hand, before.hand,
              "{times} sittings with a gauge", "the gap"),
    ]  # fmt: skip
    off, told = learnt.bias, learnt.bias.sittings
    rests = f"{told} sittings and the prints after them" if told else "assumed"
    made.append(
        Line("bias", "Your grips lie off your prints by", off.mm, off.mm - 2 * off.u,
             off.mm + 2 * off.u, 0.0, told > 0, rests, "the gap")
    )  # fmt: skip
    if not sheet.probe.there:
        made = [line for line in made if line.code != "creep"]
    return tuple(made)


def _line(code: str, name: str, now: Learnt, was: Learnt, of: str, used: str) -> Line:
    rests = of.format(seen=now.seen, times=now.occasions) if now.seen else "assumed"
    return Line(code, name, now.s, now.low, now.high, was.s, now.seen > 0, rests, used)


def stated(sheet: MachineSheet) -> PrinterLearnt:
    """As long as nothing was seen."""
    r = sheet.probe.repeatability
    return PrinterLearnt(
        learnt_scatter((), (), r.s_r),
        learnt_reference(np.zeros(0), r.s_between),
        learnt_scatter((), (), CREEP_MM),
        learnt_scatter((), (), HAND_MM, HAND_WEIGHT),
        Bias(0.0, HAND_BIAS_MM, 0),
    )


def read_learnt(
    ledger: Ledger, sheet: MachineSheet, rows: SeasonRows | None = None
) -> PrinterLearnt:
    """From the surveys of a printer, and from all sittings of a hand at any. rows: its season,
    where it was read already."""
    rows = ledger.season(sheet.name) if rows is None else rows
    hand, bias = _hand(ledger)
    r = sheet.probe.repeatability
    changes = _changes(rows, sheet, ledger.events(sheet.name))
    return PrinterLearnt(
        learnt_touch(ledger, sheet),
        learnt_reference(changes, r.s_between),
        _creep(ledger, rows, r.s_r),
        hand,
        bias,
    )


def learnt_touch(ledger: Ledger, sheet: MachineSheet) -> Learnt:
    """What one touch scatters by, from the repeats of its surveys and series."""
    seen = ledger.repeats(sheet.name)[-NEWEST:]
    squares, freedom = [s for s, _ in seen], [n for _, n in seen]
    for series in Journal(ledger, sheet.name).read(SeriesFound)[-NEWEST:]:
        found = series.figures
        if found.touches > 2 and not found.retracted:
            squares.append(found.s_r**2 * (found.touches - 1))
            freedom.append(found.touches - 1)
    return learnt_scatter(squares, freedom, sheet.probe.repeatability.s_r)


def as_learnt(ledger: Ledger, sheet: MachineSheet) -> MachineSheet:
    """The sheet with what a touch was learnt to scatter by, for what judges; never to be stored."""
    return with_touch(sheet, learnt_touch(ledger, sheet).s)


def with_touch(sheet: MachineSheet, s_r: float, s_between: float | None = None) -> MachineSheet:
    """The sheet with another scatter of a touch, and of a reference (mm)."""
    known = sheet.probe.repeatability.model_copy(update={"s_r": s_r})
    if s_between is not None:
        known = known.model_copy(update={"s_between": s_between})
    probe = sheet.probe.model_copy(update={"repeatability": known})
    return sheet.model_copy(update={"probe": probe})


def _changes(rows: SeasonRows, sheet: MachineSheet, events: Sequence[MachineEvent]) -> Floats:
    """Of the level from each whole survey to the next that is like it (n,) mm, with no event
    between."""
    level = whole_terms(rows, sheet)[:, 0] if rows.heads else np.zeros(0)
    whole = [i for i, h in enumerate(rows.heads) if h.complete and np.isfinite(level[i])]
    found = []
    for i, j in pairwise(whole):
        one, other = rows.heads[i], rows.heads[j]
        near = (other.taken_at - one.taken_at).total_seconds() < NEXT_DAYS * 86400
        calm = not any(one.taken_at < e.at <= other.taken_at for e in events)
        if near and calm and like(one.conditions, other.conditions):
            found.append(level[j] - level[i])
    return np.array(found[-NEWEST:])


def _creep(ledger: Ledger, rows: SeasonRows, s_r: float) -> Learnt:
    """How far the first place moves from a survey's begin to its end."""
    squares, freedom = [], []
    for head in rows.heads[-CREEPS:]:
        seen = series_drift(ledger.survey(head.ident), s_r)
        if seen is not None:
            squares.append(max(seen.mm**2 - seen.u_mm**2, 0.0))
            freedom.append(1)
    return learnt_scatter(squares, freedom, CREEP_MM)


def _hand(ledger: Ledger) -> tuple[Learnt, Bias]:
    """A ledger has one builder: the hand is the same at every printer."""
    squares, freedom, told = [], [], []
    for name, _ in ledger.machines():
        journal = Journal(ledger, name)
        sittings = _sittings(journal.read(GapSolved))[-SITTINGS:]
        kept, events = trials_kept(journal), ledger.events(name)
        for k, sitting in enumerate(sittings):
            found = sitting.figures
            squares.append(found.hand**2 * found.freedom)
            freedom.append(found.freedom)
            over = [e.at for e in events if "Gap" in e.stale] + [s.at for s in sittings[k + 1 :]]
            until = min((at for at in over if at > sitting.at), default=None)
            told.append((found.t, found.u, _trials(kept, sitting, until)))
    return learnt_scatter(squares, freedom, HAND_MM, HAND_WEIGHT), learnt_bias(told)


def _sittings(solved: Sequence[Entry[GapSolved]]) -> list[Entry[GapSolved]]:
    """The last entry of each: a sitting is entered anew with every feel."""
    ends = []
    for k, entry in enumerate(solved):
        after = solved[k + 1] if k + 1 < len(solved) else None
        if after is None or after.figures.feels <= entry.figures.feels:
            ends.append(entry)
    return ends


def _trials(
    kept: Sequence[Entry[TrialPrinted]], sitting: Entry[GapSolved], until: datetime | None
) -> list[Trial]:
    """The prints of the gap that a sitting felt, on its sheet, before something else counts."""
    return [
        trial_of(seen)
        for seen in kept
        if sitting.at < seen.at
        and (until is None or seen.at < until)
        and seen.figures.sheet == sitting.figures.sheet
    ]
