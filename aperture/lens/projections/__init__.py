"""The projections by name. Adding one is adding a module that has it, and an entry here."""

import math

from aperture.errors import Problem
from aperture.lens.projections.panoramic import Cylindrical, Equirectangular
from aperture.lens.projections.pieces import LAYOUTS, Pieces
from aperture.lens.projections.protocol import Projection, angle_at, radius_at
from aperture.lens.projections.radial import (
    Equidistant,
    Equisolid,
    Orthographic,
    Stereographic,
)
from aperture.lens.projections.rectilinear import Rectilinear

__all__ = [
    "LAYOUTS",
    "MATCHED",
    "NAMES",
    "OF_LENSES",
    "PANORAMAS",
    "RECTILINEAR",
    "Pieces",
    "Projection",
    "angle_at",
    "named",
    "radius_at",
]

RECTILINEAR: Projection = Rectilinear()
_ALL: dict[str, Projection] = {
    one.name: one
    for one in (
        RECTILINEAR,
        Equidistant("equidistant"),
        Equisolid("equisolid"),
        Stereographic("stereographic"),
        Orthographic("orthographic", matched=False, limit=math.pi / 2),
        Equirectangular("equirectangular"),
        Cylindrical("cylindrical"),
        *LAYOUTS,
    )
}
NAMES = tuple(_ALL)
# Those that a match document can name.
MATCHED = tuple(name for name, one in _ALL.items() if one.matched)
# Those of a lens with an axis, and those of panoramas.
OF_LENSES = tuple(name for name, one in _ALL.items() if not one.around)
PANORAMAS = tuple(name for name, one in _ALL.items() if one.around)


def named(name: str) -> Projection:
    """The projection of that name. Raises Problem where there is none."""
    if name not in _ALL:
        raise Problem(f"There is no projection called “{name}”.")
    return _ALL[name]
