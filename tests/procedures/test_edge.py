"""Edge scans on the stand-in: both edges found, the plate's slope and every fault survived."""

import numpy as np
import pytest

from tallgrain.core.probe.claims import edge_centre
from tallgrain.core.probe.rough import Feel, rough_gap
from tallgrain.errors import JobError, LinkError
from tallgrain.procedures.edge import FINE_MM, scan_edge


@pytest.fixture
def guarded(printer_of):
    return lambda *options: printer_of(*options)[::2]


@pytest.mark.parametrize("seed", range(3))
@pytest.mark.parametrize("axis", ["x", "y"])
@pytest.mark.parametrize("name", ["Barley", "Rye"])
def test_the_middle_of_a_strip_is_found_by_the_probe(guarded, name, axis, seed):
    made, guard = guarded(name, "--seed", str(seed))
    datum = guard.sheet.plate.datum_point[axis == "y"]
    made.hands("hands.strip", axis=axis, at=datum + 3.0)
    scan = scan_edge(guard, axis)
    middle, bracket = edge_centre(scan.nozzle, scan.raised)
    assert bracket <= FINE_MM / 2 + 1e-9
    edges = made.hands("hands.look")["strip"]
    state = guard.printer.state().position
    strip = (edges["low_mm"] + edges["high_mm"]) / 2 + (state.x if axis == "x" else state.y)
    true = made.truth()["probe"]["dx" if axis == "x" else "dy"]
    # The person's eye judges each edge to a tenth of a millimetre or so.
    assert strip - middle == pytest.approx(true, abs=0.35)
    assert made.truth()["gap_mm"] > 3
    assert not guard.printer.state().extended


@pytest.mark.parametrize(
    "fault", ["dead:9", "trips-in-air:7:4", "restart:12", "closed:5", "no-extend:4"]
)
def test_a_fault_in_the_middle_leaves_it_raised(guarded, fault):
    made, guard = guarded("Barley", "--fault", fault)
    made.hands("hands.strip", axis="x", at=175.0)
    with pytest.raises((JobError, LinkError)):
        scan_edge(guard, "x")
    assert made.truth()["gap_mm"] > 0.8
    assert made.truth()["strikes"] == []


def test_a_strip_out_of_reach_is_not_found(guarded):
    made, guard = guarded("Barley")
    for at in (60.0, 175.0 + 34.0):
        made.hands("hands.strip", axis="x", at=at)
        with pytest.raises(JobError, match="no strip with two edges"):
            scan_edge(guard, "x")
        assert made.truth()["gap_mm"] > 3


@pytest.mark.parametrize("seed", range(40))
def test_the_rough_bracket_holds_the_truth(seed):
    """Feels simulated from gap = z + t − t_set; a hand that errs by less than a hundredth."""
    rng = np.random.default_rng(seed)
    t, t_set = rng.uniform(0.5, 3.0), rng.uniform(0.0, 4.0)
    feels = []
    for _ in range(rng.integers(1, 25)):
        z, gauge = rng.uniform(t_set - t - 0.2, t_set - t + 2), rng.choice([0.05, 0.1, 0.3, 1.0])
        felt = z + t - t_set - gauge + rng.uniform(-0.004, 0.004)
        feel = "free" if felt > 0.006 else "grips" if felt > -0.006 else "stuck"
        feels.append(Feel(float(z), float(gauge), feel))
    found = rough_gap(feels, t_set)
    if found.low is not None:
        assert found.low <= t + 0.01
    if found.high is not None:
        assert found.high >= t - 0.01
    kinds = {f.feel for f in feels}
    assert (found.low is None) == (kinds == {"stuck"})
    assert (found.high is None) == (kinds == {"free"})
    if found.done:
        assert found.middle == pytest.approx(t, abs=0.11)
