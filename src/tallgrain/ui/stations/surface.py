"""The Surface station: how flat is the bed, and is it still the bed it was?"""

import csv
import io
from collections.abc import Callable
from enum import Enum
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QRectF
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from tallgrain.core.surface.chart import Chart
from tallgrain.core.surface.first_layer import GAP_U_MM, FirstLayerSight, first_layer_sight
from tallgrain.core.surface.section import section, snapped
from tallgrain.ui.draw.field import Picture
from tallgrain.ui.draw.save import save_picture
from tallgrain.ui.draw.section import SectionPicture
from tallgrain.ui.field import Field
from tallgrain.ui.route import Fill, Kernel
from tallgrain.ui.section import SectionView
from tallgrain.ui.session import Session
from tallgrain.ui.state import SurveyPlan
from tallgrain.ui.stations.first_layer_panel import WAYS
from tallgrain.ui.stations.plan_dialog import PlanDialog
from tallgrain.ui.stations.surface_bench import SurfaceBench
from tallgrain.ui.widgets import Elided, button, label, set_role, tell
from tallgrain.ui.words import day, day_time, mm

SNAP_PX = 7.0
ROOM_FOR_SECTION_PX = 560


class Layer(Enum):
    """What the field shows; its key."""

    HEIGHTS = "Heights", "H"
    DIFFERENCE = "Difference", "D"
    FIRST = "First layer", "F"
    POINTS = "Points", "N"


class SurfaceStation:
    """Field from above in the middle, section under it, bench on the right."""

    name = "Surface"

    def __init__(self, session: Session) -> None:
        self._session = session
        self._planning: PlanDialog | None = None
        self.layer = Layer.HEIGHTS
        self.on_plan: Callable[[SurveyPlan, SurveyPlan], None] = lambda before, after: None
        self.pinned_span: float | None = None
        self._first: tuple[object, FirstLayerSight | None] | None = None
        self.line: tuple[tuple[float, float], tuple[float, float]] | None = None
        self._pinned_chart: tuple[Chart, Chart] | None = None
        self.widget = QWidget()
        row = QHBoxLayout(self.widget)
        row.setContentsMargins(14, 8, 14, 8)
        row.setSpacing(14)
        middle = QVBoxLayout()
        middle.setSpacing(4)
        middle.addLayout(self._heading())
        self.subject = Elided()
        set_role(self.subject, "muted")
        self.reading = label(role="figure")
        under = QHBoxLayout()
        under.addWidget(self.subject, 1)
        under.addWidget(self.reading)
        middle.addLayout(under)
        self.field = Field()
        self.field.pointed.connect(self._point)
        self.field.line_dragged.connect(self._drag)
        middle.addWidget(self.field, 1)
        self.section = SectionView()
        self.show_section = True
        middle.addWidget(self.section)
        row.addLayout(middle, 1)
        self.bench = SurfaceBench(session)
        self.bench.plan_wanted.connect(self.open_plan)
        self.bench.way_chosen.connect(self.refresh)
        row.addWidget(self.bench)
        session.sight_changed.connect(self.refresh)
        session.survey_changed.connect(self.refresh)
        session.back.changed.connect(self.refresh)

    def _heading(self) -> QHBoxLayout:
        heading = QHBoxLayout()
        heading.setSpacing(0)
        heading.addWidget(label(self.name, "title"), 1)
        self.layers: dict[Layer, QPushButton] = {}
        group = QButtonGroup(self.widget)
        for layer in Layer:
            name, key = layer.value
            chosen = button(name, "layer", f"Layer {name}", f"Show {name.lower()} (key {key})")
            chosen.setCheckable(True)
            chosen.clicked.connect(lambda _=False, which=layer: self.show_layer(which))
            group.addButton(chosen)
            self.layers[layer] = chosen
            heading.addWidget(chosen)
        self.layers[self.layer].setChecked(True)
        return heading

    # The route

    def kernel(self, session: Session) -> Kernel:
        """Full within tolerance, half where there is something to do, hatched where stale."""
        if session.shown is None:
            return Kernel(self.name, Fill.EMPTY, "never surveyed")
        judgement = session.shown.sight.judgement
        if judgement is None:
            return Kernel(self.name, Fill.HALF, "", "incomplete")
        headline = f"{mm(judgement.flatness.fltt)} mm"
        if not session.shown.survey.complete:
            return Kernel(self.name, Fill.HALF, headline, "incomplete")
        stale = session.stale_because(self.name)
        if stale:
            return Kernel(self.name, Fill.STALE, headline, f"before {stale}")
        return Kernel(self.name, Fill.FULL if judgement.within else Fill.HALF, headline)

    # Acting

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
        before = self._session.chosen
        self._planning = PlanDialog(self._session, self.widget)
        self._planning.finished.connect(lambda: self._plan_closed(before))
        self._planning.show()
        self.refresh()

    def _plan_closed(self, before: SurveyPlan) -> None:
        self._planning = None
        self.refresh()
        if self._session.chosen != before:
            self.on_plan(before, self._session.chosen)

    def show_layer(self, layer: Layer) -> None:
        """Show another layer."""
        self.layer = layer
        self.layers[layer].setChecked(True)
        self.bench.compare_first = layer is Layer.DIFFERENCE
        self.bench.first_layer = self.first_layer if layer is Layer.FIRST else lambda: None
        self.bench.refresh()
        self.refresh()

    def pin_scale(self) -> None:
        """Keep the scale as it is for whatever is shown next, or let it follow again."""
        chart = self._chart()
        self.pinned_span = None if self.pinned_span or chart is None else chart.span
        self.refresh()

    def toggle_section(self) -> None:
        """Show or hide the section."""
        self.show_section = not self.show_section
        self.refresh()

    def table(self) -> str:
        """The points of what is shown as tab-separated text with units."""
        shown = self._session.shown
        if shown is None:
            return ""
        out = io.StringIO()
        rows = csv.writer(out, delimiter="\t", lineterminator="\n")
        rows.writerow(["x (mm)", "y (mm)", "z (mm)"])
        compared = self._compared()
        if self.layer is Layer.DIFFERENCE and compared and compared.comparison:
            found = compared.comparison
            pairs = zip(found.xy.tolist(), found.difference.tolist(), strict=True)
            rows.writerows([x, y, f"{z:.4f}"] for (x, y), z in pairs)
        else:
            rows.writerows([p.x, p.y, f"{p.z:.4f}"] for p in shown.survey.points)
        return out.getvalue()

    def save_picture(self, path: Path) -> None:
        """Save the field as PNG, SVG or PDF. Raises InputError or JobError."""
        picture, view = self.field.picture(), self.field.view()
        if picture is not None and view is not None:
            save_picture(path, QRectF(self.field.rect()), picture, view)

    # Showing

    def refresh(self) -> None:
        """Follow the session."""
        s = self._session
        tall = self.widget.height() > ROOM_FOR_SECTION_PX
        self.section.setVisible(self.show_section and tall and s.progress is None)
        if s.sheet is None:
            self.field.show_picture(None, "No printer yet: add a machine sheet (File menu).")
            tell(self.subject, "")
            return
        self.layers[Layer.DIFFERENCE].setEnabled(self._compared() is not None)
        if self.line is None:
            box = s.sheet.plate.outline.box
            y = box.y0 + 0.39 * box.depth
            margin = s.sheet.plate.margin
            self.line = ((box.x0 + margin, y), (box.x1 - margin, y))
        self.field.show_picture(self._picture())
        tell(self.subject, self._subject())
        self._refresh_section()

    def first_layer(self) -> FirstLayerSight | None:
        """What the first layer would be on what is shown; None where that can't be told."""
        s = self._session
        if s.shown is None or s.sheet is None or not s.shown.survey.complete:
            return None
        found = s.ledger.observations(s.sheet.name, "gap")
        gap_u = float(found[-1].figures["u"]) if found else GAP_U_MM
        key = s.shown.survey, s.sheet, self.bench.way, gap_u
        if self._first is None or self._first[0] != key:
            self._first = key, first_layer_sight(s.shown.survey, s.sheet, self.bench.way, gap_u)
        return self._first[1]

    def _compared(self):
        compared = self._session.back.compared
        shown = self._session.shown
        if compared is None or compared.chart is None or shown is None:
            return None
        return (
            compared if compared.b.ident == shown.head.ident or self._session.back.pin_b else None
        )

    def _chart(self) -> Chart | None:
        s = self._session
        if s.progress is not None:
            return s.chart
        compared = self._compared()
        first = self.first_layer() if self.layer is Layer.FIRST else None
        if self.layer is Layer.DIFFERENCE and compared is not None:
            chart = compared.chart
        elif first is not None:
            return first.chart  # its scale is the builder's own limits
        elif s.shown is not None:
            chart = s.shown.sight.chart
        else:
            return None
        if chart is None or self.pinned_span is None or chart.span == self.pinned_span:
            return chart
        if self._pinned_chart is None or self._pinned_chart[0] is not chart:
            self._pinned_chart = chart, chart.with_span(self.pinned_span)
        return self._pinned_chart[1]

    def _picture(self) -> Picture:
        s = self._session
        assert s.sheet is not None
        plan = s.progress.plan if s.progress else s.planned()
        if s.progress is None and s.shown is not None and self._planning is None:
            return self._survey_picture()
        dropped = tuple((d.x, d.y) for d in plan.dropped) if plan else ()
        points = plan.points if plan else np.empty((0, 2))
        if s.progress is None:
            return Picture(s.sheet, points, dropped=dropped)
        touched = s.progress.touched
        nearest = len(touched) if len(touched) < len(points) else None
        now = None if nearest is None else (float(points[nearest][0]), float(points[nearest][1]))
        heights = np.array([t.z for t in touched])
        return Picture(s.sheet, points, heights, dropped, s.chart, now, flags=False)

    def _survey_picture(self) -> Picture:
        s = self._session
        assert s.sheet is not None and s.shown is not None
        shown, pinned, compared = s.shown.survey, self.pinned_span is not None, self._compared()
        if self.layer is Layer.DIFFERENCE and compared is not None and compared.comparison:
            found = compared.comparison
            crossed = tuple((float(x), float(y)) for x, y in found.outliers)
            return Picture(
                s.sheet, found.xy, found.difference, chart=self._chart(), line=self.line,
                caption=("higher", "lower"), pinned=pinned, crossed=crossed,
            )  # fmt: skip
        if self.layer is Layer.FIRST and self.first_layer() is not None:
            return Picture(
                s.sheet, shown.xy, shown.heights, chart=self._chart(), caption=("thick", "thin"),
                middle="as sliced", pinned=True,
            )  # fmt: skip
        points_only = self.layer is Layer.POINTS
        return Picture(
            s.sheet, shown.xy, shown.heights, chart=None if points_only else self._chart(),
            line=None if points_only else self.line, pinned=pinned,
        )  # fmt: skip

    def _refresh_section(self) -> None:
        s = self._session
        lines = []
        if s.progress is None and s.shown is not None and s.shown.sight.mesh and self.line:
            lines.append(("now" if s.newest_shown else f"survey {s.shown.head.ident}",
                          section(s.shown.sight.mesh, *self.line)))  # fmt: skip
            compared = self._compared()
            # A part has a plane of its own: laid over a whole survey it would mislead.
            if s.shown.survey.complete and compared is not None:
                for old, old_mesh in ((compared.a, compared.mesh_a), (compared.b, compared.mesh_b)):
                    if old_mesh is not None and old.ident != s.shown.head.ident:
                        name = f"survey {old.ident}, {day(old.taken_at)}"
                        lines.append((name, section(old_mesh, *self.line)))
        self.section.show_picture(SectionPicture(tuple(lines)))

    def _drag(self, p: tuple[float, float], q: tuple[float, float]) -> None:
        shown, view = self._session.shown, self.field.view()
        if shown is not None and shown.sight.mesh is not None and view is not None:
            mesh = shown.sight.mesh
            low, high = (mesh.xs[0], mesh.ys[0]), (mesh.xs[-1], mesh.ys[-1])
            p, q = (
                (float(np.clip(e[0], low[0], high[0])), float(np.clip(e[1], low[1], high[1])))
                for e in (p, q)
            )
            p, q = snapped(p, q, mesh, SNAP_PX / view.scale)
        self.line = (p, q)
        # Only the line moved: nothing else needs to be asked anew.
        self.field.move_line(p, q)
        self._refresh_section()

    def _point(self, at: tuple[float, float] | None) -> None:
        chart = self._chart()
        if at is None or chart is None:
            tell(self.reading, "")
            return
        height = chart.at(*at)
        what = {Layer.DIFFERENCE: "difference", Layer.FIRST: "first layer"}.get(self.layer, "z")
        first = self.first_layer() if self.layer is Layer.FIRST else None
        if height is not None and first is not None:
            told = f"{mm(first.layer + height)} mm"
        else:
            told = f"{mm(height, signed=True)} mm" if height is not None else "not surveyed"
        words = f"x {mm(at[0], 1)}  y {mm(at[1], 1)}  {what} {told}"
        tell(self.reading, words)
        self.field.setAccessibleDescription(words)

    def _subject(self) -> str:
        s = self._session
        if s.progress is not None:
            shape = s.progress.plan.shape or (0, 0)
            return f"{s.progress.phase} · {shape[0]} × {shape[1]}"
        if self._planning is not None or s.shown is None:
            plan = s.planned()
            return f"plan · {plan.shape[0]} × {plan.shape[1]}" if plan and plan.shape else ""
        shown, compared = s.shown.survey, self._compared()
        if self.layer is Layer.DIFFERENCE and compared is not None:
            a, b = compared.a, compared.b
            return f"survey {b.ident} ({day(b.taken_at)}) less survey {a.ident} ({day(a.taken_at)})"
        first = self.first_layer() if self.layer is Layer.FIRST else None
        if first is not None:
            how = dict(WAYS)[first.way]
            return f"first layer sliced at {mm(first.layer, 2)} mm, {how} · colours to your limits"
        size = f"{shown.shape[0]} × {shown.shape[1]}" if shown.shape else "free points"
        named = f"survey {shown.ident}" if shown.ident else "from a file"
        words = f"{named} · {size} · {day_time(shown.taken_at)} · {shown.conditions.sentence()}"
        since = s.mechanical_since(shown.taken_at)
        return f"{words} · on an older printer: before '{since.kind}'" if since else words
