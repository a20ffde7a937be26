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
from tallgrain.demo import at_hands
from tallgrain.link.guard.evidence import READING_MM
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
    if window.station.name in ("Skew", "Drift", "Gap", "Probe"):
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
        lines.append(f"| {page} | {' | '.join(cell(*figures) for figures in told)} |")
    return lines


def cell(share, words, controls, out):
    """A page's figures as they stand in a table."""
    return f"{f'{100 * share:.0f} %' if share else '–'}, {words}, {controls}, {out}"


def wait(ready, what, seconds=90):
    """Until something is so."""
    for _ in range(10 * seconds):
        if ready():
            return
        rest(None, 100)
    raise TimeoutError(what)


def settled(window, act):
    """Do something and wait until the printer rests."""
    act()
    rest(None, 100)
    wait(lambda: not window.session.busy, f"{window.station.name} never came to rest")
    rest(None, 600)


def printer(window, name):
    """Another printer, linked."""
    s = window.session
    s.choose_printer(name)
    rest(None, 900)
    wait(lambda: s.link.value == "up" and s.sheet.name == name, f"{name} was not linked")


def halted(window):
    """A survey begun and stopped."""
    s = window.session
    s.motion.start_survey()
    wait(lambda: s.progress is not None and len(s.progress.touched) >= 12, "nothing was touched")
    settled(window, window.halt_key)


def looked(window, workshop):
    """As a builder does it: a ruler from far, things that fit from near, until it is referenced."""
    s = window.session
    for _ in range(6):
        if s.guard.trusted:
            return
        hands = workshop.ports(s.sheet.name)["hands"]
        far = float(at_hands(hands, "hands.ruler")["clearance_mm"])
        if far >= READING_MM and not s.guard.wants_fit:
            s.see_clearance(far)
        else:
            fit = float(at_hands(hands, "hands.stack")["clearance_mm"])
            s.see_fit(min(fit, READING_MM), True)
        settled(window, lambda: s.motion.do("finding the reference", s.guard.reference))
    raise TimeoutError("the nozzle's height stays unknown")


def states(window, workshop):
    """What is shown between the pages at rest, by name: where most stands on a bench."""
    gap, probe = window.gap, window.probe
    printer(window, "Barley")
    window.visit("Gap")
    gap.show_tab(0)
    settled(window, lambda: gap.work.go_aside((0.0, 0.0)))
    yield "Gap: hands under the nozzle"
    settled(window, gap.page.finish.click)
    settled(window, lambda: gap.work.set_trip(1.76, "one trial as found"))
    gap.work.feels = []
    gap.show_tab(1)
    gap.trials.verdict("sits_on_top")
    rest(None)
    yield "Gap: a trial judged, the height unknown"
    looked(window, workshop)
    window.visit("Surface")
    halted(window)
    yield "Surface: stopped"
    window.visit("First layer")
    rest(None, 6000)
    yield "First layer: stopped"
    window.visit("Probe")
    probe.show_tab(0)
    probe.work.again()
    rest(None)
    yield "Probe: checks, stopped"
    printer(window, "Rye")
    window.visit("Tilt")
    settled(window, window.primary)
    yield "Tilt: measured"
    window.visit("Adjusters")
    settled(window, window.primary)
    yield "Adjusters: measured"
    window.adjusters.tabbed.show_page(1)
    rest(None)
    yield "Adjusters: by gauge"
    printer(window, "Millet")
    window.visit("Towers")
    settled(window, window.primary)
    yield "Towers: measured"


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
    two = " | ".join(f"{w} × {h}: plate, words, controls, hidden" for w, h in SIZES[:2])
    lines += ["", "## States between", "", f"| state | {two} |", "|---|---|---|"]
    for state in states(window, workshop):
        cells = []
        for width, height in SIZES[:2]:
            window.resize(width, height)
            rest(app, 400)
            cells.append(cell(*measured(window)))
        lines.append(f"| {state} | {' | '.join(cells)} |")
    window.close()
    workshop.close()
    OUT.write_text("\n".join([*lines, ""]))


if __name__ == "__main__":
    main()
