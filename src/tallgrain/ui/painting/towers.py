"""The Towers station's drawing: heights before and predicted after, and each tower's correction."""

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPolygonF

from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.solve.delta import DeltaSolution
from tallgrain.core.solve.delta_geometry import TOWERS, DeltaGeometry
from tallgrain.core.surface.chart import Chart
from tallgrain.ui.app import theme
from tallgrain.ui.painting.field import paint_heights
from tallgrain.ui.painting.pens import hatched, pen, text
from tallgrain.ui.painting.plates import outline_path
from tallgrain.ui.painting.scale import SCALE_HEIGHT, SCALE_WIDTH, lying, paint_scale
from tallgrain.ui.painting.view import View, plain_view
from tallgrain.ui.widgets.words import MINUS, mm

CENTRE = Qt.AlignmentFlag.AlignHCenter
# Towers are drawn this far beyond the plate's edge (a share of its radius).
OUT = 1.08
# Lines beside a tower are so far apart, and so wide (px).
STEP, WORDS = 17.0, 118.0


@dataclass(frozen=True)
class TowersView:
    """What is drawn. planned: probe points (n, 2) mm; touched: how many of them so far; now: the
    heights as they were last touched; other: as they were before, or will be by what was solved;
    left: mean residual by tower (mm, nan for none); heads: what the two are."""

    sheet: MachineSheet
    geometry: DeltaGeometry
    planned: np.ndarray
    touched: int
    busy: bool
    solved: DeltaSolution | None = None
    now: Chart | None = None
    other: Chart | None = None
    xy: np.ndarray | None = None
    left: tuple[float, float, float] = (0.0, 0.0, 0.0)
    heads: tuple[str, str] = ("", "")


def paint_towers(painter: QPainter, rect: QRectF, seen: TowersView) -> None:
    """One plan while nothing is solved; else the plate and what each tower's switch does."""
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
    half = max(box.width, box.depth) / 2 * (OUT + 0.05)
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
        # What was not measured is hatched: it never looks level.
        painter.setBrush(hatched(theme.LINE))
        painter.drawPath(outline_path(seen.sheet.plate.outline, view))
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
        # Outward of the rim.
        leftward = at.x() < view.box.center().x()
        side = Qt.AlignmentFlag.AlignRight if leftward else Qt.AlignmentFlag.AlignLeft
        away = QPointF(22 if leftward else -22, 32) if low else QPointF(0, -14)
        words, to = f"{tower} tower", at + away
        if low:  # inside the drawing, however narrow
            wide = QFontMetricsF(theme.font(13, True)).horizontalAdvance(words) + 2
            least, most = rect.left() + wide, rect.right() - wide
            to.setX(max(to.x(), least) if leftward else min(to.x(), most))
        text(painter, to, words, side if low else CENTRE, 13, bold=True)
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
    """The plate as it is now, large, with what each tower's switch does beside the tower; as it was
    before or will be, small, on the same scale."""
    assert seen.solved is not None
    box = rect.adjusted(4, 4, -4, -26 - SCALE_HEIGHT if lying(rect) else -26)
    if seen.now is not None:
        if not lying(rect):
            box.setRight(rect.right() - SCALE_WIDTH)
        paint_scale(painter, rect, seen.now, ("near", "far"), "mean", False)
    # What is told of the rear tower stands above the plate.
    view = plain_view(box.adjusted(0, 28 if lying(rect) else 0, 0, 0), _extent(seen.sheet))
    _map(painter, view, seen, seen.now)
    for i, tower in enumerate(TOWERS):
        _told(painter, view, box, _tower(painter, view, seen, i), seen, i, tower)
    across = view.scale * seen.sheet.plate.outline.box.width
    small = QRectF(box.left(), box.top(), 0.24 * across, 0.24 * across)
    inset = plain_view(small.adjusted(2, 2, -2, -2), seen.sheet.plate.outline.box)
    _map(painter, inset, seen, seen.other, dots=False)
    for row, words in enumerate(seen.heads[1].split(": ")):
        at = QPointF(small.right() + 6, small.top() + 14 + 16 * row)
        text(painter, at, words, pixels=12, bold=not row, colour=theme.MUTED if row else theme.INK)
    rim = view.rect(seen.sheet.plate.outline.box).bottom()
    at = QPointF(box.center().x(), min(box.bottom() + 16, rim + 32))
    text(painter, at, seen.heads[0], CENTRE, 14, bold=True)


def _map(
    painter: QPainter, view: View, seen: TowersView, chart: Chart | None, dots: bool = True
) -> None:
    _disc(painter, view, seen, chart)
    painter.setPen(pen(theme.INK, 1))
    painter.setBrush(theme.PANEL)
    for x, y in seen.xy.tolist() if dots and seen.xy is not None else ():
        painter.drawEllipse(view.at(x, y), 2.6, 2.6)


def _told(
    painter: QPainter, view: View, box: QRectF, at: QPointF, seen: TowersView, i: int, tower: str
) -> None:
    """Beside a tower, off the plate: its name, how its switch sits, and what is left before it."""
    assert seen.solved is not None
    change, u = seen.solved.change, seen.solved.u
    name = f"switch_mm.{tower}"
    off, left = change[name], seen.left[i]
    lines = [f"{tower} tower"]
    if name in u:
        lines.append(f"{mm(abs(off))} mm {'higher' if off > 0 else 'lower'}")
    more = [f"± {mm(2 * u[name])}"] if name in u else []
    if np.isfinite(left):
        more.append(f"rest {left * 1000:+.0f} µm".replace("-", MINUS))
    lines += [", ".join(more)] if more else []
    low = seen.geometry.angle[i] % 360 > 180
    rightward = at.x() > view.box.center().x() + 1
    x = box.right() if low and rightward else box.left() if low else at.x() + 36
    side = Qt.AlignmentFlag.AlignRight if low and rightward else Qt.AlignmentFlag.AlignLeft
    top = _clear_of(view, seen, box, at, x, len(lines)) if low else box.top() + 14
    for row, words in enumerate(lines):
        colour = theme.MUTED if row > 1 else theme.INK
        text(painter, QPointF(x, top + STEP * row), words, side, 13, colour, bold=not row)
    if name in u:
        largest = max([abs(change[f"switch_mm.{t}"]) for t in TOWERS] + [1e-6])
        _arrow(painter, at + QPointF(0 if low else 24, 0 if not low else -24), off / largest)


def _clear_of(
    view: View, seen: TowersView, box: QRectF, at: QPointF, x: float, count: int
) -> float:
    """Where so many lines that begin at an edge (px) stand below a tower and off the round plate:
    the first one's baseline."""
    plate = view.rect(seen.sheet.plate.outline.box)
    away = abs(plate.center().x() - x) - WORDS
    radius = plate.width() / 2
    rim = plate.center().y() + float(np.sqrt(max(radius**2 - max(away, 0.0) ** 2, 0.0)))
    # The second line is the first that is wide; the name is short and may stand beside the rim.
    return min(max(at.y() + 28, rim - STEP + 14), box.bottom() + 16 - STEP * (count - 1))


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
