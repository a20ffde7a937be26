"""Recorded sessions: every line with its time, as JSON lines; read again without a printer."""

import io
import json
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from tallgrain.errors import InputError, JobError
from tallgrain.textio import open_regular

FORMAT = "tallgrain-session"
LONGEST = 1 << 16


@dataclass(frozen=True)
class Said:
    """One line of a session: seconds since it began, whether it was ours, and its words."""

    at: float
    ours: bool
    line: str


class Recorder:
    """Writes a session as it goes; a write that fails ends the recording and nothing else."""

    def __init__(self, path: Path, dialect: str) -> None:
        self.path = path
        self._began = time.monotonic()
        self._turn = threading.Lock()
        try:
            self._file: IO[str] | None = path.open("x", encoding="utf-8")
        except OSError as error:
            raise JobError(
                f"the session can't be recorded: {error.strerror}.",
                str(path),
                "Choose another place; a recording is never written over.",
            ) from None
        self._write({"format": FORMAT, "version": 1, "dialect": dialect})

    def note(self, ours: bool, line: str) -> None:
        """One line."""
        at = round(time.monotonic() - self._began, 4)
        self._write({"at": at, "from": "us" if ours else "printer", "line": line})

    def _write(self, what: dict[str, object]) -> None:
        with self._turn:
            if self._file is None:
                return
            try:
                self._file.write(json.dumps(what, ensure_ascii=False) + "\n")
                self._file.flush()
            except OSError:
                self._file = None

    def close(self) -> None:
        """End it."""
        with self._turn:
            if self._file is not None:
                self._file.close()
                self._file = None


def replayed(path: Path) -> Iterator[Said]:
    """The lines of a recorded session, one at a time: a session may be larger than memory.

    Raises InputError naming the line that can't be read.
    """
    try:
        with io.TextIOWrapper(open_regular(path), "utf-8", "replace") as file:
            _check_head(file.readline(LONGEST), path)
            for number, text in enumerate(iter(lambda: file.readline(LONGEST), ""), start=2):
                try:
                    told = json.loads(text)
                    yield Said(float(told["at"]), told["from"] == "us", str(told["line"]))
                except (ValueError, KeyError, TypeError, RecursionError):
                    raise InputError(
                        "this line is none of a session.",
                        f"{path}, line {number}",
                        "A recording that was cut off can be used up to there.",
                    ) from None
    except OSError as error:
        raise InputError(f"the session can't be read: {error.strerror}.", str(path)) from None


def _check_head(text: str, path: Path) -> None:
    try:
        head = json.loads(text)
    except (ValueError, RecursionError):
        head = None
    if not isinstance(head, dict) or head.get("format") != FORMAT:
        raise InputError("this is no recorded session.", str(path), "Choose another file.")
    if head.get("version") != 1:
        raise InputError(
            f"a session of version {head.get('version')!r} is not known here.",
            str(path),
            "A newer Tall Grain reads it.",
        )
