"""Looks at a nozzle whose height is not known, and how far down they allow.

A look is a reading of a ruler, or the thickness of something that fits under the nozzle. Any one
of them may be wrong, and all readings by the same constant of up to CONSTANT_MM. So a first look
is checked by another from 10 mm higher; a reading allows at most half of its way, and never nearer
than that constant; near the plate only what fits counts, and two things have to say so.
"""

from dataclasses import dataclass
from typing import Any

from tallgrain.errors import GuardRefused

# Nearer than this a ruler is not believed (mm).
READING_MM = 25.0
# From here on something that fits is asked for, though a ruler is still taken.
ASK_FIT_MM = 40.0
CHECK_UP_MM = 10.0
AGREE_MM = 2.0
# All readings may be too large by so much, and what is held back beside that.
CONSTANT_MM, HELD_MM = 20.0, 2.0
# A careful reading may be too large by so much.
RULER_MM = 1.0
MOST_MM = 500.0
LEAST_FIT_MM = 0.05
LEAST_WAY_MM = 1.0


@dataclass(frozen=True)
class Look:
    """What was seen (mm) while the printer's own z, whatever it means, stood at z."""

    z: float
    mm: float
    fits: bool

    def now(self, z: float) -> float:
        """How high that puts the nozzle at another z, at the least (mm)."""
        return self.mm + z - self.z


@dataclass(frozen=True)
class Near:
    """The last way down of one kind of probe (mm): from how near it begins, how much is left before
    that, how far two looks may be apart, what is held back of what fits (less than nought: a nozzle
    that has to arrive), and how far a probe that is out may hang below the nozzle."""

    from_mm: float
    leave_mm: float
    apart_mm: float
    held_mm: float
    hangs_mm: float = 0.0


@dataclass(frozen=True)
class Step:
    """What a look allows: "up" or "down" by so much and then another look; "reference", or with a
    probe that is alive "live", no further down than that; "ask": only what fits tells more."""

    kind: str
    mm: float = 0.0


class Looks:
    """Looks that agree so far, since trust was lost; `due`: the newest one was not used yet."""

    def __init__(self) -> None:
        self.seen: list[Look] = []
        self.due = False

    def forget(self) -> None:
        """Begin anew."""
        self.seen, self.due = [], False

    @property
    def newest(self) -> Look:
        """The last one."""
        return self.seen[-1]

    @property
    def checked(self) -> bool:
        """Whether a first look was confirmed by a second one from another height."""
        return len(self.seen) > 1

    def wants_fit(self, z: float) -> bool:
        """Whether something that fits should be pushed under the nozzle for the next look."""
        return bool(self.seen) and self.least(z) < ASK_FIT_MM

    def take(self, z: float, mm: float, fits: bool) -> None:
        """Take one more look. Raises GuardRefused, all looks thrown away, where it disagrees; or
        none, where it can't be a look at all."""
        _refuse_senseless(mm, fits)
        wrong = self._wrong(Look(z, mm, fits))
        if wrong:
            self.forget()
            raise GuardRefused(
                f"{wrong}: both are thrown away.",
                "clearance",
                "Begin again with a look of which you are sure; it is checked from 10 mm higher.",
            )
        if self.due:
            self.seen.pop()  # typed once more before anything moved: the newer one counts
        self.seen.append(Look(z, mm, fits))
        self.due = True

    def does_not_fit(self, z: float, mm: float) -> None:
        """Something of that thickness does not fit. Raises GuardRefused, all looks thrown away,
        where they said that it must."""
        _refuse_senseless(mm, True)
        if self.seen and mm < min(s.now(z) for s in self.seen) - AGREE_MM:
            self.forget()
            raise GuardRefused(
                f"what was seen before can't be so where {mm:g} mm do not fit: all looks are "
                "thrown away.",
                "clearance",
                "Raise the nozzle, and begin again with a look of which you are sure.",
            )

    def _wrong(self, look: Look) -> str:
        seen = self.seen[:-1] if self.due else self.seen
        if not seen:
            return ""
        if len(seen) == 1 or not look.fits:
            same = [s for s in seen if s.fits == look.fits]
            before = (same or seen)[-1]
            off = look.mm - before.now(look.z)
            if abs(off) > AGREE_MM and (same or len(seen) == 1 or off < 0):
                return (
                    f"the nozzle moved by {look.z - before.z:+.1f} mm between two looks, and they "
                    f"differ by {look.mm - before.mm:+.1f} mm"
                )
        most = min((s.now(look.z) for s in seen if not s.fits), default=MOST_MM)
        if look.fits and look.mm > most + AGREE_MM:
            return f"{look.mm:g} mm can't fit where {most:.0f} mm were read"
        return ""

    def step(self, z: float, near: Near, live: bool) -> Step:
        """What the newest look allows; live: the probe was seen to trip by a finger."""
        if not self.checked:
            return Step("up", CHECK_UP_MM)
        least = self.least(z)
        if not self.newest.fits:
            if live:
                return Step("live", least - HELD_MM)
            way = min(least / 2, least - CONSTANT_MM - max(HELD_MM, near.hangs_mm))
            return Step("down", way) if way >= LEAST_WAY_MM else Step("ask")
        room = self.room(z)
        if self.newest.mm <= near.from_mm and self.newest.mm - room <= near.apart_mm:
            return Step("reference", room - near.held_mm)
        return Step("down", room - near.leave_mm if room > near.leave_mm + 0.5 else room / 2)

    def least(self, z: float) -> float:
        """How high the nozzle stands at the least, if no look but one is wrong (mm)."""
        return min(s.now(z) for s in self.seen)

    @property
    def heights(self) -> tuple[tuple[float, bool], ...]:
        """What was seen, in order (mm), and whether each is something that fits."""
        return tuple((s.mm, s.fits) for s in self.seen)

    def room(self, z: float) -> float:
        """How high it stands at the least by what fits, whichever single look is wrong (mm):
        no more than the largest thing that fits, and than two looks say."""
        fits = max(s.now(z) for s in self.seen if s.fits)
        claims = sorted(s.now(z) - (0.0 if s.fits else RULER_MM) for s in self.seen)
        return min(fits, claims[-2])

    def know(self, z: float, mm: float) -> None:
        """Begin from a room (mm) at a z that is known otherwise: it counts as two looks."""
        self.seen, self.due = [Look(z, mm, True)] * 2, False

    # Kept beside the printer, because the next look may come from another program

    def told(self) -> list[list[float]]:
        """As figures."""
        return [[s.z, s.mm, float(s.fits)] for s in self.seen]

    def recall(self, told: Any) -> None:
        """From figures that another program left; none where they make no sense."""
        self.forget()
        try:
            looks = [Look(float(z), float(mm), bool(fits)) for z, mm, fits in told]
        except (TypeError, ValueError):
            return
        if all(abs(s.z) < 1e5 and 0 < s.mm <= MOST_MM for s in looks):
            self.seen = looks


def _refuse_senseless(mm: float, fits: bool) -> None:
    least = LEAST_FIT_MM if fits else READING_MM
    if least <= mm <= MOST_MM:
        return
    if not fits and 0 < mm < READING_MM:
        raise GuardRefused(
            f"a reading of {mm:g} mm is not taken: rulers are misread below {READING_MM:g} mm.",
            "clearance",
            "Push something of known thickness under the nozzle (a block, a coin, a gauge) and "
            "give the thickest that fits.",
        )
    raise GuardRefused(
        f"a clearance of {mm:g} mm can't be used.",
        "clearance",
        f"Give {least:g} to {MOST_MM:g} mm that you are sure of.",
    )
