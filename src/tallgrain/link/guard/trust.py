"""What the guard believes of a printer's height, and what it refuses without that belief."""

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeVar

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import (
    ConsoleUnproven,
    GuardRefused,
    Halted,
    JobError,
    NotAsAsked,
    NoTrip,
    PrinterRefused,
    ProbeDoubted,
    TallGrainError,
    TrustLost,
    WayOverran,
)
from tallgrain.link.guard.arrivals import Motions
from tallgrain.link.guard.evidence import Evidence
from tallgrain.link.guard.floors import Floors
from tallgrain.link.protocol import Place, Printer, PrinterState

SETTLE_S = 30.0
# Where a printer's own end of travel may lie below the sheet's.
ENDS_MM = 30.0
# The rise that a console is tried by at every link.
TRY_MM = 0.5

_T = TypeVar("_T")


@dataclass(frozen=True)
class Frame:
    """What the guard believes about a printer's z, and in which of its frames."""

    boot: str
    frame: int


class Trust:
    """Trust in one printer's height: gained, lost, and asked for before anything moves.

    z is where the nozzle stands at the lowest, out whether the probe is; frame is the printer's
    frame of z that is believed, None while nothing is.
    """

    def __init__(self, printer: Printer, sheet: MachineSheet) -> None:
        self.printer = printer
        self.sheet = sheet
        self.floors = Floors(sheet)
        self.frame: Frame | None = None
        self.z = 0.0
        self.motions = Motions(printer)
        self.motions.before_down = self._before_down
        # Whether what speaks for it was proven on this printer; whether it was tried in this link.
        self.proven, self._tried = not printer.language, False
        # What was said since trust was lost, and in which of the printer's frames.
        self.looks = Evidence()
        self._looked_in: Frame | None = None
        self.stands_at: Place | None = None
        # The last way down met nothing; in which power-on the probe was tripped, by a finger or
        # on a way down.
        self.blind, self._felt_in = False, ""
        # Whether a motion may begin now: the window's one owner of motion says so.
        self.may_move: Callable[[], bool] = lambda: True
        # Told whenever any of that changes, so that the next program knows it too.
        self.on_doubt: Callable[[dict[str, Any]], None] = lambda doubt: None
        self.out = False
        self.halted = threading.Event()
        # Set while a person's hands are at the printer; only that person's key clears it.
        self.hands_in = False
        self.attach()

    @property
    def trusted(self) -> bool:
        """Whether the guard knows how high the nozzle stands."""
        return self.frame is not None and not self.halted.is_set()

    @property
    def clearance_mm(self) -> float | None:
        """What the builder saw and typed last, not used yet; None where a look is due."""
        return self.looks.newest.mm if self.looks.due else None

    @property
    def felt(self) -> bool:
        """Whether the probe (or z's switch) was tripped in this power-on."""
        here = self._looked_in
        return here is not None and self._felt_in == here.boot

    @property
    def ended(self) -> bool:
        """Whether anything can end a way down: a probe, or z's switch where that is below."""
        return self.sheet.probe.there or self.sheet.probe.finds_z == "down"

    @property
    def wants_fit(self) -> bool:
        """Whether the next look should be something that fits, not a reading."""
        return self.looks.wants_fit(self.z)

    # What is doubted

    def doubt(self) -> dict[str, Any]:
        """What the next program has to know before it moves anything down, as figures."""
        frame = self._looked_in
        return {
            "boot": frame.boot if frame else "",
            "frame": frame.frame if frame else 0,
            "looks": self.looks.told(),
            "due": self.looks.due,
            "blind": self.blind,
            "felt": self.felt,
        }

    def recall(self, doubt: dict[str, Any]) -> None:
        """Know what an earlier program left: its looks count while neither power-on nor frame is
        another one; that a way down met nothing counts until a finger tripped the probe."""
        self.blind = doubt.get("blind") is True
        here = self._looked_in
        if here is None or doubt.get("boot") != here.boot:
            return
        if self.blind or doubt.get("felt") is True:
            self._felt_in = "" if self.blind else here.boot
        if doubt.get("frame") != here.frame:
            return
        self.looks.recall(doubt.get("looks", ()), doubt.get("due") is True)
        if self.looks.seen:
            self.forget()  # a person looked anew, so what the printer says was doubted

    def probe_was_felt(self) -> None:
        """A finger tripped the probe, and the printer read it: it is alive."""
        self.blind = False
        self.it_tripped()

    def it_tripped(self) -> None:
        """The probe tripped on its way down."""
        if self.felt or self._looked_in is None:
            return
        self._felt_in = self._looked_in.boot
        self.on_doubt(self.doubt())

    def met_nothing(self) -> None:
        """A way down met nothing where it had to: nothing goes down before a finger trips it."""
        self.blind, self._felt_in = True, ""
        self.looks.forget()
        self.on_doubt(self.doubt())

    def refuse_unfelt(self) -> None:
        """Raises ProbeDoubted where nothing showed in this power-on that a way down would end."""
        self.refuse_blind()
        if self.felt or not self.ended:
            return
        what = "the probe" if self.sheet.probe.there else "z's switch"
        raise ProbeDoubted(
            f"nothing tripped {what} since the printer was switched on, so it may be dead: nothing "
            "goes down.",
            self.printer.identity.name,
            self._finger,
        ).with_option("Run it again with --finger.")

    def refuse_blind(self) -> None:
        if not self.blind:
            return
        raise ProbeDoubted(
            "the last way down met nothing, so the probe may be dead: nothing goes down.",
            self.printer.identity.name,
            self._finger,
        ).with_option("Run it again with --finger.")

    def unproven(self) -> ConsoleUnproven | None:
        """Why nothing goes down over this console; None where it was proven on this printer."""
        if self.proven:
            return None
        return ConsoleUnproven(
            "what speaks for this printer was not proven on it: nothing but upward moves.",
            self.printer.identity.name,
            "Prove its console, at the Probe station: ten steps, each harmless.",
        ).with_option("Run 'tallgrain dialect prove' once.")

    def refuse_unproven(self) -> None:
        """Raises ConsoleUnproven."""
        if (no := self.unproven()) is not None:
            raise no

    def _before_down(self) -> float:
        """A link's first way down over a console follows a small rise that it tells rightly; how
        far (mm)."""
        self.refuse_unproven()
        if not self.printer.language or self._tried:
            return 0.0
        first = self.motions.look().position
        rose = self.motions.lift(TRY_MM, to_the_end=True).position.z - first.z
        self._tried = True
        self.z += max(rose, 0.0)
        return max(rose, 0.0)

    @property
    def finger_act(self) -> str:
        """How a probe is shown to be alive."""
        kind = self.sheet.probe.kind
        act = {"proximity": "Hold metal under it", "nozzle": "Push the nozzle up with a finger",
               "none": "Press z's switch with a finger"}  # fmt: skip
        return act.get(kind, "Lift its tip with a finger")

    @property
    def _finger(self) -> str:
        return f"{self.finger_act} while the printer reads it ('A finger trips it' waits for that)."

    def attach(self) -> PrinterState:
        """Look at the printer anew: after linking, and after a lost link.

        A printer that says where its last reference tripped is believed for as long as neither
        its power-on nor its frame changes.
        """
        state = self._at_rest()
        self._tried = False
        if state.leave_mm:
            # Whoever took it is gone, or its way back was lost.
            state = self.printer.leave_below(0.0)
        self.motions.note(state)
        self.in_frame(state)
        now = Frame(state.boot, state.frame)
        if not state.referenced or state.reference_touch is None:
            self.forget()
        elif now != self.frame:
            self.forget()
            if self.sheet.probe.finds_z == "down":
                self.frame = now
                self.floors.note(state.reference_touch, met=self.sheet.probe.there)
                self._felt_in = state.boot  # it tripped in this power-on
        self._follow(state)
        self.z = state.position.z
        self.out = state.extended
        return state

    def _follow(self, state: PrinterState) -> None:
        """Know the surface that it follows, where it does; else nothing is believed of its z."""
        if state.surface is None:
            return  # it does not tell that: what was asked of it stands
        if not state.surface:
            self.floors.bent = None
            return
        try:
            self.floors.bent = self.printer.read_surface(state.surface)
        except TallGrainError:
            self.forget()

    def _at_rest(self) -> PrinterState:
        """The state once a motion that was under way has ended by its own bound."""
        until = time.monotonic() + SETTLE_S
        state = self.printer.state()
        if state.printing:
            raise JobError(
                "the printer prints.",
                self.printer.identity.name,
                "Wait until the print has ended, then go on.",
            )
        while state.moving and time.monotonic() < until:
            time.sleep(0.02)
            state = self.printer.state()
        if state.moving:
            raise JobError(
                "the printer is moving, and Tall Grain did not order it.",
                self.printer.identity.name,
                "Wait until it stands still, or use STOP.",
            )
        return state

    def look(self) -> PrinterState:
        """Where the nozzle stands now: a print or a person may have moved it since."""
        state = self.motions.look()
        self.z = state.position.z
        if self.frame is not None and self.frame != Frame(state.boot, state.frame):
            self.forget()
            self.in_frame(state)
            raise self.halted_error() if self.halted.is_set() else self.unknown()
        known = self.floors.bent.name if self.floors.bent is not None else ""
        if state.surface is not None and state.surface != known:
            self._follow(state)  # somebody else let it follow another one
        return state

    def in_frame(self, state: PrinterState) -> None:
        """What was seen in another frame of z, or before the power was off, says nothing."""
        here = Frame(state.boot, state.frame)
        if here != self._looked_in:
            self.looks.forget()
            self._looked_in = here

    def forget(self) -> None:
        self.frame = None
        self.floors.forget()

    def halt(self) -> None:
        """Stop at once; from any thread."""
        self.halted.set()
        self.looks.forget()
        self.printer.halt()

    def refuse_after_halt(self) -> None:
        self.refuse_hands_in()
        self.refuse_unowned()
        if self.halted.is_set():
            raise self.halted_error()

    def refuse_hands_in(self) -> None:
        if self.hands_in:
            raise GuardRefused(
                "hands are at the printer: nothing moves.",
                self.printer.identity.name,
                "Take them away, then say so (F12, hands clear).",
            )

    def refuse_touchless(self) -> None:
        """A printer that only surveys by itself is sent nowhere down from here."""
        if not self.printer.touches:
            raise GuardRefused(
                "this printer knows no single bounded touch: it only surveys by itself.",
                self.printer.identity.name,
                "Reference it at its own panel, raise it, and let it survey by itself.",
            )

    def refuse_hot_nozzle(self) -> None:
        probe = self.sheet.probe
        if probe.kind != "nozzle":
            return
        nozzle = self.printer.tell_heat().nozzle
        if nozzle.now_c is None:
            raise JobError(
                "the printer does not tell how hot its nozzle is: it may be too hot to touch the "
                "plate with.",
                self.printer.identity.name,
                "Teach the line that tells it; without it the nozzle is no probe here.",
            )
        if nozzle.hot(probe.hottest_c + 2.0):
            raise JobError(
                f"the nozzle is at {nozzle.words} (target {nozzle.aim_c or 0:.0f}), too hot "
                "to touch the plate with.",
                self.printer.identity.name,
                f"Let it cool to {probe.hottest_c:.0f} °C and wipe the tip, then try again.",
            )

    def halted_error(self) -> Halted:
        """What a halt means for whatever comes next."""
        return Halted(
            "stopped: the nozzle's position is unknown.",
            self.printer.identity.name,
            "Look how far the nozzle stands above the plate, and give that clearance.",
        )

    def need(self) -> None:
        self.refuse_after_halt()
        if self.frame is None:
            raise self.unknown()

    def need_with_hands(self) -> None:
        if self.halted.is_set():
            raise self.halted_error()
        if self.frame is None:
            raise self.unknown()

    def unknown(self) -> TrustLost:
        """The refusal where the nozzle's height is not known."""
        finger = self.ended and not self.felt
        return TrustLost(
            "how high the nozzle stands is not known.",
            self.printer.identity.name,
            "Look how far it is above the plate, and give what you read; nearer than 25 mm, the "
            "thickest thing that fits." + (f" {self._finger}" if finger else ""),
        ).with_option(
            f"Run it again with {'--finger and ' if finger else ''}--clearance-mm MM, or --fits-mm "
            "MM."
        )

    def moved(self, action: Callable[[], _T]) -> _T:
        self.refuse_unowned()
        try:
            return action()
        except PrinterRefused as no:
            raise self._explained(no) from None
        except WayOverran:
            self.halted.set()
            self.forget()
            self.met_nothing()
            raise
        except NotAsAsked:
            self.forget()
            self.looks.forget()
            if self.halted.is_set():
                raise self.halted_error() from None  # that is what it had not been told
            raise

    def refuse_unowned(self) -> None:
        if not self.may_move():
            raise GuardRefused(
                "nothing owns this motion, so that nothing could halt it.",
                self.printer.identity.name,
                "Nothing moved. This is a fault in Tall Grain itself.",
            )

    def _explained(self, no: PrinterRefused) -> JobError:
        name = self.printer.identity.name
        if no.reason == "halted" or self.halted.is_set():
            self.halted.set()
            self.forget()
            self.looks.forget()
            return self.halted_error()
        if no.reason in ("not_referenced", "restarted"):
            self.forget()
            self.looks.forget()
            return self.unknown()
        if no.reason == "no_trip":
            trusted, there = self.frame is not None, self.sheet.probe.there
            self.met_nothing()
            return NoTrip(
                no.what,
                name,
                (
                    "The probe may not have come out, or the plate is further away than it was "
                    "touched before. "
                    if trusted and there
                    else f"Look at the {'probe' if there else 'switch'}. "
                )
                + self._finger,
            )
        return no
