"""Where a move stands: its space laid into the set's by references that are known in both.

A move is right in itself and stands elsewhere. One transform takes its space into the set,

    world = s · R · p + t,

with a rotation R, a place t and, if asked, a scale s; the path itself isn't bent. References tell
of it, each with its ±:

- a *pair*: a point whose place is known in the move's space and in the set;
- a *sighting*: on one frame of the move its camera saw a point of the set along a known ray, the
  lens axis or the ray of a spot on the plate.

With pairs alone the solution without weights is closed (Umeyama 1991); with sightings it is the
pose of a camera with several centres. Both together are least squares on the residuals divided by
their ±: Levenberg–Marquardt from the closed form, or from the best of many rotations, for each of
which t and 1/s follow from linear equations. A place in the set with a ± of its own is an unknown
with a measured value, so that references that share it share its error.

The ± follow from the inverse of the normal matrix, widened where the residuals are larger than
their ± explain. What the references leave open is its null space, which is named in words.

References
----------
S. Umeyama (1991), Least-squares estimation of transformation parameters between two point patterns,
IEEE PAMI 13(4), equations 34–43.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.arrays import Array, ArrayLike
from aperture.errors import Problem
from aperture.geometry.rotation import exponential
from aperture.match.statistics import chi2_tail

LEAST_M = 1e-4  # of a ±: what is known better counts so
LEAST_TANGENT = 1e-6
MOST_REFERENCES = 200
MISFIT = 0.01  # as for a match: a sum of squares rarer than this widens the ±
STEPS, ENOUGH = 60, 1e-10
STARTS = 6  # of the rotations tried, how many are refined
# A turn or a share of the scale known worse than this isn't known; a place, metres.
VAGUE_TURN, VAGUE_SCALE, VAGUE_M = np.radians(2.0), 0.05, 0.25
NULL_SHARE = 1e-9
ALIKE = 0.99  # cosine of two directions that are called one
# Another place counts as a rival if it fits about as well: χ² larger by less, turned by more.
RIVAL_CHI2, RIVAL_TURN = 6.0, np.radians(3.0)
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


@dataclass(frozen=True)
class Residual:
    """How far a reference is off: `size` in metres of a pair, as a tangent of a sighting; in σ."""

    name: str
    size: float
    sigmas: float


@dataclass(frozen=True, eq=False)
class Alignment:
    """A move's place.

    Parameters
    ----------
    world_from_move : ndarray, shape (4, 4)
        With the scale.
    scale, pupil_m : float
        The entrance pupil's place before the rig's axis, metres.
    covariance : ndarray, shape (8, 8)
        Of the place of the move's `middle` in the set (metres), its turn about the set's axes
        (radians), ln scale, and the pupil (metres); zero where a number isn't solved.
    middle : ndarray, shape (3,)
        In the set.
    residuals : tuple of Residual
        In the order of the references.
    open : tuple of str
        What isn't determined, or only vaguely, in sentences.
    chi2, freedom : float and int
    """

    world_from_move: Array
    scale: float
    pupil_m: float
    covariance: Array
    middle: Array
    residuals: tuple[Residual, ...]
    open: tuple[str, ...]
    chi2: float
    freedom: int

    @property
    def plus_minus(self) -> Array:
        """(8,) σ of the same numbers as `covariance`."""
        return np.sqrt(np.diag(self.covariance))

    @property
    def determined(self) -> bool:
        """Whether place and turn follow from the references at all."""
        return bool(np.isfinite(self.covariance).all())


@dataclass(frozen=True, eq=False)
class _Place:
    """A trial: world = middle + scale · turn · (p − centre), the points of the set, the pupil."""

    middle: Array
    turn: Array
    log_scale: float
    pupil: float
    points: Array

    def moved(self, step: Array) -> _Place:
        points = self.points + step[PARAMETERS:].reshape(-1, 3)
        return _Place(
            self.middle + step[PLACE],
            exponential(step[TURN]) @ self.turn,
            self.log_scale + step[SCALE],
            self.pupil + step[PUPIL],
            points,
        )


@dataclass(frozen=True, eq=False)
class _System:
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

    def evaluate(self, at: _Place) -> tuple[Array, Array] | None:
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


def align(
    references: Sequence[Reference],
    wanted: Wanted = Wanted(),
    centre: ArrayLike = (0.0, 0.0, 0.0),
    begin: Array | None = None,
) -> Alignment:
    """Return where a move stands.

    Parameters
    ----------
    references : sequence of Pair and Sighting
    wanted : Wanted
    centre : array_like, shape (3,)
        The middle of the move in its own space, metres, whose place in the set gets a ±.
    begin : ndarray, shape (4, 4), optional
        World from move, where the search may begin besides.

    Raises
    ------
    Problem
        If there is no reference, or none of the places tried agrees with all of them.
    """
    if not references:
        raise Problem("Add references first: points known in the move’s space and in the set.")
    if len(references) > MOST_REFERENCES:
        raise Problem(f"A move has at most {MOST_REFERENCES} references.")
    system = _system(references, wanted, np.asarray(centre, float))
    ends = [end for one in _begins(system, begin) if (end := _descend(system, one)) is not None]
    if not ends:
        raise Problem(
            "No place of the move has all sighted points in front of the camera. Look at the frames "
            "and the points of the sightings."
        )
    ends.sort(key=lambda end: end[1])
    return _report(system, ends)


def _system(references: Sequence[Reference], wanted: Wanted, centre: Array) -> _System:
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
    return _System(references, wanted, centre, np.array(known), np.array(sigma), which)


def _begins(system: _System, begin: Array | None) -> list[_Place]:
    """Where the search begins: the closed form of the pairs, or else the best of many rotations."""
    out = []
    pairs = [one for one in system.references if isinstance(one, Pair)]
    if begin is not None:
        scale = float(np.cbrt(np.linalg.det(begin[:3, :3])))
        middle = begin[:3, :3] @ system.centre + begin[:3, 3]
        size = np.log(scale) if system.wanted.scale else 0.0
        out.append(_Place(middle, begin[:3, :3] / scale, size, 0.0, system.known))
    if len(pairs) >= 3:
        moves = np.array([one.moves for one in pairs], float)
        world = np.array([one.world for one in pairs], float)
        sigma = [max(LEAST_M, np.hypot(one.plus_minus, one.world_plus_minus)) for one in pairs]
        weights = 1 / np.square(sigma)
        scale, turn, shift = umeyama(moves, world, weights, system.wanted.scale)
        middle = scale * turn @ system.centre + shift
        out.append(_Place(middle, turn, np.log(scale) if scale > 0 else 0.0, 0.0, system.known))
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


def _linear(system: _System, turns: Array) -> list[_Place]:
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
            out.append(_Place(middle, turns[index], -float(np.log(g[index])), 0.0, system.known))
    return out


def _descend(system: _System, at: _Place) -> tuple[_Place, float, Array, Array] | None:
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


def _report(system: _System, ends: list[tuple[_Place, float, Array, Array]]) -> Alignment:
    at, chi2, r, jac = ends[0]
    free = system.free()
    own = jac[:, free]
    freedom = max(len(r) - int(free.sum()), 0)
    size = np.linalg.norm(own, axis=0)
    _, weights, axes = np.linalg.svd(own / np.where(size > 0, size, 1.0), full_matrices=True)
    weights = np.append(weights, np.zeros(axes.shape[0] - len(weights)))
    known = weights > NULL_SHARE * weights.max()
    # Where the sum of squares is larger than chance makes it, the ± are wider than they were said.
    wide = chi2 / freedom if freedom and chi2_tail(chi2, freedom) < MISFIT else 1.0
    wide = max(wide, 1.0)
    scaled = axes[known] / np.where(size > 0, size, 1.0)
    within = (scaled / weights[known][:, None] ** 2).T @ scaled * wide
    covariance = np.zeros((PARAMETERS, PARAMETERS))
    head = np.flatnonzero(free[:PARAMETERS])
    covariance[np.ix_(head, head)] = within[: len(head), : len(head)]
    null = (axes[~known] / np.where(size > 0, size, 1.0))[:, : len(head)]
    open_ = np.zeros((len(null), PARAMETERS))
    open_[:, head] = null
    sentences = [_says(system, at, one / np.linalg.norm(one)) for one in open_ if one.any()]
    if sentences:
        covariance[:] = np.inf
    else:
        sentences = _vague(system, at, covariance)
    rivals = [
        end
        for end in ends[1:]
        if end[1] < chi2 + RIVAL_CHI2
        and Rotation.from_matrix(end[0].turn @ at.turn.T).magnitude() > RIVAL_TURN
    ]
    if rivals and not sentences:
        sentences.append(
            "There is another place that agrees with the references as well. One more reference "
            "decides."
        )
    scale = float(np.exp(at.log_scale))
    pose = np.eye(4)
    pose[:3, :3] = scale * at.turn
    pose[:3, 3] = at.middle - pose[:3, :3] @ system.centre
    return Alignment(
        pose,
        scale,
        at.pupil,
        covariance,
        at.middle,
        _residuals(system, at, r),
        tuple(dict.fromkeys(sentences)),
        chi2,
        freedom,
    )


def _residuals(system: _System, at: _Place, r: Array) -> tuple[Residual, ...]:
    """Of each reference against the measured place of its point; the σ holds both ±."""
    measured = _System(
        system.references,
        system.wanted,
        system.centre,
        system.known,
        np.zeros(len(system.known)),
        system.which,
    )
    now = measured.evaluate(_Place(at.middle, at.turn, at.log_scale, at.pupil, system.known))
    values = now[0] if now is not None else r
    out, start = [], 0
    for reference, index in zip(system.references, system.which):
        if isinstance(reference, Pair):
            size = float(np.linalg.norm(values[start : start + 3]))
            own = max(reference.plus_minus, LEAST_M) * float(np.exp(at.log_scale))
            both = float(np.hypot(own, system.known_sigma[index])) * np.sqrt(3)
            start += 3
        else:
            size = float(np.linalg.norm(values[start : start + 2]))
            own = max(reference.plus_minus, LEAST_TANGENT)
            back = (system.known[index] - at.middle) @ at.turn / np.exp(at.log_scale)
            depth = np.linalg.norm(back + system.centre - reference.position)
            wide = system.known_sigma[index] / np.exp(at.log_scale) / max(depth, 1e-9)
            both = float(np.hypot(own, wide)) * np.sqrt(2)
            start += 2
        out.append(Residual(reference.name, size * own, size * own / both))
    return tuple(out)


def _says(system: _System, at: _Place, direction: Array) -> str:
    """What an undetermined direction of the eight numbers is, in words."""
    turn, place = direction[TURN], direction[PLACE]
    if abs(direction[PUPIL]) > 0.7:
        return "Where the entrance pupil is before the rig’s axis isn’t determined."
    if np.linalg.norm(turn) > 0.05:
        return f"The turn about {_line(system, at, turn)} isn’t determined."
    if abs(direction[SCALE]) > 0.05:
        return "The size isn’t determined: two references far apart would tell it."
    return f"Where the move stands {_along(place)} isn’t determined."


def _vague(system: _System, at: _Place, covariance: Array) -> list[str]:
    out = []
    sizes, axes = np.linalg.eigh(covariance[TURN, TURN])
    if np.sqrt(sizes[-1]) > VAGUE_TURN:
        about, wide = _line(system, at, axes[:, -1]), np.degrees(np.sqrt(sizes[-1]))
        out.append(
            f"The turn about {about} is known to ± {wide:.1f}° only: add a reference well beside "
            "it."
        )
    if np.sqrt(covariance[SCALE, SCALE]) > VAGUE_SCALE:
        wide = 100 * np.sqrt(covariance[SCALE, SCALE])
        out.append(
            f"The size is known to ± {wide:.0f} % only: add a reference far from the others."
        )
    sizes, axes = np.linalg.eigh(covariance[PLACE, PLACE])
    if np.sqrt(sizes[-1]) > VAGUE_M and not out:
        along, wide = _along(axes[:, -1]), np.sqrt(sizes[-1])
        out.append(f"Where the move stands {along} is known to ± {wide:.2f} m only.")
    return out


def _line(system: _System, at: _Place, axis: Array) -> str:
    """An axis in words: the line through two points of the references that lies along it, or else
    the nearest axis of the set.
    """
    axis = axis / np.linalg.norm(axis)
    names = [one.name for one in system.references]
    longest, words = 0.0, ""
    for i, first in enumerate(system.which):
        for j, second in enumerate(system.which[:i]):
            line = system.known[first] - system.known[second]
            length = float(np.linalg.norm(line))
            if length > longest and abs(line @ axis) > ALIKE * length:
                longest = length
                words = f"the line through “{names[j]}” and “{names[i]}”"
    return words or ("across", "up", "along")[int(np.argmax(np.abs(axis)))] + " in the set"


def _along(place: Array) -> str:
    return ("across", "in height", "along")[int(np.argmax(np.abs(place)))]


def _cross(v: Array) -> Array:
    """(3, 3) matrix whose product with w is v × w."""
    return np.array([[0, -v[2], v[1]], [v[2], 0, -v[0]], [-v[1], v[0], 0]])
