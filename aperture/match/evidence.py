"""A match's evidence as values: what `document.read` makes of the JSON, and what `system.System` lays out as equations."""

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from aperture.gates.grid import Grid
from aperture.match.facts import CameraCoordinate, Fact, FocalLength, Length


@dataclass(frozen=True)
class Edge:
    """A straight edge along a world axis (index in AXES), or along none: then it is a bow. points: (N, 2) px."""

    id: str
    name: str
    axis: int | None
    points: np.ndarray
    sigma_px: float


@dataclass(frozen=True)
class Spot:
    """at: (2,) px; world: (3,) metres, NaN for what isn't known; `world_sigma`: the ± of what is known in metres, 0 where it is exact."""

    id: str
    name: str
    at: np.ndarray
    sigma_px: float
    world: np.ndarray
    world_sigma: float = 0.0


@dataclass(frozen=True, eq=False)
class Evidence:
    """A match document as values. Only what is switched on is in it.

    `shared`: (axis, spot ids) of spots that lie on one plane whose place isn't known.
    """

    width: int
    height: int
    gate_mm: tuple[float, float] | None
    squeeze: float
    projection: str
    focal: FocalLength | None
    principal_point: np.ndarray | None  # px; None: free
    coefficients: np.ndarray
    free_coefficients: tuple[int, ...]
    edges: tuple[Edge, ...]
    bows: tuple[Edge, ...]
    spots: tuple[Spot, ...]
    facts: tuple[Fact, ...]  # the given focal length, where it isn't exact, is the last of them
    shared: tuple[tuple[int, tuple[str, ...]], ...] = ()
    names: dict = field(default_factory=dict)

    @cached_property
    def grid(self) -> Grid:
        """The picture's grid; where no gate is known, one 'millimetre' is one pixel."""
        width_mm, height_mm = self.gate_mm or (self.width, self.height)
        return Grid.from_gate(self.width, self.height, width_mm, height_mm)

    @cached_property
    def lengths(self) -> tuple[Length, ...]:
        """The lengths among the facts."""
        return tuple(fact for fact in self.facts if isinstance(fact, Length))

    @cached_property
    def coordinates(self) -> tuple[CameraCoordinate, ...]:
        """What is known of the camera's position."""
        return tuple(fact for fact in self.facts if isinstance(fact, CameraCoordinate))
