"""Open surface formats: written, read by the words of their standards, and refused."""

import hashlib
import io
import json
import struct
import subprocess
import sys
import zipfile
from datetime import UTC, datetime
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from standins import tallgrain
from tallgrain.core.survey import Point, Survey
from tallgrain.errors import InputError, TallGrainError
from tallgrain.formats import x3p
from tallgrain.formats.files import ENDINGS, read_survey, write_survey
from tallgrain.formats.matrix_text import Extent

WHEN = datetime(2026, 3, 4, 18, 20, tzinfo=UTC)
XS, YS = np.linspace(9.5, 342.0, 7), np.linspace(8.0, 341.0, 5)


def made(missing=()):
    chance = np.random.default_rng(5)
    points = [
        Point(float(x), float(y), float(np.round(chance.normal(0, 0.05), 6)))
        for i, y in enumerate(YS) for j, x in enumerate(XS) if (j, i) not in missing
    ]  # fmt: skip
    return Survey("Barley", "surface", WHEN, tuple(points))


def table(survey):
    return {(round(p.x, 3), round(p.y, 3)): round(p.z, 6) for p in survey.points}


@pytest.mark.parametrize("ending", ENDINGS)
@pytest.mark.parametrize("missing", [(), ((3, 4), (0, 0))])
def test_what_is_written_is_read_back(tmp_path, ending, missing):
    survey = made(missing)
    path = tmp_path / f"s{ending}"
    write_survey(survey, path)
    again = read_survey(path, WHEN)
    assert table(again) == table(survey)
    if not missing:
        assert again.shape == (7, 5) or ending == ".json"
    first = path.read_bytes()
    write_survey(survey, path)
    assert path.read_bytes() == first  # the same surface makes the same file


INDEPENDENT = """
import json, sys, warnings
warnings.simplefilter("ignore")
from SurfaceTopography import read_topography
surface = read_topography(sys.argv[1])
print(json.dumps([surface.heights().T.tolist(), list(surface.pixel_size), surface.unit]))
"""


@pytest.mark.parametrize("ending", [".x3p", ".sdf"])
def test_an_independent_reader_finds_the_same_surface(tmp_path, ending):
    survey = made()
    write_survey(survey, tmp_path / f"s{ending}")
    done = subprocess.run(
        [sys.executable, "-c", INDEPENDENT, str(tmp_path / f"s{ending}")],
        capture_output=True, text=True, timeout=120,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    heights, pixel, unit = json.loads(done.stdout)
    to_mm = {"m": 1000.0, "µm": 0.001}[unit]
    assert np.array(heights).ravel() * to_mm == pytest.approx(survey.heights)
    assert np.array(pixel) * to_mm == pytest.approx([np.diff(XS)[0], np.diff(YS)[0]])


def test_x3p_by_the_standards_own_words(tmp_path):
    write_survey(made(), tmp_path / "s.x3p")
    with zipfile.ZipFile(tmp_path / "s.x3p") as archive:
        xml, data = archive.read("main.xml"), archive.read("bindata/data.bin")
        told = archive.read("md5checksum.hex").split()[0].decode()
    assert told == hashlib.md5(xml).hexdigest()
    root = ElementTree.fromstring(xml)
    assert root.tag == "{http://www.opengps.eu/2008/ISO5436_2}ISO5436_2"
    assert root.findtext("Record3/DataLink/MD5ChecksumPointData") == hashlib.md5(data).hexdigest()
    heights = np.frombuffer(data, "<f8").reshape(5, 7)
    assert heights.ravel() * 1000 == pytest.approx([p.z for p in made().points])
    assert float(root.findtext("Record1/Axes/CX/Increment")) * 1000 == pytest.approx(np.diff(XS)[0])
    assert root.findtext("Record2/Date").startswith("2026-03-04T18:20")


def x3p_file(path, kind="L", axis="A", size=(3, 2, 1), data=None, extra="", xml=None, sums=True):
    """A file as another program would write it: heights as counts of 0.1 µm, or a list."""
    counts = np.array([0, 100, -200, 300, 40, 5])
    data = counts.astype({"L": "<i4", "I": "<i2"}[kind]).tobytes() if data is None else data
    where = "<AxisType>I</AxisType><Increment>0.05</Increment><Offset>0.01</Offset>"
    text = xml or (
        f'<?xml version="1.0"?>{extra}<p:ISO5436_2 xmlns:p="{x3p.SPACE}"><Record1><Axes>'
        f"<CX>{where}</CX><CY>{where}</CY><CZ><AxisType>{axis}</AxisType><DataType>{kind}</DataType>"
        "<Increment>1e-7</Increment><Offset>0</Offset></CZ></Axes></Record1><Record3>"
        + "<MatrixDimension>"
        + "".join(f"<Size{a}>{n}</Size{a}>" for a, n in zip("XYZ", size, strict=True))
        + "</MatrixDimension><DataLink><PointDataLink>bindata/data.bin</PointDataLink>"
        f"<MD5ChecksumPointData>{hashlib.md5(data).hexdigest()}</MD5ChecksumPointData></DataLink>"
        "</Record3></p:ISO5436_2>"
    )
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("main.xml", text)
        archive.writestr("bindata/data.bin", data)
        if sums:
            archive.writestr("md5checksum.hex", hashlib.md5(text.encode()).hexdigest())
    return path


@pytest.mark.parametrize("kind", ["L", "I"])
def test_x3p_of_another_program(tmp_path, kind):
    survey = read_survey(x3p_file(tmp_path / "o.x3p", kind), WHEN)
    assert survey.shape == (3, 2)
    assert survey.heights == pytest.approx(np.array([0, 100, -200, 300, 40, 5]) * 1e-4)
    assert (survey.points[0].x, survey.points[0].y) == (10.0, 10.0)
    assert survey.points[5].x == 110.0 and survey.points[5].y == 60.0


ENTITY = '<!DOCTYPE a [<!ENTITY b SYSTEM "file:///etc/passwd">]>'


@pytest.mark.parametrize(("how", "told"), [
    ({"extra": ENTITY}, "types or entities"), ({"size": (3, 2, 2)}, "several layers"),
    ({"size": (30_000, 30_000, 1)}, "can't be read"), ({"size": ("x", 2, 1)}, "no count"),
    ({"size": (4, 2, 1)}, "bytes are no 8"), ({"axis": "Q"}, "type 'Q'"),
    ({"xml": "<p:a"}, "no XML"), ({"xml": "<a/>"}, "missing"),
])  # fmt: skip
def test_x3p_that_is_none_is_said(tmp_path, how, told):
    with pytest.raises(InputError, match=told):
        read_survey(x3p_file(tmp_path / "o.x3p", **how), WHEN)


def test_a_wrong_checksum_and_a_bomb_are_said(tmp_path, monkeypatch):
    path = x3p_file(tmp_path / "o.x3p")
    with zipfile.ZipFile(path) as archive:
        parts = {n: archive.read(n) for n in archive.namelist()}
    for name, content in (("md5checksum.hex", b"0" * 32), ("bindata/data.bin", b"\1" * 24)):
        with zipfile.ZipFile(path, "w") as archive:
            for part, was in parts.items():
                archive.writestr(part, content if part == name else was)
        with pytest.raises(InputError, match="checksum"):
            read_survey(path, WHEN)
    x3p_file(path)
    raw = bytearray(path.read_bytes())
    at = raw.index(b"main.xml") + len(b"main.xml") + 8
    raw[at : at + 6] = b"\xff" * 6  # within the deflated text
    path.write_bytes(raw)
    with pytest.raises(InputError):
        read_survey(path, WHEN)
    monkeypatch.setattr(x3p, "MOST_DATA", 1_000_000)
    x3p_file(path, size=(3, 2, 1), data=b"\0" * 50_000_000)
    with pytest.raises(InputError, match="unpacks to more than 1 MB"):
        read_survey(path, WHEN)


@pytest.mark.parametrize(("kind", "code"), [(5, "<i2"), (6, "<i4"), (3, "<f4"), (7, "<f8")])
def test_binary_sdf_by_the_standards_own_words(tmp_path, kind, code):
    stored = np.array([[1, -2, 3], [40, 50, -60]]).astype(code)
    head = b"bISO-1.0" + b"Someone   " + b"010120260000" * 2
    head += struct.pack("<HH4d3B", 3, 2, 0.05, 0.04, 1e-6, -1.0, 0, kind, 0)
    path = tmp_path / "b.sdf"
    path.write_bytes(head + stored.tobytes())
    survey = read_survey(path, WHEN)
    assert survey.heights == pytest.approx(np.array([1, -2, 3, 40, 50, -60]) * 1e-3)
    assert (survey.points[5].x, survey.points[5].y) == (100.0, 40.0)
    path.write_bytes(head + stored.tobytes()[:-1])
    with pytest.raises(InputError, match="ends within its heights"):
        read_survey(path, WHEN)


def test_a_relief_is_closed_triangles_of_the_right_size(tmp_path):
    survey = made()
    for ending in (".stl", ".ply"):
        write_survey(survey, tmp_path / f"r{ending}", exaggeration=50)
        with pytest.raises(InputError, match="only written"):
            read_survey(tmp_path / f"r{ending}", WHEN)
    raw = (tmp_path / "r.stl").read_bytes()
    count = struct.unpack("<I", raw[80:84])[0]
    assert count == 2 * 6 * 4 and len(raw) == 84 + 50 * count
    faces = np.frombuffer(raw[84:], dtype=[("n", "<f4", 3), ("v", "<f4", (3, 3)), ("r", "<u2")])
    assert (faces["n"][:, 2] > 0).all()
    flat = faces["v"][:, :, :2].astype(float)
    a, b = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
    area = 0.5 * (a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum()
    assert area == pytest.approx(np.ptp(XS) * np.ptp(YS), rel=1e-6)
    assert np.ptp(faces["v"][:, :, 2]) == pytest.approx(50 * np.ptp(survey.heights), rel=1e-5)
    head, _, body = (tmp_path / "r.ply").read_bytes().partition(b"end_header\n")
    assert b"element vertex 35" in head and b"element face 48" in head
    assert len(body) == 35 * 12 + 48 * 13


@pytest.mark.parametrize(("text", "extent", "first"), [
    ("# matrix x 0 300 y 0 200 rows front\n1 2 3 4\n5 6 7 8\n", None, 1),
    ("# matrix x 0 300 y 0 200 rows rear\n1\t2\t3\t4\n5\t6\t7\t8\n", None, 5),
    ("1,2,3,4\n5,6,7,8\n", Extent(0, 300, 0, 200, False), 5),
    ("1,0;2,0;3,0;4,0\n5,0;6,0;nan;8,0\n", Extent(0, 300, 0, 200), 1),
    ("# matrix x 0 300 y 0 200\n 1 2 3 4\n\n 5 6 - 8\n", None, 1),
])  # fmt: skip
def test_a_matrix_lies_where_it_is_said(tmp_path, text, extent, first):
    path = tmp_path / "m.txt"
    path.write_text(text)
    survey = read_survey(path, WHEN, extent=extent)
    by_place = {(p.x, p.y): p.z for p in survey.points}
    assert by_place[0, 0] == first and by_place[100, 0] == first + 1
    assert by_place[300, 200] == (4 if first == 5 else 8)
    assert len(by_place) == 8 - ("nan" in text or "-" in text.split("\n", 1)[1])


@pytest.mark.parametrize(("text", "extent", "told"), [
    ("1 2 3 4\n5 6 7 8\n", None, "looks like a matrix"),
    ("# matrix x 0 300 y 0 200\n1 2 3 4\n5 6 7\n", None, "has 3 figures"),
    ("# matrix x 0 300 y 0 200\n1 2 3 a\n5 6 7 8\n", None, "column 4"),
    ("# matrix x 300 0 y 0 200\n1 2 3 4\n5 6 7 8\n", None, "hold nothing"),
    ("# matrix x a b y 0 200\n1 2 3 4\n", None, "no numbers"),
    ("1 2 3 4\n", Extent(0, 1, 0, 1), "two rows"),
    ("1 2 3 4\n5 6 7 9999\n", Extent(0, 1, 0, 1), "can't be one"),
])  # fmt: skip
def test_a_matrix_that_is_none_is_said(tmp_path, text, extent, told):
    path = tmp_path / "m.txt"
    path.write_text(text)
    with pytest.raises(InputError, match=told) as caught:
        read_survey(path, WHEN, extent=extent)
    assert str(path) in f"{caught.value.where}" or "line" in caught.value.where


def test_points_off_any_grid_are_not_forced_onto_one(tmp_path):
    points = tuple(Point(float(x), float(y), 0.0) for x, y in ((0, 0), (10, 3), (4, 17), (30, 30)))
    for ending in (".x3p", ".sdf", ".stl"):
        with pytest.raises(InputError, match="no even grid"):
            write_survey(Survey("B", "surface", WHEN, points), tmp_path / f"s{ending}")
        assert not (tmp_path / f"s{ending}").exists()


GOOD = {}


@given(
    st.sampled_from(ENDINGS),
    st.lists(st.tuples(st.floats(0, 1), st.binary(max_size=6)), max_size=4),
)
@settings(max_examples=120, deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_broken_files_are_refused_in_words(tmp_path_factory, ending, cuts):
    """Bytes replaced, put in or cut off anywhere: a survey or a sentence, nothing else."""
    folder = tmp_path_factory.mktemp("f")
    if ending not in GOOD:
        write_survey(made(), folder / f"g{ending}")
        GOOD[ending] = (folder / f"g{ending}").read_bytes()
    data = bytearray(GOOD[ending])
    for share, put in cuts:
        at = int(share * len(data))
        data[at : at + 3] = put
    path = folder / f"b{ending}"
    path.write_bytes(bytes(data))
    try:
        assert read_survey(path, WHEN).points
    except TallGrainError as error:
        assert error.what and "Traceback" not in str(error)


def test_conversion_on_the_command_line(tmp_path):
    matrix = tmp_path / "m.csv"
    matrix.write_text("0.1,0.2,0.3,0.2\n0.0,0.1,0.2,0.1\n0.1,0.1,0.1,0.1\n")
    target = tmp_path / "s.x3p"
    assert "--extent" in tallgrain("convert", matrix, target, check=2).stderr
    assert not Path(target).exists()
    tallgrain("convert", matrix, target, "--extent", "10,340,5,240", "--rows", "rear", check=0)
    tallgrain("convert", target, tmp_path / "s.sdf", check=0)
    again = read_survey(tmp_path / "s.sdf", WHEN)
    assert {(p.x, p.y): round(p.z, 9) for p in again.points}[340.0, 240.0] == 0.2
    tallgrain("convert", target, tmp_path / "s.stl", "--exaggeration", "100", check=0)
    assert "only written" in tallgrain("flatness", tmp_path / "s.stl", check=2).stderr
    assert io.BytesIO(target.read_bytes()).read(2) == b"PK"
