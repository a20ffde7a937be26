"""JSON-RPC 2.0 messages as lines of bytes: pure functions, no sockets."""

import json
from dataclasses import dataclass
from typing import Any

from tallgrain.errors import LinkError, LinkGone


@dataclass(frozen=True)
class Reply:
    """The answer to request `ident`."""

    ident: int
    result: Any


@dataclass(frozen=True)
class Refused:
    """The printer's no to request `ident`."""

    ident: int | None
    sentence: str
    reason: str


@dataclass(frozen=True)
class Notification:
    """Something told unasked."""

    method: str
    params: dict[str, Any]


Message = Reply | Refused | Notification


def encode(ident: int, method: str, params: dict[str, Any]) -> bytes:
    """One request as a line."""
    message = {"jsonrpc": "2.0", "id": ident, "method": method, "params": params}
    return json.dumps(message, separators=(",", ":"), allow_nan=False).encode() + b"\n"


def decode(line: bytes) -> Message:
    """One line as a message. Raises LinkError where it makes no sense."""
    try:
        message = json.loads(line)
    except (ValueError, RecursionError):
        raise _nonsense(line) from None
    if not isinstance(message, dict) or message.get("jsonrpc") != "2.0":
        raise _nonsense(line)
    ident, params = message.get("id"), message.get("params", {})
    if isinstance(message.get("method"), str) and ident is None and isinstance(params, dict):
        return Notification(message["method"], params)
    error = message.get("error")
    if isinstance(error, dict):
        data = error.get("data")
        reason = data.get("reason", "") if isinstance(data, dict) else ""
        number = ident if isinstance(ident, int) else None
        return Refused(number, str(error.get("message", "")), str(reason))
    if isinstance(ident, int) and "result" in message:
        return Reply(ident, message["result"])
    raise _nonsense(line)


def _nonsense(line: bytes) -> LinkError:
    shown = line[:40].decode("utf-8", "replace").strip()
    return LinkGone(
        f"the printer answered something that makes no sense ('{shown}').",
        "link",
        "Check what is connected there, then link again.",
    )
