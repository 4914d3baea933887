"""A copy of a running installation, and an installation from a copy.

The database is copied first, as it stood at one moment; what it refers to is written before it
refers to it, never changed, and not swept within a day: so the files that are copied afterwards
hold all that the copy of the database needs.
"""

import json
import os
import shutil
import sqlite3
import subprocess
from contextlib import closing
from pathlib import Path

from django.conf import settings
from django.db import connection
from django.utils import timezone

from aperture.errors import Problem

# What is made anew by itself, or belongs to what is under way.
LEFT_OUT = {"incoming", "locks", "log", "frames"}
DATABASE, DUMP, TOLD = "aperture.sqlite3", "aperture.dump", "backup.json"
VERSION = 1


def backup(folder: Path) -> int:
    """Copy the installation into a folder, which may hold an older copy; the number of files there.
    Raises Problem."""
    folder.mkdir(parents=True, exist_ok=True)
    if folder.resolve().is_relative_to(settings.DATA.resolve()):
        raise Problem("A copy inside the data folder is no copy: choose another place.")
    (folder / TOLD).unlink(missing_ok=True)  # until all is there, it is none
    _copy_database(folder)
    count = 0
    for place in sorted(settings.DATA.iterdir()):
        if place.is_dir() and place.name not in LEFT_OUT:
            count += _copy_tree(place, folder / place.name)
    key = settings.DATA / "secret-key"
    if key.exists():
        shutil.copy2(key, folder / key.name)
    told = {
        "version": VERSION,
        "at": timezone.now().isoformat(),
        "engine": connection.vendor,
        "files": count,
    }
    _write(folder / TOLD, json.dumps(told, indent=1).encode())
    return count


def _copy_database(folder: Path) -> None:
    if connection.vendor == "sqlite":
        fresh = folder / f"{DATABASE}.new"
        fresh.unlink(missing_ok=True)
        with closing(sqlite3.connect(str(settings.DATABASES["default"]["NAME"]))) as now:
            with closing(sqlite3.connect(fresh)) as copy:
                now.backup(copy)
                ((sound,),) = copy.execute("PRAGMA integrity_check").fetchall()
        if sound != "ok":
            raise Problem(f"The copy of the database isn’t sound: {sound}.")
        os.replace(fresh, folder / DATABASE)
        return
    _run("pg_dump", "--format=custom", f"--file={folder / DUMP}")


def _run(program: str, *arguments: str) -> None:
    """One of PostgreSQL's own programs, on the database of this installation."""
    own = connection.get_connection_params()
    told = {
        "PGHOST": own.get("host"),
        "PGPORT": own.get("port"),
        "PGUSER": own.get("user"),
        "PGPASSWORD": own.get("password"),
        "PGDATABASE": own.get("dbname"),
    }
    kept = {key: str(value) for key, value in told.items() if value}
    try:
        subprocess.run(
            [program, *arguments], env=os.environ | kept, check=True, capture_output=True
        )
    except FileNotFoundError:
        raise Problem(f"{program} isn’t installed here: it comes with PostgreSQL.") from None
    except subprocess.CalledProcessError as error:
        raise Problem(f"{program}: {error.stderr.decode(errors='replace')[:300]}") from None


def _copy_tree(source: Path, target: Path) -> int:
    """Copy what isn't there yet, or has another size or time; a file that goes meanwhile is one
    that nothing refers to."""
    count = 0
    for folder, inner, names in os.walk(source):
        inner[:] = [name for name in inner if not name.startswith("incoming")]
        place = target / Path(folder).relative_to(source)
        place.mkdir(parents=True, exist_ok=True)
        for name in names:
            here, there = Path(folder) / name, place / name
            try:
                now = here.stat()
                if not there.exists() or not _same(now, there.stat()):
                    shutil.copy2(here, there)
                count += 1
            except FileNotFoundError:
                continue
    return count


def _same(one: os.stat_result, other: os.stat_result) -> bool:
    return one.st_size == other.st_size and abs(one.st_mtime - other.st_mtime) < 1


def _write(path: Path, data: bytes) -> None:
    fresh = path.with_suffix(".new")
    fresh.write_bytes(data)
    os.replace(fresh, path)


def restore(folder: Path) -> int:
    """Make a copy the installation of an empty data folder; the number of files. Raises Problem
    where it isn't empty, or no copy is there."""
    try:
        told = json.loads((folder / TOLD).read_text())
    except (OSError, ValueError):
        raise Problem("There is no whole copy in that folder.") from None
    if told.get("version") != VERSION:
        raise Problem("That copy was made by a newer version of this application.")
    if told["engine"] != connection.vendor:
        raise Problem(
            f"That copy is of {told['engine']}, and this installation runs on {connection.vendor}."
        )
    if any((settings.DATA / name).exists() for name in ("blobs", "plates", "films", "renders")):
        raise Problem("The data folder isn’t empty: restore into a fresh one.")
    if connection.vendor == "sqlite":
        target = Path(str(settings.DATABASES["default"]["NAME"]))
        if target.exists():
            raise Problem("The data folder isn’t empty: restore into a fresh one.")
        shutil.copy2(folder / DATABASE, target)
    else:
        if connection.introspection.table_names():
            raise Problem("The database isn’t empty: restore into a fresh one.")
        _run(
            "pg_restore",
            "--no-owner",
            "--exit-on-error",
            f"--dbname={connection.get_connection_params()['dbname']}",
            str(folder / DUMP),
        )
    count = 0
    for place in sorted(folder.iterdir()):
        if place.is_dir():
            count += _copy_tree(place, settings.DATA / place.name)
    key = folder / "secret-key"
    if key.exists():
        shutil.copy2(key, settings.DATA / key.name)
    return count
