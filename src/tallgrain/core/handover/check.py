"""What is wrong in the text that starts a print, told in operations and not in its words."""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

from tallgrain.core.machine.sheet import MachineSheet

# A trip height or offset that differs from the ledger's by more than this contradicts it (mm).
SAME_MM = 0.002
WARM_C = 35.0
# What throws a compensation away: the height is another one afterwards.
LOSES = ("reference", "level")
DOWN = ("touch", "lower", "survey", "purge")


@dataclass(frozen=True)
class Line:
    """A line that was understood: its number, the operation and its figures in our units."""

    number: int
    operation: str
    values: Mapping[str, float | str]


@dataclass(frozen=True)
class Finding:
    """Something that is wrong, or that will be: at which line (0: nowhere), what, and what to do;
    grave: it can drive the nozzle into the plate."""

    line: int
    kind: str
    what: str
    remedy: str
    grave: bool = False


def findings(
    lines: Sequence[Line],
    sheet: MachineSheet,
    ledger: Mapping[str, float],
    held: Collection[str] | None = None,
) -> tuple[Finding, ...]:
    """Everything that is wrong in a start text. ledger: what Tall Grain knows to be right, by
    meaning; held: names of the surfaces that the printer has to recall (None: not known)."""
    return (
        *_references(lines),
        *_lost(lines),
        *_cold(lines),
        *_twice(lines),
        *_hot_probe(lines, sheet),
        *_values(lines, ledger),
        *_not_there(lines, held),
        *_stores_nothing(lines),
    )


def _references(lines: Sequence[Line]) -> list[Finding]:
    first = next((n.number for n in lines if n.operation == "reference"), None)
    found = []
    if first is None:
        found.append(
            Finding(
                0,
                "no reference",
                "nothing finds the reference: the printer may not know where it is.",
                "Reference after the heat and before anything goes down.",
                True,
            )
        )
    height = None
    for line in lines:
        z = line.values.get("z")
        down = line.operation in DOWN
        if line.operation == "go" and isinstance(z, float):
            down = height is None or z < height
            height = z
        if down and (first is None or line.number < first):
            found.append(
                Finding(
                    line.number,
                    "down before a reference",
                    "the nozzle goes down before the printer knows where it is.",
                    "Reference first.",
                    True,
                )
            )
            break
    return found


def _lost(lines: Sequence[Line]) -> list[Finding]:
    """A compensation that a later line throws away."""
    found, held = [], None
    for line in lines:
        if line.operation in ("recall", "survey"):
            held = line
        elif line.operation in LOSES and held is not None:
            verb = "referenced" if line.operation == "reference" else "levelled"
            found.append(
                Finding(
                    line.number,
                    "lost again",
                    f"it is {verb} after line {held.number} set the compensation, which is "
                    "lost by it.",
                    f"Move line {held.number} behind this one.",
                )
            )
            held = None
    last_level = max((n.number for n in lines if n.operation == "level"), default=0)
    last_reference = max((n.number for n in lines if n.operation == "reference"), default=0)
    if last_level > last_reference:
        found.append(
            Finding(
                last_level,
                "levelled last",
                "levelling moves the plate, and the height is not found anew after it.",
                "Reference once more behind it.",
                True,
            )
        )
    return found


def _cold(lines: Sequence[Line]) -> list[Finding]:
    warm = asked = False
    aim = 0.0
    for line in lines:
        c = line.values.get("c")
        if line.operation == "heat_plate" and isinstance(c, float):
            # Another heat has to be waited for anew.
            warm, asked = warm and c == aim, c > WARM_C
            aim = c
        elif line.operation == "wait_for_heat":
            warm = asked
        elif line.operation == "survey" and not warm:
            return [
                Finding(
                    line.number,
                    "probed cold",
                    "the plate is probed before it is warm: it has another shape then.",
                    "Heat and wait before this line.",
                )
            ]
    return []


def _twice(lines: Sequence[Line]) -> list[Finding]:
    made = [n for n in lines if n.operation in ("survey", "recall")]
    if len(made) < 2:
        return []
    one, other = made[-2:]
    words = "surveyed" if other.operation == "survey" else "recalled"
    return [
        Finding(
            other.number,
            "twice",
            f"line {one.number} sets a compensation, and here another one is {words}: one of "
            "them is "
            "for nothing.",
            "Leave one of them out.",
        )
    ]


def _hot_probe(lines: Sequence[Line], sheet: MachineSheet) -> list[Finding]:
    hottest = sheet.probe.hottest_c
    if sheet.probe.kind != "nozzle" or hottest is None:
        return []
    target = 0.0
    for line in lines:
        c = line.values.get("c")
        if line.operation == "heat_nozzle" and isinstance(c, float):
            target = c
        elif line.operation in ("reference", "survey", "touch") and target > hottest + 0.5:
            return [
                Finding(
                    line.number,
                    "probed hot",
                    f"the nozzle is the probe, and is told {target:.0f} °C here: what oozes "
                    "arrives "
                    "first.",
                    f"Probe at {hottest:g} °C at most, and heat afterwards.",
                )
            ]
    return []


def _values(lines: Sequence[Line], ledger: Mapping[str, float]) -> list[Finding]:
    found = []
    for line in lines:
        name, value = line.values.get("name"), line.values.get("value")
        if line.operation != "set_value" or not isinstance(value, float):
            continue
        known = ledger.get(str(name))
        if known is not None and abs(known - value) > SAME_MM:
            words = str(name).replace("_", " ")
            found.append(
                Finding(
                    line.number,
                    "contradicts the ledger",
                    f"{words} is set to {value:.3f}, but {known:.3f} is what was measured and "
                    "kept.",
                    "Leave the line out: then one place decides.",
                    str(name) == "trip_height",
                )
            )
    return found


def _not_there(lines: Sequence[Line], held: Collection[str] | None) -> list[Finding]:
    """Recalled before it is there, or never there."""
    found: list[Finding] = []
    stored: set[str] = set()
    for line in lines:
        name = str(line.values.get("name", ""))
        if line.operation == "store":
            stored.add(name)
        if line.operation != "recall" or name in stored or (held is not None and name in held):
            continue
        storing = [n for n in lines if n.operation == "store" and n.values.get("name") == name]
        later = next((n.number for n in storing if n.number > line.number), None)
        if later is not None:
            found.append(
                Finding(
                    line.number,
                    "recalled too early",
                    f"'{name}' is recalled here, and only stored in line {later}.",
                    f"Move line {line.number} behind it.",
                )
            )
        elif held is not None:
            others = f"It holds {', '.join(sorted(held))}." if held else "It holds none."
            found.append(
                Finding(
                    line.number,
                    "not held",
                    f"'{name}' is recalled, which the printer does not hold. {others}",
                    "Write it at Handover, or survey and store one first.",
                )
            )
    return found


def _stores_nothing(lines: Sequence[Line]) -> list[Finding]:
    """Stored where nothing was surveyed since the height was found."""
    surveyed = False
    for line in lines:
        if line.operation == "survey":
            surveyed = True
        elif line.operation in LOSES:
            surveyed = False
        elif line.operation == "store" and not surveyed:
            return [
                Finding(
                    line.number,
                    "stores nothing",
                    "a survey is stored here, but none was made since the height was found.",
                    "Move this line behind the survey.",
                )
            ]
    return []
