import threading
import time

import pytest

from standins import finger, looked_down, see
from tallgrain.core.machine.reach import Reach
from tallgrain.errors import (
    GuardRefused,
    Halted,
    JobError,
    LookAgain,
    NoTrip,
    PrinterRefused,
    ProbeDoubted,
    TrustLost,
)
from tallgrain.link.guard.guard import AIR_MM


def test_a_cold_printer_moves_only_after_a_look(linked):
    made, _, guard = linked("--cold")
    assert not guard.trusted
    before = made.truth()["gap_mm"]
    for act in (guard.reference, guard.extend, lambda: guard.touch_at(100.0, 100.0)):
        with pytest.raises(TrustLost, match="how high the nozzle stands"):
            act()
    assert made.truth()["gap_mm"] == pytest.approx(before, abs=0.01)
    see(made, guard)
    with pytest.raises(ProbeDoubted, match="nothing tripped the probe"):
        guard.reference()
    assert made.truth()["gap_mm"] == pytest.approx(before, abs=0.01)
    finger(made, guard)
    with pytest.raises(LookAgain, match="raised by 10"):
        guard.reference()
    assert guard.clearance_mm is None  # one look is good for one way
    assert looked_down(made, guard) <= 2
    assert guard.trusted


@pytest.mark.parametrize("mm", [0, 2.9, 24.9, -5, 501, float("nan")])
def test_clearances_that_cannot_be_meant(linked, mm):
    _, _, guard = linked("--cold")
    with pytest.raises(GuardRefused, match="clearance"):
        guard.see_clearance(mm)
    if not 2 < mm <= 25:
        with pytest.raises(GuardRefused, match="clearance"):
            guard.see_fit(mm)


@pytest.mark.parametrize("seed", range(2))
@pytest.mark.parametrize("hand", ["dies", "held", "free"])
def test_a_dead_probe_on_the_first_way_down_strikes_nothing(linked, seed, hand):
    made, _, guard = linked("--cold", "--seed", str(seed))
    if hand == "free":
        looked_down(made, guard)
        guard.park()
        return
    if hand == "dies":
        finger(made, guard)
        made.hands("hands.fault", fault="dead")  # on its way
        with pytest.raises(NoTrip, match="did not trip within"):
            for _ in range(3):
                looked_down(made, guard)
        assert not guard.trusted and guard.trust.blind
        with pytest.raises(ProbeDoubted, match="nothing goes down"):
            guard.reference()
        with pytest.raises(JobError, match="was not read tripped in time"):
            looked_down(made, guard)
        stands = made.truth()["gap_mm"]
        made.hands("hands.mend")
        guard.trust.probe_was_felt()
        looked_down(made, guard)
        assert made.truth()["gap_mm"] < stands
    else:
        made.hands("hands.probe", state=hand)
        with pytest.raises(JobError, match="reads tripped while it hangs free"):
            looked_down(made, guard)
        guard.trust.probe_was_felt()
        with pytest.raises(JobError, match="above where the plate can be"):
            looked_down(made, guard)
        assert not guard.trusted
    assert made.truth()["strikes"] == []


@pytest.mark.parametrize("drop", [-9.0, 0.0, 1.79, 40.0])
def test_insane_stored_values_strike_nothing(linked, barley, drop):
    """Whatever trip height the printer holds, floors come from touches alone."""
    made, printer, guard = linked()
    printer.set_value("trip_height", -drop)
    guard.attach()
    assert not guard.trusted
    looked_down(made, guard)
    made.hands("hands.probe", state="jammed")
    guard.printer.extend()
    with pytest.raises(JobError, match=r"did not trip|is outside"):
        guard.touch_at(40.0, 40.0)
    made.hands("hands.probe", state="free")
    guard.park()
    assert made.truth()["gap_mm"] > 5


def test_floors_follow_the_touches(linked, barley):
    _, _, guard = linked()
    guard.reference()
    guard.extend()
    z = guard.touch_at(60.0, 60.0)
    x, y = 60.0 - 21.5, 60.0 + 17.0
    assert guard.floor_at(x, y) == pytest.approx(z - guard.floors.slack)
    assert guard.floor_at(x + 100, y) >= z - guard.floors.slack - 100 * guard.floors.slope - 1e-9
    # With the plate 0.6 mm higher than any slope allows, a touch is still taken as one.
    assert guard.floors.slack < AIR_MM
    guard.park()


def test_a_trip_in_the_air_is_not_a_height(linked):
    made, _, guard = linked()
    guard.reference()
    guard.extend()
    made.hands("hands.fault", fault="trips-in-air:1:3")
    with pytest.raises(JobError, match="above where the plate can be"):
        guard.touch_at(300.0, 40.0)
    assert made.truth()["gap_mm"] > 5
    # A reference that tripped in the air is found out by the touch that checks it.
    made.hands("hands.fault", fault="trips-in-air:1:9")
    with pytest.raises(JobError, match="did not trip"):
        guard.reference()
    assert not guard.trusted


def test_after_a_halt_nothing_moves(linked):
    made, _, guard = linked()
    guard.reference()
    guard.halt()
    before = made.truth()["gap_mm"]
    for act in (guard.reference, lambda: guard.lift(5.0), guard.retract, guard.extend):
        with pytest.raises(Halted, match="position is unknown"):
            act()
    guard.park()
    assert made.truth()["gap_mm"] == before
    looked_down(made, guard)
    guard.park()


def test_a_printer_that_moves_takes_no_second_motion(linked):
    """Whoever else gets a motion through: it is refused, or waits until this one has ended."""
    _, printer, _ = linked("--pace", "real", "--speed", "10")
    resting = threading.Thread(target=printer.rest, args=(15.0,))
    resting.start()
    time.sleep(0.3)
    began = time.monotonic()
    try:
        printer.lift(1.0)
    except PrinterRefused as no:
        assert "already moving" in no.what
    else:
        assert time.monotonic() - began > 0.8
    resting.join()


def test_a_mirrored_offset_probes_air_and_stops(linked, barley):
    """The builder typed the offset with the wrong sign: points meant for the plate miss it."""
    _, printer, _ = linked()
    wrong = barley.model_copy(
        update={"probe": barley.probe.model_copy(update={"offset": (-21.5, 17.0)})}
    )
    from tallgrain.link.guard.guard import Guard

    guard = Guard(printer, wrong)
    guard.reference()
    guard.extend()
    box = Reach(wrong).box
    with pytest.raises(JobError, match="did not trip"):
        guard.touch_at(box.x1, 100.0)
    guard.park()
