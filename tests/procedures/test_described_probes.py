"""Each kind of probe as a builder describes it, at a printer whose own is otherwise: it trips two
millimetres higher than assumed and sits elsewhere. Nothing strikes; once measured, it surveys."""

from contextlib import closing, suppress

import numpy as np
import pytest
import tomlkit

from standins import feels_at, guard_on, looked_down
from tallgrain.clock import now
from tallgrain.core.machine.describe import Basics, basics_document, with_probe, with_screws
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import grid_plan
from tallgrain.core.probe.proximity import trips_before
from tallgrain.core.solve.gap import solve_gap
from tallgrain.errors import TallGrainError
from tallgrain.journal.journal import Journal
from tallgrain.link.connect import connected
from tallgrain.procedures.evening import Now, evening
from tallgrain.procedures.events import BreakOff, SurveyEnded
from tallgrain.procedures.finger import feel_probe
from tallgrain.procedures.gauge import gauge_loop
from tallgrain.procedures.survey import survey
from tallgrain.store.ledger import Ledger

OFFSET, TRIP = (-30.0, 12.0), 2.1


def described(kind):
    """The sheet as it is described, and as the printer truly is."""
    document = with_screws(with_probe(basics_document(Basics("Teasel")), kind), "four")
    true = {**document, "probe": dict(document["probe"])}
    if kind != "nozzle":
        true["probe"].update(offset=list(OFFSET), trip_height=TRIP)
    return MachineSheet.model_validate(document), MachineSheet.model_validate(true), true


@pytest.mark.parametrize("kind", ["contact_pin", "switch_arm", "proximity", "carried", "nozzle"])
def test_a_described_probe_is_safe_before_and_right_after_it_is_measured(standin, tmp_path, kind):
    guessed, known, document = described(kind)
    path = tmp_path / "true.toml"
    path.write_text(tomlkit.dumps(document))
    made = standin("--machine", str(path), "--cold", "--seed", "7", link="json")
    made.hands("hands.fault", fault="sticks")
    made.hands("hands.mend")
    with Ledger.open(tmp_path / "home") as ledger, closing(connected(made.json, "A test")) as link:
        steps = [s.name for s in evening(Journal(ledger, "Teasel", now), guessed, Now(linked=True))]
        assert ("where the probe is" in steps) == (kind != "nozzle")
        guard = guard_on(link, guessed)
        said = []

        def at_it(words):
            said.append(words)
            hold = "finger" in words or "metal" in words
            made.hands("hands.probe", state="held" if hold else "free")

        feel_probe(guard, at_it)
        looked_down(made, guard)
        plan = grid_plan(guessed, 4, 4)
        with suppress(TallGrainError):  # beside the plate nothing trips: told, and not struck
            list(survey(guard, ledger, plan, now, BreakOff()))
        assert made.truth()["strikes"] == []
        guard = guard_on(link, known)
        if not guard.trusted:
            feel_probe(guard, at_it)
            looked_down(made, guard)
        ended = [e for e in survey(guard, ledger, grid_plan(known, 5, 5), now, BreakOff())
                 if isinstance(e, SurveyEnded)]  # fmt: skip
        told = ledger.survey(ended[-1].ident)
        true = np.array(made.heights(told.xy)["heights"])
        off = told.heights - true
        assert np.abs(off - off.mean()).max() < 0.09 and len(told.points) == 25
        ruler = lambda: made.hands("hands.ruler")["clearance_mm"]  # noqa: E731
        feel = lambda mm: made.hands("hands.gauge", thickness_mm=mm)["feel"]  # noqa: E731
        t = solve_gap(gauge_loop(guard, ruler, feel)).t
        assert abs(t - made.truth()["probe"]["trip_height_mm"]) < 0.06
    assert feels_at(made) and made.truth()["strikes"] == []


def test_a_sensor_has_to_trip_before_what_lean_shape_and_heat_can_do():
    sheet = described("proximity")[1]
    cold, hot = trips_before(sheet, 20.0), trips_before(sheet, 100.0)
    assert cold.heat == 0 and hot.total - cold.total == pytest.approx(hot.heat) and hot.heat > 0.16
    assert hot.lean == pytest.approx(np.hypot(*OFFSET) * 0.006)
