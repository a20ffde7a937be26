"""Data folders of awkward names, disks that are full or can only be read, programs that die."""

import os
import shutil
import signal
import sqlite3
import subprocess
import sys
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

import nursery
from standins import as_json, tallgrain
from tallgrain.core.survey import Conditions
from tallgrain.errors import StoreError
from tallgrain.store.entries import NewSurvey
from tallgrain.store.ledger import FILE_NAME, Ledger

NOON = datetime(2026, 3, 4, 18, 20, tzinfo=UTC)
NAMES = ("a b", "50% of", "what?", "#1", "a#b?c=%41", "…ü–", "it's", "a'b\"c", "file:x", "-n")


@pytest.mark.parametrize("name", NAMES)
def test_awkward_names_keep_their_data_inside(tmp_path, name):
    home = tmp_path / name
    around = {"TALLGRAIN_HOME": str(home)}
    points = tmp_path / "p.csv"
    points.write_text("x,y,z\n10,10,0.1\n200,10,0.2\n10,200,0.1\n200,200,0\n")
    tallgrain("import", points, "--machine", "Barley", env=around, check=0)
    assert sorted(p.name for p in tmp_path.iterdir()) == sorted([name, "p.csv"])
    with Ledger.open(home, write=False) as ledger:
        assert [h.points for h in ledger.heads()] == [4]
    assert (home / FILE_NAME).stat().st_size > 0


def ledger_with(home, touches):
    with Ledger.open(home) as ledger:
        ident = ledger.begin_survey(
            NewSurvey("Barley", "surface", NOON, touches, 1, None, Conditions())
        )
        for i in range(touches):
            ledger.add_touch(ident, i, [0.01 * i], float(i), 2.0, 0.01 * i)
    return ident


AS_NOBODY = """
import os, sys
from pathlib import Path
from tallgrain.errors import TallGrainError
from tallgrain.store.ledger import Ledger
import encodings.idna
os.setgid(65534); os.setuid(65534)
try:
    Ledger.open(Path(sys.argv[1]), "x")
except TallGrainError as error:
    print(type(error).__name__, error)
with Ledger.open(Path(sys.argv[1]), write=False) as ledger:
    print(ledger.survey("1").points[-1].z, len(ledger.heads()))
"""


@pytest.mark.skipif(os.getuid() != 0, reason="only root can become somebody else")
@pytest.mark.parametrize("left_open", [False, True])
def test_reading_works_where_writing_cannot(left_open):
    # A folder that everybody can reach, unlike the one of this test.
    home = Path("/var/tmp") / f"tallgrain-test-{os.getpid()}"
    try:
        ledger_with(home, 5)
        held = Ledger.open(home) if left_open else None
        if held is not None:
            held.put_machine("Rye", "x", NOON)
        # Only its owner reads it; here another one may look.
        assert {p.stat().st_mode & 0o077 for p in (home, *home.glob("ledger*"))} == {0}
        for path in home.glob("ledger*"):
            path.chmod(0o644)
        home.chmod(0o555)
        told = subprocess.run(
            [sys.executable, "-c", AS_NOBODY, str(home)], capture_output=True, text=True,
            env={**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)},
        )  # fmt: skip
        assert "ReadOnly" in told.stdout and "permissions" in told.stdout, told
        assert "0.04 1" in told.stdout
        assert "dated copy" not in told.stdout  # no advice to throw an intact ledger away
        if held is not None:
            held.close()
    finally:
        shutil.rmtree(home, ignore_errors=True)


FULL = """
import resource, signal, sys
from pathlib import Path
from tallgrain.clock import now
from tallgrain.errors import TallGrainError
from tallgrain.formats.files import read_survey
from tallgrain.store.ledger import Ledger
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
home, file, most = Path(sys.argv[1]), Path(sys.argv[2]), int(sys.argv[3])
resource.setrlimit(resource.RLIMIT_FSIZE, (most, most))
try:
    with Ledger.open(home) as ledger:
        print("stored", ledger.add_survey(read_survey(file, now(), "Barley")))
except TallGrainError as error:
    print("refused", error)
"""


@pytest.mark.parametrize("most", [0, 100, 4096, 20_000, 60_000, 90_000, 130_000, 300_000, 900_000])
def test_a_disk_that_fills_anywhere_in_an_import_loses_nothing(tmp_path, most):
    home, file = tmp_path / "home", tmp_path / "p.csv"
    file.write_text("x,y,z\n" + "\n".join(f"{i % 60},{i // 60},0.1" for i in range(3600)))
    new = tmp_path / "fresh"
    for folder in (home, new):
        if folder is home:
            ledger_with(home, 5)
        told = nursery.run(["-c", FULL, str(folder), str(file), str(most)])
        assert told.returncode == 0, told.stderr
        if told.stdout.startswith("refused"):
            assert "disk" in told.stdout or "File too large" in told.stdout, told.stdout
            assert "Move it away" not in told.stdout
        with Ledger.open(folder) as ledger:
            whole = [h.points for h in ledger.heads()]
        assert whole in ([5], [], [5, 3600], [3600])
    assert whole == [3600] or told.stdout.startswith("refused")


DIES = """
import os, sys
from pathlib import Path
from tallgrain.store import database
step = int(sys.argv[2])
for name in ("dated_copy", "_copy", "_upgrade", "_settle"):
    def wrap(done, name=name):
        def act(*a):
            global step
            step -= 1
            if step == 0:
                os.kill(os.getpid(), 9)
            found = done(*a)
            step -= 1
            if step == 0:
                os.kill(os.getpid(), 9)
            return found
        return act
    setattr(database, name, wrap(getattr(database, name)))
from tallgrain.store.ledger import Ledger
Ledger.open(Path(sys.argv[1])).close()
"""


@pytest.mark.parametrize("step", range(1, 10))
def test_dying_in_a_migration_leaves_the_ledger_or_the_new_one(tmp_path, step):
    sample = sorted((Path(__file__).parent / "samples").glob("*.sqlite"))[0]
    home = tmp_path / "home"
    home.mkdir()
    shutil.copy(sample, home / FILE_NAME)
    died = nursery.run(["-c", DIES, str(home), str(step)])
    assert died.returncode in (0, -signal.SIGKILL)
    with Ledger.open(home) as ledger:
        assert [h.points for h in ledger.heads("Barley")] == [2]
    assert not (home / f"{FILE_NAME}.new").exists()


def test_an_old_ledger_is_read_without_being_changed(tmp_path):
    for sample in sorted((Path(__file__).parent / "samples").glob("*.sqlite")):
        home = tmp_path / sample.stem
        home.mkdir()
        shutil.copy(sample, home / FILE_NAME)
        before = (home / FILE_NAME).read_bytes()
        with Ledger.open(home, write=False) as ledger:
            assert [h.points for h in ledger.heads("Barley")] == [2]
        assert (home / FILE_NAME).read_bytes() == before


@pytest.mark.parametrize("version", ["0001' --", "abc123", "20260101"])
def test_another_programs_steps_are_not_taken_for_ours(home, version):
    home.mkdir()
    with closing(sqlite3.connect(home / FILE_NAME)) as other, other:
        other.execute("CREATE TABLE alembic_version (version_num TEXT)")
        other.execute("INSERT INTO alembic_version VALUES (?)", (version,))
    before = (home / FILE_NAME).read_bytes()
    for write in (True, False):
        with pytest.raises(StoreError, match="not a ledger"):
            Ledger.open(home, write=write)
    assert (home / FILE_NAME).read_bytes() == before


def test_reading_creates_nothing(home):
    with pytest.raises(StoreError, match="nothing is stored"):
        Ledger.open(home, write=False)
    assert as_json("surveys") == [] and not home.exists()


def test_what_is_put_away_is_out_of_every_figure_and_comes_back(home):
    ident = ledger_with(home, 5)
    with Ledger.open(home) as ledger:
        ledger.put_machine("Barley", "x", NOON)
    for what, name in (("survey", ident), ("machine", "barley")):
        tallgrain("put-away", what, name, check=0)
    assert as_json("surveys") == []
    assert {a["kind"] for a in as_json("put-away", "list")} == {"survey", "machine"}
    with Ledger.open(home) as ledger:
        assert ledger.newest("Barley") is None and ledger.machines() == []
        assert len(ledger.season("Barley").heads) == 0
    tallgrain("bring-back", "survey", ident, check=0)
    assert [s["survey"] for s in as_json("surveys")] == [ident]
    assert "no event '7'" in tallgrain("put-away", "event", "7", check=2).stderr


@pytest.mark.parametrize("way", ["deleted", "moved", "replaced"])
def test_a_ledger_that_is_gone_is_noticed_at_once(tmp_path, way):
    home, elsewhere = tmp_path / "home", tmp_path / "elsewhere"
    ledger_with(tmp_path / "other", 2)
    with Ledger.open(home) as ledger:
        late = NOON + timedelta(hours=5)
        ident = ledger.begin_survey(NewSurvey("Barley", "surface", late, 9, 1, None, Conditions()))
        ledger.add_touch(ident, 0, [0.1], 1.0, 2.0, 0.1)
        if way == "deleted":
            shutil.rmtree(home)
        else:
            home.rename(elsewhere)
        if way == "replaced":
            shutil.copytree(tmp_path / "other", home)
        for number in (1, 2):
            with pytest.raises(StoreError, match=r"moved or deleted.*kept at"):
                ledger.add_touch(ident, number, [0.1], 1.0, 2.0, 0.1)
    # The next start from there takes it in, once; what was told as stored is there.
    for again in (1, 0):
        with Ledger.open(home) as ledger:
            assert ledger.taken_in == again
            back = [h for h in ledger.heads() if h.taken_at == late]
            assert len(back) == 1 and back[0].points >= 1 and back[0].state == "broken_off"
    if way == "moved":
        with Ledger.open(elsewhere) as ledger:
            assert ledger.heads()[0].points >= 1


@pytest.mark.parametrize("name", ["ledger.sqlite", "ledger.lock"])
@pytest.mark.parametrize("make", [Path.mkdir, lambda path: os.mkfifo(path)])
def test_what_is_no_file_where_one_should_be_is_named_so(tmp_path, name, make):
    home = tmp_path / "odd"
    home.mkdir()
    make(home / name)
    with pytest.raises(StoreError, match=r"lies where a file of the ledger should be") as told:
        Ledger.open(home)
    assert "None" not in str(told.value) and "full" not in str(told.value)
