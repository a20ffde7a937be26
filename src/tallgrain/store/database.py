"""Opening the ledger's database: settings, migrations with a copy first, newer versions refused."""

import errno
import os
import shutil
import sqlite3
import stat
import tempfile
import weakref
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path

from tallgrain.errors import ReadOnly, StoreError
from tallgrain.store.lock import refuse_other_than_file
from tallgrain.store.schema import NEWEST, step_of, upgrade

NETWORK_FILESYSTEMS = ("nfs", "cifs", "smb", "sshfs", "9p", "davfs", "afs", "ceph", "glusterfs")


def network_folder(folder: Path, mounts: str | None = None) -> bool:
    """Whether a folder lies on a network file system, where SQLite's WAL is not safe."""
    if mounts is None:
        try:
            mounts = Path("/proc/mounts").read_text(encoding="utf-8")
        except OSError:
            return False
    best, kind = "", ""
    where = str(folder.resolve())
    for line in mounts.splitlines():
        fields = line.split()
        if len(fields) < 3:
            continue
        mount = fields[1].replace("\\040", " ")
        inside = where == mount or where.startswith(mount.rstrip("/") + "/")
        if inside and len(mount) >= len(best):
            best, kind = mount, fields[2]
    return any(name in kind for name in NETWORK_FILESYSTEMS)


class Connections:
    """Connections to one file: any number that read, each lent to one thread at a time."""

    def __init__(self, opened: Callable[[], sqlite3.Connection], end: Callable[[], object]) -> None:
        self._opened, self._end = opened, weakref.finalize(self, end)
        self._idle: list[sqlite3.Connection] = []

    @contextmanager
    def reading(self) -> Iterator[sqlite3.Connection]:
        """One that sees the file as it is now, whatever is written meanwhile."""
        try:
            connection = self._idle.pop()
        except IndexError:
            connection = self._opened()
        try:
            connection.execute("BEGIN")
            yield connection
        except sqlite3.Error:
            connection.close()
            raise
        finally:
            with suppress(sqlite3.Error):
                connection.execute("ROLLBACK")
                self._idle.append(connection)

    def close(self) -> None:
        """Close all that nobody has."""
        while self._idle:
            self._idle.pop().close()
        self._end()


def connect(path: Path) -> sqlite3.Connection:
    """A connection whose every commit is on disk when it returns (synchronous=FULL); transactions
    are begun and ended by whoever writes."""
    connection = _connected(path)
    journal = "TRUNCATE" if network_folder(path.parent) else "WAL"
    connection.execute(f"PRAGMA journal_mode={journal}")
    connection.execute("PRAGMA synchronous=FULL")
    connection.execute("PRAGMA foreign_keys=ON")
    return connection


def identity(path: Path) -> tuple[int, int] | None:
    """Which file lies at a path (device, number); None where there is none."""
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_dev, found.st_ino


def keep_private(home: Path, name: str) -> None:
    """Only their owner reads a data folder and the files of its ledger, those from before, too; so
    nobody else can hold its lock. What belongs to somebody else is left as it is."""
    for path in (home, *home.glob(f"{Path(name).stem}*")):
        with suppress(OSError):
            found = path.lstat()
            if found.st_uid == os.getuid() and not stat.S_ISLNK(found.st_mode):
                path.chmod(stat.S_IMODE(found.st_mode) & ~0o077)


def _connected(path: Path) -> sqlite3.Connection:
    return sqlite3.connect(
        path.absolute(), timeout=5, check_same_thread=False, isolation_level=None
    )


def readers(path: Path, step: int = NEWEST) -> Connections:
    """Connections that only read, also where nothing can be written. A ledger of an older step is
    read from a copy that was brought up to date."""
    if step == NEWEST:
        return Connections(lambda: open_reading(path), lambda: None)
    folder = tempfile.mkdtemp(prefix="tallgrain-")
    opened = Path(folder) / path.name
    with closing(open_reading(path)) as source, closing(sqlite3.connect(opened)) as made:
        source.backup(made)
    _upgrade(opened, step)
    return Connections(
        lambda: open_reading(opened), lambda: shutil.rmtree(folder, ignore_errors=True)
    )


def open_reading(path: Path) -> sqlite3.Connection:
    """The ledger's file opened for reading. Raises sqlite3.Error."""
    try:
        return _opened(path, "mode=ro")
    except sqlite3.OperationalError as error:
        if _code(error) not in (sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_READONLY):
            raise
    # SQLite wants to write beside a ledger even to read it; where it can't, nobody else does.
    newest = path.with_name(f"{path.name}-wal")
    if not newest.exists() or newest.stat().st_size == 0:
        return _opened(path, "mode=ro&immutable=1")
    # What was stored last is in the second file: both are read from a copy.
    with tempfile.TemporaryDirectory(prefix="tallgrain-") as folder:
        copy = Path(folder) / path.name
        for part in (path, newest):
            shutil.copyfile(part, copy.with_name(part.name))
        held = sqlite3.connect(":memory:", check_same_thread=False, isolation_level=None)
        with closing(sqlite3.connect(copy)) as source:
            source.backup(held)
    return held


def _opened(path: Path, how: str) -> sqlite3.Connection:
    connection = sqlite3.connect(
        f"{path.absolute().as_uri()}?{how}",
        uri=True,
        timeout=5,
        check_same_thread=False,
        isolation_level=None,
    )
    try:
        connection.execute("SELECT count(*) FROM sqlite_master").fetchone()
    except sqlite3.Error:
        connection.close()
        raise
    return connection


def version_of(path: Path) -> int | None:
    """The schema step of a ledger file; None where there is none yet. Raises StoreError for a file
    that is no ledger, sqlite3.Error for one that can't be read."""
    if not path.exists():
        return None
    refuse_other_than_file(path)
    if path.stat().st_size == 0:
        raise _foreign("this file is empty: no ledger.", path)
    with closing(open_reading(path)) as connection:
        step = step_of(connection)
    if step is None:
        raise _foreign("this database is not a ledger of Tall Grain.", path)
    return step


def _foreign(what: str, path: Path) -> StoreError:
    return StoreError(
        what,
        str(path),
        "It was left as it is. Move it away, or set TALLGRAIN_HOME to another folder.",
    )


def checked_version(path: Path) -> int | None:
    """version_of, with damaged and newer files refused in a sentence."""
    try:
        version = version_of(path)
    except sqlite3.Error as error:
        raise explained(error, path) from None
    except OSError as error:
        raise cant_use(error, path) from None
    if version is not None and version > NEWEST:
        raise StoreError(
            f"a newer Tall Grain wrote this ledger (step {version}, known here: {NEWEST}).",
            str(path),
            "Nothing was changed. Start the newer version, or use a dated copy.",
        )
    return version


def bring_up_to_date(path: Path, now: Callable[[], datetime] = lambda: datetime.now(UTC)) -> None:
    """Create the ledger or migrate it, with a dated copy first. Raises StoreError.

    Both are done in a file beside it that then takes its place, so that a program that dies in the
    middle leaves what was there.
    """
    version = checked_version(path)
    if version == NEWEST:
        return
    made = path.with_name(f"{path.name}.new")
    _remove(made)
    try:
        if version is not None:
            dated_copy(path, now())
            _copy(path, made)
        _upgrade(made, version or 0)
        with made.open("rb") as file:
            os.fsync(file.fileno())
        if version is not None:
            _settle(path)
        made.replace(path)
    except sqlite3.Error as error:
        raise explained(error, path) from None
    except OSError as error:
        raise cant_use(error, path) from None
    finally:
        _remove(made)


def _upgrade(path: Path, step: int = 0) -> None:
    with closing(_connected(path)) as connection:
        upgrade(connection, step)


def _settle(path: Path) -> None:
    """Bring all that is beside the file into it, so that another may take its place."""
    with closing(sqlite3.connect(path, timeout=5)) as connection:
        mode = connection.execute("PRAGMA journal_mode=DELETE").fetchone()
        if mode is None or mode[0] != "delete":
            raise sqlite3.OperationalError("database is locked")


def _remove(path: Path) -> None:
    for ending in ("", "-journal", "-wal", "-shm"):
        with suppress(OSError):
            path.with_name(path.name + ending).unlink()


def _copy(path: Path, target: Path) -> None:
    with closing(sqlite3.connect(path)) as source, closing(sqlite3.connect(target)) as made:
        source.backup(made)
        # A copy stands alone: nothing beside it belongs to it.
        made.execute("PRAGMA journal_mode=DELETE")


def dated_copy(path: Path, when: datetime) -> Path:
    """A consistent copy of the ledger beside it, named by date."""
    copy = path.with_name(f"{path.stem}-{when:%Y-%m-%dT%H%M%S}{path.suffix}")
    partial = copy.with_suffix(".partial")
    try:
        _copy(path, partial)
        with partial.open("rb") as file:
            os.fsync(file.fileno())
        partial.replace(copy)
    except (sqlite3.Error, OSError) as error:
        _remove(partial)
        raise StoreError(
            f"no copy could be made before the migration ({error}).",
            str(copy),
            "The ledger is as it was. Free some room and start again.",
        ) from None
    return copy


def cant_use(error: OSError, path: Path) -> StoreError:
    """What the system says of the data folder, as a sentence."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return StoreError(
            f"the disk is full ({error.strerror}).",
            str(path),
            "What was stored before is kept. Free some room.",
        )
    kind = ReadOnly if error.errno in (errno.EROFS, errno.EACCES, errno.EPERM) else StoreError
    return kind(
        f"the data folder can't be used ({error.strerror}).",
        str(path),
        "Check its owner and permissions, or set TALLGRAIN_HOME to another folder.",
    )


def _code(error: BaseException) -> int:
    """SQLite's primary result code; 0 where it gave none."""
    return int(getattr(error, "sqlite_errorcode", 0)) & 0xFF


def explained(error: sqlite3.Error, path: Path) -> StoreError:
    """A database's error as a sentence: what the world did wrong, and what to do."""
    code, kept = _code(error), "What was stored before is kept."
    if code == sqlite3.SQLITE_FULL:
        return StoreError("the disk is full.", str(path), f"{kept} Free some room.")
    if code == sqlite3.SQLITE_IOERR:
        return StoreError(
            f"the disk is full, or fails ({error}).",
            str(path),
            f"{kept} Free some room; where there is enough, check the disk.",
        )
    if code in (sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_PERM):
        return ReadOnly(
            f"the ledger can't be written ({error}).",
            str(path),
            f"{kept} Check the folder's owner and permissions.",
        )
    if code in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED) or "locked" in str(error):
        return StoreError("another program holds the ledger.", str(path), "Close it and try again.")
    if code in (sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_CORRUPT):
        return StoreError(
            f"the ledger is damaged and can't be read ({error}).",
            str(path),
            "Nothing was changed. Move it away, keep it, and put a dated copy from the same folder "
            "in its place.",
        )
    return StoreError(
        f"the ledger failed ({error}).", str(path), "Nothing half-done was stored. Try again."
    )
