"""First layers read from programs, against a slow reader that knows only straight ways."""

import math
import re

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from standins import as_json, tallgrain
from tallgrain.core.machine.reach import Reach
from tallgrain.errors import InputError
from tallgrain.formats import program_scan
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.formats.program_scan import arc_points, first_layer

BARLEY = parse_sheet(shipped_sheet_text("Barley"), "Barley")


def scanned(tmp_path, text):
    path = tmp_path / "print.gcode"
    path.write_text(text)
    return list(first_layer(path))


def slowly(text):
    """z and box of the first layer, one word after another."""
    at, shift = dict.fromkeys("XYZE", 0.0), dict.fromkeys("XYZE", 0.0)
    scale, absolute, totals, motion, laid = 1.0, True, True, 0, []
    for line in text.upper().splitlines():
        words = re.findall(r"([A-Z])\s*([-+]?[\d.]+)", re.sub(r"\(.*?\)|;.*", "", line))
        to, setting = {}, False
        for letter, figure in words:
            value = float(figure)
            code = letter + figure
            motion = int(value) if code in ("G0", "G1") else motion
            scale = {"G20": 25.4, "G21": 1.0}.get(code, scale)
            absolute = {"G90": True, "G91": False}.get(code, absolute)
            totals = {"M82": True, "M83": False}.get(code, totals)
            setting |= code == "G92"
            if letter in at:
                to[letter] = value * scale
        if setting:
            for letter, value in to.items():
                shift[letter] += at[letter] - value
                at[letter] = value
            continue
        before = dict(at)
        for letter, value in to.items():
            total = absolute and (totals or letter != "E")
            at[letter] = value if total else before[letter] + value
        if motion and at["E"] > before["E"] and (at["X"], at["Y"]) != (before["X"], before["Y"]):
            laid.append((at["Z"] + shift["Z"], [
                (p["X"] + shift["X"], p["Y"] + shift["Y"]) for p in (before, at)
            ]))  # fmt: skip
    z = min(height for height, _ in laid)
    points = np.array([p for height, way in laid if height < z + 1e-4 for p in way])
    return z, (*points.min(axis=0), *points.max(axis=0))


FIGURE = st.floats(0, 300).map(lambda f: f"{f:.3f}")
HEIGHTS = st.sampled_from(["0.2", "0.4", "0.6", "0.3", "5"])
BLOCKS = st.one_of(
    st.builds("G1 X{} Y{} E{}".format, FIGURE, FIGURE, st.integers(0, 60)),
    st.builds("G1 X{} E{}".format, FIGURE, st.integers(0, 60)),
    st.builds("G0 X{} Y{}".format, FIGURE, FIGURE),
    st.builds("G1 Z{}".format, HEIGHTS),
    st.builds("g1 z {} (up; or X9 down)".format, HEIGHTS),
    st.sampled_from(["G92 E0", "M83", "M82", "G91\nG1 Z0.2\nG90", "; Z0.1 X900 Y900", "G92 X10",
                     "(Z0.1)", "G91\nG1 X5 Y5 E3\nG90", "G21", "T0", "M7"]),
)  # fmt: skip


@given(st.lists(BLOCKS, min_size=1, max_size=60), st.sampled_from([7, 64, 1 << 20]))
@settings(max_examples=150, deadline=None)
def test_any_program_reads_as_the_slow_reader_says(tmp_path_factory, blocks, chunk):
    text = "G21\nG90\nG0 X50 Y60 Z0.2\nG1 X70 Y80 E70\n" + "\n".join(blocks) + "\n"
    kept, program_scan.CHUNK = program_scan.CHUNK, chunk
    try:
        found = scanned(tmp_path_factory.mktemp("p"), text)[-1]
    finally:
        program_scan.CHUNK = kept
    z, box = slowly(text)
    assert found.whole and found.z == pytest.approx(z)
    assert found.box == pytest.approx(box, abs=1e-6)


def part(x, y, layers, size=20, e=0):
    lines = []
    for layer in range(1, layers + 1):
        lines += [f"G0 X{x} Y{y}", f"G1 Z{0.2 * layer:.2f}"]
        for dx, dy in ((size, 0), (size, size), (0, size), (0, 0)):
            e += 1
            lines.append(f"G1 X{x + dx} Y{y + dy} E{e}")
    return "\n".join(lines), e


def test_parts_printed_one_after_another_are_islands_of_one_box(tmp_path):
    first, e = part(40, 40, 3)
    second, _ = part(200, 210, 3, e=e)
    told = scanned(tmp_path, f"G90\n{first}\nG1 Z5\n{second}\n")
    assert [t.whole for t in told] == [False, True]
    assert told[0].box == (40, 40, 60, 60) and len(told[0].islands) == 1
    assert told[1].box == (40, 40, 220, 230)
    assert told[1].islands == ((40, 40, 60, 60), (200, 210, 220, 230))


@given(
    st.floats(-50, 50), st.floats(-50, 50), st.floats(1, 40), st.floats(0, 6.28),
    st.floats(0.05, 6.2), st.booleans(),
)  # fmt: skip
def test_arcs_reach_as_far_as_their_circle(cx, cy, radius, begin, sweep, clockwise):
    sign = -1 if clockwise else 1
    start = cx + radius * math.cos(begin), cy + radius * math.sin(begin)
    stop = begin + sign * sweep
    end = cx + radius * math.cos(stop), cy + radius * math.sin(stop)
    points = arc_points(start, end, {b"I": cx - start[0], b"J": cy - start[1]}, clockwise)
    dense = begin + sign * np.linspace(0, sweep, 20_000)
    xs, ys = cx + radius * np.cos(dense), cy + radius * np.sin(dense)
    got = np.array([start, *points, end])
    assert got.min(axis=0) == pytest.approx((xs.min(), ys.min()), abs=1e-4)
    assert got.max(axis=0) == pytest.approx((xs.max(), ys.max()), abs=1e-4)
    said = radius if sweep <= math.pi else -radius
    if abs(sweep - math.pi) > 0.05:
        by_radius = np.array([start, *arc_points(start, end, {b"R": said}, clockwise), end])
        assert by_radius.max(axis=0) == pytest.approx(got.max(axis=0), abs=0.05)


@pytest.mark.parametrize(("text", "told"), [
    ("G90\nG0 X1 Y1\n", "no material"), ("", "no material"),
    ("\0\1\2", "no text"), ("G1 " + "X1" * 40_000, "longer than"),
    ("G90\nG1 X99999 Y1 E1\n", "no plate is that large"),
])  # fmt: skip
def test_programs_without_a_first_layer_are_said(tmp_path, monkeypatch, text, told):
    monkeypatch.setattr(program_scan, "CHUNK", 1 << 15)
    with pytest.raises(InputError, match=told):
        scanned(tmp_path, text)


def test_an_area_on_the_command_line(tmp_path):
    path = tmp_path / "clip.gcode"
    path.write_text("G90\n" + part(100, 120, 2, 60)[0])
    plan = ("plan", "--machine", "Barley", "--kind", "area", "--count", "9x9")
    found = as_json(*plan, "--gcode", path)
    points = np.array([(p["x_mm"], p["y_mm"]) for p in found["points"]])
    assert points.min(axis=0) == pytest.approx((95, 115)) and points.max(axis=0) == pytest.approx(
        (165, 185)
    )
    box = Reach(BARLEY).box
    xs = np.unique(points[:, 0])
    assert np.diff(xs).max() <= box.width / 8 + 1e-6 and len(xs) >= 3
    assert "Name the print's program" in tallgrain(*plan, check=2).stderr
    path.write_text("G90\n" + part(900, 900, 2)[0])
    assert "can't touch" in tallgrain(*plan, "--gcode", path, check=2).stderr
