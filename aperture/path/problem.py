"""What a bundle adjustment is given and what it moves: observations, a state, equations of facts,
what is free."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Protocol

import numpy as np

from aperture.arrays import Array


@dataclass(frozen=True, eq=False)
class Observations:
    """Where tracked points were seen.

    camera, point (N,): indices; xy (N, 2) px; sigma (N, 2) px; cross (N,): the correlation of the
    errors across and down, which is near 1 or −1 for a point on a slanting edge.
    """

    camera: Array
    point: Array
    xy: Array
    sigma: Array
    cross: Array | None = None

    def __len__(self) -> int:
        return len(self.camera)


@dataclass(frozen=True, eq=False)
class State:
    """One guess at everything unknown.

    rotations (F, 3, 3) world from camera; positions (F, 3); zoom (F,): of each frame the ln of its
    focal length over the lens's; lens (8,): PARAMETERS; points (P, 3); extra (X,): unknowns of
    facts.
    """

    rotations: Array
    positions: Array
    zoom: Array
    lens: Array
    points: Array
    extra: Array = field(default_factory=lambda: np.zeros(0))

    def lens_on(self, camera: int) -> Array:
        """(8,) the PARAMETERS on one frame."""
        own = self.lens.copy()
        own[0] += self.zoom[camera]
        return own


class HasLens(Protocol):
    """What has the PARAMETERS of a lens, (8,), and each frame's zoom (F,)."""

    @property
    def lens(self) -> Array:
        """ln focal length, principal point, distortion."""

    @property
    def zoom(self) -> Array:
        """Of each frame the ln of its focal length over the lens's."""


@dataclass(frozen=True, eq=False)
class Row:
    """One equation beside the observations, over its σ: a residual and its derivatives.

    camera: the one it depends on, and by_camera (size,); points: indices, and by_points (n, 3);
    by_lens (8,); extra: {index: derivative}; other: a second camera and its derivatives, of placing
    rows only. of, sigma: the id of what it is about and its σ, where its equation holds several,
    such as all lines drawn on a frame.
    """

    residual: float
    camera: int | None = None
    by_camera: Array | None = None
    points: tuple[int, ...] = ()
    by_points: Array = field(default_factory=lambda: np.zeros((0, 3)))
    by_lens: Array | None = None
    extra: tuple[tuple[int, float], ...] = ()
    other: tuple[int, Array] | None = None
    of: str = ""
    sigma: float = 0.0


@dataclass
class Equation:
    """One fact. `id`: the fact's or track's own; sigma in the fact's unit."""

    id: str
    sigma: float
    unit = "m"
    # Whether it says something of a camera that only turns.
    directional = False

    def rows(self, state: State) -> list[Row]:
        """Its equations at a state."""
        raise NotImplementedError

    def placing_rows(self, state: State) -> list[Row]:
        """The same for a state that may be far off, while a path is being placed."""
        return self.rows(state)

    @property
    def tied(self) -> tuple[int, ...]:
        """Points that it ties to something else."""
        return ()


class Facts(Protocol):
    """What gives the equations beside the observations."""

    def rows(self, state: State) -> Sequence[Row]:
        """As many for every state, in the same order."""


@dataclass(frozen=True)
class Freedom:
    """What is solved for. cameras (F, size), lens (8,) and extra (X,) of bool; held (P, 3): known
    coordinates.

    size is 7 where the focal length changes over time, or 6. at_infinity: the cameras are all in
    one place, and points are directions.
    """

    cameras: Array
    lens: Array
    held: Array
    extra: Array = field(default_factory=lambda: np.zeros(0, bool))
    at_infinity: bool = False


def whitening(sigma: Array, cross: Array | None) -> Array:
    """(N, 3) a, b, c: (a δx, b δy + c δx) has independent components of variance 1, of errors δ
    with σ (N, 2) and correlation (N,).

    The inverse of the Cholesky factor of the covariance.
    """
    out = np.zeros((len(sigma), 3))
    out[:, :2] = 1 / sigma
    if cross is not None:
        rest = np.sqrt(1 - cross**2)
        out[:, 1] /= rest
        out[:, 2] = -cross / (rest * sigma[:, 0])
    return out


def exponentials(w: Array) -> Array:
    """(F, 3, 3) rotations by the vectors w (F, 3), radians (Rodrigues)."""
    angle2 = np.einsum("fi,fi->f", w, w)
    angle = np.sqrt(angle2)
    small = angle < 1e-6
    safe = np.where(small, 1.0, angle)
    a = np.where(small, 1 - angle2 / 6, np.sin(safe) / safe)
    b = np.where(small, 0.5 - angle2 / 24, (1 - np.cos(safe)) / safe**2)
    k = np.zeros((len(w), 3, 3))
    k[:, 0, 1], k[:, 0, 2], k[:, 1, 2] = -w[:, 2], w[:, 1], -w[:, 0]
    k[:, 1, 0], k[:, 2, 0], k[:, 2, 1] = w[:, 2], -w[:, 1], w[:, 0]
    return np.eye(3) + a[:, None, None] * k + b[:, None, None] * (k @ k)


def reweighted(observations: Observations, factor: Array) -> Observations:
    """The same with each σ (N, 2) times a factor (N,)."""
    return replace(observations, sigma=observations.sigma * factor[:, None])
