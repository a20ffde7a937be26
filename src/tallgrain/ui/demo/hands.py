"""The demo's hands: what a person would do at a printer that is only simulated.

The work itself never comes here; a real printer has real hands.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from tallgrain.core.solve.adjusters import Turn
from tallgrain.demo import at_hands
from tallgrain.procedures.skew import NOZZLE_C, PLATE_C
from tallgrain.ui.session.skew_work import Jaws
from tallgrain.ui.session.worker import Worker

# What can ail a probe, in a person's words.
AILS = (
    ("it does not come out", "no-extend"), ("it does not go away", "no-retract"),
    ("it sticks", "sticks"), ("it reads the wrong way round", "inverted"),
    ("it senses nothing", "dead"), ("one trip in the air", "trips-in-air:1"),
)  # fmt: skip

Action = tuple[str, Callable[[], None]]


# How often a person looks whether the print has ended.
LOOK_MS = 300


@dataclass(frozen=True)
class AtTheBench:
    """What the person at the printer has at hand: a gauge, where the datum is, a card with the
    patch that was written, and how it is printed; a gauge's program, and what of it is measured
    next."""

    gauge_mm: float = 0.1
    datum: tuple[float, float] = (0.0, 0.0)
    program: str = ""
    nozzle_c: float = 0.0
    plate_c: float = 0.0
    screw: Turn | None = None
    gauge: str = ""
    jaws: Jaws | None = None


class Hands(QObject):
    """Acts at the stand-in, in a thread of its own."""

    told = pyqtSignal(str)
    printed = pyqtSignal(object)  # what lies on the plate after a print
    failed = pyqtSignal(object)

    def __init__(self, where: Callable[[], str], parent: QObject) -> None:
        super().__init__(parent)
        self._where = where
        self.bench: Callable[[], AtTheBench] = AtTheBench
        self._printing = self._gauge = False
        self._worker = Worker(self)
        self._worker.done.connect(self._done)
        self._worker.failed.connect(lambda name, error: self.failed.emit(error))

    def actions(self) -> list[Action]:
        """What the hands can do, in the words of the menu; "" is a line across it."""
        do = self.act
        return [
            ("&Hold a ruler under the nozzle", partial(do, "hands.ruler")),
            ("&Look at probe, mark and strip", partial(do, "hands.look")),
            ("&Feel with the gauge", self._feel),
            ("", lambda: None),
            ("&Print the trial patch that was written", self._print),
            ("Print the skew &gauge that was written, take it off cold", self._print_gauge),
            ("&Measure the chosen distance with the caliper", self._measure),
            ("Turn the printer's knob: 0.02 mm a&way", partial(do, "hands.nudge", mm=0.02)),
            ("Turn the printer's knob: 0.02 mm &nearer", partial(do, "hands.nudge", mm=-0.02)),
            ("T&urn the chosen bed screw as told", self._turn),
            ("&Take what was printed off the plate", partial(do, "hands.clean")),
            ("", lambda: None),
            ("Lift the &probe's tip and hold it", partial(do, "hands.probe", state="held")),
            ("Let the probe &go, mend all that ails it", partial(do, "hands.mend")),
            ("&Stick fresh tape on the plate", partial(do, "hands.tape")),
            ("Lay the strip across &x", partial(self._lay, "x")),
            ("Lay the strip across &y", partial(self._lay, "y")),
            ("Take the strip &away", partial(do, "hands.strip", axis="")),
            ("", lambda: None),
            ("&Jam the probe", partial(do, "hands.probe", state="jammed")),
            *(
                (f"Let it ail: {words}", partial(do, "hands.fault", fault=fault))
                for words, fault in AILS
            ),
            ("", lambda: None),
            ("Take the sheet off and put it &back", partial(do, "hands.reseat")),
            ("Switch the printer off and &on", partial(do, "hands.power")),
            ("&Reflash it: all values are lost", partial(do, "hands.reflash")),
            (
                "&Make the link silent at the next touch",
                partial(do, "hands.fault", fault="silent:1:120"),
            ),
        ]

    def _feel(self) -> None:
        self.act("hands.gauge", thickness_mm=self.bench().gauge_mm)

    def _print(self) -> None:
        bench = self.bench()
        if not bench.program:
            self.told.emit("No patch was written yet: the Gap station's Trial print page does.")
            return
        self._printing = True
        self.act(
            "hands.print", program=bench.program, nozzle_c=bench.nozzle_c, plate_c=bench.plate_c
        )

    def _print_gauge(self) -> None:
        bench = self.bench()
        if not bench.gauge:
            self.told.emit("No gauge was written yet: the Skew station does.")
            return
        self._printing = self._gauge = True
        self.act("hands.print", program=bench.gauge, nozzle_c=NOZZLE_C, plate_c=PLATE_C)

    def _measure(self) -> None:
        jaws = self.bench().jaws
        if jaws is None:
            return
        self.act("hands.caliper", start=jaws.start, end=jaws.end, inside=jaws.inside)

    def _turn(self) -> None:
        screw = self.bench().screw
        if screw is None:
            self.told.emit("No bed screw is due: the Adjusters station says which one.")
            return
        way = 1.0 if screw.direction == "clockwise" else -1.0
        self.act("hands.turn", name=screw.name, clockwise_deg=way * screw.turn_deg)

    def _lay(self, axis: str) -> None:
        x, y = self.bench().datum
        self.act("hands.strip", axis=axis, at=x if axis == "x" else y)

    def act(self, method: str, **params: Any) -> None:
        """Do one thing; `told` says what came of it where that is not seen otherwise."""
        self._worker.do(method, lambda: at_hands(self._where(), method, **params))

    def close(self) -> None:
        """End the thread."""
        self._worker.finish()

    def _done(self, name: str, result: object) -> None:
        if isinstance(result, dict) and self._printing and self._follow_print(name, result):
            return
        words = told_words(name, result) if isinstance(result, dict) else ""
        if words:
            self.told.emit(words)

    def _follow_print(self, name: str, result: dict[str, Any]) -> bool:
        """Look until the print has ended; whether this was about it."""
        if name not in ("hands.print", "hands.patch"):
            return False
        if "message" in result:
            self._printing = self._gauge = False
            return False
        if name == "hands.print" or result["printing"]:
            look = partial(self.act, "hands.patch", brief=True)
            QTimer.singleShot(LOOK_MS, lambda: self._printing and look())
            return True
        if not self._gauge and "places" not in result:
            self.act("hands.patch")  # it has ended: now look closely
            return True
        self._printing = False
        if self._gauge:
            self._gauge = False
            self.act("hands.take_off")
            why = f" It ended early: {result['ended_why']}." if result["ended_why"] else ""
            self.told.emit(f"The gauge is printed, has cooled and lies on the bench.{why}")
        else:
            self.printed.emit(result)
        return True


def told_words(method: str, result: dict[str, Any]) -> str:
    """What a person would say of what the hands found; "" where nothing is to be said."""
    if "message" in result:
        return f"That can't be done: {result['message']}."
    if method == "hands.ruler":
        return (
            f"The ruler shows that the nozzle stands at least {result['clearance_mm']} mm above "
            "the plate."
        )
    if method == "hands.caliper":
        return f"The caliper reads {result['measured_mm']:.2f} mm."
    if method == "hands.gauge":
        return {
            "free": "The gauge slides free.",
            "grips": "The gauge grips.",
            "stuck": "The gauge is stuck.",
        }[result["feel"]]
    if method != "hands.look":
        return ""
    lines = [
        {"out": "The probe is out.", "away": "The probe is away.", "fixed": "The probe is fixed."}[
            result["probe"]
        ]
    ]
    if "mark" in result:
        right, rear = result["mark"]["right_mm"], result["mark"]["rear_mm"]
        lines.append(
            f"From the nozzle the mark lies {abs(right):.1f} mm to the "
            f"{'right' if right > 0 else 'left'} and {abs(rear):.1f} mm to the "
            f"{'rear' if rear > 0 else 'front'}."
        )
    if "strip" in result:
        plus, minus = ("right", "left") if result["strip"]["axis"] == "x" else ("rear", "front")
        edges = [
            f"{abs(at):.1f} mm to the {plus if at > 0 else minus}"
            for at in (result["strip"]["low_mm"], result["strip"]["high_mm"])
        ]
        lines.append(f"The strip's edges lie {edges[0]} and {edges[1]} of the nozzle.")
    return " ".join(lines)
