"""On which machine the server runs: SQLite's file can't be shared with workers elsewhere."""

import socket
from pathlib import Path

from django.conf import settings
from django.core.checks import Error, register
from django.db import connection

from web.blobs import folders

FILE = "served-by"
SAYS = (
    "The database of this installation is a file of SQLite, which the server on “{}” has open: a"
    " worker on another machine would damage it. Set APERTURE_DATABASE to a PostgreSQL database for"
    " both, or start the worker there."
)


def this_machine() -> str:
    """A name that stays as long as the machine does."""
    try:
        return Path("/etc/machine-id").read_text().strip() or socket.gethostname()
    except OSError:
        return socket.gethostname()


def serves_here() -> None:
    """Note that the server runs on this machine; its processes start and note it all at once."""
    note = f"{this_machine()}\n{socket.gethostname()}"
    folders.write(settings.DATA / "locks" / FILE, lambda path: path.write_text(note))


@register()
def check_machine(app_configs=None, **_) -> list[Error]:
    """An error where SQLite's file is served by another machine."""
    if connection.vendor != "sqlite":
        return []
    try:
        machine, name = (settings.DATA / "locks" / FILE).read_text().split("\n")
    except (OSError, ValueError):
        return []
    if machine == this_machine():
        return []
    return [Error(SAYS.format(name), id="people.E001")]
