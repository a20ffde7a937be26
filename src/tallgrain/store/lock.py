"""One writer at a time: a lock that the kernel gives back when its holder dies."""

import fcntl
import json
import os
import stat
from pathlib import Path
from typing import IO

from tallgrain.errors import StoreError, printable


def refuse_other_than_file(path: Path) -> None:
    """Raises StoreError where something lies that is no file: a folder, a pipe, a device."""
    try:
        kind = path.stat().st_mode
    except FileNotFoundError:
        return
    if not stat.S_ISREG(kind):
        what = "a folder" if stat.S_ISDIR(kind) else "something that is no file"
        raise StoreError(
            f"{what} lies where a file of the ledger should be.",
            str(path),
            "It was left as it is. Move it away, or set TALLGRAIN_HOME to another folder.",
        )


class WriterLock:
    """The right to write one ledger. Held until release() or the end of the process."""

    def __init__(self, file: IO[str], path: Path) -> None:
        self._file = file
        self.path = path

    @classmethod
    def take(cls, path: Path, holder: str) -> "WriterLock":
        """Take the lock. Raises StoreError that names the holder where another has it."""
        refuse_other_than_file(path)
        file = path.open("a+", encoding="utf-8")
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            who = cls._holder(file)
            file.close()
            raise StoreError(
                f"{who} is writing to this ledger.",
                str(path.parent),
                "Close it first, or set TALLGRAIN_HOME to another folder.",
            ) from None
        file.truncate(0)
        file.write(json.dumps({"holder": holder, "process": os.getpid()}))
        file.flush()
        return cls(file, path)

    @staticmethod
    def _holder(file: IO[str]) -> str:
        file.seek(0)
        try:
            told = json.loads(file.read())
            os.kill(int(told["process"]), 0)  # it lives: else somebody else holds the lock
            return f"{printable(str(told['holder']))} (process {told['process']})"
        except PermissionError:
            return "Another user's program"
        except (ValueError, KeyError, TypeError, OSError):
            return "Another window or command"

    def release(self) -> None:
        """Give the right back."""
        self._file.close()
