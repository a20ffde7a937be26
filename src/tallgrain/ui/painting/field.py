"""The field from above: plate, supports, reach and heights, drawn to scale on any painter."""

from dataclasses import dataclass, field

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QImage, QPainter, QPainterPath, QPolygonF

from tallgrain.core.machine.outline import Disc, Rectangle
from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.chart import Chart
from tallgrain.ui.app import theme
from tallgrain.ui.painting.axes import paint_axes
from tallgrain.ui.painting.colours import height_image
from tallgrain.ui.painting.labels import Placer
from tallgrain.ui.painting.pens import hatched, pen, text, triangle, wedge
from tallgrain.ui.painting.plates import CORNER_PX, outline_path, rim_path
from tallgrain.ui.painting.scale import paint_scale
from tallgrain.ui.painting.view import AXIS_BOTTOM, AXIS_LEFT, TOP, View, edge_of
from tallgrain.ui.widgets.words import mm

CROWDED = 900
# How much of a ghost is seen.
GHOST = 0.35


@dataclass(frozen=True)
class Picture:
    """What the field shows. points: (n, 2) mm planned or surveyed; heights: (k,) mm of the first
    k of them, about the reference plane."""

    sheet: MachineSheet
    points: np.ndarray = field(default_factory=lambda: np.empty((0, 2)))
    heights: np.ndarray = field(default_factory=lambda: np.empty(0))
    dropped: tuple[tuple[float, float], ...] = ()
    chart: Chart | None = None
    now: tuple[float, float] | None = None
    flags: bool = True
    show_points: bool = True
    show_reach: bool = True
    caption: tuple[str, str] = ("ridge", "hollow")
    middle: str = "level"
    line: tuple[tuple[float, float], tuple[float, float]] | None = None
    cursor: tuple[float, float] | None = None
    pinned: bool = False
    crossed: tuple[tuple[float, float], ...] = ()
    route: bool = False  # the order of travel
    room: tuple[float, float, float, float] | None = None  # a purge line's spot
    ringed: tuple[tuple[float, float], ...] = ()  # where a touch was left out
    light: bool = False  # colours only, while the plate is being dragged
    wipe: float | None = None  # left of this x one survey is shown, right of it another
    ghost: Chart | None = None  # the last survey, pale, until touches replace it

    def ground(self) -> tuple[object, ...]:
        """What the drawing depends on, but for the line and the cursor, which move."""
        return (
            id(self.sheet),
            id(self.points),
            id(self.heights),
            id(self.chart),
            id(self.ghost),
            self.dropped,
            self.now,
            self.flags,
            self.show_points,
            self.show_reach,
            self.caption,
            self.middle,
            self.pinned,
            self.crossed,
            self.light,
            self.route,
            self.room,
            self.ringed,
            self.wipe,
        )


def bare(sheet: MachineSheet) -> MachineSheet:
    """The plate alone: what supports and screws it has is of no account here."""
    return sheet.model_copy(update={"supports": [], "adjusters": [], "keep_outs": []})


def paint_field(painter: QPainter, rect: QRectF, picture: Picture, view: View) -> None:
    """Draw the field into a rectangle."""
    taken = paint_ground(painter, rect, picture, view)
    paint_over(painter, picture, view, taken)


def paint_over(painter: QPainter, picture: Picture, view: View, taken: Placer) -> None:
    """Draw what moves with the mouse and the keys, the section's line and the cursor, and what no
    line may cross: the highest and the lowest figure, clear of the names that are taken."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setClipRect(view.box.adjusted(-AXIS_LEFT, -TOP, 18, AXIS_BOTTOM))
    if picture.wipe is not None:
        _wipe(painter, picture, view)
    if picture.line:
        _line(painter, picture.line, view)
    if picture.chart and picture.flags:
        taken = taken.copy()
        for end in picture.line or ():
            at = view.at(*end)
            taken.keep(QRectF(at.x() - 9, at.y() - 9, 18, 18))
        _flags(painter, picture.chart, view, taken)
    if picture.cursor:
        _cursor(painter, view.at(*picture.cursor))
    painter.restore()


def _wipe(painter: QPainter, picture: Picture, view: View) -> None:
    """Where one survey ends and the other begins."""
    box = picture.sheet.plate.outline.box
    x = picture.wipe if picture.wipe is not None else box.middle[0]
    top, bottom = view.at(x, box.y1), view.at(x, box.y0)
    painter.setPen(pen(theme.INK, 2))
    painter.drawLine(top, bottom)
    for words, off in (("A", -14.0), ("B", 14.0)):
        at = QPointF(top.x() + off, top.y() + 18)
        text(painter, at, words, Qt.AlignmentFlag.AlignHCenter, 14, bold=True)


def paint_ground(painter: QPainter, rect: QRectF, picture: Picture, view: View) -> Placer:
    """Draw all the rest; where its names stand."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
    painter.setClipRect(view.box.adjusted(-AXIS_LEFT, -TOP, 18, AXIS_BOTTOM))
    _plate(painter, picture, view)
    if picture.ghost:
        painter.setOpacity(GHOST)
        paint_heights(painter, picture.ghost, view, light=True)
        painter.setOpacity(1.0)
    if picture.chart:
        paint_heights(painter, picture.chart, view, picture.light)
    placer = Placer(view.box)
    for place in (*picture.dropped, *picture.crossed, *picture.ringed):
        at = view.at(*place)
        placer.keep(QRectF(at.x() - 6, at.y() - 6, 12, 12))
    if picture.show_points and len(picture.points) <= CROWDED:
        for x, y in picture.points.tolist():
            placer.mark(view.at(x, y), 8.0)
    _frame(painter, picture, view, placer)
    if picture.room:
        _room(painter, picture.room, view)
    if picture.route and len(picture.points) > 1:
        _route(painter, picture, view)
    if picture.show_points and not picture.light:
        _points(painter, picture, view)
    paint_axes(painter, picture.sheet, view)
    painter.restore()
    if picture.chart:
        paint_scale(painter, rect, picture.chart, picture.caption, picture.middle, picture.pinned)
    return placer


def _square(box: QRectF) -> QPainterPath:
    path = QPainterPath()
    path.addRect(box)
    return path


def _plate(painter: QPainter, picture: Picture, view: View) -> None:
    path = outline_path(picture.sheet.plate.outline, view, CORNER_PX)
    painter.fillPath(path, theme.PANEL)
    painter.setPen(pen(theme.INK, 2))
    # What was not measured is hatched: it never looks level.
    painter.setBrush(hatched(theme.LINE) if picture.chart else Qt.BrushStyle.NoBrush)
    painter.drawPath(path)


Lines = list[QPolygonF]
# Pictures and contour lines of the last few charts; the chart is held too, so that its id stays its
# own.
_images: dict[tuple[int, tuple[bool, bool]], tuple[Chart, QImage]] = {}
_contours: dict[int, tuple[Chart, Lines, Lines]] = {}
KEPT = 4


def _image_of(chart: Chart) -> QImage:
    """A chart's colours."""
    key = id(chart), theme.worn()
    if key not in _images:
        while len(_images) >= KEPT:
            _images.pop(next(iter(_images)))
        _images[key] = chart, height_image(chart.heights, chart.span)
    return _images[key][1]


def _contours_of(chart: Chart) -> tuple[Lines, Lines]:
    """A chart's contour lines (in mm) and its level lines: apart, since one path of them all is
    drawn ten times as slowly."""
    if id(chart) not in _contours:
        while len(_contours) >= KEPT:
            _contours.pop(next(iter(_contours)))
        lines: Lines = []
        level: Lines = []
        for line in chart.contours:
            kind = level if abs(line.level) < chart.step / 2 else lines
            kind.append(QPolygonF([QPointF(x, y) for x, y in line.vertices.tolist()]))
        _contours[id(chart)] = chart, lines, level
    return _contours[id(chart)][1:]


_polygons: dict[int, tuple[np.ndarray, QPolygonF]] = {}


def _polygon_of(points: np.ndarray) -> QPolygonF:
    """Points (n, 2) mm as Qt wants them, kept for the next paint."""
    if id(points) not in _polygons:
        while len(_polygons) >= 4:
            _polygons.pop(next(iter(_polygons)))
        made = QPolygonF([QPointF(x, y) for x, y in points.tolist()])
        _polygons[id(points)] = (points, made)
    return _polygons[id(points)][1]


def _in_millimetres(painter: QPainter, view: View) -> None:
    """From here on the painter counts in mm on the plate, y to the rear."""
    painter.translate(view.at(0, 0))
    painter.scale(view.scale, -view.scale)


def paint_heights(painter: QPainter, chart: Chart, view: View, light: bool = False) -> None:
    """A chart's colours and, unless light, its contour lines."""
    rows, columns = chart.heights.shape
    # The raster's samples sit on the edges of the area, half a sample inside the picture's edge.
    half_x = (chart.x1 - chart.x0) / (columns - 1) / 2
    half_y = (chart.y1 - chart.y0) / (rows - 1) / 2
    target = view.rect(
        Rectangle(chart.x0 - half_x, chart.y0 - half_y, chart.x1 + half_x, chart.y1 + half_y)
    )
    painter.save()
    if chart.rim is not None:
        painter.setClipPath(rim_path(chart.rim, view), Qt.ClipOperation.IntersectClip)
    painter.drawImage(target, _image_of(chart))
    if light:
        painter.restore()
        return
    lines, level = _contours_of(chart)
    _in_millimetres(painter, view)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for kind, colour, width in ((lines, theme.INK.lighter(150), 0.7), (level, theme.INK, 1.8)):
        drawn = pen(colour, width)
        drawn.setCosmetic(True)
        painter.setPen(drawn)
        for line in kind:
            painter.drawPolyline(line)
    painter.restore()


def _frame(painter: QPainter, picture: Picture, view: View, placer: Placer) -> None:
    sheet = picture.sheet
    if picture.show_reach:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(pen(theme.GOLD, 1.2, Qt.PenStyle.DashLine))
        reach = Reach(sheet)
        painter.drawPath(
            outline_path(reach.surface, view) & outline_path(reach.sensed, view, CORNER_PX)
            if isinstance(reach.surface, Disc)
            else _square(view.rect(reach.box))
        )
    for keep_out in sheet.keep_outs:
        box = view.rect(keep_out.outline)
        painter.setPen(pen(theme.INK, 1.2))
        painter.setBrush(theme.METAL)
        painter.drawRect(box)
        painter.setBrush(hatched(theme.INK))
        painter.drawRect(box)
    outside = []
    for support in sheet.supports:
        name, edge = f"Z {support.name}", edge_of(sheet.plate.outline, support.at)
        if edge is None:
            _support(painter, view.at(*support.at), name, placer, "abrl")
        else:
            outside.append((edge, support.at, name))
    for adjuster in sheet.adjusters:
        # A screw's name runs inward from it, clear of the plate's edge.
        left = adjuster.at[0] < sheet.plate.outline.middle[0]
        _support(painter, view.at(*adjuster.at), adjuster.name, placer, "rab" if left else "lab")
    for edge, at, name in outside:
        _tick(painter, view, edge, at, name, placer)


def _tick(
    painter: QPainter,
    view: View,
    edge: tuple[float, float],
    at: tuple[float, float],
    name: str,
    placer: Placer,
) -> None:
    """A motor that stands outside: a wedge at the plate's edge that points to it, its name inside,
    so that the plate is drawn as large as there is room."""
    foot, to = view.at(*edge), view.at(*at)
    long = max(float(np.hypot(to.x() - foot.x(), to.y() - foot.y())), 1e-6)
    out = QPointF((to.x() - foot.x()) / long, (to.y() - foot.y()) / long)
    across = QPointF(-out.y(), out.x())
    painter.setPen(pen(theme.INK, 1.2))
    painter.setBrush(theme.GOLD)
    painter.drawPolygon(wedge(foot, out))
    painter.setFont(theme.font(11))
    words = painter.fontMetrics().horizontalAdvance(name) + 8.0
    middle = foot - QPointF(out.x() * (words / 2 + 7), out.y() * 17)
    box = QRectF(middle.x() - words / 2, middle.y() - 8, words, 16)
    box = placer.place(
        box.translated(across * off - out * inward)
        for inward in (0, 20, 40)
        for off in (0, 20, -20, 36, -36, 54, -54, 90, -90)
    )
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.PANEL)
    painter.drawRoundedRect(box, 3, 3)
    painter.setPen(theme.INK)
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)


def _support(painter: QPainter, at: QPointF, name: str, placer: Placer, ways: str) -> None:
    painter.setPen(pen(theme.INK, 1.4))
    painter.setBrush(theme.GOLD_WASH)
    painter.drawEllipse(at, 8, 8)
    painter.drawLine(at - QPointF(5, 0), at + QPointF(5, 0))
    painter.drawLine(at - QPointF(0, 5), at + QPointF(0, 5))
    placer.keep(QRectF(at.x() - 9, at.y() - 9, 18, 18))
    placer.name(painter, at, name, ways, 13, 12, theme.MUTED)


def _room(painter: QPainter, room: tuple[float, float, float, float], view: View) -> None:
    """Where the purge line goes."""
    box = view.rect(Rectangle(*room))
    painter.setPen(pen(theme.GOLD, 1.6))
    painter.setBrush(theme.GOLD_WASH)
    painter.drawRect(box)
    wide = box.width() > box.height()
    at = QPointF(box.center().x(), box.bottom() + 14) if wide else box.center() + QPointF(8, 4)
    side = Qt.AlignmentFlag.AlignHCenter if wide else Qt.AlignmentFlag.AlignLeft
    text(painter, at, "purge", side, 11, theme.MUTED)


def _route(painter: QPainter, picture: Picture, view: View) -> None:
    """The way from point to point, with its beginning and its end named."""
    painter.save()
    _in_millimetres(painter, view)
    way = pen(theme.GOLD, 1.0)
    way.setCosmetic(True)
    painter.setPen(way)
    painter.drawPolyline(_polygon_of(picture.points))
    painter.restore()
    for i, name in ((0, "first"), (-1, "last")):
        at = view.at(*(float(c) for c in picture.points[i]))
        text(painter, at + QPointF(7, -6), name, Qt.AlignmentFlag.AlignLeft, 11, theme.MUTED)


def _points(painter: QPainter, picture: Picture, view: View) -> None:
    done = len(picture.heights)
    crowded = len(picture.points) > CROWDED
    places = _polygon_of(picture.points)
    fill = theme.PANEL if picture.chart else theme.GRAIN
    painter.save()
    _in_millimetres(painter, view)
    # Thousands of round dots cost more than they show: there they are small and square.
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, not crowded)
    for dots, edge, inside in (
        (places.mid(0, done), theme.INK, fill),
        (places.mid(done), theme.METAL, theme.PANEL),
    ):
        # A dot is a point drawn with a wide round pen, twice: its edge, then its fill.
        for colour, width in ((edge, 2.4),) if crowded else ((edge, 7.2), (inside, 5.2)):
            drawn = pen(colour, width)
            drawn.setCosmetic(True)
            if crowded:
                drawn.setCapStyle(Qt.PenCapStyle.SquareCap)
            painter.setPen(drawn)
            painter.drawPoints(dots)
    painter.restore()
    for x, y in (*picture.dropped, *picture.crossed):
        at = view.at(x, y)
        painter.setPen(pen(theme.RUST, 1.6))
        painter.drawLine(at - QPointF(4, 4), at + QPointF(4, 4))
        painter.drawLine(at - QPointF(4, -4), at + QPointF(4, -4))
    for x, y in picture.ringed:
        painter.setPen(pen(theme.RUST, 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(view.at(x, y), 7, 7)
    if picture.now:
        painter.setPen(pen(theme.GOLD, 2.5))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(view.at(*picture.now), 9, 9)


def _line(
    painter: QPainter, line: tuple[tuple[float, float], tuple[float, float]], view: View
) -> None:
    p, q = view.at(*line[0]), view.at(*line[1])
    painter.setPen(pen(theme.PANEL, 3.5))
    painter.drawLine(p, q)
    painter.setPen(pen(theme.INK, 1.6, Qt.PenStyle.DashLine))
    painter.drawLine(p, q)
    for at, name in ((p, "P"), (q, "Q")):
        painter.setPen(pen(theme.INK, 1.4))
        painter.setBrush(theme.GOLD_WASH)
        painter.drawEllipse(at, 8.5, 8.5)
        text(painter, at + QPointF(0, 4.5), name, Qt.AlignmentFlag.AlignHCenter, 12, bold=True)


def _cursor(painter: QPainter, at: QPointF) -> None:
    for colour, width in ((theme.PANEL, 4.0), (theme.INK, 1.6)):
        painter.setPen(pen(colour, width))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(at, 7, 7)
        for x, y in ((1, 0), (-1, 0), (0, 1), (0, -1)):
            painter.drawLine(at + QPointF(7 * x, 7 * y), at + QPointF(14 * x, 14 * y))


def _flags(painter: QPainter, chart: Chart, view: View, placer: Placer) -> None:
    for extreme, up in ((chart.high, True), (chart.low, False)):
        at = view.at(extreme.x, extreme.y)
        words = mm(extreme.z, signed=True)
        painter.setFont(theme.font(13, bold=True))
        width = painter.fontMetrics().horizontalAdvance(words) + 12.0
        beside = [QRectF(at.x() + 10, at.y() - 10, width, 20)]
        if at.x() + 12 + width > view.box.right() - 4:
            beside.clear()
        beside.append(QRectF(at.x() - 10 - width, at.y() - 10, width, 20))
        around = (QRectF(at.x() - width / 2, at.y() + dy, width, 20) for dy in (12, -32, 34, -54))
        box = placer.place([*beside, *around])
        painter.setPen(pen(theme.LINE))
        painter.setBrush(theme.PANEL)
        painter.drawRoundedRect(box, 2, 2)
        painter.setBrush(theme.INK)
        painter.setPen(pen(theme.PANEL, 1))
        middle = at + QPointF(0, -5 if up else 5)
        painter.drawPolygon(triangle(middle, 11, up))
        painter.setPen(theme.INK)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)
