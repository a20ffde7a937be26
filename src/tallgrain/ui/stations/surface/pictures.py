"""What the Surface station's field and section show."""

from enum import Enum
from typing import TYPE_CHECKING

import numpy as np

from tallgrain.core.surface.chart import Chart
from tallgrain.core.surface.interpolate import Mesh
from tallgrain.core.surface.quality import marked
from tallgrain.core.surface.section import section
from tallgrain.core.surface.sight import About
from tallgrain.ui.painting.field import Picture
from tallgrain.ui.painting.section import SectionPicture
from tallgrain.ui.session.look_back import Compared
from tallgrain.ui.widgets.words import day

if TYPE_CHECKING:
    from tallgrain.ui.session.session import Session
    from tallgrain.ui.stations.surface.station import SurfaceStation


class Layer(Enum):
    """What the field shows; its key."""

    HEIGHTS = "Heights", "H"
    DIFFERENCE = "Difference", "D"
    FIRST = "First layer", "F"
    RELIEF = "Relief", "R"
    POINTS = "Points", "N"


MIDDLES: dict[About, str] = {"ls": "level", "mz": "mid zone", "zero": "zero"}


class Pictures:
    """Made from the session and from what the station is set to show."""

    def __init__(self, station: "SurfaceStation", session: "Session") -> None:
        self._station, self._session = station, session
        self._pinned: tuple[Chart, Chart] | None = None

    def compared(self) -> Compared | None:
        """What the survey that is shown is compared with; None where there is nothing."""
        compared = self._session.back.compared
        shown = self._session.shown
        if compared is None or compared.chart is None or shown is None:
            return None
        return (
            compared if compared.b.ident == shown.head.ident or self._session.back.pin_b else None
        )

    def chart(self) -> Chart | None:
        """The chart of the layer that is shown, on the pinned scale where one is."""
        s = self._session
        if s.progress is not None:
            return s.chart
        compared = self.compared()
        if self._station.layer is Layer.DIFFERENCE and compared is not None:
            chart = compared.chart
        elif self._station.layer is Layer.FIRST:
            # Its scale is the builder's own limits.
            return self._station.seen.chart if self._station.seen is not None else None
        elif s.shown is not None:
            chart = s.shown.sight.chart
        else:
            return None
        span = self._station.pinned_span
        if chart is None or span is None or chart.span == span:
            return chart
        if self._pinned is None or self._pinned[0] is not chart:
            self._pinned = chart, chart.with_span(span)
        return self._pinned[1]

    def before(self) -> tuple[str, Mesh] | None:
        """What the survey that is shown is compared with, as heights about its own plane."""
        compared, shown = self.compared(), self._session.shown
        if compared is None or shown is None or self._session.reference != "ls":
            return None
        for old, mesh in ((compared.a, compared.mesh_a), (compared.b, compared.mesh_b)):
            if mesh is not None and old.ident != shown.head.ident:
                return f"survey {old.ident}, {day(old.taken_at)}", mesh
        return None

    def picture(self) -> Picture:
        """The field: a plan, the survey under way, or a stored one."""
        s = self._session
        assert s.sheet is not None
        plan = s.progress.plan if s.progress else s.planned()
        if s.progress is None and s.shown is not None and self._station.planning is None:
            return self._of_survey()
        dropped = tuple((d.x, d.y) for d in plan.dropped) if plan else ()
        points = plan.points if plan else np.empty((0, 2))
        if s.progress is None:
            return Picture(
                s.sheet,
                points,
                dropped=dropped,
                route=self._station.planning is not None,
                room=self._station.planning.room if self._station.planning is not None else None,
            )
        touched = s.progress.touched
        nearest = len(touched) if len(touched) < len(points) else None
        now = None if nearest is None else (float(points[nearest][0]), float(points[nearest][1]))
        heights = np.array([t.z for t in touched])
        ghost = s.shown.sight.chart if s.shown is not None else None
        return Picture(s.sheet, points, heights, dropped, s.chart, now, flags=False, ghost=ghost)

    def _of_survey(self) -> Picture:
        s = self._session
        assert s.sheet is not None and s.shown is not None
        shown, pinned, compared = (
            s.shown.survey,
            self._station.pinned_span is not None,
            self.compared(),
        )
        if self._station.layer is Layer.DIFFERENCE and compared is not None and compared.comparison:
            found = compared.comparison
            crossed = tuple((float(x), float(y)) for x, y in found.outliers)
            return Picture(
                s.sheet,
                found.xy,
                found.difference,
                chart=self.chart(),
                line=self._station.line,
                caption=("higher", "lower"),
                pinned=pinned,
                crossed=crossed,
            )
        if self._station.layer is Layer.FIRST and self._station.seen is not None:
            return Picture(
                s.sheet,
                shown.xy,
                shown.heights,
                chart=self.chart(),
                caption=("thick", "thin"),
                middle="as sliced",
                pinned=True,
            )
        points_only = self._station.layer is Layer.POINTS
        return Picture(
            s.sheet,
            shown.xy,
            shown.heights,
            chart=None if points_only else self.chart(),
            line=None if points_only else self._station.line,
            pinned=pinned,
            middle=MIDDLES[s.reference],
            ringed=tuple((p.x, p.y) for p in (shown.points[i] for i in marked(shown))),
            route=points_only,
        )

    def section_lines(self) -> SectionPicture:
        """The sections of what is shown, of what it is compared with, and of those kept."""
        s = self._session
        lines = []
        if s.progress is None and s.shown is not None and s.shown.sight.mesh and self._station.line:
            lines.append(
                (
                    "now" if s.back.newest_shown else f"survey {s.shown.head.ident}",
                    section(s.shown.sight.mesh, *self._station.line),
                )
            )
            compared = self.compared()
            # A part has a plane of its own: laid over a whole survey it would mislead.
            if s.shown.survey.complete and compared is not None:
                for old, old_mesh in ((compared.a, compared.mesh_a), (compared.b, compared.mesh_b)):
                    if old_mesh is not None and old.ident != s.shown.head.ident:
                        name = f"survey {old.ident}, {day(old.taken_at)}"
                        lines.append((name, section(old_mesh, *self._station.line)))
            for ident, (when, mesh) in self._station.kept.items():
                told = {name for name, _ in lines}
                name = f"survey {ident}, {when}"
                if ident != s.shown.head.ident and name not in told:
                    lines.append((name, section(mesh, *self._station.line)))
        return SectionPicture(tuple(lines))
