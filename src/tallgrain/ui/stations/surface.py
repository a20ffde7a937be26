"""The Surface station: how flat is the bed?"""

import numpy as np
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from tallgrain.ui.draw.field import Picture
from tallgrain.ui.field import Field
from tallgrain.ui.route import Fill, Kernel
from tallgrain.ui.session import Session
from tallgrain.ui.stations.plan_dialog import PlanDialog
from tallgrain.ui.stations.surface_bench import SurfaceBench
from tallgrain.ui.widgets import label
from tallgrain.ui.words import day_time, mm


class SurfaceStation:
    """Field from above in the middle, bench on the right."""

    name = "Surface"

    def __init__(self, session: Session) -> None:
        self._session = session
        self._planning: PlanDialog | None = None
        self.widget = QWidget()
        row = QHBoxLayout(self.widget)
        row.setContentsMargins(14, 8, 14, 12)
        row.setSpacing(14)
        middle = QVBoxLayout()
        middle.setSpacing(6)
        heading = QHBoxLayout()
        heading.setSpacing(14)
        heading.addWidget(label(self.name, "title"))
        self.subject = label(role="muted")
        heading.addWidget(self.subject, 1)
        middle.addLayout(heading)
        self.field = Field()
        middle.addWidget(self.field, 1)
        row.addLayout(middle, 1)
        self.bench = SurfaceBench(session)
        self.bench.plan_wanted.connect(self.open_plan)
        row.addWidget(self.bench)
        session.sight_changed.connect(self.refresh)
        session.survey_changed.connect(self.refresh)

    def kernel(self, session: Session) -> Kernel:
        """Full within tolerance, half where there is something to do."""
        if session.shown is None:
            return Kernel(self.name, Fill.EMPTY, "never surveyed")
        judgement = session.shown.sight.judgement
        if judgement is None:
            return Kernel(self.name, Fill.HALF, "", "incomplete")
        headline = f"{mm(judgement.flatness.fltt)} mm"
        if not session.shown.survey.complete:
            return Kernel(self.name, Fill.HALF, headline, "incomplete")
        return Kernel(self.name, Fill.FULL if judgement.within else Fill.HALF, headline)

    def primary(self) -> None:
        """Link, or survey."""
        self.bench.act()

    def secondary(self) -> None:
        """Break off."""
        self._session.break_off()

    def open_plan(self) -> None:
        """Show the plan beside the field."""
        if self._session.sheet is None or self._session.busy:
            return
        self._planning = PlanDialog(self._session, self.widget)
        self._planning.finished.connect(self._plan_closed)
        self._planning.show()
        self.refresh()

    def _plan_closed(self) -> None:
        self._planning = None
        self.refresh()

    def refresh(self) -> None:
        """Follow the session."""
        s = self._session
        if s.sheet is None:
            self.field.show_picture(None, "No printer yet: add a machine sheet (File menu).")
            self.subject.setText("")
            return
        self.field.show_picture(self._picture())
        self.subject.setText(self._subject())

    def _picture(self) -> Picture:
        s = self._session
        assert s.sheet is not None
        plan = s.progress.plan if s.progress else s.planned()
        if s.progress is None and s.shown is not None and self._planning is None:
            shown = s.shown.survey
            return Picture(s.sheet, shown.xy, shown.heights, chart=s.shown.sight.chart)
        dropped = tuple((d.x, d.y) for d in plan.dropped) if plan else ()
        points = plan.points if plan else np.empty((0, 2))
        if s.progress is None:
            return Picture(s.sheet, points, dropped=dropped)
        touched = s.progress.touched
        nearest = len(touched) if len(touched) < len(points) else None
        now = None if nearest is None else (float(points[nearest][0]), float(points[nearest][1]))
        heights = np.array([t.z for t in touched])
        return Picture(s.sheet, points, heights, dropped, s.chart, now, flags=False)

    def _subject(self) -> str:
        s = self._session
        if s.progress is not None:
            return f"{s.progress.phase} · {s.progress.plan.shape[0]} × {s.progress.plan.shape[1]}"
        if self._planning is not None or s.shown is None:
            plan = s.planned()
            return f"plan · {plan.shape[0]} × {plan.shape[1]}" if plan and plan.shape else ""
        shown = s.shown.survey
        size = f"{shown.shape[0]} × {shown.shape[1]}" if shown.shape else "free points"
        named = f"survey {shown.ident}" if shown.ident else "from a file"
        return f"{named} · {size} · {day_time(shown.taken_at)} · {shown.conditions.sentence()}"
