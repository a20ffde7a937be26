"""The client against a printer that answers nonsense: every answer is a value or one sentence.

A scripted peer says the very lines; nothing else stands between it and the client.
"""

import json
import socket
import threading

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tallgrain.errors import JobError, LinkError, PrinterRefused
from tallgrain.link.client import JsonRpcPrinter, _place_of, _state_of

STATE = {
    "boot": "b", "frame": 1, "referenced": True, "reference_touch": {"x": 1, "y": 2, "z": 1.79},
    "moving": False, "motions": 4, "position": {"x": 1, "y": 2, "z": 40},
    "probe": {"extended": False, "tripped": False}, "nozzle": {"now_c": 22, "target_c": 0},
    "plate": {"now_c": 22, "target_c": 0}, "clock_s": 5, "not_kept": 0,
}  # fmt: skip
GOOD = {
    "printer.describe": {"name": "Barley", "serial": "S1", "boot": "b", "link": 1},
    "lease.take": {"token": "t"},
    "printer.state": STATE,
}


class Peer:
    """Answers each method from a table; an entry may be a whole line of bytes."""

    def __init__(self, answers):
        self.answers = {**GOOD, **answers}
        self.heard = []
        self._server = socket.create_server(("127.0.0.1", 0))
        self.url = f"tcp://127.0.0.1:{self._server.getsockname()[1]}"
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def _serve(self):
        while True:
            try:
                link, _ = self._server.accept()
            except OSError:
                return
            with link, link.makefile("rb") as lines:
                for line in lines:
                    request = json.loads(line)
                    self.heard.append(request["method"])
                    answer = self.answers.get(request["method"])
                    if answer is None:
                        break
                    if not isinstance(answer, bytes):
                        reply = {"jsonrpc": "2.0", "id": request["id"], "result": answer}
                        answer = json.dumps(reply).encode() + b"\n"
                    link.sendall(answer.replace(b"$ID", str(request["id"]).encode()))

    def stop(self):
        self._server.close()


@pytest.fixture
def peer():
    made = []

    def start(**answers):
        made.append(Peer({k.replace("_", ".", 1): v for k, v in answers.items()}))
        return made[-1]

    yield start
    for one in made:
        one.stop()


@pytest.mark.parametrize(
    ("answer", "kind", "said"),
    [
        (b"\x00\xff garbage\n", LinkError, "makes no sense"),
        (b'{"jsonrpc":"2.0","id":$ID,"result":[1]}\n', LinkError, "wrong form"),
        (b'{"jsonrpc":"2.0","id":$ID,"result":{"x":1,"y":2}}\n', LinkError, "that is none"),
        (b'{"jsonrpc":"2.0","id":$ID,"result":{"x":1,"y":2,"z":1e99}}\n', LinkError, "can't be"),
        (b'{"jsonrpc":"2.0","id":$ID,"error":{"message":"no"}}\n', PrinterRefused, "No."),
        (b'{"jsonrpc":"2.0","id":$ID,"error":"broken"}\n', LinkError, "makes no sense"),
        (b'{"jsonrpc":"2.0","id":99999,"result":{}}\n{"jsonrpc":"1.0"}\n', LinkError, "no sense"),
        (None, LinkError, "gone"),
    ],
)  # fmt: skip
def test_each_kind_of_nonsense_is_a_sentence(peer, answer, kind, said):
    made = peer(motion_touch=answer)
    printer = JsonRpcPrinter(made.url, "A test")
    with pytest.raises(kind, match=said) as caught:
        printer.touch(1.0)
    assert isinstance(caught.value, JobError)
    printer.close()


def test_a_reply_twice_or_to_something_else_is_passed_over(peer):
    line = b'{"jsonrpc":"2.0","id":$ID,"result":{"x":1,"y":2,"z":1.8}}\n'
    stray = b'{"jsonrpc":"2.0","id":424242,"result":{"x":9,"y":9,"z":9}}\n'
    made = peer(motion_touch=stray + line + line)
    printer = JsonRpcPrinter(made.url, "A test")
    assert [printer.touch(1.0).z for _ in range(3)] == [1.8] * 3
    assert printer.up
    printer.close()


@pytest.mark.parametrize(
    ("answers", "said"),
    [
        ({"printer_describe": {"link": 7, "name": "x", "serial": "s", "boot": "b"}}, "version 7"),
        ({"printer_describe": [1, 2]}, "wrong form"),
        ({"values_list": {"trip_drop_mm": {"live": "far"}}}, "does not tell its value trip_drop"),
        ({"values_list": {}}, "trip height"),
    ],
)
def test_a_printer_of_another_kind_is_refused(peer, answers, said):
    made = peer(**answers)
    with pytest.raises(LinkError, match=said):
        printer = JsonRpcPrinter(made.url, "A test")
        try:
            printer.trip_height()
        finally:
            printer.close()


def test_another_printer_at_the_same_address_is_noticed(peer):
    made = peer()
    printer = JsonRpcPrinter(made.url, "A test")
    made.answers["printer.describe"] = {**GOOD["printer.describe"], "serial": "S2"}
    with pytest.raises(LinkError, match="another printer answers"):
        printer.reconnect()
    printer.close()


anything = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=5),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=4), inner),
    max_leaves=6,
)


@settings(max_examples=200, deadline=None)
@given(st.sampled_from([*STATE, None]), anything)
def test_states_with_any_field_spoilt_are_states_or_sentences(field, value):
    told = value if field is None else {**STATE, field: value}
    try:
        state = _state_of(told)
    except LinkError as error:
        assert str(error)
    else:
        assert abs(state.position.z) < 1e5
    try:
        _place_of(value)
    except LinkError as error:
        assert "position" in str(error) or "form" in str(error)
