"""What makes what stale: the events that a printer goes through, and the stations that rest on
what was before."""

from collections.abc import Sequence
from datetime import datetime

from tallgrain.store.ledger import MachineEvent

# What a builder would note, and what it makes stale unless the builder says otherwise.
NOTED = {
    "new nozzle": ("Gap",),
    "moved": ("Tilt", "Surface", "Gap", "Skew"),
    "new sheet": ("Surface", "Gap"),
    "probe work": ("Probe", "Surface", "Gap"),
    "frame or wheels": ("Tilt", "Surface", "Skew"),
    "reflashed": ("Gap", "Handover"),
}
# What Tall Grain itself does or notices.
ENTERED = {"levelled": ("Gap",), "towers": ("Surface", "Gap", "Skew")}
# Events after which a printer is mechanically another one.
MECHANICAL = ("frame or wheels", "moved")


def makes_stale(kind: str) -> tuple[str, ...]:
    """The stations that an event of a kind makes stale."""
    return NOTED.get(kind) or ENTERED.get(kind, ())


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
