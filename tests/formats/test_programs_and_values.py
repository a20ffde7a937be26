"""Trial patches as ISO 6983 programs, read back by a reader of the test's own; values files."""

import json
import math
import re
from datetime import UTC, datetime, timedelta

import pytest

from tallgrain.core.machine.reach import Reach
from tallgrain.core.plan.patch import Patch, patch_places
from tallgrain.errors import InputError
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.formats.program import patch_program
from tallgrain.formats.values_json import ValuesRecord, back_up, backups, read_values


def moves(program):
    """(x, y, z, material pushed) of each block, by the letters alone."""
    here = dict.fromkeys("XYZE", 0.0)
    for block in re.sub(r"\([^)]*\)|%", "", program).splitlines():
        words = dict(re.findall(r"([A-Z])(-?\d+(?:\.\d+)?)", block))
        before = dict(here)
        here.update({a: float(v) for a, v in words.items() if a in here})
        if words.get("G") in ("0", "1"):
            yield before, dict(here)


@pytest.mark.parametrize("name", ["Barley", "Rye", "Millet"])
@pytest.mark.parametrize("count", [1, 5])
def test_a_patch_lies_where_the_printer_can_print(name, count):
    sheet = parse_sheet(shipped_sheet_text(name), name)
    places = patch_places(sheet, count)
    assert len(places) == count and places[0] == sheet.plate.datum_point
    program = patch_program(Patch(places, 0.24, 0.5), name, 1.79)
    assert all(32 <= ord(c) < 127 or c == "\n" for c in program)
    assert max(map(len, program.splitlines())) < 80
    reach, laid, volume = Reach(sheet), 0.0, 0.0
    for before, after in moves(program):
        sideways = math.hypot(after["X"] - before["X"], after["Y"] - before["Y"])
        if after["E"] > before["E"]:
            assert after["Z"] == 0.24
            assert reach.surface.holds([(after["X"], after["Y"])]).all()
            assert reach.travelled.holds([(after["X"], after["Y"])]).all()
            for keep_out in sheet.keep_outs:
                assert not keep_out.outline.holds([(after["X"], after["Y"])]).any()
            laid += sideways
            volume += (after["E"] - before["E"]) * math.pi * 1.75**2 / 4
        elif sideways > 1:
            assert after["Z"] == before["Z"] == 5.0  # no long way across at the layer's height
    assert laid == pytest.approx(count * 40 * 20.0)
    assert volume == pytest.approx(laid * 0.24 * 0.5, rel=1e-3)


def test_a_patch_that_can_not_be_printed_is_refused(barley):
    clips = [{"name": "clamp", "rectangle": (160, 160, 190, 190)}]
    blocked = barley.model_validate({**barley.model_dump(), "keep_outs": clips})
    with pytest.raises(InputError, match="datum"):
        patch_places(blocked, 1)


def record(at, live=1.79):
    value = {"name": "trip_drop_mm", "meaning": "trip_height", "live": -live, "kept": -live,
             "live_mm": live}  # fmt: skip
    return ValuesRecord(machine="Barley", taken_at=at, values=(value,))


def test_backups_are_read_back_and_the_last_fifty_kept(tmp_path):
    begin = datetime(2026, 1, 1, tzinfo=UTC)
    for i in range(55):
        back_up(tmp_path, record(begin + timedelta(minutes=i), 1.0 + i / 1000))
    kept = [read_values(path) for path in backups(tmp_path)]
    assert len(kept) == 50
    assert [k.ours()["trip_height"] for k in kept] == [1.0 + i / 1000 for i in range(5, 55)]


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ({"format": "tallgrain-gap"}, "not a values file"),
        ({"version": 2}, "version 2"),
        ({"values": []}, "values"),
        ({"values": [{"name": "a", "live": "much", "kept": 0, "live_mm": 0}]}, "live"),
        ({"values": [{"name": "a", "live": 0, "kept": 0, "live_mm": 1e9}]}, "live_mm"),
    ],
)
def test_a_bad_values_file_gets_a_sentence(tmp_path, change, told):
    path = tmp_path / "v.json"
    good = json.loads(record(datetime(2026, 1, 1, tzinfo=UTC)).model_dump_json())
    path.write_text(json.dumps({**good, **change}))
    with pytest.raises(InputError) as caught:
        read_values(path)
    assert told in str(caught.value) and "v.json" in caught.value.where
