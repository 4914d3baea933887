"""What a solved path leans on, how well a place is known on each frame, and what would make it more
exact.

All from the normal matrix N at the optimum. With J_t the weighted derivatives of the observations
of a track t, the trace of its hat matrix J_t N⁻¹ J_tᵀ is the number of unknowns that it determines
(Belsley, Kuh and Welsch 1980, cited from memory). Its own point takes up to three of them; the rest
is its *leverage*, in unknowns of the cameras and the lens. Those of all tracks and facts add up to
as many as are free.

A measurement with derivatives a over its ± changes the covariance of everything by −N⁻¹aᵀ (1 + a
N⁻¹ aᵀ)⁻¹ a N⁻¹, whatever its value will be: what it would be worth is known before it is taken.
"""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from aperture.arrays import Array
from aperture.lens.lens import PARAMETERS
from aperture.match.advise import HEIGHT_M, LENS_SHARE, LEVEL_DEG, PLACE_M, TAPE_M
from aperture.path import shares
from aperture.path.covariance import Solved
from aperture.path.facts import (
    CameraAngle,
    CameraCoordinate,
    Distance,
    FocalOn,
    LensValue,
    PointCoordinate,
)
from aperture.path.imaging import LENS_SIZE
from aperture.path.problem import Equation, Row
from aperture.path.spread import Spread

if TYPE_CHECKING:
    from aperture.path.report import Told

# Tracks between which lengths are offered, how many candidates are told, of each kind, and a gain
# that is worth it.
MOST_ENDS, MOST_TOLD, MOST_OF_A_KIND, LEAST_GAIN = 12, 9, 2, 0.01
# Tracks that are tried out on the frame that is known worst.
MOST_FOLLOWED = 12
OF_POSE = ("rx", "ry", "rz", "x", "y", "z", "zoom")
QUANTITIES = {
    "position": "position, over the path",
    "worst": "position on its worst frame",
    "direction": "direction, over the path",
    "focal": "focal length",
}


def leverages(solved: Solved, spread: Spread) -> Array:
    """(P,) of each track the unknowns of cameras and lens that it determines; spread: by the normal
    matrix."""
    bundle = solved.bundle
    # What is held has no covariance, so that its derivatives count for nothing.
    joint = np.ascontiguousarray(spread.with_lens)
    total = solved.summed(shares.add_traces, joint)
    free = (~bundle.held).sum(axis=1)
    if bundle.freedom.at_infinity:
        free = np.minimum(free, 2)
    covariances = spread.points[bundle.order]
    # tr J Σ Jᵀ with its point eliminated: less what the point itself takes up.
    gone = slice(0, bundle.eliminated)
    factors = np.zeros((bundle.eliminated, 3, 3))
    factors[:, *np.tril_indices(3)] = bundle.factors
    factors *= ~bundle.held[gone, :, None]
    information = factors @ np.swapaxes(factors, 1, 2)
    total[gone] -= np.einsum("nij,nji->n", information, covariances[gone]) - free[gone]
    for rank in range(bundle.eliminated, bundle.count):
        at = LENS_SIZE + 3 * (rank - bundle.eliminated) + np.arange(3)
        cameras = bundle.camera[bundle.starts[rank] : bundle.starts[rank + 1]]
        _, by_camera, by_lens, points = solved.derivatives(rank, rank + 1)
        both = np.concatenate([by_camera, by_lens], axis=2)
        across = np.concatenate(
            [
                spread.across[cameras][:, :, at],
                np.broadcast_to(spread.border[:LENS_SIZE, at], (len(cameras), LENS_SIZE, 3)),
            ],
            axis=1,
        )
        total[rank] += 2 * np.einsum("nij,njk,nik->", both, across, points, optimize=True)
        total[rank] += np.einsum("nij,jk,nik->", points, covariances[rank], points) - free[rank]
    out = np.empty(bundle.count)
    out[bundle.order] = np.maximum(total, 0.0)
    return out


def frame_covariances(told: Told) -> tuple[list[str], Array]:
    """The names of what is free of a frame's camera and the lens, and (F, k, k) their covariances,
    as wide as the ± that are told."""
    joint = told.naive.with_lens
    size = told.naive.cameras.shape[1]
    naive = np.einsum("fii->fi", joint)
    lens = np.broadcast_to(told.lens_sigma**2, (len(joint), LENS_SIZE))
    shown = np.concatenate([told.camera_variances, lens], axis=1)
    with np.errstate(all="ignore"):
        wider = np.where(naive > 0, np.sqrt(shown / naive), 0.0)
    joint = joint * wider[:, :, None] * wider[:, None, :]
    names = np.array([*OF_POSE[:size], *PARAMETERS])
    free = (naive > 0).any(axis=0)
    return names[free].tolist(), joint[:, free][:, :, free]


# What to measure next
# ---------------------------------------------------------------------------------------


@dataclass(frozen=True)
class _Candidate:
    """What could be measured: its kind, words, the usual ± in words, its equations, and what it is
    about."""

    kind: str
    says: str
    usual: str
    rows: list[Row]
    of: tuple[str, ...] = ()
    frame: int | None = None  # an index of a camera


def advice(told: Told, determined: dict[str, str]) -> dict[str, Any]:
    """Per quantity its ± now (metres, degrees; of the focal length a share) and what would shrink
    it, best first.

    Only of what is set: what is missing at all is told elsewhere.
    """
    network, solved = told.network, told.solved
    projections = _projections(told, determined)
    if not projections:
        return {}
    candidates = list(_candidates(told, determined, _worst(told)))
    rows = [row for candidate in candidates for row in candidate.rows]
    if not rows:
        return {}
    cameras, border, products = solved.responses(rows)
    ends = np.cumsum([0, *(len(candidate.rows) for candidate in candidates)])
    ids = told.evidence.frames[network.frames].tolist()
    out: dict[str, Any] = {}
    for quantity, (picked, before, variance) in projections.items():
        moved = picked(cameras, border)
        squares, shares = moved.T @ moved, []
        for first, last in zip(ends[:-1], ends[1:]):
            mine = slice(first, last)
            inner = np.eye(last - first) + products[mine, mine]
            if len(inner) == 1:  # most are, and need no solver
                gained = float(squares[first, first] / inner[0, 0])
            else:
                gained = float(np.trace(np.linalg.solve(inner, squares[mine, mine])))
            shares.append(min(max(gained / max(variance, 1e-300), 0.0), 1.0))
        out[quantity] = {"now": before, "rows": _told_rows(candidates, shares, before, ids)}
        if quantity == "worst":
            out[quantity]["frame"] = ids[_worst(told)]
    return out


def _told_rows(
    candidates: list[_Candidate], shares: list[float], before: float, frames: list[int]
) -> list[dict[str, Any]]:
    """What is worth telling, the best first, and of each kind the best few."""
    out: list[dict[str, Any]] = []
    told: Counter[str] = Counter()
    for number in sorted(range(len(candidates)), key=lambda number: -shares[number]):
        one, then = candidates[number], float(np.sqrt(1 - shares[number]))
        if 1 - then < LEAST_GAIN or len(out) == MOST_TOLD:
            break
        told[one.kind] += 1
        if told[one.kind] > MOST_OF_A_KIND:
            continue
        out.append(
            {
                "kind": one.kind,
                "says": one.says,
                "usual": one.usual,
                "then": before * then,
                "of": list(one.of),
                "frame": None if one.frame is None else frames[one.frame],
            }
        )
    return out


def _worst(told: Told) -> int:
    """The camera whose place is known worst."""
    return int(np.argmax(told.camera_variances[:, 3:6].sum(axis=1)))


def _projections(told: Told, determined: dict[str, str]) -> dict[str, Any]:
    """Per quantity: what picks it out of responses as (n, k), its ± now, and its variance by the
    normal matrix."""
    naive, worst = told.naive.cameras, _worst(told)
    frames = len(naive)
    out: dict[str, Any] = {}

    def part(cameras: Array, first: int, only: int | None) -> Array:
        chosen = (
            cameras[:, first : first + 3] if only is None else cameras[[only], first : first + 3]
        )
        return chosen.reshape(-1, cameras.shape[2]) / np.sqrt(len(chosen))

    def of_cameras(first: int, only: int | None = None) -> Any:
        which = slice(None) if only is None else [only]
        shown = told.camera_variances[which, first : first + 3].sum(axis=1).mean()
        variance = np.einsum("fii->fi", naive)[which, first : first + 3].sum(axis=1).mean()
        return (lambda cameras, _: part(cameras, first, only)), float(np.sqrt(shown)), variance

    settled = all(
        determined[name] != "no" for name in ("scale", "position", "direction", "heading")
    )
    if settled and told.kind == "free":
        out["position"] = of_cameras(3)
        out["worst"] = of_cameras(3, worst)
    if determined["direction"] != "no" and determined["heading"] != "no":
        picked, now, variance = of_cameras(0)
        out["direction"] = picked, float(np.degrees(now)), variance
    if determined["focal"] == "solved":
        if told.evidence.zooms:
            shown = float(np.sqrt(told.camera_variances[:, 6].mean()))
            out["focal"] = (
                lambda cameras, _: cameras[:, 6] / np.sqrt(frames),
                shown,
                naive[:, 6, 6].mean(),
            )
        else:
            out["focal"] = (
                lambda _, border: border[:1],
                float(told.lens_sigma[0]),
                told.naive.lens[0, 0],
            )
    return {name: found for name, found in out.items() if found[2] > 0}


def _candidates(told: Told, determined: dict[str, str], worst: int) -> Iterator[_Candidate]:
    network, evidence = told.network, told.evidence
    state, count = network.state, len(network.frames)
    every = sorted({0, count // 2, count - 1, worst})
    free = told.kind == "free"

    def rows(*equations: Equation) -> list[Row]:
        return [row for equation in equations for row in equation.rows(state)]

    if free and determined["scale"] != "no":
        yield from _lengths(told)
        yield from _followed(told, worst)
        for point in _ends(told):
            place = [PointCoordinate("", TAPE_M, point, axis) for axis in range(3)]
            id_ = evidence.tracks.ids[network.tracks[point]]
            yield _Candidate("survey", f"where {id_} is, surveyed", "5 mm", rows(*place), (id_,))
        for camera in every:
            at = np.array([camera])
            height = CameraCoordinate("", HEIGHT_M, at, 1)
            yield _Candidate("height", "the camera’s height", "1 cm", rows(height), (), camera)
            there = [CameraCoordinate("", PLACE_M, at, axis) for axis in range(3)]
            yield _Candidate("place", "the camera’s place", "5 cm", rows(*there), (), camera)
    for camera in every:
        for which, name in ((1, "tilt"), (2, "roll")):
            level = CameraAngle("", np.radians(LEVEL_DEG), np.array([camera]), which)
            says = f"the camera’s {name}, by a level on it"
            yield _Candidate("level", says, f"{LEVEL_DEG}°", rows(level), (), camera)
    if determined["focal"] != "solved":
        return
    says = "the lens’s focal length, from its ring or the camera report"
    if evidence.zooms:
        for camera in every:
            known = FocalOn("", LENS_SHARE, camera, 1.0)
            yield _Candidate("focal", says, "1 %", rows(known), (), camera)
    else:
        yield _Candidate("focal", says, "1 %", rows(LensValue("", LENS_SHARE, 0, 0.0)))


def _ends(told: Told) -> list[int]:
    """Points far from each other that are known well: what one would measure between."""
    network = told.network
    points = network.state.points
    sigma = np.sqrt(np.maximum(np.einsum("pii->p", told.naive.points), 0))
    far = np.linalg.norm(points - np.median(network.state.positions, axis=0), axis=1)
    good = np.flatnonzero(sigma < 0.05 * far)
    if not len(good):
        return []
    chosen = [int(good[np.argmax(network.use[:, network.tracks[good]].sum(axis=0))])]
    nearest = np.linalg.norm(points[good] - points[chosen[0]], axis=1)
    while len(chosen) < min(MOST_ENDS, len(good)):
        # Seen from the camera, so that what is very far off isn't always the farthest.
        next_ = int(np.argmax(nearest / far[good]))
        chosen.append(int(good[next_]))
        away = np.linalg.norm(points[good] - points[chosen[-1]], axis=1)
        nearest = np.minimum(nearest, away)
    return chosen


def _lengths(told: Told) -> Iterator[_Candidate]:
    """Distances between points that aren't known yet."""
    network, ids = told.network, told.evidence.tracks.ids
    measured = {
        frozenset((equation.start, equation.end))
        for equation in network.facts.equations
        if isinstance(equation, Distance)
    }
    for a, b in itertools.combinations(_ends(told), 2):
        if frozenset((a, b)) in measured:
            continue
        names = ids[network.tracks[a]], ids[network.tracks[b]]
        rows = Distance("", TAPE_M, a, b, 0.0).rows(network.state)
        says = f"the distance from {names[0]} to {names[1]}"
        yield _Candidate("length", says, "5 mm", rows, names)


def _followed(told: Told, worst: int) -> Iterator[_Candidate]:
    """Tracks that aren't seen on the frame that is known worst, but should be."""
    network, evidence = told.network, told.evidence
    bundle, state = network.bundle, network.state
    seen = network.use[network.frames[worst]][network.tracks]
    lens = evidence.lens.with_parameters(state.lens_on(worst))
    local = (state.points - state.positions[worst]) @ state.rotations[worst]
    with np.errstate(all="ignore"):
        at = evidence.grid.to_px(lens.project(local))
    size = np.array([evidence.grid.width, evidence.grid.height])
    inside = np.isfinite(at).all(axis=1) & (at > 0).all(axis=1) & (at < size).all(axis=1)
    sigma = np.sqrt(np.maximum(np.einsum("pii->p", told.naive.points), 0)) / np.linalg.norm(
        local, axis=1
    )
    others = np.flatnonzero(inside & ~seen)
    others = others[np.argsort(sigma[others])][:MOST_FOLLOWED]
    usual = 1 / float(np.median(bundle.weights[:, :2]))
    for point in others.tolist():
        _, by_point, by_lens = lens.project(local[point][None], derivatives=True)
        by_point = evidence.grid.px_linear @ by_point[0]
        by_world = by_point @ state.rotations[worst].T
        by_camera = np.zeros((2, 7))
        by_camera[:, :3] = np.cross(by_point, local[point])
        by_camera[:, 3:6] = -by_world
        lens_rows = evidence.grid.px_linear @ by_lens[0]
        by_camera[:, 6] = lens_rows[:, 0]
        rows = [
            Row(
                0.0,
                worst,
                by_camera[axis] / usual,
                (point,),
                by_world[axis][None] / usual,
                lens_rows[axis] / usual,
            )
            for axis in range(2)
        ]
        id_ = evidence.tracks.ids[network.tracks[point]]
        says = f"one more sighting of {id_}"
        yield _Candidate("sighting", says, f"{usual:.2f} px", rows, (id_,), worst)
