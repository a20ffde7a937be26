"""The Surface station: how flat is the bed, and is it still the bed it was?"""

import csv
import io
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QRectF
from PyQt6.QtWidgets import (
    QButtonGroup,
    QHBoxLayout,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from tallgrain.core.surface.first_layer import FirstLayerSight
from tallgrain.core.surface.furrows import Viewpoint
from tallgrain.core.surface.interpolate import Mesh
from tallgrain.core.surface.section import snapped
from tallgrain.core.surface.sight import About
from tallgrain.ui.app import theme
from tallgrain.ui.dialogs.plan import PlanDialog
from tallgrain.ui.painting.field import paint_field
from tallgrain.ui.painting.relief import ReliefPicture, paint_relief
from tallgrain.ui.painting.save import save_picture
from tallgrain.ui.session.first_layers import FirstLayers
from tallgrain.ui.session.state import SurveyPlan
from tallgrain.ui.stations.base import Shared, Station
from tallgrain.ui.stations.surface.bench import SurfaceBench
from tallgrain.ui.stations.surface.first_layer import WAYS
from tallgrain.ui.stations.surface.pictures import MIDDLES, Layer, Pictures
from tallgrain.ui.stations.surface.pointing import Pointing
from tallgrain.ui.widgets.clearance import ClearanceRow
from tallgrain.ui.widgets.field import Field
from tallgrain.ui.widgets.parts import Elided, button, label, on_pick, set_role, show_picked, tell
from tallgrain.ui.widgets.relief import Relief
from tallgrain.ui.widgets.section import SectionView
from tallgrain.ui.widgets.words import day, day_time, mm

SNAP_PX = 7.0
# Where there is less the section is folded away until it is asked for: the plate comes first.
ROOM_FOR_SECTION_PX = 1400


ABOUT: dict[About, str] = {
    "ls": "about the least-squares plane", "mz": "about the minimum-zone plane",
    "zero": "from the printer's own zero",
}  # fmt: skip
# More lines than this in one section can't be told apart.
MOST_KEPT = 4


class SurfaceStation(Station):
    """Field from above in the middle, section under it, bench on the right."""

    name = "Surface"
    clearance: ClearanceRow

    def __init__(self, shared: Shared) -> None:
        session = shared.session
        super().__init__(session)
        self.planning: PlanDialog | None = None
        self.layer = Layer.HEIGHTS
        self.pictures = Pictures(self, session)
        self.on_plan: Callable[[SurveyPlan, SurveyPlan], None] = lambda before, after: None
        self.pinned_span: float | None = None
        self._layers_of = FirstLayers(session)
        self.seen: FirstLayerSight | None = None
        # Surveys kept in the section, by ident: their day and their surface.
        self.kept: dict[str, tuple[str, Mesh]] = {}
        self._along = ""
        self.line: tuple[tuple[float, float], tuple[float, float]] | None = None
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
        self.field.clicked.connect(self._click)
        self.pointing = Pointing(session, shared.checks, self.field)
        self.field.tells, self.field.tells_between = self._tells, self._tells_between
        self.relief = Relief()
        self.relief.looked.connect(lambda words: tell(self.reading, words))
        self.views = QStackedWidget()
        self.views.addWidget(self.field)
        self.views.addWidget(self.relief)
        middle.addWidget(self.views, 1)
        self.section = SectionView()
        self.show_section: bool | None = None  # None: where there is room
        middle.addWidget(self.section)
        row.addLayout(middle, 1)
        self.bench = SurfaceBench(session)
        self.bench.plan_wanted.connect(self.open_plan)
        self.bench.way_chosen.connect(self.refresh)
        self.bench.trusted.twice_wanted.connect(lambda: self.survey_pair("twice"))
        self.bench.trusted.pair_wanted.connect(lambda: self.survey_pair("cold_hot"))
        self.bench.trusted.drift_wanted.connect(self.take_out_drift)
        self._layers_of.changed.connect(self._first_known)
        session.printer_changed.connect(self._other_printer)
        row.addWidget(self.bench)
        self.clearance = self.bench.clearance_row
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
            on_pick(chosen, partial(self.show_layer, layer))
            group.addButton(chosen)
            self.layers[layer] = chosen
            heading.addWidget(chosen)
        show_picked(self.layers[self.layer])
        return heading

    # Acting

    def step(self) -> None:
        """Survey."""
        self.bench.act()

    def primary(self) -> None:
        """Link, or survey; while paused: go on."""
        if self._session.motion.paused:
            self._session.motion.pause()
        else:
            self.bench.act()

    def open_plan(self) -> None:
        """Show the plan beside the field."""
        if self._session.sheet is None or self._session.busy:
            return
        before = self._session.chosen
        self.planning = PlanDialog(self._session, self.widget)
        self.planning.finished.connect(lambda: self._plan_closed(before))
        self.planning.show()
        self.refresh()

    def _plan_closed(self, before: SurveyPlan) -> None:
        self.planning = None
        self.refresh()
        if self._session.chosen != before:
            self.on_plan(before, self._session.chosen)

    def survey_pair(self, rounds: str) -> None:
        """Survey twice, or cold and then hot; the plan itself stays as it was chosen."""
        self._session.motion.start_survey(rounds)

    def take_out_drift(self, out: bool) -> None:
        """Read the survey that is shown without the drift that its first point shows, or with it.
        Its touches stay as they were."""
        s, shown = self._session, self._session.shown
        if shown is None or shown.drift is None or s.busy:
            return
        s.ledger.take_out_drift(shown.head.ident, shown.drift.rate_mm if out else None)
        s.show_stored(shown.head.ident)

    def show_layer(self, layer: Layer) -> None:
        """Show another layer."""
        self.layer = layer
        self.views.setCurrentWidget(self.relief if layer is Layer.RELIEF else self.field)
        show_picked(self.layers[layer])
        self.bench.compare_first = layer is Layer.DIFFERENCE
        self.bench.first_layer = self.first_layer if layer is Layer.FIRST else lambda: None
        self.bench.refresh()
        self.refresh()

    def pin_scale(self) -> None:
        """Keep the scale as it is for whatever is shown next, or let it follow again."""
        chart = self.pictures.chart()
        self.pinned_span = None if self.pinned_span or chart is None else chart.span
        self.refresh()

    def whole(self) -> None:
        """All of the plate again; the relief as at first."""
        if self.layer is Layer.RELIEF:
            self.relief.as_at_first()
        else:
            self.field.whole()

    def cut_along(self, way: str) -> None:
        """Lay the section along the row or column of points next to where it lies; again, along
        the one after that."""
        shown = self._session.shown
        mesh = shown.sight.mesh if shown is not None else None
        if mesh is None or self.line is None:
            return
        axis, lines = (1, mesh.ys) if way == "row" else (0, mesh.xs)
        here = (self.line[0][axis] + self.line[1][axis]) / 2
        beyond = lines[lines > here + 1e-6]
        if self._along != way:
            at = float(lines[np.abs(lines - here).argmin()])
        else:
            at = float(beyond[0] if len(beyond) else lines[0])
        self._along = way
        ends = (mesh.xs if way == "row" else mesh.ys)[[0, -1]].tolist()
        p, q = ((e, at) if way == "row" else (at, e) for e in ends)
        self.show_section = True
        self.line = (p, q)
        self.refresh()

    def keep_in_section(self) -> None:
        """Keep the survey that is shown in the section, also when another is shown; or let go."""
        shown = self._session.shown
        if shown is None or shown.sight.mesh is None:
            return
        ident = shown.head.ident
        if ident in self.kept:
            del self.kept[ident]
        else:
            while len(self.kept) >= MOST_KEPT:
                del self.kept[next(iter(self.kept))]
            self.kept[ident] = day(shown.survey.taken_at), shown.sight.mesh
        self.section.show_picture(self.pictures.section_lines())

    def refer_to(self, about: About) -> None:
        """Draw heights about another plane, or the printer's own zero."""
        self.kept.clear()  # kept surfaces are about the old one
        self._session.refer_to(about)

    def toggle_section(self) -> None:
        """Show or hide the section."""
        self.show_section = not self._section_open
        self.refresh()

    @property
    def _section_open(self) -> bool:
        if self.show_section is None:
            return self.widget.height() > theme.px(ROOM_FOR_SECTION_PX)
        return self.show_section

    def table(self) -> str:
        """The points of what is shown as tab-separated text with units."""
        shown = self._session.shown
        if shown is None:
            return ""
        out = io.StringIO()
        rows = csv.writer(out, delimiter="\t", lineterminator="\n")
        compared = self.pictures.compared()
        if self.layer is Layer.DIFFERENCE and compared and compared.comparison:
            rows.writerow(["x (mm)", "y (mm)", "difference (mm)"])
            found = compared.comparison
            pairs = zip(found.xy.tolist(), found.difference.tolist(), strict=True)
            rows.writerows([x, y, f"{z:.4f}"] for (x, y), z in pairs)
        else:
            rows.writerow(["x (mm)", "y (mm)", "z (mm)", "touches", "left out"])
            rows.writerows(
                [p.x, p.y, f"{p.z:.4f}", len(p.touches), len(p.left_out)]
                for p in shown.survey.points
            )
        return out.getvalue()

    def save_picture(self, path: Path) -> None:
        """Save the field or the relief as PNG, SVG or PDF. Raises InputError or JobError."""
        relief, rect = self.relief.picture(), QRectF(self.views.rect())
        if self.layer is Layer.RELIEF and relief is not None:
            save_picture(path, rect, lambda painter: paint_relief(painter, rect, relief))
            return
        picture, view = self.field.picture(), self.field.view()
        if picture is not None and view is not None:
            save_picture(path, rect, lambda painter: paint_field(painter, rect, picture, view))

    # Showing

    def refresh(self) -> None:
        """Follow the session."""
        s = self._session
        self.bench.refresh()
        self.section.setVisible(self._section_open and s.progress is None)
        if s.sheet is None:
            self.field.show_picture(None, "No printer yet: add a machine sheet (File menu).")
            tell(self.subject, "")
            return
        self.layers[Layer.DIFFERENCE].setEnabled(self.pictures.compared() is not None)
        if self.line is None:
            box = s.sheet.plate.outline.box
            y = box.y0 + 0.39 * box.depth
            margin = s.sheet.plate.margin
            self.line = ((box.x0 + margin, y), (box.x1 - margin, y))
        self.seen = self.first_layer() if self.layer is Layer.FIRST else None
        self.field.show_picture(self.pictures.picture(), self._wait_words())
        self._show_relief()
        tell(self.subject, self._subject())
        self.section.show_picture(self.pictures.section_lines())

    def first_layer(self) -> FirstLayerSight | None:
        """What the first layer would be on what is shown; None where that can't be told."""
        return self._layers_of.seen(self.bench.way)

    def _first_known(self) -> None:
        if self.layer is Layer.FIRST:
            self.refresh()

    def _other_printer(self) -> None:
        """What was laid on the other plate says nothing here."""
        self.kept.clear()
        self.line, self.pinned_span = None, None

    def _wait_words(self) -> str:
        if self.layer is Layer.FIRST and self.seen is None and self._layers_of.working:
            return "Working out the first layer …"
        return ""

    def _show_relief(self) -> None:
        s, chart = self._session, self.pictures.chart()
        if self.layer is not Layer.RELIEF:
            return
        if s.sheet is None or chart is None:
            self.relief.show_picture(None)
            return
        self.relief.show_picture(
            ReliefPicture(
                chart,
                Viewpoint(),
                middle=MIDDLES[s.reference],
                pinned=self.pinned_span is not None,
                before=self.pictures.before(),
            )
        )

    def _click(self, x: float, y: float) -> None:
        if self.planning is not None:
            self.planning.take_click(x, y)

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
        self.section.show_picture(self.pictures.section_lines())

    def _point(self, at: tuple[float, float] | None) -> None:
        chart = self.pictures.chart()
        if at is None or chart is None:
            tell(self.reading, "")
            return
        height = chart.at(*at)
        what = {Layer.DIFFERENCE: "difference", Layer.FIRST: "first layer"}.get(self.layer, "z")
        first = self.seen
        if height is not None and first is not None:
            told = f"{mm(first.layer + height)} mm"
        else:
            told = f"{mm(height, signed=True)} mm" if height is not None else "not surveyed"
        words = f"x {mm(at[0], 1)}  y {mm(at[1], 1)}  {what} {told}"
        near = "" if first is not None else self.pointing.nearest(at, chart)
        tell(self.reading, words)
        self.field.setAccessibleDescription(f"{words}, {near}" if near else words)

    def _tells(self, at: tuple[float, float]) -> Sequence[str]:
        """The tag at the cursor: the place, its height, the nearest touch."""
        chart, first = self.pictures.chart(), self.seen
        if chart is None or self._session.progress is not None:
            return ()
        height = chart.at(*at)
        if height is None:
            told = "not surveyed"
        elif first is not None:
            told = f"layer {mm(first.layer + height)} mm"
        else:
            told = f"{mm(height, signed=True)} mm"
        place = f"x {mm(at[0], 1)}, y {mm(at[1], 1)} mm"
        near = "" if first is not None else self.pointing.nearest(at, chart)
        return (told, place, near) if near else (told, place)

    def _tells_between(self, a: tuple[float, float], b: tuple[float, float]) -> Sequence[str]:
        chart = self.pictures.chart()
        return self.pointing.between(a, b, chart) if chart is not None else ()

    def _subject(self) -> str:
        s = self._session
        if s.progress is not None:
            under = s.progress.plan
            count = f"{under.shape[0]} × {under.shape[1]}" if under.shape else "until sure"
            if under.shape is None and under.most_points == len(under.points):
                count = f"{len(under.points)} points"
            pale = f" · pale: survey {s.shown.head.ident}" if s.shown is not None else ""
            return f"{count}{pale}"
        if self.planning is not None or s.shown is None:
            plan = s.planned()
            return f"plan · {plan.shape[0]} × {plan.shape[1]}" if plan and plan.shape else ""
        shown, compared = s.shown.survey, self.pictures.compared()
        if self.layer is Layer.DIFFERENCE and compared is not None:
            a, b = compared.a, compared.b
            return f"survey {b.ident} ({day(b.taken_at)}) less survey {a.ident} ({day(a.taken_at)})"
        first = self.seen
        if first is not None:
            how = dict(WAYS)[first.way]
            return f"first layer sliced at {mm(first.layer, 2)} mm, {how} · colours to your limits"
        size = (
            f"{shown.shape[0]} × {shown.shape[1]}" if shown.shape else f"{len(shown.points)} points"
        )
        named = f"survey {shown.ident}" if shown.ident else "from a file"
        words = f"{named} · {size} · {day_time(shown.taken_at)} · {shown.conditions.sentence()}"
        if s.reference != "ls":
            words += f" · heights {ABOUT[s.reference]}"
        since = s.mechanical_since(shown.taken_at)
        return f"{words} · on an older printer: before '{since.kind}'" if since else words
