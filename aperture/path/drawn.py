"""What is drawn on one frame, as equations of the bundle: spots whose place is known, edges and
bows.

Edges and bows are the still matcher's own equations (`aperture.match.system`) for the camera of
their frame and the shared lens.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.lens.lens import PARAMETERS, Lens
from aperture.match import document as still
from aperture.match.document import AXES
from aperture.match.system import State as StillState
from aperture.match.system import System, tangents
from aperture.path.document import FilmEvidence
from aperture.path.imaging import Optics, jacobians, limit2
from aperture.path.problem import Equation, Row, State
from aperture.track.tracks import Tracks

# How far off a place that is behind the camera is seen.
BEHIND_PX = 1e5


@dataclass
class Sighted(Equation):
    """A known place, seen on one frame: the camera is held by it, and no point is needed.

    world_sigma (3,): how well each coordinate is known, metres. It adds to the σ in the picture.
    """

    camera: int = 0
    world: Array = field(default_factory=lambda: np.zeros(3))
    xy: Array = field(default_factory=lambda: np.zeros(2))
    optics: Optics = field(kw_only=True)
    world_sigma: Array = field(default_factory=lambda: np.zeros(3))
    spread_px: float = 0.0
    unit = "px"

    def rows(self, state: State) -> list[Row]:
        sigma = math.hypot(self.sigma, self.spread_px)
        residual, by_camera = np.zeros((1, 2)), np.zeros((1, 2, 7))
        by_lens, by_point = np.zeros((1, 2, len(PARAMETERS))), np.zeros((1, 2, 3))
        jacobians(
            np.array([self.camera], np.int32),
            np.zeros(1, int),
            np.array([self.xy], float),
            np.array([[1 / sigma, 1 / sigma, 0.0]]),
            np.ascontiguousarray(state.rotations),
            np.ascontiguousarray(state.positions),
            state.zoom,
            state.lens,
            self.optics.packed,
            limit2(state.lens),
            np.array([self.world], float),
            residual,
            by_camera,
            by_lens,
            by_point,
        )
        if not by_point.any():  # behind the camera: as far off as anything can be
            residual[:] = BEHIND_PX / sigma
        return [
            Row(
                float(residual[0, axis]),
                camera=self.camera,
                by_camera=by_camera[0, axis],
                by_lens=by_lens[0, axis],
            )
            for axis in range(2)
        ]

    def settle(self, state: State) -> None:
        """Fix how large the place's own ± is in the picture: it must not change while a sum of
        squares is minimised."""
        distance = float(np.linalg.norm(self.world - state.positions[self.camera]))
        spread = float(np.linalg.norm(self.world_sigma))
        self.spread_px = self._focal_px(state) * spread / max(distance, spread, 1e-9)

    def _focal_px(self, state: State) -> float:
        down = self.optics.grid.px_linear[:, 1]
        return math.exp(state.lens_on(self.camera)[0]) * float(np.linalg.norm(down))

    def placing_rows(self, state: State) -> list[Row]:
        """The angle between the ray and the direction of the place, in two components: defined
        behind the camera too."""
        lens = self.optics.lens.with_parameters(state.lens_on(self.camera))
        ray = lens.rays(self.optics.grid.to_mm([self.xy]))[0]
        ray /= np.linalg.norm(ray)
        across = tangents(ray[None])[0]
        rotation = state.rotations[self.camera]
        p = rotation.T @ (self.world - state.positions[self.camera])
        distance = max(float(np.linalg.norm(p)), 1e-9)
        n = p / distance
        turned = np.array([[0, -p[2], p[1]], [p[2], 0, -p[0]], [-p[1], p[0], 0]])
        by_place = np.hstack([turned, -rotation.T])  # p by ω and by the position
        dn = (np.eye(3) - np.outer(n, n)) / distance @ by_place
        e, de = across @ n, across @ dn
        s, c = float(np.linalg.norm(e)), float(ray @ n)
        angle = math.atan2(s, c)
        if s < 1e-9:
            r, dr = e, de
        else:
            ds = e @ de / s
            d_angle = c * ds - s * (ray @ dn)
            r = angle * e / s
            dr = np.outer(e / s, d_angle) + angle * (de / s - np.outer(e, ds) / s**2)
        weight = self._focal_px(state) / math.hypot(self.sigma, self.spread_px)
        out = []
        for axis in range(2):
            by_camera = np.zeros(7)
            by_camera[:6] = dr[axis] * weight
            out.append(Row(float(r[axis] * weight), camera=self.camera, by_camera=by_camera))
        return out


@dataclass
class Lines(Equation):
    """Edges and bows drawn on one frame. `first`: the first of their unknowns among the extra
    ones."""

    directional = True
    camera: int = 0
    system: Any = None
    first: int = 0
    unit = "px"
    bow_normals: Array = field(default_factory=lambda: np.zeros((0, 3)))

    @classmethod
    def on(
        cls, evidence: FilmEvidence, camera: int, lines: list[dict[str, Any]], first: int
    ) -> Lines:
        """The lines of one frame, as a System of the still matcher."""
        system = System(still.read(_still_document(evidence, lines), checked=True))
        return cls(lines[0]["id"], 1.0, camera, system, first)

    @property
    def count(self) -> int:
        """How many unknowns they bring: an edge one, a bow two."""
        return len(self.system.evidence.edges) + 2 * len(self.system.evidence.bows)

    def line_up(self, rotation: Array, lens: Lens) -> Array:
        """(count,) the unknowns at which the lines fit a camera best; bows count from there."""
        angles, self.bow_normals = self.system.line_up_normals(rotation, lens)
        return np.concatenate([angles, np.zeros(2 * len(self.bow_normals))])

    def rows(self, state: State) -> list[Row]:
        system = self.system
        edges = len(system.evidence.edges)
        own = state.extra[self.first : self.first + self.count]
        lens = system.lens_with_focal(1.0).with_parameters(state.lens_on(self.camera))
        base = tangents(self.bow_normals)
        moved = self.bow_normals + np.einsum("bij,bi->bj", base, own[edges:].reshape(-1, 2))
        length = np.linalg.norm(moved, axis=1, keepdims=True)
        normals = moved / length
        still_state = StillState(
            state.rotations[self.camera],
            state.positions[self.camera],
            lens,
            own[:edges],
            normals,
            np.zeros(0),
        )
        residual, jacobian = system.evaluate(still_state)
        by_extra = self._by_extra(jacobian, normals, length, base)
        of = {
            int(row): (block.id, float(block.item.sigma_px))
            for block in system.blocks
            for row in block.rows
        }
        out = []
        for number, value in enumerate(residual):
            id_, sigma = of[number]
            by_camera, by_lens = np.zeros(7), np.zeros(len(PARAMETERS))
            by_camera[:3] = jacobian[number, system.at["rotation"]]
            by_lens[system.free_lens] = jacobian[number, system.at["lens"]]
            by_camera[6] = by_lens[0]
            extra = tuple(
                (self.first + index, float(slope))
                for index, slope in enumerate(by_extra[number])
                if slope
            )
            out.append(
                Row(
                    float(value),
                    camera=self.camera,
                    by_camera=by_camera,
                    by_lens=by_lens,
                    extra=extra,
                    of=id_,
                    sigma=sigma,
                )
            )
        return out

    def _by_extra(self, jacobian: Array, normals: Array, length: Array, base: Array) -> Array:
        """(M, count) derivatives by the lines' own unknowns: the edges' angles, and how far the
        bows' normals (B, 3), before they were brought to length 1 so long, lean to the sides `base`
        (B, 2, 3)."""
        at, edges = self.system.at, len(self.system.evidence.edges)
        out = np.zeros((len(jacobian), self.count))
        out[:, :edges] = jacobian[:, at["angles"]]
        here, by_bows = tangents(normals), jacobian[:, at["bows"]]
        for bow, normal in enumerate(normals):
            across = (np.eye(3) - np.outer(normal, normal)) / length[bow]
            change = here[bow] @ across @ base[bow].T
            columns = slice(2 * bow, 2 * bow + 2)
            out[:, edges + 2 * bow : edges + 2 * bow + 2] = by_bows[:, columns] @ change
        return out


def _still_document(evidence: FilmEvidence, lines: list[dict[str, Any]]) -> dict[str, Any]:
    """A version 1 document with some lines, and the lens left free as the film's is."""
    width_mm, height_mm = evidence.grid.gate_mm
    free = [name for name, is_free in zip(PARAMETERS[3:], evidence.free_lens[3:]) if is_free]
    lens: dict[str, Any] = {"projection": evidence.lens.projection.name, "focal_mm": None}
    lens["principal_point"] = "free" if evidence.free_lens[1] else "centre"
    if evidence.lens.projection.parameters:
        values = dict(zip(PARAMETERS[3:], evidence.lens.coefficients))
        lens["distortion"] = {**values, "free": free}
    marks = [{key: value for key, value in line.items() if key != "frame"} for line in lines]
    return {
        "format": still.FORMAT,
        "version": 1,
        "image": {"width": evidence.grid.width, "height": evidence.grid.height},
        "gate": {
            "width_mm": width_mm,
            "height_mm": height_mm,
            "squeeze": evidence.lens.squeeze,
        },
        "lens": lens,
        "marks": marks,
        "facts": [],
    }


def sighted(evidence: FilmEvidence, frames: dict[int, int]) -> list[Equation]:
    """Of tracks with one sighting, spots drawn on a frame, those whose place is known.

    Exactly, or by a length up or across from one that is: the foot of a doorway is the origin, its
    head so much higher. Which end is higher, or farther right, the picture tells.
    """
    tracks, optics = evidence.tracks, Optics(evidence.grid, evidence.lens)
    single = {
        tracks.ids[index]: int(tracks.starts[index])
        for index in np.flatnonzero(tracks.lengths() == 1).tolist()
    }
    known: dict[str, tuple[str, Array, Array]] = {}
    for id_ in single:
        index = tracks.ids.index(id_)
        if np.isfinite(evidence.world[index]).all():
            known[id_] = (id_, evidence.world[index], evidence.world_sigma[index])
    for fact in evidence.facts:
        if fact["kind"] == "length" and fact.get("along") in ("up", "across"):
            _add_far_end(fact, known, single, tracks)
    out: list[Equation] = []
    for id_, (told, world, sigma) in known.items():
        row = single[id_]
        frame = int(tracks.frame[row])
        if frame in frames:
            own = float(tracks.sigma[row].mean())
            place = Sighted(told, own, frames[frame], world, tracks.xy[row], sigma, optics=optics)
            out.append(place)
    return out


def _add_far_end(
    fact: dict[str, Any],
    known: dict[str, tuple[str, Array, Array]],
    single: dict[str, int],
    tracks: Tracks,
) -> None:
    """Add the end of a length whose other end is known; which is then known by that length."""
    for near, far in ((fact["from"], fact["to"]), (fact["to"], fact["from"])):
        if near not in known or far in known or far not in single:
            continue
        axis = AXES.index(fact["along"])
        apart = tracks.xy[single[far]] - tracks.xy[single[near]]
        sign = np.sign(apart[0]) if axis == 0 else -np.sign(apart[1])
        _, world, sigma = known[near]
        step, spread = np.zeros(3), sigma.copy()
        step[axis] = (sign or 1.0) * fact["metres"]
        spread[axis] = math.hypot(spread[axis], fact["plus_minus"])
        known[far] = (fact["id"], world + step, spread)
