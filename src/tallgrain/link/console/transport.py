"""Ways to a console: a serial device, raw TCP, RFC 2217; and a recorded session."""

import errno
import select
import socket
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol
from urllib.parse import parse_qs, urlsplit

from tallgrain.errors import InputError, LinkError
from tallgrain.link.network import check_host

CONNECT_S = 3.0
WAIT_S = 0.05
SCHEMES = ("serial", "socket", "rfc2217")


class Transport(Protocol):
    """Bytes in and out; one thread reads, any may write."""

    def read(self) -> bytes:
        """What came, after WAIT_S at the latest; nothing where nothing did. Raises OSError."""

    def write(self, data: bytes) -> None:
        """Put bytes on the wire. Raises OSError."""

    def fileno(self) -> int | None:
        """Its file descriptor; None where it has none of its own."""

    def close(self) -> None:
        """End it."""


@dataclass(frozen=True)
class ConsoleUrl:
    """serial:/dev/…, socket://host:port or rfc2217://host:port, with ?dialect=NAME, &baud=N and
    &record=FILE, which takes down all that is said."""

    scheme: str
    where: str
    dialect: str
    baud: int | None
    record: str = ""

    def __str__(self) -> str:
        return (
            f"{self.scheme}:{self.where}"
            if self.scheme == "serial"
            else (f"{self.scheme}://{self.where}")
        )


def parse_console_url(url: str, remote: bool = True) -> ConsoleUrl:
    """The parts of a console's address. Raises InputError; other computers only if `remote`."""
    head, _, query = url.partition("?")
    try:
        parts = urlsplit(head)
        host, port = parts.hostname, parts.port
    except ValueError:
        raise InputError(f"'{url}' is not a link.", "--link", "Check its host and port.") from None
    if parts.scheme not in SCHEMES:
        raise InputError(
            f"'{url}' is not a link.",
            "--link",
            "Give tcp://host:port, serial:/dev/…, socket://host:port or rfc2217://host:port.",
        )
    where = head.removeprefix(f"{parts.scheme}:").removeprefix("//")
    if parts.scheme == "serial":
        where = parts.path or where
    elif not host or not port:
        raise InputError(f"'{url}' names no host and port.", "--link", "Give host:port.")
    else:
        check_host(host, remote)
    asked = parse_qs(query)
    dialect = asked.get("dialect", [""])[0]
    if not dialect:
        raise InputError(
            "a text console needs a dialect: what its lines mean.",
            "--link",
            "Add ?dialect=NAME or ?dialect=FILE.toml to the address.",
        )
    baud = asked.get("baud", [""])[0]
    if baud and not baud.isdecimal():
        raise InputError(f"'{baud}' is no baud rate.", "--link", "Give a number, such as 115200.")
    record = asked.get("record", [""])[0]
    return ConsoleUrl(parts.scheme, where, dialect, int(baud) if baud else None, record)


def is_console(url: str) -> bool:
    """Whether an address is a text console's."""
    return url.partition(":")[0] in SCHEMES


def opened(url: ConsoleUrl, baud: int) -> Transport:
    """The way to a console. Raises LinkError with what to do."""
    if url.scheme == "socket":
        return _Socket(url)
    return _Serial(url, url.baud or baud)


class _Socket:
    def __init__(self, url: ConsoleUrl) -> None:
        host, _, port = url.where.rpartition(":")
        try:
            self._socket = socket.create_connection((host.strip("[]"), int(port)), CONNECT_S)
        except (OSError, ValueError) as error:
            raise LinkError(
                f"no printer answers there ({getattr(error, 'strerror', None) or error}).",
                str(url),
                "Check that it is switched on and the address is right.",
            ) from None
        self._socket.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)

    def read(self) -> bytes:
        ready, _, _ = select.select([self._socket], [], [], WAIT_S)
        if not ready:
            return b""
        data = self._socket.recv(1 << 16)
        if not data:
            raise OSError(errno.EPIPE, "it closed the connection")
        return data

    def write(self, data: bytes) -> None:
        self._socket.sendall(data)

    def fileno(self) -> int | None:
        return self._socket.fileno()

    def close(self) -> None:
        with suppress(OSError):
            self._socket.shutdown(socket.SHUT_RDWR)
        self._socket.close()


class _Serial:
    """A device or an RFC 2217 server, through pyserial."""

    def __init__(self, url: ConsoleUrl, baud: int) -> None:
        import serial

        # A console needs no control lines, and some servers don't answer about them.
        where = url.where if url.scheme == "serial" else f"rfc2217://{url.where}?ign_set_control"
        try:
            # A port on the network knows neither.
            options = {"exclusive": True, "write_timeout": 2.0} if url.scheme == "serial" else {}
            self._port = serial.serial_for_url(where, baudrate=baud, timeout=WAIT_S, **options)
        except (OSError, ValueError) as error:
            raise LinkError(*_why(url, error)) from None

    def read(self) -> bytes:
        first = self._port.read(1)
        more = self._port.in_waiting if first else 0
        return bytes(first + self._port.read(more)) if more else bytes(first)

    def write(self, data: bytes) -> None:
        self._port.write(data)

    def fileno(self) -> int | None:
        return None  # a device is this program's alone: held twice it could not be linked to again

    def close(self) -> None:
        with suppress(OSError):
            self._port.close()


def _why(url: ConsoleUrl, error: Exception) -> tuple[str, str, str]:
    """Why a device can't be opened, and what to do."""
    path = Path(url.where)
    number = getattr(error, "errno", None)
    if url.scheme == "serial" and not path.exists():
        return ("there is no such device.", str(url), "Plug the printer in, then choose it again.")
    if number == errno.EACCES or "Permission" in str(error):
        group = ""
        with suppress(OSError, KeyError):
            group = path.group()
        return (
            "you may not use this device.",
            str(url),
            f"Add yourself to the group {group or 'dialout'} (sudo usermod -aG "
            f"{group or 'dialout'} $USER), then log in again.",
        )
    if number in (errno.EBUSY, errno.EWOULDBLOCK) or "lock" in str(error).lower():
        return ("another program holds this device.", str(url), "Close it there, then link again.")
    words = getattr(error, "strerror", None) or str(error)
    return (f"the device can't be opened ({words}).", str(url), "Check cable and address.")


@dataclass(frozen=True)
class Device:
    """A serial device: its path and a name that a person knows it by."""

    path: str
    name: str


def devices() -> list[Device]:
    """The serial devices of this computer, those that say what they are first."""
    from serial.tools import list_ports

    found = []
    for port in sorted(list_ports.comports(), key=lambda p: (p.description == "n/a", p.device)):
        told = port.description if port.description not in (None, "n/a") else "serial device"
        found.append(Device(port.device, f"{told} ({port.device})"))
    return found
