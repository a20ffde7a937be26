"""Surveys by hand on stand-ins without a probe: what was felt against the true plate."""

import contextlib
import sys
import tempfile
from pathlib import Path

import numpy as np

from tallgrain.clock import now
from tallgrain.core.model.figures import flatness_of
from tallgrain.core.plan.grid import grid_plan
from tallgrain.errors import LookAgain
from tallgrain.link.connect import connected
from tallgrain.procedures.events import BreakOff
from tallgrain.procedures.survey import survey
from tallgrain.store.ledger import Ledger

ROOT = Path(__file__).parent.parent / "tests"
# How one feel of each hand scatters (mm), and where z's switch sits.
HANDS = {"careful, 4 µm": (0.004, False), "rough, 12 µm": (0.012, False),
         "careful, switch above": (0.004, True)}  # fmt: skip


def hands_text(seeds=range(100)):
    """The evidence about hand surveys."""
    lines = [
        "", f"## Surveys by hand, {len(seeds)} seeds", "",
        "A stand-in without a probe, 4 × 4 places, a gauge and a hand: whether the true flatness "
        "is within what was told (k = 2), how many of the places are within 2 u, feels a place.",
        "", "| hand | flatness within k = 2 | places within 2 u | median feels | most | strikes |",
        "|---|---|---|---|---|---|",
    ]  # fmt: skip
    for name, (scatter, up) in HANDS.items():
        within, places, feels, strikes = [], [], [], 0
        for seed in seeds:
            flat, near, felt, struck = _felt(seed, scatter, up)
            within.append(flat)
            places += near
            feels += felt
            strikes += struck
        lines.append(
            f"| {name} | {sum(within)} of {len(within)} | {100 * np.mean(places):.1f} % | "
            f"{np.median(feels):g} | {max(feels)} | {strikes} |"
        )
    return lines


def _felt(seed, scatter, up):
    sys.path.insert(0, str(ROOT))
    from standins import Standin, guard_on, looked_down, unprobed

    with tempfile.TemporaryDirectory() as folder:
        path, sheet = unprobed(Path(folder), up)
        made = Standin("--machine", str(path), "--cold", "--seed", str(seed), link="json")
        with contextlib.ExitStack() as stack:
            stack.callback(made.stop)
            printer = connected(made.json, "A campaign")
            stack.callback(printer.close)
            guard = guard_on(printer, sheet)
            asked = []

            def ask(one):
                asked.append(one.number)
                return made.hands("hands.gauge", thickness_mm=one.gauge, scatter_mm=scatter)["feel"]

            guard.by_gauge.ask = ask
            if up:
                with contextlib.suppress(LookAgain):
                    guard.reference()
            looked_down(made, guard)
            with Ledger.open(Path(folder) / "home") as ledger:
                for _ in survey(guard, ledger, grid_plan(sheet, 4, 4), now, BreakOff()):
                    pass
                told = ledger.survey("1")
            true = np.array(made.heights(told.xy)["heights"])
            strikes = len(made.truth()["strikes"])
    off = told.heights - true
    u = np.array([p.u for p in told.points])
    near = (np.abs(off - off.mean()) <= 2 * u).tolist()
    flat = abs(_fltt(told.xy, told.heights) - _fltt(told.xy, true)) <= 2 * flatness_of(told, 1).u
    ends = [n for n, after in zip(asked, [*asked[1:], 1], strict=True) if after == 1]
    return flat, near, ends, strikes


def _fltt(xy, heights):
    design = np.column_stack([np.ones(len(xy)), xy])
    return np.ptp(heights - design @ np.linalg.lstsq(design, heights, rcond=None)[0])
