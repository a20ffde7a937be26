"""How a print begins: policies written in a dialect, run on the stand-in; others' texts checked."""

import socket
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from standins import shipped_sheet
from tallgrain.core.handover.check import Line, findings
from tallgrain.core.handover.policy import STEPS, Policy, costs, steps_of
from tallgrain.errors import InputError
from tallgrain.link.connect import dialect_named
from tallgrain.link.console.starts import read_start, write_start
from tallgrain.link.console.transport import parse_console_url

SHEETS = {name: shipped_sheet(name) for name in ("Barley", "Rye", "Millet")}
DIALECTS = {name: dialect_named(name) for name in ("hazel", "medlar")}


@st.composite
def policies(draw, sheet):
    probe_is_nozzle = sheet.probe.kind == "nozzle"
    box = sheet.plate.outline.box
    x, y = box.middle
    half = draw(st.floats(15, 50))
    return Policy(
        compensation=draw(st.sampled_from(("recall", "area", "whole", "nothing"))),
        nozzle_c=draw(st.sampled_from((200.0, 240.0))), plate_c=draw(st.sampled_from((0.0, 60.0))),
        soak_min=draw(st.sampled_from((0.0, 5.0))), clean=draw(st.booleans()) or probe_is_nozzle,
        level=bool(sheet.supports) and draw(st.booleans()),
        box=draw(st.sampled_from((None, (x - half, y - half, x + half, y + half)))),
        purge=(x - 30, y - 60, 60.0) if draw(st.booleans()) else None,
    )  # fmt: skip


@settings(max_examples=60, deadline=None)
@given(data=st.data(), name=st.sampled_from(sorted(SHEETS)), said=st.sampled_from(sorted(DIALECTS)))
def test_a_policy_is_read_back_as_it_was_meant_and_nothing_is_wrong_in_it(data, name, said):
    sheet, dialect = SHEETS[name], DIALECTS[said]
    policy = replace(data.draw(policies(sheet)), values={"trip_height": 1.8625})
    steps = steps_of(policy, sheet)
    text = write_start(dialect, steps, "begins, by Tall Grain")
    read = read_start(dialect, text)
    assert read.unknown == 0 and read.damage == ""
    alike = {"soak": "rest"}  # a soak is said as a rest where a dialect has one word for both
    assert [line.operation for line in read.lines] == [
        alike.get(s.operation, s.operation) for s in steps
    ]
    for line, step in zip(read.lines, steps, strict=True):
        for key, value in step.values.items():
            told = line.values[key]
            assert told == (pytest.approx(value, abs=0.06) if isinstance(value, float) else value)
    found = findings(read.lines, sheet, {"trip_height": 1.8625}, ["bed"])
    # A plate that is meant to stay cold is surveyed cold, and that is said.
    assert {f.kind for f in found} <= ({"probed cold"} if policy.plate_c == 0 else set())
    # A half-copied text is recognised, wherever it was cut or changed.
    lines = text.splitlines()
    cut = data.draw(st.integers(1, len(lines) - 1))
    assert read_start(dialect, "\n".join(lines[:cut])).damage
    del lines[data.draw(st.integers(0, len(lines) - 2))]
    assert "not whole" in read_start(dialect, "\n".join(lines)).damage


class Typist:
    """Types a text at a console, a line after the answer to the one before."""

    def __init__(self, made, said):
        url = parse_console_url(made.url)
        host, port = url.where.rsplit(":", 1)
        self._wire = socket.create_connection((host, int(port)), timeout=60)
        self._file = self._wire.makefile("r")
        self._dialect = DIALECTS[said]
        self._end = self._dialect.framing.done

    def type(self, text):
        noes = []
        mark = self._dialect.comment.split("{")[0].strip()
        for line in text.splitlines():
            if not line.strip() or line.startswith(mark):
                continue
            self._wire.sendall(line.encode() + b"\n")
            while (answer := self._file.readline().strip()) != self._end:
                assert answer, "the console fell silent"
                if answer.startswith("no "):
                    noes.append(f"{line}: {answer}")
                    break
        return noes

    def close(self):
        self._file.close()
        self._wire.close()


@pytest.mark.parametrize("name", sorted(SHEETS))
@pytest.mark.parametrize("seed", range(6))
def test_whatever_is_chosen_gives_the_compensation_that_was_meant(standin, name, seed):
    """From any sane state: cold or warm, referenced or not, something recalled before or not."""
    chance = np.random.default_rng([seed, sorted(SHEETS).index(name)])
    sheet = SHEETS[name]
    cold = ("--cold",) if chance.random() < 0.5 else ()
    made = standin(
        "--machine", name, "--console", "hazel", "--seed", str(seed), *cold, link="plain"
    )
    typist = Typist(made, "hazel")
    box = sheet.plate.outline.box
    x, y = box.middle
    before = Policy(
        "whole", plate_c=float(chance.choice([0, 60])), soak_min=0, nozzle_c=200, clean=True
    )
    stored = chance.random() < 0.7
    if stored:
        assert typist.type(write_start(DIALECTS["hazel"], steps_of(before, sheet), "x")) == []
    if chance.random() < 0.5:
        made.hands("hands.power")
    kinds = ("recall", "area", "whole", "nothing")
    for kind in chance.permutation(kinds):
        if kind == "recall" and not stored:
            continue
        stored = stored or kind == "whole"
        policy = Policy(
            str(kind), plate_c=60.0, soak_min=3.0, nozzle_c=210.0,
            level=bool(sheet.supports) and chance.random() < 0.5,
            box=(x - 40, y - 40, x + 40, y + 40), purge=(x - 30, y - 60, 60.0),
        )  # fmt: skip
        text = write_start(DIALECTS["hazel"], steps_of(policy, sheet), "begins")
        assert typist.type(text) == []
        truth = made.truth()
        told = truth["compensation"]
        wanted = {"recall": "recalled bed", "nothing": "none"}.get(kind, "surveyed")
        assert told["source"] == wanted and truth["strikes"] == []
        if kind in ("area", "whole"):
            places = [(a, b) for b in told["ys"] for a in told["xs"]]
            off = np.subtract([truth["probe"]["dx"], truth["probe"]["dy"]], sheet.probe.offset)
            true = np.array(made.heights(np.add(places, off))["heights"])
            seen = np.array(told["heights"]).ravel()
            apart = (seen - seen.mean()) - (true - true.mean())
            assert np.sqrt((apart**2).mean()) < 0.02
    typist.close()


def line(number, operation, **values):
    return Line(number, operation, values)


GOOD = (
    line(1, "heat_plate", c=60.0), line(2, "wait_for_heat"), line(3, "reference"),
    line(4, "recall", name="bed"), line(5, "heat_nozzle", c=215.0), line(6, "wait_for_heat"),
    line(7, "go", x=0.0, y=0.0, z=20.0), line(8, "go", x=0.0, y=0.0, z=0.3),
)  # fmt: skip


@pytest.mark.parametrize(
    ("lines", "kinds"),
    [
        (GOOD, []),
        ([n for n in GOOD if n.operation != "reference"],
         ["no reference", "down before a reference"]),
        ((GOOD[6], GOOD[7], *GOOD[:6]), ["down before a reference"]),
        ((*GOOD[:2], GOOD[3], GOOD[2]), ["lost again"]),
        ((*GOOD[:3], line(4, "level")), ["levelled last"]),
        ((*GOOD[:4], line(5, "level"), line(6, "reference")), ["lost again"]),
        ((GOOD[2], line(4, "survey", x0=0.0, y0=0.0, x1=9.0, y1=9.0), *GOOD[4:6]),
         ["probed cold"]),
        ((*GOOD[:4], line(5, "survey", x0=0.0, y0=0.0, x1=9.0, y1=9.0)), ["twice"]),
        ((*GOOD[:3], line(4, "set_value", name="trip_height", value=1.7)),
         ["contradicts the ledger"]),
        ((*GOOD[:3], line(4, "set_value", name="trip_height", value=1.8005)), []),
        ((line(1, "lower", mm=3.0), *GOOD), ["down before a reference"]),
        ((), ["no reference"]),
    ],
)  # fmt: skip
def test_what_is_wrong_in_a_start_text(lines, kinds):
    lines = [replace(one, number=i) for i, one in enumerate(lines, start=1)]
    found = findings(lines, SHEETS["Barley"], {"trip_height": 1.8}, ["bed"])
    assert [f.kind for f in found] == kinds
    assert all(f.what.endswith(".") and f.remedy for f in found)


def test_a_surface_is_recalled_once_it_is_there_and_at_the_heat_that_was_waited_for():
    warm = (line(1, "heat_plate", c=60.0), line(2, "wait_for_heat"), line(3, "reference"))
    survey = line(5, "survey", x0=10.0, y0=10.0, x1=200.0, y1=200.0, columns=4.0, rows=4.0)
    early = (*warm, line(4, "recall", name="new"), survey, line(6, "store", name="new"))
    kinds = [f.kind for f in findings(early, SHEETS["Barley"], {}, [])]
    assert "recalled too early" in kinds and "not held" not in kinds
    late = (*warm, survey, line(6, "store", name="new"), line(7, "recall", name="new"))
    assert "recalled too early" not in [f.kind for f in findings(late, SHEETS["Barley"], {}, [])]
    nothing = (*warm, line(4, "store", name="new"))
    assert [f.kind for f in findings(nothing, SHEETS["Barley"], {}, [])] == ["stores nothing"]
    again = (*warm, line(4, "heat_plate", c=90.0), survey)
    assert [f.kind for f in findings(again, SHEETS["Barley"], {}, [])] == ["probed cold"]


def test_what_only_some_printers_mind():
    hot = (line(1, "heat_nozzle", c=215.0), *GOOD[:4])
    assert [f.kind for f in findings(hot, SHEETS["Millet"], {}, ["bed"])] == ["probed hot"]
    assert findings(hot, SHEETS["Barley"], {}, ["bed"]) == ()
    (none,) = findings(GOOD, SHEETS["Barley"], {}, ["rye-sheet"])
    assert none.kind == "not held" and none.line == 4 and "rye-sheet" in none.what
    (none,) = findings(GOOD, SHEETS["Barley"], {}, [])
    assert "It holds none." in none.what
    assert findings(GOOD, SHEETS["Barley"], {}, None) == ()


@pytest.mark.parametrize(
    ("changes", "name", "said"),
    [
        ({"level": True}, "Millet", "no Z motors"), ({"nozzle_c": 900.0}, "Barley", "no nozzle"),
        ({"soak_min": -1.0}, "Barley", "no soak"),
        ({"compensation": "area", "box": (900.0, 900.0, 950.0, 950.0)}, "Barley", "can't touch"),
    ],
)  # fmt: skip
def test_policies_that_can_not_be(changes, name, said):
    with pytest.raises(InputError, match=said):
        steps_of(replace(Policy(), **changes), SHEETS[name])


def test_a_dialect_without_words_for_a_step_is_named():
    few = DIALECTS["hazel"].model_copy(update={"starts": {}})
    with pytest.raises(InputError, match="no words for ‘heat plate’"):
        write_start(few, steps_of(Policy(), SHEETS["Barley"]), "x")
    with pytest.raises(InputError, match="how sheet_shift is stored"):
        write_start(DIALECTS["hazel"], steps_of(Policy(values={"sheet_shift": 1.0}),
                                                SHEETS["Barley"]), "x")  # fmt: skip
    assert set(DIALECTS["medlar"].starts) == set(STEPS)


def test_what_each_policy_costs_and_leaves():
    made = {c.compensation: c for c in costs(
        SHEETS["Barley"], 10, None, 0.1, 0.001, 20.0, 0.01, 2.0
    )}  # fmt: skip
    assert made["recall"].minutes == 0 and made["recall"].error_mm == pytest.approx(0.03)
    assert made["whole"].minutes == pytest.approx(made["area"].minutes / 10)
    assert made["whole"].error_mm == pytest.approx(0.01 + 0.001 * 5)
    assert made["nothing"].error_mm == 0.1
    unknown = costs(SHEETS["Barley"], 10, None, None, None, 20.0, 0.01, 2.0)
    assert [c.error_mm for c in unknown] == [None, 0.01, None, None]
