"""Opening the ledger's database: settings, migrations with a copy first, newer versions refused."""

import os
import sqlite3
from collections.abc import Callable
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy import event
from sqlalchemy.engine import Engine

from tallgrain.errors import StoreError

# The newest step in migrations/versions. Kept here so that opening a current ledger does not
# import Alembic; a test holds the two together.
NEWEST = "0005"
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


def connect(path: Path) -> Engine:
    """An engine whose every commit is on disk when it returns (synchronous=FULL)."""
    engine = sa.create_engine(
        f"sqlite:///{path}", connect_args={"timeout": 5, "check_same_thread": False}
    )
    journal = "TRUNCATE" if network_folder(path.parent) else "WAL"

    @event.listens_for(engine, "connect")
    def _settings(connection: Any, _record: Any) -> None:
        cursor = connection.cursor()
        cursor.execute(f"PRAGMA journal_mode={journal}")
        cursor.execute("PRAGMA synchronous=FULL")
        cursor.execute("PRAGMA foreign_keys=ON")
        cursor.close()

    return engine


def version_of(path: Path) -> str | None:
    """The schema step of a ledger file; None for an empty or missing one."""
    if not path.exists() or path.stat().st_size == 0:
        return None
    with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=5)) as connection:
        try:
            row = connection.execute("SELECT version_num FROM alembic_version").fetchone()
        except sqlite3.OperationalError as error:
            if "no such table" in str(error):
                raise StoreError(
                    "this database is not a ledger of Tall Grain.",
                    str(path),
                    "Move it away, or set TALLGRAIN_HOME to another folder.",
                ) from None
            raise
    return row[0] if row else None


def checked_version(path: Path) -> str | None:
    """version_of, with damaged and newer files refused in a sentence."""
    try:
        version = version_of(path)
    except sqlite3.DatabaseError as error:
        raise StoreError(
            f"the ledger can't be read ({error}).",
            str(path),
            "Nothing was changed. Put a dated copy from the same folder in its place.",
        ) from None
    if version is not None and version > NEWEST:
        raise StoreError(
            f"a newer Tall Grain wrote this ledger (step {version}, known here: {NEWEST}).",
            str(path),
            "Nothing was changed. Start the newer version, or use a dated copy.",
        )
    return version


def bring_up_to_date(path: Path, now: Callable[[], datetime] = lambda: datetime.now(UTC)) -> None:
    """Create the ledger or migrate it, with a dated copy first. Raises StoreError."""
    version = checked_version(path)
    if version == NEWEST:
        return
    if version is not None:
        dated_copy(path, now())
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    engine = connect(path)
    try:
        with engine.begin() as connection:
            config.attributes["connection"] = connection
            command.upgrade(config, "head")
    except sa.exc.DatabaseError as error:
        raise explained(error, path) from None
    finally:
        engine.dispose()


def dated_copy(path: Path, when: datetime) -> Path:
    """A consistent copy of the ledger beside it, named by date."""
    copy = path.with_name(f"{path.stem}-{when:%Y-%m-%dT%H%M%S}{path.suffix}")
    partial = copy.with_suffix(".partial")
    try:
        with closing(sqlite3.connect(path)) as source, closing(sqlite3.connect(partial)) as target:
            source.backup(target)
        with partial.open("rb") as file:
            os.fsync(file.fileno())
        partial.replace(copy)
    except (sqlite3.Error, OSError) as error:
        partial.unlink(missing_ok=True)
        raise StoreError(
            f"no copy could be made before the migration ({error}).",
            str(copy),
            "The ledger is as it was. Free some room and start again.",
        ) from None
    return copy


def explained(error: sa.exc.DatabaseError, path: Path) -> StoreError:
    """A database's error as a sentence: what the world did wrong, and what to do."""
    reason = str(error.orig) if error.orig is not None else str(error)
    if "disk is full" in reason or "disk I/O" in reason:
        what, remedy = "the disk is full", "What was stored before is kept. Free some room."
    elif "readonly" in reason or "unable to open" in reason:
        what, remedy = "the ledger can't be written", "Check the folder's owner and permissions."
    elif "locked" in reason:
        what, remedy = "another program holds the ledger", "Close it and try again."
    else:
        what, remedy = f"the ledger failed ({reason})", "Nothing half-done was stored."
    return StoreError(f"{what}.", str(path), remedy)
