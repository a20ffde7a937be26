"""What routines yield while they work, and the token that asks them to break off."""

import threading
from dataclasses import dataclass


class BreakOff:
    """A wish to end: finish this touch, raise, stop. Set from any thread."""

    def __init__(self) -> None:
        self._asked = threading.Event()

    def ask(self) -> None:
        """Ask for the end."""
        self._asked.set()

    @property
    def asked(self) -> bool:
        """Whether the end was asked for."""
        return self._asked.is_set()


@dataclass(frozen=True)
class Phase:
    """What the routine does now, in words, and how long a soak has yet (s; None: no soak)."""

    text: str
    soak_s: float | None = None


@dataclass(frozen=True)
class SurveyBegan:
    """A survey stands in the ledger; touches follow."""

    ident: str
    total: int
    left_s: float
    done: int = 0


@dataclass(frozen=True)
class Rejoined:
    """Old places were touched again: the survey goes on, or its rest is kept apart, and why."""

    ident: str
    joined: bool
    words: str


@dataclass(frozen=True)
class PointTouched:
    """A point is on disk. number counts from 0; mm."""

    number: int
    x: float
    y: float
    z: float
    touches: tuple[float, ...]
    left_s: float


@dataclass(frozen=True)
class SureSoFar:
    """How well the least known place is known (mm, 95 % of all plates), where that is, how many
    touches more that leaves (least, most), and whether it goes no further."""

    mm: float
    place: tuple[float, float]
    left: tuple[int, int]
    ended: bool


@dataclass(frozen=True)
class TouchTaken:
    """One touch of a series is on disk: place from 0, touch from 1, height in mm."""

    place: int
    touch: int
    z: float


@dataclass(frozen=True)
class TouchedAgain:
    """A point was touched again after so many; it reads so much higher now (mm)."""

    after: int
    place: int
    change: float


@dataclass(frozen=True)
class PointAgain:
    """A point that could not be believed was touched again: its height now (mm), how many of its
    touches are left out, and why it was looked at."""

    number: int
    x: float
    y: float
    z: float
    left_out: int
    why: str


@dataclass(frozen=True)
class LinkMended:
    """The link was lost and made again; the touch in question is repeated."""

    why: str


@dataclass(frozen=True)
class SurveyEnded:
    """A survey's end: complete, or broken off and why."""

    ident: str
    complete: bool
    points: int
    why: str


@dataclass(frozen=True)
class Happened:
    """Something about the printer is another thing now: an event stands in the ledger."""

    kind: str
    number: int


Event = (
    Phase
    | Happened
    | SurveyBegan
    | Rejoined
    | TouchTaken
    | PointTouched
    | SureSoFar
    | TouchedAgain
    | PointAgain
    | LinkMended
    | SurveyEnded
)
