import json
import runpy
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tallgrain.core.survey import Conditions, Point, Survey
from tallgrain.errors import InputError, JobError
from tallgrain.formats.files import read_survey, write_survey
from tallgrain.formats.point_text import parse_points
from tallgrain.formats.survey_json import parse_survey, survey_text
from tallgrain.paths import ASSETS
from tallgrain.store.ledger import Ledger
from tallgrain.textio import write_text

NOON = datetime(2026, 3, 4, 18, 20, tzinfo=UTC)
place = st.floats(-500, 500).map(lambda v: round(v, 3))
height = st.floats(-5, 5).map(lambda v: round(v, 5))
points = st.builds(
    lambda x, y, touches: Point(x, y, sum(touches) / len(touches), tuple(touches)),
    place, place, st.lists(height, min_size=1, max_size=4),
) | st.builds(Point, place, place, height)  # fmt: skip


def named(name):
    return not name.startswith(".")


surveys = st.builds(
    Survey,
    machine=st.text("abC é-1.", max_size=8).map(str.strip).filter(named),
    kind=st.sampled_from(["surface", "supports", "repeatability"]),
    taken_at=st.just(NOON), points=st.lists(points, min_size=1, max_size=12).map(tuple),
    conditions=st.builds(
        Conditions, *[st.none() | st.just(v) for v in (170.0, 70.0, 12.0)],
        st.none() | st.text(max_size=5),
    ),
    complete=st.booleans(), note=st.text(max_size=9),
)  # fmt: skip


@settings(max_examples=80, deadline=None)
@given(surveys)
def test_json_gives_back_what_it_was_given(survey):
    assert parse_survey(survey_text(survey), "x") == survey


def test_foreign_keys_come_back():
    text = (
        '{"format":"tallgrain-survey","version":1,"taken_at":"2026-03-04T18:20:00+00:00",'
        '"shelf":3,"conditions":{"door":"open"},"points":[{"x":1,"y":2,"z":0.5,"hue":"blue"}]}'
    )
    again = json.loads(survey_text(parse_survey(text, "x")))
    assert again["shelf"] == 3
    assert again["conditions"]["door"] == "open"
    assert again["points"][0]["hue"] == "blue"


HEAD = '{"format":"tallgrain-survey","version":1,"taken_at":"2026-03-04T18:20:00Z",'


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("{", "line 1"),
        ("[]", "not a survey"),
        ('{"format":"other"}', "not a survey"),
        (HEAD.replace(":1,", ":7,") + '"points":[]}', "version 7"),
        (HEAD + '"points":[]}', "points"),
        (HEAD + '"points":[{"x":1,"y":2}]}', "points[1].z is missing"),
        (HEAD + '"points":[{"x":1,"y":2,"z":NaN}]}', "points[1].z"),
        (HEAD + '"points":[{"x":1,"y":2,"z":0.1,"touches":[0.1,0.2]}]}', "touches average 0.1500"),
        (HEAD + '"kind":"guess","points":[{"x":1,"y":2,"z":0}]}', "kind"),
        (HEAD + '"conditions":{"plate_c":"hot"},"points":[{"x":1,"y":2,"z":0}]}', "plate_c"),
        ("[" * 100_000, "nested too deeply"),
    ],
)
def test_damaged_json_names_its_place(text, said, tmp_path):
    path = tmp_path / "bad.json"
    path.write_text(text)
    with pytest.raises(InputError) as caught:
        read_survey(path, NOON)
    assert said in str(caught.value)
    assert "bad.json" in str(caught.value)


@pytest.mark.parametrize(
    "text",
    [
        "x,y,z\n15,20,0.031\n30,20,-0.004\n",
        "15, 20, 0.031\n30, 20, -0.004",
        "# bed\nx_mm\ty_mm\tz_mm\n15\t20\t0,031\n30\t20\t−0,004\n",
        "15;20;0,031\n30;20;-0,004\n",
        "15 20 0,031\r\n\r\n30   20 -0,004\r\n",
        '"Z [mm]","X","Y","note"\n0.031,15,20,a\n-0.004,30,20,b\n',
        "\ufeffX Y Z\n15 20 3.1e-2\n30 20 -4e-3\n",
    ],
)
def test_points_as_people_write_them(text, tmp_path):
    path = tmp_path / "p.csv"
    path.write_text(text, encoding="utf-8")
    found = read_survey(path, NOON).points
    assert [(p.x, p.y, p.z) for p in found] == [(15, 20, 0.031), (30, 20, -0.004)]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "no point"),
        ("hello\nworld\n", "line 1"),
        ("x,y,z\n1,2,3\n1,2\n", "line 3: z is missing"),
        ("1,2,3\n1,two,3\n", "line 2, y: 'two'"),
        ("1,2,3\n1,2,nan\n", "line 2, z"),
        ("x,x,y,z\n1,2,3,4\n", "same name"),
        ("1,2,3\n1,2,1e9\n", "line 2, z"),
    ],
)
def test_damaged_text_names_its_place(text, said):
    with pytest.raises(InputError) as caught:
        parse_points(text, "points.csv")
    assert said in str(caught.value)


def test_files_are_told_apart_and_never_left_half_written(tmp_path, monkeypatch):
    survey = Survey("Barley", "surface", NOON, (Point(1.5, 2.25, 0.031),))
    for ending in ("csv", "tsv", "txt", "xyz", "json"):
        path = tmp_path / f"one.{ending}"
        write_survey(survey, path)
        assert read_survey(path, NOON, "Barley").points[0] == survey.points[0]
    with pytest.raises(InputError, match=r"\.json"):
        write_survey(survey, tmp_path / "one.bin")
    (tmp_path / "latin.csv").write_bytes(b"x y z\n1 2 \xff3\n")
    with pytest.raises(InputError, match="line 2"):
        read_survey(tmp_path / "latin.csv", NOON)
    with pytest.raises(InputError, match="no such file"):
        read_survey(tmp_path / "none.csv", NOON)
    before = sorted(tmp_path.iterdir())
    target = tmp_path / "one.csv"
    kept = target.read_text()

    def full(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("os.fsync", full)
    with pytest.raises(JobError, match="No space left"):
        write_text(target, "half")
    assert target.read_text() == kept
    assert sorted(tmp_path.iterdir()) == before


def test_shipped_schemas_are_the_ones_that_read(tmp_path):
    path = Path(__file__).parents[2] / "scripts" / "schemas.py"
    runpy.run_path(str(path))["write"](tmp_path)
    for made in tmp_path.iterdir():
        assert made.read_text() == (ASSETS / "schemas" / made.name).read_text()


def test_a_place_that_comes_twice(tmp_path):
    path = tmp_path / "twice.csv"
    path.write_text("x,y,z\n10,10,0.10\n20,10,0.2\n10,10,0.12\n10,20,0\n")
    found = read_survey(path, NOON).points
    assert len(found) == 3 and found[0].touches == (0.1, 0.12)
    assert found[0].z == pytest.approx(0.11) and found[1].touches == ()
    path.write_text("x,y,z\n10,10,0.10\n20,10,0.2\n10,10,0.32\n10,20,0\n")
    with pytest.raises(InputError, match="given in line 2 already") as told:
        read_survey(path, NOON)
    assert told.value.where.endswith("line 4")


ODD = (
    "",
    "# a remark",
    "1,2",
    "1,2,x",
    "9,9,nan",
    "9,9,20000",
    "3,0,0.1",
    '"3.5","0",0.1',
    "1;2;3",
)


@settings(max_examples=30, deadline=None)
@given(st.sampled_from(ODD), st.integers(0, 2400), st.sampled_from([",", "\t", " "]), st.booleans())
def test_a_long_text_is_read_as_line_by_line(odd, at, separator, titled):
    """What is read at once says the same as what is read a line at a time, errors and all."""
    lines = [separator.join((str(i % 50), str(i // 50), f"{i % 7 / 100:.2f}")) for i in range(2400)]
    lines.insert(at, odd.replace(",", separator))
    text = "\n".join([separator.join("xyz")] * titled + lines) + "\n"

    def told(few):
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr("tallgrain.formats.point_text.FEW_LINES", few)
            try:
                return list(parse_points(text, "points.csv"))
            except InputError as error:
                return str(error)

    assert told(100) == told(10**9)


def test_many_plain_points_are_kept_in_one_piece(tmp_path):
    file = tmp_path / "many.csv"
    file.write_text("".join(f"{i % 200},{i // 200},{i % 11 / 100}\n" for i in range(24_000)))
    found = read_survey(file, NOON)
    with Ledger.open(tmp_path / "home") as ledger:
        ledger.put_machine("Rye", "", NOON)
        ident = ledger.add_survey(found.for_machine("Rye"))
        again = ledger.survey(ident)
        assert ledger.head(ident).points == len(again.points) == 24_000
        assert len(ledger.season("Rye").heights) == 24_000
    assert again.points == found.points and again.points[7] == Point(7.0, 0.0, 0.07)
    assert again.points[:2] == tuple(found.points)[:2] and hash(again.points) == hash(found.points)
