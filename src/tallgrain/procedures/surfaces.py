"""The surfaces that a printer itself holds: written from a survey, used, kept, proven, given back.

Each write is entered before it is made and settled by what is read back, so that a link that breaks
in between tells no lie; window and command line do it by the same book.
"""

from collections.abc import Callable, Collection, Generator, Iterator
from dataclasses import dataclass, replace
from datetime import datetime

import numpy as np

from tallgrain.core.held.proof import Explained, Tried, bounds, explain, proof_places, right_way
from tallgrain.core.held.standing import SurfaceStanding, Written, standing
from tallgrain.core.held.surface import (
    Beyond,
    Costs,
    HeldSurface,
    Takes,
    costs,
    held_surface,
    resampled,
)
from tallgrain.core.machine.outline import Disc, Rectangle
from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.survey import Point, Survey
from tallgrain.errors import GuardRefused, InputError, JobError, TallGrainError
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import SURFACE_KEPT, WRITING, WRITTEN, SurfaceProven, SurfaceWritten
from tallgrain.link.guard.guard import Guard
from tallgrain.link.protocol import Held, Printer
from tallgrain.procedures.events import BreakOff, Event, Phase
from tallgrain.procedures.survey import conditions_of, make_safe
from tallgrain.store.ledger import Ledger

USUAL_NAME = "bed"
# A first layer that a stale surface spoils by less than this is no reason to do anything (mm).
MATTERS_MM = 0.03


@dataclass(frozen=True)
class AtSurfaces:
    """Where surfaces are handled: the guard, the ledger, a clock."""

    guard: Guard
    ledger: Ledger
    now: Callable[[], datetime]

    @property
    def journal(self) -> Journal:
        """Of the printer."""
        return Journal(self.ledger, self.guard.sheet.name, self.now)


def surface_name(sheet: str | None) -> str:
    """What a sheet's surface is called: the sheet's own name, where it has one."""
    words = "".join(c if c.isascii() and c.isalnum() else "-" for c in sheet or "").strip("-")
    return words[:24] or USUAL_NAME


def recalled_name(sheet: str | None, held: Collection[str]) -> str:
    """Which of the held ones prints on a sheet recall: its own, where it is held; else the usual
    one."""
    own = surface_name(sheet)
    return own if own in held or USUAL_NAME not in held else USUAL_NAME


def last_written(journal: Journal) -> dict[str, Written]:
    """What was last written under each name, by the journal."""
    found: dict[str, Written] = {}
    for entry in journal.read(SurfaceWritten):
        made = _written(entry.item, entry.figures, entry.at, entry.outcome)
        if made is not None:
            found[entry.item] = made
    return found


def _written(name: str, f: SurfaceWritten, at: datetime, outcome: str) -> Written | None:
    try:
        table = np.array(f.heights).reshape(f.rows, f.columns)
        surface = held_surface(name, (f.box[0], f.box[1], f.box[2], f.box[3]), table, "journal")
    except (ValueError, TallGrainError):
        return None
    return Written(at, surface, f.survey, outcome, f.boot, f.sheet, f.turned)


def surfaces_now(printer: Printer, journal: Journal) -> tuple[Held, list[SurfaceStanding]]:
    """What the printer holds and how each name stands; what that settles is entered: a write that
    broke, a surface that a power-on proved. Raises what the link raises."""
    told = printer.surfaces()
    written = last_written(journal)
    boot, step = printer.identity.boot, told.takes.step_mm
    found = []
    for name in dict.fromkeys([*(h.name for h in told.heads), *written]):
        head, last = told.head(name), written.get(name)
        if head is None and (last is None or last.outcome == "forgotten"):
            continue
        held, trouble = None, ""
        if head is not None:
            try:
                held = printer.read_surface(name)
            except InputError as error:
                trouble = error.what
        state = standing(name, held, head.kept if head else None, last, boot, step)
        found.append(
            SurfaceStanding(name, state, held, last, name == told.using and bool(name), trouble)
        )
        if last is not None and last.outcome == WRITING and state != "half written":
            _enter(journal, last, WRITTEN)
        elif last is not None and state == "kept, proven" and last.outcome != "kept, proven":
            _enter(journal, last, "kept, proven")
    return told, found


def _enter(journal: Journal, w: Written, outcome: str, why: str = "", boot: str = "") -> None:
    s, b = w.surface, w.surface.box
    record = SurfaceWritten(
        survey=w.survey,
        box=[b.x0, b.y0, b.x1, b.y1],
        columns=len(s.xs),
        rows=len(s.ys),
        heights=[round(float(h), 5) for h in s.heights.ravel()],
        sheet=w.sheet,
        boot=boot or w.boot,
        turned=w.turned,
    )
    journal.write(record, s.name, outcome, why)


def print_box(sheet: MachineSheet) -> Rectangle:
    """What a surface covers where nobody chose: the plate as far as it is printed on; of a round
    one the box around it."""
    outline = sheet.plate.outline
    if isinstance(outline, Disc):
        return outline.box
    reach = Reach(sheet).travelled
    box = outline.box
    return Rectangle(
        max(box.x0, reach.x0), max(box.y0, reach.y0), min(box.x1, reach.x1), min(box.y1, reach.y1)
    )


@dataclass(frozen=True)
class Proposed:
    """A survey on the printer's grid, and what that costs in the first layer."""

    surface: HeldSurface
    costs: Costs


def proposed(
    sheet: MachineSheet,
    survey: Survey,
    told: Held,
    name: str = USUAL_NAME,
    count: tuple[int, int] | None = None,
    box: Rectangle | None = None,
    beyond: Beyond = "extrapolated",
) -> Proposed:
    """What would be written. Raises InputError where it can't be."""
    made = surface_for(sheet, survey, told.takes, name, count, box, beyond)
    datum = sheet.plate.datum_point
    seen = survey.xy
    known = Rectangle(
        float(seen[:, 0].min()), float(seen[:, 1].min()),
        float(seen[:, 0].max()), float(seen[:, 1].max()),
    )  # fmt: skip
    return Proposed(made, costs(survey, made, datum, known, told.takes))


def surface_for(
    sheet: MachineSheet,
    survey: Survey,
    takes: Takes,
    name: str = USUAL_NAME,
    count: tuple[int, int] | None = None,
    box: Rectangle | None = None,
    beyond: Beyond = "extrapolated",
) -> HeldSurface:
    """A survey as it would be written. Raises InputError where it can't be."""
    grid = count or _usual_count(survey, (takes.columns, takes.rows))
    datum = sheet.plate.datum_point
    return resampled(survey, name, box or print_box(sheet), grid, datum, takes, beyond)


def _usual_count(survey: Survey, most: tuple[int, int]) -> tuple[int, int]:
    """The survey's own columns and rows; a fine one for points on no grid."""
    columns, rows = survey.shape or (9, 9)
    return max(min(columns, most[0]), 2), max(min(rows, most[1]), 2)


def write_surface(
    at: AtSurfaces, surface: HeldSurface, survey: Survey, why: str = "", turned: str = ""
) -> HeldSurface:
    """Store a surface in the printer, read it back; live until it is kept. turned: the mishap that
    it was turned for already. Raises JobError where it holds another one afterwards."""
    printer, journal = at.guard.printer, at.journal
    at.guard.trust.refuse_unproven()
    if printer.state().surface == surface.name:
        raise GuardRefused(
            f"the printer follows '{surface.name}' now.",
            "surface",
            "Let it follow none first; nothing was written.",
        )
    sheet = survey.conditions.sheet
    entry = Written(at.now(), surface, survey.ident, WRITING, sheet=sheet, turned=turned)
    _enter(journal, entry, WRITING, why)
    printer.write_surface(surface)
    step = printer.surfaces().takes.step_mm
    back = printer.read_surface(surface.name)
    if not back.same(surface, 1.01 * step):
        worst = float("nan")
        if back.heights.shape == surface.heights.shape:
            worst = float(np.abs(back.heights - surface.heights).max())
        _enter(journal, entry, "not written", f"read back otherwise, by {worst:.4f} mm")
        raise JobError(
            f"the printer holds another surface as '{surface.name}' than was written"
            + (f", by up to {worst:.3f} mm." if np.isfinite(worst) else "."),
            at.guard.printer.identity.name,
            "Nothing uses it. Look at how it takes surfaces, and write again.",
        )
    _enter(journal, entry, WRITTEN, why)
    return back


def keep_surfaces(at: AtSurfaces) -> None:
    """Make all of them survive power-off, and enter it."""
    printer, journal = at.guard.printer, at.journal
    printer.keep_surfaces()
    told, _ = surfaces_now(printer, journal)
    boot = printer.identity.boot
    heads = {head.name: head for head in told.heads}
    mine = {name: last for name, last in last_written(journal).items() if name in heads}
    lost = [name for name in mine if heads[name].kept is False]
    for name, last in mine.items():
        if name not in lost and last.outcome == WRITTEN:
            _enter(journal, last, SURFACE_KEPT, boot=boot)
    if lost:
        raise JobError(
            f"it was asked to keep its surfaces and tells that {', '.join(lost)} would still be "
            "lost at power-off.",
            printer.identity.name,
            "Look at how its console keeps them, and teach that line.",
        )


def use_surface(
    at: AtSurfaces, name: str, fades: tuple[float, float] | None = None
) -> HeldSurface | None:
    """Let the printer follow one of its surfaces from now on; "" for none. Needs its height."""
    if not name:
        at.guard.follow(None)
        return None
    held = at.guard.printer.read_surface(name)
    at.guard.follow(held, fades)
    return held


def habit_of(journal: Journal) -> str:
    """How this printer takes surfaces, by what touches said last: a mishap that turning mends."""
    for entry in reversed(journal.read(SurfaceWritten)):
        if entry.outcome in (WRITTEN, SURFACE_KEPT, "kept, proven"):
            return entry.figures.turned
    return ""


def mended(surface: HeldSurface, mishap: str) -> HeldSurface | None:
    """A surface as it has to be written for a printer with a habit; None where that mends
    nothing."""
    return right_way(surface, mishap)


def forget_surface(at: AtSurfaces, name: str) -> None:
    """Take one out of the printer; what was written stays in the ledger."""
    at.guard.printer.forget_surface(name)
    last = last_written(at.journal).get(name)
    if last is not None:
        _enter(at.journal, last, "forgotten")


def give_back(at: AtSurfaces) -> list[str]:
    """After a reflash: write again what was lost, and keep it; the names."""
    _, found = surfaces_now(at.guard.printer, at.journal)
    lost = [s for s in found if s.state in ("lost", "half written") and s.written is not None]
    for one in lost:
        assert one.written is not None
        _again(at, one.written, "given back")
    if lost:
        keep_surfaces(at)
    return [s.name for s in lost]


def take_back(at: AtSurfaces, name: str) -> bool:
    """The surface that was written under this name before the last one; whether there was one."""
    seen = [e for e in at.journal.read(SurfaceWritten) if e.item == name]
    made = [_written(name, e.figures, e.at, e.outcome) for e in seen]
    sums = [w for w in made if w is not None]
    older = [w for w in sums if sums and w.surface.sum != sums[-1].surface.sum]
    if not older:
        return False
    _again(at, older[-1], "taken back")
    return True


def _again(at: AtSurfaces, w: Written, why: str) -> None:
    survey = at.ledger.survey(w.survey) if w.survey.isdecimal() else None
    if survey is not None:
        write_surface(at, w.surface, survey, why, w.turned)
        return
    entry = replace(w, at=at.now(), boot="")
    _enter(at.journal, entry, WRITING, why)
    at.guard.printer.write_surface(w.surface)
    _enter(at.journal, entry, WRITTEN, why)


@dataclass(frozen=True)
class SurfaceTried:
    """What the touches said: the surface, the explanation, and the touches themselves."""

    surface: HeldSurface
    explained: Explained
    tried: Tried


def prove_surface(
    at: AtSurfaces, name: str, survey: Survey, break_off: BreakOff, s_r: float | None = None
) -> Iterator[Event | SurfaceTried]:
    """Touch places between its nodes as they are, then with the surface in use; says whether it is
    the one that was written, and enters that. It is in use afterwards only where it was right.

    Raises GuardRefused where the probe could be pressed too deep by a wrong one, and what the guard
    raises.
    """
    guard = at.guard
    sheet, printer = guard.sheet, guard.printer
    guard.need_probe()
    told = printer.surfaces()
    held = printer.read_surface(name)
    last = last_written(at.journal).get(name)
    meant = last.meant if last is not None else held
    reach, offset = Reach(sheet), sheet.probe.offset

    def allowed(xy: np.ndarray) -> np.ndarray:
        free = np.array([not r for r in reach.refusals(xy)], dtype=bool)
        spread = [np.ptp(bounds(held, x - offset[0], y - offset[1])) for x, y in xy]
        return free & (np.array(spread) <= guard.floors.spare_mm)

    places = proof_places(held, allowed)
    if len(places) < 6:
        raise GuardRefused(
            f"'{name}' is too far from level to be proven by touches: a wrong one would press the "
            "probe too deep.",
            "surface",
            "Level the bed first, then survey and write again.",
        )
    yield Phase("Finding the reference")
    guard.reference()
    zero = guard.zero_z()
    try:
        guard.extend()
        plain = yield from _touched(guard, places, break_off, "as it is", zero)
        yield Phase(f"Following {name}")
        guard.follow(held, told.fades)
        guard.extend()
        used = yield from _touched(guard, places, break_off, f"with {name}", zero)
        guard.follow(None)
    except TallGrainError:
        make_safe(guard)
        raise
    if len(plain) + len(used) < 2 * len(places):
        make_safe(guard)
        return  # broken off: nothing is said of it
    tried = Tried(places, np.array(plain), np.array(used), offset)
    faded = 1.0
    if told.fades is not None:
        full, gone = told.fades
        z = float(np.mean(used)) + zero
        faded = float(np.clip((gone - z) / (gone - full), 0.0, 1.0)) if z > full else 1.0
    known = sheet.probe.repeatability.s_r if s_r is None else s_r
    found = explain(meant, survey, tried, known, told.takes.method, faded)
    record = SurfaceProven(
        survey=survey.ident, left_mm=found.left_mm, better_by=min(found.better_by, 1e6),
        places=len(places),
    )  # fmt: skip
    outcome = "proven" if found.verdict == "as written" else found.verdict
    at.journal.write(record, name, outcome)
    if found.verdict == "as written":
        guard.follow(held, told.fades)
    make_safe(guard)
    yield SurfaceTried(held, found, tried)


def _touched(
    guard: Guard, places: np.ndarray, break_off: BreakOff, words: str, zero: float
) -> Generator[Event, None, list[float]]:
    heights: list[float] = []
    for number, (x, y) in enumerate(places.tolist()):
        if break_off.asked:
            break
        yield Phase(f"Touching {words}: {number + 1} of {len(places)}")
        heights.append(guard.touch_at(x, y) - zero)
    return heights


def as_survey(at: AtSurfaces, name: str, sheet: str | None = None) -> str:
    """What the printer holds under a name, as a survey of its own: another instrument's look at the
    same plate; its number. Heights are about the surface's own nought."""
    held = at.guard.printer.read_surface(name)
    x, y = np.meshgrid(held.xs, held.ys)
    flat = zip(x.ravel(), y.ravel(), held.heights.ravel(), strict=True)
    points = tuple(Point(float(a), float(b), round(float(h), 5)) for a, b, h in flat)
    state = at.guard.printer.state()
    rows, columns = held.heights.shape
    return at.ledger.add_survey(
        Survey(
            at.guard.sheet.name,
            "surface",
            at.now(),
            points,
            conditions_of(state, None, sheet),
            note=f"what the printer held as '{name}'",
            shape=(columns, rows),
        )
    )


def differs_from_bed(held: HeldSurface, survey: Survey, sheet: MachineSheet, told: Held) -> Costs:
    """How a held surface differs from the bed as it was last surveyed: in the first layer."""
    seen = survey.xy
    known = Rectangle(
        float(seen[:, 0].min()), float(seen[:, 1].min()),
        float(seen[:, 0].max()), float(seen[:, 1].max()),
    )  # fmt: skip
    return costs(survey, held, sheet.plate.datum_point, known, told.takes)
