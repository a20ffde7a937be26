"""Printers behind a text console: the same as by the other link, whatever befalls the line."""

import contextlib
import shutil
import socket
import subprocess
import tempfile
import threading
import time

import pytest

from standins import Rpc, guard_on, shipped_sheet
from tallgrain.errors import Halted, LeaseHeld, LinkError, PrinterRefused, TallGrainError, TrustLost
from tallgrain.link.connect import connected, dialect_named
from tallgrain.link.console import printer as console_printer
from tallgrain.link.console.printer import ConsolePrinter
from tallgrain.link.console.record import replayed
from tallgrain.link.console.transport import parse_console_url
from tallgrain.link.protocol import Place

CONSOLES = ("hazel", "medlar")
LINKS = ("json", *CONSOLES)


@pytest.fixture
def on(standin):
    """A stand-in on a link of one's choice, with its printer and guard."""
    opened = []

    def open_on(link, *options, machine="Barley"):
        made = standin("--machine", machine, *options, link=link)
        printer = connected(made.url, "A test")
        opened.append(printer)
        return made, printer, guard_on(printer, shipped_sheet(machine))

    yield open_on
    for printer in opened:
        printer.close()


@pytest.mark.parametrize("link", CONSOLES)
@pytest.mark.parametrize("machine", ["Barley", "Millet"])
def test_a_console_tells_what_the_other_link_tells(on, link, machine):
    """Every figure, in our signs and units, beside what the stand-in says in its own."""
    made, printer, guard = on(link, machine=machine)
    printer.heat(150.0, 55.0)
    printer.wait_for_heat()
    guard.reference()
    name = shipped_sheet(machine).supports[0].name if machine == "Barley" else None
    if name:
        printer.raise_support(name, 0.05)
    printer.set_value("offset_x", 3.5)
    other = Rpc(made.json)
    told, values = other("printer.state"), other("values.list")
    other.close()
    state = printer.state()
    for ours, theirs in (
        (state.position, told["position"]),
        *(((state.reference_touch, told["reference_touch"]),) if told["reference_touch"] else ()),
    ):
        assert (ours.x, ours.y, ours.z) == pytest.approx((theirs["x"], theirs["y"], theirs["z"]),
                                                         abs=1e-4)  # fmt: skip
    for heat, name in ((state.nozzle, "nozzle"), (state.plate, "plate")):
        assert heat.now_c == pytest.approx(told[name]["now_c"], abs=0.5)
        assert heat.target_c == pytest.approx(told[name]["target_c"], abs=0.02)
    assert (state.boot, state.frame, state.referenced, state.extended, state.motions) == (
        told["boot"], told["frame"], told["referenced"], told["probe"]["extended"],
        told["motions"],
    )  # fmt: skip
    assert state.not_kept == told["not_kept"] == 1
    assert dict(state.supports) == pytest.approx(told["supports"], abs=1e-5)
    mine = {v.meaning: v for v in printer.values()}
    reference = Rpc(made.json)
    reference.close()
    assert len(mine) == len(values)
    assert mine["offset_x"].ours == pytest.approx(3.5)
    assert mine["trip_height"].ours == pytest.approx(-values["trip_drop_mm"]["live"])
    if machine == "Millet":
        assert mine["rod_length"].ours == pytest.approx(values["arm_mm"]["live"])
        assert mine["angle_right"].ours == pytest.approx(330 - values["foot_right_deg"]["live"])
    printer.keep_values()
    assert printer.state().not_kept == 0


# The matrix: each fault, at each kind of operation, on each link


def at_touch(guard):
    guard.extend()
    guard.touch_at(100.0, 100.0)


OPERATIONS = {
    "touch": at_touch,
    "reference": lambda guard: guard.reference(),
    "go": lambda guard: [guard.printer.go(*p) for p in ((40, 40, 40), (300, 300, 60))],
    "wait": lambda guard: guard.printer.rest(20.0),
    "values": lambda guard: guard.printer.values(),
    "set": lambda guard: guard.printer.set_value("offset_y", -16.0),
}
FAULTS = ("closed", "closed-in-touch", "garbage", "silent:1:2", "restart", "pulled")


# At a touch's begin or in it; and in the middle of anything.
MATRIX = [(f, o) for o in ("touch", "reference") for f in FAULTS]
IN_THE_MIDDLE = ("closed:0", "garbage:0", "silent:0:2", "restart:0", "pulled")
MATRIX += [(f, o) for o in OPERATIONS if o not in ("touch", "reference") for f in IN_THE_MIDDLE]


@pytest.mark.parametrize("link", LINKS)
@pytest.mark.parametrize(("fault", "operation"), MATRIX)
def test_each_fault_at_each_operation_ends_in_a_sentence(on, monkeypatch, link, fault, operation):
    """Nothing is struck, nothing is believed that was not heard, and the link can be made again."""
    made, printer, guard = on(link, "--pace", "real", "--speed", "25")
    timer = None
    if fault == "pulled":
        timer = threading.Timer(0.15, lambda: made.hands("hands.cable", plugged=False))
    elif ":0" in fault:
        timer = threading.Timer(0.15, lambda: made.hands("hands.fault", fault=fault))
    if timer is not None:
        timer.start()
    else:
        made.hands("hands.fault", fault=fault)
    error = None
    try:
        OPERATIONS[operation](guard)
        if timer is not None:  # a short one may be over too soon: once more, to meet it
            timer.join()
            OPERATIONS[operation](guard)
    except TallGrainError as caught:
        error = caught
    if timer is not None:
        timer.join()
    if fault == "pulled":
        made.hands("hands.cable", plugged=True)
        time.sleep(0.15)  # until both ends have seen it
    made.hands("hands.mend")
    if error is not None:
        assert error.what and not isinstance(error, Halted)
    if not printer.up or isinstance(error, LinkError):
        with contextlib.suppress(TrustLost):
            printer.reconnect()
        state = guard.attach()
        if fault.startswith("restart"):
            assert not state.referenced and not guard.trusted
            with pytest.raises(TrustLost):
                guard.touch_at(100.0, 100.0)
    guard.attach()  # it was asked past the guard
    guard.park()
    assert printer.up and made.truth()["strikes"] == []


@pytest.mark.parametrize("link", LINKS)
def test_a_halt_goes_ahead_of_a_touch_and_is_not_taken_for_its_answer(on, link):
    made, printer, guard = on(link, "--pace", "real", "--speed", "1")
    guard.extend()
    errors = []

    def touch():
        try:
            guard.touch_at(100.0, 100.0)
        except TallGrainError as error:
            errors.append(error)

    busy = threading.Thread(target=touch)
    busy.start()
    until = time.monotonic() + 10
    while made.truth()["z"] > 38 and time.monotonic() < until:
        time.sleep(0.02)
    asked = time.perf_counter()
    guard.halt()
    assert printer.halt_sent_at - asked < 5  # how fast it is, the bench measures
    busy.join(timeout=10)
    assert errors and not busy.is_alive()
    state = printer.state()
    assert not state.moving and not state.referenced
    assert printer.identity.name == "Barley" and printer.values()


@pytest.mark.parametrize("link", CONSOLES)
def test_one_holder_at_a_time(on, link):
    made, _, _ = on(link)
    with pytest.raises(LeaseHeld, match="A test holds this printer"):
        connected(made.url, "Another")


@pytest.mark.parametrize("link", CONSOLES)
def test_a_restart_is_noticed_by_its_greeting(on, link):
    made, printer, guard = on(link)
    assert guard.trusted
    made.hands("hands.power")
    time.sleep(0.3)
    with pytest.raises(LinkError, match="restarted"):
        printer.state()
    with pytest.raises(TrustLost, match="restarted"):
        printer.reconnect()
    guard.attach()
    assert not guard.trusted


class Lossy:
    """A line that damages some of what is sent over it."""

    def __init__(self, way, every):
        self._way, self._every, self._count = way, every, 0

    def write(self, data):
        self._count += 1
        if self._count % self._every == 0 and len(data) > 8:
            data = data[:5] + bytes([data[5] ^ 1]) + data[6:]
        self._way.write(data)

    def __getattr__(self, name):
        return getattr(self._way, name)


def test_a_damaged_line_is_sent_again(standin, monkeypatch):
    """Medlar's lines are summed: what comes damaged is asked for again, and nothing is lost."""
    made = standin(link="medlar")
    whole = console_printer.opened
    monkeypatch.setattr(console_printer, "opened", lambda *args: Lossy(whole(*args), 3))
    printer = connected(made.url, "A test")
    for i in range(12):
        assert printer.go(50.0 + i, 60.0, 40.0).position.x == pytest.approx(50.0 + i)
    printer.close()
    monkeypatch.setattr(console_printer, "opened", lambda *args: Lossy(whole(*args), 1))
    with pytest.raises(LinkError, match=r"again and again|in time"):
        connected(made.url, "A test")


class Scripted:
    """A line that says what it is told to say."""

    def __init__(self, answers):
        self._answers, self._out = answers, []
        self.sent = []

    def write(self, data):
        self.sent.append(data.decode().strip())
        answer = self._answers.get(self.sent[-1].split()[0], b"done\n")
        self._out.append(answer)

    def read(self):
        if self._out:
            return self._out.pop(0)
        time.sleep(0.01)
        return b""

    def close(self):
        pass


WHO = b"name=Oats serial=1 power=a\ndone\n"


def scripted(monkeypatch, answers, **changes):
    monkeypatch.setenv("XDG_RUNTIME_DIR", tempfile.mkdtemp())  # each worker's leases are its own
    dialect = dialect_named("hazel").model_copy(update=changes)
    way = Scripted({"WHO": WHO, **answers})
    monkeypatch.setattr(console_printer, "opened", lambda *args: way)
    url = parse_console_url("socket://127.0.0.1:1?dialect=hazel")
    return ConsolePrinter(url, dialect, "A test"), way


def test_noise_of_a_wrong_rate_is_recognised(monkeypatch):
    with pytest.raises(LinkError, match="rate is another"):
        scripted(
            monkeypatch, {"WHO": b"\xfe\x80\x01\x9c" * 40 + b"\n" + b"\xfe\x02\x9c" * 40 + b"\n"}
        )


@pytest.mark.parametrize(
    ("answer", "said"),
    [
        (b"met nothing of use\ndone\n", "does not tell z"),
        (b"met X1 Y2 Z1e9\ndone\n", "can't be"),
        (b"met X1 Y2 Z1,50\ndone\n", "does not tell z"),
        (b"met X1 Y2 Z999999999\ndone\n", "can't be"),
        (b"no no_trip the probe did not trip\n", "did not trip"),
    ],
)
def test_replies_that_make_no_sense_are_sentences(monkeypatch, answer, said):
    printer, _ = scripted(monkeypatch, {"G38.2": answer})
    with pytest.raises(TallGrainError, match=said):
        printer.touch(1.0)
    printer.close()


def test_what_a_dialect_declares_absent_is_worked_around_or_said(monkeypatch):
    whole = dialect_named("hazel")
    few = {k: v for k, v in whole.operations.items()
           if k not in ("extend", "retract", "values", "nudge", "rest", "lower")}  # fmt: skip
    printer, way = scripted(
        monkeypatch,
        {"TELL": b"at X1 Y2 Z30\ndone\n", "G38.2": b"met X1 Y2 Z1.5\ndone\n"}, operations=few,
    )  # fmt: skip
    printer.extend()
    assert printer.state().extended and printer.values() == ()
    assert printer.touch(1.0) == Place(1, 2, 1.5)
    for act, words in ((lambda: printer.nudge(0.01), "nudge"), (lambda: printer.lower(1), "lower")):
        with pytest.raises(PrinterRefused, match=words):
            act()
    with pytest.raises(LinkError, match="trip height"):
        printer.trip_height()
    # Not told apart, every connection is another power-on: nothing rests on the one before.
    assert not printer.state().referenced
    assert not any(line.startswith(("PROBE", "NUDGE", "G91")) for line in way.sent)
    printer.close()


def test_a_session_is_recorded_and_says_the_same_again(standin, tmp_path):
    made = standin(link="hazel")
    path = tmp_path / "evening.jsonl"
    printer = connected(made.url, "A test", record=path)
    guard = guard_on(printer, shipped_sheet("Barley"))
    guard.extend()
    z = guard.touch_at(100.0, 100.0)
    guard.park()
    printer.close()
    lines = list(replayed(path))
    said = dialect_named("hazel").operations["touch"].lines[0]
    met = [m for s in lines if not s.ours and (m := said.pattern.match(s.line)) is not None]
    assert any(m["z"] == pytest.approx(z, abs=1e-4) for m in met)
    assert any(s.ours and s.line.startswith("G38.2") for s in lines)
    # By the address, as the window does it: linked to again, nothing is written over.
    for name in ("again.jsonl", "again-2.jsonl"):
        connected(f"{made.url}&record={tmp_path}/again.jsonl", "A test").close()
        assert sum(s.ours for s in replayed(tmp_path / name)) > 0


@pytest.mark.skipif(shutil.which("ser2net") is None, reason="needs Debian's ser2net")
def test_a_serial_port_on_the_network(standin, tmp_path):
    """RFC 2217 through a server program from elsewhere, to a pseudo-terminal behind it."""
    made = standin(link="medlar")
    device = parse_console_url(made.url).where
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    settings = tmp_path / "ser2net.yaml"
    settings.write_text(
        f"connection: &one\n  accepter: telnet(rfc2217),tcp,127.0.0.1,{port}\n"
        f"  connector: serialdev,{device},115200n81,local\n"
    )
    server = subprocess.Popen(["ser2net", "-n", "-c", str(settings), "-P", str(tmp_path / "pid")])
    try:
        until = time.monotonic() + 10
        while True:
            try:
                printer = connected(f"rfc2217://127.0.0.1:{port}?dialect=medlar", "A test")
                break
            except LinkError:
                assert time.monotonic() < until
                time.sleep(0.2)
        guard = guard_on(printer, shipped_sheet("Barley"))
        guard.extend()
        z = guard.touch_at(100.0, 100.0) - printer.trip_height()
        assert z == pytest.approx(made.heights([(100.0, 100.0)])["heights"][0], abs=0.05)
        guard.park()
        printer.close()
    finally:
        server.terminate()
        server.wait()
