"""The one way to read a file and to write one.

Read: regular files only, up to a stated size of their kind, decoded once; what a text says is
bounded in depth and digits. Written: as a whole, so that a crash never leaves half of a file.
"""

import errno
import io
import json
import math
import os
import re
import stat
import tempfile
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from tallgrain.errors import InputError, JobError

# The largest file of each kind (bytes).
LARGEST_SURVEY = 50_000_000
LARGEST_RECORD = 5_000_000
LARGEST_SHEET = 1_000_000
# Nothing of ours is nested deeper, has longer whole numbers, or has more parts.
DEEPEST = 40
MOST_DIGITS = 15
BEGIN = 200_000
RECORD_PARTS = 100_000
SURVEY_PARTS = 2_500_000
MODE = 0o666


def read_text(path: Path, largest: int = LARGEST_RECORD) -> str:
    """A file's UTF-8 text. Raises InputError where there is none, or too much."""
    return decoded(read_bytes(path, largest), str(path))


def decoded(data: bytes, where: str) -> str:
    """UTF-8 text of bytes. Raises InputError naming the line that is none."""
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = error.object[: error.start].count(b"\n") + 1
        raise InputError(
            "the file is not UTF-8 text.", f"{where}, line {line}", "Save it as UTF-8 text."
        ) from None


def read_bytes(path: Path, largest: int = LARGEST_SURVEY) -> bytes:
    """A regular file's content. Raises InputError where there is none, or too much."""
    with open_regular(path) as file:
        return read_most(file, largest, str(path))


def open_regular(path: Path) -> io.BufferedReader:
    """A regular file, opened for reading without ever waiting. Raises InputError."""
    try:
        # Not to wait for whoever may write into a pipe.
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except FileNotFoundError:
        raise InputError("there is no such file.", str(path), "Check the name.") from None
    except (OSError, ValueError) as error:
        why = getattr(error, "strerror", None) or "its name can't be one"
        raise InputError(f"can't be read ({why}).", str(path), "Check the name.") from None
    mode = os.fstat(handle).st_mode
    if not stat.S_ISREG(mode):
        os.close(handle)
        if stat.S_ISDIR(mode):
            raise InputError("this is a folder, not a file.", str(path), "Name a file in it.")
        raise InputError("this is no regular file.", str(path), "Name a file on disk.")
    return os.fdopen(handle, "rb")


def read_most(file: io.BufferedReader, largest: int, where: str) -> bytes:
    """All that is in a file. Raises InputError where that is more than `largest`."""
    try:
        data = file.read(largest + 1)
    except OSError as error:
        raise InputError(f"can't be read ({error.strerror}).", where, "Check the disk.") from None
    if len(data) > largest:
        raise InputError(
            f"the file is larger than {largest / 1e6:g} MB.", where, "Thin it, or name another."
        )
    return data


def begin_of(text: str) -> str:
    """The first lines of a long text, to tell what it is by."""
    return text if len(text) <= BEGIN else text[: text.rfind("\n", 0, BEGIN) + 1] or text


def lines_of(text: str) -> Iterator[tuple[int, str]]:
    """Number (from 1) and text of each line that is not blank, without a copy of all of them."""
    for number, line in enumerate(io.StringIO(text, newline=None), 1):
        stripped = line.strip()
        if stripped:
            yield number, stripped


def parse_json(text: str, where: str, most_parts: int = RECORD_PARTS) -> Any:
    """JSON whose depth, digits and parts are bounded. Raises InputError."""

    def whole(words: str) -> int:
        if len(words) > MOST_DIGITS + 1:
            raise InputError(f"{words[:20]}… has too many digits.", where, "Give fewer.")
        return int(words)

    # Counted first: what is parsed takes many times its text.
    if text.count(",") + text.count("[") + text.count("{") > most_parts:
        raise InputError("it has too many parts.", where, "Thin it first.")
    try:
        data = json.loads(text, parse_int=whole)
    except json.JSONDecodeError as error:
        raise InputError(
            f"this is not JSON: {error.msg}.", f"{where}, line {error.lineno}", "Mend that line."
        ) from None
    except RecursionError:
        raise _too_deep(where) from None
    check_bounded(data, where)
    return data


def parse_toml(text: str, where: str) -> dict[str, Any]:
    """TOML whose depth and digits are bounded. Raises InputError."""
    if len(text) > LARGEST_SHEET:
        raise InputError(f"it is larger than {LARGEST_SHEET / 1e6:g} MB.", where, "Thin it.")
    if _chained(text) > DEEPEST:
        raise _too_deep(where)
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"this is not TOML: {error}.", where, "Mend that line.") from None
    except RecursionError:
        raise _too_deep(where) from None
    except ValueError:
        raise InputError("a whole number has too many digits.", where, "Give fewer.") from None
    check_bounded(data, where)
    return data


_LINK = re.compile(r"""(?:(?<![\w-])[\w-]{1,80}|"[^"\n]{0,80}"|'[^'\n]{0,80}')[ \t]*\.[ \t]*""")


def _chained(text: str) -> int:
    """The longest chain of names with dots between: the parser's time grows with its square."""
    longest = run = end = 0
    for found in _LINK.finditer(text):
        run = run + 1 if found.start() == end else 1
        end, longest = found.end(), max(longest, run)
    return longest


_Chain = tuple[Any, ...]


def check_bounded(data: Any, where: str) -> None:
    """Raises InputError, naming the place, for what no file of ours holds: depth, long or endless
    figures, text that is none."""
    todo: list[tuple[Any, int, _Chain]] = [({"": data}, 0, ())]
    while todo:
        part, depth, chain = todo.pop()
        if depth > DEEPEST:
            raise _too_deep(where)
        for key, value in part.items() if isinstance(part, dict) else enumerate(part, 1):
            if isinstance(value, dict | list):
                todo.append((value, depth + 1, (chain, key)))
            elif wrong := _senseless(value) or (_senseless(key) if isinstance(key, str) else ""):
                raise InputError(f"{wrong}.", f"{where}, {_place(chain, key)}", "Mend that.")


def _senseless(value: Any) -> str:
    """Why a value can be none of ours; "" where it can."""
    if isinstance(value, str):
        if not value.isascii() and any("\ud800" <= c <= "\udfff" for c in value):
            return "this text is half a character"
    elif isinstance(value, float):
        if not math.isfinite(value):
            return f"{value} is no figure"
    elif isinstance(value, int) and abs(value) >= 10**MOST_DIGITS:
        return "this whole number has too many digits"
    return ""


def _place(chain: _Chain, key: Any) -> str:
    parts = [key]
    while chain:
        chain, part = chain
        parts.append(part)
    words = ""
    for part in parts[::-1]:
        words += f"[{part}]" if isinstance(part, int) else f".{part}" if part else ""
    return words.lstrip(".").encode("utf-8", "replace").decode()[:80]


def _too_deep(where: str) -> InputError:
    return InputError("it is nested too deeply.", where, "Give a file of the kind that is asked.")


def write_text(path: Path, text: str) -> None:
    """Write a text file as a whole."""
    write_bytes(path, text.encode("utf-8", "replace"))


def write_bytes(path: Path, data: bytes) -> None:
    """Write a file as a whole: into a neighbour first, synced, then renamed over the old one, whose
    mode it keeps; a new one's follows the umask. Raises JobError, also for a symbolic link."""
    try:
        mode = _mode_for(path)
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name[:60]}.")
    except (OSError, ValueError) as error:
        raise unwritable(path, error) from None
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fchmod(file.fileno(), mode)
            os.fsync(file.fileno())
        Path(name).replace(path)
    except OSError as error:
        Path(name).unlink(missing_ok=True)
        raise unwritable(path, error) from None


def _mode_for(path: Path) -> int:
    try:
        found = path.lstat()
    except FileNotFoundError:
        umask = os.umask(0o077)
        os.umask(umask)
        return MODE & ~umask
    if stat.S_ISLNK(found.st_mode):
        raise JobError(
            "this is a symbolic link, and what it points to is not written unasked.",
            str(path),
            f"Name the file itself: {path.resolve()}",
        )
    if not stat.S_ISREG(found.st_mode):
        raise JobError("this is no regular file.", str(path), "Choose another name.")
    return stat.S_IMODE(found.st_mode)


def unwritable(path: Path, error: Exception) -> JobError:
    """A refusal to write as a sentence: what the disk said, and what to do about just that."""
    code = getattr(error, "errno", None)
    remedy = {
        errno.ENOSPC: "Free some room on that disk.",
        errno.EDQUOT: "Free some of your quota.",
        errno.EROFS: "That disk can only be read: choose another place.",
        errno.EACCES: "Choose another place, or mend its permissions.",
        errno.ENOENT: "There is no such folder: make it, or choose another.",
    }.get(code or 0, "Choose another place.")
    why = getattr(error, "strerror", None) or "its name can't be one"
    return JobError(f"can't be written ({why}).", str(path), f"Nothing was changed. {remedy}")
