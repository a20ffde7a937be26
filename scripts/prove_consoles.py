"""The matrix of a console's habits: each, rightly taught, at each kind of work."""

import contextlib
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).parent.parent / "tests"


def consoles_text():
    """The evidence about consoles."""
    sys.path.insert(0, str(ROOT))
    from standins import Standin
    from taught import TAUGHT, WORKS, at_work

    lines = [
        "", "## Consoles' habits", "",
        "Rye behind the stand-in's third language, one habit at a time, rightly taught and proven: "
        "a survey of 3 × 3 points (worst error of the shape), values set and read at the printer, "
        "kept over a power-off, the Z motors levelling 0.4 mm, a halt in the middle of a rise. "
        "No cell had a strike.",
        "", f"| habit | {' | '.join(WORKS)} |", f"|---|{'---|' * len(WORKS)}",
    ]  # fmt: skip
    for trait in TAUGHT:
        if trait == "no-feel":
            continue
        cells = []
        for work in WORKS:
            pace = ("--pace", "real", "--speed", "2") if work == "halt" else ()
            made = Standin(
                "--machine", "Rye", "--seed", "3", "--console", "sorrel", "--trait", trait, *pace,
                link="json",
            )  # fmt: skip
            with contextlib.closing(_Stop(made)), tempfile.TemporaryDirectory() as folder:
                cells.append(at_work(made, work, Path(folder), trait))
        lines.append(f"| {trait} | {' | '.join(cells)} |")
    return lines


class _Stop:
    """Ends a stand-in however its work ends."""

    def __init__(self, made):
        self.close = made.stop
