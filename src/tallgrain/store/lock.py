"""One writer at a time: a lock that the kernel gives back when its holder dies."""

import fcntl
import json
import os
from pathlib import Path
from typing import IO

from tallgrain.errors import StoreError


class WriterLock:
    """The right to write one ledger. Held until release() or the end of the process."""

    def __init__(self, file: IO[str], path: Path) -> None:
        self._file = file
        self.path = path

    @classmethod
    def take(cls, path: Path, holder: str) -> "WriterLock":
        """Take the lock. Raises StoreError that names the holder where another has it."""
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
            return f"{told['holder']} (process {told['process']})"
        except (ValueError, KeyError, TypeError):
            return "Another window or command"

    def release(self) -> None:
        """Give the right back."""
        self._file.close()
