"""Renew docs/screenshots from the demo, driven as a person would."""

import os
import sys
import tempfile
import time
import traceback
from pathlib import Path

os.environ["TALLGRAIN_HOME"] = tempfile.mkdtemp()

from PyQt6.QtCore import QEventLoop, QPointF, QRectF, Qt, QTimer
from PyQt6.QtGui import QImage, QPainter
from PyQt6.QtTest import QTest

from tallgrain.demo import at_hands, put_sheet
from tallgrain.link.connect import SHIPPED
from tallgrain.link.guard.evidence import READING_MM
from tallgrain.store.ledger import Ledger
from tallgrain.ui.app import theme
from tallgrain.ui.app.start import application, demo_window, make_window
from tallgrain.ui.demo.workshop import Workshop
from tallgrain.ui.painting.pens import text
from tallgrain.ui.stations.probe.station import CONSOLE
from tallgrain.ui.stations.surface.pictures import Layer

FOLDER = Path(__file__).parent.parent / "docs" / "screenshots"


def spin(condition, seconds=120.0):
    loop, until = QEventLoop(), time.monotonic() + seconds
    timer = QTimer(interval=20)
    timer.timeout.connect(lambda: (condition() or time.monotonic() > until) and loop.quit())
    timer.start()
    loop.exec()
    if not condition():
        raise TimeoutError("a screenshot's moment did not come")


def rest(seconds):
    until = time.monotonic() + seconds
    spin(lambda: time.monotonic() > until, seconds + 5)


class Camera:
    """Takes pictures of the window under names."""

    def __init__(self, window, only):
        self.window, self.only = window, only

    def __call__(self, name):
        if self.only and name not in self.only:
            return
        rest(0.4)
        self.window.grab().save(str(FOLDER / f"{name}.png"))
        print(name)


def main():
    FOLDER.mkdir(parents=True, exist_ok=True)
    application()
    shoot = Camera(None, set(sys.argv[1:]))
    for section, names in SECTIONS:
        if not shoot.only or shoot.only & set(names.split()):
            section(shoot)


def opened(shoot, workshop, *printer):
    """A window on the demo, in a home of its own so that no section spoils another's, and whose
    pictures are taken now."""
    os.environ["TALLGRAIN_HOME"] = tempfile.mkdtemp()
    window = demo_window(workshop, *printer)
    window.resize(1280, 800)
    window.show()
    window.activateWindow()
    shoot.window = window
    return window


def shut(window, *more):
    window.may_close = lambda: True
    window.close()
    for one in more:
        one.close()


def surveying(shoot):
    """The Surface station at rest, the first layer that is next, and a survey."""
    standin = Workshop(17, 60.0)
    window = opened(shoot, standin)
    s = window.session
    spin(lambda: s.link.value == "up" and s.back.compared is not None)
    rest(1)
    shoot("surface")
    window.visit("First layer")
    spin(lambda: window.shared.layer.advice is not None and window.shared.layer.advice.acts)
    shoot("first-layer")
    window.visit("Surface")
    s.printer.heat(170.0, 70.0)
    spin(lambda: s.state.plate.target_c > 0)
    spin(lambda: s.state.nozzle.settled and s.state.plate.settled)
    rest(4)
    s.motion.start_survey()
    spin(lambda: s.progress is not None and len(s.progress.touched) >= 47)
    shoot("surveying")
    window.halt_key()
    spin(lambda: not s.busy)
    shut(window, standin)


def own_printer(shoot):
    """A printer of one's own, described from an empty home."""
    window = make_window(Ledger.open(Path(tempfile.mkdtemp())), Path(tempfile.mkdtemp()))
    window.resize(1280, 800)
    window.show()
    window.activateWindow()
    shoot.window = window
    window.new_printer()
    page = window.machine.describing
    QTest.keyClicks(page.name, "Teasel")
    window.primary()
    for box in (page.width_mm, page.depth_mm):
        box.setValue(235)
    window.primary()
    page.kind.tiles["contact_pin"].click()
    window.primary()
    page.screws.tiles["four"].setFocus()
    page.screws.tiles["four"].click()
    rest(0.5)
    shoot("describing")
    window.may_close = lambda: True
    window.close()


def consoles(shoot):
    """A console language of the stand-in's own: taught, then proven."""
    sys.path.insert(0, str(FOLDER.parent.parent / "tests"))
    from standins import Standin

    made = Standin("--machine", "Rye", "--seed", "3", "--console", "sorrel", link="json")
    ledger = Ledger.open(Path(tempfile.mkdtemp()))
    put_sheet(ledger, "Rye")
    window = make_window(ledger, Path(tempfile.mkdtemp()))
    window.resize(1280, 800)
    window.show()
    window.activateWindow()
    s = window.session
    window.teach_console()
    dialog = window.teaching
    shoot.window = dialog
    dialog.load_dialect(SHIPPED / "sorrel.toml")
    dialog.where.setEditText(made.url.partition("?")[0])
    dialog.open_console()
    spin(lambda: dialog.console is not None)
    for line in ("who", "tell"):
        dialog.line.setText(line)
        dialog.send()
        spin(lambda: dialog.worker.resting)
    dialog.choose("state")
    dialog.try_now()
    spin(lambda: dialog.worker.resting)
    dialog.sweep_text("22.00")
    shoot("teaching")
    dialog.close()
    shoot.window = window
    s.choose_printer("Rye")
    s.linking.link_to(made.url)
    spin(lambda: s.link.value == "up")
    window.visit("Probe")
    window.probe.show_tab(CONSOLE)
    window.primary()
    page = window.probe.prove
    for _ in range(7):
        spin(lambda: page.work.question is not None)
        question = page.work.question
        if "own panel" in question.words:
            break
        if question.kind == "mm":
            page.figure.setValue(made.hands("hands.ruler")["clearance_mm"])
            page.take()
        else:
            window.primary()
        spin(lambda q=question: page.work.question is not q)
    shoot("proving")
    window.may_close = lambda: True
    s.motion.halt()
    rest(0.5)
    window.close()
    made.stop()


def stations(shoot):
    """Machine and Probe, each printer where it differs."""
    workshop = Workshop(17, 200.0)
    window = opened(shoot, workshop)
    s, probe = window.session, window.probe

    def show(printer):
        if s.sheet.name != printer:
            s.choose_printer(printer)
        spin(lambda: s.link.value == "up" and s.sheet.name == printer and s.shown is not None)
        rest(0.8)

    def work(act):
        act()
        spin(lambda: not s.busy)
        rest(0.3)

    def hand(method, **params):
        return at_hands(workshop.ports(s.sheet.name)["hands"], f"hands.{method}", **params)

    window.visit("Machine")
    show("Rye")
    window.visit("Machine")
    shoot("machine-rye")
    window.visit("Probe")
    work(window.primary)
    probe.works.answer(True)
    work(window.primary)
    probe.works.answer(True)
    hand("fault", fault="inverted")
    work(window.primary)
    shoot("probe-works")
    hand("mend")
    show("Barley")
    probe.show_tab(1)
    probe.where.claim_x.setValue(-21.5)
    probe.where.claim_y.setValue(17.0)
    probe.where.take_claimed()
    probe.where.choose_quadrant("right", "front")
    probe.where.away_x.setValue(21.0)
    probe.where.away_y.setValue(17.5)
    probe.where.take_measured()
    probe.where.source.setCurrentIndex(1)
    for _ in range(3):
        hand("tape")
        work(probe.where.touch.click)
        for _ in range(12):
            mark = hand("look")["mark"]
            if abs(mark["right_mm"]) + abs(mark["rear_mm"]) < 0.1:
                break
            way = mark["right_mm"], mark["rear_mm"], 0.0
            work(
                lambda way=way: s.motion.do(
                    "jogging", lambda: s.guard.by_hand.jog(*way), quiet=True
                )
            )
        work(probe.where.here.click)
    probe.show_tab(2)
    probe.repeats.places.setValue(3)
    work(window.primary)
    show("Millet")
    probe.show_tab(3)
    work(window.primary)
    probe.gap.seen.setValue(hand("ruler")["clearance_mm"])
    work(probe.gap.take_room)
    probe.gap.length.setCurrentIndex(0)
    for _ in range(2):
        work(lambda: probe.gap.step(-1))
    probe.gap.gauge.setValue(0.3)
    work(lambda: probe.rough.feel(0.3, hand("gauge", thickness_mm=0.3)["feel"]))
    work(probe.gap.finish.click)
    show("Barley")
    window.visit("Gap")
    gauge_loop(window, work, hand)
    shoot("gap")
    work(window.gap.page.finish.click)
    window.gap.work.set_trip(1.76, "one trial as found")
    spin(lambda: not s.busy)
    rest(0.5)
    window.gap.work.feels = []
    window.gap.show_tab(1)
    window.gap.trials.verdict("sits_on_top")
    shoot("gap-trials")
    window.visit("Handover")
    window.handover.show_page(1)
    spin(lambda: window.handover.held.act_words.startswith("Write"))
    work(window.handover.held.act)
    spin(lambda: bool(window.handover.work.surfaces.standings))
    rest(0.5)
    shoot("handover")
    shut(window, workshop)


def levelling(shoot):
    """Rye's gantry and bed screws, slow enough to be caught at work."""
    workshop = Workshop(17, 30.0)
    window = opened(shoot, workshop, "Rye")
    s = window.session
    spin(lambda: s.link.value == "up" and s.shown is not None)

    def hand(method, **params):
        return at_hands(workshop.ports("Rye")["hands"], f"hands.{method}", **params)

    window.visit("Tilt")
    hand("rack", name="left", mm=0.35)
    spin(lambda: s.needs_clearance)
    while not s.guard.trusted:
        near = hand("ruler")["clearance_mm"] < READING_MM or s.guard.wants_fit
        seen = float(hand("stack" if near else "ruler")["clearance_mm"])
        s.see_fit(min(seen, READING_MM), True) if near else s.see_clearance(seen)
        s.motion.do("finding the reference", s.guard.reference)
        spin(lambda: not s.busy)
    window.primary()
    spin(lambda: len(window.tilt.work.passes) == 1 and len(window.tilt.work.touched) < 5)
    shoot("tilt")
    spin(lambda: not s.busy)
    window.visit("Adjusters")
    window.primary()
    spin(lambda: not s.busy)
    rest(0.5)
    shoot("adjusters")
    shut(window, workshop)


def geometry(shoot):
    """Millet's towers put right, and Rye's lean read on a gauge that its hands printed."""
    workshop = Workshop(17, 1000.0)
    window = opened(shoot, workshop, "Millet")
    s, skew = window.session, window.skew
    spin(lambda: s.link.value == "up" and s.shown is not None)

    def hand(method, **params):
        return at_hands(workshop.ports(s.sheet.name)["hands"], f"hands.{method}", **params)

    window.visit("Towers")
    window.primary()
    spin(lambda: not s.busy)
    rest(0.5)
    shoot("towers")
    window.values.keep()
    spin(lambda: not s.busy)
    s.choose_printer("Rye")
    spin(lambda: s.link.value == "up" and s.sheet.name == "Rye" and s.shown is not None)
    window.visit("Skew")
    skew.begin_at(Path(tempfile.mkdtemp()) / "gauge.ngc")
    hand("print", program=skew.work.program, nozzle_c=215.0, plate_c=60.0)
    rest(1)
    spin(lambda: not hand("patch", brief=True)["printing"])
    hand("take_off")
    for pair in skew.work.part.pairs + skew.work.part.pairs[:2]:
        skew.work.choose(pair)
        jaws = skew.work.jaws()
        read = hand("caliper", start=jaws.start, end=jaws.end)["measured_mm"]
        skew.reading.setValue(read)
        skew.take()
    rest(0.5)
    shoot("skew")
    shut(window, workshop)


def looking_back(shoot):
    """Drift: every survey's shape, and the charts."""
    workshop = Workshop(17, 200.0)
    window = opened(shoot, workshop)
    s = window.session
    spin(lambda: s.link.value == "up" and s.back.compared is not None)
    window.visit("Drift")
    spin(lambda: window.drift.work.judged is not None)
    shoot("drift")
    window.drift.show_page(1)
    shut(window, workshop)


def layers(shoot):
    """What the Surface station shows of each printer, the three side by side."""
    names = {
        Layer.HEIGHTS: "heights", Layer.DIFFERENCE: "difference", Layer.RELIEF: "relief",
    }  # fmt: skip
    workshop = Workshop(17, 200.0)
    window = opened(shoot, workshop)
    s, surface = window.session, window.surface
    seen = {layer: [] for layer in names}
    for printer in ("Barley", "Rye", "Millet"):
        if s.sheet.name != printer:
            s.choose_printer(printer)
        spin(lambda p=printer: s.sheet.name == p and s.shown is not None)
        spin(lambda: s.back.season is not None and s.back.shown == s.shown.head.ident)
        whole = [h.ident for h in s.back.season.heads if h.complete]
        s.show_stored(whole[-1])
        spin(lambda w=whole: s.shown.head.ident == s.back.shown == w[-1])
        old = whole[0]
        s.back.pin("A", old)
        spin(lambda o=old: s.back.compared is not None and s.back.compared.a.ident == o)
        for layer in names:
            surface.show_layer(layer)
            rest(0.5)
            seen[layer].append((printer, surface.subject.text(), surface.views.grab()))
        surface.show_layer(Layer.HEIGHTS)
    for layer, name in names.items():
        if not shoot.only or name in shoot.only:
            side_by_side(seen[layer]).save(str(FOLDER / f"{name}.png"))
            print(name)
    shut(window, workshop)


def side_by_side(pictures):
    """Pictures in a row, each under its name and its subject."""
    wide, high = pictures[0][2].width(), pictures[0][2].height()
    sheet = QImage(3 * wide, high + 54, QImage.Format.Format_RGB32)
    sheet.fill(theme.PAPER)
    painter = QPainter(sheet)
    for i, (printer, subject, picture) in enumerate(pictures):
        painter.drawPixmap(QPointF(i * wide, 54), picture, QRectF(0, 0, wide, high))
        text(painter, QPointF(i * wide + 16, 22), printer, pixels=15, bold=True)
        painter.setPen(theme.MUTED)
        painter.setFont(theme.font(11))
        painter.drawText(
            QRectF(i * wide + 16, 28, wide - 24, 32), Qt.TextFlag.TextWordWrap, subject
        )
    painter.end()
    return sheet


def gauge_loop(window, work, hand):
    """As a builder does it: look, thick gauges first, then the thin one until it sticks."""
    page = window.gap.page
    work(window.primary)
    page.seen.setValue(hand("ruler")["clearance_mm"])
    work(page.take_room)

    def feel(gauge):
        page.gauge.setValue(gauge)
        found = hand("gauge", thickness_mm=gauge)["feel"]
        work(lambda: window.gap.work.feel(gauge, found))
        return found

    for gauge, step in ((1.0, 0), (1.0, 1), (0.3, 1), (0.15, 2)):
        page.length.setCurrentIndex(step)
        for _ in range(12):
            if page.room > 0.005:
                work(lambda: page.step(-1))
        feel(gauge)
    page.length.setCurrentIndex(3)
    for _ in range(25):
        if feel(0.1) == "stuck":
            break
        if page.room > 0.005:
            work(lambda: page.step(-1))
    for _ in range(4):
        work(lambda: window.gap.work.to_the_middle(0.1))
        feel(0.1)


# What takes which pictures, in the order in which they are taken.
SECTIONS = (
    (surveying, "surface first-layer surveying"),
    (layers, "heights difference relief"),
    (levelling, "tilt adjusters"),
    (geometry, "towers skew"),
    (looking_back, "drift"),
    (stations, "machine-rye probe-works gap gap-trials handover"),
    (consoles, "teaching proving"),
    (own_printer, "describing"),
)

if __name__ == "__main__":
    try:
        main()
    except TimeoutError:
        traceback.print_exc(file=sys.__stderr__)  # the program's own hook would keep it to itself
        sys.exit(1)
