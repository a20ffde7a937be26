"""Surfaces that a printer holds: what touches say of them, and what they make of a first layer."""

import contextlib
import sys
import tempfile
from collections import Counter
from pathlib import Path

import numpy as np

from tallgrain.clock import now
from tallgrain.core.held.proof import Tried, explain, proof_places, right_way
from tallgrain.core.held.surface import Takes, resampled
from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.plan.grid import grid_plan
from tallgrain.core.surface.first_layer import first_layer_sight
from tallgrain.core.survey import Point, Survey
from tallgrain.link.connect import connected
from tallgrain.procedures.events import BreakOff
from tallgrain.procedures.guarding import guarded
from tallgrain.procedures.surfaces import AtSurfaces, proposed, use_surface, write_surface
from tallgrain.procedures.survey import survey
from tallgrain.store.ledger import Ledger

ROOT = Path(__file__).parent.parent / "tests"
MISHAPS = (
    "as written", "not in use", "mirrored left to right", "mirrored front to rear",
    "turned by half", "transposed", "other sign", "scaled", "other extents", "tapered out", "stale",
)  # fmt: skip
# A mishap that changes less than this of a first layer is none (mm).
TELLS_MM = 0.02
NOISE_MM = 0.003


def held_text(seeds=range(100)):
    """The evidence about held surfaces."""
    lines = [
        "", f"## Surfaces that a printer holds, {len(seeds)} seeds", "",
        "Beds of four waves and a bump, 0.08 to 0.4 mm, surveyed on 5 × 5 to 9 × 9 points with "
        "3 µm of noise, a surface of 5 × 5 nodes, straight or smooth; 18 places touched twice. A "
        "mishap "
        f"that changes less than {1000 * TELLS_MM:.0f} µm from place to place is not counted.",
        "", "| what the printer does | named so | counted | else |", "|---|---|---|---|",
    ]  # fmt: skip
    for mishap in MISHAPS:
        found = Counter(v for seed in seeds if (v := _named(seed, mishap)) is not None)
        other = ", ".join(f"{n} {v}" for v, n in found.most_common() if v != mishap) or "–"
        lines.append(f"| {mishap} | {found[mishap]} | {sum(found.values())} | {other} |")
    few = seeds
    held = [_printed(seed) for seed in few]
    strikes = sum(struck for _, struck in held)
    lines += [
        "", f"On {len(few)} stand-ins a survey of 7 × 7 was written and followed, and the nozzle "
        "led over 60 places at one z: every place within what the first layer's audit had said in "
        f"{sum(inside for inside, _ in held)} of {len(few)}; strikes: {strikes}.",
    ]  # fmt: skip
    return lines


def _named(seed, mishap):
    """What touches say of a printer that does so; None where it can't be told by anybody."""
    sys.path.insert(0, str(ROOT))
    rng = np.random.default_rng(seed)
    w, d = (float(v) for v in rng.choice([180, 220, 235, 300], 2))
    bed = _bed(rng, w, d)
    n = int(rng.choice([5, 7, 9]))
    found = Survey(
        "A", "surface", now(),
        tuple(Point(x, y, float(bed((x, y))[0] + rng.normal(0, NOISE_MM)))
              for y in np.linspace(10, d - 10, n) for x in np.linspace(10, w - 10, n)),
        ident="1", shape=(n, n),
    )  # fmt: skip
    takes = Takes(method=str(rng.choice(["bilinear", "bicubic"])))
    box = Rectangle(10, 10, w - 10, d - 10)
    held = resampled(found, "bed", box, (5, 5), (w / 2, d / 2), takes)
    xy = proof_places(held, lambda places: np.ones(len(places), dtype=bool))
    truth, meant, faded = bed(xy), held.at(xy, takes.method), 1.0
    applied = meant
    if mishap == "not in use":
        applied = 0 * meant
    elif mishap == "scaled":
        applied = meant * rng.choice([0.3, 0.5, 1.4, 2.0])
    elif mishap == "tapered out":
        faded, applied = 0.85, meant * rng.choice([0.3, 0.5])
    elif mishap == "other extents":
        away = rng.choice([-1, 1], 2) * rng.uniform(20, 45, 2)
        applied = held.at(xy - away, takes.method)
    elif mishap == "stale":
        truth = truth + rng.choice([-1, 1]) * 0.12 * (xy[:, 0] / w) ** 2
    elif mishap != "as written":
        applied = right_way(held, mishap).at(xy, takes.method)
    if mishap not in ("as written", "stale") and np.ptp(faded * meant - applied) < TELLS_MM:
        return None
    noise = rng.normal(0, NOISE_MM, (2, len(xy)))
    tried = Tried(xy, truth + noise[0], truth - applied + noise[1])
    return explain(held, found, tried, NOISE_MM, takes.method, faded).verdict


def _bed(rng, w, d):
    waves, phase = rng.uniform(0, 0.7, (4, 2)), rng.uniform(0, 6.28, 4)
    size, slope, bump = rng.normal(0, 1, 4), rng.normal(0, 1, 2), rng.normal(0, 1)
    at, wide = rng.uniform(0.2, 0.8, 2) * (w, d), rng.uniform(0.2, 0.4) * min(w, d)

    def raw(xy):
        xy = np.asarray(xy, dtype=float).reshape(-1, 2)
        u = xy / (w, d)
        z = u @ slope + bump * np.exp(-((xy - at) ** 2).sum(axis=1) / 2 / wide**2)
        return z + (size * np.cos(6.28 * u @ waves.T + phase)).sum(axis=1)

    mesh = np.array([(x, y) for x in np.linspace(0, w, 15) for y in np.linspace(0, d, 15)])
    scale = rng.uniform(0.08, 0.4) / np.ptp(raw(mesh))
    return lambda xy: scale * raw(xy)


def _printed(seed):
    """Whether the first layer over 60 places is within its audit; strikes."""
    sys.path.insert(0, str(ROOT))
    from standins import Standin, looked_down, shipped_sheet

    with tempfile.TemporaryDirectory() as folder, contextlib.ExitStack() as stack:
        made = Standin("--machine", "Barley", "--seed", str(seed), link="json")
        stack.callback(made.stop)
        link = connected(made.json, "A campaign")
        stack.callback(link.close)
        ledger = stack.enter_context(Ledger.open(Path(folder)))
        guard = guarded(link, shipped_sheet("Barley"), ledger, now)
        if not guard.trusted:
            looked_down(made, guard)
        for _ in survey(guard, ledger, grid_plan(guard.sheet, 7, 7), now, BreakOff()):
            pass
        found = ledger.survey("1")
        at = AtSurfaces(guard, ledger, now)
        surface = proposed(guard.sheet, found, link.surfaces(), "bed", (7, 7)).surface
        write_surface(at, surface, found)
        sight = first_layer_sight(found, guard.sheet)
        use_surface(at, "bed")
        rng = np.random.default_rng(seed)
        (low, high), z = (found.xy.min(axis=0), found.xy.max(axis=0)), guard.trust.z
        (x0, x1), (y0, y1) = guard.sheet.travel.x, guard.sheet.travel.y
        datum = guard.sheet.plate.datum_point
        gaps = []
        for x, y in [datum, *rng.uniform(low, high, (60, 2)).tolist()]:
            link.go(min(max(x, x0), x1), min(max(y, y0), y1), z)
            gaps.append(made.truth()["gap_mm"])
        off = np.array(gaps[1:]) - gaps[0]
        audit, layer = sight.audit, sight.layer
        inside = off.min() >= audit.least - layer and off.max() <= audit.most - layer
        return bool(inside), len(made.truth()["strikes"])
