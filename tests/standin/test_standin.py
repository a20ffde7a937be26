"""The stand-in is as unkind as its description says: measured through its ports alone."""

import json
import math
import socket

import numpy as np
import pytest

from standins import Rpc, Standin


@pytest.fixture
def wire(standin):
    """A stand-in and a plain caller that holds the lease."""
    opened = []

    def link(*options):
        made = standin(*options)
        rpc = Rpc(made.url)
        opened.append(rpc)
        rpc("lease.take", holder="A test")
        return made, rpc

    yield link
    for rpc in opened:
        rpc.close()


@pytest.mark.parametrize(
    ("extended", "part", "method", "params"),
    [
        (False, "nozzle", "motion.go", {"x": 100.0, "y": 100.0, "z": -2.0}),
        (True, "probe", "motion.touch", {"floor": 0.2}),
        (True, "probe", "motion.go", {"x": 150.0, "y": 150.0, "z": 0.1}),
    ],
)
def test_driving_into_the_plate_is_a_strike(extended, part, method, params):
    """The counter that all the zeroes rest on does count."""
    made = Standin("--seed", "1")
    rpc = Rpc(made.url)
    rpc("lease.take", holder="A test")
    rpc("motion.reference", down_mm=60.0)
    rpc("motion.lift", mm=5.0)
    rpc("probe.extend" if extended else "probe.retract")
    made.hands("hands.probe", state="jammed")
    rpc("motion.leave_below", mm=2.0)
    assert made.truth()["strikes"] == []
    rpc(method, **params)
    struck = made.truth()["strikes"]
    rpc.close()
    made.stop()
    assert struck[0]["part"] == part
    assert struck[0]["depth"] > 0


def test_a_touch_stops_where_the_probe_trips_and_never_under_its_floor(wire):
    made, rpc = wire()
    rpc("motion.reference", down_mm=60.0)
    rpc("motion.lift", mm=5.0)
    tripped = rpc("motion.touch", floor=1.0)
    assert tripped["z"] == pytest.approx(1.79, abs=0.1)
    rpc("motion.lift", mm=3.0)
    made.hands("hands.probe", state="jammed")
    no = rpc("motion.touch", floor=1.7)
    assert no["data"]["reason"] == "no_trip"
    assert rpc("printer.state")["position"]["z"] == pytest.approx(1.7, abs=1e-3)


def touches(rpc, count):
    found = []
    for _ in range(count):
        rpc("motion.lift", mm=1.0)
        found.append(rpc("motion.touch", floor=1.0)["z"])
    rpc("motion.lift", mm=5.0)
    return np.array(found)


def test_repeatability_and_rare_early_trips(wire):
    _, rpc = wire("--seed", "5")
    rpc("motion.reference", down_mm=60.0)
    z = touches(rpc, 900)
    late = z[300:]  # the creep has settled
    typical = np.median(late)
    usual = late[np.abs(late - typical) < 0.015]
    assert usual.std(ddof=1) == pytest.approx(0.003, rel=0.12)
    early = late[late - typical >= 0.02]
    assert 0 < len(early) < 0.02 * len(late)
    assert (late > typical - 0.015).all()  # a probe trips early, not late
    assert z[:20].mean() - np.median(z[300:]) == pytest.approx(0.0035, abs=0.0025)  # creep


def test_a_new_reference_is_worse_than_a_new_touch(wire):
    _, rpc = wire("--seed", "6")
    means = []
    for _ in range(60):
        down = rpc("printer.state")["position"]["z"] + 1.0
        rpc("motion.reference", down_mm=max(down, 10.0))
        means.append(np.median(touches(rpc, 7)))
    # One frame rests on one touch and its own scatter: about the root of 3² + 5² µm.
    assert np.std(means, ddof=1) == pytest.approx(math.hypot(0.003, 0.005), rel=0.3)


def test_heat_follows_first_order_and_bends_the_plate(wire):
    made, rpc = wire()
    middle, corner = [[175.0, 175.0]], [[20.0, 20.0]]
    cold = made.heights(middle)["heights"][0] - made.heights(corner)["heights"][0]
    rpc("heat.set", plate_c=70.0, nozzle_c=200.0)
    rpc("motion.rest", seconds=150.0)
    state = rpc("printer.state")
    assert state["plate"]["now_c"] == pytest.approx(22 + 48 * (1 - math.exp(-1)), abs=0.5)
    assert state["nozzle"]["now_c"] == pytest.approx(200 - 178 * math.exp(-150 / 28), abs=1.0)
    rpc("heat.wait")
    assert rpc("printer.state")["plate"]["now_c"] == pytest.approx(70, abs=1.1)
    early = made.heights(middle)["heights"][0] - made.heights(corner)["heights"][0]
    rpc("motion.rest", seconds=3600.0)
    soaked = made.heights(middle)["heights"][0] - made.heights(corner)["heights"][0]
    assert cold < early < soaked  # it domes, and goes on doing so after it is warm
    assert soaked - cold > 0.01
    no = rpc("heat.set", plate_c=400.0)
    assert "takes 0 to 120" in no["message"]


def test_values_are_lost_unless_kept(standin):
    made = standin()
    for keep in (False, True):
        rpc = Rpc(made.url)
        rpc("lease.take", holder="A test")
        rpc("values.set", name="trip_drop_mm", value=-1.9)
        assert not rpc("printer.state")["referenced"]  # z means something else now
        assert rpc("printer.state")["not_kept"] == 1
        if keep:
            rpc("values.keep")
        rpc.close()
        made.hands("hands.power")
        rpc = Rpc(made.url)
        assert rpc("values.list")["trip_drop_mm"]["live"] == (-1.9 if keep else -1.79)
        rpc.close()


def test_who_has_no_lease_moves_nothing_but_may_halt(standin):
    made = standin()
    holder, other = Rpc(made.url), Rpc(made.url)
    holder("lease.take", holder="A test")
    for method, params in (
        ("motion.lift", {"mm": 1.0}), ("motion.go", {"x": 1.0, "y": 1.0, "z": 50.0}),
        ("heat.set", {"plate_c": 60.0}), ("values.set", {"name": "trip_drop_mm", "value": 0.0}),
        ("probe.extend", {}),
    ):  # fmt: skip
        assert other(method, **params)["data"]["reason"] == "no_lease"
    assert other("lease.take", holder="Other")["data"]["reason"] == "lease_held"
    assert other("motion.halt")["referenced"] is False
    holder.close()
    other.close()


@pytest.mark.parametrize(
    ("method", "params", "reason"),
    [
        ("motion.go", {"x": 999.0, "y": 0.0, "z": 50.0}, "out_of_travel"),
        ("motion.lift", {"mm": -3.0}, "bad_value"),
        ("motion.go", {"x": 1.0}, "bad_value"),
        ("motion.rest", {"seconds": 1e9}, "bad_value"),
        ("values.set", {"name": "nonsense", "value": 1.0}, "bad_value"),
        ("moon.landing", {}, "no_method"),
    ],
)
def test_requests_that_make_no_sense_are_refused(wire, method, params, reason):
    _, rpc = wire()
    assert rpc(method, **params)["data"]["reason"] == reason


def test_garbage_from_our_side_does_not_end_it(standin):
    made = standin()
    host, port = made.url.removeprefix("tcp://").split(":")
    with socket.create_connection((host, int(port)), timeout=5) as raw, raw.makefile() as lines:
        raw.sendall(b"this is no JSON\n")
        reply = json.loads(lines.readline())
        while "error" not in reply:
            reply = json.loads(lines.readline())
        assert reply["error"]["code"] == -32700
        raw.sendall(b'{"jsonrpc":"2.0","id":5,"method":"printer.describe"}\n')
        while reply.get("id") != 5:
            reply = json.loads(lines.readline())
        assert reply["result"]["name"] == "Barley"


def test_sheets_and_days_change_the_plate_a_little(standin):
    made = standin("--seed", "8")
    places = [[x, y] for x in (30.0, 175.0, 320.0) for y in (30.0, 175.0, 320.0)]
    before = np.array(made.heights(places)["heights"])
    made.hands("hands.reseat")
    seated = np.array(made.heights(places)["heights"])
    made.hands("hands.sheet", name="textured")
    other = np.array(made.heights(places)["heights"])
    assert 1e-4 < np.abs(seated - before).max() < 0.06
    assert np.ptp(other - seated) > 0.001
    made.hands("hands.move", warm_side_mm_per_day=0.001)
    here = np.array(made.heights(places)["heights"])
    made.hands("hands.days", days=50.0)
    bowed = np.array(made.heights(places)["heights"]) - here
    assert bowed[[1, 7]].mean() - bowed[4] == pytest.approx(0.04, abs=0.015)  # edge over middle
    assert made.hands("hands.sheet", name="velvet")["data"]["reason"] == "bad_value"
    assert "no fault" in made.hands("hands.fault", fault="gremlin")["message"]
