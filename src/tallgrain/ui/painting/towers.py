"""The Towers station's drawing: heights before and predicted after, and each tower's correction."""

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPolygonF

from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.solve.delta import TOWERS, DeltaGeometry, DeltaSolution
from tallgrain.core.surface.chart import Chart
from tallgrain.ui.app import theme
from tallgrain.ui.painting.field import paint_heights
from tallgrain.ui.painting.machine import outline_path
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.painting.scale import paint_scale
from tallgrain.ui.painting.view import View, plain_view
from tallgrain.ui.widgets.words import MINUS, mm

CENTRE = Qt.AlignmentFlag.AlignHCenter
# Towers are drawn this far beyond the plate's edge (a share of its radius).
OUT = 1.13


@dataclass(frozen=True)
class TowersView:
    """What is drawn. planned: probe points (n, 2) mm; touched: how many of them so far; left: mean
    residual by tower (mm, nan for none)."""

    sheet: MachineSheet
    geometry: DeltaGeometry
    planned: np.ndarray
    touched: int
    busy: bool
    solved: DeltaSolution | None = None
    before: Chart | None = None
    after: Chart | None = None
    xy: np.ndarray | None = None
    left: tuple[float, float, float] = (0.0, 0.0, 0.0)
    heads: tuple[str, str] = ("", "")


def paint_towers(painter: QPainter, rect: QRectF, seen: TowersView) -> None:
    """One plan while nothing is solved; else two maps on one scale, and the towers below."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    if seen.solved is None or seen.busy:
        _plan(painter, rect, seen)
    else:
        _maps(painter, rect, seen)
    painter.restore()


def _extent(sheet: MachineSheet) -> Rectangle:
    box = sheet.plate.outline.box
    x, y = box.middle
    half = max(box.width, box.depth) / 2 * (OUT + 0.08)
    return Rectangle(x - half, y - half, x + half, y + half)


def _tower(painter: QPainter, view: View, seen: TowersView, i: int) -> QPointF:
    """A tower as a bar at its angle; where it stands."""
    box = seen.sheet.plate.outline.box
    x, y = box.middle
    turn = np.radians(seen.geometry.angle[i])
    away = max(box.width, box.depth) / 2 * OUT
    at = view.at(float(x + away * np.cos(turn)), float(y + away * np.sin(turn)))
    painter.save()
    painter.translate(at)
    painter.rotate(90 - seen.geometry.angle[i])
    painter.setPen(pen(theme.INK, 1.4))
    painter.setBrush(theme.METAL)
    painter.drawRect(QRectF(-13, -5, 26, 10))
    painter.restore()
    return at


def _disc(painter: QPainter, view: View, seen: TowersView, chart: Chart | None) -> None:
    painter.setPen(pen(theme.INK, 2))
    painter.setBrush(theme.PANEL)
    painter.drawPath(outline_path(seen.sheet.plate.outline, view))
    if chart is not None:
        painter.save()
        painter.setClipPath(outline_path(seen.sheet.plate.outline, view))
        paint_heights(painter, chart, view)
        painter.restore()
        painter.setPen(pen(theme.INK, 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(outline_path(seen.sheet.plate.outline, view))


def _plan(painter: QPainter, rect: QRectF, seen: TowersView) -> None:
    view = plain_view(rect.adjusted(20, 30, -20, -40), _extent(seen.sheet))
    _disc(painter, view, seen, None)
    for i, tower in enumerate(TOWERS):
        at = _tower(painter, view, seen, i)
        low = seen.geometry.angle[i] % 360 > 180
        text(painter, at + QPointF(0, 26 if low else -14), f"{tower} tower", CENTRE, 13, bold=True)
    for number, (x, y) in enumerate(seen.planned.tolist()):
        done = seen.busy and number < seen.touched
        painter.setPen(pen(theme.INK if done else theme.GOLD, 1.4))
        painter.setBrush(theme.INK if done else theme.PANEL)
        painter.drawEllipse(view.at(x, y), 4.5, 4.5)
    told = f"{len(seen.planned)} places, chosen for what is to be solved"
    if seen.busy:
        told = f"touched {seen.touched} of {len(seen.planned)}"
    text(painter, QPointF(rect.center().x(), rect.bottom() - 12), told, CENTRE, 13)


def _maps(painter: QPainter, rect: QRectF, seen: TowersView) -> None:
    assert seen.solved is not None
    scale_wide = 92.0
    wide = (rect.width() - scale_wide) / 2
    tall = min(rect.height() * 0.62, wide)
    for k, chart in enumerate((seen.before, seen.after)):
        box = QRectF(rect.left() + k * wide, rect.top() + 22, wide, tall)
        view = plain_view(box.adjusted(6, 6, -6, -6), _extent(seen.sheet))
        _disc(painter, view, seen, chart)
        for i in range(3):
            _tower(painter, view, seen, i)
        painter.setPen(pen(theme.INK, 1))
        painter.setBrush(theme.PANEL)
        for x, y in seen.xy.tolist() if seen.xy is not None else ():
            painter.drawEllipse(view.at(x, y), 2.2, 2.2)
        at = QPointF(box.center().x(), rect.top() + 16)
        text(painter, at, seen.heads[k], CENTRE, 13 if wide > 240 else 11, bold=True)
    if seen.before is not None:
        scale = QRectF(rect.left(), rect.top() + 22, rect.width(), tall)
        paint_scale(painter, scale, seen.before, ("near", "far"), "mean", False)
    below = QRectF(rect.left(), rect.top() + tall + 34, rect.width(), rect.height() - tall - 40)
    _columns(painter, below, seen)


def _columns(painter: QPainter, rect: QRectF, seen: TowersView) -> None:
    """Left, rear, right: what each tower's switch and angle do, and what is left before it."""
    assert seen.solved is not None
    change, u = seen.solved.change, seen.solved.u
    largest = max([abs(change[f"switch_mm.{t}"]) for t in TOWERS] + [1e-6])
    wide = rect.width() / 3
    pixels = 14 if wide > 190 else 12
    for k, i in enumerate((0, 2, 1)):
        tower = TOWERS[i]
        edge = rect.left() + k * wide
        painter.setPen(pen(theme.LINE, 1))
        if k:
            painter.drawLine(QPointF(edge, rect.top()), QPointF(edge, rect.bottom() - 4))
        left = edge + max((wide - 150) / 2, 5.0)
        text(
            painter, QPointF(left, rect.top() + 16), f"{tower} tower", pixels=pixels + 1, bold=True
        )
        off = change[f"switch_mm.{tower}"]
        _arrow(painter, QPointF(left + 4, rect.top() + 47), off / largest)
        turn = change[f"tower_angle_deg.{tower}"]
        round_way = f"{abs(turn):.2f}° {'further round' if turn > 0 else 'less far round'}"
        lines = (
            f"switch {'higher' if off > 0 else 'lower'}",
            f"{mm(abs(off))} ± {mm(2 * u.get(f'switch_mm.{tower}', 0.0))} mm",
            round_way if f"tower_angle_deg.{tower}" in u else "angle held",
            f"left over {seen.left[i] * 1000:+.0f} µm".replace("-", MINUS)
            if np.isfinite(seen.left[i])
            else "",
        )
        for row, words in enumerate(lines):
            at = QPointF(left + (14 if row < 2 else 0), rect.top() + 44 + 1.6 * pixels * row)
            text(painter, at, words, pixels=pixels, colour=theme.MUTED if row == 3 else theme.INK)


def _arrow(painter: QPainter, middle: QPointF, share: float) -> None:
    """How the switch sits against what the printer believes."""
    length = 24.0 * share
    if abs(length) < 2:
        return
    foot, tip = middle + QPointF(0, length / 2), middle - QPointF(0, length / 2)
    way = -1.0 if share > 0 else 1.0
    painter.setPen(pen(theme.GOLD, 3))
    painter.drawLine(foot, tip)
    painter.setBrush(theme.GOLD)
    painter.drawPolygon(
        QPolygonF([tip + QPointF(0, 7 * way), tip + QPointF(-6, 0), tip + QPointF(6, 0)])
    )
