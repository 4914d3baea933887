"""What a parcel is: a zip with whole shots, their history, plates and renders, that comes in again
elsewhere.

`parcel.json` tells everything that isn't a file: the show, its recipes, shots with every revision,
and of each row that goes along its fields. Beside it lie `parts/<digest>` (JSON of the state's
parts), `blobs/<digest>`, `plates/<digest>/` and `films/<digest>/` (originals only: the rest is made
again), and `renders/`, `returned/`, `snapshots/` by the number that a row had.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass

from django.db.models import Model

from web.elements.models import Render
from web.lineup.models import Returned, Snapshot

FORMAT, VERSION = "accurate-aperture/parcel", 1
INDEX = "parcel.json"
DIGEST = re.compile(r"[0-9a-f]{64}")
# Names within a parcel: one folder, one number or digest, and up to two names below it.
NAME = re.compile(
    r"(parts|blobs|plates|films|renders|returned|snapshots)"
    r"(/[A-Za-z0-9_][A-Za-z0-9_.-]{0,150}){1,3}"
)
REVISION = (
    "number",
    "label",
    "version",
    "parts",
    "kept",
    "folded",
    "run",
    "alone",
    "name",
    "handed_off",
)


@dataclass(frozen=True)
class Rows:
    """Rows of a shot that go along with their files. `fields`: those that are kept; `key`: of the
    shot's relation.
    """

    key: str
    model: type[Model]
    fields: tuple[str, ...]


ROWS = (
    Rows(
        "renders",
        Render,
        (
            "digest",
            "revision",
            "width",
            "height",
            "seconds",
            "wanted",
            "looks",
            "name",
            "first",
            "last",
            "shift",
        ),
    ),
    Rows(
        "returned",
        Returned,
        ("name", "digest", "findings", "offsets", "alpha_says", "frames", "taken", "shift"),
    ),
    Rows("snapshots", Snapshot, ("kind", "camera", "render", "revision")),
)


def ways_of(state) -> Iterator[tuple[str, dict]]:
    """(digest, way in) of the plate of a state."""
    if state["plate"]:
        yield state["plate"]["digest"], state["way_in"]
