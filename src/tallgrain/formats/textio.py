"""Reading text with clear refusals, and writing files so that a crash never leaves half of one."""

import os
import tempfile
from pathlib import Path

from tallgrain.errors import InputError, JobError

LARGEST_BYTES = 200_000_000


def read_text(path: Path) -> str:
    """A file's UTF-8 text. Raises InputError where there is none."""
    try:
        return read_bytes(path).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = error.object[: error.start].count(b"\n") + 1
        raise InputError(
            "the file is not UTF-8 text.", f"{path}, line {line}", "Save it as UTF-8 text."
        ) from None


def read_bytes(path: Path) -> bytes:
    """A file's content. Raises InputError where there is none, or too much."""
    try:
        if path.is_dir():
            raise InputError("this is a folder, not a file.", str(path), "Name a file in it.")
        if path.stat().st_size > LARGEST_BYTES:
            raise InputError("the file is larger than 200 MB.", str(path), "Thin it first.")
        return path.read_bytes()
    except FileNotFoundError:
        raise InputError("there is no such file.", str(path), "Check the name.") from None
    except OSError as error:
        raise InputError(f"can't be read ({error.strerror}).", str(path)) from None


def write_text(path: Path, text: str) -> None:
    """Write a text file as a whole."""
    write_bytes(path, text.encode("utf-8"))


def write_bytes(path: Path, data: bytes) -> None:
    """Write a file as a whole: into a neighbour first, synced, then renamed over the old one."""
    try:
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    except OSError as error:
        raise _unwritable(path, error) from None
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        Path(name).chmod(0o644)
        Path(name).replace(path)
    except OSError as error:
        Path(name).unlink(missing_ok=True)
        raise _unwritable(path, error) from None


def _unwritable(path: Path, error: OSError) -> JobError:
    return JobError(
        f"can't be written ({error.strerror}).",
        str(path),
        "Nothing was changed. Choose another place or free some room.",
    )
