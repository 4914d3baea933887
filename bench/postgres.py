"""A PostgreSQL server of its own, in a folder, for figures side by side; None where Debian's
`postgresql` isn't installed."""

import os
import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


@contextmanager
def database(folder: str) -> Iterator[str | None]:
    """The address of an empty database, as `APERTURE_DATABASE` takes it."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin"))
    if not found:
        yield None
        return
    place = Path(folder) / "postgres"
    place.mkdir()
    owner = []
    if os.getuid() == 0:  # it refuses to run as root
        shutil.chown(place, "postgres")
        Path(folder).chmod(0o711)
        owner = ["runuser", "-u", "postgres", "--"]

    def run(name: str, *arguments: object) -> int:
        command = [*owner, str(found[-1] / name), *map(str, arguments)]
        return subprocess.run(command, capture_output=True, cwd="/").returncode

    run("initdb", "-D", place / "db", "-A", "trust", "-U", "aperture")
    server = subprocess.Popen(
        [
            *owner,
            str(found[-1] / "postgres"),
            "-D",
            str(place / "db"),
            "-c",
            "listen_addresses=",
            "-c",
            f"unix_socket_directories={place}",
        ],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        cwd="/",
    )
    try:
        while run("pg_isready", "-h", place, "-U", "aperture"):
            time.sleep(0.2)
        run("createdb", "-h", place, "-U", "aperture", "aperture")
        yield f"postgres://aperture@/aperture?host={place}"
    finally:
        run("pg_ctl", "-D", place / "db", "-m", "fast", "stop")
        server.wait()
