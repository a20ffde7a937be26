"""The right to move a printer that has only a console: a file lock on this computer.

A console has no lease of its own. Two windows or commands here can't hold one printer at once; a
program on another computer is noticed only by what moves.
"""

import errno
import fcntl
import hashlib
import os
import stat
import tempfile
from contextlib import suppress
from pathlib import Path

from tallgrain.errors import LeaseHeld, LinkError


class ConsoleLease:
    """A held lock; given back by close, and by the system when the process ends."""

    def __init__(self, where: str, holder: str) -> None:
        name = hashlib.sha256(where.encode()).hexdigest()[:16]
        try:
            self._path = _private_folder() / f"{name}.lease"
            flags = os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC
            self._file = os.open(self._path, flags, 0o600)
        except OSError as error:
            raise LinkError(
                f"the printer's lease can't be written ({error.strerror}).",
                str(error.filename or where),
                "Check the folder's owner and permissions.",
            ) from None
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            told = os.read(self._file, 200).decode("utf-8", "replace") or "Another program"
            os.close(self._file)
            raise LeaseHeld(
                f"{told} holds this printer.",
                where,
                "Close the other window or command, then link again.",
            ) from None
        os.ftruncate(self._file, 0)
        os.pwrite(self._file, holder.encode("utf-8"), 0)

    def close(self) -> None:
        """Give it back."""
        with suppress(OSError):
            os.close(self._file)


def _private_folder() -> Path:
    """A folder that only this user can write. Raises OSError where there is another one."""
    runtime = os.environ.get("XDG_RUNTIME_DIR")
    folder = Path(runtime or tempfile.gettempdir()) / f"tallgrain-{os.getuid()}"
    with suppress(FileExistsError):
        folder.mkdir(mode=0o700)
    found = folder.lstat()
    if not stat.S_ISDIR(found.st_mode) or found.st_uid != os.getuid() or found.st_mode & 0o077:
        raise PermissionError(errno.EACCES, "the folder is not this user's alone", str(folder))
    return folder
