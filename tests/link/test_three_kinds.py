"""Three kinds of printer on one guard: surveyed, jogged, stepped and broken, without a strike."""

import numpy as np
import pytest

from standins import Standin, looked_down
from tallgrain.core.machine.reach import Reach
from tallgrain.core.plan.grid import grid_plan
from tallgrain.errors import GuardRefused, JobError, TrustLost
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.link.connect import connected
from tallgrain.link.guard.floors import JOG_CLEAR_MM
from tallgrain.link.guard.guard import Guard

KINDS = ("Barley", "Rye", "Millet")
SHEETS = {name: parse_sheet(shipped_sheet_text(name), name) for name in KINDS}


@pytest.mark.parametrize("seed", range(2))
@pytest.mark.parametrize("name", KINDS)
def test_every_kind_is_surveyed_as_it_truly_is(printer_of, name, seed):
    made, _, guard = printer_of(name, "--cold", "--seed", str(seed))
    looked_down(made, guard)
    guard.extend()
    points = grid_plan(SHEETS[name], 7, 7).points
    z = np.array([guard.touch_at(*p) for p in points])
    guard.park()
    true = np.array(made.heights(points)["heights"])
    error = (z - z.mean()) - (true - true.mean())
    limit = 0.012 if name != "Millet" else 0.03
    assert np.sqrt((error**2).mean()) < limit
    assert made.truth()["strikes"] == []


@pytest.mark.parametrize("name", KINDS)
@pytest.mark.parametrize("when", [1, 2, 3, 5, 9])
def test_a_probe_that_dies_under_way_strikes_nothing(printer_of, name, when):
    """Also far from every touch, on a slope, and with the nozzle as the probe."""
    made, _, guard = printer_of(name, "--seed", str(when), "--fault", f"dead:{when}")
    with pytest.raises(JobError):
        guard.reference()
        guard.extend()
        for p in grid_plan(SHEETS[name], 4, 4).points[::-1]:
            guard.touch_at(*p)
    guard.park()
    assert made.truth()["strikes"] == []


@pytest.mark.parametrize("ail", ["no-extend", "no-retract", "sticks", "inverted", "dead"])
@pytest.mark.parametrize("name", KINDS)
def test_no_ailment_of_the_probe_strikes(printer_of, name, ail):
    made, _, guard = printer_of(name, "--cold", "--fault", ail)
    for _ in range(2):
        with pytest.raises(JobError):
            looked_down(made, guard)
            guard.extend()
            for p in grid_plan(SHEETS[name], 3, 3).points:
                guard.touch_at(*p)
            raise JobError("nothing was wrong with it")
    assert made.truth()["strikes"] == []


@pytest.mark.parametrize("back", [(21.5, -17.0), (-90.0, 80.0), (0.0, 0.0), (100.0, 100.0)])
def test_a_wrong_offset_in_the_printer_strikes_nothing(printer_of, back):
    """Mirrored, lost or insane: the reference then falls where nobody thought of."""
    made, printer, guard = printer_of("Barley", "--cold")
    printer.set_value("offset_x", -back[0])
    printer.set_value("offset_y", -back[1])
    assert {v.meaning: v.ours for v in printer.values()}["offset_x"] == -back[0]
    try:
        looked_down(made, guard)
        guard.extend()
        guard.touch_at(200.0, 200.0)
    except JobError:
        pass  # refused or not found: either is fine, a strike is not
    guard.park()


def test_a_carried_probe_is_proven_on_and_off(standin, tmp_path):
    text = shipped_sheet_text("Barley").replace('kind = "contact_pin"', 'kind = "carried"')
    text = text.replace(
        "[probe.rep", "[probe.perch]\nat = [0, 0, 40]\napproach = [1, 0]\n[probe.rep"
    )
    file = tmp_path / "carried.toml"
    file.write_text(text)
    made = standin("--machine", str(file), "--fault", "no-extend:3")
    printer = connected(made.url, "A test")
    guard = Guard(printer, parse_sheet(text, "x"))
    guard.reference()
    guard.extend()
    with pytest.raises(GuardRefused, match="still hangs"):
        guard.heat(200.0, None)
    with pytest.raises(JobError):
        guard.touch_at(100.0, 100.0)
    with pytest.raises(JobError, match="not picked up"):
        guard.extend()
    made.hands("hands.mend")
    made.hands("hands.fault", fault="no-retract")
    with pytest.raises(JobError, match="was not put away"):
        guard.retract()
    printer.close()


def test_a_hot_nozzle_does_not_touch(printer_of):
    made, printer, guard = printer_of("Millet")
    printer.heat(220.0, 0.0)
    for act in (guard.reference, guard.extend):
        with pytest.raises(JobError, match="too hot to touch"):
            act()
    printer.heat(0.0, 0.0)
    assert made.truth()["strikes"] == []


@pytest.mark.parametrize("name", KINDS)
def test_a_nozzle_that_grew_is_referenced_anew_where_it_is_the_probe(printer_of, name):
    made, _, guard = printer_of(name, "--cold", "--seed", "3")
    looked_down(made, guard)
    guard.heat(160.0, None)
    guard.waiting.for_heat()
    touches = made.truth()["touches"]
    guard.freshen_reference()
    again = made.truth()["touches"] > touches
    assert again is (name == "Millet")
    touches = made.truth()["touches"]
    guard.freshen_reference()  # once is enough
    assert made.truth()["touches"] == touches


def test_jogs_stay_above_where_the_probe_trips(printer_of):
    made, printer, guard = printer_of("Barley")
    with pytest.raises(GuardRefused, match="the probe is out"):
        guard.reference()
        guard.by_hand.jog(1.0, 0.0, 0.0)
    guard.park()
    before = printer.state().position
    for far in ((0.0, 0.0, -50.0), (0.0, 60.0, 0.0), (0.0, 0.0, -20.0)):
        with pytest.raises(GuardRefused):
            guard.by_hand.jog(*far)
    for _ in range(9):
        guard.by_hand.jog(-40.0, 0.0, 0.0) if guard.printer.state().position.x > 30 else None
    with pytest.raises(GuardRefused, match="beyond the travel, which ends at -12"):
        guard.by_hand.jog(-50.0, 0.0, 0.0)
    rng = np.random.default_rng(4)
    for _ in range(150):
        try:
            guard.by_hand.jog(*rng.uniform(-30, 30, 2), float(rng.uniform(-6, 3)))
        except GuardRefused:
            guard.by_hand.jog(0.0, 0.0, 1.0)
        assert made.truth()["gap_mm"] > JOG_CLEAR_MM
    assert printer.state().position.z != before.z


def test_steps_go_no_further_than_the_builder_said(printer_of):
    made, _, guard = printer_of("Barley")
    guard.reference()
    guard.park()
    guard.by_hand.go_above(175.0, 175.0)
    with pytest.raises(GuardRefused, match="was not said"):
        guard.by_hand.step(-0.5)
    guard.hands_in = True  # the gauge is under the nozzle: steps are the only motion
    with pytest.raises(GuardRefused, match="can't be meant"):
        guard.by_hand.see_room(made.truth()["gap_mm"] + 2.5, by_gauge=False)
    guard.by_hand.see_room(np.floor(made.truth()["gap_mm"]), by_gauge=False)
    for thickness in (1.0, 0.5, 0.2):
        while guard.by_hand.room_mm > 0.02:
            guard.by_hand.step(-min(2.0, guard.by_hand.room_mm))
        if made.hands("hands.gauge", thickness_mm=thickness)["feel"] == "free":
            guard.by_hand.see_room(thickness, by_gauge=True)
    while guard.by_hand.room_mm > 0.001:
        guard.by_hand.step(-min(0.1, guard.by_hand.room_mm))
    with pytest.raises(GuardRefused, match="of the room that you said is left"):
        guard.by_hand.step(-0.01)
    assert 0 < made.truth()["gap_mm"] < 0.25
    with pytest.raises(GuardRefused, match="hands are at the printer"):
        guard.lift(5.0)
    guard.by_hand.step(2.0)
    guard.hands_in = False
    guard.by_hand.jog(1.0, 0.0, 5.0)
    with pytest.raises(GuardRefused, match="was not said"):
        guard.by_hand.step(-0.1)


def test_a_reflash_loses_all_and_is_noticed(printer_of):
    made, printer, guard = printer_of("Barley")
    made.hands("hands.reflash")
    with pytest.raises(TrustLost):
        printer.reconnect()
    guard.attach()
    assert not guard.trusted
    assert all(v.live == (v.kept if v.meaning else 0.0) for v in printer.values())
    assert all(v.ours == v.ours_default for v in printer.values())
    # Without its offset this printer puts the nozzle, not the probe, over the datum.
    looked_down(made, guard)
    assert guard.trusted
    assert not Reach(SHEETS["Barley"]).refusals([(175.0 + 21.5, 175.0 - 17.0)])[0]


def test_strikes_count_for_every_kind():
    """The zeroes above rest on these: each kind of contact is counted when it does happen."""
    for name, part in (("Millet", "nozzle"), ("Rye", "probe")):
        made = Standin("--machine", name, "--seed", "1")
        printer = connected(made.url, "A test")
        printer.reference(60.0)
        printer.lift(5.0)
        made.hands("hands.probe", state="jammed")
        with pytest.raises(JobError):
            printer.touch(0.6 if part == "probe" else -1.4)
        assert made.truth()["strikes"][0]["part"] == part
        printer.close()
        made.stop()
