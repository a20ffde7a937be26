"""Text consoles: what is added to a touch and to a halt, and how fast a recording is read."""

import resource
import subprocess
import sys
import threading
import time

from standins import Standin, guard_on, looked_down, shipped_sheet
from tallgrain.errors import TallGrainError
from tallgrain.link.connect import HAND_OVER_S, connected

LINES = 1_000_000
# Halts on each link: every one is looked down and referenced for at a real pace first.
HALTS = 15
BUSY_HALTS = 200
# Reads a recording in a process of its own, so that its memory is its own too.
READ = """
import resource, sys, time
from pathlib import Path
from tallgrain.link.connect import dialect_named
from tallgrain.link.console.record import replayed
spoken = dialect_named("hazel")
said = spoken.operations["state"].lines
began, count, met = time.perf_counter(), 0, 0
for line in replayed(Path(sys.argv[1])):
    count += 1
    if not line.ours:
        met += any(spoken.read(s, line.line) is not None for s in said)
print(count, met, time.perf_counter() - began,
      resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""


def test_a_touch_over_a_pseudo_terminal(benchmark, tell):
    """A touch by each link; the console's own cost is what it takes beyond the other one's."""
    times = {}
    for link in ("json", "hazel", "medlar"):
        made = Standin(link=link)
        printer = connected(made.url, "The bench")
        guard = guard_on(printer, shipped_sheet("Barley"))
        guard.extend()
        guard.touch_at(100.0, 100.0)
        took = []
        for i in range(60):
            began = time.perf_counter()
            guard.touch_at(100.0 + i % 7, 100.0)
            took.append((time.perf_counter() - began) * 1000)
        guard.park()
        printer.close()
        made.stop()
        times[link] = sorted(took)[30]
    benchmark.pedantic(lambda: None, rounds=1)
    tell(
        f"a touch at instant pace, its travel and its questions: JSON-RPC {times['json']:.1f}, "
        f"TCP console {times['hazel']:.1f}, pseudo-terminal {times['medlar']:.1f} ms (10 more)"
    )


def test_a_halt_in_mid_touch_on_each_link(benchmark, tell):
    for link in ("json", "hazel", "medlar"):
        made = Standin("--pace", "real", "--speed", "20", link=link)
        printer = connected(made.url, "The bench")
        delays = []
        for _ in range(HALTS):
            guard = guard_on(printer, shipped_sheet("Barley"))
            looked_down(made, guard)

            def touch(guard=guard):
                try:
                    guard.reference()
                except TallGrainError:
                    return

            busy = threading.Thread(target=touch)
            busy.start()
            time.sleep(0.05)
            began = time.perf_counter()
            guard.halt()
            delays.append((printer.halt_sent_at - began) * 1000)
            busy.join()
        assert made.truth()["strikes"] == []
        printer.close()
        made.stop()
        delays.sort()
        tell(f"halt, call to wire in mid-touch, {link}: median {delays[HALTS // 2]:.2f}, "
             f"worst {delays[-1]:.2f} ms of {HALTS} (aim 30)")  # fmt: skip
    benchmark.pedantic(lambda: None, rounds=1)


def halted_beside(link, seconds):
    """How late a halt is on the wire (ms, sorted) that is due while eight threads compute, one
    waiting for its turn so long (s) at the most before it asks for it."""
    made, before, busy = Standin(link=link), sys.getswitchinterval(), threading.Event()
    printer = connected(made.url, "The bench")
    sys.setswitchinterval(seconds)

    def compute():
        count = 0
        while not busy.is_set():
            count += 1

    threads = [threading.Thread(target=compute, daemon=True) for _ in range(8)]
    late = []
    for thread in threads:
        thread.start()
    for _ in range(BUSY_HALTS):
        due = time.perf_counter() + 0.01
        time.sleep(max(due - time.perf_counter(), 0.0))
        printer.halt()
        late.append((printer.halt_sent_at - due) * 1000)
    busy.set()
    for thread in threads:
        thread.join()
    sys.setswitchinterval(before)
    printer.close()
    made.stop()
    return sorted(late)


def test_a_halt_beside_eight_busy_threads(benchmark, tell):
    for link in ("json", "hazel"):
        ours, usual = halted_beside(link, HAND_OVER_S), halted_beside(link, 0.005)
        half, most = len(ours) // 2, int(len(ours) * 0.99)
        tell(
            f"halt beside eight busy threads, due to wire, {link}: median {ours[half]:.2f}, p99 "
            f"{ours[most]:.2f} ms of {len(ours)} (aim 5); at the interpreter's own hand-over "
            f"{usual[half]:.1f} and {usual[most]:.1f} ms"
        )
    benchmark.pedantic(lambda: None, rounds=1)


def test_a_million_recorded_lines(benchmark, tell, tmp_path):
    path = tmp_path / "long.jsonl"
    said = ("at X12.5000 Y33.2500 Z1.84210", "nozzle 170.02 of 170.00", "done",
            "power=abc frame=12 known=yes")  # fmt: skip
    with path.open("w") as file:
        file.write('{"format":"tallgrain-session","version":1,"dialect":"Hazel"}\n')
        for i in range(LINES):
            who = "us" if i % 5 == 0 else "printer"
            line = "TELL" if i % 5 == 0 else said[i % 4]
            file.write(f'{{"at":{i / 100},"from":"{who}","line":"{line}"}}\n')
    told = subprocess.run(
        [sys.executable, "-c", READ, str(path)], capture_output=True, text=True, check=True
    ).stdout.split()
    benchmark.pedantic(lambda: None, rounds=1)
    assert int(told[0]) == LINES and resource.getpagesize()
    tell(f"a million recorded lines read and matched: {float(told[2]):.1f} s (aim 60), "
         f"{float(told[3]):.0f} MB (aim 300)")  # fmt: skip
