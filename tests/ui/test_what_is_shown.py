"""What header, route, strip and section say and draw in each state."""

import re
from dataclasses import replace
from types import SimpleNamespace

import numpy as np
import pytest
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter
from PyQt6.QtWidgets import QMessageBox

from tallgrain.core.surface.chart import chart
from tallgrain.core.surface.interpolate import mesh_of
from tallgrain.core.surface.section import section
from tallgrain.errors import InputError, JobError
from tallgrain.link.protocol import Heat, Place, PrinterState
from tallgrain.ui.app import theme
from tallgrain.ui.app.start import note_bug
from tallgrain.ui.painting.colours import height_image
from tallgrain.ui.painting.field import Picture, paint_field
from tallgrain.ui.painting.section import SectionPicture, paint_section
from tallgrain.ui.painting.strip import StripPicture, paint_strip, strip_places, strip_scale
from tallgrain.ui.painting.view import fitted, whole_extent
from tallgrain.ui.session.state import LinkState, Progress
from tallgrain.ui.session.worker import Worker
from tallgrain.ui.widgets.header import Header
from tallgrain.ui.widgets.route import Fill, Kernel, StationButton
from tallgrain.ui.widgets.value_words import sided_figure
from tallgrain.ui.widgets.words import count_of, degrees_c, duration, mm

STATE = PrinterState(
    "b", 1, True, Place(0, 0, 1.79), False, 3, Place(0, 0, 40), False, False,
    Heat(168.4, 170.0), Heat(70.0, 70.0), 100.0, 0,
)  # fmt: skip
GUARD = SimpleNamespace(trusted=True, clearance_mm=None, hands_in=False)


@pytest.fixture
def header(bench):
    window, _ = bench(link=False)
    return window.header


def under_way(phase, touched):
    return Progress(None, phase, 0.0, 80, [None] * touched, 118.0)


@pytest.mark.parametrize(
    ("said", "changes"),
    [
        ("no printer linked", {"link": LinkState.NONE}),
        ("linking …", {"link": LinkState.LINKING}),
        ("link lost", {"link": LinkState.LOST}),
        ("link silent for 7 s: STOP may not reach it", {"silent_s": 7.2}),
        ("warming", {"progress": under_way("Warming: nozzle 170 °C", 0)}),
        ("survey 25 of 80, 2 min", {"progress": under_way("Touching", 25)}),
        ("breaking off", {"progress": replace(under_way("Touching", 25), breaking_off=True)}),
        ("HANDS IN  ·  F12 when clear", {"guard": SimpleNamespace(hands_in=True)}),
        ("first slow reference", {"doing": "first slow reference"}),
        ("HANDS IN  ·  F12 when clear", {"guard": SimpleNamespace(hands_in=True), "doing": "step"}),
        ("position unknown", {"untrusted": True}),
        ("clearance 40 mm seen", {"seen": 40.0}),
        ("heaters off in 4 min", {"care": SimpleNamespace(heaters_off_in_s=240.0)}),
        ("heaters off in 12 s", {"care": SimpleNamespace(heaters_off_in_s=12.0)}),
        ("moving, not by Tall Grain", {"state": replace(STATE, moving=True)}),
        ("referenced · probe extended", {"state": replace(STATE, extended=True)}),
        ("referenced · hands clear", {}),
    ],
)
def test_the_header_always_tells_one_thing(header, said, changes):
    guard = SimpleNamespace(**vars(GUARD))
    if changes.pop("untrusted", None):
        guard.trusted = False
    if "seen" in changes:
        guard.trusted, guard.clearance_mm = False, changes.pop("seen")
    now = {
        "link": LinkState.UP, "silent_s": 0.0, "guard": guard, "progress": None, "state": STATE,
        "motion": SimpleNamespace(doing=changes.pop("doing", ""), waits=""),
        "care": SimpleNamespace(heaters_off_in_s=None), **changes,
    }  # fmt: skip
    header._session = SimpleNamespace(**now)
    assert Header._state(header)[0] == said


def test_figures_and_words():
    assert mm(-0.0004) == "0.000"  # no minus before a zero
    assert mm(-0.25, 2) == "−0.25"
    assert mm(0.1, signed=True) == "+0.100"
    assert mm(None) == "–"
    assert degrees_c(168.4, 170.0) == "168 → 170 °C"
    assert degrees_c(22.3, 0.0) == "22 °C, off"
    assert [duration(s) for s in (3, 47, 55, 250, 9000)] == [
        "about 5 s", "about 45 s", "about 1 min", "about 4 min", "about 2.5 h"
    ]  # fmt: skip
    assert (count_of(1, "point"), count_of(2, "touch", "touches")) == ("1 point", "2 touches")


def luminance(colour):
    parts = [c / 255 for c in colour.getRgb()[:3]]
    r, g, b = (c / 12.92 if c <= 0.03928 else ((c + 0.055) / 1.055) ** 2.4 for c in parts)
    return 0.2126 * r + 0.7152 * g + 0.0722 * b


@pytest.mark.parametrize("ground", ["PAPER", "PANEL", "SHADE"])
@pytest.mark.parametrize("ink", ["INK", "MUTED", "RUST"])
def test_text_stands_out_by_4_5_to_1(ink, ground):
    """WCAG 2.1, 1.4.3: the contrast of text of 12 px and up."""
    light, dark = sorted(
        (luminance(getattr(theme, ink)), luminance(getattr(theme, ground))), reverse=True
    )
    assert (light + 0.05) / (dark + 0.05) >= 4.5


def canvas(width=800, height=300):
    image = QImage(width, height, QImage.Format.Format_ARGB32)
    image.fill(theme.PAPER)
    return image


def painted(paint, *arguments, width=800, height=300):
    image = canvas(width, height)
    painter = QPainter(image)
    paint(painter, QRectF(0, 0, width, height), *arguments)
    painter.end()
    return image


def test_heights_have_the_colours_of_the_scale(qapp):
    raster = np.array([[-1.0, 0.0], [1.0, np.nan]]) * 0.1
    image = height_image(raster, 0.1)
    # The rear row is on top; missing is transparent; the ends are the darkest of each side.
    assert image.pixelColor(0, 0).name() == theme.HEIGHTS[-1].lower()
    assert image.pixelColor(0, 1).name() == theme.HEIGHTS[0].lower()
    level = np.array(image.pixelColor(1, 1).getRgb()) - QColor(theme.HEIGHTS[3]).getRgb()
    assert np.abs(level).max() <= 2
    assert image.pixelColor(1, 0).alpha() == 0
    beyond = height_image(np.array([[-9.0, 9.0]]), 0.1)
    assert beyond.pixelColor(0, 0).name() == theme.HEIGHTS[0].lower()


def test_the_field_is_to_scale_and_right_side_up(qapp, barley):
    x, y = np.meshgrid(np.linspace(10, 340, 9), np.linspace(10, 340, 9))
    points = np.column_stack([x.ravel(), y.ravel()])
    heights = np.where((points > 200).all(axis=1), 0.1, 0.0)  # a ridge rear right
    rect = QRectF(0, 0, 900, 600)
    view = fitted(rect, whole_extent(barley))
    picture = Picture(barley, points, heights, chart=chart(points, heights), show_points=False)
    image = painted(paint_field, picture, view, width=900, height=600)
    ridge = image.pixelColor(view.at(280, 290).toPoint())
    level = image.pixelColor(view.at(80, 80).toPoint())
    assert luminance(ridge) < 0.6 * luminance(level)
    across = view.at(300, 50) - view.at(50, 50)
    along = view.at(50, 50) - view.at(50, 300)
    assert across.x() == pytest.approx(along.y())
    assert view.back(view.at(123.0, 45.0)) == pytest.approx((123.0, 45.0))
    for support in barley.supports:
        assert view.box.contains(view.at(*support.at))


def strip_of(n, **changes):
    times = 1.7e9 + 86_400.0 * 9 * np.arange(n)
    figures = 0.12 + 0.01 * np.sin(np.arange(n))
    there = np.ones(n, dtype=bool)
    return StripPicture("Flatness", "mm", times, figures, there, there, **changes)


@pytest.mark.parametrize("n", [0, 1, 2, 400])
def test_seasons_of_any_length_are_drawn(qapp, n):
    """None, one, two, many: all grains lie on the plot, in the order of time."""
    picture = strip_of(n, tolerance=0.2, events=((1.7e9, "new nozzle"), (1.7e9 + 5e5, "moved")))
    places = strip_places(QRectF(0, 0, 800, 130), picture)
    scale = strip_scale(QRectF(0, 0, 800, 130), picture)
    assert all(scale.plot.adjusted(-1, -1, 1, 1).contains(p) for p in places)
    assert [p.x() for p in places] == sorted(p.x() for p in places)
    assert scale.low < 0.2 < scale.high
    image = painted(paint_strip, picture, height=130)
    assert image != canvas(800, 130)


def test_what_has_no_figure_is_left_out_of_the_strip(qapp):
    picture = strip_of(5)
    figures = picture.figures.copy()
    figures[2] = np.nan
    places = strip_places(QRectF(0, 0, 800, 130), replace(picture, figures=figures))
    assert [p is None for p in places] == [False, False, True, False, False]
    nothing = replace(picture, figures=np.full(5, np.nan))
    assert painted(paint_strip, nothing, height=130) != canvas(800, 130)


def test_a_section_that_leaves_the_survey_is_drawn_where_it_is(qapp):
    x, y = np.meshgrid(np.linspace(10, 340, 5), np.linspace(10, 340, 5))
    points = np.column_stack([x.ravel(), y.ravel()])
    mesh = mesh_of(points, 0.05 * np.cos(points[:, 0] / 60))
    lines = (("now", section(mesh, (-100.0, 170.0), (340.0, 170.0))),)
    image = painted(paint_section, SectionPicture(lines), height=130)
    ink = [
        image.pixelColor(px, py).name() == theme.INK.name()
        for px in range(60, 150, 3) for py in range(40, 100)
    ]  # fmt: skip
    assert not any(ink)  # the first quarter lies beside the survey
    assert painted(paint_section, SectionPicture(()), height=130) != image


@pytest.mark.parametrize("fill", Fill)
def test_every_kernel_differs_by_fill_not_only_by_colour(qapp, fill):
    drawn = {}
    for other in Fill:
        station = StationButton("Surface", True, True)
        station.resize(206, 60)
        station.show_kernel(Kernel("Surface", other, "0.187 mm", "not kept"))
        grey = station.grab().toImage().convertToFormat(QImage.Format.Format_Grayscale8)
        drawn[other] = grey.copy(16, 10, 28, 40)
        assert other.value or station.accessibleName()
    assert sum(image == drawn[fill] for image in drawn.values()) == 1
    assert Qt.FocusPolicy.StrongFocus == station.focusPolicy()


def test_a_bug_in_a_job_reaches_the_window_and_the_worker_goes_on(qtbot, caplog):
    worker = Worker()
    told = []
    worker.failed.connect(lambda name, error: told.append((name, error)))
    worker.done.connect(lambda name, result: told.append((name, result)))
    worker.do("known", lambda: (_ for _ in ()).throw(InputError("wrong.", "here", "Mend it.")))
    worker.do("unknown", lambda: 1 / 0)
    worker.do("fine", lambda: 7)
    qtbot.waitUntil(lambda: len(told) == 3, timeout=3000)
    worker.finish()
    assert isinstance(told[0][1], InputError)
    assert isinstance(told[1][1], JobError)
    assert re.search("ZeroDivisionError", str(told[1][1]))
    assert told[2] == ("fine", 7)
    caplog.clear()


def test_a_bug_in_the_windows_own_thread_is_told_not_fatal(bench, caplog):
    window, _ = bench(link=False)
    try:
        raise ZeroDivisionError("by zero")
    except ZeroDivisionError as error:
        for _ in range(2):  # told once, however often it happens
            note_bug(type(error), error, error.__traceback__)
    (box,) = window.findChildren(QMessageBox)
    assert "ZeroDivisionError: by zero" in box.text()
    assert "STOP works" in box.informativeText()
    assert sum("a fault in Tall Grain itself" in r.getMessage() for r in caplog.records) == 2
    box.close()
    caplog.clear()


@pytest.mark.parametrize(
    ("meaning", "value", "said"),
    [
        ("trip_height", 1.86, "1.860 mm"), ("offset_x", 21.5, "21.500 mm right"),
        ("offset_x", -21.5, "21.500 mm left"), ("offset_y", -17.0, "17.000 mm front"),
        ("offset_y", 0.0, "0.000 mm"), ("job_shift", 0.02, "0.020 mm away"),
        ("job_shift", -0.02, "0.020 mm nearer"), ("skew_xy", -2.5, "2.50 mrad to the left"),
        ("skew_yz", 1.0, "1.00 mrad to the rear"), ("switch_left", -0.3, "0.300 mm lower"),
        ("rod_length", 291.0, "291.000 mm"), ("angle_rear", 90.0, "90.000°"),
    ],
)  # fmt: skip
def test_no_value_is_shown_by_a_bare_sign(meaning, value, said):
    assert sided_figure(meaning, value) == said
