"""The Handover station's model: what the printer does not know yet, and how prints should begin."""

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime
from functools import partial
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain import __version__
from tallgrain.clock import now
from tallgrain.core.handover.check import Finding
from tallgrain.core.handover.policy import Cost, costs
from tallgrain.core.layer.acts import Advice
from tallgrain.core.plan.purge import purge_spot
from tallgrain.errors import InputError, TallGrainError
from tallgrain.link.connect import dialect_named, dialect_names
from tallgrain.link.console.dialect import Dialect
from tallgrain.procedures.handover import Chosen, StartBook, checked, start_text, summary
from tallgrain.ui.session.drift_work import DriftWork
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.surfaces_work import SurfacesWork
from tallgrain.ui.session.timers import follow
from tallgrain.ui.session.values_work import ValuesWork
from tallgrain.ui.widgets.value_words import NAMES, sided_figure
from tallgrain.ui.widgets.words import count_of, day_time, mm


class HandoverWork(QObject):
    """What the station tells; `changed` says that something of it is other."""

    changed = pyqtSignal()

    def __init__(
        self,
        session: Session,
        probe: ProbeWork,
        values: ValuesWork,
        drift: DriftWork,
        surfaces: SurfacesWork,
    ) -> None:
        super().__init__(session)
        self._session, self._probe, self.values, self._drift = session, probe, values, drift
        self.surfaces = surfaces
        self.began = now()
        self._other()
        follow(self.changed, values.changed, drift.changed, self.surfaces.changed)
        session.printer_changed.connect(self._other)

    def _other(self) -> None:
        """Another printer: the policy that was chosen for it last."""
        self._book = StartBook(self._session.journal)
        self.changed.emit()

    @property
    def chosen(self) -> Chosen:
        """How prints begin from now on."""
        return self._book.chosen

    # How a print begins

    @property
    def dialects(self) -> list[str]:
        """Dialects by name."""
        return dialect_names()

    @property
    def dialect(self) -> Dialect | None:
        """The one that the text is written in; None where it can't be read any more."""
        try:
            return dialect_named(self.chosen.dialect)
        except InputError:
            return None

    def choose(self, chosen: Chosen) -> None:
        """Begin prints so from now on; remembered."""
        if self._session.kept(partial(self._book.choose, chosen)):
            self.changed.emit()

    @property
    def recalls(self) -> bool:
        """Whether prints begin by recalling a surface."""
        return self.chosen.policy.compensation == "recall"

    @property
    def recalled(self) -> str:
        """Which one: this sheet's own, where the printer holds it; else the usual one."""
        return self.surfaces.recalled

    def surfaces_words(self) -> str:
        """What there is to say of the surface that prints recall; "" where it is held and kept."""
        work = self.surfaces
        if work.lost:
            return "The printer lost a surface: give it back on the Surfaces page."
        if work.unkept:
            return f"The surface {work.unkept[0].name} would be gone at power-off: keep it."
        if not self.recalls:
            return ""
        if self._session.printer is None:
            return ""
        if not work.able:
            return (
                "Its values are kept. This connection can't report stored surfaces: prints load "
                f"whatever the printer has stored as '{self.recalled}'."
            )
        one = {s.name: s for s in work.standings}.get(self.recalled)
        if one is None or one.held is None:
            return (
                f"Its values are kept, but it stores no surface '{self.recalled}' for prints to "
                "load: write one on the Surfaces page, or choose another way."
            )
        if one.state == "changed at the printer":
            return f"The surface {one.name} was changed at the printer: look at it."
        if wrong := work.wrong(one):
            return f"Touches say of the surface {one.name}: {wrong}. No print should recall it."
        return ""

    @property
    def holds_none(self) -> bool:
        """Whether the printer is known not to hold the surface that prints would recall."""
        work = self.surfaces
        if not (self.recalls and work.able and work.read.told is not None):
            return False
        one = {s.name: s for s in work.standings}.get(self.recalled)
        return one is None or one.held is None

    def text(self) -> str:
        """The start text. Raises InputError where it can't be written: also where it would recall a
        surface that the printer is known not to hold."""
        sheet, dialect = self._session.sheet, self.dialect
        if self.holds_none:
            raise InputError(
                f"the printer holds no surface '{self.recalled}' that it could recall.",
                "start",
                "Write one on the Surfaces page, or choose another way on the right.",
            )
        if sheet is None or dialect is None:
            raise InputError(
                f"there is no dialect '{self.chosen.dialect}'.", "start", "Choose another one."
            )
        # The print's own box, where a program was opened or a box drawn for the next survey.
        box = self._session.chosen.where.box
        policy = replace(self.chosen.policy, stored=self.recalled, box=box)
        if box is not None and self.chosen.policy.compensation == "area":
            spot = purge_spot(sheet, [box]).box
            policy = replace(policy, purge=None if spot is None else (*spot[:2], spot[2] - spot[0]))
        chosen = replace(self.chosen, policy=policy)
        return start_text(chosen, sheet, dialect, self.values.ours("trip_height"))

    def costs(self) -> tuple[Cost, ...]:
        """What each way costs and leaves, by the season's own figures."""
        sheet, season = self._session.sheet, self._drift.season
        if sheet is None:
            return ()
        bump, grows, age = None, None, 0.0
        scatter = 2 * sheet.probe.repeatability.s_between
        judged = self._drift.judged
        if season is not None and season.drift.idents and judged is not None:
            newest = next(
                i for i, h in enumerate(season.rows.heads) if h.ident == season.drift.idents[-1]
            )
            seen = judged.tiles.heights[newest]
            bump = float(np.nanmax(np.abs(seen))) if np.isfinite(seen).any() else None
            grows = season.drift.slow.rate if season.drift.slow is not None else None
            age = (now() - season.drift.times[-1]).total_seconds() / 86400
        every, a_day = self.chosen.every, self._drift.prints_per_day or 1.0
        box = self._session.chosen.where.box
        made = costs(sheet, every, box, bump, grows, age, scatter, a_day)
        return tuple(self._held_cost(c) if c.compensation == "recall" else c for c in made)

    def _held_cost(self, cost: Cost) -> Cost:
        """What recalling costs, by the surface that is really held."""
        work = self.surfaces
        if not work.able or work.read.told is None:
            return cost
        one = {s.name: s for s in work.standings}.get(self.recalled)
        if one is None or one.held is None:
            return replace(cost, error_mm=None, why=f"it holds no surface {self.recalled}")
        if wrong := work.wrong(one):
            return replace(cost, error_mm=None, why=f"touches said: {wrong}")
        off = work.off_the_bed(one)
        if off is None:
            return cost
        drifted = cost.error_mm or 0.0
        written = one.written.survey if one.written is not None else "?"
        return replace(cost, error_mm=off.worst + drifted, why=f"held since survey {written}")

    # Other start texts

    def check(self, text: str) -> tuple[tuple[Finding, ...], str]:
        """What is wrong in a start text, and what there is to say of the text itself."""
        sheet, dialect = self._session.sheet, self.dialect
        if sheet is None or dialect is None:
            return (), "Choose a printer and a dialect first."
        work, held = self.surfaces, None
        if work.able and work.read.told is not None:
            held = [s.name for s in work.standings if s.held is not None]
        seen = checked(text, sheet, dialect, self.values.book, held)
        told = f"{count_of(seen.understood, 'line')} understood as {dialect.name}"
        if seen.unknown:
            told += f", {seen.unknown} not: nothing is said of those"
        return seen.found, f"{seen.damage} {told}.".strip()

    # The card, and the evening's end

    def rows(self) -> Sequence[tuple[str, str, str, str, str]]:
        """Each value: its name, kept, live, how it stands, why."""
        made = []
        for meaning, one in self.values.standings().items():
            value = self.values.held[meaning]
            why = one.last.why if one.last is not None else ""
            made.append(
                (
                    NAMES[meaning],
                    sided_figure(meaning, value.ours_kept)
                    if value.ours_kept is not None
                    else "not told",
                    sided_figure(meaning, value.ours),
                    one.state,
                    why,
                )
            )
        return made

    def write_card(self, path: Path, advice: Advice | None = None) -> None:
        """The printer's values as a card to keep beside it, with the next first layer where that
        is known. Raises InputError, JobError."""
        from tallgrain.ui.report.blocks import Report, Table, Words
        from tallgrain.ui.report.layer import layer_blocks
        from tallgrain.ui.report.make import write_report

        sheet, rows = self._session.sheet, self.rows()
        if sheet is None or not rows:
            raise InputError("no values were read yet.", "card", "Link to the printer first.")
        told = tuple(
            (name, kept, held.name, "not told" if held.kept is None else f"{held.kept:g}", state)
            for (name, kept, _, state, _), held in zip(
                rows, (self.values.held[m] for m in self.values.standings()), strict=True
            )
        )
        write_report(
            path,
            Report(
                f"{sheet.name}: what it keeps",
                f"read on {day_time(now())}",
                (
                    *(layer_blocks(advice) if advice is not None else ()),
                    Table(
                        ("value", "kept", "the printer calls it", "and stores", "how it stands"),
                        told,
                    ),
                    Words(
                        "Kept values survive power-off; a reflash takes them all. Then the "
                        "Handover "
                        "station gives them back."
                    ),
                ),
                f"{sheet.name} · Tall Grain {__version__}",
            ),
        )

    def summary(self) -> list[str]:
        """What was measured, changed and kept in this sitting, and what to look at next time."""
        sheet, s = self._session.sheet, self._session
        if sheet is None:
            return []
        lines = summary(
            s.ledger, s.journal, self.began, self.values.not_kept, lambda m: NAMES.get(m, m), mm
        )
        season = self._drift.season
        if season is not None and season.drift.idents:
            lines.append(f"next time: {season.advice[:1].lower()}{season.advice[1:]}")
        return lines

    def save_all(self) -> Path | None:
        """Before a reflash: everything that the printer holds, to a file."""
        try:
            return self.values.back_up("before a reflash")
        except TallGrainError as error:
            self._session.refused.emit(error)
            return None


def sorted_findings(found: Sequence[Finding]) -> list[Finding]:
    """The grave ones first, then by line."""
    return sorted(found, key=lambda f: (not f.grave, f.line))


def since(when: datetime) -> str:
    """When a sitting began."""
    return day_time(when)
