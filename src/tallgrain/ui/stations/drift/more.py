"""The Drift station's other pages: what heat does, and the workshop's printers a line each."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QPaintEvent
from PyQt6.QtWidgets import QAbstractItemView, QVBoxLayout, QWidget

from tallgrain.core.drift.thermal import Thermal
from tallgrain.core.machine.outline import Disc
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.chart import Chart, contour_step, raster_chart, round_span
from tallgrain.ui.app import theme
from tallgrain.ui.painting.field import Picture, bare
from tallgrain.ui.painting.heat import paint_soak
from tallgrain.ui.session.drift_work import DriftWork
from tallgrain.ui.widgets.bench import plain_table
from tallgrain.ui.widgets.canvas import canvas, room
from tallgrain.ui.widgets.field import Field
from tallgrain.ui.widgets.parts import button, label, tell
from tallgrain.ui.widgets.words import day, mm

SAMPLES = 60


def heat_chart(heat: Thermal, sheet: MachineSheet) -> Chart:
    """The change of shape from cold to hot over the plate."""
    outline = sheet.plate.outline
    box = outline.box
    line = np.linspace(-1, 1, SAMPLES)
    u, v = np.meshgrid(line, line)
    bent = heat.shape(u, v)
    if isinstance(outline, Disc):
        bent[np.hypot(u, v) > 1] = np.nan
    xs, ys = np.linspace(box.x0, box.x1, SAMPLES), np.linspace(box.y0, box.y1, SAMPLES)
    span = round_span(float(np.nanmax(np.abs(bent))))
    step = contour_step(span)
    made = raster_chart(xs, ys, bent, span, tuple(step * k for k in range(-5, 6)))
    return replace(made, step=step)


class SoakView(QWidget):
    """Bend against soak."""

    def __init__(self) -> None:
        super().__init__()
        self.heat: Thermal | None = None
        self.setFixedHeight(170)
        self.setAccessibleName("How the bend settles with the soak")

    def sizeHint(self) -> QSize:
        """A strip under the field."""
        return theme.size(690, 170)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        if self.heat is not None:
            painter = canvas(self)
            paint_soak(painter, room(self), self.heat)


class HeatPage(QWidget):
    """What a warmer plate does: the map from cold to hot, the soak, a sentence."""

    def __init__(self, work: DriftWork) -> None:
        super().__init__()
        self._work = work
        self._kept: tuple[object, Chart] | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.field, self.soak = Field(), SoakView()
        self.field.setAccessibleName("Field: the change of shape from cold to hot")
        self.told = label(role="safety", wrap=True)
        column.addWidget(self.field, 1)
        column.addWidget(self.soak)
        column.addWidget(self.told)

    def refresh(self) -> None:
        """Follow the season."""
        season = self._work.season
        heat = season.thermal if season is not None else None
        self.soak.heat = heat
        self.soak.setVisible(heat is not None)
        self.soak.update()
        if season is None or heat is None:
            self.field.show_picture(None, "No cold and hot surveys of one sheet yet.")
            tell(
                self.told,
                "Survey once cold and once hot: ‘Survey cold, then hot’ in the menu "
                "Survey makes such a pair.",
            )
            return
        if self._kept is None or self._kept[0] is not heat:
            self._kept = heat, heat_chart(heat, season.sheet)
        self.field.show_picture(
            Picture(
                bare(season.sheet),
                chart=self._kept[1],
                flags=False,
                show_points=False,
                show_reach=False,
                caption=("rises", "sinks"),
                middle="mean",
            )
        )
        tell(self.told, heat.sentence)


HEADS = ("printer", "flatness, mm", "gap, mm", "changes", "surveyed", "due")


class WorkshopPage(QWidget):
    """Every printer of the ledger, the most urgent first."""

    def __init__(self, work: DriftWork) -> None:
        super().__init__()
        self._work = work
        self.on_printer: Callable[[str], None] = lambda name: None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.table = plain_table(HEADS, "The workshop's printers")
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.cellActivated.connect(lambda row, _: self._go(row))
        column.addWidget(self.table, 1)
        self.odd = label(role="rust", wrap=True)
        column.addWidget(self.odd)
        self.go = button("Sho&w this printer")
        self.go.clicked.connect(lambda: self._go(self.table.currentRow()))
        column.addWidget(self.go, 0, Qt.AlignmentFlag.AlignLeft)

    def _go(self, row: int) -> None:
        if 0 <= row < len(self._work.rows):
            self.on_printer(self._work.rows[row].machine)

    def refresh(self) -> None:
        """Follow the workshop."""
        rows = self._work.rows
        told = []
        for row in rows:
            flat = "–" if row.flatness is None else f"{mm(row.flatness)} of {mm(row.allowed)}"
            gap = "–" if row.gap is None else f"{mm(row.gap[0])} ± {mm(2 * row.gap[1])}"
            last = "never" if row.surveyed is None else day(row.surveyed)
            cells = (row.machine, flat, gap, str(row.signals), last, f"{row.urgency}: {row.due}")
            told.append(cells)
        self.table.show_rows(told)
        tell(self.odd, "\n".join(self._work.odd))
        self.odd.setVisible(bool(self._work.odd))
        self.go.setEnabled(bool(rows))
