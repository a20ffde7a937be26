"""Which stored survey is the one to recall, by a quick check of a few touches?"""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from tallgrain.core.drift.resample import resampled
from tallgrain.core.drift.season import SeasonRows, like
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.moments import RANK_TOLERANCE
from tallgrain.core.survey import Conditions, Floats
from tallgrain.errors import InputError

LEAST, MOST = 4, 100
# A recalled survey is good where it is off by no more than this share of the first layer's half
# window at the worst touch, beyond what the touches themselves scatter (k = 2).
GOOD_SHARE = 0.5

Use = Literal["as it is", "with offset and tilt", "survey anew"]


@dataclass(frozen=True)
class Fit:
    """How one stored survey fits a check: touches that it has data for, what it is off by as it is
    and with offset and tilt taken out (mm, RMS and worst), that offset (mm, over the middle of the
    check; positive: the plate is nearer now) and tilt (mm over the check), whether it was made in
    like conditions, and how it could be used."""

    index: int
    ident: str
    touches: int
    rms: float
    worst: float
    offset: float
    tilt_x: float
    tilt_y: float
    rms_after: float
    worst_after: float
    alike: bool
    use: Use


def fits(
    rows: SeasonRows,
    sheet: MachineSheet,
    xy: Floats,
    heights: Floats,
    conditions: Conditions = Conditions(),
    s_r: float | None = None,
) -> tuple[Fit, ...]:
    """All whole stored surveys by how well they fit touches (n, 2), (n,) mm: the best first.

    Those made in like conditions come before the others. s_r: scatter of a touch (mm), the sheet's
    own where it is left out. Raises InputError for fewer than four touches or touches in a line.
    """
    _check(xy)
    scatter = sheet.probe.repeatability.s_r if s_r is None else s_r
    low, high = sheet.tolerance.first_layer_mm
    room = GOOD_SHARE * (high - low) / 2 + 2 * scatter
    read = resampled(rows, xy)
    about = (xy - xy.mean(axis=0)) / np.maximum(np.ptp(xy, axis=0), 1e-9)
    found = []
    for i, head in enumerate(rows.heads):
        here = np.isfinite(read[i])
        # A survey that has nothing at half of the touches says too little about them.
        if not head.complete or here.sum() < max(LEAST, len(xy) / 2) or not _spread(about[here]):
            continue
        off = heights[here] - read[i][here]
        matrix = np.column_stack([np.ones(here.sum()), about[here]])
        plane = np.linalg.lstsq(matrix, off, rcond=None)[0]
        left = off - matrix @ plane
        worst, after = float(np.abs(off).max()), float(np.abs(left).max())
        use: Use = "as it is" if worst <= room else "survey anew"
        if use == "survey anew" and after <= room:
            use = "with offset and tilt"
        spare = len(off) - 3
        found.append(
            Fit(
                i,
                head.ident,
                int(here.sum()),
                float(np.sqrt((off**2).mean())),
                worst,
                float(plane[0]),
                float(plane[1]),
                float(plane[2]),
                float(np.sqrt((left**2).sum() / spare)),
                after,
                like(head.conditions, conditions),
                use,
            )
        )
    uses = ("as it is", "with offset and tilt", "survey anew")
    found.sort(
        key=lambda f: (
            not f.alike,
            uses.index(f.use),
            f.rms if f.use == "as it is" else f.rms_after,
            -f.index,
        )
    )
    return tuple(found)


def told(found: Sequence[Fit]) -> str:
    """The answer in a sentence."""
    if not found:
        return "No stored survey covers these touches: survey anew."
    best = found[0]
    unlike = "" if best.alike else " It was made on another sheet or at another heat."
    few = "" if best.touches > 5 else " So few touches can't tell bumps: nine tell more."
    if best.use == "as it is":
        return (
            f"Recall survey {best.ident}: it is off by {best.worst:.3f} mm at the worst of "
            f"{best.touches} touches.{unlike}{few}"
        )
    if best.use == "with offset and tilt":
        way = "nearer" if best.offset > 0 else "further away"
        return (
            f"Survey {best.ident} is right again with offset and tilt alone (the plate is "
            f"{abs(best.offset):.3f} mm {way}, and leans): {best.worst_after:.3f} mm at the worst "
            f"touch then, {best.worst:.3f} without.{unlike}{few}"
        )
    return (
        f"None fits: the best, survey {best.ident}, is off by {best.worst_after:.3f} mm even with "
        "offset and tilt taken out. Survey anew."
    )


def _spread(about: Floats) -> bool:
    singular = np.linalg.svd(about - about.mean(axis=0), compute_uv=False)
    return bool(singular[-1] > RANK_TOLERANCE * max(singular[0], 1e-9) and singular[-1] > 1e-3)


def _check(xy: Floats) -> None:
    if len(xy) < LEAST:
        raise InputError(
            f"{len(xy)} touches can't tell offset and tilt from shape.",
            "quick check",
            "Touch four places or more, not in one line; nine tell most.",
        )
    if len(xy) > MOST:
        raise InputError(
            f"{len(xy)} touches are a survey, no quick check.", "quick check", "Compare it instead."
        )
    if not _spread((xy - xy.mean(axis=0)) / np.maximum(np.ptp(xy, axis=0), 1e-9)):
        raise InputError("all touches lie in one line.", "quick check", "Touch beside it too.")
