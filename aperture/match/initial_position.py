"""Where the camera stands, and the unknown coordinates of spots, from a guessed direction and lens:
linear equations."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from aperture.arrays import Array
from aperture.lens.lens import Lens
from aperture.match.effort import spend
from aperture.match.system import State, System

if TYPE_CHECKING:
    from aperture.match.facts import CameraCoordinate, Length


def with_position(system: System, rotation: Array, lens: Lens) -> State | None:
    """The state with the position, and the unknown coordinates, that agree best with direction and
    lens; None where spots fall behind.

    Linear in camera, coordinates and the spots' distances along their rays; lengths along an axis
    are too, once their sense is known. What that leaves open, the size above all, is settled by the
    other lengths, or else by putting the first placed spot at distance 1.
    """
    if not system.has_position:
        return system.state(rotation, lens)
    rays = lens.rays(system.grid.to_mm(system.spot_at))
    rays = rays / np.linalg.norm(rays, axis=1, keepdims=True) @ rotation.T
    if not np.isfinite(rays).all():
        return None
    spots, nv = len(system.spots), system.value_count
    # A spot of which little is known may come out behind the camera by a pixel's error: then it has
    # no say in where the camera stands.
    without: set[int] = set()
    while True:
        solution = _Equations(system, rays, without).solved()
        if solution is None:
            return None
        distances = solution[3 + nv :]
        behind = {index for index in range(spots) if index not in without and distances[index] <= 0}
        if not behind:
            break
        without |= behind
        if len(without) == spots or any(system.held[index].all() for index in behind):
            return None
    values = solution[3 : 3 + nv].copy()
    if without:
        far = np.median([distances[index] for index in range(spots) if index not in without])
        for index in without:
            for axis in np.flatnonzero((system.variable[index] >= 0) & ~system.held[index]):
                values[system.variable[index, axis]] = solution[axis] + far * rays[index, axis]
    for index, axis in zip(*np.nonzero((system.variable >= 0) & system.held)):
        values[system.variable[index, axis]] = system.guess[index, axis]
    return system.state(rotation, lens, solution[:3], values)


class _Equations:
    """Linear equations in the camera's place (3), the unknown coordinates, and the spots' distances
    along their `rays` (S, 3).

    `without`: spots that are left out.
    """

    def __init__(self, system: System, rays: Array, without: set[int]):
        self.system, self.rays, self.without = system, rays, without
        self.unknowns = 3 + system.value_count + len(system.spots)
        self.rows: list[Array] = []
        self.right: list[float] = []
        for index in range(len(system.spots)):
            if index not in without:
                self._of_ray(index)
        for fact in system.evidence.coordinates:
            self._add([(fact.axis, 1.0)], fact.metres, _trust(fact))
        for length in system.evidence.lengths:
            self._of_length(length)

    def solved(self) -> Array | None:
        """The unknowns; None where the work has a limit that is reached."""
        matrix = np.array(self.rows).reshape(-1, self.unknowns)
        return _settled(self.system, matrix, np.array(self.right))

    def _add(self, entries: list[tuple[int, float]], value: float, weight: float = 1.0) -> None:
        row = np.zeros(self.unknowns)
        for column, factor in entries:
            row[column] += factor * weight
        self.rows.append(row)
        self.right.append(value * weight)

    def _coordinate(self, index: int, axis: int) -> tuple[list[tuple[int, float]], float]:
        """A spot's coordinate as (entries, value): one of the unknowns, or where it is held."""
        if self.system.held[index, axis]:
            return [], self.system.guess[index, axis]
        return [(3 + self.system.variable[index, axis], 1.0)], 0.0

    def _of_ray(self, index: int) -> None:
        """The spot lies on its ray."""
        distance = 3 + self.system.value_count + index
        for axis in range(3):
            entries, value = self._coordinate(index, axis)
            self._add([(axis, -1.0), (distance, -self.rays[index, axis]), *entries], -value)

    def _of_length(self, length: Length) -> None:
        """Two spots are so far apart along an axis, where the rays tell which comes first."""
        index = self.system.spot_index
        start, end = index[length.start], index[length.end]
        if length.axis is None or {start, end} & self.without:
            return
        sense = _sense(self.rays[start], self.rays[end], length.axis)
        (first, from_), (second, to) = (
            self._coordinate(start, length.axis),
            self._coordinate(end, length.axis),
        )
        if sense and (first or second):
            entries = [*second, *((column, -factor) for column, factor in first)]
            self._add(entries, sense * length.metres - to + from_, _trust(length))


def _trust(fact: CameraCoordinate | Length) -> float:
    """A weight for a first guess: a fact known to a hundredth weighs like a ray."""
    return float(np.clip(abs(fact.metres) / fact.plus_minus / 100, 0.1, 10))


def _sense(first: Array, second: Array, axis: int) -> int:
    """Whether the second of two spots that differ along one axis lies toward its plus (1) or minus
    (−1), from their rays (3,); 0 where it can't be told."""
    distances = np.linalg.lstsq(np.stack([-first, second], -1), np.eye(3)[axis], rcond=None)[0]
    return int(np.sign(distances[0])) if distances[0] * distances[1] > 0 else 0


def _settled(system: System, matrix: Array, right: Array) -> Array | None:
    """The least-squares solution; along a direction that the equations leave open, as lengths want
    it, or with the first placed spot at distance 1."""
    nv = system.value_count
    if not spend(*matrix.shape):
        return None
    rows, columns = matrix.shape
    u, singular, vt = np.linalg.svd(matrix, full_matrices=rows < columns)
    rank = int((singular > 1e-9 * singular[0]).sum())
    solution = vt[:rank].T @ ((u[:, :rank].T @ right) / singular[:rank])
    null = vt[rank:]
    if not len(null) or not system.spots:
        return solution
    # Of the open directions, the one along which the spots move away from the camera together: the
    # size of the world.
    growing = null.T @ (null[:, 3 + nv :].sum(axis=1))
    if not np.any(growing):
        return solution
    share = _by_lengths(system, solution, growing)
    if share is None:
        first = 3 + nv + (system.placed[0] if system.placed else 0)
        if abs(growing[first]) < 1e-12:
            return solution
        share = (1.0 - solution[first]) / growing[first]
        reach, grows = solution[3 + nv :], growing[3 + nv :]
        if (reach + share * grows <= 0).any() and (
            grows > 1e-9
        ).all():  # far enough for all spots to be in front
            share = max(share, 1.5 * float((-reach / grows).max()) + 0.1 * abs(share))
    return solution + share * growing


def _by_lengths(system: System, solution: Array, growing: Array) -> float | None:
    """How far along `growing` the best known straight length comes out right, the spots before the
    camera; None where no length tells."""
    nv, best = system.value_count, None

    def points(vector: Array, held: bool) -> Array:
        own = np.where(system.held, system.guess if held else 0.0, 0.0)
        values = vector[3 : 3 + nv]
        return np.where(
            (system.variable >= 0) & ~system.held,
            values[np.maximum(system.variable, 0)] if nv else 0.0,
            own,
        )

    at, slope = points(solution, True), points(growing, False)
    for length in sorted(system.evidence.lengths, key=lambda fact: fact.plus_minus / fact.metres):
        start, end = system.spot_index[length.start], system.spot_index[length.end]
        a, b = at[end] - at[start], slope[end] - slope[start]
        quadratic = [b @ b, 2 * a @ b, a @ a - length.metres**2]
        roots: Any = np.roots(quadratic) if b @ b > 1e-18 else []
        for root in (
            float(root.real) for root in roots if abs(root.imag) < 1e-9 * (1 + abs(root.real))
        ):
            behind = int(((solution + root * growing)[3 + nv :] <= 0).sum())
            if best is None or behind < best[0]:
                best = behind, root
        if best is not None:
            return best[1]
    return None
