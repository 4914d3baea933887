"""The equations of a move's place, and where they are least: the search behind `align`.

The references as arrays, their residuals with derivatives, the closed forms to begin at, and
Levenberg–Marquardt. See `aperture.moves.align` for the problem.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.arrays import Array, ArrayLike
from aperture.errors import Problem
from aperture.geometry.rotation import exponential

LEAST_M = 1e-4  # of a ±: what is known better counts so
LEAST_TANGENT = 1e-6
STEPS, ENOUGH = 60, 1e-10
STARTS = 6  # of the rotations tried, how many are refined
# Of the unknowns: the middle's place, the turn, ln scale, the entrance pupil.
PLACE, TURN, SCALE, PUPIL = slice(0, 3), slice(3, 6), 6, 7
PARAMETERS = 8


@dataclass(frozen=True, eq=False)
class Pair:
    """A point known in both spaces: `moves` and `world` (3,) metres, each with its ± in metres."""

    name: str
    moves: ArrayLike
    world: ArrayLike
    plus_minus: float
    world_plus_minus: float = 0.0


@dataclass(frozen=True, eq=False)
class Sighting:
    """A point of the set seen along a ray of a camera of the move.

    Parameters
    ----------
    name : str
    rotation, position : ndarray, shapes (3, 3) and (3,)
        The camera's, in the move's space; metres.
    tangents : array_like, shape (2,)
        To the right and up, of the ray: (0, 0) is the lens axis.
    world : array_like, shape (3,)
        Metres.
    plus_minus : float
        Of each tangent.
    world_plus_minus : float
        Metres.
    """

    name: str
    rotation: Array
    position: Array
    tangents: ArrayLike
    world: ArrayLike
    plus_minus: float
    world_plus_minus: float = 0.0


Reference = Pair | Sighting


@dataclass(frozen=True)
class Wanted:
    """What is solved beside place and turn, and what else is known.

    scale : whether the move's unit is solved too.
    level : σ in radians with which the move's up is the set's; None where it isn't known.
    pupil : whether the entrance pupil's place before the axis about which the rig turns is solved.
    """

    scale: bool = False
    level: float | None = None
    pupil: bool = False


@dataclass(frozen=True, eq=False)
class Place:
    """A trial: world = middle + scale · turn · (p − centre), the points of the set, the pupil."""

    middle: Array
    turn: Array
    log_scale: float
    pupil: float
    points: Array

    def moved(self, step: Array) -> Place:
        """After a step of all unknowns."""
        points = self.points + step[PARAMETERS:].reshape(-1, 3)
        return Place(
            self.middle + step[PLACE],
            exponential(step[TURN]) @ self.turn,
            self.log_scale + step[SCALE],
            self.pupil + step[PUPIL],
            points,
        )


@dataclass(frozen=True, eq=False)
class System:
    """The references as arrays, and the residuals of a trial with their derivatives."""

    references: Sequence[Reference]
    wanted: Wanted
    centre: Array
    known: Array  # (K, 3) measured places of the distinct points of the set
    known_sigma: Array  # (K,)
    which: list[int] = field(default_factory=list)  # the point of each reference

    def free(self) -> Array:
        """Which unknowns are solved."""
        out = np.ones(PARAMETERS + self.known.size, bool)
        out[SCALE], out[PUPIL] = self.wanted.scale, self.wanted.pupil
        out[PARAMETERS:] = np.repeat(self.known_sigma > 0, 3)
        return out

    def evaluate(self, at: Place) -> tuple[Array, Array] | None:
        """Residuals (M,) and their Jacobian (M, unknowns), each divided by its σ; None where a
        point is behind the camera that sees it.
        """
        rows: list[tuple[Array, Array]] = []
        scale = np.exp(at.log_scale)
        for reference, index in zip(self.references, self.which):
            slope = np.zeros((3, PARAMETERS + self.known.size))
            own = slice(PARAMETERS + 3 * index, PARAMETERS + 3 * index + 3)
            point = at.points[index]
            if isinstance(reference, Pair):
                arm = scale * at.turn @ (np.asarray(reference.moves, float) - self.centre)
                slope[:, PLACE], slope[:, TURN], slope[:, SCALE] = np.eye(3), -_cross(arm), arm
                slope[:, own] = -np.eye(3)
                off = at.middle + arm - point
                slope[:, SCALE] -= off  # the ± is of the move's space, which the scale enlarges
                sigma = scale * max(reference.plus_minus, LEAST_M)
                rows.append((off / sigma, slope / sigma))
                continue
            back = reference.rotation.T @ at.turn.T / scale
            arm = point - at.middle
            away = back @ arm + reference.rotation.T @ (self.centre - reference.position)
            away[2] += at.pupil
            if not away[2] < 0:
                return None
            slope[:, PLACE], slope[:, TURN], slope[:, SCALE] = (
                -back,
                back @ _cross(arm),
                -back @ arm,
            )
            slope[2, PUPIL] = 1
            slope[:, own] = back
            seen = away[:2] / -away[2]
            by = np.array([[1, 0, seen[0]], [0, 1, seen[1]]]) / -away[2]
            sigma = max(reference.plus_minus, LEAST_TANGENT)
            rows.append(((seen - np.asarray(reference.tangents)) / sigma, by @ slope / sigma))
        for index in np.flatnonzero(self.known_sigma > 0).tolist():
            slope = np.zeros((3, PARAMETERS + self.known.size))
            own = slice(PARAMETERS + 3 * index, PARAMETERS + 3 * index + 3)
            slope[:, own] = np.eye(3) / self.known_sigma[index]
            rows.append(((at.points[index] - self.known[index]) / self.known_sigma[index], slope))
        if self.wanted.level is not None:
            up = at.turn[:, 1]
            slope = np.zeros((2, PARAMETERS + self.known.size))
            slope[:, TURN] = -_cross(up)[[0, 2]]
            rows.append((up[[0, 2]] / self.wanted.level, slope / self.wanted.level))
        return np.concatenate([row for row, _ in rows]), np.concatenate([row for _, row in rows])


def umeyama(moves: Array, world: Array, weights: Array, scale: bool) -> tuple[float, Array, Array]:
    """Return the similarity that lays points onto others with the least weighted squares.

    Parameters
    ----------
    moves, world : ndarray, shape (N, 3)
    weights : ndarray, shape (N,)
    scale : bool
        Whether the scale is free; 1 otherwise.

    Returns
    -------
    scale : float
    rotation : ndarray, shape (3, 3)
    shift : ndarray, shape (3,)
        world ≈ scale · rotation · moves + shift.
    """
    weights = weights / weights.sum()
    low, high = weights @ moves, weights @ world
    covariance = (world - high).T @ (weights[:, None] * (moves - low))
    left, sizes, right = np.linalg.svd(covariance)
    sign = np.array([1.0, 1.0, np.sign(np.linalg.det(left @ right))])
    turn = left * sign @ right
    spread = float(weights @ ((moves - low) ** 2).sum(axis=1))
    factor = float(sizes @ sign / spread) if scale and spread > 0 else 1.0
    return factor, turn, high - factor * turn @ low


def system_of(references: Sequence[Reference], wanted: Wanted, centre: Array) -> System:
    """The equations of references; those at one place of the set share it as an unknown."""
    places: dict[tuple[float, ...], int] = {}
    which: list[int] = []
    known: list[tuple[float, ...]] = []
    sigma: list[float] = []
    for reference in references:
        world = tuple(float(value) for value in np.asarray(reference.world, float))
        if not np.isfinite(world).all():
            raise Problem(f"The place of “{reference.name}” must be finite.")
        if world not in places:
            places[world] = len(known)
            known.append(world)
            sigma.append(0.0)
        which.append(places[world])
        sigma[places[world]] = max(sigma[places[world]], reference.world_plus_minus)
    return System(references, wanted, centre, np.array(known), np.array(sigma), which)


def begins(system: System, begin: Array | None) -> list[Place]:
    """Where the search begins: the closed form of the pairs, or else the best of many rotations."""
    out = []
    pairs = [one for one in system.references if isinstance(one, Pair)]
    if begin is not None:
        scale = float(np.cbrt(np.linalg.det(begin[:3, :3])))
        middle = begin[:3, :3] @ system.centre + begin[:3, 3]
        size = np.log(scale) if system.wanted.scale else 0.0
        out.append(Place(middle, begin[:3, :3] / scale, size, 0.0, system.known))
    if len(pairs) >= 3:
        moves = np.array([one.moves for one in pairs], float)
        world = np.array([one.world for one in pairs], float)
        sigma = [max(LEAST_M, np.hypot(one.plus_minus, one.world_plus_minus)) for one in pairs]
        weights = 1 / np.square(sigma)
        scale, turn, shift = umeyama(moves, world, weights, system.wanted.scale)
        middle = scale * turn @ system.centre + shift
        out.append(Place(middle, turn, np.log(scale) if scale > 0 else 0.0, 0.0, system.known))
        spread = np.linalg.svd(moves - moves.mean(axis=0), compute_uv=False)
        if spread[1] > 0.05 * spread[0]:
            return out
    turns = _rotations(system.wanted.level is not None)
    return out + _linear(system, turns)[:STARTS]


def _rotations(upright: bool) -> Array:
    """Rotations spread over all of them, or over the headings."""
    headings = Rotation.from_euler("y", np.arange(0, 360, 15)[:, None], degrees=True)
    if upright:
        return headings.as_matrix()
    spread = Rotation.create_group("I").as_matrix()
    return np.concatenate([headings.as_matrix(), spread])


def _linear(system: System, turns: Array) -> list[Place]:
    """Trials for rotations (N, 3, 3), the best first: place and scale follow by linear equations in
    g = 1/s and z = g Rᵀ t.

    In the move's space a point w of the set is m = g Rᵀ w − z. A pair wants m = p, a sighting wants
    m on its ray, that is, what of m − c is across the ray to vanish. With P the projection across
    the ray (all of space for a pair) and a the place p or c, Σ |P (g Rᵀ w − z − a)|² is least.
    """
    world = system.known[system.which]
    seen = np.einsum("nij,ki->nkj", turns, world)  # Rᵀ w
    across, at = [], []
    for reference in system.references:
        if isinstance(reference, Pair):
            across.append(np.eye(3))
            at.append(np.asarray(reference.moves, float))
            continue
        ray = reference.rotation @ np.append(np.asarray(reference.tangents, float), -1.0)
        ray = ray / np.linalg.norm(ray)
        across.append(np.eye(3) - np.outer(ray, ray))
        at.append(reference.position)
    p, a = np.array(across), np.array(at)
    normal, right = np.zeros((len(turns), 4, 4)), np.zeros((len(turns), 4))
    normal[:, 0, 0] = np.einsum("nki,kij,nkj->n", seen, p, seen)
    normal[:, 0, 1:] = normal[:, 1:, 0] = -np.einsum("kij,nkj->ni", p, seen)
    normal[:, 1:, 1:] = p.sum(axis=0)
    right[:, 0] = np.einsum("nki,kij,kj->n", seen, p, a)
    right[:, 1:] = -np.einsum("kij,kj->i", p, a)
    if not system.wanted.scale:  # g is 1
        right = right - normal[:, :, 0]
        normal[:, 0], normal[:, :, 0] = 0, 0
        normal[:, 0, 0], right[:, 0] = 1, 1
    # The least-norm solution where too few references leave a place open.
    found = (np.linalg.pinv(normal, hermitian=True) @ right[:, :, None])[:, :, 0]
    g, z = found[:, 0], found[:, 1:]
    off = g[:, None, None] * seen - z[:, None] - a
    left = np.einsum("nki,kij,nkj->n", off, p, off)
    out = []
    for index in np.argsort(left).tolist():
        if 1e-6 < g[index] < 1e6:
            middle = turns[index] @ (z[index] + system.centre) / g[index]
            out.append(Place(middle, turns[index], -float(np.log(g[index])), 0.0, system.known))
    return out


def descend(system: System, at: Place) -> tuple[Place, float, Array, Array] | None:
    """The nearest least sum of squares: the trial, χ², residuals, Jacobian."""
    free = system.free()
    if (now := system.evaluate(at)) is None:
        return None
    r, jac = now
    chi2, damping = float(r @ r), 1e-3
    for _ in range(STEPS):
        own = jac[:, free]
        normal, gradient = own.T @ own, own.T @ r
        size = np.maximum(np.diag(normal), 1e-12 * np.diag(normal).max())
        try:
            part = -np.linalg.solve(normal + damping * np.diag(size), gradient)
        except np.linalg.LinAlgError:
            return None
        step = np.zeros(len(free))
        step[free] = part
        trial = at.moved(step)
        next_ = system.evaluate(trial) if np.linalg.norm(step[TURN]) < 3 else None
        if next_ is None or not float(next_[0] @ next_[0]) <= chi2:
            damping *= 8
            if damping > 1e12:
                break
            continue
        before, (r, jac), at = chi2, next_, trial
        chi2, damping = float(r @ r), max(damping / 8, 1e-12)
        if before - chi2 <= ENOUGH * (1 + chi2):
            break
    return at, chi2, r, jac


def _cross(v: Array) -> Array:
    """(3, 3) matrix whose product with w is v × w."""
    return np.array([[0, -v[2], v[1]], [v[2], 0, -v[0]], [-v[1], v[0], 0]])
