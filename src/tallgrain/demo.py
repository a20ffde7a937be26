"""Hollin Hay Orchard: the demo's three printers and the year behind each.

A year is never typed in: make_season runs a stand-in through its story over the real link, with
a power-on, a look with the ruler, heat and soak before each survey. What ships in assets/ was made
by this and can be made again.
"""

import gzip
import json
import socket
import subprocess
import sys
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np

from tallgrain.core.plan.grid import grid_plan
from tallgrain.core.solve.gap import solve_gap
from tallgrain.core.values import APPLIED, PROVEN
from tallgrain.errors import JobError, LinkError, LookAgain
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import GapSolved, ValueChanged
from tallgrain.link.client import JsonRpcPrinter
from tallgrain.link.guard.evidence import READING_MM
from tallgrain.link.guard.guard import Guard
from tallgrain.paths import ASSETS
from tallgrain.procedures.events import BreakOff, SurveyEnded
from tallgrain.procedures.finger import feel_probe
from tallgrain.procedures.gauge import gauge_loop
from tallgrain.procedures.looking import Quality
from tallgrain.procedures.survey import survey
from tallgrain.procedures.warm import warm_up
from tallgrain.store.entries import MachineEvent
from tallgrain.store.ledger import FILE_NAME, Ledger

SEASON_ASSET = ASSETS / "demo" / "season.sqlite.gz"
SEED = 17
BEGAN = datetime(2025, 11, 28, 17, 30, tzinfo=UTC)
DAYS = 358
STOVE_MM_PER_DAY = 0.00085


@dataclass(frozen=True)
class Turn:
    """A day on which something happened: what the hands did, and what it made stale."""

    day: int
    kind: str
    note: str
    method: str
    params: dict[str, Any]
    stale: tuple[str, ...]


@dataclass(frozen=True)
class Year:
    """One printer's year: its turns, how many surveys of which plan, how warm, on which sheets."""

    printer: str
    turns: tuple[Turn, ...]
    surveys: int
    count: int
    nozzle_c: float
    plate_c: float
    sheets: tuple[str, ...]


YEARS = (
    Year("Barley", (
        Turn(71, "new nozzle", "0.4 mm, hardened", "hands.nozzle", {}, ("Gap",)),
        Turn(
            156, "new sheet", "smooth, after the old one was scratched",
            "hands.sheet", {"name": "smooth"}, ("Surface", "Gap"),
        ),
        Turn(
            248, "moved", "next to the stove, for the press parts",
            "hands.move", {"warm_side_mm_per_day": STOVE_MM_PER_DAY},
            ("Tilt", "Surface", "Gap", "Skew"),
        ),
        Turn(
            301, "reflashed", "values typed in again from the ledger",
            "hands.power", {}, ("Gap", "Handover"),
        ),
    ), 34, 9, 170.0, 70.0, ("smooth", "textured")),
    Year("Rye", (
        Turn(
            64, "bed screws", "front-left up by a third of a turn",
            "hands.turn", {"name": "front-left", "clockwise_deg": -120.0}, ("Surface", "Gap"),
        ),
        Turn(133, "new nozzle", "0.6 mm, brass", "hands.nozzle", {}, ("Gap",)),
        Turn(
            205, "bed screws", "middle-left up, to close a gap at the spring: it made a saddle",
            "hands.turn", {"name": "middle-left", "clockwise_deg": -75.0}, ("Surface", "Gap"),
        ),
        Turn(
            291, "frame or wheels", "gantry wheels set without play",
            "hands.reseat", {}, ("Machine", "Tilt", "Surface", "Skew"),
        ),
    ), 29, 7, 170.0, 65.0, ("smooth",)),
    Year("Millet", (
        Turn(88, "new nozzle", "0.4 mm, brass", "hands.nozzle", {}, ("Gap",)),
        Turn(
            197, "moved", "to the packing room", "hands.move", {"warm_side_mm_per_day": 0.00012},
            ("Towers", "Surface", "Gap", "Skew"),
        ),
    ), 26, 7, 150.0, 60.0, ("glass",)),
)  # fmt: skip


def year_of(printer: str) -> Year | None:
    """A demo printer's year."""
    return next((year for year in YEARS if year.printer == printer), None)


def prepare(home: Path) -> None:
    """Put the year that ships into an empty demo folder; an existing ledger is left alone."""
    path = home / FILE_NAME
    if path.exists() or not SEASON_ASSET.is_file():
        return
    home.mkdir(parents=True, exist_ok=True)
    partial = path.with_suffix(".partial")
    partial.write_bytes(gzip.decompress(SEASON_ASSET.read_bytes()))
    partial.replace(path)


def make_season(home: Path, years: tuple[Year, ...] = YEARS) -> Iterator[str]:
    """Run the stories into a new ledger in a folder; yields a line for each survey.

    Raises JobError where a ledger is there already: it might hold somebody's work.
    """
    if (home / FILE_NAME).exists():
        raise JobError("there is a ledger already.", str(home / FILE_NAME), "Move it away first.")
    with Ledger.open(home, "The demo's story") as ledger:
        for year in years:
            put_sheet(ledger, year.printer)
        for year in years:
            yield from _one_year(ledger, year)


def put_sheet(ledger: Ledger, printer: str) -> None:
    """Store a demo printer's sheet where it is not there yet."""
    if ledger.machine_text(printer) is None:
        text = shipped_sheet_text(printer)
        assert text is not None
        ledger.put_machine(printer, text, BEGAN)


def _one_year(ledger: Ledger, year: Year) -> Iterator[str]:
    command = [
        sys.executable,
        "-m",
        "tallgrain",
        "standin",
        "--machine",
        year.printer,
        "--with-parent",
        "--pace",
        "instant",
        "--seed",
        str(SEED),
    ]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as standin:
        assert standin.stdout is not None
        link, hands = (standin.stdout.readline().split()[1] for _ in range(2))
        try:
            yield from _live_through(ledger, year, link, hands)
        finally:
            standin.terminate()


@dataclass(frozen=True)
class Act:
    """Something that the hands do at the stand-in."""

    method: str
    params: dict[str, Any]


@dataclass(frozen=True)
class Happening:
    """An event that the builder notes."""

    event: MachineEvent


@dataclass(frozen=True)
class Evening:
    """A survey: when, on which sheet, warm or cold, how long soaked; with a gauge afterwards."""

    at: datetime
    sheet: str
    cold: bool
    soak_min: float
    gauge: bool


def story(year: Year) -> Iterator[Act | Happening | Evening]:
    """A year in order. Chance is drawn from one fixed seed; a twelfth of the evenings stay cold
    and a few more use the other sheet, but never the last one."""
    chance = np.random.default_rng(SEED)  # the same evenings at every printer of the workshop
    whim = np.random.default_rng(SEED + 1)
    days = np.sort(chance.choice(np.arange(2, DAYS), year.surveys, replace=False))
    turns = list(year.turns)
    today, due = 0, True
    for day in days:
        while turns and turns[0].day <= day:
            turn = turns.pop(0)
            yield Act("hands.days", {"days": float(turn.day - today)})
            today = turn.day
            yield Act(turn.method, turn.params)
            due = due or "Gap" in turn.stale
            at = BEGAN + timedelta(days=today)
            yield Happening(MachineEvent(year.printer, at, turn.kind, turn.note, turn.stale))
        yield Act("hands.days", {"days": float(day - today)})
        today = int(day)
        at = BEGAN + timedelta(days=today, minutes=float(chance.integers(-200, 240)))
        usual = float(chance.random()) if day != days[-1] else 1.0
        sheet = year.sheets[-1] if 0.08 <= usual < 0.22 else year.sheets[0]
        yield Act("hands.sheet", {"name": sheet})
        cold = usual < 0.08
        soak = 0.0 if cold else float(chance.integers(10, 16))
        # The gap is felt after whatever made it doubtful, and now and then; not since the reflash.
        due = due or float(whim.random()) < 0.25
        gauged = due and not cold and turns_left_reflash(year, today)
        yield Evening(at, sheet, cold, soak, gauged)
        due = due and not gauged


def turns_left_reflash(year: Year, today: int) -> bool:
    """Whether the year's reflash is still to come, or there is none."""
    return all(turn.kind != "reflashed" or turn.day > today for turn in year.turns)


def catch_up(printer: str, link: str, hands: str, home: Path) -> None:
    """Bring a stand-in that was just started to where its year ends, without the surveys, and give
    it the values that it kept by the ledger in a folder."""
    year = year_of(printer)
    for part in story(year) if year else ():
        if isinstance(part, Act) and part.method != "hands.power":
            at_hands(hands, part.method, **part.params)
    if not (home / FILE_NAME).exists():
        return
    with Ledger.open(home, write=False) as ledger:
        changes = Journal(ledger, printer).read(ValueChanged)
        kept = {e.item: e.figures.after for e in changes if e.outcome.startswith("kept")}
    if kept:
        with closing(JsonRpcPrinter(link, "The demo's start")) as wire:
            for meaning, value in kept.items():
                wire.set_value(meaning, value)
            wire.keep_values()
        at_hands(hands, "hands.console")


def _live_through(ledger: Ledger, year: Year, link: str, hands: str) -> Iterator[str]:
    for part in story(year):
        if isinstance(part, Act):
            at_hands(hands, part.method, **part.params)
        elif isinstance(part, Happening):
            ledger.add_event(part.event)
        else:
            yield _one_evening(ledger, year, link, hands, part)


def _one_evening(ledger: Ledger, year: Year, link: str, hands: str, evening: Evening) -> str:
    """A builder's evening: power on, look, reference, warm up, soak, survey."""
    at_hands(hands, "hands.power")
    printer = JsonRpcPrinter(link, "The demo's story")
    text = ledger.machine_text(year.printer)
    assert text is not None
    sheet = parse_sheet(text, year.printer)
    try:
        guard = Guard(printer, sheet)
        find_height(guard, hands)
        token = BreakOff()
        nozzle_c, plate_c = (None, None) if evening.cold else (year.nozzle_c, year.plate_c)
        for _ in warm_up(guard, nozzle_c, plate_c, evening.soak_min, token):
            pass
        *_, end = survey(
            guard,
            ledger,
            grid_plan(sheet, year.count, year.count, 2),
            lambda: evening.at,
            token,
            sheet=evening.sheet,
            soak_min=evening.soak_min or None,
            quality=Quality(sheet.probe.repeatability.s_r),
        )
        assert isinstance(end, SurveyEnded)
        if evening.gauge:
            _gauge(ledger, guard, hands, evening)
        printer.heat(0.0, 0.0)
    finally:
        printer.close()
    return (
        f"{year.printer} {evening.at:%Y-%m-%d} survey {end.ident}: {end.points} points, "
        f"{evening.sheet} sheet"
    )


def _gauge(ledger: Ledger, guard: Guard, hands: str, evening: Evening) -> None:
    """The gap felt; applied and kept where it differs by more than the gauge can tell."""
    loop = gauge_loop(
        guard,
        lambda: at_hands(hands, "hands.ruler")["clearance_mm"],
        lambda thickness: at_hands(hands, "hands.gauge", thickness_mm=thickness)["feel"],
    )
    found = solve_gap(loop)
    if found.t is None or found.u is None:
        return
    printer, name = guard.printer, guard.sheet.name
    state = printer.state()

    journal = Journal(ledger, name, lambda: evening.at)
    heat: dict[str, Any] = {
        "sheet": evening.sheet,
        "nozzle_c": state.nozzle.aim_c,
        "plate_c": state.plate.aim_c,
        "soak_min": evening.soak_min,
    }
    solved = GapSolved(t=float(found.t), u=float(found.u), feels=len(loop.touches), **heat)
    journal.write(solved, "trip_height", "solved")
    t = round(found.t, 4)
    if abs(t - loop.t_set) > 2 * found.u:
        why = f"gauge, ± {2 * found.u:.3f} mm (k = 2)"
        guard.park()
        printer.set_value("trip_height", t)
        printer.keep_values()
        change = ValueChanged(before=loop.t_set, after=t, **heat)
        for outcome in (APPLIED, PROVEN):
            journal.write(change, "trip_height", outcome, why)


MOST_LOOKS = 12


def _finger(hands: str, words: str) -> None:
    """Whoever is asked to trip the probe does so."""
    at_hands(hands, "hands.probe", state="held" if "hold it" in words else "free")


def find_height(guard: Guard, hands: str) -> int:
    """Look, type, reference, as often as it is asked for: a ruler from far, things that fit from
    near; first a finger where the probe was not felt. How many looks it took. Raises what the
    reference raises at last."""
    if guard.trust.ended and not guard.trust.felt:
        feel_probe(guard, lambda words: _finger(hands, words))
    for look in range(1, MOST_LOOKS + 1):
        seen = at_hands(hands, "hands.ruler")["clearance_mm"]
        if seen < READING_MM or guard.wants_fit:
            guard.see_fit(min(at_hands(hands, "hands.stack")["clearance_mm"], READING_MM))
        else:
            guard.see_clearance(seen)
        try:
            guard.reference()
        except LookAgain:
            if look == MOST_LOOKS:
                raise
        else:
            return look
    return MOST_LOOKS


def at_hands(hands: str, method: str, **params: Any) -> Any:
    """Do one thing that a person would do at the stand-in; what came of it. Raises LinkError."""
    address, _, token = hands.partition("?token=")
    host, port = address.removeprefix("tcp://").rsplit(":", 1)
    request = {"jsonrpc": "2.0", "id": 1, "method": method, "params": params, "token": token}
    try:
        with closing(socket.create_connection((host, int(port)), timeout=20)) as wire:
            wire.sendall(json.dumps(request).encode() + b"\n")
            with wire.makefile() as lines:
                reply = json.loads(lines.readline())
                return reply.get("result", reply.get("error"))
    except (OSError, ValueError) as error:
        raise LinkError(
            f"the stand-in's hands do not answer ({error}).", "demo", "Start the demo again."
        ) from None
