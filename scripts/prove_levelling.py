"""Campaigns of levelling: by Z motors, by bed screws, and what ails a motor.

The forward model is the stand-in's own plate, which the solvers never see.
"""

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.optimize import minimize

from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.model.touches import plain_touches
from tallgrain.core.plan.grid import grid_plan
from tallgrain.core.plan.motors import check_moves
from tallgrain.core.plan.supports import supports_plan
from tallgrain.core.solve.adjusters import adjusters_of, solve_adjusters
from tallgrain.core.solve.influence import Gain, learned_gain
from tallgrain.core.solve.response import Diagnosis, Response, check_response
from tallgrain.core.solve.tilt import bounded, solve_tilt
from tallgrain.core.survey import Floats
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.standin.plate import Plate, Support
from tallgrain.standin.scenario import scenario_for

NOISE = 0.004
BARLEY = parse_sheet(shipped_sheet_text("Barley"), "barley.toml")
RYE = parse_sheet(shipped_sheet_text("Rye"), "rye.toml")
CORNERS = ((-20.0, -30.0), (370.0, -30.0), (370.0, 380.0), (-20.0, 380.0))
FAULTS = ("swapped", "reversed", "all reversed", "still", "lead", "place", "slack")
SIZES = (
    ("lead", "%", 100, (0.02, 0.05, 0.1, 0.2, 0.3)),
    ("place", "mm", 1, (5, 10, 20, 30, 40)),
    ("slack", "mm", 1, (0.01, 0.02, 0.04, 0.08, 0.12)),
)
PAIRS = (
    ("reversed", "lead"), ("swapped", "lead"), ("still", "slack"), ("lead", "place"),
    ("reversed", "place"), ("lead", "lead"), ("slack", "slack"), ("slack", "place"),
)  # fmt: skip


def four_supports(body: str) -> MachineSheet:
    """Barley's plate under a gantry on four Z motors."""
    supports = [
        {"name": f"corner {i + 1}", "at": at, "step_mm": 0.0025} for i, at in enumerate(CORNERS)
    ]
    data = {**BARLEY.model_dump(), "kinematics": "gantry_z", "body": body, "supports": supports}
    return MachineSheet.model_validate(data)


SHEETS = {
    "two motors, gantry (Rye)": RYE,
    "three motors, plate (Barley)": BARLEY,
    "four motors, stiff gantry": four_supports("rigid"),
    "four motors, soft gantry": four_supports("flexible"),
}


NEAR, MOVES = supports_plan(BARLEY).points, check_moves(BARLEY)


def plate_on(sheet: MachineSheet, chance: np.random.Generator, pushed: float) -> Plate:
    """A true plate: its shape, and its supports a little off their places and pushed."""
    box = sheet.plate.outline.box
    supports = [
        Support(s.name, *(np.array(s.at) + chance.normal(0, 1.5, 2)),
                float(chance.normal(0, pushed)), s.step_mm)
        for s in sheet.supports
    ]  # fmt: skip
    for support in supports:
        support._way = float(chance.choice([-1, 1]))
    bows = (*chance.normal(0, 0.05, 2), float(chance.normal(0, 0.02)))
    return Plate(
        box.x0, box.y0, box.width, box.depth, *bows, [], 0.01, 0.0, 7.0, supports, {}, "",
        gantry=sheet.kinematics == "gantry_z", flexible=sheet.body == "flexible",
    )  # fmt: skip


def touched(plate: Plate, xy: Floats, chance: np.random.Generator, samples: int) -> Floats:
    """Heights as a probe of 4 µm tells them."""
    plate.level()
    spread = NOISE / np.sqrt(samples)
    return np.asarray(plate.height(*xy.T) + chance.normal(0, spread, len(xy)))


@dataclass(frozen=True)
class Levelled:
    """One seed: corrections made until within three times the noise floor (99 for never), and the
    true spread of what the motors could still correct there."""

    seed: int
    corrections: int
    left: float


def levelling(sheet: MachineSheet, seeds: Sequence[int]) -> list[Levelled]:
    """The tilt loop from supports that are pushed by about 0.6 mm."""
    plan = supports_plan(sheet)
    found = []
    for seed in seeds:
        chance = np.random.default_rng([seed, 11])
        plate = plate_on(sheet, chance, 0.6)
        needed, left = 99, np.nan
        for number in range(4):
            solved = solve_tilt(
                sheet,
                plain_touches(plan.points, touched(plate, plan.points, chance, 2), True),
                "datum",
            )
            left = left_to_correct(sheet, plate)
            if left <= 3 * solved.noise:
                needed = number
                break
            limits = sheet.correction
            sent, _ = bounded(sheet, solved.raises, limits.most_mm, limits.apart_mm)
            for support, mm in zip(plate.supports, sent, strict=True):
                support.drive(float(mm))
        found.append(Levelled(seed, needed, left))
    return found


def left_to_correct(sheet: MachineSheet, plate: Plate) -> float:
    """Spread at the supports of the plane (and the twist, where four motors take it) through the
    true surface, all over what can be probed (mm); for two supports, along their line."""
    box = Reach(sheet).box
    xy = np.array([(x, y) for x in np.linspace(box.x0, box.x1, 15)
                   for y in np.linspace(box.y0, box.y1, 15)])  # fmt: skip
    plate.level()
    middle = np.array(box.middle)
    u, v = (xy - middle).T
    rows = np.column_stack([np.ones(len(xy)), u, v, *([u * v] if plate.flexible else [])])
    terms = np.linalg.lstsq(rows, plate.height(*xy.T), rcond=None)[0]
    at = np.array([s.at for s in sheet.supports]) - middle
    there = at @ terms[1:3]
    if plate.flexible:
        there = there + terms[3] * at.prod(axis=1)
    return float(np.ptp(there))


@dataclass(frozen=True)
class Screwed:
    """One seed: true FLTt left after so many rounds, and the least that any turning reaches."""

    seed: int
    left: tuple[float, ...]
    best: float


def screwing(seeds: Sequence[int]) -> list[Screwed]:
    """Four rounds on Rye's six screws, turned by a hand that is off by 2 degrees."""
    names, at = adjusters_of(RYE)
    xy = grid_plan(RYE, 6, 6).points
    found = []
    for seed in seeds:
        chance = np.random.default_rng([seed, 12])
        plate = scenario_for(RYE, seed).plate
        for screw in plate.adjusters:
            screw.raised += float(chance.normal(0, 0.12))
        best, gain, left = best_of_screws(plate, xy), None, []
        heights = touched(plate, xy, chance, 2)
        for _ in range(4):
            solved = solve_adjusters(
                RYE, plain_touches(xy, heights), gain=gain.value if gain else 1.0
            )
            raised = np.zeros(len(names))
            for i, (screw, turn) in enumerate(zip(plate.adjusters, solved.turns, strict=True)):
                if not turn.leave:
                    way = 1.0 if turn.direction == "clockwise" else -1.0
                    screw.turn(way * turn.turn_deg + float(chance.normal(0, 2.0)))
                    raised[i] = turn.raise_mm
            after = touched(plate, xy, chance, 2)
            learned: Gain | None = learned_gain(at, raised, xy, after - heights, NOISE)
            gain = learned.joined(gain) if learned is not None else gain
            heights = after
            left.append(spread_of(plate, xy))
        found.append(Screwed(seed, tuple(left), best))
    return found


def spread_of(plate: Plate, xy: Floats) -> float:
    """True FLTt about the least-squares plane (mm)."""
    plate.level()
    heights = plate.height(*xy.T)
    rows = np.column_stack([np.ones(len(xy)), xy])
    return float(np.ptp(heights - rows @ np.linalg.lstsq(rows, heights, rcond=None)[0]))


def best_of_screws(plate: Plate, xy: Floats) -> float:
    """The flattest that any turning of these screws could reach: by the truth's own answer to each
    screw, then downhill from there on the spread itself."""
    was = [s.raised for s in plate.adjusters]

    def at(raises: Floats) -> Floats:
        for screw, up in zip(plate.adjusters, raises, strict=True):
            screw.raised = float(up)
        plate.level()
        return plate.height(*xy.T)

    n = len(was)
    base = at(np.zeros(n))
    shapes = np.column_stack([at(row) - base for row in np.eye(n)])
    rows = np.column_stack([np.ones(len(xy)), xy])
    flat = np.eye(len(xy)) - rows @ np.linalg.pinv(rows)

    def spread(raises: Floats) -> float:
        return float(np.ptp(flat @ (base + shapes @ raises)))

    start = -np.linalg.lstsq(np.column_stack([shapes, rows]), base, rcond=None)[0][:n]
    found = minimize(spread, start, method="Nelder-Mead", options={"maxiter": 1500, "xatol": 1e-5})
    at(np.array(was))
    return float(found.fun)


def ail(
    plate: Plate, faults: Sequence[str], chance: np.random.Generator, size: float | None = None
) -> tuple[list[int], set]:
    """Make motors ail in turn, places, leads and slack by a size if one is given; which support
    each motor drives, and who ails."""
    count = len(plate.supports)
    wiring, first, who = list(range(count)), int(chance.integers(count)), set()
    for turn, fault in enumerate(faults):
        i = (first + turn) % count
        mine = plate.supports[i]
        who.add(mine.name)
        if fault == "swapped":
            j = (i + 1) % count
            wiring[i], wiring[j] = wiring[j], wiring[i]
            who.add(plate.supports[j].name)
        elif fault == "all reversed":
            for support in plate.supports:
                support.gain = -1.0
                who.add(support.name)
        elif fault == "place":
            angle, away = chance.uniform(0, 2 * np.pi), size or chance.uniform(20, 60)
            mine.x += float(away * np.cos(angle))
            mine.y += float(away * np.sin(angle))
        elif fault == "slack":
            mine.slack = size or float(chance.uniform(0.08, 0.25))
        elif fault == "lead":
            mine.gain = 1 + size if size else float(chance.choice([0.5, 0.75, 4 / 3, 1.5, 2.0]))
        else:
            mine.gain = {"reversed": -1.0, "still": 0.0}[fault]
    return wiring, who


def checked(
    seed: int, faults: Sequence[str] = (), size: float | None = None
) -> tuple[Diagnosis, set]:
    """The check there and back on a plate whose motors ail; what it says, and who ails."""
    chance = np.random.default_rng([seed, 77])
    plate = plate_on(BARLEY, chance, 0.6)
    wiring, who = ail(plate, faults, chance, size)
    xy, moves = NEAR, MOVES

    def drive(raises: Floats) -> None:
        for motor, mm in enumerate(raises):
            plate.supports[wiring[motor]].drive(float(mm))

    drive(0.3 * np.sign(moves[0]))
    before, passes = touched(plate, xy, chance, 2), []
    for sent in moves:
        drive(sent)
        after = touched(plate, xy, chance, 2)
        passes.append(Response(sent, xy, after - before, NOISE, taken_up=True))
        before = after
    return check_response(BARLEY, passes), who


def named(fault: str, seeds: Sequence[int]) -> Iterator[tuple[int, str]]:
    """By seed: 'right', or what was said in place of it."""
    for seed in seeds:
        found, who = checked(seed, [fault])
        right = found.verdict == fault and set(found.ranked[0].who) == who
        wrong = found.verdict if found.verdict != fault else f"{fault} at another"
        yield seed, "right" if right else wrong


def share(part: int, whole: int) -> str:
    return f"{part} ({100 * part / whole:.1f} %)"


def levelling_text(seeds: range, checks: range) -> str:
    """The three campaigns in words, failures listed."""
    lines = [
        f"\n## Levelling by Z motors, {len(seeds)} seeds\n\nSupports pushed by about 0.6 mm and "
        "1.5 mm off their places, a probe of 4 µm, 3 × 3 points and one near each support, two "
        "touches each. Good: what the motors can still correct is within three times the probe's "
        "noise floor.\n\n| printer | good after at most 1 | 2 | 3 corrections | not at seeds |\n"
        "|---|---|---|---|---|\n"
    ]
    for name, sheet in SHEETS.items():
        told = levelling(sheet, seeds)
        counts = [share(sum(t.corrections <= n for t in told), len(told)) for n in (1, 2, 3)]
        late = ", ".join(str(t.seed) for t in told if t.corrections > 3) or "none"
        lines.append(f"| {name} | {' | '.join(counts)} | {late} |\n")
    told = screwing(seeds)
    lines.append(
        f"\n## Six bed screws, {len(seeds)} seeds\n\nRye's screws about 0.12 mm off, "
        "6 × 6 points touched twice by a probe of 4 µm, turned by a hand "
        "that is off by 2 degrees; the least that any turning reaches is found on the truth.\n\n"
        "| after round | FLTt at most 1.15 times the least | within tolerance "
        f"({RYE.tolerance.flatness_mm} mm) | median ratio | worst |\n|---|---|---|---|---|\n"
    )
    for round_ in range(4):
        ratios = sorted(t.left[round_] / t.best for t in told)
        good = share(sum(r <= 1.15 for r in ratios), len(told))
        within = share(sum(t.left[round_] <= RYE.tolerance.flatness_mm for t in told), len(told))
        lines.append(f"| {round_ + 1} | {good} | {within} | {ratios[len(ratios) // 2]:.3f} | "
                     f"{ratios[-1]:.2f} |\n")  # fmt: skip
    far = [f"{t.seed} ({t.left[-1] / t.best:.2f})" for t in told if t.left[-1] > 1.15 * t.best]
    lines.append(f"\nBeyond 1.15 after four rounds: {', '.join(far) or 'none'}.\n")
    lines.append(
        f"\n## What ails a motor, {len(checks)} seeds\n\nBarley's motors moved there and back (two "
        "passes). Places are off by 20 to 60 mm, leads by a quarter to twice, slack is 0.08 to "
        "0.25 mm.\n\n| fault | named first | wrong at seeds |\n|---|---|---|\n"
    )
    for fault in FAULTS:
        answers = dict(named(fault, checks))
        right = sum(a == "right" for a in answers.values())
        wrong = ", ".join(f"{s} {a}" for s, a in answers.items() if a != "right") or "none"
        lines.append(f"| {fault} | {share(right, len(answers))} | {wrong} |\n")
    healthy = {seed: checked(seed)[0].verdict for seed in checks}
    fine = share(sum(v == "healthy" for v in healthy.values()), len(checks))
    accused = ", ".join(f"{s} {v}" for s, v in healthy.items() if v != "healthy") or "nobody"
    lines.append(f"\nHealthy motors: {fine} accuse nobody; accused: {accused}.\n")
    lines.append("\n| pair of faults | unknown | answers |\n|---|---|---|\n")
    for pair in PAIRS:
        answers = Counter(checked(seed, pair)[0].verdict for seed in checks)
        told = ", ".join(f"{verdict} {n}" for verdict, n in answers.most_common())
        lines.append(
            f"| {' and '.join(pair)} | {share(answers['unknown'], len(checks))} | {told} |\n"
        )
    lines.append(
        "\nBy the size of a fault, of 100: how often the check finds that something ails, and "
        "how often it names what.\n"
    )
    for fault, unit, scale, sizes in SIZES:
        told = [f"{scale * size:g} {unit}" for size in sizes]
        lines.append(f"\n| {fault} | {' | '.join(told)} |\n|---{'|---' * len(sizes)}|\n")
        rows: dict[str, list[str]] = {"found": [], "named": []}
        for size in sizes:
            answers = [checked(seed, [fault], size)[0].verdict for seed in checks]
            for name, count in (("found", sum(a != "healthy" for a in answers)),
                                ("named", sum(a == fault for a in answers))):  # fmt: skip
                rows[name].append(f"{100 * count / len(checks):.0f}")
        lines += [f"| {name} | {' | '.join(cells)} |\n" for name, cells in rows.items()]
    return "".join(lines)
