import time

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainter, QPixmap, QPolygonF
from scipy.interpolate import RegularGridInterpolator
from scipy.spatial import ConvexHull

from tallgrain.clock import now
from tallgrain.core.model.figures import flatness_of
from tallgrain.core.surface.chart import chart
from tallgrain.core.surface.density import audit_layer, density_advice
from tallgrain.core.surface.furrows import Viewpoint
from tallgrain.core.surface.interpolate import mesh_of
from tallgrain.core.surface.moments import Scale, polynomial_rows
from tallgrain.core.surface.shape import flatness, judge
from tallgrain.core.surface.sight import sight_of_survey
from tallgrain.core.survey import Point, Survey
from tallgrain.formats.files import read_survey
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.formats.program_scan import first_layer
from tallgrain.store.ledger import Ledger
from tallgrain.ui.app.start import application
from tallgrain.ui.painting.colours import height_image
from tallgrain.ui.painting.relief import ReliefPicture, paint_relief

rng = np.random.default_rng(1)
XY = rng.uniform(0, 350, (10_000, 2))
HEIGHTS = 1000 + 0.1 * np.sin(XY[:, 0] / 90) * np.cos(XY[:, 1] / 70) + rng.normal(0, 0.003, 10_000)


def test_minimum_zone(versus):
    cloud = np.column_stack([XY, HEIGHTS])
    versus(
        "minimum zone of 10,000 points / scipy.spatial.ConvexHull",
        lambda: flatness(XY, HEIGHTS, "mz"), lambda: ConvexHull(cloud), "3 at most",
    )  # fmt: skip


def test_least_squares_and_six_terms(versus):
    matrix = polynomial_rows(*Scale.of_points(XY).uv(XY), 6).T.copy()
    versus(
        "flatness and six terms of 10,000 points / numpy.linalg.lstsq",
        lambda: judge(XY, HEIGHTS), lambda: np.linalg.lstsq(matrix, HEIGHTS), "1.1 at most",
    )  # fmt: skip


SIDE = np.linspace(8.5, 337.0, 101)
GRID = np.array([(x, y) for y in SIDE for x in SIDE])
BED = 0.1 * (GRID[:, 0] / 175 - 1) ** 2 + 0.02 * np.sin(GRID[:, 1] / 30)
BED += rng.normal(0, 0.003, len(BED))


def test_a_dense_survey_is_seen_whole(versus):
    points = tuple(
        Point(x, y, z, (z,)) for (x, y), z in zip(GRID.tolist(), BED.tolist(), strict=True)
    )
    survey = Survey("Barley", "surface", now(), points, shape=(101, 101))
    sheet = parse_sheet(shipped_sheet_text("Barley"), "Barley")
    mesh = mesh_of(GRID, BED)
    cloud = np.column_stack([GRID, BED])

    def ours():
        sight = sight_of_survey(survey, sheet)
        height_image(sight.chart.heights, sight.chart.span)
        audit_layer(mesh, 0.2, (0.16, 0.26), 0.01, 0.003)

    versus(
        "101 x 101: picture, contours, terms, minimum zone, audit (under 100 ms) / ConvexHull",
        ours, lambda: ConvexHull(cloud), "100 ms",
    )  # fmt: skip


def test_turning_the_relief(versus, tell):
    """All furrows from another side, against a polygon a facet from the painter's algorithm."""
    qt = application()
    assert qt is not None
    made = chart(GRID, BED)
    screen, turn = QPixmap(690, 460), iter(range(100_000))
    times = []

    def ours():
        began = time.perf_counter()
        view = Viewpoint(next(turn) % 4, 200.0)
        painter = QPainter(screen)
        paint_relief(painter, QRectF(screen.rect()), ReliefPicture(made, view))
        painter.end()
        times.append((time.perf_counter() - began) * 1000)

    def polygons():
        right, up = (GRID[:, 0] + 0.14 * GRID[:, 1]), -(0.5 * GRID[:, 1] + 200 * BED)
        right, up = (a.reshape(101, 101).tolist() for a in (right, up))
        painter = QPainter(screen)
        for j in range(100):
            for i in range(100):
                corners = ((j, i), (j, i + 1), (j + 1, i + 1), (j + 1, i))
                painter.drawPolygon(QPolygonF([QPointF(right[a][b], up[a][b]) for a, b in corners]))
        painter.end()

    versus(
        "turning the relief of 101 x 101 / a QPainter polygon for each facet", ours, polygons,
        "p95 under 25 ms", rounds=40,
    )  # fmt: skip
    tell(f"    turning: p95 {np.percentile(times[3:], 95):.1f} ms (aim 25)")


def test_density_advice(versus):
    advice = density_advice(GRID, BED, 0.05)

    def brute():
        mesh = mesh_of(GRID, BED)
        for option in advice.options:
            take = np.round(np.linspace(0, 100, option.columns)).astype(int)
            few = RegularGridInterpolator(
                (SIDE[take], SIDE[take]), mesh.heights[np.ix_(take, take)], "linear"
            )
            np.abs(few(GRID[:, ::-1]) - BED).max()

    versus(
        "density advice on 101 x 101 / scipy.interpolate.RegularGridInterpolator",
        lambda: density_advice(GRID, BED, 0.05), brute, "none", rounds=5,
    )  # fmt: skip


@pytest.fixture
def programs(tmp_path):
    """A program of about 20 MB, and the same cut after its first layer."""
    layer = [f"G1 X{20 + k % 200} Y{20 + k // 200 % 200} E{k * 0.01:.3f}" for k in range(2_000)]
    lines = ["G90", "G0 X20 Y20 Z0.2", *layer]
    head = "\n".join([*lines, "G1 Z0.4"]) + "\n"
    cut, whole = tmp_path / "cut.gcode", tmp_path / "whole.gcode"
    cut.write_text(head)
    body = "\n".join(
        f"G1 X{20 + k % 200} Y{30 + k % 97} E{200 + k * 0.01:.3f}" for k in range(20_000)
    )
    with whole.open("w") as file:
        file.write(head)
        for number in range(32):
            file.write(f"G1 Z{0.4 + 0.2 * number:.1f}\n{body}\n")

    return whole, cut


def test_scanning_a_program(versus, programs):
    whole, _ = programs

    def loop():
        with whole.open("rb") as file:
            for _ in file:
                pass

    versus(
        "first layer of a 20 MB program, whole / a bare loop over its lines",
        lambda: list(first_layer(whole)), loop, "3 at most", rounds=5,
    )  # fmt: skip


def test_the_provisional_first_layer(versus, programs):
    whole, cut = programs
    versus(
        "provisional first layer / the same file cut after that layer",
        lambda: next(first_layer(whole)), lambda: list(first_layer(cut)), "1.5 at most", rounds=9,
    )  # fmt: skip


def test_a_million_points(versus, tmp_path_factory):
    """Imported into a ledger and judged, against NumPy's own reader of the same text."""
    axis = np.linspace(5, 345, 1000)
    x, y = (at.ravel() for at in np.meshgrid(axis, axis))
    z = 0.1 * np.sin(x / 80) + rng.normal(0, 0.003, len(x))
    home = tmp_path_factory.mktemp("million")
    file = home / "points.csv"
    np.savetxt(file, np.column_stack([x, y, z]), "%.4f", ",", header="x,y,z", comments="")
    with Ledger.open(home) as ledger:

        def ours():
            survey = ledger.survey(ledger.add_survey(read_survey(file, now())))
            judge(survey.xy, survey.heights)
            flatness_of(survey, 0.003)

        versus(
            "a million points imported and judged / numpy.loadtxt",
            ours, lambda: np.loadtxt(file, delimiter=",", skiprows=1), "5 at most", rounds=3,
        )  # fmt: skip


def cloud_of(count):
    xy = rng.uniform(0, 350, (count, 2))
    return xy, 0.1 * np.sin(xy[:, 0] / 90) + rng.normal(0, 0.003, count), 15 if count < 1e5 else 3


@pytest.mark.parametrize("count", [81, 10_000, 1_000_000])
def test_the_plane_alone(versus, count):
    xy, z, rounds = cloud_of(count)
    plane = np.column_stack([np.ones(count), xy])
    versus(f"flatness of {count:,} points / numpy.linalg.lstsq", lambda: flatness(xy, z),
           lambda: np.linalg.lstsq(plane, z), "2 at most", rounds)  # fmt: skip


@pytest.mark.parametrize("count", [81, 1_000_000])
def test_the_zone_alone(versus, count):
    xy, z, rounds = cloud_of(count)
    cloud = np.column_stack([xy, z])
    versus(f"minimum zone of {count:,} points / ConvexHull", lambda: flatness(xy, z, "mz"),
           lambda: ConvexHull(cloud), "3 at most", rounds)  # fmt: skip
