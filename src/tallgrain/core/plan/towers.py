"""Where to touch for a delta's towers: the places that tell most about what is to be solved.

A few places are spread evenly, so that a plate's own shape shows too. The others are D-optimal:
greedily, the point that raises the determinant of the information most, no two close together, then
exchanges of one point against another for as long as that gains anything.
"""

from collections.abc import Sequence

import numpy as np

from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Dropped, Plan
from tallgrain.core.plan.order import in_order
from tallgrain.core.solve.delta_geometry import DEFAULT_FREE, DeltaGeometry, height_slopes
from tallgrain.core.survey import Floats
from tallgrain.errors import InputError

COUNT = 20
MOST = 200
# Candidates lie on rings, so many places on the outermost.
RINGS, ON_OUTER = 8, 48
EXCHANGES = 60
# So many beside the datum lie evenly half way out, whatever is solved for.
EVEN_SHARE, HALF_WAY = 0.3, 0.55


def towers_plan(
    sheet: MachineSheet,
    geometry: DeltaGeometry,
    count: int = COUNT,
    free: Sequence[str] = DEFAULT_FREE,
    samples: int = 2,
) -> Plan:
    """So many places over the reach, the datum first, for the parameters that are free.

    Places that the nozzle or the rods can't reach are dropped with the reason. Raises InputError
    where too few are left, or the sheet is no delta.
    """
    if sheet.kinematics != "delta":
        raise InputError(
            "a plan for towers needs a delta.", f"sheet of {sheet.name}", "Plan a grid instead."
        )
    if not 4 <= count <= MOST:
        raise InputError(
            f"{count} points can't be planned.", "--count", f"Give a grid of 4 to {MOST} in all."
        )
    points, dropped = candidates(sheet, geometry)
    if len(points) < count:
        raise InputError(
            f"only {len(points)} places are within reach, {count} were asked for.",
            f"sheet of {sheet.name}",
            "Ask for fewer, or check travel, plate and rods.",
        )
    rows = height_slopes(geometry, points, free)
    rows = rows / np.maximum(np.abs(rows).max(axis=0), 1e-12)
    chosen = _best(points, rows, count)
    ordered = in_order(points[chosen], np.array(sheet.plate.datum_point))
    return Plan("towers", ordered, dropped, None, samples)


def candidates(sheet: MachineSheet, geometry: DeltaGeometry) -> tuple[Floats, tuple[Dropped, ...]]:
    """Places on rings about the middle of the reach (n, 2) mm, and those that can't be touched."""
    reach = Reach(sheet)
    x, y = sheet.plate.outline.middle
    box = reach.surface.box
    most = min(box.width, box.depth) / 2
    made = [sheet.plate.datum_point]
    for ring in range(1, RINGS + 1):
        away = most * ring / RINGS * (1 - 1e-9)
        turn = np.arange(0, 2 * np.pi, 2 * np.pi / max(round(ON_OUTER * ring / RINGS), 6))
        made += [(x + away * np.cos(a), y + away * np.sin(a)) for a in turn]
    points = np.round(np.array(made), 3) + 0.0  # no minus zero
    why = list(reach.refusals(points))
    offset = np.array(sheet.probe.offset)
    feet, rods = geometry.feet(), geometry.rods()
    nozzle = points - offset
    short = ((nozzle[:, None] - feet) ** 2).sum(axis=2) >= (0.98 * rods) ** 2
    why = [
        w or ("the rods don't reach" if s.any() else "") for w, s in zip(why, short, strict=True)
    ]
    kept = np.array([not w for w in why])
    dropped = tuple(
        Dropped(float(p[0]), float(p[1]), w) for p, w in zip(points, why, strict=True) if w
    )
    return points[kept], dropped


def _best(points: Floats, rows: Floats, count: int) -> list[int]:
    """Indices of the points with the most information, at least a fair share of space apart."""
    spread = float(np.ptp(points, axis=0).min())
    apart = 0.5 * spread / np.sqrt(count)
    away = np.hypot(*(points[:, None] - points[None]).transpose(2, 0, 1))
    chosen = [0]
    ring = max(round(EVEN_SHARE * count), 2)
    for turn in np.linspace(0, 2 * np.pi, ring, endpoint=False) + np.pi / 2:
        wanted = points[0] + HALF_WAY * spread / 2 * np.array([np.cos(turn), np.sin(turn)])
        near = int(np.hypot(*(points - wanted).T).argmin())
        if near not in chosen:
            chosen.append(near)
    even = len(chosen)
    matrix = 1e-9 * np.eye(rows.shape[1]) + rows[chosen].T @ rows[chosen]
    while len(chosen) < count:
        gain = np.einsum("ij,jk,ik->i", rows, np.linalg.inv(matrix), rows)
        gain[(away[:, chosen].min(axis=1) < apart)] = -1.0
        gain[chosen] = -1.0
        if gain.max() < 0:
            apart *= 0.8
            continue
        best = int(gain.argmax())
        chosen.append(best)
        matrix += np.outer(rows[best], rows[best])
    return _exchanged(rows, away, apart, chosen, even)


def _exchanged(rows: Floats, away: Floats, apart: float, chosen: list[int], stay: int) -> list[int]:
    """Fedorov's exchange: one for one, the first ones stay."""
    for _ in range(EXCHANGES):
        whole = 1e-9 * np.eye(rows.shape[1]) + rows[chosen].T @ rows[chosen]
        inverse = np.linalg.inv(whole)
        cross = rows @ inverse @ rows[chosen].T
        own = np.einsum("ij,jk,ik->i", rows, inverse, rows)
        # det(new)/det(old) of taking one in (i) and another out (j).
        ratio = (1 + own)[:, None] * (1 - own[chosen])[None] + cross**2
        for j in range(len(chosen)):
            others = chosen[:j] + chosen[j + 1 :]
            near = away[:, others].min(axis=1) < apart
            ratio[near, j] = 0.0
        ratio[:, :stay] = 0.0
        i, j = divmod(int(ratio.argmax()), ratio.shape[1])
        if ratio[i, j] <= 1.0 + 1e-6:
            break
        chosen[j] = i
    return chosen
