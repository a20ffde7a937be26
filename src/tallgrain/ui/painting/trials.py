"""Trial prints, drawn: what is known of t, how layers look, and patches as they were printed."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPolygonF

from tallgrain.core.solve.gap import NextTrial, Posterior, Trial, Verdict
from tallgrain.ui.app import theme
from tallgrain.ui.painting.gap import paint_nozzle
from tallgrain.ui.painting.pens import hatched, pen, text
from tallgrain.ui.widgets.words import mm

CENTRE = Qt.AlignmentFlag.AlignHCenter
# From not touching to see-through, as a builder says it.
LOOKS: dict[Verdict, str] = {
    "not_sticking": "Does not stick",
    "sits_on_top": "Sits on top",
    "good": "Good",
    "squashed": "Squashed",
    "scraping": "Scraping",
    "cannot_tell": "Can't tell",
}
# Width of a line over the pitch of the lines, and how solid it is, for the samples.
_SAMPLES: dict[Verdict, tuple[float, float]] = {
    "not_sticking": (0.5, 1.0), "sits_on_top": (0.78, 1.0), "good": (1.0, 1.0),
    "squashed": (1.3, 0.75), "scraping": (1.8, 0.35), "cannot_tell": (0.0, 0.0),
}  # fmt: skip
PLASTIC = QColor("#7E9A3E")


@dataclass(frozen=True)
class Trials:
    """What is drawn; mm."""

    known: Posterior | None
    trials: tuple[Trial, ...]
    now: float | None
    next: NextTrial | None


def paint_sample(painter: QPainter, rect: QRectF, verdict: Verdict) -> None:
    """How such a layer looks from above."""
    wide, solid = _SAMPLES[verdict]
    if verdict == "cannot_tell":
        text(painter, rect.center() + QPointF(0, 6), "?", CENTRE, 17, theme.MUTED)
        return
    lines = []
    pitch = rect.height() / 5
    for i in range(5):
        y = rect.top() + (i + 0.5) * pitch
        ends = [rect.left() + 3, y, rect.right() - 3, y]
        lines.append([*ends, wide, 1.0 if verdict == "not_sticking" else 0.0])
    _lines(painter, lines, 1.0, pitch, solid)


def _lines(
    painter: QPainter, lines: Sequence[Sequence[float]], unit: float, pitch: float, solid: float
) -> None:
    """Lines as x0, y0, x1, y1 in pixels, width in units, and how loose (0 to 1) they hang."""
    for i, (x0, y0, x1, y1, wide, loose) in enumerate(lines):
        across = max(wide / unit * pitch, 1.0)
        colour = QColor(PLASTIC).darker(100 + (i % 2) * 8)
        colour.setAlphaF(float(np.clip(solid if wide / unit < 1.02 else solid * 0.85, 0.12, 1.0)))
        drawn = pen(colour, across)
        drawn.setCapStyle(Qt.PenCapStyle.FlatCap)
        painter.setPen(drawn)
        if loose < 0.3:
            painter.drawLine(QPointF(x0, y0), QPointF(x1, y1))
            continue
        # A strand that was not pressed down lies in waves.
        along = np.linspace(0, 1, 25)
        waves = loose * pitch * 0.55 * np.sin(along * 19 + i * 1.7)
        painter.drawPolyline(
            QPolygonF(
                [
                    QPointF(x0 + (x1 - x0) * a, y0 + (y1 - y0) * a + w)
                    for a, w in zip(along, waves, strict=True)
                ]
            )
        )


def paint_patch(painter: QPainter, rect: QRectF, place: dict[str, object]) -> None:
    """One place of a printed patch as it is seen from above; lines in mm."""
    lines = np.asarray(place["lines"], dtype=float)
    painter.fillRect(rect, theme.METAL)
    painter.setPen(pen(theme.MUTED, 0.6))
    painter.setBrush(hatched(theme.LINE))
    painter.drawRect(rect)
    if not len(lines):
        return
    low, high = lines[:, [0, 1]].min(axis=0), lines[:, [0, 1]].max(axis=0)
    low, high = np.minimum(low, lines[:, [2, 3]].min(0)), np.maximum(high, lines[:, [2, 3]].max(0))
    # A loupe: the middle of the patch, a dozen lines of it.
    pitch_mm = float(np.median(np.diff(np.unique(lines[:, 1])))) if len(lines) > 1 else 0.45
    scale = rect.height() / (12 * pitch_mm)
    middle = (low + high) / 2
    near = lines[np.abs(lines[:, 1] - middle[1]) < 6.2 * pitch_mm]
    drawn = near.copy()
    drawn[:, [0, 2]] = rect.center().x() + (near[:, [0, 2]] - middle[0]) * scale
    drawn[:, [1, 3]] = rect.center().y() - (near[:, [1, 3]] - middle[1]) * scale
    drawn[:, [0, 2]] = np.clip(drawn[:, [0, 2]], rect.left() + 4, rect.right() - 4)
    ratio = float(np.median(near[:, 4])) / pitch_mm
    # A layer pressed thin lets the plate shine through.
    solid = float(np.clip(1.0 / max(ratio, 1.0) ** 1.6, 0.15, 1.0))
    painter.save()
    painter.setClipRect(rect)
    _lines(painter, drawn.tolist(), pitch_mm, pitch_mm * scale, solid)
    if ratio > 1.12:
        # What is pressed aside stands up between the lines.
        ridge = pen(QColor(PLASTIC).darker(150), min((ratio - 1) * 3.0, 3.0))
        painter.setPen(ridge)
        for x0, y0, x1, y1, *_ in drawn:
            off = pitch_mm * scale / 2
            painter.drawLine(QPointF(x0, y0 + off), QPointF(x1, y1 + off))
    painter.restore()


def paint_trials(painter: QPainter, rect: QRectF, seen: Trials) -> None:
    """The density of t, the trials above it, and where the next one goes."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    box = rect.adjusted(40, 78, -40, -64)
    text(
        painter,
        QPointF(box.left(), rect.top() + 30),
        "What the prints say of the trip height",
        pixels=15,
        bold=True,
    )
    if seen.known is None or seen.now is None:
        words = "The first trial is printed as the printer stands."
        text(painter, box.center(), words, CENTRE, 14, theme.MUTED)
        painter.restore()
        return
    known = seen.known
    marks = [known.quantile(0.001), known.quantile(0.999), seen.now]
    marks += [t.t_set for t in seen.trials]
    room = max((max(marks) - min(marks)) * 0.08, 0.02)
    low, high = min(marks) - room, max(marks) + room

    def x(t: float) -> float:
        return box.left() + (t - low) / (high - low) * box.width()

    _axis(painter, box, low, high, x)
    inside = (known.t >= low) & (known.t <= high)
    t, weight = known.t[inside], known.weight[inside]
    base = box.bottom()
    # The density takes the lower half; the trials stand above it.
    tall = 0.5 * box.height() / max(float(weight.max()), 1e-12)
    curve = [QPointF(x(float(a)), base - float(w) * tall) for a, w in zip(t, weight, strict=True)]
    painter.setPen(pen(theme.GOLD, 1.8))
    painter.setBrush(theme.GOLD_WASH)
    painter.drawPolygon(QPolygonF([QPointF(x(t[0]), base), *curve, QPointF(x(t[-1]), base)]))
    for number, trial in enumerate(seen.trials):
        _trial(painter, QPointF(x(trial.t_set), box.top() + 32 + 22 * (number % 6)), number, trial)
    painter.setPen(pen(theme.INK, 1.4, Qt.PenStyle.DashLine))
    painter.drawLine(QPointF(x(seen.now), box.top() + 4), QPointF(x(seen.now), base))
    text(painter, QPointF(x(seen.now), box.top() - 4), "printer now", CENTRE, 12, bold=True)
    if seen.next is not None and abs(seen.next.t_set - seen.now) > 5e-4:
        at = x(seen.next.t_set)
        painter.setPen(pen(theme.RUST, 2, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(at, box.top() + 18), QPointF(at, base))
        text(painter, QPointF(at, box.top() + 12), "try next", CENTRE, 12, theme.RUST, True)
        text(
            painter,
            QPointF(box.left(), rect.top() + 46),
            f"Next: {seen.next.why}",
            pixels=12,
            colour=theme.MUTED,
        )
    painter.restore()


def _axis(painter: QPainter, box: QRectF, low: float, high: float, x: object) -> None:
    painter.setPen(pen(theme.LINE, 1))
    painter.drawLine(box.bottomLeft(), box.bottomRight())
    steps = (0.01, 0.02, 0.05, 0.1, 0.2, 0.5)
    step = next((s for s in steps if (high - low) / s <= 8), 1.0)
    for tick in np.arange(np.ceil(low / step) * step, high, step):
        at = QPointF(x(float(tick)), box.bottom())  # type: ignore[operator]
        painter.setPen(pen(theme.LINE, 1))
        painter.drawLine(at, at + QPointF(0, 5))
        text(painter, at + QPointF(0, 18), mm(float(tick), 2), CENTRE, 11, theme.MUTED)
    text(
        painter,
        QPointF(box.left(), box.bottom() + 34),
        "further from the plate",
        pixels=11,
        colour=theme.MUTED,
    )
    text(
        painter,
        QPointF(box.right(), box.bottom() + 34),
        "nearer  ·  trip height, mm",
        Qt.AlignmentFlag.AlignRight,
        11,
        theme.MUTED,
    )


def _trial(painter: QPainter, at: QPointF, number: int, trial: Trial) -> None:
    """A small sample of its look at its trip height."""
    rect = QRectF(at.x() - 16, at.y() - 9, 32, 18)
    painter.setPen(pen(theme.MUTED, 0.8))
    painter.setBrush(theme.PANEL)
    painter.drawRect(rect)
    paint_sample(painter, rect.adjusted(2, 2, -2, -2), trial.verdict)
    text(painter, QPointF(rect.right() + 5, at.y() + 4), str(number + 1), pixels=11)


def paint_shift(painter: QPainter, rect: QRectF, layer: float, shift: float, live: bool) -> None:
    """The first layer as the trip height wants it, and where the nudges put the nozzle."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    ground = rect.bottom() - 90
    scale = min((ground - rect.top() - 190) / max(layer + abs(shift), 0.1), 900.0)
    plate = QRectF(rect.left() + 30, ground, rect.width() - 60, 22)
    painter.setPen(pen(theme.INK, 1.6))
    painter.setBrush(theme.PANEL)
    painter.drawRect(plate)
    painter.setBrush(hatched(theme.MUTED))
    painter.drawRect(plate)
    text(painter, QPointF(plate.left(), ground + 42), "plate", pixels=13, colour=theme.MUTED)
    wanted = ground - layer * scale
    painter.setPen(pen(theme.MUTED, 1.2, Qt.PenStyle.DashLine))
    painter.drawLine(QPointF(plate.left(), wanted), QPointF(plate.right(), wanted))
    words = f"layer {mm(layer, 2)} mm"
    text(painter, QPointF(plate.left(), wanted - 6), words, pixels=12, colour=theme.MUTED)
    tip = QPointF(
        rect.center().x() + (60 if rect.width() > 480 else -20), ground - (layer + shift) * scale
    )
    paint_nozzle(painter, tip)
    if shift:
        at = QPointF(tip.x() + 70, 0)
        painter.setPen(pen(theme.RUST, 2))
        painter.drawLine(QPointF(at.x(), wanted), QPointF(at.x(), tip.y()))
        way = "away" if shift > 0 else "nearer"
        text(
            painter,
            QPointF(at.x() + 8, (wanted + tip.y()) / 2 + 4),
            f"{mm(abs(shift))} mm {way}",
            pixels=14,
            colour=theme.RUST,
            bold=True,
        )
    told = "it prints" if live else "nothing is being printed"
    text(painter, QPointF(rect.left() + 30, rect.top() + 36), told, pixels=14, bold=live)
    text(
        painter,
        QPointF(rect.left() + 30, rect.bottom() - 12),
        "from the side, not to scale",
        pixels=11,
        colour=theme.MUTED,
    )
    painter.restore()
