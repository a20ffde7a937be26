"""Faults on order: kind[:when][:how much].

`when` counts touches from now (1 = the next one; 0 = at once, whatever is going on, for what
befalls the line or the whole printer); `how much` means what the kind says.
"""

from dataclasses import dataclass

KINDS = {
    "closed": "the connection closes before a touch",
    "closed-in-touch": "the connection closes in the middle of a touch",
    "silent": "nothing is answered any more, for so many seconds (default: for good)",
    "garbage": "a line of garbage comes instead of the reply",
    "never-trips": "the probe does not trip, for so many touches (default: for good)",
    "trips-in-air": "the probe trips so many mm above the plate (default 6), once",
    "restart": "the printer restarts",
    "no-extend": "the probe does not come out",
    "no-retract": "the probe stays out",
    "sticks": "the probe stays closed once it tripped",
    "inverted": "the probe reads the wrong way round",
    "dead": "the probe reads nothing",
    "motor-still": "the Z motor of that number (in the sheet's order) does not move",
    "motor-reversed": "the Z motor of that number moves the wrong way",
    "motor-lead": "the Z motor of that number moves so many times as far (default 2)",
    "motor-slack": "the Z motor of that number loses so many mm on turning back (default 0.1)",
    "motors-swapped": "the Z motor of that number is swapped with the next one",
}
# What can befall the line or the whole printer at any moment.
ANY_TIME = ("closed", "silent", "garbage", "restart")
# What ails the probe lasts until it is mended, and begins at once unless a touch is named.
MOTORS = ("motor-still", "motor-reversed", "motor-lead", "motor-slack", "motors-swapped")
AILS = ("no-extend", "no-retract", "sticks", "inverted", "dead")


class FaultSpecError(ValueError):
    """A fault that can't be understood."""


@dataclass
class Fault:
    """One fault that waits for its touch."""

    kind: str
    countdown: int
    amount: float | None

    @classmethod
    def parse(cls, text: str) -> "Fault":
        """A fault from its text; raises FaultSpecError with a sentence."""
        kind, _, rest = text.partition(":")
        when, _, amount = rest.partition(":")
        if kind not in KINDS:
            raise FaultSpecError(f"there is no fault '{kind}': choose one of {', '.join(KINDS)}")
        try:
            count = int(when) if when else 1
            much = float(amount) if amount else None
        except ValueError:
            raise FaultSpecError(f"'{text}' is not kind[:touch number][:how much]") from None
        if count < (0 if kind in ANY_TIME else 1):
            raise FaultSpecError(f"'{text}': touches are counted from 1")
        return cls(kind, count, much)


class Faults:
    """All faults on order, and the one that is due at this touch."""

    def __init__(self, faults: list[Fault]) -> None:
        self.waiting = faults

    def due(self) -> list[Fault]:
        """Called once a touch: the faults that strike now."""
        for fault in self.waiting:
            fault.countdown -= 1
        now = [f for f in self.waiting if f.countdown <= 0]
        self.waiting = [f for f in self.waiting if f.countdown > 0]
        return now
