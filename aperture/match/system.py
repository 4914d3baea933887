"""The equations of a match: σ-weighted residuals of every mark and fact, and their analytic
derivatives.

An edge along a world axis spans, with the camera's centre, a plane whose normal is perpendicular to
the axis; one free angle says which. Its residuals are the distances, in the picture, of its drawn
points from where that plane is imaged: exact where lines stay straight, to first order of the
residual where the lens bends them (Sampson 1982). A bow's normal is free both ways.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.geometry.rotation import exponential
from aperture.lens.lens import Lens
from aperture.match import line_equations
from aperture.match.evidence import Evidence, Spot
from aperture.match.facts import AXES, Fact

# For an edge along axis i: the two world axes that span its normal.
_ACROSS_AXIS = np.array([np.eye(3)[[1, 2]], np.eye(3)[[2, 0]], np.eye(3)[[0, 1]]])

Slot = tuple[int, int]  # a coordinate of a spot: the spot's index, and the axis


@dataclass(frozen=True)
class State:
    """One guess at everything unknown.

    rotation: (3, 3) world from camera; position: (3,) metres; lens; angles: (E,) of the edges'
    normals; bow_normals: (B, 3) unit, camera space; values: (V,) metres, the unknown coordinates of
    spots.
    """

    rotation: Array
    position: Array
    lens: Lens
    angles: Array
    bow_normals: Array
    values: Array


@dataclass(frozen=True, eq=False)
class Block:
    """One piece of evidence and the indices of its rows; of a spot, the two in the picture come
    first, then those of its known place."""

    item: Any  # Edge, Spot or Fact, as `is_fact` and the kind of block say
    rows: Array

    @property
    def id(self) -> str:
        """The mark's or fact's."""
        return self.item.id

    @property
    def is_fact(self) -> bool:
        """Whether it was known on the set; else it was drawn."""
        return isinstance(self.item, Fact)


class System:
    """The layout of parameters and residuals for one Evidence; evaluates states."""

    def __init__(self, evidence: Evidence) -> None:
        self.evidence = evidence
        self.grid = evidence.grid
        self.linear, self.px_linear = np.array(self.grid.linear), self.grid.px_linear
        self._lay_out_spots()
        lines = evidence.edges + evidence.bows
        self.edge_axes = np.array([edge.axis for edge in evidence.edges], int)
        counts = [len(edge.points) for edge in lines]
        self.line_points = (
            np.concatenate([edge.points for edge in lines]) if lines else np.zeros((0, 2))
        )
        self.line_mm = self.grid.to_mm(self.line_points)
        self.line_of_point = np.repeat(np.arange(len(lines)), counts)
        self.line_starts = np.concatenate([[0], np.cumsum(counts)]).astype(int)
        self.line_sigma = (
            np.repeat([edge.sigma_px for edge in lines], counts) if lines else np.zeros(0)
        )
        focal_free = evidence.focal is None or evidence.focal in evidence.facts
        self.free_lens = (
            ([0] if focal_free else [])
            + ([1, 2] if evidence.principal_free else [])
            + [3 + index for index in evidence.free_coefficients]
        )
        self.has_position = bool(self.spots) or bool(evidence.coordinates)
        self._lay_out_parameters()
        self._lay_out_rows()

    def _lay_out_spots(self) -> None:
        evidence = self.evidence
        linked = {end for length in evidence.lengths for end in (length.start, length.end)} | {
            id_ for _, ids in evidence.shared for id_ in ids
        }
        self.spots = [
            spot for spot in evidence.spots if np.isfinite(spot.world).any() or spot.id in linked
        ]
        self.spot_index = {spot.id: index for index, spot in enumerate(self.spots)}
        self.spot_at = np.array([spot.at for spot in self.spots]).reshape(-1, 2)
        self.spot_sigma = np.array([spot.sigma_px for spot in self.spots])
        roots = self._shared_coordinates()
        known, guesses = self._told_coordinates(roots)
        unknown = sorted(set(roots.values()) - set(known))
        number = {root: index for index, root in enumerate(unknown)}
        self.known = np.zeros((len(self.spots), 3))
        self.variable = np.full((len(self.spots), 3), -1)
        # Where a spot is held in the world, exactly or by a survey, and where that is.
        self.held = np.zeros((len(self.spots), 3), bool)
        self.guess = np.zeros((len(self.spots), 3))
        for slot, root in roots.items():
            if root in known:
                self.known[slot] = self.guess[slot] = known[root]
                self.held[slot] = True
            else:
                self.variable[slot] = number[root]
                if root in guesses:
                    self.guess[slot], self.held[slot] = guesses[root], True
        self.value_count = len(unknown)
        self.placed = [index for index in range(len(self.spots)) if self.held[index].any()]

    def _shared_coordinates(self) -> dict[Slot, Slot]:
        """For each coordinate (spot, axis) the one that stands for all that are equal to it.

        Spots that differ along one axis only share their other two coordinates: one unknown, not
        two and a constraint. So do spots on a plane whose place isn't known.
        """
        parent = {
            (index, axis): (index, axis) for index in range(len(self.spots)) for axis in range(3)
        }

        def root(slot: Slot) -> Slot:
            while parent[slot] != slot:
                slot = parent[slot]
            return slot

        for length in self.evidence.lengths:
            start, end = self.spot_index[length.start], self.spot_index[length.end]
            for axis in range(3):
                if length.axis is not None and axis != length.axis:
                    parent[root((start, axis))] = root((end, axis))
        for axis, ids in self.evidence.shared:
            for id_ in ids[1:]:
                parent[root((self.spot_index[id_], axis))] = root((self.spot_index[ids[0]], axis))
        return {slot: root(slot) for slot in parent}

    def _told_coordinates(
        self, roots: dict[Slot, Slot]
    ) -> tuple[dict[Slot, float], dict[Slot, float]]:
        """The coordinates that are known exactly, and the measured places of surveyed ones; sets
        `priors`.

        Raises Problem where two that have to be equal are told to differ.
        """
        known: dict[Slot, tuple[float, Spot]] = {}
        guesses: dict[Slot, float] = {}
        self.priors: list[tuple[int, int, float, float]] = []
        for index, spot in enumerate(self.spots):
            for axis in np.flatnonzero(np.isfinite(spot.world)).tolist():
                place, root = float(spot.world[axis]), roots[index, axis]
                if spot.world_sigma > 0:  # surveyed: an unknown with a measured place
                    guesses.setdefault(root, place)
                    self.priors.append((index, axis, place, spot.world_sigma))
                    continue
                value, other = known.setdefault(root, (place, spot))
                if abs(value - place) > 1e-9:
                    raise Problem(
                        f"“{spot.name}” and “{other.name}” share their place {AXES[axis]}, by a"
                        f" length along one axis or a plane; but one is said to lie at {place:g} m"
                        f" and the other at {value:g} m.",
                        spot.id,
                    )
        return {root: value for root, (value, _) in known.items()}, guesses

    def _lay_out_parameters(self) -> None:
        sizes = (
            ("rotation", 3),
            ("position", 3 if self.has_position else 0),
            ("lens", len(self.free_lens)),
            ("angles", len(self.evidence.edges)),
            ("bows", 2 * len(self.evidence.bows)),
            ("values", self.value_count),
        )
        self.at, start = {}, 0
        for name, size in sizes:
            self.at[name] = slice(start, start + size)
            start += size
        self.size = start

    def _lay_out_rows(self) -> None:
        evidence, self.blocks = self.evidence, []
        for index, edge in enumerate(evidence.edges + evidence.bows):
            self.blocks.append(
                Block(edge, np.arange(self.line_starts[index], self.line_starts[index + 1]))
            )
        row = int(self.line_starts[-1])
        self.prior_start = row + 2 * len(self.spots)
        own: dict[Any, Any] = {}
        for number, prior in enumerate(self.priors):
            own.setdefault(prior[0], []).append(self.prior_start + number)
        for index, spot in enumerate(self.spots):
            self.blocks.append(
                Block(spot, np.array([row + 2 * index, row + 2 * index + 1, *own.get(index, ())]))
            )
        self.fact_start = self.prior_start + len(self.priors)
        self.prior_columns = tuple(np.array(column) for column in zip(*self.priors))
        self.blocks += [
            Block(fact, np.array([self.fact_start + number]))
            for number, fact in enumerate(evidence.facts)
        ]
        self.row_count = self.fact_start + len(evidence.facts)

    # States
    # ----------------------------------------------------------------------------------------------

    def lens_with_focal(self, focal_mm: float) -> Lens:
        """The evidence's lens at a focal length in mm (px across where no gate is known)."""
        evidence = self.evidence
        return Lens(
            focal_mm,
            evidence.squeeze,
            evidence.projection,
            tuple(self.grid.to_mm([evidence.principal_point])[0]),
            tuple(evidence.coefficients),
        )

    def normals(self, state: State) -> Array:
        """(E + B, 3) unit normals, in camera space, of the planes through the camera that hold the
        edges and bows."""
        pairs = _ACROSS_AXIS[self.edge_axes]
        world = (
            np.cos(state.angles)[:, None] * pairs[:, 0]
            + np.sin(state.angles)[:, None] * pairs[:, 1]
        )
        return np.concatenate([world @ state.rotation, state.bow_normals])

    def points(self, state: State) -> Array:
        """(S, 3) metres, the spots in play."""
        return self.points_at(state.values)

    def points_at(self, values: Array) -> Array:
        """(S, 3) metres, the spots in play for the unknown coordinates `values` (V,)."""
        if not self.value_count:
            return self.known
        return np.where(self.variable >= 0, values[np.maximum(self.variable, 0)], self.known)

    def distance_row(self, state: State) -> Array:
        """(size,) half the derivative of the squared distance from camera to first placed spot."""
        first = self.placed[0]
        away = state.position - self.points(state)[first]
        row = np.zeros(self.size)
        row[self.at["position"]] = away
        for axis in np.flatnonzero(self.variable[first] >= 0):
            row[self.at["values"].start + self.variable[first, axis]] -= away[axis]
        return row

    def plane_normals(self, rays: Array) -> Array:
        """(E, 3) normals of the planes that the edges' unit rays lie in best, as long as the sine
        of the angle each edge spans."""
        count = len(self.evidence.edges)
        starts = self.line_starts[: count + 1]
        normals = _cross(rays[starts[:-1]], rays[starts[1:] - 1])
        several = np.flatnonzero(np.diff(starts) > 2)
        if len(several):
            normals[several] = _thinnest(rays, starts)[several] * np.linalg.norm(
                normals[several], axis=1, keepdims=True
            )
        return normals

    def line_up_normals(self, rotation: Array, lens: Lens) -> tuple[Array, Array]:
        """The edges' angles (E,) and bows' normals (B, 3) that fit the drawn points best, pose and
        lens given."""
        rays = lens.rays(self.line_mm)
        rays = rays / np.linalg.norm(rays, axis=1, keepdims=True)
        edge_count = len(self.evidence.edges)
        of = self.line_of_point[: self.line_starts[edge_count]]
        # Each point's parts along the two world axes that span its edge's normal.
        parts = (
            np.einsum(
                "mi,ij,mkj->mk", rays[: len(of)], rotation.T, _ACROSS_AXIS[self.edge_axes[of]]
            )
            if edge_count
            else np.zeros((0, 2))
        )
        a, b = parts.T

        def total(values: Array) -> Array:
            return np.bincount(of, values, edge_count)

        angles = 0.5 * np.arctan2(2 * total(a * b), total(a * a) - total(b * b)) + np.pi / 2
        bows = _thinnest(np.nan_to_num(rays), self.line_starts[edge_count:])
        return angles, bows

    def state(
        self,
        rotation: Array,
        lens: Lens,
        position: Array | None = None,
        values: Array | None = None,
    ) -> State:
        """A state whose edges and bows are lined up with the drawn points."""
        angles, bows = self.line_up_normals(rotation, lens)
        return State(
            rotation,
            np.zeros(3) if position is None else position,
            lens,
            angles,
            bows,
            np.zeros(self.value_count) if values is None else values,
        )

    def state_like(self, source: System, state: State) -> State:
        """The camera and places of another system's state, for one with more or fewer marks."""
        points, values = source.points(state), np.zeros(self.value_count)
        for index, axis in zip(*np.nonzero(self.variable >= 0)):
            there = source.spot_index.get(self.spots[index].id)
            place = self.guess[index, axis] if there is None else points[there, axis]
            values[self.variable[index, axis]] = place
        return self.state(state.rotation, state.lens, state.position, values)

    def moved(self, state: State, step: Array) -> State:
        """The state after a step (size,): rotations turn in camera space, bow normals on their
        sphere."""
        at, bows = self.at, state.bow_normals
        if len(bows):
            sides = tangents(bows)
            bows = bows + np.einsum("bij,bi->bj", sides, step[at["bows"]].reshape(-1, 2))
            bows = bows / np.linalg.norm(bows, axis=1, keepdims=True)
        lens = state.lens
        if self.free_lens:
            values = lens.parameters
            values[self.free_lens] += step[at["lens"]]
            lens = lens.with_parameters(values)
        return State(
            state.rotation @ exponential(step[at["rotation"]]),
            state.position + step[at["position"]] if self.has_position else state.position,
            lens,
            state.angles + step[at["angles"]],
            bows,
            state.values + step[at["values"]],
        )

    # Residuals
    # ----------------------------------------------------------------------------------------------

    def evaluate(self, state: State) -> tuple[Array, Array]:
        """Weighted residuals (M,) and their Jacobian (M, size). Residuals are NaN where a spot is
        behind the camera."""
        r, jac = np.empty(self.row_count), np.zeros((self.row_count, self.size))
        at = self.at
        if len(self.line_points):
            self._line_rows(state, r, jac)
        row = len(self.line_points)
        rotation = state.rotation
        points = self.points(state)
        if self.spots:
            count = len(self.spots)
            local = (points - state.position) @ rotation
            mm, by_point, by_lens = state.lens.project(local, derivatives=True)
            miss = (self.grid.to_px(mm) - self.spot_at) / self.spot_sigma[:, None]
            weight = self.px_linear / self.spot_sigma[:, None, None]
            by_point = weight @ by_point  # (S, 2, 3), by the camera-space point
            rows = slice(row, row + 2 * count)
            r[rows] = miss.ravel()
            jac[rows, at["rotation"]] = _cross(by_point, local[:, None, :]).reshape(-1, 3)
            by_world = by_point @ rotation.T
            jac[rows, at["position"]] = -by_world.reshape(-1, 3)
            if self.free_lens:
                jac[rows, at["lens"]] = (weight @ by_lens[:, :, self.free_lens]).reshape(
                    2 * count, -1
                )
            spot, axis = np.nonzero(self.variable >= 0)
            column = at["values"].start + self.variable[spot, axis]
            for side in range(2):  # a spot's three coordinates are never the same unknown
                jac[row + 2 * spot + side, column] = by_world[spot, side, axis]
        if self.priors:
            spot, axis, metres, sigma = self.prior_columns
            prior_rows = np.arange(self.prior_start, self.fact_start)
            r[prior_rows] = (points[spot, axis] - metres) / sigma
            # A surveyed coordinate that is shared with an exactly known spot isn't an unknown.
            slot = self.variable[spot, axis]
            free = slot >= 0
            jac[prior_rows[free], at["values"].start + slot[free]] = 1 / sigma[free]
        for row, fact in enumerate(self.evidence.facts, self.fact_start):
            value = fact.value(self, state, points)
            r[row] = (value - fact.wanted(value)) / fact.plus_minus
            fact.slopes(self, state, points, jac[row])
            jac[row] /= fact.plus_minus
        return r, jac

    def edge_residuals(self, state: State) -> Array:
        """The weighted residuals of the edges' points alone; NaN where the lens forms no
        picture."""
        n = self.normals(state)[self.line_of_point]
        rays, by_mm, _, _ = state.lens.ray_derivatives(self.line_mm)
        gradient = (n[:, None] @ by_mm @ self.grid.linear)[:, 0]
        r = np.einsum("mi,mi->m", n, rays) / (
            np.sqrt(np.einsum("mj,mj->m", gradient, gradient)) * self.line_sigma
        )
        return r[: self.line_starts[len(self.evidence.edges)]]

    def _line_rows(self, state: State, r: Array, jac: Array) -> None:
        pairs = _ACROSS_AXIS[self.edge_axes]
        turned = (
            np.cos(state.angles)[:, None] * pairs[:, 1]
            - np.sin(state.angles)[:, None] * pairs[:, 0]
        ) @ state.rotation
        bows = state.bow_normals
        sides = tangents(bows) if len(bows) else np.zeros((0, 2, 3))
        line_equations.fill(
            *state.lens.ray_derivatives(self.line_mm, self.free_lens),
            (self.line_of_point, self.line_sigma),
            (self.normals(state), turned, sides),
            self.linear,
            tuple(self.at[name].start for name in ("rotation", "lens", "angles", "bows")),
            r,
            jac,
        )


def _thinnest(rays: Array, starts: Array) -> Array:
    """(L, 3) for each run of unit rays, from one of `starts` (L + 1,) to the next, the direction in
    which they extend least."""
    if len(starts) < 2:
        return np.zeros((0, 3))
    products = np.add.reduceat(rays[:, :, None] * rays[:, None, :], starts[:-1])
    if len(rays) > starts[-1]:  # the last sum ran on to the end
        products[-1] = np.einsum(
            "mi,mj->ij", rays[starts[-2] : starts[-1]], rays[starts[-2] : starts[-1]]
        )
    return np.linalg.eigh(products)[1][:, :, 0]


def _cross(a: Array, b: Array) -> Array:
    """Cross products along the last axis; several times quicker on small arrays than NumPy's
    general one."""
    a, b = np.broadcast_arrays(a, b)
    out = np.empty(a.shape)
    out[..., 0] = a[..., 1] * b[..., 2] - a[..., 2] * b[..., 1]
    out[..., 1] = a[..., 2] * b[..., 0] - a[..., 0] * b[..., 2]
    out[..., 2] = a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0]
    return out


def tangents(normals: Array) -> Array:
    """(B, 2, 3) two unit vectors perpendicular to each normal."""
    helper = np.where((np.abs(normals[:, :1]) < 0.7), [[1.0, 0, 0]], [[0, 1.0, 0]])
    first = _cross(normals, helper)
    first /= np.linalg.norm(first, axis=1, keepdims=True)
    return np.stack([first, _cross(normals, first)], axis=1)
