"""Gauges to be printed: they fit plate and caliper, and an affine printer's part reads true."""

import json
import math
import re
from functools import cache

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from standins import as_json, shipped_sheet, tallgrain
from tallgrain.core.machine.reach import Reach
from tallgrain.core.plan.gauge_part import (
    HOLD_MM,
    LAYER_MM,
    LINE_MM,
    Reading,
    checked,
    drawn_out,
    gauge_part,
    measured,
    seems_swapped,
)
from tallgrain.core.solve.skew import solve_skew
from tallgrain.errors import InputError
from tallgrain.formats.program import gauge_program
from tallgrain.standin.job import Job

SHEETS = {name: shipped_sheet(name) for name in ("Barley", "Rye", "Millet")}
PLANES = ("xy", "xz", "yz")


def laid(part):
    """All places where material is laid, with z: (n, 3)."""
    return np.vstack([np.column_stack([s.line, np.full(len(s.line), s.z)]) for s in part.strokes()])


@pytest.mark.parametrize("plane", PLANES)
@pytest.mark.parametrize("name", SHEETS)
@pytest.mark.parametrize("caliper", [100.0, 150.0, 300.0])
def test_a_gauge_fits_its_plate_and_its_caliper(name, plane, caliper):
    sheet = SHEETS[name]
    part = gauge_part(sheet, plane, caliper)
    places = laid(part)
    reach = Reach(sheet)
    assert reach.travelled.holds(places[:, :2]).all() and reach.surface.holds(places[:, :2]).all()
    for out in sheet.keep_outs:
        assert not out.outline.holds(places[:, :2]).any()
    assert places[:, 2].max() < sheet.travel.z[1]
    assert max(part.expected(pair) for pair in part.pairs) <= caliper
    # From the plate up: nothing is laid under what lies there already.
    assert (np.diff([s.z for s in part.strokes() if s.z > LAYER_MM * 7]) >= -1e-9).all()
    other = gauge_part(sheet, plane, 100.0)
    assert part.side >= other.side


def test_the_program_is_what_the_part_is():
    part = gauge_part(SHEETS["Rye"])
    program = gauge_program(part, "Rye (the old one)", 215, 60)
    assert program.startswith("%\n(") and program.rstrip().endswith("M30\n%")
    block = r"%|\([^()]*\)|([A-Z]-?[\d.]+ ?)+"
    assert all(re.fullmatch(block, line) for line in program.splitlines())
    job = Job.read(program, (0.0, 0.0, 40.0))
    lines = [m for m in job.moves if m.material > 0]
    told = np.array([(m.x, m.y, m.z) for m in lines])
    ends = [np.column_stack([s.line[1:], np.full(len(s.line) - 1, s.z)]) for s in part.strokes()]
    assert told == pytest.approx(np.vstack(ends), abs=6e-4)
    length = sum(math.dist((m.x0, m.y0), (m.x, m.y)) for m in lines)
    drawn = sum(np.hypot(*np.diff(s.line, axis=0).T).sum() for s in part.strokes())
    assert length == pytest.approx(drawn, rel=1e-6)
    material = sum(m.material for m in lines) * math.pi * 1.75**2 / 4
    assert material == pytest.approx(length * LINE_MM * LAYER_MM, rel=1e-4)
    # Between strokes the nozzle goes over what was laid, never through it.
    tops = 0.0
    for move in job.moves:
        if move.material > 0:
            tops = max(tops, move.z)
        elif (move.x, move.y) != (move.x0, move.y0):
            assert move.z >= tops


@pytest.mark.parametrize("name", ["A", "B", "C", "D"])
def test_every_point_carries_its_letter(name):
    """Strokes that stand on the pad beside a post, not anywhere else."""
    part = gauge_part(SHEETS["Barley"])
    x, y = part.points[name]
    top = [s for s in part.strokes() if LAYER_MM * 5 < s.z < LAYER_MM * 6 + 1e-9]
    beside = [s for s in top if 6 < np.hypot(*(s.line.mean(axis=0) - (x, y))) < 18]
    assert beside
    inward = np.sign(np.array(part.middle) - (x, y))
    assert all(((s.line.mean(axis=0) - (x, y)) * inward > 0).all() for s in beside)


# Reading it


@cache
def printed(plane):
    return laid(gauge_part(SHEETS["Barley"], plane))


def caliper_on(part, pair, matrix, inside=False):
    """What jaws read on the part as an affine printer lays it: the farthest of the outer faces
    (or the nearest of the inner ones) along the line of the two points, line width included."""
    a, b = (np.array(part.place(n)) for n in pair)
    way = (b - a) / np.linalg.norm(b - a)
    places = printed(part.plane)
    held = []
    for at in (a, b):
        tall = 1.0 if part.plane == "xy" else 7.0
        near = (np.hypot(*(places - at)[:, :2].T) < 7) & (np.abs(places[:, 2] - at[2]) < tall)
        held.append(places[near] @ matrix.T)
    half = LINE_MM / 2 * float(np.hypot(way[0], way[1]))
    if inside:
        return ((held[1] @ way).min() - half) - ((held[0] @ way).max() + half)

    def gap(angle):
        # Jaws are rocked on flat faces until they read least; on posts they are held along.
        i, j = "xyz".index(part.plane[0]), "xyz".index(part.plane[1])
        turned = way.copy()
        turned[i] = way[i] * math.cos(angle) - way[j] * math.sin(angle)
        turned[j] = way[i] * math.sin(angle) + way[j] * math.cos(angle)
        return (held[1] @ turned).max() - (held[0] @ turned).min() + 2 * half

    return min(map(gap, np.linspace(-0.02, 0.02, 201))) if part.plane != "xy" else gap(0.0)


def leaning(plane, mrad, stretch=(0.0, 0.0)):
    i, j = "xyz".index(plane[0]), "xyz".index(plane[1])
    matrix = np.eye(3)
    matrix[i, i], matrix[j, j] = 1 + stretch[0], (1 + stretch[1]) * math.cos(mrad / 1000)
    matrix[i, j] = (1 + stretch[1]) * math.sin(mrad / 1000)
    return matrix


@given(
    st.sampled_from(PLANES), st.floats(-6, 6), st.floats(-0.004, 0.004), st.floats(-0.004, 0.004)
)
@settings(max_examples=25, deadline=None)
def test_readings_of_a_leaning_printer_give_its_lean(plane, mrad, sx, sy):
    part = gauge_part(SHEETS["Barley"], plane)
    matrix = leaning(plane, mrad, (sx, sy))
    readings = [Reading(p, caliper_on(part, p, matrix)) for p in part.pairs]
    found = solve_skew(measured(part, readings, True, plane == "xy"))
    # What is left is of second order: round posts, and stairs on a chamfer.
    assert found.skew * 1000 == pytest.approx(mrad, abs=0.03 if plane == "xy" else 0.05)
    assert found.scale_x - 1 == pytest.approx(sx, abs=6e-4)


def test_insides_and_outsides_say_the_same():
    part = gauge_part(SHEETS["Barley"])
    matrix = leaning("xy", 3.0)
    for pair in part.pairs:
        out, inner = (caliper_on(part, pair, matrix, inside) for inside in (False, True))
        assert out - inner == pytest.approx(2 * part.face_mm, abs=0.08)
        distances = [part.distance(pair, out), part.distance(pair, inner, True)]
        assert distances[0] == pytest.approx(distances[1], abs=0.06)
        assert part.expected(pair) - part.nominal(pair) == part.face_mm
    assert part.place("A")[2] == HOLD_MM > LAYER_MM * 6


@pytest.mark.parametrize(
    ("mm", "told"), [(14.2, "14.2 mm was read"), (5.604, "inches"), (148.0, "is expected")]
)
def test_a_slip_is_told_before_it_is_entered(mm, told):
    part = gauge_part(SHEETS["Barley"])
    with pytest.raises(InputError, match=told):
        checked(part, Reading(("A", "C"), mm))
    assert checked(part, Reading(("A", "C"), 142.1)).mm == 142.1


def test_swapped_diagonals_are_the_same_lean_the_other_way_round():
    u = 1e-4
    assert seems_swapped(1.3e-3, -1.25e-3, u, made_up_for=False)
    assert not seems_swapped(1.3e-3, 1.25e-3, u, made_up_for=False)
    assert seems_swapped(1.3e-3, 2.55e-3, u, made_up_for=True)
    assert not seems_swapped(1.3e-3, 0.1e-3, u, made_up_for=True)
    assert not seems_swapped(2e-4, -2e-4, u, made_up_for=False)


def test_the_drawn_shape_leans_the_way_of_the_skew():
    part = gauge_part(SHEETS["Barley"])
    readings = [Reading(p, caliper_on(part, p, leaning("xy", 2.0))) for p in part.pairs]
    shape = drawn_out(part, solve_skew(measured(part, readings)), 20.0)
    top = shape["C"][0] + shape["D"][0] - shape["A"][0] - shape["B"][0]
    assert top / 2 == pytest.approx(20 * 0.002 * part.side, rel=0.03)


def test_the_gauge_on_the_command_line(home, tmp_path):
    """Its JSON is enough to write the skew file; a simulated lean comes back from it."""
    path = tmp_path / "gauge.ngc"
    told = as_json("gauge", path, "--machine", "Barley", "--caliper-mm", "200")
    assert path.read_text().startswith("%") and told["side_mm"] > 95
    assert {(r["from"], r["to"]) for r in told["read"]} >= {("A", "C"), ("B", "D")}
    matrix = leaning("xy", 1.5)[:2, :2]
    distances = []
    for read in told["read"]:
        way = np.subtract(told["points"][read["to"]], told["points"][read["from"]])
        true = float(np.linalg.norm(matrix @ way))
        assert np.hypot(*way) == pytest.approx(read["nominal_mm"])
        distances.append({"from": read["from"], "to": read["to"], "measured_mm": [true, true]})
    skew = tmp_path / "skew.json"
    skew.write_text(json.dumps({
        "format": "tallgrain-skew", "version": 1, "points": told["points"],
        "distances": distances,
    }))  # fmt: skip
    assert as_json("solve", "skew", skew)["skew_mrad"] == pytest.approx(1.5, abs=1e-6)
    said = tallgrain("gauge", path, "--machine", "Barley", "--caliper-mm", "50", check=2).stderr
    assert "no gauge of 40 mm" in said
    assert (
        "can't be written"
        in tallgrain("gauge", tmp_path / "no" / "g.ngc", "--machine", "Rye", check=1).stderr
    )


def test_where_none_fits_it_is_said():
    with pytest.raises(InputError, match=r"no gauge of 40 mm"):
        gauge_part(SHEETS["Barley"], "xy", 60.0)
