"""The right to move a printer that has only a console: a file lock on this computer.

A console has no lease of its own. Two windows or commands here can't hold one printer at once; a
program on another computer is noticed only by what moves.
"""

import fcntl
import hashlib
import os
import tempfile
from contextlib import suppress
from pathlib import Path

from tallgrain.errors import LeaseHeld, LinkError


class ConsoleLease:
    """A held lock; given back by close, and by the system when the process ends."""

    def __init__(self, where: str, holder: str) -> None:
        name = hashlib.sha256(where.encode()).hexdigest()[:16]
        folder = Path(os.environ.get("XDG_RUNTIME_DIR") or tempfile.gettempdir())
        self._path = folder / f"tallgrain-{os.getuid()}-{name}.lease"
        try:
            self._file = os.open(self._path, os.O_RDWR | os.O_CREAT, 0o600)
        except OSError as error:
            raise LinkError(
                f"the printer's lease can't be written ({error.strerror}).", str(self._path),
                "Check the folder's owner and permissions.",
            ) from None  # fmt: skip
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            told = os.read(self._file, 200).decode("utf-8", "replace") or "Another program"
            os.close(self._file)
            raise LeaseHeld(
                f"{told} holds this printer.", where,
                "Close the other window or command, then link again.",
            ) from None  # fmt: skip
        os.ftruncate(self._file, 0)
        os.pwrite(self._file, holder.encode("utf-8"), 0)

    def close(self) -> None:
        """Give it back."""
        with suppress(OSError):
            os.close(self._file)
