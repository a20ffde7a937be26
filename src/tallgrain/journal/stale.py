"""What makes what stale: the events that a printer goes through, and the stations that rest on
what was before."""

from collections.abc import Sequence
from datetime import datetime

from tallgrain.store.entries import MachineEvent

# What a builder would note, and what it makes stale unless the builder says otherwise.
NOTED = {
    "new nozzle": ("Gap",),
    "moved": ("Tilt", "Surface", "Gap", "Skew"),
    "new sheet": ("Surface", "Gap"),
    "probe work": ("Probe", "Surface", "Gap"),
    "frame or wheels": ("Tilt", "Surface", "Skew"),
    "reflashed": ("Gap", "Handover"),
}
# What of an event matters where, in a sentence; what to do about it.
MATTERS = {
    ("new nozzle", "Gap"): "another nozzle ends up to 0.1 mm higher or lower: feel the gap again "
    "before the next print",
    ("new nozzle", "Surface"): "the plate's shape is the same",
    ("moved", "Tilt"): "a carried printer racks: touch its supports again",
    ("moved", "Surface"): "the plate may lie differently: a quick check of five places shows it",
    ("moved", "Gap"): "the gap moves with the plate: feel it again",
    ("moved", "Skew"): "a frame seldom leans by being carried: a diagonal of an old part tells",
    ("new sheet", "Surface"): "another sheet has its own shape, some 0.02 mm: survey it once",
    ("new sheet", "Gap"): "another sheet is thicker or thinner by up to 0.1 mm: feel the gap on it",
    (
        "probe work",
        "Probe",
    ): "a probe that was taken off sits elsewhere: check it, find where it is",
    ("probe work", "Surface"): "heights of before were touched elsewhere, by what the offset moved",
    ("probe work", "Gap"): "it trips at another height, a millimetre perhaps: feel the gap before "
    "anything prints",
    ("frame or wheels", "Tilt"): "what carries the plate was moved: level it again",
    ("frame or wheels", "Surface"): "the beam may bend otherwise: survey again",
    ("frame or wheels", "Skew"): "the axes may lean otherwise: print a gauge again",
    ("reflashed", "Gap"): "the printer lost its trip height: give it back",
    ("reflashed", "Handover"): "the printer lost what it kept: give it back",
}
# What Tall Grain itself does or notices.
ENTERED = {"levelled": ("Gap",), "towers": ("Surface", "Gap", "Skew")}
# Events after which a printer is mechanically another one.
MECHANICAL = ("frame or wheels", "moved")


def makes_stale(kind: str) -> tuple[str, ...]:
    """The stations that an event of a kind makes stale."""
    return NOTED.get(kind) or ENTERED.get(kind, ())


def matters(kind: str, station: str) -> str:
    """What an event means for a station, in a sentence; "" where only its builder knows."""
    return MATTERS.get((kind, station), "")


def stale_since(events: Sequence[MachineEvent], when: datetime, station: str) -> str:
    """The newest event after a time that made a station stale; '' if none."""
    after = [e for e in events if e.at > when and station in e.stale]
    return after[-1].kind if after else ""


def mechanical_since(
    events: Sequence[MachineEvent], machine: str, when: datetime
) -> MachineEvent | None:
    """The newest event after a time that made another printer of it; None if none."""
    after = [
        e
        for e in events
        if e.at > when and e.machine == machine and (e.kind in MECHANICAL or "Machine" in e.stale)
    ]
    return after[-1] if after else None
