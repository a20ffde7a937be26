"""What was shown of a nozzle whose height is not known, by whom, and how far down that allows.

A person's saying may be wrong by a constant of any size, by a factor, or as a whole, and a thing
that fits is as doubtful as a ruler's reading. No figure bounds that. So nothing goes down from an
unknown height but a way that the probe (or z's switch) can end, after a finger showed in this
power-on that it is alive; sayings only say how far such a way may go at the most. It takes two from
different heights that agree, and the lowest of them counts. Where nothing can end a way (a switch
of z that is above) the sayings allow half of what they claim, BLIND_MM at the most, and under
READING_MM only where something thicker was said not to fit; far above the plate more, where the
printer's own z says the same.
"""

from dataclasses import dataclass, replace
from typing import Any

from tallgrain.errors import GuardRefused

# A ruler is not believed nearer than this, a thing that fits is not from further (mm).
READING_MM = 25.0
CHECK_UP_MM = 10.0
# How far two sayings may be apart that mean the same height, and how far apart the heights are
# that they are said from (mm).
AGREE_MM, OTHER_HEIGHT_MM = 2.0, 4.0
# A careful reading may be off by so much (mm).
RULER_MM = 1.0
MOST_MM, LEAST_FIT_MM, LEAST_WAY_MM = 500.0, 0.05, 0.1
# Where two who can't have it from each other say the same to so much, a way that nothing can end
# leads to this height (mm).
OTHERS_AGREE_MM, FAR_MM = 10.0, 30.0
# The longest other way that nothing can end; what does not fit is so little thicker than what does.
BLIND_MM, BRACKET, BRACKET_MM = 5.0, 1.3, 0.5


@dataclass(frozen=True)
class Look:
    """What was said (mm) while the printer's own z, whatever it means, stood at z."""

    z: float
    mm: float
    fits: bool

    def now(self, z: float) -> float:
        """How high that puts the nozzle at another z (mm)."""
        return self.mm + z - self.z

    def below(self, z: float) -> "Look":
        """The same saying after the nozzle came down to z without meeting the plate."""
        return replace(self, mm=max(self.mm, self.z - z))


@dataclass(frozen=True)
class Near:
    """The last way down of one kind of printer (mm): what fits so near has to lead to a trip; what
    is held back of what fits (less than nought: a nozzle that has to arrive); whether anything can
    end it, and whether a saying from further still allows only half, as a switch may sit too low
    to do that."""

    from_mm: float
    held_mm: float
    ends: bool = True
    halves: bool = False
    # How high the printer itself takes the nozzle to stand: somebody else's saying.
    own_mm: float | None = None


@dataclass(frozen=True)
class Step:
    """What the sayings allow: "up" by so much and another look; "ended" by the probe, no further
    down than that, where it is not sure that it trips, or "sure", where it has to; "down" by so
    much with nothing that ends it; "near": as near as looks bring it; "bracket": first something
    that does not fit."""

    kind: str
    mm: float = 0.0


class Evidence:
    """Sayings that agree so far, since trust was lost; `due`: the newest one was not used yet."""

    def __init__(self) -> None:
        self.seen: list[Look] = []
        self.due = False
        # Whether the newest was said to another program.
        self.recalled = False
        self._too_thick: Look | None = None

    def forget(self) -> None:
        """Begin anew."""
        self.seen, self.due, self._too_thick = [], False, None
        self.recalled = False

    @property
    def newest(self) -> Look:
        """The last one."""
        return self.seen[-1]

    @property
    def checked(self) -> bool:
        """Whether sayings come from two heights."""
        heights = [s.z for s in self.seen]
        return bool(heights) and max(heights) - min(heights) >= OTHER_HEIGHT_MM

    def wants_fit(self, z: float) -> bool:
        """Whether something that fits should be pushed under the nozzle for the next look."""
        seen = self.seen  # read once: the work's thread may begin anew meanwhile
        return bool(seen) and _room(seen, z) < READING_MM

    def wants_bracket(self, z: float) -> bool:
        """Whether nothing was said yet not to fit, near above what fits."""
        no = self._too_thick
        most = self.newest.now(z) * BRACKET + BRACKET_MM
        return no is None or no.now(z) > most

    def take(self, z: float, mm: float, fits: bool) -> None:
        """Take one more saying. Raises GuardRefused, all thrown away, where it disagrees; or none,
        where it can't be one at all."""
        _refuse_senseless(mm, fits)
        look = Look(z, mm, fits)
        # Said once more from where it stood: the newer one counts.
        before = [s for s in self.seen if abs(s.z - z) > LEAST_WAY_MM]
        wrong = _wrong(before, look)
        if wrong:
            self.forget()
            raise GuardRefused(
                f"{wrong}: both are thrown away.",
                "clearance",
                "Begin again with a look of which you are sure; it is checked from 10 mm higher.",
            )
        self.seen = [*before, look]
        self.due, self.recalled = True, False

    def does_not_fit(self, z: float, mm: float) -> None:
        """Something of that thickness does not fit. Raises GuardRefused, all looks thrown away,
        where they said that it must."""
        _refuse_senseless(min(mm, READING_MM), True)
        if any(mm < s.now(z) - (LEAST_WAY_MM if s.fits else AGREE_MM) for s in self.seen):
            self.forget()
            raise GuardRefused(
                f"what was seen before can't be so where {mm:g} mm do not fit: all looks are "
                "thrown away.",
                "clearance",
                "Raise the nozzle, and begin again with a look of which you are sure.",
            )
        self._too_thick = Look(z, mm, True)
        self.due = bool(self.seen)

    def step(self, z: float, near: Near) -> Step:
        """What the sayings allow with the nozzle at z."""
        if not self.checked:
            return Step("up", CHECK_UP_MM)
        room, fits = self.room(z), self.newest.fits
        close = fits and self.newest.now(z) <= near.from_mm
        if not near.ends and fits and self.wants_bracket(z):
            return Step("bracket")
        if near.ends:
            if near.halves and not close:
                return Step("ended", room / 2)
            way = room - (near.held_mm if fits else max(near.held_mm, RULER_MM))
            if way < LEAST_WAY_MM and not near.halves:
                return Step("up", CHECK_UP_MM)
            way = max(way, room / 2) if near.halves else way
            # Where an older saying allows less than the newest one, it need not reach the plate.
            whole = room >= self.newest.now(z) - LEAST_WAY_MM
            return Step("sure" if close and whole else "ended", way)
        way = min(room / 2, BLIND_MM)
        if near.own_mm is not None and abs(near.own_mm - room) <= OTHERS_AGREE_MM:
            way = max(way, min(near.own_mm, room) - FAR_MM)
        return Step("near" if close else "down", way)

    def room(self, z: float) -> float:
        """How high the nozzle stands at the least by all that was said (mm)."""
        return _room(self.seen, z)

    @property
    def heights(self) -> tuple[tuple[float, bool], ...]:
        """What was seen, in order (mm), and whether each is something that fits."""
        return tuple((s.mm, s.fits) for s in self.seen)

    # Kept beside the printer, because the next look may come from another program

    def told(self) -> list[list[float]]:
        """As figures."""
        return [[s.z, s.mm, float(s.fits)] for s in self.seen]

    def recall(self, told: Any, due: bool = False) -> None:
        """From figures that another program left; none where they make no sense."""
        self.forget()
        try:
            looks = [Look(float(z), float(mm), bool(fits)) for z, mm, fits in told]
        except (TypeError, ValueError):
            return
        if all(abs(s.z) < 1e5 and 0 < s.mm <= MOST_MM for s in looks):
            self.seen, self.due = looks, due and bool(looks)
            self.recalled = self.due


def _room(seen: list[Look], z: float) -> float:
    return min(s.now(z) + (0.0 if s.fits or not seen[-1].fits else RULER_MM) for s in seen)


def _wrong(before: list[Look], look: Look) -> str:
    """Why a saying can't be so beside those before it; "" where it can."""
    for seen in reversed(before):
        off = look.mm - seen.now(look.z)
        # A thing that fits may be thinner than the room; a reading is the room.
        less = not look.fits and off < -AGREE_MM
        more = not seen.fits and off > AGREE_MM
        if less or more:
            return (
                f"the nozzle moved by {look.z - seen.z:+.1f} mm between two looks, and they "
                f"differ by {look.mm - seen.mm:+.1f} mm"
            )
    return ""


def _refuse_senseless(mm: float, fits: bool) -> None:
    least, most = (LEAST_FIT_MM, READING_MM) if fits else (READING_MM, MOST_MM)
    if least <= mm <= most:
        return
    if not fits and 0 < mm < READING_MM:
        raise GuardRefused(
            f"a reading of {mm:g} mm is not taken: rulers are misread below {READING_MM:g} mm.",
            "clearance",
            "Push something of known thickness under the nozzle (a block, a coin, a gauge) and "
            "give the thickest that fits.",
        )
    if fits and mm > READING_MM:
        raise GuardRefused(
            f"{mm:g} mm is not taken as what fits: from {READING_MM:g} mm up a ruler tells more.",
            "clearance",
            "Read the ruler, and give the reading; or the thickest thing that fits, of "
            f"{READING_MM:g} mm at the most.",
        ).with_option("Run it again with --clearance-mm MM.")
    raise GuardRefused(
        f"a clearance of {mm:g} mm can't be used.",
        "clearance",
        f"Give {least:g} to {most:g} mm that you are sure of.",
    )
