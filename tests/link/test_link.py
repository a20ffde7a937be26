import json
import socket
import threading
import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tallgrain.errors import InputError, LeaseHeld, LinkError, PrinterRefused, TrustLost
from tallgrain.link.channel import Channel
from tallgrain.link.client import JsonRpcPrinter, parse_url
from tallgrain.link.connect import connected
from tallgrain.link.wire import Notification, Refused, Reply, decode, encode


@given(st.binary(max_size=200))
def test_no_line_breaks_the_decoder(line):
    try:
        assert isinstance(decode(line), Reply | Refused | Notification)
    except LinkError as error:
        assert "no sense" in str(error)


json_values = st.recursive(
    st.none() | st.booleans() | st.floats(allow_nan=False) | st.text(),
    lambda inner: st.lists(inner) | st.dictionaries(st.text(), inner),
    max_leaves=10,
)


@given(json_values)
def test_any_json_reply_is_a_message_or_a_sentence(value):
    for message in (value, {"jsonrpc": "2.0", "id": 1, "result": value}):
        try:
            decode(json.dumps(message).encode())
        except LinkError:
            assert message is value


def test_requests_are_standard_lines():
    line = encode(7, "motion.go", {"x": 1.5})
    assert line.endswith(b"\n")
    assert json.loads(line) == {
        "jsonrpc": "2.0", "id": 7, "method": "motion.go", "params": {"x": 1.5}
    }  # fmt: skip


@pytest.mark.parametrize(
    ("url", "said"),
    [
        ("tcp://192.168.1.4:99", "--remote"),
        ("tcp://printer.example:99", "--remote"),
        ("http://127.0.0.1:80", "not a link"),
        ("tcp://127.0.0.1", "not a link"),
        ("tcp://127.0.0.1:99999", "not a link"),
        ("", "not a link"),
    ],
)
def test_only_this_computers_printers_unasked(url, said):
    with pytest.raises(InputError, match=said):
        parse_url(url)


def answer(server, says):
    """Whoever takes a connection, says so much and waits."""
    there, _ = server.accept()
    with there:
        there.sendall(says)
        while there.recv(4096):
            pass


def test_addresses_that_are_taken():
    assert parse_url("tcp://localhost:99") == ("localhost", 99)
    assert parse_url("tcp://[::1]:99") == ("::1", 99)
    assert parse_url("tcp://192.168.1.4:99", remote=True) == ("192.168.1.4", 99)
    # A web server and a silent socket are no printers either: none is said to be moving.
    for says in (b"HTTP/1.1 400 Bad Request\r\n\r\n", b""):
        with socket.create_server(("127.0.0.1", 0)) as other:
            url = f"tcp://127.0.0.1:{other.getsockname()[1]}"
            serve = threading.Thread(target=answer, args=(other, says), daemon=True)
            serve.start()
            with pytest.raises(LinkError, match="no printer answers") as told:
                JsonRpcPrinter(url, "A test")
            assert "power switch" not in str(told.value)
    with socket.socket() as nobody, pytest.raises(LinkError, match="no printer answers"):
        nobody.bind(("127.0.0.1", 0))
        JsonRpcPrinter(f"tcp://127.0.0.1:{nobody.getsockname()[1]}", "A test")


def test_a_halt_overtakes_what_waits():
    """With the wire jammed, a halt goes out ahead of requests that were asked for before it."""
    with socket.create_server(("127.0.0.1", 0)) as server:
        channel = Channel(server.getsockname(), lambda note: None, "test")
        peer, _ = server.accept()
        big = {"x": "y" * 6_000_000}
        waiting = [
            threading.Thread(target=_ignore, args=(channel, f"slow.{i}", big)) for i in range(6)
        ]
        for thread in waiting:
            thread.start()
            time.sleep(0.05)
        channel.urgent("motion.halt").add_done_callback(lambda f: f.exception())
        file = peer.makefile("rb")
        order = [json.loads(file.readline())["method"] for _ in range(7)]
        channel.close()
        for thread in waiting:
            thread.join()
        file.close()
        peer.close()
    # The system's own buffers hold the first ones; what still waited with us came after the halt.
    assert order.index("motion.halt") <= 3


def _ignore(channel, method, params):
    with pytest.raises(LinkError):
        channel.call(method, params, 20)


def test_one_holder_at_a_time_and_the_lease_is_given_back(standin):
    made = standin()
    first = connected(made.url, "The first window")
    with pytest.raises(LeaseHeld, match="The first window holds this printer"):
        connected(made.url, "Another")
    first.close()
    time.sleep(0.1)
    second = connected(made.url, "Another")
    with pytest.raises(PrinterRefused, match="outside"):
        second.go(9999.0, 0.0, 50.0)
    second.close()


def test_reconnecting_notices_a_restart(linked):
    made, printer, guard = linked()
    told = []
    printer.on_state = told.append
    assert guard.trusted
    printer.reconnect()
    made.hands("hands.power")
    with pytest.raises(LinkError):
        printer.state()
    with pytest.raises(TrustLost, match="its position is unknown"):
        printer.reconnect()
    guard.attach()
    assert not guard.trusted
    deadline = time.monotonic() + 5
    while not told and time.monotonic() < deadline:
        time.sleep(0.05)
    assert told and not told[-1].referenced


def test_a_silent_printer_is_given_up_and_said(linked):
    _, printer, _ = linked("--fault", "silent:1")
    with pytest.raises(LinkError, match="has not answered"):
        printer.touch(1.6)
    assert printer.silent_s > 2
