"""What hostile files of 10 MB cost, and what holding each answer against what was asked adds."""

import os
import subprocess
import sys
import time

import pytest

from standins import Standin, guard_on, shipped_sheet
from tallgrain.link.connect import connected

SIZE = 10_000_000
# In a process of its own, so that its memory is its own too.
READ = """
import resource, sys, time
from pathlib import Path
from tallgrain.clock import now
from tallgrain.errors import TallGrainError
from tallgrain.formats.files import read_survey
from tallgrain.formats.gap_json import read_gap
from tallgrain.formats.machine_toml import read_sheet_text
from tallgrain.formats.program_scan import first_layer
path = Path(sys.argv[1])
read = {".toml": read_sheet_text, ".ngc": lambda p: list(first_layer(p))}.get(
    path.suffix, read_gap if path.stem == "gap" else lambda p: read_survey(p, now()))
began = time.perf_counter()
path.read_bytes()
bare = time.perf_counter() - began
began = time.perf_counter()
try:
    read(path)
except TallGrainError:
    pass
print(time.perf_counter() - began, bare, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""
HOSTILE = {
    "newlines.csv": b"\n" * SIZE,
    "points.csv": b"".join(b"%d %d 0.1\n" % (i % 3000, i // 3000) for i in range(SIZE // 14)),
    "one-line.csv": b"1 " * (SIZE // 2),
    "commas.csv": b"," * SIZE,
    "deep.json": b"[" * SIZE,
    "digits.json": b'{"a":' + b"9" * SIZE + b"}",
    "points.json": b"{\"format\":\"tallgrain-survey\",\"points\":[" + b"{}," * 800_000 + b"{}]}",
    "gap.json": b'{"format":"tallgrain-gap","version":1,"touches":[' + b"{}," * 3_000_000 + b"{}]}",
    "blank.sdf": b"aISO-1.0\n" + b"\n \n" * (SIZE // 3),
    "keys.toml": b"a." * 490_000 + b"b=1",
    "tables.toml": b"".join(b"[a.b%d]\n" % i for i in range(80_000)),
    "arcs.ngc": b"G21 M83\nG1 Z0.2\n"
    + b"G2 X1 Y1 I4000 J1 E1\nG2 X0 Y0 I4000 J1 E1\n" * (SIZE // 42),
    "long-ways.ngc": b"G21 M83\nG1 Z0.2\n" + b"G1 X9999 E1\nG1 X0 E1\n" * (SIZE // 22),
    "matrix.txt": b"# matrix x 0 1 y 0 1\n" + (b"0 " * 1999 + b"0\n") * (SIZE // 4000),
}  # fmt: skip


@pytest.mark.parametrize("name", HOSTILE)
def test_a_hostile_file_of_10_mb(benchmark, tell, tmp_path, name):
    path = tmp_path / name
    path.write_bytes(HOSTILE[name])
    told = subprocess.run([sys.executable, "-c", READ, str(path)], capture_output=True, text=True)
    took, bare, peak = map(float, told.stdout.split())
    benchmark.pedantic(lambda: None, rounds=1)
    tell(f"{name}: {took:.2f} s, {took / bare:.0f} × reading its bytes, {peak:.0f} MB (10 s, 500)")


def test_what_checking_arrivals_adds_to_a_touch(benchmark, tell):
    """A touch by the guard against the same motions asked of the printer itself."""
    made = Standin(link="json")
    printer = connected(made.url, "The bench")
    guard = guard_on(printer, shipped_sheet("Barley"))
    guard.reference()
    guard.extend()
    guard.touch_at(100.0, 100.0)
    times = {"checked": [], "bare": []}
    z = printer.state().position.z
    for i in range(120):
        began = time.perf_counter()
        guard.touch_at(100.0 + i % 7, 100.0)
        times["checked"].append(time.perf_counter() - began)
        began = time.perf_counter()
        printer.go(78.5 + i % 7, 117.0, z)
        printer.touch(guard.floor_at(78.5 + i % 7, 117.0))
        printer.lift(4.25)
        times["bare"].append(time.perf_counter() - began)
        guard.attach()
    guard.park()
    printer.close()
    made.stop()
    checked, bare = (sorted(t)[60] * 1000 for t in times.values())
    benchmark.pedantic(lambda: None, rounds=1)
    tell(f"a touch with its arrival checked: {checked:.2f} ms / {bare:.2f} ms bare = "
         f"{checked / bare:.2f} (no more messages, 2 ms more; {os.cpu_count()} cores)")  # fmt: skip
