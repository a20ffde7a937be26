"""The suite's own campaigns at their full length: sittings at the window, surfaces told."""

import os
import re
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
SITTINGS = {
    "any station, 60 x 22 acts": ("ui/test_any_order.py",),
    "Gap, 200 x 12 acts": ("ui/test_gap_in_any_order.py",),
    "levelling, 2 x 60 x 10 acts": ("ui/test_levelling_in_any_order.py",),
    "geometry, 2 x 60 x 12 acts": ("ui/test_geometry_in_any_order.py",),
}
SURFACES = {
    "100 random grids of 2 to 12 columns and rows, anywhere, written and read back in each "
    "language: equal to the printer's digits": "written_is_what",
    "writing and keeping broken at a random line, 60 times in each language, by a closed line, "
    "garbage, a restart or silence: the next link tells what a second reader finds": "whatever",
}


def sittings_text():
    """How each campaign ended."""
    held = ("procedures/test_held_surfaces.py", "-k")
    return [
        *_table("Sittings at the window in any order", SITTINGS, "zero strikes, nothing lost"),
        *_table(
            "Surfaces told over JSON-RPC, in Hazel, in Medlar, in Sorrel by rows and by cells",
            {words: (*held, word) for words, word in SURFACES.items()},
            "so in all; zero strikes",
        ),
    ]


def _table(head, tests, well):
    lines = ["", f"## {head}", "", "| what | ended |", "|---|---|"]
    around = {**os.environ, "TALLGRAIN_PROVE": "1", "QT_QPA_PLATFORM": "offscreen"}
    for name, (test, *more) in tests.items():
        done = subprocess.run(
            [sys.executable, "-m", "pytest", "-p", "no:benchmark", "--timeout", "3600",
             str(ROOT / "tests" / test), *more],
            env=around, capture_output=True, text=True, check=False, cwd=ROOT,
        )  # fmt: skip
        failed = re.findall(r"^FAILED (\S+)", done.stdout, re.MULTILINE)
        ended = well if done.returncode == 0 else f"failed: {failed}"
        lines.append(f"| {name} | {ended} |")
    return lines


if __name__ == "__main__":
    print("\n".join(sittings_text()))
