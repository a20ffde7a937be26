"""The Machine and Probe stations: reach with many keep-outs, a drag on the drawing, a jog's key."""

import time

import numpy as np
from PyQt6.QtCore import QEventLoop, QPointF, Qt, QTimer
from PyQt6.QtTest import QTest

from standins import Standin
from tallgrain.core.machine.areas import areas
from tallgrain.core.machine.reach import Reach
from tallgrain.core.survey import Point, Survey
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.link.channel import Channel
from tallgrain.store.ledger import Ledger
from tallgrain.ui.app.start import application, make_window, prepare_demo
from tallgrain.ui.painting.machine import handles

RNG = np.random.default_rng(3)
OUTS = "".join(
    f'\n[[keep_outs]]\nname = "k{i}"\nrectangle = [{x}, {y}, {x + 14}, {y + 9}]\n'
    for i, (x, y) in enumerate(RNG.uniform(0, 150, (50, 2)).round(1))
)
MANY = shipped_sheet_text("Barley") + OUTS


def spin(condition, seconds=30.0):
    loop, until = QEventLoop(), time.monotonic() + seconds
    timer = QTimer(interval=5)
    timer.timeout.connect(lambda: (condition() or time.monotonic() > until) and loop.quit())
    timer.start()
    loop.exec()
    assert condition()


def test_reach_with_50_keep_outs(versus):
    sheet = parse_sheet(MANY, "many")
    points = RNG.uniform(-20, 370, (2_000, 2))
    boxes = np.array([k.rectangle for k in sheet.keep_outs])

    def compared():
        # The least that any point-in-rectangle test of all pairs has to do.
        x, y = points[:, :1], points[:, 1:]
        return (x >= boxes[:, 0]) & (x <= boxes[:, 2]) & (y >= boxes[:, 1]) & (y <= boxes[:, 3])

    versus(
        "reach of 2,000 points and its areas, 50 keep-outs / all comparisons in NumPy",
        lambda: (Reach(sheet).refusals(points), areas(Reach(sheet))), compared, "12 ms an event",
    )  # fmt: skip


def test_a_drag_on_the_drawing(benchmark, tell, monkeypatch, tmp_path):
    """Every step of a drag: edit, check, areas, findings, form and the drawing itself."""
    monkeypatch.setenv("TALLGRAIN_HOME", str(tmp_path))
    app = application()
    ledger = Ledger.open(tmp_path)
    ledger.put_machine("Barley", MANY, time_now())
    window = make_window(ledger, tmp_path)
    window.resize(1280, 800)
    window.show()
    window.visit("Machine")
    spin(lambda: window.machine.field.view() is not None)
    field, times = window.machine.field, []
    for name in ("probe", "support rear", "keep-out k7"):
        handle = next(h for h in handles(window.drafts.sheet) if h.name == name)
        at = field.view().at(*handle.at)
        QTest.mousePress(field, Qt.MouseButton.LeftButton, pos=at.toPoint())
        for step in range(60):
            to = at + QPointF(-0.6 * step, 0.4 * step)
            app.processEvents()
            began = time.perf_counter()
            QTest.mouseMove(field, to.toPoint())
            field.repaint()
            times.append((time.perf_counter() - began) * 1000)
        QTest.mouseRelease(field, Qt.MouseButton.LeftButton, pos=at.toPoint())
    window.may_close = lambda: True
    window.close()
    benchmark.pedantic(lambda: None, rounds=1)
    times.sort()
    tell(
        f"a step of a drag with 50 keep-outs: median {times[len(times) // 2]:.1f}, "
        f"p95 {times[int(len(times) * 0.95)]:.1f} ms of {len(times)} (aim 12)"
    )


def time_now():
    from tallgrain.clock import now

    return now()


def test_a_jog_from_key_to_wire(benchmark, tell, monkeypatch, tmp_path):
    monkeypatch.setenv("TALLGRAIN_HOME", str(tmp_path))
    application()
    made = Standin("--pace", "real", "--speed", "1")
    ledger = Ledger.open(tmp_path)
    prepare_demo(ledger)
    window = make_window(ledger, tmp_path)
    window.show()
    s = window.session
    s.linking.link_to(made.url)
    spin(lambda: s.link.value == "up")
    window.visit("Probe")
    window.probe.show_tab(1)
    window.probe.where.source.setCurrentIndex(1)
    pad, sent = window.probe.where.pad, []
    send = Channel._send

    def noted(self, method, params, urgent):
        if method == "motion.go":
            sent.append(time.perf_counter())
        return send(self, method, params, urgent)

    monkeypatch.setattr(Channel, "_send", noted)
    delays = []
    for turn in range(100):
        key = Qt.Key.Key_Right if turn % 2 else Qt.Key.Key_Left
        began, count = time.perf_counter(), len(sent)
        QTest.keyPress(pad, key)
        QTest.keyRelease(pad, key)
        spin(lambda n=count: len(sent) > n and not s.busy)
        delays.append((sent[-1] - began) * 1000)
    window.may_close = lambda: True
    window.close()
    made.stop()
    benchmark.pedantic(lambda: None, rounds=1)
    delays.sort()
    tell(f"a jog, key to wire: median {delays[50]:.1f}, p99 {delays[98]:.1f} ms of 100 (aim 20)")


def test_a_key_at_the_gauge_loop(benchmark, tell, monkeypatch, tmp_path):
    """From the key to the ladder painted with the new feel; and of a step, less its motion."""
    monkeypatch.setenv("TALLGRAIN_HOME", str(tmp_path))
    app = application()
    made = Standin()
    ledger = Ledger.open(tmp_path)
    prepare_demo(ledger)
    window = make_window(ledger, tmp_path)
    window.show()
    window.activateWindow()
    s = window.session
    s.linking.link_to(made.url)
    spin(lambda: s.link.value == "up" and bool(window.values.held))
    window.visit("Gap")
    page, work = window.gap.page, window.gap.work
    window.gap.primary()
    spin(lambda: not s.busy and work.z is not None)
    page.gauge.setValue(1.0)
    page.setFocus()
    feels, steps = [], []
    for _ in range(40):
        for key, times in ((Qt.Key.Key_F, feels), (Qt.Key.Key_PageDown, steps)):
            page.length.setCurrentIndex(4)
            spin(lambda: not s.busy)
            had, z = len(work.feels), work.z
            began = time.perf_counter()
            QTest.keyClick(page, key)
            if times is feels:
                assert len(work.feels) == had + 1
            while times is steps and (work.z == z or s.busy):
                app.processEvents()
            window.gap.picture.repaint()
            times.append((time.perf_counter() - began) * 1000)
    window.may_close = lambda: True
    window.close()
    made.stop()
    benchmark.pedantic(lambda: None, rounds=1)
    for words, times in (("a feel", feels), ("a step and its read-back", steps)):
        times.sort()
        tell(
            f"gauge loop, key to picture, {words}: median {times[20]:.1f}, p95 {times[37]:.1f} ms "
            "(aim 50)"
        )


def dialled(home):
    """A window at the screws of a printer with eight of them, on a survey of 25 x 25."""
    application()
    text = shipped_sheet_text("Rye")
    for name, x, y in (("front-middle", 125, 20), ("rear-middle", 125, 230)):
        text += (
            f'\n[[adjusters]]\nname = "{name}"\nat = [{x}.0, {y}.0]\nlead_mm = 0.7\n'
            'raises = "counterclockwise"\n'
        )
    ledger = Ledger.open(home)
    ledger.put_machine("Rye", text, time_now())
    xy = [(x, y) for y in np.linspace(10, 240, 25) for x in np.linspace(10, 240, 25)]
    points = tuple(Point(x, y, 0.0004 * x + float(RNG.normal(0, 0.01))) for x, y in xy)
    ledger.add_survey(Survey("Rye", "surface", time_now(), points))
    window = make_window(ledger, home)
    window.resize(1280, 800)
    window.show()
    window.visit("Adjusters")
    spin(lambda: window.adjusters.work.solved is not None)
    return window


def test_a_dial_that_is_dragged(benchmark, tell, monkeypatch, tmp_path):
    """What-if: eight screws, a survey of 25 x 25, one event: sums, words and the picture."""
    monkeypatch.setenv("TALLGRAIN_HOME", str(tmp_path))
    app, window = application(), dialled(tmp_path)
    station, times = window.adjusters, []
    for step in range(150):
        app.processEvents()
        began = time.perf_counter()
        station.work.try_turn(step % 8, 3.0)
        station.picture.repaint()
        times.append((time.perf_counter() - began) * 1000)
    window.may_close = lambda: True
    window.close()
    benchmark.pedantic(lambda: None, rounds=1)
    times.sort()
    tell(f"a dial dragged, 8 screws, 625 points: median {times[75]:.1f}, p95 {times[142]:.1f} ms "
         "(aim 12)")  # fmt: skip
