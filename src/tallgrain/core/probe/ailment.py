"""What ails a probe, from what a person saw and what the printer read, by name."""

from dataclasses import dataclass

# The checks, in the order that keeps the plate safe.
CHECKS = ("extend", "retract", "free", "lifted", "reference")


@dataclass(frozen=True)
class Seen:
    """What came of the checks so far; None where one was not made.

    out_extended, out_retracted: whether a person saw it out after extending and after retracting.
    free_reads, lifted_reads: whether the printer read it tripped while it hung free, and while a
    finger lifted it. reference: "tripped", "no_trip" or "early" (far above the plate).
    """

    out_extended: bool | None = None
    out_retracted: bool | None = None
    free_reads: bool | None = None
    lifted_reads: bool | None = None
    reference: str | None = None


@dataclass(frozen=True)
class Ailment:
    """A diagnosis: its name, what to do, and whether going on can be safe if there is a reason."""

    check: str
    name: str
    remedy: str
    may_override: bool = False


# How a kind is tripped by hand, where it is not lifted.
_WOKEN = {
    "proximity": "Metal was held under it",
    "nozzle": "A finger pushed the nozzle up",
    "none": "A finger pressed the switch",
}


def _free_ailment(kind: str, seen: Seen) -> Ailment | None:
    if not seen.free_reads:
        return None
    if seen.lifted_reads is None:
        cause = (
            "It may be held, wired the wrong way round, or see metal nearby."
            if kind == "proximity"
            else "It may be held, stuck, or wired the wrong way round."
        )
        return Ailment("free", "reads tripped while free", f"{cause} The next check tells which.")
    if seen.lifted_reads:
        if kind == "proximity":
            return Ailment(
                "free",
                "metal near it, or stuck",
                "It reads tripped all the time: take metal away from it, then look at its cable.",
            )
        free = "wipe the tip" if kind == "nozzle" else "free what moves in it"
        return Ailment(
            "free", "stuck", f"It reads tripped all the time: {free}, then look at its cable."
        )
    return Ailment(
        "free",
        "polarity inverted",
        "It reads the wrong way round: change its polarity in the printer, then check again. "
        "With it, a motion down would not stop.",
    )


def ailment(kind: str, seen: Seen) -> Ailment | None:
    """The first thing that is wrong with a probe of a kind; None while nothing is known to be."""
    if seen.out_extended is False:
        return Ailment(
            "extend",
            "does not extend",
            "It did not come out, so the nozzle would arrive first: look at its cable and drive.",
        )
    if seen.out_retracted is True:
        return Ailment(
            "retract",
            "does not retract",
            "It stays out: it will drag over a print. Touching itself can be safe.",
            may_override=True,
        )
    wrong = _free_ailment(kind, seen)
    if wrong is not None:
        return wrong
    if seen.lifted_reads is False:
        return Ailment(
            "lifted",
            "does not sense",
            f"{_WOKEN.get(kind, 'A finger lifted it')} and nothing was read: look at its cable. A "
            "motion down would not stop.",
        )
    if seen.reference == "no_trip":
        return Ailment(
            "reference",
            "never trips within its travel",
            "The nozzle went down by less than you saw and came back up. "
            + (
                "The switch sits too low, or is not heard: move it up, look, try again."
                if kind == "none"
                else "Look whether the probe comes out far enough, then measure again."
            ),
        )
    if seen.reference == "early":
        return Ailment(
            "reference",
            "trips in the air",
            "It tripped far above the plate: look for a loose cable, play in its holder"
            + (", or metal near it." if kind == "proximity" else ", or a pin that drags."),
        )
    return None


def blocks(kind: str, seen: Seen, check: str) -> Ailment | None:
    """What forbids a check: an ailment found in an earlier one. Lifting after 'free' is allowed,
    because it is what tells stuck from inverted and moves nothing."""
    wrong = ailment(kind, seen)
    if wrong is None or CHECKS.index(wrong.check) >= CHECKS.index(check):
        return None
    if wrong.check == "free" and check == "lifted":
        return None
    return wrong


def needed(kind: str) -> tuple[str, ...]:
    """The checks that a kind of probe has."""
    if kind in ("proximity", "nozzle", "none"):
        return ("free", "lifted", "reference")
    return CHECKS
