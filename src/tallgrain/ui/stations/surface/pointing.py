"""What a place of the plate says, what lies between two, and touching there again."""

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from PyQt6.QtWidgets import QMenu

from tallgrain.core.machine.reach import Reach
from tallgrain.core.surface.chart import Chart
from tallgrain.core.surface.interpolate import heights_at, mesh_of
from tallgrain.core.survey import Survey
from tallgrain.procedures.one_place import touch_one
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.widgets.field import Field, Pair
from tallgrain.ui.widgets.words import mm

TOUCHES = 3


class Pointing:
    """The words at the field's cursor, and its offers (double click, or Enter)."""

    def __init__(self, session: Session, checks: ProbeWork, field: Field) -> None:
        self._session, self._checks, self._field = session, checks, field
        self._of = ""  # the survey that the note speaks of
        field.wanted.connect(self.offer)
        session.survey_changed.connect(self._forget)
        session.printer_changed.connect(self._forget)

    def _forget(self) -> None:
        """What was touched beside another survey says nothing of this one."""
        if self._shown_ident != self._of:
            self._field.note = None

    # Telling

    @property
    def _survey(self) -> Survey | None:
        shown = self._session.shown
        return shown.survey if shown is not None else None

    @property
    def _shown_ident(self) -> str:
        survey = self._survey
        return survey.ident if survey is not None else ""

    def nearest(self, at: Pair, chart: Chart) -> str:
        """The touch next to a place, in words; "" without a survey."""
        survey = self._survey
        if survey is None or not len(survey.points):
            return ""
        # By arrays: the mouse moves, and an imported survey may have a million points.
        apart = np.hypot(*(survey.xy - at).T)
        i = int(apart.argmin())
        away, height = float(apart[i]), chart.at(*(float(c) for c in survey.xy[i]))
        told = f", {mm(height, signed=True)} mm" if height is not None else ""
        return f"touched here{told}" if away < 0.5 else f"nearest touch {away:.0f} mm away{told}"

    def between(self, a: Pair, b: Pair, chart: Chart) -> Sequence[str]:
        """How far it is from one place to the other, and how much higher."""
        dx, dy = b[0] - a[0], b[1] - a[1]
        lines = [f"{math.hypot(dx, dy):.1f} mm apart"]
        first, second = chart.at(*a), chart.at(*b)
        if first is not None and second is not None:
            rise = second - first
            lines.insert(0, f"{mm(rise, signed=True)} mm from the first to here")
        return (*lines, f"x {mm(dx, 1, signed=True)}, y {mm(dy, 1, signed=True)} mm")

    # Touching

    def refusal(self, x: float, y: float) -> str:
        """Why a place can't be touched now; "" where it can."""
        s = self._session
        if s.sheet is None or not s.ready or s.guard is None:
            return "the printer is not ready"
        if not s.sheet.probe.there:
            return "this printer has no probe"
        return Reach(s.sheet).refusals([(x, y)])[0]

    def offer(self, x: float, y: float) -> None:
        """What can be done at a place."""
        view = self._field.view()
        if view is None:
            return
        menu = self.menu(x, y)
        spot = self._field.spot_of(x, y)
        menu.popup(self._field.mapToGlobal(spot))

    def menu(self, x: float, y: float) -> QMenu:
        """The offers at a place."""
        menu = QMenu(self._field)
        why = self.refusal(x, y)
        words = f"&Touch here, {TOUCHES} times: the printer moves"
        act = menu.addAction(f"{words} ({why})" if why else words)
        assert act is not None
        act.setEnabled(not why)
        act.triggered.connect(lambda: self.touch(x, y))
        away = menu.addAction("&Measure from here")
        assert away is not None
        away.triggered.connect(lambda: self._field.measure_from((x, y)))
        return menu

    def touch(self, x: float, y: float) -> None:
        """Touch a place, against a fresh reference, and tell what came beside the survey."""
        guard = self._checks.ready_guard()
        if guard is None:
            return

        def came(z: Any) -> None:
            self._of = self._shown_ident
            self._field.note = ((x, y), self.touched_words(x, y, float(z)))
            self._field.update()

        words = f"touching at x {mm(x, 1)}, y {mm(y, 1)}"
        self._session.motion.do(words, lambda: touch_one(guard, x, y, TOUCHES), came)

    def touched_words(self, x: float, y: float, z: float) -> Sequence[str]:
        """A height that was touched now (mm), beside what the survey that is shown has there."""
        survey, sheet = self._survey, self._session.sheet
        mesh = mesh_of(survey.xy, survey.heights) if survey is not None else None
        within = mesh is not None and bool(
            mesh.xs[0] <= x <= mesh.xs[-1] and mesh.ys[0] <= y <= mesh.ys[-1]
        )
        if survey is None or mesh is None or sheet is None or not within:
            return (f"touched now: z {mm(z, signed=True)} mm",)
        had = float(heights_at(mesh, np.array([[x, y]], dtype=float), "bicubic")[0])
        r = sheet.probe.repeatability
        u = math.sqrt(r.s_r**2 * (1 + 1 / TOUCHES) + 2 * r.s_between**2)
        way = "higher" if z > had else "lower"
        return (
            f"touched now: {mm(abs(z - had))} mm {way}",
            f"than survey {survey.ident} ± {mm(2 * u)} (k = 2)",
        )
