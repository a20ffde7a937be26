"""Looks of every kind of builder at every height: whatever is misread, nothing is struck."""

import contextlib

import numpy as np
import pytest

from standins import Standin, guard_on, shipped_sheet, tallgrain
from tallgrain.errors import LookAgain, TallGrainError
from tallgrain.link.connect import connected
from tallgrain.link.guard.looks import READING_MM

KINDS = ("Barley", "Rye", "Millet")
WAYS = ("honest", "single", "constant", "stuck", "swapped")
MOST_TRIES = 16


class Builder:
    """Looks at a nozzle and says what it sees; `way` is how it errs.

    A ruler is read to within half a millimetre, a thing that fits is stated to the tenth below. One
    saying may be anything at all; all readings may be off by one constant; or one figure is said
    again and again. What fits is tried, not read: only a single saying of it can be wrong.
    """

    def __init__(self, way, rng):
        self.way, self.rng = way, rng
        self.wrong_at = int(rng.integers(0, 6)) if way == "single" else -1
        self.constant = float(rng.uniform(-20, 20)) if way == "constant" else 0.0
        self.said, self.first = 0, None

    def say(self, guard, gap):
        """One saying to the guard; its refusal is what it raises."""
        wrong = self.said == self.wrong_at
        self.said += 1
        if self.way == "stuck" and self.first is not None:
            return self.first(guard)
        fit = max(np.floor(gap * 10 - 0.2) / 10, 0.0)
        if gap + self.constant < READING_MM + 1 or guard.wants_fit:
            seen = float(self.rng.uniform(0.1, 300)) if wrong else fit
            act = lambda guard: guard.see_fit(seen)  # noqa: E731
        else:
            reading = gap + self.constant + self.rng.uniform(-0.5, 0.5)
            seen = float(self.rng.uniform(READING_MM, 320)) if wrong else reading
            act = lambda guard: guard.see_clearance(seen)  # noqa: E731
        if self.way == "swapped" and self.said == 2:
            act = self.first  # typed once more without a look
        self.first = self.first or act
        return act(guard)


def brought_down(made, printer, guard, builder):
    """What an evening of looks comes to: how many until it is down, 0 where it never is."""
    for look in range(1, MOST_TRIES + 1):
        gap = made.truth()["gap_mm"]
        try:
            builder.say(guard, gap)
            guard.reference()
        except LookAgain:
            continue
        except TallGrainError:
            with contextlib.suppress(TallGrainError):
                guard.by_hand.raise_on_request(float(builder.rng.choice([0.0, 10.0, 30.0])))
            continue
        with contextlib.suppress(TallGrainError):
            guard.park()
        return look
    return 0


def set_gap(made, printer, guard, gap):
    """Power off and on, and the nozzle at that height."""
    made.hands("hands.mend")
    made.hands("hands.power")
    with contextlib.suppress(TallGrainError):
        printer.reconnect()
    off = gap - made.truth()["gap_mm"]
    printer.lift(off) if off > 0 else printer.lower(-off)
    guard.attach()
    guard.trust.probe_was_felt()  # whatever an earlier case left; then as after any power-off
    guard.trust.felt = False


def evenings(name, seeds, link=None):
    """(seed, way, dead, looks, strikes) of each; one stand-in serves all of them."""
    made = Standin("--machine", name, "--cold", "--seed", "3", link=link)
    printer = connected(made.url, "A test")
    try:
        guard = guard_on(printer, shipped_sheet(name))
        for seed in seeds:
            rng = np.random.default_rng(seed)
            way, dead = WAYS[seed % len(WAYS)], bool(seed // len(WAYS) % 2)
            gap = float(np.exp(rng.uniform(np.log(1.0), np.log(300.0))))
            set_gap(made, printer, guard, gap)
            if dead:
                made.hands("hands.fault", fault="dead")
            if felt := bool(rng.random() < 0.3) and not dead:
                guard.trust.probe_was_felt()
            before = len(made.truth()["strikes"])
            looks = brought_down(made, printer, guard, Builder(way, rng))
            yield seed, way, dead, felt, gap, looks, made.truth()["strikes"][before:]
    finally:
        printer.close()
        made.stop()


@pytest.mark.parametrize("name", KINDS)
def test_no_misreading_strikes(name):
    for seed, way, dead, felt, gap, looks, strikes in evenings(name, range(30)):
        assert strikes == [], (seed, way, dead, felt, gap)
        if way == "honest" and not dead:
            assert 0 < looks <= 8, (seed, gap)


def test_at_the_command_line_looks_go_on_from_one_run_to_the_next(standin):
    """A ruler misread by 20 mm each time, and a dead probe: sentences, run by run."""
    made = standin("--machine", "Millet", "--cold", "--fault", "dead")
    survey = ("survey", "--link", made.url, "--machine", "Millet", "--count", "3x3")
    said = []
    for _ in range(12):
        gap = made.truth()["gap_mm"]
        far = gap + 20.0 >= READING_MM
        look = ("--clearance-mm", gap + 20.0) if far else ("--fits-mm", max(gap - 0.1, 0.1))
        done = tallgrain(*survey, *look)
        assert done.returncode in (1, 2)
        said.append(done.stderr)
        if "rulers are misread" in done.stderr or "--fits-mm" in done.stderr:
            fit = max(made.truth()["gap_mm"] - 0.1, 0.1)
            said.append(tallgrain(*survey, "--fits-mm", fit).stderr)
    assert any("raised by 10" in s for s in said) and any("lowered by" in s for s in said)
    assert any("thrown away" in s for s in said) or any("met nothing" in s for s in said)
    assert (
        "one look at a time"
        in tallgrain(*survey, "--fits-mm", 3, "--clearance-mm", 30, check=2).stderr
    )
    assert made.truth()["strikes"] == []


@pytest.mark.parametrize("way", ["honest", "constant"])
def test_after_a_way_that_met_nothing_a_finger_is_asked_for(standin, way):
    made = standin("--machine", "Rye", "--cold", "--fault", "dead")
    printer = connected(made.url, "A test")
    guard = guard_on(printer, shipped_sheet("Rye"))
    builder = Builder(way, np.random.default_rng(7))
    assert brought_down(made, printer, guard, builder) == 0
    stands = made.truth()["gap_mm"]
    with pytest.raises(TallGrainError):
        guard.reference()
    if guard.trust.blind:
        again = guard_on(printer, shipped_sheet("Rye"))
        again.trust.recall(guard.trust.doubt())  # the next window or command knows it
        for act in (again.reference, lambda: again.touch_at(100.0, 100.0)):
            with pytest.raises(TallGrainError, match=r"nothing goes down|not known"):
                act()
    assert made.truth()["gap_mm"] == pytest.approx(stands, abs=0.01)
    printer.close()
