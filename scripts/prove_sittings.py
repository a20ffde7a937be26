"""Sittings at the real window in any order, by the suite's own tests at their full length."""

import os
import re
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
TESTS = {
    "any station, 60 x 22 acts": "test_any_order.py",
    "Gap, 200 x 12 acts": "test_gap_in_any_order.py",
    "levelling, 2 x 60 x 10 acts": "test_levelling_in_any_order.py",
    "geometry, 2 x 60 x 12 acts": "test_geometry_in_any_order.py",
}


def sittings_text():
    """How each campaign ended."""
    lines = ["", "## Sittings at the window in any order", "", "| where | ended |", "|---|---|"]
    around = {**os.environ, "TALLGRAIN_PROVE": "1", "QT_QPA_PLATFORM": "offscreen"}
    for name, test in TESTS.items():
        done = subprocess.run(
            [sys.executable, "-m", "pytest", "-p", "no:benchmark", "--timeout", "3600",
             str(ROOT / "tests" / "ui" / test)],
            env=around, capture_output=True, text=True, check=False, cwd=ROOT,
        )  # fmt: skip
        failed = re.findall(r"^FAILED (\S+)", done.stdout, re.MULTILINE)
        ended = "zero strikes, nothing lost" if done.returncode == 0 else f"failed: {failed}"
        lines.append(f"| {name} | {ended} |")
    return lines


if __name__ == "__main__":
    print("\n".join(sittings_text()))
