"""Where a plate lies under the nozzle, found by gauges that a person feels, in few feels.

A gauge of thickness g under a nozzle at the printer's z asks one question: is the plate at z − g?
"free" says lower, "stuck" higher, "grips" there, within a hand. What is believed of the plate's
height is a density on a grid; the next question halves it, where the nozzle may go that low.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.solve.gap import (
    HAND_MM,
    FeelWord,
    GapEstimate,
    GaugeLoop,
    GaugeTouch,
    solve_gap,
)
from tallgrain.core.survey import Floats

# What a builder has at hand (mm); the second is felt best.
GAUGES_MM = (0.05, 0.1, 0.15, 0.2, 0.3, 0.5, 1.0)
FELT_BEST_MM = 0.1
# A place takes so many feels at least and at most; done where what is left is so little (mm).
FEWEST, MOST = 3, 6
LEFT_MM = 0.012
# What a plate's height is believed to within before it is felt (mm), with a share of doubt.
NEIGHBOUR_MM, DOUBT = 0.05, 0.05
_GRID_MM = 0.002
# How far from where it just grips a gauge still grips (mm).
_GRIPS_MM = 0.012


@dataclass(frozen=True)
class Expected:
    """Where the plate's height can be (mm, the printer's z of the nozzle on it), and where it is
    thought to be: mean ± sd, None where nothing is known."""

    low: float
    high: float
    mean: float | None = None
    sd: float = NEIGHBOUR_MM


@dataclass(frozen=True)
class NextFeel:
    """Where the nozzle goes (printer's z, mm) and which gauge (mm) is pushed under it."""

    z: float
    gauge: float


def expected_height(xy: Floats, heights: Floats, at: tuple[float, float]) -> tuple[float, float]:
    """What places felt before, (n, 2) and (n,) mm, say of another one: a plane through them, or
    with few the nearest; mean and standard deviation (mm)."""
    xy, heights = np.asarray(xy, dtype=float), np.asarray(heights, dtype=float)
    away = np.hypot(*(xy - at).T)
    if len(xy) < 4 or np.linalg.matrix_rank(xy - xy.mean(axis=0), tol=1.0) < 2:
        return float(heights[away.argmin()]), NEIGHBOUR_MM + 0.001 * float(away.min())
    design = np.column_stack([np.ones(len(xy)), xy - at])
    found, *_ = np.linalg.lstsq(design, heights, rcond=None)
    left = heights - design @ found
    scatter = float(np.sqrt(left @ left / max(len(xy) - 3, 1)))
    lever = float(np.sqrt(np.linalg.inv(design.T @ design)[0, 0]))
    return float(found[0]), max(scatter, 0.02) * float(np.sqrt(1 + lever**2))


def felt_height(
    touches: Sequence[GaugeTouch], expected: Expected, z_step: float
) -> tuple[float, float]:
    """The plate's height by all feels of one place, in the printer's z, and its standard
    uncertainty (mm). What all places share, as the gauge's own error, is not part of it. Where
    only one side was felt, what was expected decides with it, and u tells that."""
    found = _solved(touches, z_step)
    if found.t is not None and found.u is not None:
        return -found.t, found.u
    grid, weight = _believed(touches, expected)
    mean = float(grid @ weight)
    return mean, max(float(np.sqrt(weight @ (grid - mean) ** 2)), HAND_MM)


def _solved(touches: Sequence[GaugeTouch], z_step: float) -> GapEstimate:
    """As the gauge loop solves: its t is minus the height."""
    return solve_gap(
        GaugeLoop(
            0.0,
            tuple(touches),
            z_step,
            gauge_tolerance=0.0,
            probe_s_r=0.0,
            reference=0.0,
            hand_bias=0.0,
        )
    )


def next_feel(
    touches: Sequence[GaugeTouch],
    expected: Expected,
    clear_mm: float,
    z_step: float,
    gauges: Sequence[float] = GAUGES_MM,
) -> NextFeel | None:
    """The next question; None where enough is known. The nozzle stays clear_mm above the highest
    that the plate can be though any one answer were a slip, so that a thick gauge asks where a thin
    one would come too near."""
    found = _solved(touches, z_step)
    if len(touches) >= MOST:
        return None
    grid, weight = _believed(touches, expected)
    mean = float(grid @ weight)
    left = float(np.sqrt(weight @ (grid - mean) ** 2))
    said = sorted(t.z - t.gauge for t in touches if t.feel != "stuck")
    if len(touches) >= FEWEST and len(said) > 1 and found.t is not None and left <= LEFT_MM:
        return None
    wanted = float(np.interp(0.5, np.cumsum(weight), grid))
    high = min([expected.high, *said[1:2]])
    thick = [g for g in sorted(gauges) if wanted + g >= high + clear_mm]
    best = [g for g in thick if g >= FELT_BEST_MM] or thick
    gauge = best[0] if best else max(gauges)
    z = max(wanted + gauge, high + clear_mm)
    return NextFeel(float(round(np.ceil(z / z_step - 1e-9) * z_step, 6)), gauge)


def _believed(touches: Sequence[GaugeTouch], expected: Expected) -> tuple[Floats, Floats]:
    """Heights (n,) mm and their weights, summing to one."""
    from scipy.special import ndtr

    said = [t.z - t.gauge for t in touches]
    low = max(expected.low, min([expected.high, *said]) - 3.0) - 4 * HAND_MM
    high = max(expected.high, max(said, default=expected.high)) + 4 * HAND_MM
    grid = np.arange(low, high + _GRID_MM, _GRID_MM)
    weight = np.full(len(grid), 1.0 / len(grid))
    if expected.mean is not None:
        near = np.exp(-0.5 * ((grid - expected.mean) / expected.sd) ** 2)
        if near.sum() > 0:
            weight = DOUBT * weight + (1 - DOUBT) * near / near.sum()
    for touch, at in zip(touches, said, strict=True):
        above = ndtr((at - _GRIPS_MM - grid) / HAND_MM)
        below = ndtr((grid - at - _GRIPS_MM) / HAND_MM)
        chance: dict[FeelWord, Floats] = {
            "free": above, "stuck": below, "grips": np.maximum(1 - above - below, 0.0)
        }  # fmt: skip
        weight = weight * (chance[touch.feel] + 1e-9)
    return grid, weight / weight.sum()
