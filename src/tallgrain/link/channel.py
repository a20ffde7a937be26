"""The thread that owns one connection: requests go out in order, a halt ahead of all of them."""

import logging
import selectors
import socket
import threading
import time
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future
from concurrent.futures import TimeoutError as FutureTimeout
from contextlib import suppress
from typing import Any

from tallgrain.errors import LinkError, LinkGone, LinkSilent, PrinterRefused, TallGrainError
from tallgrain.link.wire import Notification, Refused, Reply, decode, encode

log = logging.getLogger(__name__)

CONNECT_S = 3.0
SILENCE_S = 6.0
LONGEST_LINE = 1 << 20
# The number of a request whose reply nobody waits for.
NOBODY = (1 << 31) - 1
HALT = "motion.halt"


class Channel:
    """One connection to a printer.

    All reading and writing happens in the channel's own thread; callers wait for their reply. A
    connection that hears nothing at all for SILENCE_S fails every waiting request, because a
    printer that is alive tells its state twice a second.
    """

    def __init__(
        self, address: tuple[str, int], on_notification: Callable[[Notification], None], where: str
    ) -> None:
        self.where = where
        self._on_notification = on_notification
        try:
            self._socket = socket.create_connection(address, timeout=CONNECT_S)
        except OSError as error:
            raise LinkError(
                f"no printer answers there ({error.strerror or error}).",
                where,
                "Check that it is switched on and the address is right.",
            ) from None
        self._socket.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self._socket.setblocking(False)
        self._wake_out, self._wake_in = socket.socketpair()
        self._guard = threading.Lock()
        self._urgent: deque[bytes] = deque()
        self._outgoing: deque[bytes] = deque()
        self._waiting: dict[int, Future[Any]] = {}
        self._last_id = 0
        self._partly = b""
        self._ended: TallGrainError | None = None
        self.heard_at = time.monotonic()
        self.urgent_sent_at = 0.0
        self._thread = threading.Thread(target=self._run, name="link", daemon=True)
        self._thread.start()

    # For callers, from any thread

    @property
    def ended(self) -> TallGrainError | None:
        """Why the connection ended; None while it is up."""
        return self._ended

    def call(self, method: str, params: dict[str, Any], limit_s: float) -> Any:
        """Send a request and wait for its result. Raises LinkError or PrinterRefused."""
        ident, future = self._send(method, params, urgent=False)
        until = time.monotonic() + limit_s
        while True:
            try:
                return future.result(timeout=max(min(until - time.monotonic(), 0.5), 0.001))
            except FutureTimeout:
                now = time.monotonic()
                if now >= until or now - self.heard_at > SILENCE_S:
                    with self._guard:
                        self._waiting.pop(ident, None)
                    raise self._silent(method) from None

    def urgent(self, method: str) -> "Future[Any]":
        """Send a request ahead of all others; does not wait."""
        return self._send(method, {}, urgent=True)[1]

    def send(self, method: str, params: dict[str, Any]) -> None:
        """Send a request whose reply nobody waits for. Raises LinkError."""
        self._send(method, params, urgent=False)

    def wire(self) -> tuple[int, bytes] | None:
        """The socket, and a halt that nobody waits for; None where it ended."""
        if self._ended is not None:
            return None
        return self._socket.fileno(), b"\n" + encode(NOBODY, HALT, {})

    def close(self) -> None:
        """End the connection and its thread."""
        self._end(LinkError("the link was closed.", self.where))
        self._poke()
        if threading.current_thread() is not self._thread:
            self._thread.join(timeout=2)

    def _silent(self, method: str) -> LinkSilent:
        log.info("no answer in time to %s", method)
        return LinkSilent(
            "the printer has not answered in time.",
            self.where,
            "STOP may not reach it: use the power switch if it moves. Then link again.",
        )

    def _send(self, method: str, params: dict[str, Any], urgent: bool) -> tuple[int, "Future[Any]"]:
        future: Future[Any] = Future()
        with self._guard:
            if self._ended:
                raise type(self._ended)(*self._ended.args)
            self._last_id += 1
            ident = self._last_id
            self._waiting[ident] = future
            line = encode(ident, method, params)
            if urgent and not self._partly:
                line = self._at_once(line)
            if line:
                (self._urgent if urgent else self._outgoing).append(line)
        self._poke()
        return ident, future

    def _at_once(self, line: bytes) -> bytes:
        """Write a line here and now, no other being half written: the link's own thread may have to
        wait for its turn. What is left of it, for that thread to go on with; all of it where the
        wire takes nothing."""
        try:
            sent = self._socket.send(line)
        except OSError:
            return line  # that thread tells what ails it
        self.urgent_sent_at = time.perf_counter()
        self._partly = line[sent:]
        return b""

    def _poke(self) -> None:
        with suppress(OSError):
            self._wake_in.send(b"!")

    # In the channel's own thread

    def _run(self) -> None:
        with selectors.DefaultSelector() as selector:
            selector.register(self._socket, selectors.EVENT_READ)
            selector.register(self._wake_out, selectors.EVENT_READ)
            buffer, wanted = b"", selectors.EVENT_READ
            while self._ended is None:
                wants = selectors.EVENT_READ | (selectors.EVENT_WRITE if self._has_more() else 0)
                if wants != wanted:
                    selector.modify(self._socket, wants)
                    wanted = wants
                try:
                    ready = [key.fileobj for key, _ in selector.select()]
                    if self._wake_out in ready:
                        self._wake_out.recv(4096)
                    self._write()
                    if self._socket in ready:
                        buffer = self._read(buffer)
                except OSError as error:
                    self._end(self._gone(error.strerror or str(error)))
                except LinkError as error:
                    self._end(error)
        with suppress(OSError):
            # Whoever else holds the wire (last_word.py) would keep it open.
            self._socket.shutdown(socket.SHUT_RDWR)
        for part in (self._socket, self._wake_out, self._wake_in):
            with suppress(OSError):
                part.close()

    def _has_more(self) -> bool:
        with self._guard:
            return bool(self._partly or self._urgent or self._outgoing)

    def _write(self) -> None:
        while True:
            with self._guard:
                halting = not self._partly and bool(self._urgent)
                if not self._partly:
                    queue = self._urgent or self._outgoing
                    if not queue:
                        return
                    self._partly = queue.popleft()
            try:
                sent = self._socket.send(self._partly)
            except BlockingIOError:
                return
            self._partly = self._partly[sent:]
            if halting:
                self.urgent_sent_at = time.perf_counter()

    def _read(self, buffer: bytes) -> bytes:
        try:
            chunk = self._socket.recv(1 << 16)
        except BlockingIOError:
            return buffer
        if not chunk:
            raise self._gone("it closed the connection")
        self.heard_at = time.monotonic()
        *lines, rest = (buffer + chunk).split(b"\n")
        for line in lines:
            self._take(line)
        if len(rest) > LONGEST_LINE:
            raise LinkError("the printer sent a line without an end.", self.where, "Link again.")
        return rest

    def _take(self, line: bytes) -> None:
        message = decode(line)
        if isinstance(message, Notification):
            self._on_notification(message)
            return
        with self._guard:
            future = self._waiting.pop(message.ident, None) if message.ident else None
        if future is None:
            # A second reply, or one to a request that was given up: harmless, but worth a line.
            log.info("reply to no request: %s", message)
        elif isinstance(message, Reply):
            future.set_result(message.result)
        else:
            future.set_exception(_refusal(message))

    def _gone(self, why: str) -> LinkGone:
        return LinkGone(
            f"the printer is gone ({why}).",
            self.where,
            "STOP can't reach it: use the power switch if it moves. Then link again.",
        )

    def _end(self, error: TallGrainError) -> None:
        with self._guard:
            if self._ended is None:
                self._ended = error
            waiting, self._waiting = self._waiting, {}
        for future in waiting.values():
            future.set_exception(type(error)(*error.args))


def _refusal(message: Refused) -> PrinterRefused:
    sentence = message.sentence[:1].upper() + message.sentence[1:]
    return PrinterRefused(f"{sentence}.", "printer", reason=message.reason)
