"""Whoever moves a printer may die: the printer is halted all the same."""

import os
import signal
import subprocess
import sys
import time

import pytest

MOVES = """
import sys
from tallgrain.link.connect import connected
from tallgrain.link.last_word import LastWord
printer, word = connected(sys.argv[1], "A window"), LastWord()
word.watch(printer)
word.moving(sys.argv[2] == "moving")
print("up", flush=True)
printer.lift(150.0)
"""


def died(made, how, link):
    """How far a rise of 150 mm went after its program was killed in its middle (mm)."""
    before = made.truth()["gap_mm"]
    born = subprocess.Popen([sys.executable, "-c", MOVES, link, how], stdout=-1, text=True)
    assert born.stdout.readline() == "up\n"
    while made.truth()["gap_mm"] < before + 5.0:
        time.sleep(0.01)
    at = made.truth()["gap_mm"]
    os.kill(born.pid, signal.SIGKILL)
    born.wait()
    born.stdout.close()
    time.sleep(1.0)
    stands = made.truth()["gap_mm"]
    time.sleep(0.3)
    return stands - at, made.truth()["gap_mm"] - stands


@pytest.mark.parametrize("kind", ["json", "hazel"])
def test_a_program_that_dies_in_a_motion_leaves_nothing_moving(standin, kind):
    made = standin("--machine", "Rye", "--pace", "real", link=kind)
    went, still = died(made, "moving", made.url)
    assert went < 25.0 and still == 0.0  # at 25 mm/s: within a second


def test_where_nothing_moved_by_its_order_nothing_is_halted(standin):
    made = standin("--machine", "Rye", "--pace", "real", link="json")
    _, still = died(made, "resting", made.json)
    assert still > 1.0
