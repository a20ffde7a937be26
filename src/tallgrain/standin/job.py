"""Printing a first layer from an ISO 6983 program, and what a person sees of it afterwards."""

import math
import re
from dataclasses import dataclass, field
from typing import Any

import numpy as np

# How a line looks by what its layer lacks or has too much of (mm): the eye's own limits.
GOOD_MM, PLAIN_MM, EYE_MM = 0.03, 0.10, 0.012
MISTAKEN = 1e-4
LOOKS = ("scraping", "squashed", "good", "sits_on_top", "not_sticking")
RAPID_MM_S = 120.0
WORD = re.compile(r"([A-Za-z])\s*([-+]?(?:\d+\.?\d*|\.\d+))")


class ProgramError(ValueError):
    """The program can't be printed: where, and why."""


@dataclass(frozen=True)
class Move:
    """One straight move to a place (mm), with the material that is pushed along it (mm of it)."""

    x0: float
    y0: float
    x: float
    y: float
    z: float
    mm_per_s: float
    material: float


@dataclass(frozen=True)
class Laid:
    """A line that was laid: its move, the nozzle's true gap there, where it lies, and where it
    began."""

    move: Move
    gap: float
    x: float
    y: float
    start: tuple[float, float, float] = (0.0, 0.0, 0.0)


@dataclass
class Job:
    """A program under way or done."""

    moves: list[Move]
    layer_z: float
    laid: list[Laid] = field(default_factory=list)
    under_way: bool = True
    ended_why: str = ""
    part: Any = None  # how it came out, once it is measured

    @classmethod
    def read(cls, program: str, start: tuple[float, float, float]) -> "Job":
        """Straight moves in mm or inches, absolute or relative; comments in brackets."""
        here = {"X": start[0], "Y": start[1], "Z": start[2], "E": 0.0}
        scale, absolute, feed, motion = 1.0, True, 20.0, 0
        moves: list[Move] = []
        for number, line in enumerate(program.splitlines(), 1):
            words = [
                (a.upper(), float(v)) for a, v in WORD.findall(re.sub(r"\(.*?\)|;.*", "", line))
            ]
            for a, v in words:
                if a == "G":
                    motion = int(v) if v in (0, 1) else motion
                    scale = {20: 25.4, 21: 1.0}.get(int(v), scale)
                    absolute = {90: True, 91: False}.get(int(v), absolute)
                    if v in (2, 3):
                        raise ProgramError(f"line {number}: this printer knows no arcs")
                elif a == "F":
                    feed = v * scale / 60
            to = dict(here)
            for a, v in words:
                if a in here:
                    to[a] = v * scale + (0.0 if absolute else here[a])
            if to != here:
                pushed = max(to["E"] - here["E"], 0.0) if motion == 1 else 0.0
                speed = feed if motion == 1 else RAPID_MM_S
                moves.append(
                    Move(here["X"], here["Y"], to["X"], to["Y"], to["Z"], max(speed, 1.0), pushed)
                )
                here = to
        laying = [m for m in moves if m.material > 0]
        if not laying:
            raise ProgramError("it lays no material")
        return cls(moves, min(m.z for m in laying))

    def thick_at(self, x: float, y: float) -> float:
        """How thick the plastic lies at a place (mm)."""
        near = [
            laid
            for laid in self.laid
            if min(laid.move.x0, laid.move.x) - 0.5 <= x <= max(laid.move.x0, laid.move.x) + 0.5
            and abs(laid.y - y) < 0.5
        ]
        return max((max(laid.gap, 0.0) for laid in near), default=0.0)

    def look(self, chance: np.random.Generator) -> dict[str, Any]:
        """What a person sees on the plate: each line's width, and for each place a judgement."""
        places: list[list[Laid]] = []
        for laid in self.laid:
            near = places and math.hypot(laid.x - places[-1][-1].x, laid.y - places[-1][-1].y) < 30
            if near:
                places[-1].append(laid)
            else:
                places.append([laid])
        seen = []
        for lines in places:
            e = float(np.mean([laid.gap for laid in lines])) - self.layer_z
            e += float(chance.normal(0, EYE_MM))
            which = int(np.searchsorted([-PLAIN_MM, -GOOD_MM, GOOD_MM, PLAIN_MM], e))
            if chance.random() < MISTAKEN:
                which = int(chance.integers(len(LOOKS)))
            seen.append(
                {
                    "x": round(float(np.mean([laid.x for laid in lines])), 1),
                    "y": round(float(np.mean([laid.y for laid in lines])), 1),
                    "verdict": LOOKS[which],
                    "lines": [_seen(laid, chance) for laid in lines],
                }
            )
        return {"printing": self.under_way, "ended_why": self.ended_why, "places": seen}


def _seen(laid: Laid, chance: np.random.Generator) -> list[float]:
    """Start, end and width (mm) of a line on the plate, and how far it hangs loose (0 to 1)."""
    move = laid.move
    length = max(math.hypot(move.x - move.x0, move.y - move.y0), 0.1)
    area = move.material * math.pi * 1.75**2 / 4 / length
    round_mm = math.sqrt(4 * area / math.pi)
    gap = max(laid.gap, 0.01)
    # Pressed flat between plate and nozzle; round and loose where the nozzle does not press.
    wide = min(area / gap, 3 * round_mm) if gap < round_mm else round_mm
    loose = float(np.clip((gap - 0.65 * round_mm) / (0.5 * round_mm), 0, 1))
    wide += float(chance.normal(0, 0.01))
    return [round(v, 3) for v in (move.x0, move.y0, move.x, move.y, wide, loose)]
