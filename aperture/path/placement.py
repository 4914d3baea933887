"""Standing a path on its feet: where it is in the world, how it is turned, and how large it is.

Tracks determine a path up to a similarity, seven numbers: translation, turn, scale. Facts determine
some of them. `place` finds the similarity that agrees with the facts best, by least squares on
these seven alone: the path isn't bent. Which of the seven the facts leave open follows from the
rank of their derivatives by it, and what they leave open must be held in the bundle, exactly as
many numbers.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from aperture.arrays import Array
from aperture.geometry.rotation import angles_from_rotation, exponential, rotation_from_angles
from aperture.lens.lens import Lens
from aperture.match.initial import pose_of_rays
from aperture.path.facts import PathFacts, PointCoordinate
from aperture.path.problem import Row, State

# A direction of the seven counts as open if it changes the facts less than this share of the
# strongest.
OPEN_SHARE = 1e-7
# A path that is smaller than this share of how far known points are hardly knows how far they are;
# so many of them show where it is by their directions.
SMALL_EXTENT, LEAST_BY_RAYS = 0.03, 4
# How much nearer or farther than 1 the points may be, at the median, where the size isn't set.
USUAL = 10.0
# Residuals of facts beyond so many σ count less where a path is placed robustly, or beyond their
# median if that is more.
SOFT = 3.0
# Known points at most each of which is left out once, to see whether it is the wrong one.
MOST_WITHOUT = 12
# Headings from which the search for the best similarity starts.
HEADINGS = 6
# Steps of the search from each, and from the best of them.
COARSE_STEPS, FINE_STEPS = 12, 60
# Two placings that differ by less than this share of what they leave are equal.
SAME_CHI2 = 1e-3
QUANTITIES = ("x", "y", "z", "pan", "tilt_roll", "scale")


@dataclass(frozen=True, eq=False)
class Placed:
    """A placed path. open_: (7, k) basis of what the facts leave open: translation, turn, ln scale;
    chi2: of the facts."""

    state: State
    open_: Array
    chi2: float

    def is_open(self, quantity: str) -> bool:
        """Whether a quantity isn't set: x, y, z of the first camera, pan or tilt_roll, scale."""
        rows = {
            "x": [0],
            "y": [1],
            "z": [2],
            "pan": [4],
            "tilt_roll": [3, 5],
            "scale": [6],
        }[quantity]
        return bool(np.abs(self.open_[rows]).max(initial=0) > 1e-4)


def transformed(state: State, shift: Array, turn: Array, scale: float, about: Array) -> State:
    """The state turned by a rotation matrix and scaled about a place, then shifted."""
    return replace(
        state,
        rotations=turn @ state.rotations,
        positions=(state.positions - about) @ turn.T * scale + about + shift,
        points=(state.points - about) @ turn.T * scale + about + shift,
    )


def upright(state: State) -> State:
    """What is shown if nothing is known: the cameras' mean up is up, the first stands at the origin
    and looks along −Z; its points' median distance is 1."""
    up = state.rotations[:, :, 1].mean(axis=0)
    state = transformed(state, np.zeros(3), _turning_onto_y(up), 1.0, state.positions[0])
    pan = angles_from_rotation(state.rotations[0])[0]
    turn = rotation_from_angles(-pan, 0, 0)
    away = np.linalg.norm(state.points - state.positions[0], axis=1)
    scale = 1 / max(float(np.median(away)), 1e-12) if len(away) else 1.0
    return transformed(state, -state.positions[0], turn, scale, state.positions[0])


def _turning_onto_y(up: Array) -> Array:
    """(3, 3) the shortest turn of a direction onto +Y."""
    up = up / max(float(np.linalg.norm(up)), 1e-12)
    axis = np.cross(up, [0, 1, 0])
    sine, cosine = float(np.linalg.norm(axis)), float(up[1])
    if sine < 1e-9:
        return np.eye(3) if cosine > 0 else np.diag([1.0, -1.0, -1.0])
    return exponential(axis / sine * np.arctan2(sine, cosine))


class Known:
    """The coordinates of points that are known exactly, for the search: (P, 3), NaN where
    unknown."""

    def __init__(self, values: Array) -> None:
        self.values = values
        self.where = np.argwhere(np.isfinite(values))

    def slopes(self, state: State, sigma: float, about: Array) -> tuple[Array, Array]:
        """Residuals (n,), one for each coordinate, and derivatives (n, 7) as `seven_slopes`."""
        point, axis = self.where.T
        off = (state.points[point, axis] - self.values[point, axis]) / sigma
        slope, away = np.eye(3)[axis], state.points[point] - about
        grows = away[np.arange(len(axis)), axis]
        jac = np.concatenate([slope, np.cross(away, slope), grows[:, None]], axis=1)
        return off, jac / sigma


@dataclass(frozen=True, eq=False)
class Guess:
    """A camera's index and its pose (4, 4) as one frame's marks alone have it."""

    camera: int
    pose: Array


def place(
    state: State,
    facts: PathFacts,
    known: Known,
    lens: Lens,
    begun: bool = False,
    guesses: Sequence[Guess] = (),
    robust: bool = False,
) -> Placed:
    """The path moved as a whole to where the facts say it is.

    state : State
        In any world; its points and cameras keep their relations.
    facts, known
        What is known. Exact coordinates count with a thousandth of the path's size while it is
        searched.
    lens : Lens
        For the facts' own unknowns.
    begun : bool
        Whether the state is about where it belongs already.
    guesses : sequence of Guess
        Poses of some cameras by themselves, to begin with.
    robust : bool
        Of a state that is about where it belongs: whether what contradicts most of the rest is to
        pull next to nothing.
    """
    start = state if begun else upright(state)
    start = replace(start, extra=np.zeros(facts.extra_count))
    if not facts.equations and not len(known.where):
        return Placed(upright(state), np.eye(7), 0.0)
    if begun:
        start = replace(start, extra=facts.begin(start, lens))
        if robust:
            return _robustly(start, facts, known, lens)
        return _refined(start, facts, known, lens, FINE_STEPS)
    places = _known_places(facts, known)
    by_rays = _by_rays(start, places)
    if by_rays is not None:
        by_rays = replace(by_rays, extra=facts.begin(by_rays, lens))
        return _refined(by_rays, facts, known, lens, most=0)
    surveyed = _onto_survey(start, places)
    begins = [_like(start, guess) for guess in guesses] or _headings(start)
    begins = [surveyed, *begins] if surveyed is not None else begins
    tried = []
    for begin in begins:
        with_extra = replace(begin, extra=facts.begin(begin, lens))
        tried.append(_refined(with_extra, facts, known, lens, COARSE_STEPS))
    # Facts about a floor and a line in it are the same upside down, to the last digit: then the
    # camera is more often upright than not.
    tried.sort(key=lambda placed: placed.chi2)
    upright_ones = [one for one in tried if _is_upright(one.state)]
    others = [one for one in tried if not _is_upright(one.state)]
    ready = [*upright_ones[:2], *others[:2]]
    fine = [_refined(one.state, facts, known, lens, FINE_STEPS) for one in ready]
    least = min(one.chi2 for one in fine)
    equal = [one for one in fine if one.chi2 <= least + SAME_CHI2 * (1 + least)]
    return min(equal, key=lambda one: (not _is_upright(one.state), one.chi2))


def _is_upright(state: State) -> bool:
    """Whether most cameras have their upper side up."""
    return bool(np.median(state.rotations[:, 1, 1]) > 0)


def _known_places(facts: PathFacts, known: Known) -> Array:
    """(P, 3) the coordinates of points that are known, exactly or with a ±; NaN where unknown."""
    places = known.values.copy()
    for equation in facts.equations:
        if isinstance(equation, PointCoordinate):
            places[equation.point, equation.axis] = equation.metres
    return places


def _by_rays(start: State, places: Array) -> State | None:
    """A path of next to no extent, laid where its first camera sees the known points (P, 3) in
    their directions, with these at their places; None for other paths, or too few points.

    How far such a path's points are it hardly knows, so a similarity that lays them onto their
    places would shrink it, or turn it round.
    """
    whole = np.isfinite(places).all(axis=1)
    if np.count_nonzero(whole) < LEAST_BY_RAYS:
        return None
    first, onto = start.positions[0], places[whole]
    away = start.points[whole] - first
    distances = np.linalg.norm(away, axis=1)
    extent = np.linalg.norm(start.positions - first, axis=1).max()
    if extent > SMALL_EXTENT * np.median(distances):
        return None
    if np.linalg.matrix_rank(onto - onto.mean(axis=0), 1e-2) < 2:
        return None
    pose = pose_of_rays(onto, away @ start.rotations[0])
    if pose is None:
        return None
    turn, place = pose
    scale = float(np.median(np.linalg.norm(onto - place, axis=1) / distances))
    laid = transformed(start, place - first, turn @ start.rotations[0].T, scale, first)
    points = laid.points.copy()
    points[whole] = onto
    return replace(laid, points=points)


def _onto_survey(start: State, places: Array) -> State | None:
    """The path laid onto the points whose place is known (P, 3), by least squares on these (Umeyama
    1991); None where they are too few, or on one line."""
    whole = np.isfinite(places).all(axis=1)
    if np.count_nonzero(whole) < 3:
        return None
    onto, points = places[whole], start.points[whole]
    middle, other = points.mean(axis=0), onto.mean(axis=0)
    left, sizes, right = np.linalg.svd((onto - other).T @ (points - middle))
    spread = ((points - middle) ** 2).sum()
    if sizes[1] < 1e-6 * max(sizes[0], 1e-300) or spread <= 0:
        return None
    signs = np.diag([1, 1, np.sign(np.linalg.det(left @ right))])
    scale = float((sizes * np.diag(signs)).sum() / spread)
    return transformed(start, other - middle, left @ signs @ right, max(scale, 1e-9), middle)


def _robustly(start: State, facts: PathFacts, known: Known, lens: Lens) -> Placed:
    """The path where most facts have it, begun where all of them do, and where known points do of
    which each in turn is left out; of a few, as one of many pulls little."""
    places = _known_places(facts, known)
    whole = np.flatnonzero(np.isfinite(places).all(axis=1))
    begins = [start]
    for point in whole.tolist() if len(whole) <= MOST_WITHOUT else ():
        others = places.copy()
        others[point] = np.nan
        laid = _onto_survey(start, others)
        begins += [laid] if laid is not None else []
    tried = []
    for begin in begins:
        one = replace(begin, extra=facts.begin(begin, lens))
        sigma = 1e-2 * size_of(one.points)
        usual = float(np.median(np.abs(_linearised(one, facts, known, sigma)[0])))
        tried.append(_refined(one, facts, known, lens, FINE_STEPS, max(usual, SOFT)))
    sigma = 1e-5 * size_of(start.points)
    left = [np.abs(_linearised(one.state, facts, known, sigma)[0]) for one in tried]
    soft = max(SOFT, min(float(np.median(each)) for each in left))
    cost = [np.log1p((each / soft) ** 2).sum() for each in left]
    return tried[int(np.argmin(cost))]


def _headings(start: State) -> list[State]:
    """An upright path turned by some angles about the vertical, and the same upside down."""
    out = []
    for flip in (np.eye(3), np.diag([1.0, -1.0, -1.0])):
        for heading in range(HEADINGS):
            turn = rotation_from_angles(2 * np.pi * heading / HEADINGS, 0, 0) @ flip
            out.append(transformed(start, np.zeros(3), turn, 1.0, start.positions[0]))
    return out


def _like(start: State, guess: Guess) -> State:
    """The path turned and shifted so that one camera has the pose of a guess; its size stays."""
    turn = guess.pose[:3, :3] @ start.rotations[guess.camera].T
    about = start.positions[guess.camera]
    return transformed(start, guess.pose[:3, 3] - about, turn, 1.0, about)


def _refined(
    state: State, facts: PathFacts, known: Known, lens: Lens, most: int, soft: float = np.inf
) -> Placed:
    """Levenberg–Marquardt on the seven; residuals beyond `soft` σ count less (`_softened`)."""
    damping, chi2 = 1e-3, np.inf
    for sigma_share in (1e-2, 1e-5):
        sigma = max(sigma_share * size_of(state.points), 1e-9)
        r, jac = _softened(*_linearised(state, facts, known, sigma), soft)
        chi2 = float(r @ r)
        for _ in range(most):
            normal, gradient = jac.T @ jac, jac.T @ r
            damped = normal + damping * np.diag(np.diag(normal) + 1e-9 * np.trace(normal) + 1e-30)
            step = -np.linalg.solve(damped, gradient)
            # What the facts leave open stays as it is, and doesn't go where rounding leads it.
            left = _open(jac)
            step -= left @ (left.T @ step)
            step[3:6] *= min(1.0, 0.5 / max(float(np.linalg.norm(step[3:6])), 1e-12))
            step[6] = np.clip(step[6], -1.0, 1.0)
            trial = _stepped(state, step)
            trial = replace(trial, extra=facts.begin(trial, lens))
            r2, jac2 = _softened(*_linearised(trial, facts, known, sigma), soft)
            new = float(r2 @ r2)
            if np.isfinite(new) and new <= chi2:
                small = chi2 - new <= 1e-10 * (1 + chi2)
                state, chi2, r, jac = trial, new, r2, jac2
                damping = max(damping / 5, 1e-12)
                if small:
                    break
            else:
                damping *= 5
                if damping > 1e8:
                    break
    return _of_usual_size(Placed(state, _open(jac), chi2))


def size_of(points: Array) -> float:
    """How large most of a set of points is, however far off some of them are."""
    if not len(points):
        return 1.0
    return 2 * float(np.median(np.linalg.norm(points - np.median(points, axis=0), axis=1)))


def _of_usual_size(placed: Placed) -> Placed:
    """A path whose size alone isn't set, made as large as others are: of a tiny one far from the
    origin digits would be lost."""
    state, left = placed.state, placed.open_
    if left.shape[1] != 1 or np.abs(left[:6]).max() > OPEN_SHARE or not len(state.points):
        return placed
    first = state.positions[0]
    away = float(np.median(np.linalg.norm(state.points - first, axis=1)))
    if 1 / USUAL < away < USUAL:
        return placed
    scaled = transformed(state, np.zeros(3), np.eye(3), 1 / max(away, 1e-12), first)
    return replace(placed, state=scaled)


def _stepped(state: State, step: Array) -> State:
    turn = exponential(step[3:6])
    return transformed(state, step[:3], turn, float(np.exp(step[6])), state.positions[0])


def _linearised(state: State, facts: PathFacts, known: Known, sigma: float) -> tuple[Array, Array]:
    """Residuals (M,) of everything known of place and size, and derivatives by the seven (M, 7)."""
    about, rows = state.positions[0], facts.placing_rows(state)
    jac = np.array([seven_slopes(row, state, about) for row in rows]).reshape(-1, 7)
    off, exact = known.slopes(state, sigma, about)
    return np.concatenate([[row.residual for row in rows], off]), np.concatenate([jac, exact])


def _softened(r: Array, jac: Array, soft: float) -> tuple[Array, Array]:
    """Residuals and derivatives whose squares grow as ln(1 + (r / soft)²), so that what is very far
    off pulls next to nothing (Cauchy's weights; Holland and Welsch 1977, cited from memory)."""
    if np.isinf(soft):
        return r, jac
    share = (r / soft) ** 2
    out = np.sign(r) * soft * np.sqrt(np.log1p(share))
    slope = np.where(share > 1e-12, r / (1 + share) / np.where(out == 0, 1.0, out), 1.0)
    return out, jac * slope[:, None]


def seven_slopes(row: Row, state: State, about: Array) -> Array:
    """(7,) the derivative of a row by shift, turn and ln scale about a place."""
    out = np.zeros(7)
    cameras = []
    if row.camera is not None and row.by_camera is not None:
        cameras = [(row.camera, row.by_camera)]
    for camera, by_camera in cameras + ([row.other] if row.other else []):
        rotation, away = state.rotations[camera], state.positions[camera] - about
        out[3:6] += rotation @ by_camera[:3]
        _add_place(out, by_camera[3:6], away)
    for point, slope in zip(row.points, row.by_points):
        _add_place(out, slope, state.points[point] - about)
    return out


def _add_place(out: Array, slope: Array, away: Array) -> None:
    out[:3] += slope
    # The cross product, written out: of three numbers it is ten times quicker than NumPy's.
    (x, y, z), (a, b, c) = away.tolist(), slope.tolist()
    out[3] += y * c - z * b
    out[4] += z * a - x * c
    out[5] += x * b - y * a
    out[6] += slope @ away


def _open(jac: Array) -> Array:
    """(7, k) basis of the directions in which the facts don't change."""
    if not len(jac):
        return np.eye(7)
    scale = np.maximum(np.linalg.norm(jac, axis=0), 1e-300)
    scale = np.maximum(scale, 1e-6 * scale.max())
    _, values, right = np.linalg.svd(jac / scale)
    strong = np.zeros(7, bool)
    strong[: len(values)] = values > OPEN_SHARE * max(values.max(), 1e-300)
    basis = right[~strong].T / scale[:, None]
    if not basis.shape[1]:
        return basis
    return np.linalg.qr(basis / np.abs(basis).max(axis=0))[0]


def held_parameters(placed: Placed, free: Array) -> Array:
    """(F, size) of bool: `free` less as many numbers of cameras as the facts leave open.

    Candidates are the first camera's turn and place, and the coordinate of the farthest camera
    along which it is farthest. Those are held that move most with what is open, one after the
    other, what the earlier ones hold taken out: the pivots of a QR decomposition.
    """
    state, free = placed.state, free.copy()
    if not placed.open_.shape[1]:
        return free
    away = np.abs(state.positions - state.positions[0])
    far, axis = np.unravel_index(np.argmax(away), away.shape)
    size = max(float(away.max()), 1e-12)
    candidates = [(0, index) for index in range(6)] + [(int(far), 3 + int(axis))]
    slopes = []
    for camera, index in candidates:
        by_camera = np.zeros(7)
        by_camera[index] = 1.0 if index < 3 else 1.0 / size
        row = Row(0.0, camera=camera, by_camera=by_camera)
        slopes.append(seven_slopes(row, state, state.positions[0]))
    # In units in which a turn by one radian, a shift by the path's size and a doubling weigh alike.
    units = np.array([size, size, size, 1, 1, 1, 1])
    basis = np.linalg.qr(placed.open_ / units[:, None])[0]
    moved = np.array(slopes) * units @ basis
    for _ in range(basis.shape[1]):
        lengths = np.linalg.norm(moved, axis=1)
        most = int(np.argmax(lengths))
        if lengths[most] < 1e-6:
            break
        camera, index = candidates[most]
        free[camera, index] = False
        direction = moved[most] / lengths[most]
        moved = moved - np.outer(moved @ direction, direction)
    return free
