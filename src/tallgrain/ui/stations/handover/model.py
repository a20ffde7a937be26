"""The Handover station's model: what the printer does not know yet, and how prints should begin."""

from collections.abc import Sequence
from datetime import datetime
from functools import partial
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain import __version__
from tallgrain.clock import now
from tallgrain.core.handover.check import Finding
from tallgrain.core.handover.policy import Cost, costs
from tallgrain.errors import InputError, TallGrainError
from tallgrain.link.connect import dialect_named, dialect_names
from tallgrain.link.console.dialect import Dialect
from tallgrain.procedures.handover import Chosen, StartBook, checked, start_text, summary
from tallgrain.ui.session.drift_work import DriftWork
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.timers import follow
from tallgrain.ui.session.values_work import ValuesWork
from tallgrain.ui.widgets.value_words import NAMES, sided_figure
from tallgrain.ui.widgets.words import count_of, day_time, mm


class HandoverWork(QObject):
    """What the station tells; `changed` says that something of it is other."""

    changed = pyqtSignal()

    def __init__(
        self, session: Session, probe: ProbeWork, values: ValuesWork, drift: DriftWork
    ) -> None:
        super().__init__(session)
        self._session, self._probe, self.values, self._drift = session, probe, values, drift
        self.began = now()
        self._other()
        follow(self.changed, values.changed, drift.changed)
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

    def text(self) -> str:
        """The start text. Raises InputError where it can't be written."""
        sheet, dialect = self._session.sheet, self.dialect
        if sheet is None or dialect is None:
            raise InputError(
                f"there is no dialect '{self.chosen.dialect}'.", "start", "Choose another one."
            )
        return start_text(self.chosen, sheet, dialect, self.values.ours("trip_height"))

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
        return costs(sheet, every, None, bump, grows, age, scatter, a_day)

    # Other start texts

    def check(self, text: str) -> tuple[tuple[Finding, ...], str]:
        """What is wrong in a start text, and what there is to say of the text itself."""
        sheet, dialect = self._session.sheet, self.dialect
        if sheet is None or dialect is None:
            return (), "Choose a printer and a dialect first."
        seen = checked(text, sheet, dialect, self.values.book)
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

    def write_card(self, path: Path) -> None:
        """The printer's values as a card to keep beside it. Raises InputError, JobError."""
        from tallgrain.ui.report.blocks import Report, Table, Words
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
