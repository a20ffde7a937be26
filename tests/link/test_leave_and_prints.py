"""Leave to go below zero, and prints that run beside the guard: bounded, and always given back."""

import pytest

from standins import looked_down
from tallgrain.core.plan.patch import Patch, patch_places
from tallgrain.errors import GuardRefused, JobError, LinkError, PrinterRefused, TallGrainError
from tallgrain.formats.program import patch_program
from tallgrain.link.guard.guard import Guard


def look_and_reference(made, guard):
    looked_down(made, guard)


def over_the_gauge(made, guard):
    """The nozzle 0.1 mm above the plate by feel, whatever the printer's z says there."""
    x, y = guard.sheet.plate.datum_point
    guard.extend()
    guard.touch_at(x, y)
    guard.by_hand.go_above(x, y)
    guard.hands_in = True
    while (gap := made.truth()["gap_mm"]) > 0.11:
        guard.by_hand.see_room(gap, True)
        guard.by_hand.step(-min(gap - 0.1, 2.0, guard.by_hand.room_mm))
        if guard.by_hand.room_mm < 0.01:
            return


def test_leave_is_taken_for_a_step_and_given_back(linked):
    made, printer, guard = linked("--seed", "3")
    printer.set_value("trip_height", 1.60)  # then z = 0 lies well above the plate
    look_and_reference(made, guard)
    over_the_gauge(made, guard)
    state = printer.state()
    assert state.position.z < -0.05
    assert state.leave_mm == 0.0
    with pytest.raises(PrinterRefused, match="below zero"):
        printer.go(state.position.x, state.position.y, state.position.z - 0.001)
    guard.by_hand.step(0.02)  # up needs no leave
    assert made.truth()["strikes"] == []


def test_leave_that_a_crash_left_behind_is_given_back_on_the_next_link(linked):
    made, printer, guard = linked()
    printer.leave_below(1.5)
    printer.close()
    made.hands("hands.fault", fault="closed:1")
    from tallgrain.link.connect import connected

    other = connected(made.url, "Another test")
    assert other.state().leave_mm == 1.5
    Guard(other, guard.sheet)
    assert other.state().leave_mm == 0.0
    other.close()


class Breaking:
    """A printer whose way down fails, as a lost link or a halt does."""

    def __init__(self, printer, error):
        self._printer, self._error = printer, error

    def __getattr__(self, name):
        return getattr(self._printer, name)

    def go(self, x, y, z, told=True):
        raise self._error


@pytest.mark.parametrize("error", [
    PrinterRefused("a halt stopped this motion", reason="halted"), LinkError("gone", "link"),
])  # fmt: skip
def test_a_step_that_fails_gives_its_leave_back(linked, error):
    made, printer, guard = linked("--seed", "3")
    printer.set_value("trip_height", 1.60)
    look_and_reference(made, guard)
    over_the_gauge(made, guard)
    guard.by_hand.see_room(0.2, True)
    guard.printer = guard.trust.motions.printer = Breaking(printer, error)
    with pytest.raises(TallGrainError):
        guard.by_hand.step(-0.01)
    assert printer.state().leave_mm == 0.0


def printing(made, guard, layer=0.2):
    patch = Patch(patch_places(guard.sheet, 1), layer)
    program = patch_program(patch, "Barley", guard.printer.trip_height())
    return made.hands("hands.print", program=program, nozzle_c=0.0, plate_c=0.0)


def test_a_print_shows_how_far_off_the_nozzle_is(linked):
    """Each verdict where its definition wants it; the pictures' lines are wider the nearer."""
    made, printer, guard = linked("--seed", "5")
    look_and_reference(made, guard)
    guard.park()
    true = made.truth()["probe"]["trip_height_mm"]
    widths = []
    for e, word in (
        (0.16, "not_sticking"), (0.065, "sits_on_top"), (0.0, "good"), (-0.065, "squashed"),
    ):  # fmt: skip
        guard.lift(20.0)
        printer.set_value("trip_height", true - e)
        guard.attach()
        look_and_reference(made, guard)
        guard.park()
        assert "moves" in printing(made, guard)
        assert printing(made, guard)["message"]  # one at a time, and the old one comes off first
        while (seen := made.hands("hands.patch"))["printing"]:
            pass
        (place,) = seen["places"]
        assert place["verdict"] == word, e
        widths.append(sum(line[4] for line in place["lines"]) / len(place["lines"]))
        made.hands("hands.clean")
        guard.attach()
    assert widths == sorted(widths)
    assert made.truth()["strikes"] == []


def test_nudges_are_small_and_bounded_and_only_while_it_prints(linked):
    made, printer, guard = linked("--pace", "real", "--speed", "30")
    look_and_reference(made, guard)
    guard.park()
    with pytest.raises(GuardRefused, match="nothing is being printed"):
        guard.by_hand.nudge(0.02)
    assert "moves" in printing(made, guard)
    with pytest.raises(JobError, match="prints"):
        Guard(printer, guard.sheet)  # a second look waits for the print, and says so
    with pytest.raises(JobError, match="moving"):
        guard.lift(1.0)
    for _ in range(2):
        guard.by_hand.nudge(-0.05)
    with pytest.raises(GuardRefused, match="nearer"):
        guard.by_hand.nudge(-0.02)
    with pytest.raises(GuardRefused, match="at most"):
        guard.by_hand.nudge(0.2)
    guard.by_hand.nudge(0.03)
    made.hands("hands.nudge", mm=0.01)
    shift = {v.meaning: v.ours for v in printer.values()}["job_shift"]
    assert shift == pytest.approx(-0.06)
    printer.halt()
    while (seen := made.hands("hands.patch"))["printing"]:
        pass
    assert "halt" in seen["ended_why"]
