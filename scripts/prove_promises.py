"""Campaigns about promises: looks that are misread, files that are damaged."""

import resource
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

ROOT = Path(__file__).parent.parent / "tests"
LOOKS, FILES = 334, 20_000


def looks_text(count=LOOKS):
    """The evidence about first looks: count evenings at each of the three printers."""
    from test_looks import KINDS, WAYS, evenings

    lines = [
        "", f"## First looks, {count * len(KINDS)} evenings", "",
        "True gaps of 1 to 300 mm (evenly in their logarithm), half of the probes dead, a third of "
        "the others tripped by a finger first. Builders are honest, say one thing that may be "
        "anything, misread all rulers by one constant of up to 20 mm, say the same figure again "
        "and again, or once without looking. Counted are figures said, the two of a checked look "
        "apart.",
        "", "| printer | builder | evenings | strikes | down with a live probe | most figures |",
        "|---|---|---|---|---|---|",
    ]  # fmt: skip
    for name in KINDS:
        strikes, down, whole, most = Counter(), Counter(), Counter(), Counter()
        for _, way, dead, _, _, looks, struck in evenings(name, range(count)):
            whole[way] += 1
            strikes[way] += len(struck)
            down[way] += looks > 0 and not dead
            most[way] = max(most[way], looks)
        alive = {w: sum(1 for s in range(count) if WAYS[s % len(WAYS)] == w
                        and not s // len(WAYS) % 2) for w in WAYS}  # fmt: skip
        lines += [
            f"| {name} | {way} | {whole[way]} | {strikes[way]} | {down[way]} of {alive[way]} | "
            f"{most[way]} |"
            for way in WAYS
        ]
    return lines


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
