"""A console in step: whatever it says and when, no line is taken for another's answer."""

import contextlib
import threading
import time
from collections import deque

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tallgrain.errors import LinkError, LinkSilent, PrinterRefused, TallGrainError
from tallgrain.link.console.channel import ConsoleChannel
from taught import taught

STATE = ("at 1.0 2.0 {z}", "known yes frame 1 woke ab", "pin in open moving no ways 1",
         "nozzle 20.0 to 0.0", "plate 20.0 to 0.0", "unkept 0",
         "below 0.0 clock 1.0 printing no")  # fmt: skip


class Wire:
    """A line whose other end answers by a script: for each line sent, what comes and how late."""

    def __init__(self, answer):
        self.answer, self.sent = answer, []
        self._out, self._turn, self._closed = deque(), threading.Condition(), False

    def write(self, data):
        line = data.decode().strip()
        self.sent.append(line)
        with self._turn:
            self._out.extend(self.answer(line, len(self.sent)))
            self._turn.notify_all()

    def read(self):
        with self._turn:
            self._turn.wait_for(lambda: self._out or self._closed, timeout=0.05)
            if self._closed:
                raise OSError("closed")
            if not self._out:
                return b""
            wait, line = self._out.popleft()
        if wait:
            time.sleep(wait)
        if line is None:
            raise OSError("gone")
        return line.encode() + b"\n"

    def close(self):
        self._closed = True


def plain(line, count, z=10.0):
    """A console that answers as it should, z its height."""
    if line == "tell":
        return [*((0, s.format(z=z)) for s in STATE), (0, "so")]
    if line.startswith("feel"):
        return [(0, f"felt 1.0 2.0 {z}"), (0, "so")]
    return [(0, "so")]


@contextlib.contextmanager
def channel(answer, *traits, **framing):
    dialect = taught(*traits)
    lines = dialect.framing.model_copy(update={"silence_s": 0.6, **framing})
    dialect = dialect.model_copy(update={"framing": lines})
    wire = Wire(answer)
    made = ConsoleChannel(dialect, wire, "a wire")
    try:
        yield made, wire
    finally:
        made.close()


def z_of(said):
    return next(line["z"] for line in said if "z" in line)


@pytest.mark.parametrize("late", [0.0, 0.15])
def test_a_closing_line_after_a_no_closes_nothing_else(late):
    """Taught that it comes, it is waited for; never taught, nothing is told that was not said."""

    def answer(line, count):
        if line.startswith("up"):
            return [(0, "but bad_value, not so"), (late, "so")]
        return plain(line, count)

    with channel(answer, "late") as (made, _):
        with pytest.raises(PrinterRefused, match="Not so"):
            made.ask("lift", 2.0, True, mm=5.0)
        assert z_of(made.ask("state", 2.0, False)) == 10.0
    with channel(answer) as (made, _):
        with pytest.raises(PrinterRefused):
            made.ask("lift", 2.0, True, mm=5.0)
        said = made.ask("state", 2.0, False)
        assert not said or z_of(said) == 10.0  # a reply without its lines is none of a state


@settings(max_examples=25)
@given(
    st.lists(st.sampled_from(["now at 9 9 9", "hold on", "the wind is west", "so far so good"]),
             max_size=6),
    st.integers(0, 7),
)  # fmt: skip
def test_reports_between_the_lines_of_a_reply_change_nothing(reports, at):
    def answer(line, count):
        said = plain(line, count)
        return [*said[:at], *((0, r) for r in reports), *said[at:]]

    with channel(answer, "unasked") as (made, _):
        for _ in range(3):
            assert z_of(made.ask("state", 2.0, False)) == 10.0
            assert z_of(made.ask("touch", 2.0, True, floor=1.0)) == 10.0


def test_what_was_refused_is_not_gone_on_with():
    """Two lines ask for a way: where the first is refused, the second may mean something else."""

    def answer(line, count):
        return [(0, "but bad_value, no")] if line == "relative" else plain(line, count)

    with channel(answer) as (made, wire):
        made.dialect.operations["lift"].__dict__["send"] = ("relative", "up {mm.4}")
        with pytest.raises(PrinterRefused):
            made.ask("lift", 2.0, True, mm=5.0)
        assert wire.sent == ["relative"]
        assert z_of(made.ask("state", 2.0, False)) == 10.0


def test_a_line_waits_for_the_one_before_where_only_one_may_be_on_its_way():
    order = []

    def answer(line, count):
        order.append(line)
        return [(0.05, "so")]

    with channel(answer, "queued") as (made, wire):
        made.ask("lift", 2.0, True, mm=5.0)
        assert wire.sent == order == ["up 5.0000", "wait"]


@pytest.mark.parametrize("busy", [True, False])
def test_silence_is_told_within_what_the_dialect_says(busy):
    """Also in a long motion, where it says now and then that it is at it."""
    still = [(0.2, "hold on")] * 3 if busy else []

    def answer(line, count):
        return still if line.startswith("go") else plain(line, count)

    with channel(answer) as (made, _):
        # Not only after the hour that the way might take.
        with pytest.raises(LinkSilent, match="has not answered"):
            made.ask("go", 3600.0, True, x=1, y=2, z=3)
        with pytest.raises(LinkError):
            made.ask("state", 2.0, False)  # its late answer would be taken for this one's


@pytest.mark.parametrize("at", range(1, 6))
def test_a_connection_that_drops_anywhere_is_told_and_nothing_is_made_up(at):
    def answer(line, count):
        said = plain(line, count)
        return [*said[:at], (0, None)]

    with channel(answer) as (made, _):
        with pytest.raises(TallGrainError) as told:
            made.ask("state", 2.0, False)
        assert isinstance(told.value, LinkError) and made.cut


def test_a_plain_halt_ends_the_way_and_its_late_closing_line_ends_nothing_else():
    moving = threading.Event()

    def answer(line, count):
        if line.startswith("up"):
            moving.set()
            return []
        if line == "halt":
            return [(0, "so"), (0.1, "but halted, stopped")]
        return plain(line, count)

    with channel(answer, "plain-halt", silence_s=5.0) as (made, _):
        ended = []

        def rise():
            try:
                made.ask("lift", 5.0, True, mm=5.0)
            except TallGrainError as error:
                ended.append(error)

        way = threading.Thread(target=rise)
        way.start()
        assert moving.wait(5)
        assert made.halt(2.0)
        way.join(5)
        assert ended and ended[0].reason == "halted"
        assert z_of(made.ask("state", 2.0, False)) == 10.0
