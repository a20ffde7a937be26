"""Every answer held against what was asked: where the printer stands after each motion.

A printer, or a console that was taught wrongly, may tell what is not so. Nothing further moves
after that, and what was told is not stored: NotAsAsked says what was asked and what was told.
"""

import time
from collections.abc import Callable
from dataclasses import replace

from tallgrain.errors import NotAsAsked
from tallgrain.link.guard.watchdog import Watchdog
from tallgrain.link.protocol import Place, Printer, PrinterState

# How far from where it was sent a printer may say that it stands (mm).
ARRIVES_MM = 0.1
# A lift that ends at the end of travel is told twice the same before it is believed.
STILL_S = 0.05
# A reference goes sideways first, for so long at the most (s).
SIDEWAYS_S = 20.0
# After these touches it is asked where it stands, though the next way would tell; a trip is told
# the same way after them as after the first ones, to so much (mm).
SPOTS, USUAL, SAME_TRIP_MM = (1, 2, 3, 5, 12, 25), 3, 0.03
# What was answered so lately is not asked again.
LATELY_S = 1.0


class Motions:
    """The motions of one printer, each answer checked. Raises NotAsAsked, and what the link raises.

    Places are nozzle positions in the printer's own coordinates (mm).
    """

    def __init__(self, printer: Printer) -> None:
        self.printer = printer
        # Raises where nothing but lifts may move; else how far it rose to find out (mm).
        self.before_down: Callable[[], float] = lambda: 0.0
        self.dog = Watchdog(printer)
        self._stood: PrinterState | None = None
        self._stood_at = 0.0
        # Touches so far, the one that was not raised from yet, and how far apart the lines of the
        # first ones were.
        self._touches = 0
        self._tripped: Place | None = None
        self._apart: list[float] = []

    def look(self) -> PrinterState:
        """Where it stands now, believed as it is told: a person or a print may have moved it."""
        return self._take(self.printer.state())

    def note(self, state: PrinterState) -> None:
        """A state that was told after something that may change its frame."""
        self._take(state)

    def newest(self, told: PrinterState | None) -> PrinterState:
        """The newer of what was told to the caller and what it answered last; asked where nothing
        was told."""
        known = [state for state in (self._stood, told) if state is not None]
        return self._take(max(known, key=lambda s: s.clock_s)) if told else self.look()

    def go(self, x: float, y: float, z: float, to_touch: bool = False) -> PrinterState:
        """Straight to a place; `to_touch`: a touch is made there next, and tells where it was."""
        self.before_down()
        before = self._leaving()
        state = self.printer.go(x, y, z, not to_touch)
        if state is None:
            return self._take(replace(before, position=Place(x, y, z)))
        self._same_frame(before, state)
        self._near("go there", Place(x, y, z), state.position)
        return self._take(state)

    def lift(self, mm: float, to_the_end: bool = False, to_touch: bool = False) -> PrinterState:
        """Away from the plate; `to_the_end`: the end of travel may come first; `to_touch`: the next
        motion is a touch at this place, and tells where it was."""
        was = self._leaving()
        before = was.position
        tripped, self._tripped = self._tripped, None
        spot = tripped is not None and self._touches in SPOTS
        state = self.printer.lift(mm, to_the_end or not to_touch or spot)
        if state is None:
            return self._take(replace(was, position=replace(before, z=before.z + mm)))
        self._same_frame(was, state)
        rise = state.position.z - before.z
        if to_the_end and -ARRIVES_MM < rise < mm - ARRIVES_MM:
            time.sleep(STILL_S)
            again = self.printer.state().position
            self._near("stand at the end of its travel", state.position, again)
            return self._take(state)
        self._near(f"rise by {mm:.2f} mm", Place(before.x, before.y, before.z + mm), state.position)
        if tripped is not None:
            self._as_before(tripped, tripped.z + mm - state.position.z)
        return self._take(state)

    def _as_before(self, tripped: Place, off: float) -> None:
        """A trip is told by one line and where it stands by another: what they are apart by may be
        the stopping of its drives, and that stays as it is."""
        usual = sorted(self._apart)[len(self._apart) // 2] if self._apart else off
        if abs(off - usual) > SAME_TRIP_MM:
            raise self._not_so(
                f"touch and rise as before, when both lines were {usual:+.3f} mm apart,",
                f"a trip at z = {tripped.z:.3f}, {off:+.3f} mm from where it stood",
            )
        if len(self._apart) < USUAL:
            self._apart.append(off)

    def lower(self, mm: float) -> PrinterState:
        """Toward the plate."""
        mm += self.before_down()
        was = self._leaving()
        before = was.position
        state = self.dog.watch("way down", mm, lambda: self.printer.lower(mm))
        self._same_frame(was, state)
        to = Place(before.x, before.y, before.z - mm)
        self._near(f"go down by {mm:.2f} mm", to, state.position)
        return self._take(state)

    def touch(self, floor: float) -> Place:
        """Down until the probe trips. That it stands there the lift that follows tells."""
        self.before_down()
        was = self._leaving()
        before = was.position
        tripped = self.dog.timed(
            "touch",
            before.z - floor,
            lambda: self.printer.touch(floor),
            lambda place: before.z - place.z,
        )
        asked = f"touch straight down from {_told(before)}, not under z = {floor:.3f}"
        if not (
            abs(tripped.x - before.x) <= ARRIVES_MM
            and abs(tripped.y - before.y) <= ARRIVES_MM
            and floor - ARRIVES_MM <= tripped.z <= before.z + ARRIVES_MM
        ):
            raise self._not_so(asked, f"a trip at {_told(tripped)}")
        self._stood = replace(was, position=tripped)
        self._tripped, self._touches = tripped, self._touches + 1
        return tripped

    def reference(self, down_mm: float) -> PrinterState:
        """Reference; its frame is another one afterwards."""
        down_mm += self.before_down()
        boot = self._leaving().boot
        state = self.dog.watch(
            "reference", down_mm, lambda: self.printer.reference(down_mm), SIDEWAYS_S
        )
        if state.boot != boot:
            raise self._not_so("reference", "that it was switched off and on meanwhile")
        met = state.reference_touch
        if not state.referenced:
            raise self._not_so("reference", "that it is not referenced")
        if met is not None:
            here = state.position
            if (
                abs(here.x - met.x) > ARRIVES_MM
                or abs(here.y - met.y) > ARRIVES_MM
                or here.z < met.z - ARRIVES_MM
            ):
                raise self._not_so(
                    "reference", f"a trip at {_told(met)} while it stands at {_told(here)}"
                )
        return self._take(state)

    def raise_support(self, name: str, mm: float) -> PrinterState:
        """One Z motor alone; its frame may be another one afterwards."""
        self.before_down()
        before, self._stood = self.printer.state(), None
        state = self.printer.raise_support(name, mm)
        was, now = (dict(s.supports).get(name) for s in (before, state))
        if was is not None and now is not None and abs(now - was - mm) > ARRIVES_MM:
            raise self._not_so(
                f"move the Z motor {name} by {mm:+.3f} mm", f"that it moved by {now - was:+.3f} mm"
            )
        return self._take(state)

    def used(self, was: PrinterState, state: PrinterState, name: str, within_mm: float) -> None:
        """A surface is followed from now on: nothing moved, and z means another height by no more
        than that (mm)."""
        self._same_frame(was, state)
        if state.surface is not None and state.surface != name:
            raise self._not_so(f"follow '{name}'", f"that it follows '{state.surface}'")
        a, b = was.position, state.position
        moved = max(abs(a.x - b.x), abs(a.y - b.y), abs(a.z - b.z) - within_mm)
        if not moved <= ARRIVES_MM:
            raise self._not_so(f"follow '{name}' from {_told(a)}", f"that it stands at {_told(b)}")
        self._take(state)

    def rest(self, seconds: float) -> PrinterState:
        """Wait in place."""
        return self._stayed(self._leaving(), self.printer.rest(seconds))

    def wait_for_heat(self) -> PrinterState:
        """Wait in place until the targets are reached."""
        return self._stayed(self._leaving(), self.printer.wait_for_heat())

    def still(self, lately: bool = False) -> PrinterState:
        """Where it stands, after something that moves nothing; `lately`: what it answered a moment
        ago counts."""
        if lately and self._stood is not None and time.monotonic() - self._stood_at < LATELY_S:
            return self._stood
        return self._stayed(self._leaving(), self.printer.state())

    def _stayed(self, was: PrinterState, state: PrinterState) -> PrinterState:
        self._same_frame(was, state)
        self._near("stay where it was", was.position, state.position)
        return self._take(state)

    def _leaving(self) -> PrinterState:
        """Where it stood. Not known any more until an answer says so: what was asked may be done
        half, or done and never answered."""
        was, self._stood = self._stood or self.printer.state(), None
        return was

    def _take(self, state: PrinterState) -> PrinterState:
        self._stood, self._stood_at = state, time.monotonic()
        return state

    def _same_frame(self, was: PrinterState, state: PrinterState) -> None:
        if state.boot != was.boot:
            raise self._not_so("go on", "that it was switched off and on meanwhile")
        if was.referenced and not state.referenced:
            raise self._not_so("go on", "that it does not know any more where it is")
        if state.frame != was.frame:
            raise self._not_so(
                "go on", "that its z means another height than before, which nobody asked for"
            )

    def _near(self, asked: str, to: Place, told: Place) -> None:
        off = max(abs(to.x - told.x), abs(to.y - told.y), abs(to.z - told.z))
        if not off <= ARRIVES_MM:
            raise self._not_so(f"{asked}, {_told(to)},", f"that it stands at {_told(told)}")

    def _not_so(self, asked: str, told: str) -> NotAsAsked:
        self._stood = None
        return NotAsAsked(
            f"the printer was asked to {asked} and told {told}.",
            self.printer.identity.name,
            "Nothing moves further and nothing of it is stored. Look where the nozzle stands; if "
            "it does so again, what speaks for this printer is wrong.",
        )


def _told(place: Place) -> str:
    return f"x {place.x:.2f}, y {place.y:.2f}, z {place.z:.2f}"
