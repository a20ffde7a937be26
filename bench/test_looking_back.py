"""The season of a thousand surveys, and what a drag or a look at the field costs."""

import time
from datetime import UTC, datetime, timedelta

import numpy as np
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QApplication

from tallgrain.clock import now
from tallgrain.core.drift.season import season_flatness
from tallgrain.core.plan.grid import grid_plan
from tallgrain.core.survey import Conditions, Point, Survey
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.store.ledger import Ledger
from tallgrain.ui.app.start import application, make_window, prepare_demo

TEXT = shipped_sheet_text("Barley")
SHEET = parse_sheet(TEXT, "barley.toml")


def made_up(columns, when, rng):
    plan = grid_plan(SHEET, columns, columns)
    x, y = plan.points.T
    heights = 0.1 * np.sin(x / 90) * np.cos(y / 70) + rng.normal(0, 0.003, len(x))
    points = tuple(map(Point, x.tolist(), y.tolist(), heights.tolist()))
    return Survey("Barley", "surface", when, points, Conditions(170, 70, 12, "smooth"),
                  shape=plan.shape)  # fmt: skip


def test_season_of_a_thousand(versus, tell, tmp_path):
    rng = np.random.default_rng(0)
    began = datetime(2020, 1, 1, tzinfo=UTC)
    with Ledger.open(tmp_path) as ledger:
        for i in range(1000):
            ledger.add_survey(made_up(9, began + timedelta(days=i), rng))
        start = time.perf_counter()
        rows = ledger.season("Barley")
        tell(f"one query of 1,000 surveys of 9 × 9: {(time.perf_counter() - start) * 1000:.0f} ms")
    heights = rows.heights.reshape(1000, -1)
    xy = rows.xy[: heights.shape[1]]
    design = np.column_stack([np.ones(len(xy)), xy])

    def bare():
        fit = np.linalg.lstsq(design, heights.T)[0]
        np.ptp(heights.T - design @ fit, axis=0)

    versus(
        "season of 1,000 surveys / bare numpy.linalg.lstsq on the same arrays",
        lambda: season_flatness(rows), bare, "3 at most",
    )  # fmt: skip


def test_dragging_hovering_and_panning(benchmark, tell, monkeypatch, tmp_path):
    """Compute and paint per event, with a 51 × 51 survey shown."""
    monkeypatch.setenv("TALLGRAIN_HOME", str(tmp_path))
    app = application()
    ledger = Ledger.open(tmp_path)
    prepare_demo(ledger)
    rng = np.random.default_rng(0)
    for _ in range(2):
        ledger.add_survey(made_up(51, now(), rng))
    window = make_window(ledger, tmp_path)
    window.resize(1280, 800)
    window.show()
    until = time.monotonic() + 10
    while window.session.back.compared is None and time.monotonic() < until:
        app.processEvents()
    field = window.surface.field
    for name in ("hovering", "dragging the section", "panning"):
        if name == "panning":
            field.zoom(3.0)
        line = [field.view().at(*end) for end in window.surface.line]
        start = QPointF(field.rect().center()) if name != "dragging the section" else line[0]
        if name != "hovering":
            send(field, QEvent.Type.MouseButtonPress, start)
        spent = []
        for i in range(200):
            at = start + QPointF(40 * np.sin(i / 15), 30 * np.cos(i / 11))
            began = time.perf_counter()
            send(field, QEvent.Type.MouseMove, at, name != "hovering")
            app.processEvents()
            spent.append((time.perf_counter() - began) * 1000)
        send(field, QEvent.Type.MouseButtonRelease, start)
        p95 = sorted(spent)[189]
        tell(f"{name} at 51 × 51: p95 {p95:.1f} ms an event (aim 12)")
    window.close()
    benchmark.pedantic(lambda: None, rounds=1)


def send(widget, kind, at, held=True):
    left, none = Qt.MouseButton.LeftButton, Qt.MouseButton.NoButton
    button = none if kind == QEvent.Type.MouseMove else left
    event = QMouseEvent(
        kind, at, QPointF(widget.mapToGlobal(at)), button, left if held else none,
        Qt.KeyboardModifier.NoModifier,
    )  # fmt: skip
    QApplication.sendEvent(widget, event)
