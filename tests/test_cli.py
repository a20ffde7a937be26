"""The command line as docs/cli.md and the contracts promise it, run as a person would."""

import json
import os
import pty
import socket
import subprocess
import sys

import pytest

from standins import PROGRAM, Standin, as_json, looked_down_by_words, started, tallgrain
from tallgrain.formats.machine_toml import shipped_sheet_text


def test_from_a_fresh_start_to_a_figure(standin, tmp_path, home):
    assert as_json("surveys") == []
    plan = as_json("plan", "--machine", "Barley", "--kind", "grid", "--count", "4x3")
    assert set(plan) == {"points", "dropped", "travel_mm", "estimate_s"}
    made = standin()
    survey = ("survey", "--link", made.url, "--machine", "Barley", "--count", "4x3")
    told = tallgrain(*survey, "--samples", "2", "--note", "first", "--json", check=0)
    *events, done = [json.loads(line) for line in told.stdout.splitlines()]
    points = [e for e in events if e["event"] == "point"]
    assert {e["event"] for e in events} <= {"point", "again"}
    assert done == {"event": "done", "survey": "1"}
    assert [(p["i"], p["x_mm"], p["y_mm"]) for p in points] == [
        (i, p["x_mm"], p["y_mm"]) for i, p in enumerate(plan["points"])
    ]
    assert set(points[0]) == {"event", "i", "x_mm", "y_mm", "z_mm"}
    (stored,) = as_json("surveys", "--machine", "barley")
    flat = as_json("flatness", "1")
    assert stored | {"fltt_mm": 0} == {
        "survey": "1", "machine": "Barley", "kind": "surface", "taken_at": stored["taken_at"],
        "points": len(points), "complete": True, "fltt_mm": 0,
    }  # fmt: skip
    assert stored["fltt_mm"] == pytest.approx(flat["fltt_mm"], abs=1e-6)
    assert set(flat) == {
        "n", "reference", "fltt_mm", "fltp_mm", "fltv_mm", "fltq_mm", "plane", "terms", "u_mm",
        "plate", "area", "touch_mm", "warnings",
    }  # fmt: skip
    zone = as_json("flatness", "1", "--reference", "mz")
    assert zone["fltp_mm"] is None
    assert zone["fltt_mm"] <= flat["fltt_mm"]
    # Out to both formats and back gives the same figures.
    for ending in ("json", "csv"):
        path = tmp_path / f"s.{ending}"
        tallgrain("export", "1", path, check=0)
        assert as_json("flatness", path)["fltt_mm"] == pytest.approx(flat["fltt_mm"], abs=2e-6)
        again = as_json("import", path, "--machine", "Barley")["survey"]
        assert as_json("flatness", again)["terms"]["bow_x_mm"] == pytest.approx(
            flat["terms"]["bow_x_mm"], abs=2e-6
        )
    tallgrain("convert", tmp_path / "s.json", tmp_path / "t.tsv", check=0)
    assert "left out: 175.750, 341.000" in tallgrain("plan", "--machine", "Barley", check=0).stdout
    assert f"{flat['fltt_mm']:.3f}" in tallgrain("surveys", check=0).stdout
    assert "−" in tallgrain("flatness", "1", check=0).stdout  # a true minus for people


def test_machines_are_added_shown_and_exported(tmp_path):
    names = [m["name"] for m in as_json("machine", "list")]
    assert "Barley" in names
    mine = tmp_path / "mine.toml"
    mine.write_text(shipped_sheet_text("Barley").replace('name = "Barley"', 'name = "Oats"', 1))
    tallgrain("machine", "add", mine, check=0)
    assert as_json("machine", "show", "oats")["reach"]["x_mm"] == [9.5, 342.0]
    assert tallgrain("machine", "export", "Oats", check=0).stdout == mine.read_text()
    assert "Oats" in tallgrain("machine", "list", check=0).stdout
    assert "reach" in tallgrain("machine", "show", mine, check=0).stdout


@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        (["flatness", "none.csv"], 2, "none.csv: there is no such file"),
        (["flatness", "7"], 2, "no survey '7'"),
        (["flatness", "line.csv"], 2, "one line"),
        (["flatness", "bad.csv"], 2, "bad.csv, line 2, z"),
        (["export", "7", "x.odt"], 2, "ending '.odt'"),
        (["import", "bad.csv", "--machine", "Barley"], 2, "bad.csv, line 2, z"),
        (["plan", "--machine", "Nobody"], 2, "no printer 'Nobody'"),
        (["plan", "--machine", "Barley", "--count", "99x1"], 2, "2x2 to 51x51"),
        (["plan", "--machine", "Barley", "--samples", "10"], 2, "1 to 9"),
        (["plan", "--machine", "Barley", "--kind", "moon"], 2, "moon"),
        (["machine", "add", "bad.csv"], 2, "bad.csv"),
        (["survey", "--link", "tcp://10.0.0.9:1", "--machine", "Barley"], 2, "--remote"),
        (["survey", "--link", "tcp://127.0.0.1:1", "--machine", "Barley"], 1, "no printer answers"),
        (["standin", "--machine", "Barley", "--fault", "gremlin"], 2, "no fault 'gremlin'"),
        (["standin", "--machine", "Barley", "--listen", "nowhere"], 2, "host:port"),
        (["reap"], 2, "reap"),
    ],
)
def test_wrong_usage_is_one_sentence(words, status, said, tmp_path):
    (tmp_path / "line.csv").write_text("x,y,z\n1,1,0\n2,2,0\n3,3,0\n")
    (tmp_path / "bad.csv").write_text("1,1,0\n2,2,x\n")
    done = tallgrain(*words, cwd=tmp_path, check=status)
    assert said in done.stderr
    assert done.stdout == ""
    done = tallgrain(*words, "--json", cwd=tmp_path)
    assert done.returncode in (status, 2)


def test_a_port_in_use_and_two_windows_on_one_printer(standin):
    with socket.create_server(("127.0.0.1", 0)) as taken:
        where = f"127.0.0.1:{taken.getsockname()[1]}"
        done = tallgrain("standin", "--machine", "Barley", "--listen", where, check=1)
        assert "can't listen there" in done.stderr
        assert where in done.stderr


def test_a_restarted_printer_asks_for_a_look(standin):
    made = standin("--cold")
    survey = ("survey", "--link", made.url, "--machine", "Barley", "--count", "3x3")
    assert "--clearance-mm" in tallgrain(*survey, check=1).stderr
    assert looked_down_by_words(made, *survey).returncode == 0


def test_ctrl_c_breaks_off_and_keeps_the_points(standin):
    made = standin("--pace", "real", "--speed", "40")
    command = ["survey", "--link", made.url, "--machine", "Barley", "--json"]
    process = started(*command, stderr=True)
    first = json.loads(process.stdout.readline())
    process.send_signal(2)
    rest, sentence = process.communicate()
    assert process.returncode == 1
    assert "broken off" in sentence
    assert json.loads(rest.splitlines()[-1])["event"] == "broken_off"
    (stored,) = as_json("surveys")
    assert stored["points"] >= 1 > first["i"]
    assert made.truth()["gap_mm"] > 5


def test_standins_with_the_same_seed_are_the_same_printer():
    places = [(40.0, 50.0), (300.0, 200.0)]
    told = []
    for seed in ("4", "4", "5"):
        made = Standin("--seed", seed)
        told.append(made.heights(places)["heights"])
        made.stop()
    assert told[0] == pytest.approx(told[1], abs=1e-9)
    assert told[0] != pytest.approx(told[2], abs=1e-3)


def test_no_display_is_a_sentence(home):
    bare = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY")}
    bare.pop("QT_QPA_PLATFORM", None)
    done = subprocess.run(
        [*PROGRAM, "demo"], env=bare, capture_output=True, text=True, timeout=60, check=False
    )
    assert done.returncode == 1
    assert "no display" in done.stderr
    assert "Traceback" not in done.stderr


def test_missing_libraries_are_named_by_package(monkeypatch, capsys):
    from tallgrain import qtlibs

    monkeypatch.setattr(qtlibs, "_loads", lambda name: not name.startswith("libxcb-"))
    assert "libxcb-cursor0" in qtlibs.missing_packages()
    assert "libgl1" not in qtlibs.missing_packages()


def test_help_names_every_verb():
    leader, follower = pty.openpty()
    done = subprocess.run(
        [sys.executable, "-m", "tallgrain", "--help"], stdin=follower, capture_output=True,
        text=True, check=True,
    )  # fmt: skip
    os.close(leader)
    os.close(follower)
    verbs = "demo standin machine plan survey surveys export import convert flatness"
    assert all(verb in done.stdout for verb in verbs.split())


def test_the_three_printers_on_the_command_line(home):
    found = {m["name"]: m for m in as_json("machine", "list")}
    assert {n: m["kinematics"] for n, m in found.items()} == {
        "Barley": "plate_z", "Rye": "gantry_z", "Millet": "delta",
    }  # fmt: skip
    assert as_json("machine", "show", "millet")["plate"]["diameter"] == 260.0
    plan = as_json("plan", "--machine", "Millet", "--count", "7x7")
    assert {d["why"] for d in plan["dropped"]} <= {"beside the plate", *(
        d["why"] for d in plan["dropped"] if "margin" in d["why"]
    )}  # fmt: skip
    assert len(plan["points"]) + len(plan["dropped"]) == 49
    assert all(p["x_mm"] ** 2 + p["y_mm"] ** 2 <= 120.001**2 for p in plan["points"])


def test_a_nozzle_that_probes_is_surveyed_by_looks(standin, home):
    made = standin("--machine", "Millet", "--cold")
    command = ["survey", "--link", made.url, "--machine", "Millet", "--count", "3x3"]
    assert "--clearance-mm" in tallgrain(*command, check=1).stderr
    assert "complete" in looked_down_by_words(made, *command).stdout
    hot = tallgrain(*command, "--nozzle-c", "220", check=1)
    assert "too hot to touch" in hot.stderr


def plane_file(path, slope_x, slope_y, spoilt=()):
    points = [
        {"x": x, "y": y, "z": slope_x * x + slope_y * y + 0.4 * ((x, y) in spoilt)}
        for y in range(20, 240, 35) for x in range(20, 240, 35)
    ]  # fmt: skip
    path.write_text(json.dumps({
        "format": "tallgrain-survey", "version": 1, "machine": "Rye", "kind": "surface",
        "taken_at": "2026-03-04T18:20:00+00:00", "points": points,
    }))  # fmt: skip
    return path


def test_solve_tilt_and_adjusters_as_in_the_contract(tmp_path):
    """Rye's supports stand at x = -42 and 300: the gantry follows the plate, half the way each."""
    survey = plane_file(tmp_path / "s.json", 0.001, 0.002, {(90, 125)})
    tilt = as_json("solve", "tilt", survey, "--machine", "Rye")
    assert tilt["raise_mm"] == pytest.approx({"left": -0.171, "right": 0.171}, abs=1e-6)
    assert set(tilt["u_mm"]) == {"left", "right"}
    assert tilt["before_pv_mm"] == pytest.approx(0.342) and tilt["after_pv_mm"] < 0.003
    assert tilt["uncorrectable"] == pytest.approx(
        {"slope_x_mm_per_m": 0.0, "slope_y_mm_per_m": 2.0}, abs=1e-6
    )
    assert [(d["x_mm"], d["y_mm"]) for d in tilt["dropped"]] == [(90, 125)]
    assert tilt["twist_left_mm"] == 0.0
    (wild,) = tilt["warnings"]
    assert wild["code"] == "wild_points" and wild["p"] > 0.9
    held = as_json("solve", "tilt", survey, "--machine", "Rye", "--hold", "left")
    assert held["raise_mm"] == pytest.approx({"left": 0, "right": 0.342}, abs=1e-6)
    assert held["u_mm"]["left"] == 0
    turns = as_json("solve", "adjusters", survey, "--machine", "Rye", "--hold", "front-left")
    still, rear = turns["turns"]["front-left"], turns["turns"]["rear-left"]
    assert still["turn_deg"] == 0 and still["leave"] and still["u_deg"] == 0
    assert rear["raise_mm"] < -0.3 and rear["direction"] == "clockwise" and not rear["leave"]
    assert rear["turn_deg"] == pytest.approx(-rear["raise_mm"] / 0.7 * 360, rel=1e-6)
    assert turns["before"]["pv_mm"] == pytest.approx(0.63, abs=1e-6)
    assert turns["after"]["pv_mm"] < 1e-5 and set(turns["after"]) == {"pv_mm", "rms_mm", "fltt_mm"}
    for words, told in (
        (["tilt", survey, "--machine", "Millet"], "needs two"),
        (["tilt", survey, "--machine", "Rye", "--hold", "nobody"], "no support 'nobody'"),
        (["adjusters", survey, "--machine", "Barley"], "no bed screws"),
        (["adjusters", survey, "--machine", "Rye", "--hold", "x"], "no adjuster 'x'"),
    ):
        assert told in tallgrain("solve", *words, check=2).stderr
    table = tallgrain("solve", "adjusters", survey, "--machine", "Rye", check=0).stdout
    assert "seen from above" in table and "left out as an outlier" in table


def test_plans_of_every_kind_and_a_purge_line(tmp_path):
    plan = ("plan", "--machine", "Barley")
    mirrored = as_json(*plan, "--margins", "mirrored", "--count", "3x3")["points"]
    assert mirrored[0]["x_mm"] == pytest.approx(350 - mirrored[2]["x_mm"])
    rings = as_json("plan", "--machine", "Millet", "--kind", "rings", "--count", "5x5")
    assert len(rings["points"]) + len(rings["dropped"]) == 19
    (tmp_path / "p.txt").write_text("20 30\n300 310\n")
    own = as_json(*plan, "--kind", "points", "--points", tmp_path / "p.txt")
    assert len(own["points"]) == 2
    program = tmp_path / "part.ngc"
    program.write_text("G21 G90\nG0 X100 Y100 Z0.2\nG1 X200 Y100 E1\nG1 X200 Y200 E2\nG0 Z0.4\n")
    area = as_json(*plan, "--kind", "area", "--gcode", program)
    box = area["purge"]["box"]
    assert box["x1_mm"] <= 95 or box["x0_mm"] >= 205 or box["y1_mm"] <= 95 or box["y0_mm"] >= 205
    for words, said in (
        (("--kind", "rings"), "round plate"), (("--kind", "points"), "no place"),
        (("--kind", "steep"), "--after"), (("--margins", "a,b"), "--margins"),
        (("--kind", "area"), "--gcode"),
    ):  # fmt: skip
        assert said in tallgrain(*plan, *words, check=2).stderr
    swapped = tmp_path / "s.csv"
    swapped.write_text("x,y,z\n" + "\n".join(f"{y},{x},0" for x in (5, 200) for y in (5, 240)))
    told = tallgrain("import", swapped, "--machine", "Millet", check=2).stderr
    assert "beside Millet's plate" in told and as_json("surveys") == []


def test_handing_over_by_words_is_remembered_and_checked(home, tmp_path):
    begun = tmp_path / "begin.txt"
    words = ("routine", "handover", "--machine", "Barley")
    tallgrain(*words, "--dialect", "medlar", "--soak-min", "3", "--out", begun, check=0)
    again = as_json(*words)
    assert again["dialect"] == "medlar" and again["start"] == begun.read_text()
    assert "wait 180000" in again["start"] and "nothing was measured" in again["today"][0]
    assert tallgrain(*words, "--check", begun, check=0).stdout
    begun.write_text(begun.read_text().replace("seek the plate within 300000\n", ""))
    assert "not safe" in tallgrain(*words, "--check", begun, check=2).stderr
    assert "no way 'half'" in tallgrain(*words, "--compensation", "half", check=2).stderr
    assert "no words for" in tallgrain(*words, "--dialect", "sorrel", check=2).stderr
    assert as_json(*words)["dialect"] == "medlar"  # what can't be written is not chosen
