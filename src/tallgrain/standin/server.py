"""The stand-in's three ports: link, hands and truth. JSON-RPC 2.0, one message a line."""

import asyncio
import json
import secrets
from collections.abc import Awaitable, Callable
from contextlib import suppress
from dataclasses import asdict
from typing import Any

from tallgrain.standin.begin import HABITS
from tallgrain.standin.consoles import Console, Way
from tallgrain.standin.faults import FaultSpecError
from tallgrain.standin.held import Surfaces
from tallgrain.standin.job import Job, ProgramError
from tallgrain.standin.kinematics import TOWERS, DeltaArms
from tallgrain.standin.part import PartError, reading
from tallgrain.standin.plate import Strip
from tallgrain.standin.printer import Printer, Refusal, Tape

STATE_EVERY_S = 0.5
LEASE_SILENCE_S = 10.0
LOOPBACK = "127.0.0.1"
LONGEST_LINE = 1 << 20

Method = Callable[..., Any]


class Session:
    """One connection: reads requests, answers them, and may be cut."""

    def __init__(self, writer: asyncio.StreamWriter) -> None:
        self.writer = writer
        self.heard = asyncio.get_running_loop().time()
        self.cut = False
        self.garble = False

    def send(self, message: dict[str, Any]) -> None:
        """Put one message on the wire."""
        if not self.cut and not self.writer.is_closing():
            self.writer.write(json.dumps(message, separators=(",", ":")).encode() + b"\n")

    def close(self) -> None:
        """Cut the connection."""
        self.cut = True
        self.writer.close()


class Port:
    """A JSON-RPC server with a table of methods."""

    secret = ""  # asked for with each request, where a port has one

    def __init__(self, methods: dict[str, Method]) -> None:
        self.methods = methods
        self.sessions: set[Session] = set()
        self.tasks: set[asyncio.Task[None]] = set()

    async def serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """One connection's life."""
        session = Session(writer)
        self.sessions.add(session)
        try:
            while line := await reader.readline():
                session.heard = asyncio.get_running_loop().time()
                task = asyncio.create_task(self._answer(session, line))
                self.tasks.add(task)
                task.add_done_callback(self.tasks.discard)
        except (ConnectionError, ValueError, asyncio.CancelledError):
            pass  # gone, a line longer than any message, or the stand-in ends: so does this
        finally:
            self.sessions.discard(session)
            self.left(session)
            with suppress(ConnectionError):
                writer.close()

    def left(self, session: Session) -> None:
        """Called when a connection ended."""

    async def _answer(self, session: Session, line: bytes) -> None:
        ident: Any = None
        try:
            request = json.loads(line, parse_constant=_no_figure)
            if not isinstance(request, dict):
                raise Refusal("bad_request", "a request is an object")
            ident = request.get("id")
            if ident is not None and not isinstance(ident, int | str):
                ident = None
                raise Refusal("bad_request", "an id is a number or a word")
            name, params = request.get("method"), request.get("params") or {}
            if not isinstance(name, str) or name not in self.methods:
                raise KeyError(name)
            if not isinstance(params, dict):
                raise Refusal("bad_value", "parameters are given by name")
            if self.secret and request.get("token") != self.secret:
                raise Refusal("no_token", "the token that was printed at the start is not in it")
            _refuse_endless(params)
            result = self.methods[name](session, **params)
            if isinstance(result, Awaitable):
                result = await result
            reply = {"jsonrpc": "2.0", "id": ident, "result": result}
        except Refusal as no:
            reply = _error(ident, 1, str(no), no.reason)
        except FaultSpecError as no:
            reply = _error(ident, -32602, str(no), "bad_value")
        except (json.JSONDecodeError, UnicodeDecodeError, RecursionError):
            reply = _error(None, -32700, "this is not JSON", "parse")
        except KeyError:
            reply = _error(ident, -32601, "there is no such method", "no_method")
        except (TypeError, ValueError, AttributeError, IndexError, ArithmeticError) as error:
            reply = _error(ident, -32602, f"wrong parameters: {error}", "bad_value")
        await self._reply(session, reply)

    async def _reply(self, session: Session, reply: dict[str, Any]) -> None:
        session.send(reply)


def _no_figure(words: str) -> Any:
    raise Refusal("bad_value", f"{words} is no figure")


def _refuse_endless(params: dict[str, Any]) -> None:
    """Numbers that are no numbers, however deep."""
    todo = list(params.values())
    while todo:
        value = todo.pop()
        if isinstance(value, dict):
            todo += value.values()
        elif isinstance(value, list):
            todo += value
        elif isinstance(value, int | float) and not abs(value) < 1e9:
            raise Refusal("bad_value", "a number in it has no end")


def _error(ident: Any, code: int, sentence: str, reason: str) -> dict[str, Any]:
    return {
        "jsonrpc": "2.0",
        "id": ident,
        "error": {"code": code, "message": sentence, "data": {"reason": reason}},
    }


class HandsPort(Port):
    """What a person would do at the printer."""

    def __init__(self, printer: Printer) -> None:
        self.printer = printer
        self.console_of: Console | None = None
        self.cut: Callable[[], None] = lambda: None
        acts = (
            self.power,
            self.reflash,
            self.fault,
            self.mend,
            self.probe,
            self.ruler,
            self.sheet,
            self.stack,
            self.reseat,
            self.move,
            self.days,
            self.nozzle,
            self.switch,
            self.habit,
            self.look,
            self.tape,
            self.strip,
            self.gauge,
            self.turn,
            self.print,
            self.patch,
            self.nudge,
            self.clean,
            self.console,
            self.rack,
            self.caliper,
            self.screw,
            self.take_off,
            self.cable,
        )
        super().__init__({f"hands.{act.__name__}": act for act in acts})

    def power(self, session: Session) -> dict[str, Any]:
        """Switch off and on."""
        self.printer.restart()
        return {"boot": self.printer.boot}

    def fault(self, session: Session, fault: str) -> dict[str, Any]:
        """Order a fault."""
        self.printer.add_fault(fault)
        return {"waiting": len(self.printer.faults.waiting)}

    def mend(self, session: Session) -> dict[str, Any]:
        """Take all faults away."""
        self.printer.mend()
        return {}

    def probe(self, session: Session, state: str) -> dict[str, Any]:
        """Leave the probe free, hold it pressed, or jam it."""
        if state not in ("free", "held", "jammed", "metal"):
            raise Refusal("bad_value", "a hand leaves the probe free, held, jammed or near metal")
        if state == "metal" and self.printer.truth.probe.kind != "proximity":
            state = "free"  # only a proximity probe minds
        self.printer.truth.probe.hand = state
        return {"probe": state}

    def ruler(self, session: Session) -> dict[str, Any]:
        """A careful person reads down to the whole millimetre that is surely there; close to the
        plate, with a stack of feeler gauges, to the tenth."""
        gap = self.printer.gap()
        if gap < 10.0:
            return self._stacked(gap)
        return {"clearance_mm": int(gap - 0.2)}

    def stack(self, session: Session) -> dict[str, Any]:
        """The thickest stack of blocks, coins and gauges that fits under the nozzle, to the tenth;
        nobody has one of more than 60 mm."""
        return self._stacked(min(self.printer.gap(), 60.0))

    def _stacked(self, gap: float) -> dict[str, Any]:
        return {"clearance_mm": max(int((gap - 0.02) * 10) / 10, 0.0)}

    def reflash(self, session: Session) -> dict[str, Any]:
        """Load new firmware: all values are lost."""
        self.printer.reflash()
        return {"boot": self.printer.boot}

    def look(self, session: Session) -> dict[str, Any]:
        """What a person sees: where the probe is, and how far the mark and the strip's edges are
        from the nozzle tip, judged by eye: rough from far, better from near."""
        p, chance = self.printer, self.printer.truth.rng("eye")
        tip_x, tip_y, _ = p._tip()
        probe = p.truth.probe
        seen: dict[str, Any] = {"probe": "fixed" if probe.fixed else "out"}
        if not probe.extended:
            seen["probe"] = "away"
        if p.tape is not None and p.tape.mark is not None:
            (x, y), (off_x, off_y) = p.tape.mark, p.tape.misjudged
            far = 1 + float(chance.normal(0, 0.05))
            seen["mark"] = {
                "right_mm": round((x - tip_x + off_x) * far, 2),
                "rear_mm": round((y - tip_y + off_y) * far, 2),
            }
        strip = p.truth.plate.strip
        if strip is not None:
            at = tip_x if strip.axis == "x" else tip_y
            eye = chance.normal(0, 0.1, 2)
            seen["strip"] = {
                "axis": strip.axis,
                "low_mm": round(strip.low - at + float(eye[0]), 2),
                "high_mm": round(strip.high - at + float(eye[1]), 2),
            }
        return seen

    def tape(self, session: Session, on: bool = True) -> dict[str, Any]:
        """Stick fresh tape where the probe will touch, or take it off."""
        off = self.printer.truth.rng("hand").normal(0, 0.2, 2)
        self.printer.tape = Tape((float(off[0]), float(off[1]))) if on else None
        return {"tape": on}

    def strip(self, session: Session, axis: str, at: float = 0.0) -> dict[str, Any]:
        """Lay a steel strip 20 mm wide across an axis (x or y), about where asked; '' takes it
        away."""
        plate = self.printer.truth.plate
        if axis not in ("x", "y", ""):
            raise Refusal("bad_value", "a strip lies across x or across y")
        middle = at + float(self.printer.truth.rng("strip").normal(0, 1.5))
        plate.strip = Strip(axis, middle - 10.0, middle + 10.0) if axis else None
        return {"axis": axis}

    def gauge(
        self, session: Session, thickness_mm: float, scatter_mm: float = 0.004
    ) -> dict[str, Any]:
        """Push a gauge under the nozzle and feel: free, grips or stuck, as a hand feels it; one
        that scatters by so much."""
        self.printer.warm()
        felt = (
            self.printer.gap()
            - thickness_mm
            + float(self.printer.truth.rng("feel").normal(0, scatter_mm))
        )
        return {"feel": "free" if felt > 0.012 else "grips" if felt > -0.012 else "stuck"}

    def turn(self, session: Session, name: str, clockwise_deg: float) -> dict[str, Any]:
        """Turn a bed screw, seen from above; negative is counterclockwise."""
        plate = self.printer.truth.plate
        for adjuster in plate.adjusters:
            if adjuster.name == name:
                adjuster.turn(clockwise_deg)
                plate.level()
                return {"turned": name}
        raise Refusal("bad_value", f"there is no adjuster '{name}'")

    def print(
        self, session: Session, program: str, nozzle_c: float, plate_c: float
    ) -> dict[str, Any]:
        """Heat, then print a program from a card, as a person starts it at the printer."""
        p = self.printer
        try:
            job = Job.read(program, (p.x, p.y, p.z))
        except ProgramError as no:
            raise Refusal("bad_value", f"the program can't be printed: {no}") from None
        if p.job is not None:
            raise Refusal("bad_value", "what was printed last still lies on the plate")
        if not p.referenced:
            raise Refusal("not_referenced", "the printer does not know where it is: reference it")
        if p.truth.probe.extended and p.truth.probe.kind != "nozzle" and not p.truth.probe.fixed:
            raise Refusal("bad_value", "the probe is out: put it away before printing")
        for move in job.moves:
            p._within(move.x, move.y, move.z)
        p.begin()
        p.job = job
        p.heat(nozzle_c, plate_c)

        async def run() -> None:
            try:
                await p.wait_for_heat()
                await p.run_job(job)
                await p.lift(10.0)
            except Refusal as no:
                job.ended_why = str(no)
            finally:
                job.under_way = p.moving = False

        task = asyncio.ensure_future(run())
        self.tasks.add(task)
        task.add_done_callback(self.tasks.discard)
        return {"moves": len(job.moves)}

    def patch(self, session: Session, brief: bool = False) -> dict[str, Any]:
        """Look at what was printed; briefly: whether it is still being printed."""
        job = self.printer.job
        if job is None:
            raise Refusal("bad_value", "nothing was printed yet")
        if brief:
            return {"printing": job.under_way, "ended_why": job.ended_why}
        return job.look(self.printer.truth.rng("eye"))

    def caliper(
        self, session: Session, start: list[float], end: list[float], inside: bool = False
    ) -> dict[str, Any]:
        """Measure what was printed between two places of it, as they were commanded (mm)."""
        p = self.printer
        if p.part is None:
            raise Refusal("bad_value", "nothing was printed and taken off the plate yet")
        p.warm()
        truth = p.truth
        try:
            read = reading(
                p.part,
                (start[0], start[1], start[2]),
                (end[0], end[1], end[2]),
                inside,
                truth.bed.now_c,
                truth.caliper_mm,
                truth.shrinks,
                truth.rng("caliper"),
            )
        except PartError as no:
            raise Refusal("bad_value", str(no)) from None
        return {"measured_mm": read}

    def screw(self, session: Session, tower: str, up_mm: float) -> dict[str, Any]:
        """Turn the screw that moves a tower's switch: up by so much, as well as a hand can."""
        arms = self.printer.truth.kinematics
        if not isinstance(arms, DeltaArms) or tower not in TOWERS:
            raise Refusal("bad_value", f"there is no tower '{tower}'")
        arms.true.switch[tower] += up_mm + float(self.printer.truth.rng("screw").normal(0, 0.004))
        self.printer._lose_place()
        return {"turned": tower}

    def take_off(self, session: Session) -> dict[str, Any]:
        """Let plate and nozzle cool to the room, however long that takes; take the part off."""
        p = self.printer
        if p.job is not None and p.job.under_way:
            raise Refusal("bad_value", "it is still being printed")
        p.part, p.job = p.job or p.part, None
        p.warm()
        p.heat(0.0, 0.0)
        p.truth.nozzle.cool_down()
        p.truth.bed.cool_down()
        p.warm()
        return {"plate_c": round(p.truth.bed.now_c, 1)}

    def nudge(self, session: Session, mm: float) -> dict[str, Any]:
        """Turn the printer's own knob while it prints: z of the job moves by so much."""
        self.printer.nudge(mm)
        return {"job_shift_mm": self.printer.live["job_shift_mm"]}

    def clean(self, session: Session) -> dict[str, Any]:
        """Take what was printed off the plate."""
        if self.printer.job is not None and not self.printer.job.under_way:
            self.printer.job = None
        return {}

    def rack(self, session: Session, name: str, mm: float) -> dict[str, Any]:
        """Push one support up or down by hand while its motor is off."""
        for support in self.printer.truth.plate.supports:
            if support.name == name:
                support.raised += mm
                self.printer.truth.plate.level()
                self.printer._lose_place()
                return {"pushed": name}
        raise Refusal("bad_value", f"there is no support '{name}'")

    def cable(self, session: Session, plugged: bool) -> dict[str, Any]:
        """Pull the cable of its link, or plug it in again."""
        if not plugged:
            self.cut()
        if self.console_of is not None:
            (self.console_of.plug if plugged else self.console_of.unplug)()
        return {"plugged": plugged}

    def console(self, session: Session) -> dict[str, Any]:
        """Reference at the printer's own console, as its builder leaves it."""
        self.printer._set_up()
        return {}

    def sheet(self, session: Session, name: str) -> dict[str, Any]:
        """Put another sheet on."""
        if name not in self.printer.truth.plate.sheets:
            raise Refusal("bad_value", f"there is no sheet '{name}'")
        self.printer.truth.plate.sheet = name
        return self.reseat(session)

    def reseat(self, session: Session) -> dict[str, Any]:
        """Take the sheet off and put it back: it never lies quite the same."""
        chance = self.printer.truth.rng("seat")
        lift, tip_x, tip_y = (float(c) for c in chance.normal(0, 0.006, 3))
        self.printer.truth.plate.seat = (lift, tip_x, tip_y)
        return {"sheet": self.printer.truth.plate.sheet}

    def move(self, session: Session, warm_side_mm_per_day: float) -> dict[str, Any]:
        """Carry the printer to a place that bends its plate by so much a day."""
        self.printer.stove_mm_per_day = warm_side_mm_per_day
        return self.reseat(session)

    def days(self, session: Session, days: float) -> dict[str, Any]:
        """Let days pass."""
        self.printer.let_days_pass(days)
        return {}

    def nozzle(self, session: Session) -> dict[str, Any]:
        """Screw another nozzle in: it ends a little higher or lower."""
        probe = self.printer.truth.probe
        longer = float(self.printer.truth.rng("nozzle").normal(0, 0.05))
        probe.trip_height += longer
        probe.switch_at += longer
        return {}

    def habit(self, session: Session, name: str = "", smooth: bool | None = None) -> dict[str, Any]:
        """How this printer follows a surface that it uses: '' as it is meant; smooth: whether it
        goes smoothly from node to node."""
        c = self.printer.compensation
        if name and name not in HABITS:
            raise Refusal("bad_value", f"there is no habit '{name}'")
        c.habit = name
        c.smooth = c.smooth if smooth is None else smooth
        return {"habit": name}

    def switch(self, session: Session, mm: float) -> dict[str, Any]:
        """Move z's switch up by so much (mm)."""
        self.printer.truth.probe.switch_at += mm
        return {}


class LinkPort(Port):
    """The printer's own port: the only one that the work uses."""

    def __init__(self, printer: Printer) -> None:
        self.printer = printer
        self.holder: Session | None = None
        self.holder_name = ""
        self.token = ""
        printer.on_disconnect = self._disconnect
        p, held = printer, Surfaces(printer)
        super().__init__(
            {
                "printer.describe": lambda s: p.describe(),
                "printer.state": lambda s: p.state(),
                "lease.take": self.take_lease,
                "lease.give": self.give_lease,
                "motion.halt": self.halt,
                "motion.reference": self._motion(lambda down_mm: p.reference(down_mm)),
                "motion.go": self._motion(lambda x, y, z: p.go(x, y, z)),
                "motion.lift": self._motion(lambda mm: p.lift(mm)),
                "motion.lower": self._motion(lambda mm: p.lower(mm)),
                "motion.leave_below": self._leased(lambda mm: p.leave_below(mm)),
                "motors.raise": self._motion(lambda name, mm: p.raise_support(name, mm)),
                "motion.touch": self._motion(lambda floor: p.touch(floor)),
                "motion.rest": self._motion(lambda seconds: p.rest(seconds)),
                "probe.extend": self._motion(lambda: p.extend(True)),
                "probe.retract": self._motion(lambda: p.extend(False)),
                "heat.set": self._leased(
                    lambda nozzle_c=None, plate_c=None: p.heat(nozzle_c, plate_c)
                ),
                "heat.wait": self._motion(lambda: p.wait_for_heat()),
                "values.list": lambda s: p.values(),
                "values.set": self._leased(lambda name, value: p.set_value(name, value)),
                "values.keep": self._leased(lambda: p.keep_values()),
                "job.nudge": self._leased(lambda mm: p.nudge(mm)),
                "surfaces.list": lambda s: held.list(),
                "surfaces.read": lambda s, name: held.read(name),
                "surfaces.write": self._leased(held.write),
                "surfaces.use": self._leased(held.use),
                "surfaces.keep": self._leased(held.keep),
                "surfaces.forget": self._leased(held.forget),
                "surfaces.survey": self._motion(held.survey),
            }
        )

    def take_lease(self, session: Session, holder: str, token: str = "") -> dict[str, Any]:
        """The right to move: to the first who asks, until it leaves or falls silent."""
        now = asyncio.get_running_loop().time()
        held = self.holder is not None and self.holder is not session
        if held and self.holder is not None and token != self.token:
            if now - self.holder.heard < LEASE_SILENCE_S:
                raise Refusal("lease_held", f"{self.holder_name} holds this printer")
            self.holder.close()
        self.holder, self.holder_name = session, holder
        self.token = token or secrets.token_hex(8)
        return {"token": self.token}

    def give_lease(self, session: Session) -> dict[str, Any]:
        """Give the right back."""
        if self.holder is session:
            self.holder = None
        return {}

    def left(self, session: Session) -> None:
        """A holder that left holds no longer."""
        if self.holder is session:
            self.holder = None

    def _need_lease(self, session: Session) -> None:
        if self.holder is not session:
            raise Refusal("no_lease", "only the holder of the lease may do that")

    def _leased(self, action: Callable[..., Any]) -> Method:
        def act(session: Session, **params: Any) -> Any:
            self._need_lease(session)
            return action(**params)

        return act

    def _motion(self, action: Callable[..., Awaitable[Any]]) -> Method:
        async def move(session: Session, **params: Any) -> Any:
            self._need_lease(session)
            self.printer.begin()
            try:
                return await action(**params)
            finally:
                self.printer.moving = False

        return move

    def halt(self, session: Session) -> dict[str, Any]:
        """Stop at once: anybody may."""
        self.printer.halt()
        return self.printer.state()

    def _disconnect(self, kind: str) -> None:
        for session in list(self.sessions):
            if kind == "garbage":
                session.garble = True
            else:
                session.close()

    async def _reply(self, session: Session, reply: dict[str, Any]) -> None:
        silent = self.printer.silent_until - self.printer.clock.now()
        if silent == float("inf"):
            return
        if silent > 0:
            await asyncio.sleep(silent / self.printer.clock.speed)
        if session.garble:
            session.garble = False
            session.writer.write(b'\x00\xfe{"jsonrpc": "2.0", "id": \xff\n')
            return
        session.send(reply)

    async def tell(self) -> None:
        """State notifications for everyone, as a printer that is alive sends them."""
        while True:
            await asyncio.sleep(STATE_EVERY_S)
            if self.printer.silent_until > self.printer.clock.now():
                continue
            note = {"jsonrpc": "2.0", "method": "state", "params": self.printer.state()}
            for session in list(self.sessions):
                session.send(note)


def truth_port(printer: Printer) -> Port:
    """What nobody at the printer can know; for tests."""

    def heights(session: Session, points: list[list[float]]) -> dict[str, Any]:
        """Height of the plate at probe points as the printer counts (its kinematics included)."""
        printer.warm()
        found = []
        for x, y in points:
            tip_x, tip_y, tip_z = printer.truth.kinematics.tip(x, y, 0.0)
            found.append(float(printer.truth.plate.height(tip_x, tip_y) - tip_z))
        return {"heights": found}

    def whole(session: Session) -> dict[str, Any]:
        probe = printer.truth.probe
        return {
            "gap_mm": printer.gap(),
            "z": printer.z,
            "probe": {"dx": probe.dx, "dy": probe.dy, "trip_height_mm": probe.trip_height},
            "strikes": [asdict(s) for s in printer.strikes],
            "touches": probe.touches,
            "compensation": printer.compensation.told(),
            "laid": [
                [laid.x, laid.y, laid.gap] for laid in (printer.job.laid if printer.job else ())
            ],
        }

    return Port({"truth.heights": heights, "truth.all": whole})


async def run(
    printer: Printer,
    host: str,
    port: int,
    with_truth: bool,
    say: Callable[[str], None],
    console: Way | None = None,
) -> None:
    """Serve until cancelled; console: which one beside it. Raises
    OSError where the port can't be had."""
    link, hands = LinkPort(printer), HandsPort(printer)
    hands.cut = lambda: link._disconnect("closed")
    ports: list[tuple[str, Port, int]] = [("listening", link, port), ("hands", hands, 0)]
    if with_truth:
        ports.append(("truth", truth_port(printer), 0))
    servers, lines = [], []
    for name, what, number in ports:
        # What a person does, and the truth, are for this computer and whoever has the token.
        where = host if what is link else LOOPBACK
        what.secret = "" if what is link else secrets.token_hex(8)
        server = await asyncio.start_server(what.serve, where, number, limit=LONGEST_LINE)
        servers.append(server)
        token = f"?token={what.secret}" if what.secret else ""
        lines.append(f"{name} tcp://{where}:{server.sockets[0].getsockname()[1]}{token}")
    if console is not None:
        language = console.language
        spoken = Console(printer, console, lambda: link.holder is None)
        hands.console_of = spoken
        by_link = printer.on_disconnect

        def both(kind: str) -> None:
            by_link(kind)
            spoken.disconnect(kind)

        printer.on_disconnect = both
        if console.terminal:
            lines.append(f"console serial:{spoken.open_terminal()}?dialect={language}")
        else:
            server = await asyncio.start_server(spoken.serve, host, 0, limit=LONGEST_LINE)
            servers.append(server)
            number = server.sockets[0].getsockname()[1]
            lines.append(f"console socket://{host}:{number}?dialect={language}")
    for line in lines:
        say(line)
    try:
        await link.tell()
    finally:
        for server in servers:
            server.close()
