"""A printer that travels: nothing of it is lost, nothing doubled, and no pack can harm."""

import json
import zipfile
from datetime import UTC, datetime

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from standins import as_json, tallgrain
from tallgrain import demo
from tallgrain.core.values import StoredValue
from tallgrain.errors import InputError, TallGrainError
from tallgrain.formats.pack import read_pack
from tallgrain.formats.values_json import back_up
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import GapSolved, TiltLooked
from tallgrain.procedures.values import backup_folder, record_of
from tallgrain.store.entries import MachineEvent
from tallgrain.store.ledger import Ledger

NOON = datetime(2026, 3, 1, 12, 0, 0, 123000, tzinfo=UTC)


def workshop(home):
    """The demo's year of Rye with what else a ledger knows, and a dialect."""
    home.mkdir(parents=True, exist_ok=True)
    with Ledger.open(home) as ledger:
        demo.put_sheet(ledger, "Rye")
        first = ledger.add_survey(survey(3, 0.1))
        ledger.add_survey(survey(9, 0.2))
        journal = Journal(ledger, "Rye", lambda: NOON)
        journal.write(TiltLooked(spread=0.2, noise=0.01, survey=first), "loop", "correct")
        journal.write(GapSolved(t=2.35, u=0.01, feels=5), "trip_height", "solved")
        ledger.add_event(MachineEvent("Rye", NOON, "nozzle changed", "0.4 brass", ("Gap",)))
        value = StoredValue("drop", "trip_height", -2.35, -2.35, 2.35, 2.35)
        back_up(backup_folder(home / "backups", "Rye"), record_of("Rye", [value], "a test", NOON))
    (home / "dialects").mkdir(exist_ok=True)
    (home / "dialects" / "mine.toml").write_text(dialect())


def survey(count, height):
    from tallgrain.core.survey import Conditions, Point, Recheck, Survey

    points = tuple(
        Point(10.0 * i, 10.0 * j, height, (height + 0.01 * i, height - 0.01 * i), (9.0,) * (i == 1))
        for i in range(count)
        for j in range(count)
    )
    return Survey(
        "Rye", "surface", NOON.replace(day=count), points, Conditions(210.0, 60.0, 5.0, "smooth"),
        note=f"{count} × {count}", shape=(count, count), rechecks=(Recheck(4, (0.1, 0.11)),),
        drift_rate_mm=1e-4 * count,
    )  # fmt: skip


def dialect():
    from importlib import resources

    return resources.files("tallgrain").joinpath("assets/dialects/sorrel.toml").read_text()


def known(home):
    """All that a ledger knows of Rye, but what it calls a survey."""
    with Ledger.open(home) as ledger:
        surveys = [ledger.survey(h.ident) for h in ledger.heads("Rye")]
        names = {h.ident: i for i, h in enumerate(ledger.heads("Rye"))}
        entries = [
            (o.at, o.topic, o.item, o.outcome, o.note,
             {k: names[v] if k == "survey" else v for k, v in o.figures.items()})
            for o in ledger.observations("Rye")
        ]  # fmt: skip
        events = [(e.at, e.kind, e.note, e.stale) for e in ledger.events("Rye")]
        told = [
            (s.taken_at, s.kind, s.points, s.conditions, s.complete, s.note, s.shape, s.rechecks,
             pytest.approx(s.drift_rate_mm)) for s in surveys
        ]  # fmt: skip
        return ledger.machine_text("Rye"), told, entries, events


def test_a_printer_travels_whole_and_joins_without_doubling(tmp_path):
    old, new, file = tmp_path / "old", tmp_path / "new", tmp_path / "rye.zip"
    workshop(old)
    packed = as_json("pack", file, "--machine", "Rye", env={"TALLGRAIN_HOME": str(old)})
    assert packed["printers"] == [{"name": "Rye", "surveys": 2}]
    with zipfile.ZipFile(file) as inside:  # open, with what is in it in plain sight
        assert {"pack.json", "printers/1/machine.toml", "dialects/mine.toml"} <= set(
            inside.namelist()
        )
        assert json.loads(inside.read("printers/1/surveys/1.json"))["format"] == "tallgrain-survey"
    new.mkdir()
    with Ledger.open(new) as ledger:  # its own surveys come first: names differ
        demo.put_sheet(ledger, "Barley")
        ledger.add_survey(survey(4, 0.0))
        ledger.put_away("survey", "1", NOON)
    for turn in range(2):
        came = as_json("unpack", file, env={"TALLGRAIN_HOME": str(new)})["printers"][0]
        figures = [came[k] for k in ("surveys", "events", "entries", "values")]
        assert figures == ([2, 1, 2, 1] if turn == 0 else [0, 0, 0, 0]), came
        assert known(new) == known(old)
    assert (new / "dialects" / "mine.toml").read_text() == dialect()
    assert len(list(backup_folder(new / "backups", "Rye").iterdir())) == 1
    # What is otherwise here stays, and that is told.
    (new / "dialects" / "mine.toml").write_text(dialect() + "# mine\n")
    with Ledger.open(new) as ledger:
        ledger.put_machine("Rye", ledger.machine_text("Rye") + "# here\n", NOON)
    said = tallgrain("unpack", file, env={"TALLGRAIN_HOME": str(new)}, check=0).stdout
    assert "described otherwise here" in said and "another one: it stays" in said
    everything = tmp_path / "all.zip"
    tallgrain("pack", everything, env={"TALLGRAIN_HOME": str(new)}, check=0)
    assert [p.name for p in read_pack(everything).printers] == ["Barley", "Rye"]
    refused = tallgrain("pack", everything, env={"TALLGRAIN_HOME": str(new)}, check=2)
    assert "there already" in refused.stderr


@pytest.fixture(scope="module")
def whole(tmp_path_factory):
    folder = tmp_path_factory.mktemp("packs")
    workshop(folder / "old")
    tallgrain("pack", folder / "rye.zip", env={"TALLGRAIN_HOME": str(folder / "old")}, check=0)
    return folder


@settings(max_examples=60)
@given(
    at=st.floats(0, 1), byte=st.integers(0, 255),
    how=st.sampled_from(["byte", "cut", "name", "json", "missing"]),
)  # fmt: skip
def test_a_damaged_or_hostile_pack_changes_nothing(whole, at, byte, how):
    data = bytearray((whole / "rye.zip").read_bytes())
    made = whole / "bent.zip"
    if how == "byte":
        data[int(at * (len(data) - 1))] = byte
        made.write_bytes(data)
    elif how == "cut":
        made.write_bytes(data[: int(at * len(data))])
    else:
        with zipfile.ZipFile(whole / "rye.zip") as old, zipfile.ZipFile(made, "w") as new:
            names = old.namelist()
            chosen = names[int(at * (len(names) - 1))]
            for name in names:
                text = old.read(name)
                if name == chosen and how == "json":
                    text = text.replace(b'"', b"\x00", 1 + byte % 3)
                if name == "pack.json" and how == "name":
                    text = text.replace(b'"mine"', b'"../../../mine"').replace(b"Rye", b"../Rye")
                if not (name == chosen and how == "missing"):
                    new.writestr(name, text)
    home = whole / "home"
    home.mkdir(exist_ok=True)
    before = sorted(p.name for p in whole.iterdir())
    try:
        pack = read_pack(made)
    except InputError:
        return
    from tallgrain.procedures.travel import join

    with Ledger.open(home) as ledger:
        counted = len(ledger.heads()), len(ledger.machines())
        try:
            join(ledger, pack, home / "backups", home / "dialects", NOON)
        except TallGrainError:
            assert (len(ledger.heads()), len(ledger.machines())) == counted
    assert sorted(p.name for p in whole.iterdir()) == before
