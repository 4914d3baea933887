"""Points whose places are known, each as well as its ± says, as equations of a path that is looked
for.

Held where the survey has them they would bend a path of centimetres by the survey's own errors, and
the tracks of all other points with it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.path.problem import Row, State


@dataclass(frozen=True, eq=False)
class Survey:
    """Of each track (T, 3) its place, metres, and the ± of that; NaN where it isn't known."""

    places: Array
    sigma: Array

    @property
    def known(self) -> Array:
        """(T,) which tracks have all their coordinates known."""
        return np.asarray(np.isfinite(self.places).all(axis=1))

    @property
    def held(self) -> Array:
        """(T, 3) the coordinates that are exact."""
        return self.known[:, None] & ~(self.sigma > 0)

    def on(self, tracks: Array) -> Survey:
        """The same of some tracks."""
        return Survey(self.places[tracks], self.sigma[tracks])

    def rows(self, state: State) -> list[Row]:
        """How far the points are from their places, over the ±; those that are held aren't."""
        which, axis = np.nonzero(self.known[:, None] & (self.sigma > 0))
        sigma = self.sigma[which, axis]
        off = (state.points[which, axis] - self.places[which, axis]) / sigma
        slopes = np.eye(3)[axis] / sigma[:, None]
        return [
            Row(residual, points=(point,), by_points=slope[None])
            for residual, point, slope in zip(off.tolist(), which.tolist(), slopes)
        ]
