"""Files of every kind bent by structure: nothing but sentences, within time and memory."""

import io
import json
import os
import stat
import tempfile
import zipfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from test_survey_files import NOON  # noqa: F401

from tallgrain.clock import now
from tallgrain.core.survey import Survey
from tallgrain.errors import InputError, JobError, TallGrainError
from tallgrain.formats.delta_json import read_delta
from tallgrain.formats.files import read_survey, survey_of_text, write_survey
from tallgrain.formats.gap_json import read_gap
from tallgrain.formats.machine_toml import read_sheet_text, shipped_sheet_text
from tallgrain.formats.pack import read_pack
from tallgrain.formats.point_text import parse_places
from tallgrain.formats.program_scan import first_layer
from tallgrain.formats.skew_json import read_skew
from tallgrain.formats.survey_json import parse_survey
from tallgrain.formats.values_json import read_values
from tallgrain.link.connect import SHIPPED
from tallgrain.link.console.dialect import parse_dialect
from tallgrain.link.console.record import replayed
from tallgrain.paths import named_in
from tallgrain.textio import DEEPEST, parse_toml, read_text, write_text

GAP = {
    "format": "tallgrain-gap", "version": 1, "trip_height_mm": 1.79, "z_step_mm": 0.0025,
    "gauge_mm": 0.15, "gauge_tolerance_mm": 0.005, "probe_s_r_mm": 0.003,
    "touches": [{"z": 0.10, "feel": "free"}, {"z": 0.065, "feel": "stuck"}],
    "trials": [{"trip_height_mm": 1.80, "verdict": "sits_on_top"}],
}  # fmt: skip
SKEW = {
    "format": "tallgrain-skew", "version": 1, "plane": "xy", "points": {"P": [0, 0], "Q": [120, 0]},
    "distances": [{"from": "P", "to": "Q", "measured_mm": [120.04, 120.05]}],
    "fit": {"scale": True, "bias": False},
}  # fmt: skip
DELTA = {
    "format": "tallgrain-delta", "version": 1,
    "current": {
        "rod_length_mm": 291.0, "delta_radius_mm": 124.5, "height_mm": 402.0,
        "tower_angle_deg": {"left": 210, "right": 330, "rear": 90},
        "switch_mm": {"left": 0, "right": 0, "rear": 0},
    },
    "points": [{"x": 0, "y": 0, "z": 0.012}],
    "distances": [{"from": [-50, 0], "to": [50, 0], "measured_mm": 100.08}],
    "free": ["switch", "delta_radius", "tower_angle"],
}  # fmt: skip
SURVEY = {
    "format": "tallgrain-survey", "version": 1, "machine": "Barley", "kind": "surface",
    "taken_at": "2026-03-04T18:20:00+00:00", "conditions": {"nozzle_c": 170, "sheet": "smooth"},
    "points": [{"x": 15.0, "y": 15.0, "z": 0.031, "touches": [0.030, 0.032]}],
}  # fmt: skip
VALUES = {
    "format": "tallgrain-values", "version": 1, "machine": "Barley",
    "taken_at": "2026-03-04T18:20:00+00:00", "why": "",
    "values": [{"name": "a", "meaning": "trip_height", "live": 1.0, "kept": 1.0, "ours": 1.0}],
}  # fmt: skip
PROGRAM = (
    "G21\nG90\nM83\nG1 Z0.2\nG1 X10 Y10\nG1 X90 Y10 E4\nG2 X90 Y50 I0 J20 E3\nG1 Z0.4\nG1 X1 E1\n"
)


def surfaces(tmp_path):
    """A survey in each format that is read."""
    points = survey_of_text("\n".join(f"{x} {y} 0.01" for y in (0, 9, 18) for x in (0, 9, 18)),
                            "x", now())  # fmt: skip
    for ending in ("csv", "x3p", "sdf"):
        write_survey(points, tmp_path / f"a.{ending}")
        yield ending, (tmp_path / f"a.{ending}").read_bytes()
    yield "txt", b"# matrix x 10 340 y 5 240 rows front\n" + b"0.1 0.2 0.3 0.4\n" * 4


def samples(tmp_path):
    """(what reads it, its ending, its bytes) of every file that Tall Grain reads."""
    survey = lambda path: read_survey(path, now())  # noqa: E731
    yield from ((survey, ending, data) for ending, data in surfaces(tmp_path))
    for read, document in (
        (survey, SURVEY), (read_gap, GAP), (read_skew, SKEW), (read_delta, DELTA),
        (read_values, VALUES),
    ):  # fmt: skip
        yield read, "json", json.dumps(document).encode()
    yield read_sheet_text, "toml", shipped_sheet_text("Barley").encode()
    dialect = (SHIPPED / "hazel.toml").read_bytes()
    yield lambda path: parse_dialect(read_text(path), "d"), "toml", dialect
    yield lambda path: list(first_layer(path)), "ngc", PROGRAM.encode()
    session = b'{"format": "tallgrain-session", "version": 1, "dialect": "x"}\n'
    said = b'{"at": 0.1, "from": "us", "line": "x"}\n'
    yield lambda path: list(replayed(path)), "jsonl", session + said


NASTY = (
    b"9" * 5000, b"1e400", b"-1e400", b"9" * 400, b"NaN", b"Infinity", b'"\\ud800"', b"null", b"[]",
    b"{}", b"true", b"-", b"", b"\x00", b"\xff\xfe", b"[" * 3000, b"{\"a\":" * 3000, b"\n" * 3000,
    b"1,5", "−1".encode(), "½".encode(), b"0x10", b"1_000", b"=1+1", b"<!DOCTYPE a>", b"a.b.c.d=1",
    b"\r", b"*\n", b'"', b"'", b"inf", b"1" * 20, b"G2 X1 Y1 I99999999 J1 E1\n", b"\x1b[2J",
)  # fmt: skip


def bent(data, rng):
    """One damage, or a few: a figure or a word replaced, a part doubled, cut, moved or flipped."""
    for _ in range(int(rng.integers(1, 4))):
        at = int(rng.integers(0, max(len(data), 1)))
        to = min(at + int(rng.choice([1, 2, 4, 9, 30, 200])), len(data))
        what = NASTY[int(rng.integers(len(NASTY)))]
        way = int(rng.integers(7))
        if way == 0:
            data = data[:at] + what + data[to:]
        elif way == 1:
            data = data[:at] + what + data[at:]
        elif way == 2:
            data = data[:at] + data[to:]
        elif way == 3:
            data = data[:to] + data[at:to] * int(rng.integers(1, 60)) + data[to:]
        elif way == 4:
            flipped = bytearray(data)
            if flipped:
                flipped[at] ^= 1 << int(rng.integers(8))
            data = bytes(flipped)
        elif way == 5:
            figures = [i for i, c in enumerate(data) if chr(c).isdigit()] or [0]
            at = figures[int(rng.integers(len(figures)))]
            data = data[:at] + what + data[at + 1 :]
        else:
            data = data[:at]
    return data


def rezipped(data, rng):
    """An X3P whose members are bent, not its packing."""
    made = io.BytesIO()
    ways = (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2, zipfile.ZIP_LZMA)
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(made, "w") as new:
        for name in old.namelist():
            content = old.read(name)
            if name == "md5checksum.hex":
                continue
            if rng.random() < 0.6:
                content = bent(content, rng)
            if name == "main.xml" and rng.random() < 0.2:
                content = content.decode("latin-1").encode(str(rng.choice(["utf-16", "utf-8"])))
            new.writestr(name, content, ways[int(rng.integers(4))])
    return made.getvalue()


def fuzz(folder, seeds):
    """(reader, seed, what came of it) for each damaged file; only sentences may come."""
    every = list(samples(folder))
    for seed in seeds:
        rng = np.random.default_rng(seed)
        read, ending, data = every[seed % len(every)]
        whole = ending == "x3p" and rng.random() < 0.7
        path = folder / f"bent.{ending}"
        path.write_bytes(rezipped(data, rng) if whole else bent(data, rng))
        try:
            found = read(path)
        except TallGrainError as error:
            assert error.what and error.where, seed
            str(error).encode()
        else:
            if isinstance(found, Survey):
                assert np.isfinite(found.heights).all() and np.isfinite(found.xy).all(), seed
        yield ending, seed


def test_every_sample_is_read_before_it_is_bent(tmp_path):
    for read, ending, data in samples(tmp_path):
        path = tmp_path / f"whole.{ending}"
        path.write_bytes(data)
        assert read(path), ending


def test_bent_files_end_in_sentences(tmp_path):
    assert len(list(fuzz(tmp_path, range(1500)))) == 1500


@pytest.mark.parametrize("make", [
    lambda p: os.mkfifo(p), lambda p: p.mkdir(), lambda p: p.symlink_to("/dev/zero"),
    lambda p: p.symlink_to(p),
])  # fmt: skip
@pytest.mark.parametrize("ending", ["csv", "json", "x3p", "sdf", "ngc", "toml"])
def test_what_is_no_regular_file_is_said_at_once(tmp_path, make, ending):
    path = tmp_path / f"odd.{ending}"
    make(path)
    read = {"ngc": lambda p: list(first_layer(p)), "toml": read_sheet_text}.get(
        ending, lambda p: read_survey(p, now())
    )
    with pytest.raises(TallGrainError, match=r"regular file|folder|can't be read"):
        read(path)


@pytest.mark.parametrize("umask", [0o022, 0o077, 0o002])
def test_writing_keeps_modes_and_follows_no_link(tmp_path, umask):
    before = os.umask(umask)
    try:
        write_text(tmp_path / "new", "x")
        assert stat.S_IMODE((tmp_path / "new").stat().st_mode) == 0o666 & ~umask
        (tmp_path / "new").chmod(0o604)
        write_text(tmp_path / "new", "y")
        assert stat.S_IMODE((tmp_path / "new").stat().st_mode) == 0o604
        (tmp_path / "link").symlink_to(tmp_path / "new")
        with pytest.raises(JobError, match="symbolic link"):
            write_text(tmp_path / "link", "z")
        assert (tmp_path / "new").read_text() == "y"
        assert sorted(p.name for p in tmp_path.iterdir()) == ["link", "new"]
    finally:
        os.umask(before)


@pytest.mark.parametrize("link", ["a.", '"a b" . ', "'a'. ", "a-b\t.\t"])
def test_a_chain_of_names_is_refused_before_it_is_parsed(link):
    """A parser's time may grow with the square of a chain's length: none of ours is long."""
    for count, said in ((DEEPEST + 1, "nested"), (200_000, "nested")):
        text = link * min(count, 900_000 // len(link)) + "b = 1\n"
        with pytest.raises(InputError, match=said):
            parse_toml(text, "keys")
    assert parse_toml("a." * 5 + "b = 1\nnote = '" + "1.5 " * 99 + "'\n", "keys")


READERS = {
    **{
        f"s{ending}": lambda p: read_survey(p, now(), "Barley", None)
        for ending in (".csv", ".txt", ".json", ".x3p", ".sdf", ".dat", "")
    },
    "log.log": lambda p: read_survey(p, now(), "Barley", None),
    "places.csv": lambda p: parse_places(read_text(p, 10**8), "places"),
    "gap.json": read_gap,
    "skew.json": read_skew,
    "delta.json": read_delta,
    "values.json": read_values,
    "sheet.toml": read_sheet_text,
    "dialect.toml": lambda p: parse_dialect(read_text(p, 10**8), "dialect"),
    "program.ngc": lambda p: list(first_layer(p)),
    "pack.tgz": read_pack,
}
ONE = st.sampled_from(
    ["\n", "\r", "\r\n", "\0", " ", "\t", ",", ";", "#", "-", "+", ".", "0", "9", "e", '"', "(",
     "[", "{", "=", "\ufeff", "\u2212", "G", "G0 X", "1 ", "1,", "-1 -1 -1\n", "nan nan nan\n",
     "x,y,z\n", "1 2 3\n", "[a]\n", "a=1\n", "0.1, 0.2\n", "PK\x03\x04", "\u00e9", "; \n", ":",
     "e5\n"]
)  # fmt: skip


@settings(max_examples=400, deadline=None)
@given(st.sampled_from(sorted(READERS)), ONE, st.sampled_from([1, 2, 3, 7, 1000, 70_000]), ONE)
def test_one_thing_repeated_is_a_sentence_or_a_reading(name, unit, count, end):
    """One byte, one line, only separators, only signs, and whatever ends it."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / name
        path.write_bytes((unit * count + end).encode())
        try:
            READERS[name](path)
        except TallGrainError as error:
            assert str(error)


@given(st.text() | st.sampled_from(["../../x/evil", "a" * 300, ".hidden", "/etc/hosts", "a\\b"]))
def test_a_name_leads_to_no_other_folder(name):
    """One function makes paths from names; what can't be a file's name makes none."""
    folder = Path("/somewhere/below")
    made = named_in(folder, name, ".toml")
    if made is not None:
        assert made.parent == folder and len(made.name.encode()) <= 255 and made.name.isprintable()
    assert shipped_sheet_text(name) is None or name.lower() in ("barley", "rye", "millet")
    survey = {**SURVEY, "machine": name}
    try:
        read = parse_survey(json.dumps(survey), "x")
    except InputError as no:
        assert "machine" in str(no)
    else:
        assert "/" not in read.machine and len(read.machine) <= 60
