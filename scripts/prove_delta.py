"""Campaigns about deltas: what one solve leaves, and what printed distances tell of the rods."""

from dataclasses import replace

import numpy as np

from tallgrain.core.plan.towers import candidates, towers_plan
from tallgrain.core.solve.delta import PrintedDistance, solve_delta
from tallgrain.core.solve.delta_geometry import DEFAULT_FREE, TOWERS, geometry_of
from tallgrain.core.solve.towers import choose_free
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.standin.kinematics import Arms, DeltaArms

SHEET = parse_sheet(shipped_sheet_text("Millet"), "Millet")
HELD = geometry_of(SHEET.delta)
NOISE_MM, POINTS, CALIPER_MM = 0.003, 40, 0.02
FREE = (*DEFAULT_FREE, "rod_length")
PLAN = towers_plan(SHEET, HELD, POINTS, FREE).points
DENSE = candidates(SHEET, HELD)[0]
# Sides and diagonals of a square of 140 mm, what this plate takes.
CORNERS = [(-70.0, -70.0), (70.0, -70.0), (70.0, 70.0), (-70.0, 70.0)]
PAIRS = [(0, 2), (1, 3), (0, 1), (1, 2), (2, 3), (3, 0)]


def arms(geometry):
    by = {k: dict(zip(TOWERS, getattr(geometry, k), strict=True)) for k in ("angle", "switch")}
    return Arms(geometry.rod, geometry.radius, geometry.height, **by)


def probed(true, held, xy):
    """Heights by the stand-in's kinematics: z of the command that puts the tip onto the plate."""
    machine, z = DeltaArms(arms(held), arms(true)), np.zeros(len(xy))
    for _ in range(30):
        z = z - machine.tip(xy[:, 0], xy[:, 1], z)[2]
    return z


def assembled(chance, rods=0.6):
    """A delta that was put together in a hurry."""
    return replace(
        HELD,
        radius=HELD.radius + chance.uniform(-1.5, 1.5),
        rod=HELD.rod + chance.uniform(-rods, rods),
        angle=(210 + chance.uniform(-0.8, 0.8), 330 + chance.uniform(-0.8, 0.8), 90.0),
        switch=tuple(float(s) for s in chance.uniform(-1, 1, 3)),
    )


def one_delta(seed):
    """True error over the plate after one solve, RMS (mm); and how far the rods are off with
    printed distances (share), without and with a plate of the noise alone."""
    chance = np.random.default_rng(seed)
    true = assembled(chance)
    heights = probed(true, HELD, PLAN) + chance.normal(0, NOISE_MM, POINTS)
    solved = solve_delta(HELD, PLAN, heights, FREE, (), NOISE_MM)
    left = probed(true, solved.geometry, DENSE)
    machine = DeltaArms(arms(HELD), arms(true))
    corners = np.column_stack(machine.tip(*np.array(CORNERS).T, np.zeros(4)))[:, :2]
    printed = tuple(
        PrintedDistance(
            CORNERS[a], CORNERS[b],
            float(np.hypot(*(corners[a] - corners[b])) + chance.normal(0, CALIPER_MM, 3).mean()),
            CALIPER_MM / np.sqrt(3),
        )
        for a, b in PAIRS
    )  # fmt: skip
    told = solve_delta(HELD, PLAN, heights, FREE, printed, NOISE_MM)
    return float(np.sqrt((left**2).mean())), abs(told.geometry.rod / true.rod - 1)


def one_choice(seed):
    """Whether the evidence asks for the parameters that are off, and for no others."""
    chance = np.random.default_rng([seed, 7])
    true, wanted = assembled(chance, rods=0.0), DEFAULT_FREE
    which = seed % 3
    if which < 2:
        true, wanted = replace(true, angle=HELD.angle), ("switch", "delta_radius")
    if which < 1:
        true, wanted = replace(true, radius=HELD.radius), ("switch",)
    heights = probed(true, HELD, PLAN) + chance.normal(0, NOISE_MM, POINTS)
    return choose_free(HELD, PLAN, heights, NOISE_MM).free == wanted


def delta_text(seeds):
    """The evidence about deltas."""
    left, rods = (np.array(part) for part in zip(*(one_delta(s) for s in seeds), strict=True))
    theory = NOISE_MM * np.sqrt(7 / POINTS)
    chosen = [one_choice(s) for s in seeds]
    return "\n".join([
        "", f"## Deltas, {len(seeds)} of them", "",
        "Switches off by up to 1 mm, radius 1.5 mm, two angles 0.8°, rods 0.6 mm; 40 places as "
        f"planned, {NOISE_MM * 1000:.0f} µm of noise; all seven free; one solve. Heights by the "
        "stand-in's kinematics.", "",
        "| | |", "|---|---|",
        f"| true error over the plate, median | {np.median(left) * 1000:.2f} µm RMS, "
        f"{np.median(left) / theory:.2f} times σ·√(p/n) |",
        f"| under 4 µm RMS | {(left < 0.004).sum()} ({100 * (left < 0.004).mean():.1f} %) |",
        f"| the largest | {left.max() * 1000:.2f} µm |",
        "| rods within 0.05 % with six distances of a square of 140 mm, read three times | "
        f"{(rods < 5e-4).sum()} ({100 * (rods < 5e-4).mean():.1f} %) |",
        f"| rods, median and largest error | {np.median(rods) * 100:.4f} %, "
        f"{rods.max() * 100:.4f} % |",
        "| the evidence asks for just the parameters that are off | "
        f"{sum(chosen)} ({100 * np.mean(chosen):.1f} %) |", "",
    ])  # fmt: skip
