"""How lines travel: wrapped, numbered, summed, cut from bytes. Pure functions."""

from collections.abc import Callable

from tallgrain.link.console.parts import Framing

ENDS = {"lf": b"\n", "crlf": b"\r\n", "cr": b"\r"}
LONGEST = 4096
# A share of signs that no console writes: another baud rate reads like this.
NOISE_SHARE, NOISE_LEAST = 0.3, 24


def _sum8(data: bytes) -> int:
    return sum(data) & 0xFF


def _xor8(data: bytes) -> int:
    made = 0
    for byte in data:
        made ^= byte
    return made


def _crc8(data: bytes) -> int:
    """CRC-8 with the polynomial x⁸ + x² + x + 1, begun at nothing."""
    made = 0
    for byte in data:
        made ^= byte
        for _ in range(8):
            made = (made << 1 ^ 0x07) & 0xFF if made & 0x80 else made << 1
    return made


CHECKS: dict[str, Callable[[bytes], int]] = {"sum8": _sum8, "xor8": _xor8, "crc8": _crc8}


def wrapped(framing: Framing, line: str, number: int) -> bytes:
    """A line as it goes on the wire: numbered and summed where the dialect says so. The sum is over
    all that stands before it, or over the line alone."""
    text = framing.frame.replace("{n}", str(number)).replace("{line}", line)
    if "{check}" in text and framing.check != "none":
        before, _, after = text.partition("{check}")
        summed = before if framing.check_over == "before" else line
        total = CHECKS[framing.check](summed.encode("utf-8"))
        text = f"{before}{f'{total:02X}' if framing.check_as == 'hex' else total}{after}"
    return text.encode("utf-8") + ENDS[framing.line_end]


class Lines:
    """Cuts bytes into lines, whatever they end with; never holds more than one long line."""

    def __init__(self) -> None:
        self._rest = b""
        self.lost = 0  # bytes of lines without an end that were let go

    def feed(self, data: bytes) -> list[str]:
        """The lines that are whole by now."""
        *whole, rest = (self._rest + data).replace(b"\r", b"\n").split(b"\n")
        if len(rest) > LONGEST:
            self.lost += len(rest)
            rest = b""
        self._rest = rest
        found = []
        for line in whole:
            text = line[:LONGEST].decode("utf-8", "replace").strip()
            if text:
                found.append(text)
        return found


def looks_like_noise(text: str) -> bool:
    """Whether signs that no console writes are so many that the rate must be another one."""
    if len(text) < NOISE_LEAST:
        return False
    odd = sum(c == "\ufffd" or (ord(c) < 32 and c not in "\t\r\n") for c in text)
    return odd > NOISE_SHARE * len(text)
