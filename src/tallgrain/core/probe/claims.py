"""Where the probe is: what several sources claim, and why two of them differ.

An offset is the way from the nozzle tip to the sensing point, seen from above (mm).
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.survey import Floats
from tallgrain.errors import InputError

Pair = tuple[float, float]

# Where nothing better is known: a ruler in a builder's hand, and a mount's paper.
RULER_U_MM = 0.5
CLAIMED_U_MM = 0.5
# A claim from one placement of the nozzle is never believed to be better than this.
LEAST_U_MM = 0.05

SOURCES = ("measured", "mark and jog", "edge scan", "claimed")


@dataclass(frozen=True)
class Claim:
    """One source's offset (mm), with its standard uncertainty for each axis."""

    source: str
    offset: Pair
    u: Pair
    count: int = 1


# What may have happened on the way from one claim to the other, the more likely first.
_MISHAPS: tuple[tuple[str, tuple[Pair, Pair], str], ...] = (
    ("mirrored in x", ((-1, 0), (0, 1)), "left and right are exchanged in one of them"),
    ("mirrored in y", ((1, 0), (0, -1)), "front and rear are exchanged in one of them"),
    (
        "both signs reversed", ((-1, 0), (0, -1)),
        "one of them is the way from the probe to the nozzle, as some printers store it",
    ),
    ("x and y swapped", ((0, 1), (1, 0)), "x and y are exchanged in one of them"),
    (
        "x and y swapped, both signs reversed", ((0, -1), (-1, 0)),
        "x and y are exchanged and the signs reversed in one of them",
    ),
    (
        "turned a quarter to the left", ((0, -1), (1, 0)),
        "one of them was read from another side of the printer",
    ),
    (
        "turned a quarter to the right", ((0, 1), (-1, 0)),
        "one of them was read from another side of the printer",
    ),
)  # fmt: skip


@dataclass(frozen=True)
class Difference:
    """How two claims differ: the likely reason and how far apart they stay with it taken out."""

    reason: str
    sentence: str
    apart_mm: float
    left_mm: float


def difference(a: Claim, b: Claim) -> Difference:
    """Why claim b differs from claim a.

    Same: within 3 standard uncertainties on both axes. Else the mishap that brings b nearest to a
    within the same limit; where none does, they are plainly different.
    """
    one, other = np.array(a.offset), np.array(b.offset)
    u = np.maximum(np.hypot(a.u, b.u), LEAST_U_MM)
    apart = float(np.hypot(*(other - one)))
    if (np.abs(other - one) <= 3 * u).all():
        return Difference("same", "They agree.", apart, apart)
    best: tuple[float, str, str] | None = None
    for reason, turn, sentence in _MISHAPS:
        rest = np.array(turn) @ other - one
        if (np.abs(rest) <= 3 * u).all():
            size = float(np.hypot(*(rest / u)))
            # A tie (an offset on an axis mirrors in two ways) goes to the likelier mishap.
            if best is None or size < best[0] - 1e-9:
                best = size, reason, sentence
    if best is None:
        return Difference(
            "plainly different", f"They lie {apart:.1f} mm apart: measure again.", apart, apart
        )
    _, reason, sentence = best
    turn = next(t for name, t, _ in _MISHAPS if name == reason)
    left = float(np.hypot(*(np.array(turn) @ other - one)))
    return Difference(reason, f"{reason.capitalize()}: {sentence}.", apart, left)


def quadrant_offset(side_x: str, side_y: str, away_x: float, away_y: float) -> Pair:
    """The signed offset from the quadrant clicked (left or right, front or rear, seen from above)
    and two distances of zero or more. Raises InputError for a negative one."""
    for name, value in (("sideways", away_x), ("front to rear", away_y)):
        if not 0 <= value <= 300:
            raise InputError(
                f"a distance of {value:g} mm {name} can't be meant.",
                "offset",
                "Give what a ruler shows, 0 to 300 mm; the sides that you clicked give the signs.",
            )
    return (away_x if side_x == "right" else -away_x, away_y if side_y == "rear" else -away_y)


def side_words(offset: Pair) -> str:
    """Where the probe is, in words: '21.5 mm right of the nozzle and 17.0 mm in front of it'."""
    x, y = offset
    parts = []
    if abs(x) >= 0.05:
        parts.append(f"{abs(x):.1f} mm {'right' if x > 0 else 'left'} of the nozzle")
    if abs(y) >= 0.05:
        where = "behind" if y > 0 else "in front of"
        parts.append(f"{abs(y):.1f} mm {where} {'it' if parts else 'the nozzle'}")
    return " and ".join(parts) or "at the nozzle itself"


def mark_offset(touched: Sequence[Pair], placed: Sequence[Pair], prior_mm: float) -> Claim:
    """Mark and jog: the nozzle stood at touched[i] when the mark was made and at placed[i] over
    the mark, both (n, 2) mm.

    The offset is the mean of the differences; its uncertainty their scatter / √n, with few repeats
    supported by the prior spread of a hand as if that had been seen in four more.
    """
    if not len(placed):
        raise InputError("no mark was placed yet.", "mark and jog", "Place the nozzle over one.")
    away = np.asarray(placed, dtype=float) - np.asarray(touched, dtype=float)
    n = len(away)
    squares = ((away - away.mean(axis=0)) ** 2).sum(axis=0)
    s = np.sqrt((squares + 4 * prior_mm**2) / (n - 1 + 4))
    u = np.maximum(s / np.sqrt(n), LEAST_U_MM / 2)
    x, y = away.mean(axis=0)
    return Claim("mark and jog", (float(x), float(y)), (float(u[0]), float(u[1])), n)


def edge_centre(places: Floats, raised: np.ndarray) -> tuple[float, float]:
    """The middle of a raised strip along one axis from touches (n,) mm and which of them were on
    it; and how finely its two edges were found (half the larger bracket).

    Approaching both edges cancels how wide the sensing spot is. Raises InputError where both edges
    were not crossed.
    """
    order = np.argsort(places)
    at, on = np.asarray(places, dtype=float)[order], np.asarray(raised, dtype=bool)[order]
    if not on.any() or on[0] or on[-1]:
        raise InputError(
            "both edges of the strip must be crossed.",
            "edge scan",
            "Lay it across the scanned line, well inside its ends.",
        )
    first, last = np.flatnonzero(on)[[0, -1]]
    if not on[first : last + 1].all():
        raise InputError(
            "the touches do not show one strip with two edges.",
            "edge scan",
            "See that it lies flat and is pressed down, then scan again.",
        )
    left, right = (at[first - 1] + at[first]) / 2, (at[last] + at[last + 1]) / 2
    bracket = max(at[first] - at[first - 1], at[last + 1] - at[last])
    return float((left + right) / 2), float(bracket / 2)
