"""Hollin Hay Orchard: the demo's printer and the year behind it.

The year is never typed in: make_season runs a stand-in through its story over the real link, with
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
from tallgrain.errors import JobError, LinkError
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.link.client import JsonRpcPrinter
from tallgrain.link.guard import Guard
from tallgrain.paths import ASSETS
from tallgrain.routines.events import BreakOff
from tallgrain.routines.survey import survey
from tallgrain.routines.warm import warm_up
from tallgrain.store.ledger import FILE_NAME, Ledger, MachineEvent

PRINTER = "Barley"
SEASON_ASSET = ASSETS / "demo" / "barley-season.sqlite.gz"
SEED = 17
BEGAN = datetime(2025, 11, 28, 17, 30, tzinfo=UTC)
DAYS = 358
SURVEYS = 34
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


STORY = (
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
)  # fmt: skip


def prepare(home: Path) -> None:
    """Put the year that ships into an empty demo folder; an existing ledger is left alone."""
    path = home / FILE_NAME
    if path.exists() or not SEASON_ASSET.is_file():
        return
    home.mkdir(parents=True, exist_ok=True)
    partial = path.with_suffix(".partial")
    partial.write_bytes(gzip.decompress(SEASON_ASSET.read_bytes()))
    partial.replace(path)


def make_season(home: Path) -> Iterator[str]:
    """Run the story into a new ledger in a folder; yields a line for each survey.

    Raises JobError where a ledger is there already: it might hold somebody's work.
    """
    if (home / FILE_NAME).exists():
        raise JobError("there is a ledger already.", str(home / FILE_NAME), "Move it away first.")
    text = shipped_sheet_text(PRINTER)
    assert text is not None
    command = [
        sys.executable, "-m", "tallgrain", "standin", "--machine", PRINTER, "--with-parent",
        "--pace", "instant", "--seed", str(SEED),
    ]  # fmt: skip
    with (
        subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as standin,
        Ledger.open(home, "The demo's story") as ledger,
    ):
        assert standin.stdout is not None
        link, hands = (standin.stdout.readline().split()[1] for _ in range(2))
        ledger.put_machine(PRINTER, text, BEGAN)
        try:
            yield from _live_through(ledger, link, hands)
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
    """A survey: when, on which sheet, warm or cold, how long soaked."""

    at: datetime
    sheet: str
    cold: bool
    soak_min: float


def story() -> Iterator[Act | Happening | Evening]:
    """The year in order. Chance is drawn from one fixed seed; a twelfth of the evenings stay cold
    and a few more use the other sheet, but never the last one."""
    chance = np.random.default_rng(SEED)
    days = np.sort(chance.choice(np.arange(2, DAYS), SURVEYS, replace=False))
    turns = list(STORY)
    today = 0
    for day in days:
        while turns and turns[0].day <= day:
            turn = turns.pop(0)
            yield Act("hands.days", {"days": float(turn.day - today)})
            today = turn.day
            yield Act(turn.method, turn.params)
            at = BEGAN + timedelta(days=today)
            yield Happening(MachineEvent(PRINTER, at, turn.kind, turn.note, turn.stale))
        yield Act("hands.days", {"days": float(day - today)})
        today = int(day)
        at = BEGAN + timedelta(days=today, minutes=float(chance.integers(-200, 240)))
        usual = float(chance.random()) if day != days[-1] else 1.0
        sheet = "textured" if 0.08 <= usual < 0.22 else "smooth"
        yield Act("hands.sheet", {"name": sheet})
        cold = usual < 0.08
        yield Evening(at, sheet, cold, 0.0 if cold else float(chance.integers(10, 16)))


def catch_up(hands: str) -> None:
    """Bring a stand-in that was just started to where the story ends, without the surveys."""
    for part in story():
        if isinstance(part, Act) and part.method != "hands.power":
            at_hands(hands, part.method, **part.params)


def _live_through(ledger: Ledger, link: str, hands: str) -> Iterator[str]:
    for part in story():
        if isinstance(part, Act):
            at_hands(hands, part.method, **part.params)
        elif isinstance(part, Happening):
            ledger.add_event(part.event)
        else:
            yield _one_survey(ledger, link, hands, part)


def _one_survey(ledger: Ledger, link: str, hands: str, evening: Evening) -> str:
    """A builder's evening: power on, look, warm up, soak, survey."""
    at_hands(hands, "hands.power")
    printer = JsonRpcPrinter(link, "The demo's story")
    text = ledger.machine_text(PRINTER)
    assert text is not None
    sheet = parse_sheet(text, PRINTER)
    try:
        guard = Guard(printer, sheet)
        guard.see_clearance(at_hands(hands, "hands.ruler")["clearance_mm"])
        token = BreakOff()
        nozzle_c, plate_c = (None, None) if evening.cold else (170.0, 70.0)
        for _ in warm_up(guard, nozzle_c, plate_c, evening.soak_min, token):
            pass
        *_, end = survey(
            guard, ledger, grid_plan(sheet, 9, 9, 2), lambda: evening.at, token,
            sheet=evening.sheet, soak_min=evening.soak_min or None,
        )  # fmt: skip
        printer.heat(0.0, 0.0)
    finally:
        printer.close()
    return f"{evening.at:%Y-%m-%d} survey {end.ident}: {end.points} points, {evening.sheet} sheet"


def at_hands(hands: str, method: str, **params: Any) -> Any:
    """Do one thing that a person would do at the stand-in; what came of it. Raises LinkError."""
    host, port = hands.removeprefix("tcp://").rsplit(":", 1)
    request = {"jsonrpc": "2.0", "id": 1, "method": method, "params": params}
    try:
        with closing(socket.create_connection((host, int(port)), timeout=20)) as wire:
            wire.sendall(json.dumps(request).encode() + b"\n")
            with wire.makefile() as lines:
                return json.loads(lines.readline()).get("result")
    except (OSError, ValueError) as error:
        raise LinkError(
            f"the stand-in's hands do not answer ({error}).", "demo", "Start the demo again."
        ) from None
