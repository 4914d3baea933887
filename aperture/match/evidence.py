"""A match's evidence as values: what `document.read` makes of the JSON, and what `system.System`
lays out as equations."""

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

from aperture.arrays import Array
from aperture.geometry.grid import Grid
from aperture.lens.projections import Projection
from aperture.match.facts import CameraCoordinate, Fact, FocalLength, Length


@dataclass(frozen=True)
class Edge:
    """A straight edge along a world axis (index in AXES), or along none: then it is a bow. points:
    (N, 2) px."""

    id: str
    name: str
    axis: int | None
    points: Array
    sigma_px: float


@dataclass(frozen=True)
class Spot:
    """at: (2,) px; world: (3,) metres, NaN for what isn't known; `world_sigma`: the ± of what is
    known in metres, 0 where it is exact."""

    id: str
    name: str
    at: Array
    sigma_px: float
    world: Array
    world_sigma: float = 0.0


@dataclass(frozen=True)
class Mistrusted:
    """A mark that was left out because the others contradict it, by so many σ."""

    mark: Edge | Spot
    sigmas: float


@dataclass(frozen=True, eq=False)
class Evidence:
    """A match document as values. Only what is switched on is in it.

    `shared`: (axis, spot ids) of spots that lie on one plane whose place isn't known. `checks`:
    marks that take no part and are compared with the fit. `robust`: whether marks may be left out
    that the others contradict; `mistrusted`: those that were.
    """

    width: int
    height: int
    gate_mm: tuple[float, float] | None
    squeeze: float
    projection: Projection
    focal: FocalLength | None
    principal_point: Array  # (2,) px: where it is held, or where the search for it begins
    principal_free: bool
    coefficients: Array
    free_coefficients: tuple[int, ...]
    edges: tuple[Edge, ...]
    bows: tuple[Edge, ...]
    spots: tuple[Spot, ...]
    facts: tuple[Fact, ...]  # what is given of the lens, where it isn't exact, is the last of them
    shared: tuple[tuple[int, tuple[str, ...]], ...] = ()
    names: dict[str, Any] = field(default_factory=dict)
    checks: tuple[Edge | Spot, ...] = ()
    robust: bool = False
    mistrusted: tuple[Mistrusted, ...] = ()

    def without(self, mistrusted: tuple[Mistrusted, ...]) -> "Evidence":
        """The evidence with some marks left out, and named as such."""
        out = {item.mark.id for item in mistrusted}
        kept: dict[str, Any] = {
            kind: tuple(mark for mark in getattr(self, kind) if mark.id not in out)
            for kind in ("edges", "bows", "spots")
        }
        return replace(self, mistrusted=mistrusted, **kept)

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
