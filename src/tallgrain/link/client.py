"""A printer at the other end of tcp://host:port, speaking JSON-RPC 2.0 (docs/link.md)."""

import math
import threading
import time
from collections.abc import Callable, Mapping
from contextlib import suppress
from typing import Any
from urllib.parse import urlsplit

import numpy as np

from tallgrain.core.held.surface import HeldSurface, Takes, held_surface
from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.survey import Floats
from tallgrain.core.values import StoredValue
from tallgrain.errors import InputError, LeaseHeld, LinkError, PrinterRefused, TallGrainError
from tallgrain.link.channel import HALT, Channel
from tallgrain.link.network import check_host
from tallgrain.link.protocol import (
    Heat,
    Held,
    HeldHead,
    Identity,
    Place,
    PrinterState,
    first_answer,
)
from tallgrain.link.telling import TellsByItself
from tallgrain.link.wire import Notification

# Time limits by kind of request (s). Silence is noticed much sooner, by the channel.
ASK_S = 4.0
MOVE_S = 120.0
TOUCH_S = 90.0
REFERENCE_S = 240.0
HEAT_S = 3600.0
HALT_REPLY_S = 1.5
# A printer gives the lease to another after 10 s of silence, also while it works for us.
RENEW_S = 2.5
# What it calls the surface that it found by itself.
OWN = "own"


# What this kind of printer stores: its names, what they mean, and the sign to ours. It stores how
# far the nozzle drops on after the trip, and the way back from the sensing point to the nozzle.
_MEANINGS = {
    "trip_drop_mm": ("trip_height", -1.0, 0.0),
    "sensor_back_x_mm": ("offset_x", -1.0, 0.0),
    "sensor_back_y_mm": ("offset_y", -1.0, 0.0),
    "job_shift_mm": ("job_shift", 1.0, 0.0),
    "unlean_xy_mrad": ("skew_xy", -1.0, 0.0),
    "unlean_xz_mrad": ("skew_xz", -1.0, 0.0),
    "unlean_yz_mrad": ("skew_yz", -1.0, 0.0),
    "arm_mm": ("rod_length", 1.0, 0.0),
    "joint_circle_mm": ("delta_radius", 1.0, 0.0),
    "hang_mm": ("height", 1.0, 0.0),
    "foot_left_deg": ("angle_left", -1.0, 210.0),
    "foot_right_deg": ("angle_right", -1.0, 330.0),
    "foot_rear_deg": ("angle_rear", -1.0, 90.0),
    "stop_left_mm": ("switch_left", -1.0, 0.0),
    "stop_right_mm": ("switch_right", -1.0, 0.0),
    "stop_rear_mm": ("switch_rear", -1.0, 0.0),
}


_UNITS = (("_mm", "mm"), ("_deg", "°"), ("_mrad", "mrad"))


def parse_url(url: str, remote: bool = False) -> tuple[str, int]:
    """Host and port of tcp://host:port. Raises InputError; other computers only if `remote`."""
    try:
        parts = urlsplit(url)
        host, port = parts.hostname, parts.port
    except ValueError:
        host, port = None, None
    if parts.scheme != "tcp" or not host or not port or parts.path.strip("/"):
        raise InputError(
            f"'{url}' is not a link.", "--link", "Give tcp://host:port, as the stand-in prints it."
        )
    check_host(host, remote)
    return host, port


class JsonRpcPrinter(TellsByItself):
    """A linked printer; satisfies link.protocol.Printer.

    Made with connect(), which takes the lease. Lost connections are made again by reconnect(),
    which checks that the same printer answers.
    """

    def __init__(self, url: str, holder: str, remote: bool = False) -> None:
        self.url, self.language = url, ""
        self.touches, self.surveys_alone, self.holds_surfaces = True, True, True
        self._address = parse_url(url, remote)
        self._holder = holder
        self._token = ""
        self._making = threading.Lock()
        self.on_state: Callable[[PrinterState], None] = lambda state: None
        self._channel = self._open()
        try:
            told = first_answer(url, lambda: self._call("printer.describe"))
            self.identity = self._identity_of(told)
            self._take_lease()
        except TallGrainError:
            self._channel.close()
            raise
        self._closed = threading.Event()
        threading.Thread(target=self._renew, name="lease", daemon=True).start()

    def _renew(self) -> None:
        """Say again and again that we hold it, also while a long motion is waited for."""
        while not self._closed.wait(RENEW_S):
            with suppress(TallGrainError):
                self._channel.send("lease.take", {"holder": self._holder, "token": self._token})

    def _open(self) -> Channel:
        return Channel(self._address, self._told, self.url)

    def _told(self, note: Notification) -> None:
        if note.method == "state":
            self.on_state(_state_of(note.params))

    def _call(self, method: str, limit_s: float = ASK_S, **params: Any) -> Any:
        return self._channel.call(method, params, limit_s)

    def _describe(self) -> Identity:
        return self._identity_of(self._call("printer.describe"))

    def _identity_of(self, described: Any) -> Identity:
        told = _table(described)
        if told.get("link") != 1:
            raise LinkError(
                f"it speaks link version {told.get('link')!r}, known here: 1.", self.url
            )
        return Identity(str(told.get("name")), str(told.get("serial")), str(told.get("boot")))

    def _take_lease(self) -> None:
        try:
            told = self._call("lease.take", holder=self._holder, token=self._token)
        except PrinterRefused as no:
            if no.reason != "lease_held":
                raise
            raise LeaseHeld(
                no.what, self.url, "Close the other window or command, then link again."
            ) from None
        self._token = str(_table(told).get("token", ""))

    @property
    def silent_s(self) -> float:
        """Seconds since the printer was last heard."""
        return time.monotonic() - self._channel.heard_at

    @property
    def up(self) -> bool:
        """Whether the connection stands."""
        return self._channel.ended is None

    def lost(self) -> TallGrainError | None:
        """Why the connection ended; None while it stands."""
        return self._channel.ended

    @property
    def halt_sent_at(self) -> float:
        """When the last halt was handed to the wire (time.perf_counter)."""
        return self._channel.urgent_sent_at

    def reconnect(self) -> PrinterState:
        """Link again. Raises TrustLost after a restart, LinkError where another printer answers."""
        with self._making:
            self._channel.close()
            self._channel = self._open()
            found = self._describe()
            try:
                self.identity.check_same(found, self.url)
            except LinkError:
                self._channel.close()
                raise
            self._take_lease()
            if found.boot != self.identity.boot:
                self.identity = found
                raise found.restarted()
        return self.state()

    # The protocol

    def state(self) -> PrinterState:
        """The printer's state, asked for."""
        return _state_of(self._call("printer.state"))

    def reference(self, down_mm: float) -> PrinterState:
        """Reference, no lower than down_mm below here."""
        return _state_of(self._call("motion.reference", REFERENCE_S, down_mm=down_mm))

    def go(self, x: float, y: float, z: float, told: bool = True) -> PrinterState:
        """Straight move."""
        return _state_of(self._call("motion.go", MOVE_S, x=x, y=y, z=z))

    def lift(self, mm: float, told: bool = True) -> PrinterState:
        """Away from the plate."""
        return _state_of(self._call("motion.lift", MOVE_S, mm=mm))

    def lower(self, mm: float) -> PrinterState:
        """Toward the plate."""
        return _state_of(self._call("motion.lower", MOVE_S, mm=mm))

    def leave_below(self, mm: float) -> PrinterState:
        """Leave to go below z = 0."""
        return _state_of(self._call("motion.leave_below", mm=mm))

    def raise_support(self, name: str, mm: float) -> PrinterState:
        """One Z motor alone."""
        return _state_of(self._call("motors.raise", MOVE_S, name=name, mm=mm))

    def wire(self) -> tuple[int, bytes] | None:
        """Its socket, and a halt."""
        return self._channel.wire()

    def touch(self, floor: float) -> Place:
        """Down until the probe trips."""
        return _place_of(self._call("motion.touch", TOUCH_S, floor=floor))

    def survey_by_itself(self, box: Rectangle, columns: int, rows: int) -> Floats:
        """A grid that it surveys by itself; it holds what it found as OWN."""
        told = self._call(
            "surfaces.survey",
            HEAT_S,
            name=OWN,
            x0=box.x0,
            y0=box.y0,
            x1=box.x1,
            y1=box.y1,
            columns=columns,
            rows=rows,
        )
        found = self._surface_of(told, OWN)
        x, y = np.meshgrid(found.xs, found.ys)
        return np.column_stack([x.ravel(), y.ravel(), found.heights.ravel()])

    # Its surfaces: it stores what has to be filled, in micrometres, rear row first

    def surfaces(self) -> Held:
        """What it holds."""
        told = _table(self._call("surfaces.list"))
        try:
            limits, used = _table(told["limits"]), _table(told["use"])
            heads = tuple(
                HeldHead(
                    str(one["name"]),
                    int(one["columns"]),
                    int(one["rows"]),
                    Rectangle(*(float(v) for v in one["box"])),
                    one.get("kept") is True,
                )
                for one in told["held"]
            )
            fades = None
            if "gone_mm" in used:
                fades = float(used["full_mm"]), float(used["gone_mm"])
            smooth = limits.get("between") == "smooth"
            takes = Takes(
                int(limits["columns"]),
                int(limits["rows"]),
                float(limits["step_um"]) / 1000,
                "bicubic" if smooth else "bilinear",
            )
            return Held(heads, str(used["name"]), fades, takes)
        except (KeyError, TypeError, ValueError):
            raise LinkError("the printer tells its surfaces in another form.", self.url) from None

    def read_surface(self, name: str) -> HeldSurface:
        """One, in our sign."""
        found = self._surface_of(self._call("surfaces.read", name=name), name)
        head = self.surfaces().head(name)
        if head is not None and found.heights.shape != (head.rows, head.columns):
            raise InputError(
                f"the printer lists '{name}' with {head.columns} x {head.rows} nodes and told "
                f"{found.heights.shape[1]} x {found.heights.shape[0]}.",
                f"surface '{name}'",
                "Let it tell it once more.",
            )
        return found

    def _surface_of(self, answer: Any, name: str) -> HeldSurface:
        told, where = _table(answer), f"surface '{name}'"
        try:
            rows = [[math.nan if v is None else float(v) for v in row] for row in told["fill_um"]]
            x0, y0, x1, y1 = (float(v) for v in told["box"])
            if len({len(row) for row in rows}) != 1:
                raise ValueError
        except (KeyError, TypeError, ValueError):
            raise InputError(
                "the printer told a surface that is no even table of figures.", where
            ) from None
        return held_surface(name, (x0, y0, x1, y1), -np.array(rows)[::-1] / 1000, where)

    def write_surface(self, surface: HeldSurface) -> None:
        """Store one."""
        b = surface.box
        fill = np.round(-1000 * surface.heights[::-1]).astype(int).tolist()
        box = [b.x0, b.y0, b.x1, b.y1]
        self._call("surfaces.write", name=surface.name, box=box, fill_um=fill)

    def use_surface(self, name: str, fades: tuple[float, float] | None = None) -> PrinterState:
        """Follow one."""
        more = {} if fades is None else {"full_mm": fades[0], "gone_mm": fades[1]}
        return _state_of(self._call("surfaces.use", name=name, **more))

    def keep_surfaces(self) -> None:
        """Keep them."""
        self._call("surfaces.keep")

    def forget_surface(self, name: str) -> None:
        """Without one."""
        self._call("surfaces.forget", name=name)

    def rest(self, seconds: float) -> PrinterState:
        """Wait in place."""
        return _state_of(self._call("motion.rest", seconds + MOVE_S, seconds=seconds))

    def extend(self) -> None:
        """Probe out."""
        self._call("probe.extend", MOVE_S)

    def retract(self) -> None:
        """Probe away."""
        self._call("probe.retract", MOVE_S)

    def heat(self, nozzle_c: float | None, plate_c: float | None) -> PrinterState:
        """Set targets."""
        return _state_of(self._call("heat.set", nozzle_c=nozzle_c, plate_c=plate_c))

    def wait_for_heat(self) -> PrinterState:
        """Until warm."""
        return _state_of(self._call("heat.wait", HEAT_S))

    def trip_height(self) -> float:
        """This printer stores how far the nozzle drops on after the trip: our sign reversed."""
        for value in self.values():
            if value.meaning == "trip_height":
                return value.ours
        raise LinkError("the printer does not tell its trip height.", self.url)

    def values(self) -> tuple[StoredValue, ...]:
        """All that it stores, in its own names and signs beside ours."""
        found = []
        for name, told in _table(self._call("values.list")).items():
            table = {"default": 0.0, **_table(told)}
            try:
                live, kept, default = (float(table[k]) for k in ("live", "kept", "default"))
            except (KeyError, TypeError, ValueError):
                raise LinkError(f"the printer does not tell its value {name}.", self.url) from None
            meaning, sign, nought = _MEANINGS.get(name, ("", 1.0, 0.0))
            ours = [nought + sign * v for v in (live, kept, default)]
            unit = next((u for end, u in _UNITS if name.endswith(end)), "")
            found.append(StoredValue(name, meaning, live, kept, ours[0], ours[1], ours[2], unit))
        return tuple(found)

    def set_value(self, meaning: str, ours: float) -> None:
        """Change one."""
        for name, (means, sign, nought) in _MEANINGS.items():
            if means == meaning:
                self._call("values.set", name=name, value=sign * (ours - nought))
                return
        raise PrinterRefused(f"the printer stores no {meaning}.", "printer", reason="bad_value")

    def nudge(self, mm: float) -> PrinterState:
        """Shift what is being printed."""
        return _state_of(self._call("job.nudge", mm=mm))

    def keep_values(self) -> None:
        """Keep."""
        self._call("values.keep")

    def halt(self) -> None:
        """Stop at once. Returns when the printer confirmed; raises LinkError where it can't."""
        future = self._channel.urgent(HALT)
        try:
            future.result(timeout=HALT_REPLY_S)
        except TimeoutError:
            raise LinkError(
                "STOP is not confirmed.", self.url, "Use the power switch if the printer moves."
            ) from None

    def close(self) -> None:
        """End the link."""
        self._closed.set()
        self._channel.close()


def _table(value: Any) -> Mapping[str, Any]:
    if not isinstance(value, dict):
        raise LinkError("the printer answered something of the wrong form.", "link", "Link again.")
    return value


def _place_of(value: Any) -> Place:
    told = _table(value)
    try:
        place = Place(float(told["x"]), float(told["y"]), float(told["z"]))
    except (KeyError, TypeError, ValueError):
        raise LinkError(
            "the printer told a position that is none.", "link", "Link again."
        ) from None
    if not all(abs(c) < 1e5 for c in (place.x, place.y, place.z)):
        raise LinkError("the printer told a position that can't be.", "link", "Link again.")
    return place


def _heat_of(value: Any) -> Heat:
    told = _table(value)
    return Heat(float(told.get("now_c", 0.0)), float(told.get("target_c", 0.0)))


def _state_of(value: Any) -> PrinterState:
    """A state from what the printer told. Raises LinkError where any of it makes no sense."""
    told = _table(value)
    try:
        probe = _table(told.get("probe"))
        touch = told.get("reference_touch")
        return PrinterState(
            boot=str(told.get("boot")),
            frame=int(told.get("frame", 0)),
            referenced=told.get("referenced") is True,
            reference_touch=_place_of(touch) if touch else None,
            moving=told.get("moving") is not False,
            motions=int(told.get("motions", 0)),
            position=_place_of(told.get("position")),
            extended=probe.get("extended") is not False,
            tripped=probe.get("tripped") is not False,
            nozzle=_heat_of(told.get("nozzle")),
            plate=_heat_of(told.get("plate")),
            clock_s=float(told.get("clock_s", 0.0)),
            not_kept=int(told.get("not_kept", 0)),
            leave_mm=float(told.get("leave_mm", 0.0)),
            printing=told.get("printing") is True,
            surface=str(told.get("surface", "")),
            supports=tuple(
                (str(n), float(mm)) for n, mm in _table(told.get("supports", {})).items()
            ),
        )
    except (TypeError, ValueError, OverflowError):
        raise LinkError(
            "the printer told a state that makes no sense.", "link", "Link again."
        ) from None
