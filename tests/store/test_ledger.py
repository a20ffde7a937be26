import json
import shutil
import sqlite3
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest

import nursery
from tallgrain.core.survey import Conditions, Point, Survey
from tallgrain.errors import InputError, StoreError
from tallgrain.store import database
from tallgrain.store.entries import MachineEvent, NewSurvey
from tallgrain.store.ledger import FILE_NAME, Ledger
from tallgrain.store.schema import NEWEST

NOON = datetime(2026, 3, 4, 18, 20, tzinfo=UTC)
NEW = NewSurvey("Barley", "surface", NOON, 9, 2, (3, 3), Conditions(170, 70, 12, "smooth"), "n")


def test_a_survey_comes_back_touch_by_touch(home):
    with Ledger.open(home) as ledger:
        ident = ledger.begin_survey(NEW)
        ledger.add_touch(ident, 0, [0.030], 15.0, 15.0, None)
        ledger.add_touch(ident, 0, [0.030, 0.032], 15.0, 15.0, 0.031)
        ledger.add_touch(ident, 1, [0.020], 30.0, 15.0, None)
        found = ledger.survey(ident)
        # A point counts once all its touches are in.
        assert found.points == (Point(15.0, 15.0, 0.031, (0.030, 0.032)),)
        assert (found.conditions, found.shape, found.complete) == (NEW.conditions, (3, 3), False)
        assert ledger.head(ident).state == "running"
    # Whoever opens it next finds that its program ended, with every touch kept.
    with Ledger.open(home) as ledger:
        head = ledger.head(ident)
        assert (head.state, head.points, head.planned) == ("broken_off", 1, 9)
        whole = Survey("Barley", "surface", NOON, found.points, found.conditions, note="from file")
        again = ledger.survey(ledger.add_survey(whole))
        assert (again.points, again.complete, again.note) == (found.points, True, "from file")
    with pytest.raises(InputError, match="no survey '99'"), Ledger.open(home) as ledger:
        ledger.survey("99")


def test_one_writer_at_a_time(home):
    with Ledger.open(home, "The window"):
        with pytest.raises(StoreError, match=r"The window \(process \d+\) is writing"):
            Ledger.open(home)
        with Ledger.open(home, write=False) as reader, pytest.raises(StoreError, match="reading"):
            reader.put_machine("x", "y", NOON)
    Ledger.open(home).close()


def at_version(home, number):
    Ledger.open(home).close()
    with closing(sqlite3.connect(home / FILE_NAME)) as connection, connection:
        connection.execute(f"PRAGMA user_version = {number}")


@pytest.mark.parametrize("write", [True, False])
def test_a_newer_ledger_is_refused_and_left_alone(home, write):
    at_version(home, 9999)
    before = (home / FILE_NAME).read_bytes()
    with pytest.raises(StoreError, match="newer Tall Grain"):
        Ledger.open(home, write=write)
    assert (home / FILE_NAME).read_bytes() == before
    assert len(list(home.glob("*.sqlite"))) == 1


@pytest.mark.parametrize(
    ("content", "said"), [(b"not a database at all" * 99, "damaged"), (b"", "empty")]
)
def test_damaged_and_empty_files(home, content, said):
    home.mkdir()
    (home / FILE_NAME).write_bytes(content)
    for write in (True, False):
        with pytest.raises(StoreError, match=said):
            Ledger.open(home, write=write)
    assert [p.name for p in home.iterdir()] == [FILE_NAME]
    assert (home / FILE_NAME).read_bytes() == content


def test_somebody_elses_database_is_not_touched(home):
    home.mkdir()
    with closing(sqlite3.connect(home / FILE_NAME)) as other, other:
        other.execute("CREATE TABLE bees (name TEXT)")
    with pytest.raises(StoreError, match="not a ledger"):
        Ledger.open(home)


def assert_season_is_its_surveys(ledger):
    """What a season reads in one piece is what each survey says point by point."""
    rows = ledger.season("Barley")
    assert [h.ident for h in rows.heads] == [
        h.ident for h in ledger.heads("Barley") if h.points and h.kind == "surface"
    ]
    for i, head in enumerate(rows.heads):
        stored, here = ledger.survey(head.ident), rows.survey == i
        np.testing.assert_array_equal(rows.xy[here], stored.xy)
        np.testing.assert_allclose(rows.heights[here], stored.heights, atol=1e-12)
        assert (head.complete, head.conditions) == (stored.complete, stored.conditions)


def test_a_season_follows_every_change_of_its_surveys(home):
    when, whole = datetime(2026, 3, 1, tzinfo=UTC), Conditions(170, 70, 12, "smooth")
    with Ledger.open(home) as ledger:
        for kind in ("surface", "surface", "towers"):
            ident = ledger.begin_survey(NewSurvey("Barley", kind, when, 3, 2, None, whole))
            for number in range(3):
                for touches in ([0.01 * number], [0.01 * number, 0.02]):
                    z = sum(touches) / 2 if len(touches) == 2 else None
                    ledger.add_touch(ident, number, touches, 10.0 * number, 5.0, z)
                    assert_season_is_its_surveys(ledger)
            ledger.end_survey(ident, kind != "towers", "")
        for act in (
            lambda: ledger.take_out_drift("1", 0.002),
            lambda: ledger.settle("1", 1, [True, False], 0.5),
            lambda: ledger.reopen("2", "gone on with"),
            lambda: ledger.add_touch("2", 3, [0.7], 40.0, 5.0, 0.7),
            lambda: ledger.end_survey("2", False, "again"),
            lambda: ledger.take_out_drift("1", None),
        ):
            act()
            assert_season_is_its_surveys(ledger)


def test_every_old_step_migrates_with_a_dated_copy(home):
    for sample in sorted((Path(__file__).parent / "samples").glob("*.sqlite")):
        shutil.rmtree(home, ignore_errors=True)
        home.mkdir()
        shutil.copy(sample, home / FILE_NAME)
        old = database.version_of(sample)
        assert old == int(sample.stem)
        with Ledger.open(home) as ledger:
            assert [h.points for h in ledger.heads("Barley")] == [2]
            assert_season_is_its_surveys(ledger)
        copies = list(home.glob("ledger-*.sqlite"))
        assert [database.version_of(c) for c in copies] == [old]
        # A program from before says that a newer one wrote this.
        with closing(sqlite3.connect(home / FILE_NAME)) as found:
            (told,) = found.execute("SELECT version_num FROM alembic_version").fetchone()
        assert int(told) == NEWEST == database.version_of(home / FILE_NAME)


FILL = """
import resource, signal, sys
from datetime import UTC, datetime
from pathlib import Path
from tallgrain.core.survey import Conditions
from tallgrain.errors import StoreError
from tallgrain.store.entries import NewSurvey
from tallgrain.store.ledger import Ledger
ledger = Ledger.open(Path(sys.argv[1]))
ident = ledger.begin_survey(
    NewSurvey("Barley", "surface", datetime.now(UTC), 9, 1, None, Conditions())
)
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
resource.setrlimit(resource.RLIMIT_FSIZE, (300_000, 300_000))
done = 0
try:
    for done in range(5000):
        ledger.add_touch(ident, done, [0.1], 1.0, 2.0, 0.1)
except StoreError as error:
    print(done, str(error), sep="|")
"""


def test_a_full_disk_is_a_sentence_and_loses_nothing(home):
    told = nursery.run(["-c", FILL, str(home)])
    stored, sentence = told.stdout.strip().split("|")
    assert "disk" in sentence
    assert int(stored) > 10
    with Ledger.open(home) as ledger:
        assert ledger.heads()[0].points >= int(stored)


def test_an_unwritable_folder_is_a_sentence(tmp_path):
    blocked = tmp_path / "file"
    blocked.write_text("")
    with pytest.raises(StoreError, match="data folder can't be used"):
        Ledger.open(blocked / "home")


@pytest.mark.parametrize(
    ("folder", "there"),
    [("/home/ann/data", False), ("/mnt/share/data", True), ("/mnt/shared", False)],
)
def test_network_folders_are_noticed(folder, there):
    mounts = "/dev/sda1 / ext4 rw 0 0\nserver:/x /mnt/share nfs4 rw 0 0\n"
    assert database.network_folder(Path(folder), mounts) is there


def test_holder_file_is_readable(home):
    with Ledger.open(home, "The window"):
        assert json.loads((home / "ledger.lock").read_text())["holder"] == "The window"


def test_events_are_withdrawn_not_lost(home):
    first = MachineEvent("Barley", NOON, "new nozzle", "0.6 mm", ("Gap",))
    later = MachineEvent("barley", NOON.replace(year=2027), "moved", stale=("Tilt", "Gap"))
    with Ledger.open(home) as ledger:
        number = ledger.add_event(later)
        ledger.add_event(first)
        assert [e.kind for e in ledger.events("BARLEY")] == ["new nozzle", "moved"]
        assert ledger.events("Barley")[1].stale == ("Tilt", "Gap")
        ledger.withdraw_event(number, NOON)
        assert [e.kind for e in ledger.events("Barley")] == ["new nozzle"]
        ledger.withdraw_event(number, None)
        assert [e.number for e in ledger.events("Barley")][1] == number
        assert ledger.events("Rye") == []


def test_a_season_is_read_in_the_order_of_time(home):
    days = [5, 1, 3]
    with Ledger.open(home) as ledger:
        for day in days:
            points = tuple(Point(float(i), 2.0 * i * i, 0.01 * day) for i in range(day + 3))
            ledger.add_survey(Survey("Barley", "surface", NOON.replace(day=day), points))
        ledger.add_survey(Survey("Rye", "surface", NOON, (Point(0.0, 0.0, 9.0),)))
        rows = ledger.season("barley")
    assert [h.taken_at.day for h in rows.heads] == sorted(days)
    assert rows.survey.tolist() == [0] * 4 + [1] * 6 + [2] * 8
    assert rows.heights.max() == 0.05
