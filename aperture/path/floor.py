"""How level the floor is under a path, and what carries that.

With g the derivatives of the floor's tilt, and a_i those of each piece of evidence over its ±, N =
Σ a_iᵀ a_i and the variance of the tilt is g N⁻¹ gᵀ = Σ (g N⁻¹ a_iᵀ)²: each piece has its share of
it, and together they are all of it.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from aperture.arrays import Array
from aperture.path import shares
from aperture.path.covariance import Solved
from aperture.path.imaging import LENS_SIZE
from aperture.path.problem import Row

if TYPE_CHECKING:
    from aperture.path.report import Told

# Carriers that are told, and the least share that is worth it.
MOST_TOLD, LEAST_SHARE = 6, 0.02


def tilt(told: Told) -> dict[str, Any]:
    """The ± of the floor's tilt about the worst of its directions, as the frame in the middle sees
    it, degrees; and what carries it: the shares of tracks, marks and facts, the most first."""
    camera = len(told.network.frames) // 2
    turns = told.network.state.rotations[camera][[0, 2]]  # about the world's across and along
    naive, clustered = (
        turns @ spread.cameras[camera][:3, :3] @ turns.T for spread in (told.naive, told.clustered)
    )
    _, ways = np.linalg.eigh(naive)
    worst = ways[:, 1]
    variance = max(float(worst @ naive @ worst), float(worst @ clustered @ worst), 0.0)
    # What carries it is seen where all facts count as they are.
    heeded = told.bent or told
    row = Row(0.0, camera=camera, by_camera=np.append(worst @ turns, np.zeros(4)))
    x_camera, x_border, _ = heeded.solved.responses([row])
    parts = dict(
        zip(
            (heeded.evidence.tracks.ids[index] for index in heeded.network.tracks),
            of_tracks(heeded.solved, x_camera[:, :, 0], x_border[:, 0]).tolist(),
        )
    )
    for id_, part in _of_facts(heeded, x_camera[:, :, 0], x_border[:, 0]):
        parts[id_] = parts.get(id_, 0.0) + part
    whole, names = max(sum(parts.values()), 1e-300), told.evidence.names
    most = sorted(parts.items(), key=lambda one: -one[1])[:MOST_TOLD]
    return {
        "tilt_plus_minus_deg": float(np.degrees(np.sqrt(variance))),
        "carried_by": [
            {"of": id_, "name": names.get(id_, id_), "share": part / whole}
            for id_, part in most
            if part > LEAST_SHARE * whole
        ],
    }


def of_tracks(solved: Solved, x_camera: Array, x_border: Array) -> Array:
    """(P,) what the observations of each point have to do with something: its part of the
    variance, of what x_camera (F, size) and x_border (m,) answer to (`Solved.responses`)."""
    bundle = solved.bundle
    still = np.zeros((bundle.count, 3))
    x_point = bundle.point_steps(solved.blocks, still, x_camera, x_border)
    total = solved.summed(shares.add_squares, x_camera, x_border[:LENS_SIZE], x_point)
    out = np.empty(bundle.count)
    out[bundle.order] = total
    return out


def _of_facts(told: Told, x_camera: Array, x_border: Array) -> list[tuple[str, float]]:
    """What each row of the facts has to do with it, by the fact's or mark's id."""
    network, bundle = told.network, told.solved.bundle
    out = []
    for equation in network.facts.equations:
        for row in equation.rows(network.state):
            value = float(bundle.border_row(row) @ x_border)
            if row.camera is not None and row.by_camera is not None:
                value += float(row.by_camera[: x_camera.shape[1]] @ x_camera[row.camera])
            if row.other:
                value += float(row.other[1][: x_camera.shape[1]] @ x_camera[row.other[0]])
            out.append((row.of or equation.id, value**2))
    return out
