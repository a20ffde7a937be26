"""How each page uses its screen, at four sizes: docs/screens.md.

Share of the middle that the plate takes, words and controls on the bench, controls that only
scrolling shows. Run on the demo's year, without a monitor: ./run measure.
"""

import sys
import tempfile
from pathlib import Path

from PyQt6.QtCore import QPoint, QRectF
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSpinBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QWidget,
)

from tallgrain import demo
from tallgrain.store.ledger import Ledger
from tallgrain.ui.app import theme
from tallgrain.ui.app.start import application, demo_window, make_window
from tallgrain.ui.demo.workshop import Workshop
from tallgrain.ui.painting import view as views
from tallgrain.ui.widgets.bench import BENCH_WIDTH

SIZES = ((1024, 700), (1280, 800), (1920, 1080), (2560, 1440))
CONTROLS = (QAbstractButton, QAbstractSpinBox, QComboBox, QAbstractItemView, QLineEdit)
OUT = Path(__file__).resolve().parent.parent / "docs" / "screens.md"
# Which printer has most to show of a station.
PRINTERS = {"Adjusters": "Rye", "Towers": "Millet"}
seen: list[views.View] = []


def watched(made):
    """A maker of views that remembers what it made."""

    def make(*args, **more):
        view = made(*args, **more)
        seen.append(view)
        return view

    return make


def watch():
    """Every painter's views are remembered from now on."""
    for name in ("plain_view", "fitted"):
        made = watched(getattr(views, name))
        first = getattr(views, name)
        for module in list(sys.modules.values()):
            if getattr(module, name, None) is first:
                setattr(module, name, made)


def rest(app, ms=250):
    from PyQt6.QtCore import QEventLoop, QTimer

    loop = QEventLoop()
    QTimer.singleShot(ms, loop.quit)
    loop.exec()


def pages(window):
    """Each station and its pages, by name."""
    for name in window.rooms:
        window.session.choose_printer(PRINTERS.get(name, "Barley"))
        rest(None, 900)
        while window.session.standin and window.session.link.value != "up":
            rest(None, 200)
        window.visit(name)
        ready = {
            "First layer": lambda: window.shared.layer.advice is not None,
            "Surface": lambda: window.session.back.compared is not None,
        }.get(name, lambda: True)
        for _ in range(300):
            if ready():
                break
            rest(None, 200)
        station = window.station
        count = {"Probe": 5, "Gap": 4}.get(name, 1)
        for tab in range(count):
            if count > 1:
                station.show_tab(tab)
            yield name if count == 1 else f"{name} {tab + 1}"


def middle_of(window):
    """Between route and bench, from the header to the foot (px)."""
    wide = (w for w in window.station.widget.findChildren(QWidget) if w.isVisible())
    own, bench_px = getattr(window.station, "bench", None), theme.px(BENCH_WIDTH)
    bench = (
        own
        if isinstance(own, QWidget)
        else next((w for w in wide if w.minimumWidth() == w.maximumWidth() == bench_px), None)
    )
    left = window.route.mapTo(window, QPoint(window.route.width(), 0)).x()
    right = window.width() if bench is None else bench.mapTo(window, QPoint(0, 0)).x()
    top = window.header.mapTo(window, QPoint(0, window.header.height())).y()
    return QRectF(left, top, right - left, window.height() - top), bench


def hidden(control):
    """Whether it is there, but out of sight until something is scrolled."""
    return control.visibleRegion().isEmpty()


def measured(window):
    """A page's figures."""
    seen.clear()
    window.station.widget.repaint()
    for child in window.station.widget.findChildren(QWidget):
        if child.isVisible():
            child.repaint()
    middle, bench = middle_of(window)
    box = window.session.sheet.plate.outline.box
    drawn = max((v.scale**2 * box.width * box.depth for v in seen), default=0.0)
    plate = drawn * theme.growth() ** 2
    words = controls = out = 0
    if bench is not None:
        for one in bench.findChildren(QLabel):
            if one.isVisible() and not hidden(one):
                words += len(one.text().split())
        for one in bench.findChildren(QWidget):
            part = isinstance(one.parentWidget(), QAbstractSpinBox | QComboBox)
            if isinstance(one, CONTROLS) and one.isVisible() and not part:
                controls += 1
                out += hidden(one)
    if window.station.name in ("Skew", "Drift"):
        plate = 0.0  # a gauge is drawn there, larger than any plate, or many small plates
    return plate / (middle.width() * middle.height()), words, controls, out


def table(window, sizes, app):
    """All pages at some sizes, as rows of a table."""
    rows = {}
    for width, height in sizes:
        window.resize(width, height)
        window.show()
        for page in pages(window):
            rest(app)
            rows.setdefault(page, []).append(measured(window))
    lines = [
        f"| page | {' | '.join(f'{w} × {h}: plate, words, controls, hidden' for w, h in sizes)} |",
        "|" + "---|" * (len(sizes) + 1),
    ]
    for page, told in rows.items():
        cells = [
            f"{f'{100 * share:.0f} %' if share else '–'}, {words}, {controls}, {out}"
            for share, words, controls, out in told
        ]
        lines.append(f"| {page} | {' | '.join(cells)} |")
    return lines


def hands_in(window):
    """The gap's loop at its first place, with hands under the nozzle: most stands on the bench."""
    work = window.gap.work
    window.visit("Gap")
    window.station.show_tab(0)
    work.go_aside((0.0, 0.0))
    while window.session.busy:
        rest(None, 100)
    rest(None, 400)


def main():
    """Measure all, and write it down."""
    app = application()
    home = Path(tempfile.mkdtemp())
    demo.prepare(home)
    window = make_window(Ledger.open(home), home)
    watch()
    window.may_close = lambda: True
    lines = [
        "# How each page uses its screen", "",
        "By `scripts/measure_screens.py` on the demo's year. Plate: its share of the middle, from "
        "the route to the bench and from the header to the foot (–: no plate is drawn). Words and "
        "controls: on the bench. Hidden: controls that only scrolling shows.", "",
        "## Nothing linked", "", *table(window, SIZES, app),
    ]  # fmt: skip
    window.close()
    workshop = Workshop(17, 200.0)
    window = demo_window(workshop)
    window.may_close = lambda: True
    lines += ["", "## Linked to the stand-in", "", *table(window, SIZES[:2], app)]
    window.session.choose_printer("Barley")
    while window.session.link.value != "up":
        rest(app, 200)
    lines += ["", "## Hands under the nozzle", "", "The gap's loop at its first place.", ""]
    told = []
    hands_in(window)
    for width, height in SIZES[:2]:
        window.resize(width, height)
        rest(app, 400)
        _, words, controls, out = measured(window)
        told.append(f"{width} × {height}: {words} words, {controls} controls, {out} hidden")
    lines += [f"- {one}" for one in told]
    window.close()
    workshop.close()
    OUT.write_text("\n".join([*lines, ""]))


if __name__ == "__main__":
    main()
