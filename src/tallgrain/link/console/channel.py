"""One console's conversation: requests in order, replies gathered, a halt ahead of all of them.

A thread reads; callers write. Questions may be on their way together as the dialect's window
allows; a motion goes alone. A printer that says it restarted ends the conversation.
"""

import logging
import threading
import time
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field

from tallgrain.errors import LinkError, LinkGone, LinkSilent, PrinterRefused, TallGrainError
from tallgrain.link.console.dialect import Dialect
from tallgrain.link.console.framing import Lines, looks_like_noise, wrapped
from tallgrain.link.console.parts import MOTIONS, Operation
from tallgrain.link.console.pattern import Pattern, Sent, Value
from tallgrain.link.console.record import Recorder
from tallgrain.link.console.transport import Transport

log = logging.getLogger(__name__)

# What a reply may be long: more lines than these are no reply.
MOST_LINES = 4000
RESENDS = 3
# So long after the last line nothing more of it is on its way (s).
QUIET_S = 0.25


@dataclass
class Asked:
    """A request on its way: its lines and their numbers, those that wait for the answer before
    them, what was said so far; left: its lines that are not answered yet, after: those that wait
    for a motion to end."""

    name: str
    operation: Operation
    alone: bool
    sent: tuple[str, ...]
    numbers: dict[int, bytes]
    left: int
    after: int = 0
    unsent: deque[tuple[str, bytes]] = field(default_factory=deque)
    said: list[dict[str, Value]] = field(default_factory=list)
    error: TallGrainError | None = None
    over: threading.Event = field(default_factory=threading.Event)
    resent: int = 0


class ConsoleChannel:
    """Speaks one dialect over one transport."""

    def __init__(
        self,
        dialect: Dialect,
        transport: Transport,
        where: str,
        recorder: Recorder | None = None,
        number: int = 0,
    ) -> None:
        """number: of the last line that was sent, where numbering goes on over links."""
        self.dialect, self.where = dialect, where
        self._transport, self._recorder = transport, recorder
        self._lines = Lines()
        self._turn = threading.Condition()
        self._writing = threading.Lock()
        self._waiting: deque[Asked] = deque()
        self.number = number
        self._ended: TallGrainError | None = None
        self._odd = ""
        self._halted = threading.Event()
        self.heard_at = time.monotonic()
        self.halt_sent_at = 0.0
        # Told each line that no request and no pattern knows, and each that was sent.
        self.on_line: Callable[[bool, str], None] = lambda ours, line: None
        f, known = dialect.framing, dialect.pattern
        self._done = known(f.done)
        self._busy = [known(b) for b in f.busy]
        self._chatter = [known(c) for c in f.chatter]
        self._greeting = known(f.greeting) if f.greeting else None
        self._resend = known(f.resend) if f.resend else None
        self._ends = {name: known(o.done) for name, o in dialect.operations.items() if o.done}
        # A printer that starts again when it is opened greets meanwhile; one whose halt is answered
        # like anything else may still close what the halt ended.
        self._boots_until = time.monotonic() + f.boots_s
        self._woke = threading.Event()
        self._closing_until = 0.0
        self._halting = False
        self._thread = threading.Thread(target=self._run, name="console", daemon=True)
        self._thread.start()

    # For callers, from any thread

    @property
    def ended(self) -> TallGrainError | None:
        """Why the conversation ended; None while it goes on."""
        return self._ended

    @property
    def cut(self) -> bool:
        """Whether it ended by itself, and not because nothing was heard."""
        return self._ended is not None and not isinstance(self._ended, LinkSilent)

    @property
    def idle(self) -> bool:
        """Whether nothing is on its way."""
        with self._turn:
            return not self._waiting

    def ask(
        self, name: str, limit_s: float, alone: bool, /, **values: Sent
    ) -> list[dict[str, Value]]:
        """Do one operation; what each line of its reply said. Raises LinkError, PrinterRefused."""
        return self.ask_in(name, self.dialect.lines_for(name, **values), limit_s, alone)

    def ask_in(
        self, name: str, lines: tuple[str, ...], limit_s: float, alone: bool
    ) -> list[dict[str, Value]]:
        """Do one operation in lines of its own."""
        operation = self.dialect.operations[name]
        until = time.monotonic() + (operation.limit_s or limit_s)
        request = self._send(name, operation, lines, alone, until)
        while not request.over.wait(min(max(until - time.monotonic(), 0.001), 0.25)):
            now = time.monotonic()
            quiet = now - self.heard_at > self.dialect.framing.silence_s
            # A printer that never says that it is busy may be silent all through a motion.
            if now >= until or (quiet and (self._busy or not alone)):
                silent = LinkSilent(
                    f"the printer has not answered “{lines[-1]}” in time.",
                    self.where,
                    "STOP may not reach it: use the power switch if it moves. Then link again.",
                )
                # Its answer may still come, and would be taken for the next one's.
                self._end(silent)
                raise silent
        if request.error is not None:
            raise type(request.error)(*request.error.args)
        return request.said

    def halt(self, limit_s: float) -> bool:
        """Put the halt on the wire at once; whether the printer confirmed it in time."""
        self._halted.clear()
        self._halting = True
        if self._ended is not None:
            raise type(self._ended)(*self._ended.args)
        for line in self.dialect.lines_for("halt"):
            data = self._numbered(line)[1]
            self._put(data, line)
        self.halt_sent_at = time.perf_counter()
        return self._halted.wait(limit_s) and self._ended is None

    def wire(self) -> tuple[int, bytes] | None:
        """The line's file descriptor, and a halt for it; None where another process can't know what
        to write."""
        fd, framing = self._transport.fileno(), self.dialect.framing
        if fd is None or self._ended is not None or "{n}" in framing.frame:
            return None
        lines = self.dialect.lines_for("halt")
        return fd, wrapped(framing, "", 0) + b"".join(wrapped(framing, line, 0) for line in lines)

    def wake(self) -> None:
        """Wait out a start at opening, then say what has to be said first."""
        f = self.dialect.framing
        if f.boots_s:
            until = self._boots_until
            self._woke.wait(max(until - time.monotonic(), 0.0))
            while time.monotonic() < until and time.monotonic() - self.heard_at < QUIET_S:
                time.sleep(0.02)
            self._boots_until = 0.0
        for line in f.wake:
            self._put(self._numbered(line)[1], line)
            began = time.monotonic()
            while time.monotonic() - max(began, self.heard_at) < QUIET_S:
                time.sleep(0.02)

    def close(self) -> None:
        """End it."""
        self._end(LinkError("the link was closed.", self.where))
        with suppress(OSError):
            self._transport.close()
        if threading.current_thread() is not self._thread:
            self._thread.join(timeout=2)

    def _send(
        self, name: str, operation: Operation, lines: tuple[str, ...], alone: bool, until: float
    ) -> Asked:
        window = self.dialect.framing.window
        with self._turn:
            while self._ended is None and not self._room(alone, window):
                closing = self._closing_until - time.monotonic()
                self._turn.wait(min(max(until - time.monotonic(), 0.001), max(closing, 0.05)))
                if time.monotonic() >= until and not self._room(alone, window):
                    raise LinkSilent(
                        "the printer has not answered what was asked before.",
                        self.where,
                        "Link again.",
                    )
            if self._ended is not None:
                raise type(self._ended)(*self._ended.args)
            numbered = [self._numbered(line) for line in lines]
            after = len(self.dialect.framing.settle) if name in MOTIONS else 0
            request = Asked(
                name, operation, alone, lines, dict(numbered), len(lines) - after, after
            )
            self._waiting.append(request)
            request.unsent.extend(zip(lines, (data for _, data in numbered), strict=True))
            # A console that takes one line at a time gets the next when it has answered.
            for _ in range(1 if window == 1 else len(lines)):
                self._put_next(request)
        return request

    def _put_next(self, request: Asked) -> None:
        if request.unsent:
            line, data = request.unsent.popleft()
            self._put(data, line)

    def _room(self, alone: bool, window: int) -> bool:
        if time.monotonic() < self._closing_until:
            return False
        if alone or any(w.alone for w in self._waiting):
            return not self._waiting
        return len(self._waiting) < window

    def _numbered(self, line: str) -> tuple[int, bytes]:
        with self._writing:
            self.number += 1
            return self.number, wrapped(self.dialect.framing, line, self.number)

    def _put(self, data: bytes, line: str) -> None:
        try:
            with self._writing:
                self._transport.write(data)
        except OSError as error:
            self._end(self._gone(error))
            raise self._gone(error) from None
        if self._recorder is not None:
            self._recorder.note(True, line)
        self.on_line(True, line)

    # In the thread that reads

    def _run(self) -> None:
        while self._ended is None:
            try:
                data = self._transport.read()
            except (OSError, ValueError, TypeError) as error:
                self._end(self._gone(error))
                return
            if data:
                for line in self._lines.feed(data):
                    self._take(line)

    def _take(self, line: str) -> None:
        self.heard_at = time.monotonic()
        if self._recorder is not None:
            self._recorder.note(False, line)
        self.on_line(False, line)
        if self._greeting is not None and self._greeting.match(line) is not None:
            self._woke.set()
            if time.monotonic() < self._boots_until:
                return
            self._end(
                LinkError(
                    "the printer restarted.",
                    self.where,
                    "STOP may not reach it: use the power switch. Then link again and look.",
                )
            )
            return
        if self._confirms_halt(line):
            return
        with self._turn:
            request = self._waiting[0] if self._waiting else None
            if request is None:
                self._unasked(line)
                return
            if self._belongs(request, line):
                self._waiting.popleft()
                request.over.set()
                self._turn.notify_all()

    def _confirms_halt(self, line: str) -> bool:
        """Whether a line answers a halt, and nothing else. Where a halt is answered like anything
        else, the first closing line or no after it does, and ends what the halt ended."""
        own = self._ends.get("halt")
        if own is not None:
            if own.match(line) is None:
                return False
            self._halted.set()
            return True
        closes = self._done.match(line) is not None or self._refused(line) is not None
        if self._halting and closes:
            self._halting = False
            with self._turn:
                self._closing_until = time.monotonic() + QUIET_S
                waiting, self._waiting = list(self._waiting), deque()
            for request in waiting:
                request.error = PrinterRefused("A halt stopped this.", "printer", reason="halted")
                request.over.set()
            self._halted.set()
            return True
        return closes and time.monotonic() < self._closing_until

    def _refused(self, line: str) -> tuple[PrinterRefused, bool] | None:
        """The no that a line is, and whether its closing line comes after it."""
        for trouble in self.dialect.troubles:
            found = self.dialect.pattern(trouble.line).match(line)
            if found is not None:
                sentence = str(found.get("sentence", line))
                reason = str(found.get("reason", trouble.reason))
                if self.dialect.framing.any_case:
                    sentence, reason = sentence.lower(), reason.lower()
                told = f"{sentence[:1].upper()}{sentence[1:]}".rstrip(".")
                return PrinterRefused(f"{told}.", "printer", reason=reason), trouble.then_done
        return None

    def _belongs(self, request: Asked, line: str) -> bool:
        """Take a line of the oldest request's reply; whether that request is over."""
        if any(b.match(line) is not None for b in self._busy):
            return False
        if self.dialect.framing.echo and any(line.endswith(sent) for sent in request.sent):
            return False
        if self._resend is not None and (again := self._resend.match(line)) is not None:
            return self._again(request, again)
        if (no := self._refused(line)) is not None:
            request.error, then_done = no
            self._leave_the_rest(request)
            if then_done:
                return False
            return self._one_less(request)
        end = self._end_of(request).match(line)
        if end is None and (request.error is not None or request.left <= 0):
            end = self._done.match(line)
        for said in request.operation.lines:
            read = self.dialect.read(said, line)
            if read is not None:
                self._say(request, read)
                break
        else:
            if end is None:
                self._unasked(line)
                return False
        if len(request.said) > MOST_LINES:
            request.error = LinkError("the printer's reply has no end.", self.where, "Link again.")
            return True
        if end:
            self._say(request, end)
        return end is not None and self._one_less(request)

    def _leave_the_rest(self, request: Asked) -> None:
        """What was refused is not gone on with: its next line may mean something else alone."""
        while request.unsent:
            request.unsent.pop()
            if request.after > 0:
                request.after -= 1
            else:
                request.left -= 1

    def _one_less(self, request: Asked) -> bool:
        """One of its lines is answered; whether that was the last."""
        if request.left > 0:
            request.left -= 1
        else:
            request.after -= 1
        if request.left <= 0 and request.after <= 0:
            return True
        try:
            self._put_next(request)
        except LinkError:
            return False  # everything that waits was told
        return False

    def _say(self, request: Asked, read: dict[str, Value]) -> None:
        ours = self.dialect.ours
        request.said.append({k: ours(k, v, request.name) for k, v in read.items()})

    def _end_of(self, request: Asked) -> Pattern:
        return self._ends.get(request.name, self._done)

    def _again(self, request: Asked, found: dict[str, Value]) -> bool:
        number = found.get("n")
        data = request.numbers.get(int(number)) if isinstance(number, float) else None
        data = data or (next(iter(request.numbers.values())) if len(request.numbers) == 1 else None)
        request.resent += 1
        if data is None or request.resent > RESENDS:
            request.error = LinkError(
                "the printer asks again and again for a line.",
                self.where,
                "Check the cable and the dialect's framing.",
            )
            return True
        try:
            with self._writing:
                self._transport.write(data)
        except OSError as error:
            request.error = self._gone(error)
            return True
        return False

    def _unasked(self, line: str) -> None:
        """A line that belongs to nothing: chatter, an echo, or noise."""
        if any(c.match(line) is not None for c in self._chatter):
            return
        self._odd = (self._odd + line)[-400:]
        if looks_like_noise(self._odd):
            self._end(
                LinkError(
                    "what the printer says makes no sense: the rate is another one, or the "
                    "cable bad.",
                    self.where,
                    "Give the printer's own rate with &baud= in the address.",
                )
            )

    def _gone(self, error: Exception) -> LinkError:
        why = getattr(error, "strerror", None) or str(error)
        if "readiness" in why or "Input/output" in why or "Bad file" in why:
            why = "its cable was pulled, or it was switched off"
        return LinkGone(
            f"the printer is gone ({why}).",
            self.where,
            "STOP can't reach it: use the power switch if it moves. Then link again.",
        )

    def _end(self, error: TallGrainError) -> None:
        with self._turn:
            if self._ended is None:
                self._ended = error
            waiting, self._waiting = list(self._waiting), deque()
            self._turn.notify_all()
        self._halted.set()  # nobody will confirm it any more
        for request in waiting:
            request.error = request.error or type(error)(*error.args)
            request.over.set()
