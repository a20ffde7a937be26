"""Campaigns about promises: looks that are misread, files that are damaged."""

import resource
import statistics
import sys
import tempfile
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

ROOT = Path(__file__).parent.parent / "tests"
LOOKS, FILES = 1112, 20_000


def looks_text(count=LOOKS):
    """The evidence about ways down: count evenings at each of nine printers."""
    from test_evidence import FAULTS, PRINTERS

    lines = [
        "", f"## Ways down from an unknown height, {count * len(PRINTERS)} evenings", "",
        "Nine printers: the shipped ones and six described by hand, their trip heights guessed. "
        "True gaps of 1 to 300 mm (evenly in their logarithm), every third 40 mm. Builders are "
        "honest; off by a constant of 1 to 30 mm in readings, in what fits, or both; by a factor "
        "of 10, 25.4 or 0.1; two in five of their sayings are anything; a thing always fits; one "
        "question is answered for the other; the same figure again and again; blocks too thin. "
        f"Probes are healthy or: {', '.join(sorted(set(FAULTS) - {''}))}. A finger is shown as it "
        "is. Counted are looks of honest builders with a healthy probe.",
        "", "| printer | evenings | strikes | down | honest: down | looks, median | most | from "
        "40 mm, median |",
        "|---|---|---|---|---|---|---|---|",
    ]  # fmt: skip
    with ProcessPoolExecutor(4) as pool:
        rows = pool.map(ways_down, PRINTERS, [count] * len(PRINTERS))
        return lines + [line for row in rows for line in row]


def ways_down(name, count):
    """One printer's lines."""
    from test_evidence import evenings

    with tempfile.TemporaryDirectory() as folder:
        found = list(evenings(name, Path(folder), range(count)))
    honest = [(gap, looks) for _, way, fault, gap, looks, _ in found
              if way == "honest" and not fault]  # fmt: skip
    looks = [n for _, n in honest if n]
    forty = [n for gap, n in honest if n and gap == 40.0]
    struck = [(seed, way, fault) for seed, way, fault, _, _, hits in found if hits]
    row = (
        f"| {name} | {len(found)} | {sum(len(f[5]) for f in found)} | "
        f"{sum(f[4] > 0 for f in found)} | {len(looks)} of {len(honest)} | "
        f"{statistics.median(looks):g} | {max(looks)} | {statistics.median(forty):g} |"
    )
    return [row, *([f"Struck at {name}: {struck}."] if struck else [])]


def files_text(count=FILES):
    """The evidence about damaged files."""
    from test_hostile_files import fuzz

    kinds, worst, began = Counter(), 0.0, time.perf_counter()
    with tempfile.TemporaryDirectory() as folder:
        last = began
        for ending, _ in fuzz(Path(folder), range(count)):
            now = time.perf_counter()
            kinds[ending], worst, last = kinds[ending] + 1, max(worst, now - last), now
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    told = ", ".join(f"{n} .{ending}" for ending, n in sorted(kinds.items()))
    return [
        "", f"## Damaged files, {count}", "",
        f"{told}: every one was read or refused in a sentence. The slowest took "
        f"{worst:.2f} s; the program's peak was {peak:.0f} MB.",
    ]  # fmt: skip


def promises_text():
    """Both."""
    for folder in ("", "link", "formats"):
        sys.path.insert(0, str(ROOT / folder))
    return [*looks_text(), *files_text()]


if __name__ == "__main__":
    print("\n".join(promises_text()))
