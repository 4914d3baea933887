"""What goes into a scene file beside cameras and stand-ins: points, spots, the plate card."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from aperture.arrays import Array, ArrayLike

CARD = "PlateCard"
# Of the card's corners, clockwise from the upper left: where they lie on the picture, from its
# lower left.
CARD_UV = np.array([[0.0, 1], [1, 1], [1, 0], [0, 0]])


@dataclass(frozen=True, eq=False)
class Extras:
    """What else is written.

    Parameters
    ----------
    points : ndarray, shape (N, 3)
        World points without names, metres, Y up.
    spots : mapping of str to array_like, shape (3,)
        Named world points, metres, Y up.
    card : ndarray, shape (4, 3), optional
        Corners of the plate card, metres, clockwise from the upper left as the camera sees it.
    card_follows : bool
        Whether they are in camera space, and so go along with the camera; else they are in the
        world.
    """

    points: Array = field(default_factory=lambda: np.zeros((0, 3)))
    spots: Mapping[str, ArrayLike] = field(default_factory=dict)
    card: Array | None = None
    card_follows: bool = True

    def named(self, most: int) -> dict[str, ArrayLike]:
        """The spots, and of the points at most so many, by number: for formats without clouds."""
        points = {f"point {number}": at for number, at in enumerate(self.points[:most], 1)}
        return dict(self.spots) | points


NOTHING = Extras()
