"""A third console language, awkward on purpose: each of its traits, taught and not taught."""

from contextlib import closing

import numpy as np
import pytest

from sittings import PROVING
from standins import guard_on, looked_down, see, shipped_sheet, tallgrain
from tallgrain.clock import now
from tallgrain.errors import GuardRefused, TallGrainError
from tallgrain.formats.machine_toml import shipped_sheet_text
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import ConsoleProven
from tallgrain.link.console.printer import ConsolePrinter
from tallgrain.link.console.transport import parse_console_url
from tallgrain.procedures.by_itself import NOTE
from tallgrain.procedures.guarding import guarded
from tallgrain.procedures.proving import STEPS, StepBegins, StepDone, prove
from tallgrain.standin.languages.sorrel import TRAITS
from tallgrain.store.ledger import Ledger
from taught import TAUGHT, WORKS, Builder, as_toml, at_work, taught

TOUCHING = [t for t in TAUGHT if t != "no-feel"]
CELLS = [(t, w) for t in TOUCHING for w in WORKS]
# Each trait at the work that it makes hard, and one more; the whole matrix in `./run prove`.
SHORT = [(t, "survey") for t in TOUCHING] + [
    ("queued", "halt"), ("plain-halt", "halt"), ("closing", "halt"), ("decimal", "halt"),
    ("late", "values"), ("together", "values"), ("comma", "values"), ("when-kept", "keep"),
    ("keep-restarts", "keep"), ("untold", "keep"), ("case", "tilt"), ("parts", "tilt"),
    *((t, "surface") for t in ("cells", "comma", "queued", "decimal", "exponent", "case", "late")),
]  # fmt: skip


def spoken(standin, traits, *options):
    habits = [word for trait in traits for word in ("--trait", trait)]
    return standin(
        "--machine", "Rye", "--seed", "3", "--console", "sorrel", *habits, *options, link="json"
    )


def test_every_trait_is_taught_here():
    assert set(TRAITS) == set(TAUGHT)


@pytest.mark.parametrize(("trait", "work"), CELLS if PROVING else SHORT)
def test_what_a_console_can_do_is_done_whatever_its_habits(standin, home, trait, work):
    pace = ("--pace", "real", "--speed", "2") if work == "halt" else ()
    at_work(spoken(standin, [trait], *pace), work, home, trait)


# Where a trait that was not taught is found; None: it does no harm, and is proven.
FOUND = {
    "closing": "up", "late": "halt", "unasked": None, "queued": "up", "spread": "link",
    "taken-off": "finger", "parts": "link", "together": None, "when-kept": None,
    "keep-restarts": None, "untold": "reference", "boots": "link", "drops": None, "wake": "link",
    "decimal": "link", "comma": "link", "exponent": None, "case": "link", "plain-halt": "halt",
}  # fmt: skip


@pytest.mark.parametrize("trait", FOUND)
@pytest.mark.parametrize("right", [True, False])
def test_a_habit_that_was_not_taught_is_found_or_harmless(standin, home, trait, right):
    if not right and trait not in ("queued", "late", "taken-off", "plain-halt", "comma"):
        pytest.skip("one of each kind") if not PROVING else None
    made = spoken(standin, [trait], *(() if right else ("--pace", "real", "--speed", "3")))
    lesson, builder, at = taught(trait) if right else taught(), Builder(made), "link"
    with Ledger.open(home) as ledger:
        ledger.put_machine("Rye", shipped_sheet_text("Rye"), now())
        journal, done = Journal(ledger, "Rye"), []
        try:
            url = parse_console_url(made.url, False)
            with closing(ConsolePrinter(url, lesson, "A test")) as printer:
                guard = guarded(printer, shipped_sheet("Rye"), ledger, now)
                for event in prove(guard, printer, journal, builder):
                    at = event.step if isinstance(event, StepBegins) else at
                    done += [event.step] if isinstance(event, StepDone) else []
                    assert at == "reference" or made.truth()["gap_mm"] > 15
        except TallGrainError as error:
            assert not right, error
            assert FOUND[trait] == at and (at == "reference" or made.truth()["gap_mm"] > 15)
        else:
            assert right or FOUND[trait] is None
            assert done == list(STEPS) and journal.newest(ConsoleProven).outcome == "proven"
    assert made.truth()["strikes"] == []


@pytest.mark.parametrize("traits", [(), ("closing",), ("spread",), ("queued",)])
def test_a_touch_takes_no_more_than_three_lines(standin, traits):
    """go, feel and up; where it stands is asked where nothing else tells it."""
    made = spoken(standin, traits)
    url = parse_console_url(made.url, False)
    with closing(ConsolePrinter(url, taught(*traits), "A test")) as printer:
        guard = guard_on(printer, shipped_sheet("Rye"))
        looked_down(made, guard)
        guard.extend()
        sent = []
        printer._channel.on_line = lambda ours, line: sent.append(line) if ours else None
        touches = 0
        for i in range(8):
            guard.touch_at(100.0 + 10 * i, 120.0, more=True)
            guard.touch_again()
            touches += 2
        waits = sum(line == "wait" for line in sent)
        assert len(sent) - waits <= 3 * touches + 2, sent
    assert made.truth()["strikes"] == []


def test_a_printer_that_only_surveys_by_itself(standin, home, tmp_path):
    """Nothing goes down from here; what it finds by itself, on a look and on purpose, is stored."""
    made = spoken(standin, ["no-feel"])
    (tmp_path / "mine.toml").write_text(as_toml(taught("no-feel")))
    link = ("--link", made.url.replace("dialect=sorrel", f"dialect={tmp_path}/mine.toml"))
    rye = ("--machine", "Rye")
    url = parse_console_url(made.url, False)
    with Ledger.open(home) as ledger:
        ledger.put_machine("Rye", shipped_sheet_text("Rye"), now())
        with closing(ConsolePrinter(url, taught("no-feel"), "A test")) as printer:
            guard = guarded(printer, shipped_sheet("Rye"), ledger, now)
            shown = list(prove(guard, printer, Journal(ledger, "Rye"), Builder(made)))
            left = [e.step for e in shown if isinstance(e, StepDone) and e.left_out]
            assert left == ["halt", "finger", "air", "motors", "reference"]
            see(made, guard)
            with pytest.raises(GuardRefused, match="no single bounded touch"):
                guard.reference()
    alone = ("survey", *link, *rye, "--count", "4x3", "--by-itself")
    refused = tallgrain(*alone, check=1).stderr
    assert "--clearance-mm" in refused and made.truth()["strikes"] == []
    clearance = made.hands("hands.ruler")["clearance_mm"]
    said = tallgrain(*alone, "--clearance-mm", clearance, check=0).stdout
    assert "power switch" in said and "12 points" in said
    with Ledger.open(home) as ledger:
        found = ledger.survey(ledger.heads("Rye")[-1].ident)
    true = np.array(made.heights(found.xy)["heights"])
    off = found.heights - true
    assert np.abs(off - off.mean()).max() < 0.03 and found.note == NOTE
    assert np.abs(np.corrcoef(found.heights, true)[0, 1]) > 0.9
    assert made.truth()["strikes"] == []
