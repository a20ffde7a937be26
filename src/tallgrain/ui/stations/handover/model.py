"""The Handover station's model: what the printer does not know yet, and how prints should begin."""

from collections.abc import Sequence
from dataclasses import asdict, replace
from datetime import datetime
from pathlib import Path
from typing import cast, get_args

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain import __version__
from tallgrain.clock import now
from tallgrain.core.handover.check import Finding, findings
from tallgrain.core.handover.policy import Compensation, Cost, Policy, costs, steps_of
from tallgrain.core.values import KEPT, PROVEN, SETTING, unit_of
from tallgrain.errors import InputError, TallGrainError
from tallgrain.journal.records import StartPolicy, ValueChanged
from tallgrain.link.connect import dialect_named, dialect_names
from tallgrain.link.console.dialect import Dialect
from tallgrain.link.console.starts import read_start, write_start
from tallgrain.ui.session.drift_work import DriftWork
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.timers import follow
from tallgrain.ui.session.values_work import ValuesWork
from tallgrain.ui.widgets.value_words import NAMES, sided_figure
from tallgrain.ui.widgets.words import count_of, day_time, mm

EVERY = 10


class HandoverWork(QObject):
    """What the station tells; `changed` says that something of it is other."""

    changed = pyqtSignal()

    def __init__(
        self, session: Session, probe: ProbeWork, values: ValuesWork, drift: DriftWork
    ) -> None:
        super().__init__(session)
        self._session, self._probe, self.values, self._drift = session, probe, values, drift
        self.began = now()
        self.policy, self.every, self.dialect_name = Policy(), EVERY, "hazel"
        self.with_values = False
        self._other()
        follow(self.changed, values.changed, drift.changed)
        session.printer_changed.connect(self._other)

    def _other(self) -> None:
        """Another printer: the policy that was chosen for it last."""
        self.policy, self.every = Policy(), EVERY
        if (seen := self._session.journal.newest(StartPolicy)) is not None:
            f = seen.figures
            way = f.compensation if f.compensation in get_args(Compensation) else "nothing"
            self.policy = Policy(
                cast(Compensation, way), f.nozzle_c, f.plate_c, f.soak_min, f.clean, f.level
            )
            self.every, self.dialect_name = f.every, f.dialect
            self.with_values = f.with_values
        self.changed.emit()

    # How a print begins

    @property
    def dialects(self) -> list[str]:
        """Dialects by name."""
        return dialect_names()

    @property
    def dialect(self) -> Dialect | None:
        """The one that the text is written in; None where it can't be read any more."""
        try:
            return dialect_named(self.dialect_name)
        except InputError:
            return None

    def choose(self, policy: Policy, every: int, dialect: str, with_values: bool) -> None:
        """Begin prints so from now on; remembered."""
        chosen = (policy, every, dialect, with_values)
        if chosen == (self.policy, self.every, self.dialect_name, self.with_values):
            return
        self.policy, self.every, self.dialect_name, self.with_values = chosen
        record = StartPolicy(
            **asdict(policy), every=every, dialect=dialect, with_values=with_values
        )
        self._session.enter(record, "", "chosen")
        self.changed.emit()

    def text(self) -> str:
        """The start text. Raises InputError where it can't be written."""
        sheet, dialect = self._session.sheet, self.dialect
        if sheet is None or dialect is None:
            raise InputError(
                f"there is no dialect '{self.dialect_name}'.", "start", "Choose another one."
            )
        policy = self.policy
        if self.with_values and (trip := self.values.ours("trip_height")) is not None:
            policy = replace(policy, values={"trip_height": trip})
        title = f"{sheet.name}: how a print begins, by Tall Grain {__version__}"
        return write_start(dialect, steps_of(policy, sheet), title)

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
        return costs(
            sheet, self.every, None, bump, grows, age, scatter, self._drift.prints_per_day or 1.0
        )

    # Other start texts

    def check(self, text: str) -> tuple[tuple[Finding, ...], str]:
        """What is wrong in a start text, and what there is to say of the text itself."""
        sheet, dialect = self._session.sheet, self.dialect
        if sheet is None or dialect is None:
            return (), "Choose a printer and a dialect first."
        read = read_start(dialect, text)
        ledger = {m: s.last.after for m, s in self.values.standings().items() if s.last is not None}
        found = findings(read.lines, sheet, ledger)
        told = f"{count_of(len(read.lines), 'line')} understood as {dialect.name}"
        if read.unknown:
            told += f", {read.unknown} not: nothing is said of those"
        return found, f"{read.damage} {told}.".strip()

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
        lines = []
        made = [h for h in s.ledger.heads(sheet.name) if h.taken_at >= self.began]
        for head in made:
            state = "" if head.state == "complete" else ", broken off"
            lines.append(f"measured: survey {head.ident}, {count_of(head.points, 'point')}{state}")
        changes = s.journal.read(ValueChanged)
        done = [e for e in changes if e.at >= self.began and e.outcome != SETTING]
        for seen in done:
            f, name = seen.figures, NAMES.get(seen.item, seen.item)
            verb = "kept" if seen.outcome in (KEPT, PROVEN) else seen.outcome
            lines.append(
                f"{verb}: {name} {mm(f.before)} → {mm(f.after)} {unit_of(seen.item)}, {seen.note}"
            )
        if not lines:
            lines.append("nothing was measured or changed in this sitting yet")
        if self.values.not_kept:
            lines.append(f"not kept yet: {', '.join(NAMES[m] for m in self.values.not_kept)}")
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
