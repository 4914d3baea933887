"""First guesses for the refinement: from the edges' directions, from spots known in the world, or
by trying many."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from copy import copy
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from aperture.arrays import Array
from aperture.geometry.rotation import exponential
from aperture.lens import distortion
from aperture.lens.lens import Lens
from aperture.lens.projections import radius_at
from aperture.match import line_equations
from aperture.match.facts import AngleOfView, CameraAngle, FocalLength, FocalRange
from aperture.match.initial_position import with_position
from aperture.match.least_squares import minimise
from aperture.match.system import State, System

if TYPE_CHECKING:
    pass

# A ray within 84° of the view's middle has a place on a picture plane that is not too far out.
LEAST_FORWARD = 0.1
# Focal lengths to try, as shares of the gate's longer side: a 5 mm to a 400 mm lens on 36 mm.
FOCAL_SHARES = np.geomspace(0.14, 11, 18)

# Half turns about the world's axes, which no edge can tell from each other.
FLIPS = np.array([(1, 1, 1), (1, -1, -1), (-1, 1, -1), (-1, -1, 1)])
# Iterations of each heat of guesses, and how many of them go on.
HEATS = ((2, 12), (4, 3))


def candidates(system: System) -> Iterator[Iterable[State]]:
    """Groups of first guesses, the most promising group first; within a group, those that agree on
    the drawn edges. Made as they are asked for."""
    none, scored = True, _by_edges(system)
    for _, facings, lens in scored[:1] + scored[2:5:2]:
        none = False
        yield _placed(system, facings, lens)
    for group in _from_known_spots(system):
        none = False
        yield group
    if none and system.evidence.bows and not (system.evidence.edges or system.spots):
        yield [
            system.state(np.eye(3), system.lens_with_focal(focal)) for focal in _focals(system)[:1]
        ]


def farther(system: System) -> Iterator[State]:
    """First guesses where none of `candidates` led anywhere: edges that hardly converge mislead
    about the lens.

    Every length is tried a short way, in HEATS, and the best of the last are given.
    """
    racing = [
        start
        for _, facings, lens in _by_edges(system)
        for start in _placed(system, facings[:2], lens)
    ]
    for steps, kept in HEATS:
        ends = [end for start in racing if (end := minimise(system, start, most=steps)) is not None]
        ends.sort(key=lambda end: end.chi2)
        racing = [end.state for end in ends[:kept]]
    yield from racing


def _by_edges(system: System) -> list[tuple[Any, ...]]:
    """For each focal length (cost in σ², rotations, lens) as the edges and what is told want them,
    the best first; nothing where there are too few."""
    counts = (
        np.bincount(system.edge_axes, minlength=3) if len(system.edge_axes) else np.zeros(3, int)
    )
    if not ((counts >= 2).any() and (counts >= 1).sum() >= 2 and counts.sum() >= 3):
        return []
    scored, bend = [], bend_of_lines(system)
    straight = _straightened(system, bend)  # once for all focal lengths
    drawn = system.line_starts[len(system.evidence.edges)]
    for focal in _focals(system):
        lens = system.lens_with_focal(focal)
        rays, by_mm, _, _ = lens.ray_derivatives(straight.line_mm[:drawn])
        rotation = _rotation_from_edges(system, rays, counts)
        if rotation is not None:
            facings = _facings(system, rotation, lens)
            cost = line_equations.edge_cost(
                rays,
                by_mm,
                (system.line_of_point[:drawn], system.line_sigma[:drawn]),
                system.edge_axes,
                rotation,
                system.linear,
            )
            told = _told(system, facings[0], lens)
            scored.append((cost + told, facings, _bent(system, focal, bend)))
    return sorted(scored, key=lambda item: item[0])


def lines_tell_bend(system: System) -> bool:
    """Whether k1 is free and there are lines of three points or more, which tell it whatever else
    may be."""
    return 0 in system.evidence.free_coefficients and bool((np.diff(system.line_starts) > 2).any())


def bend_of_lines(system: System) -> float:
    """k1, for a focal length of half the gate's diagonal, that straightens edges and bows best,
    nothing else known; 0 where it isn't free or they don't tell.

    Lines straight in space have to be straight in the picture (Brown 1971); for another focal
    length it grows with that length's square.
    """
    if not lines_tell_bend(system):
        return 0.0
    evidence, counts = system.evidence, np.diff(system.line_starts)
    lens = system.lens_with_focal(np.hypot(*system.grid.gate_mm) / 2)
    flat = (system.line_mm - lens.centre_mm) / lens.scale_mm
    weights = (
        system.grid.mm_per_px[1]
        / lens.scale_mm[1]
        * np.array([line.sigma_px for line in evidence.edges + evidence.bows])
    ) ** -2.0
    use = np.flatnonzero(counts > 2)

    def crooked(k1: float) -> float:
        straight = distortion.undistort(flat, (k1, 0.0, 0.0, 0.0, 0.0))
        if not np.isfinite(straight).all():
            return np.inf
        sums = np.add.reduceat(
            np.concatenate([straight, straight**2, straight[:, :1] * straight[:, 1:]], axis=1),
            system.line_starts[:-1],
        )[use]
        mean = sums[:, :2] / counts[use, None]
        xx, yy = (sums[:, 2:4] - mean * sums[:, :2]).T
        xy = sums[:, 4] - mean[:, 0] * sums[:, 1]
        return float(
            (weights[use] * ((xx + yy) / 2 - np.hypot((xx - yy) / 2, xy))).sum()
        )  # the smaller eigenvalue of the points' scatter

    as_drawn = crooked(0.0)
    best, least = 0.0, as_drawn
    for step in (0.16, 0.08, 0.04, 0.02, 0.01):  # one valley: by halves
        for value in (best - step, best + step):
            if (cost := crooked(value)) < least:
                best, least = value, cost
    return best if least < 0.9 * as_drawn else 0.0


def _straightened(system: System, bend: float) -> System:
    """The system with its lines drawn as a lens without that bend would show them."""
    if not bend:
        return system
    lens = _bent(system, np.hypot(*system.grid.gate_mm) / 2, bend)
    straight = copy(system)
    straight.line_mm = (
        distortion.undistort((system.line_mm - lens.centre_mm) / lens.scale_mm, lens.coefficients)
        * lens.scale_mm
        + lens.centre_mm
    )
    return straight


def _bent(system: System, focal: float, bend: float) -> Lens:
    """The lens at a focal length with as much bend as the lines have."""
    lens = system.lens_with_focal(focal)
    if not bend:
        return lens
    k1 = bend * (lens.focal_mm / (np.hypot(*system.grid.gate_mm) / 2)) ** 2
    return replace(lens, coefficients=(k1, *lens.coefficients[1:]))


def _placed(system: System, rotations: list[Array], lens: Lens) -> Iterator[State]:
    """States of several rotations and one lens, where a position can be had."""
    for rotation in rotations:
        if state := with_position(system, rotation, lens):
            yield state


def scattered(system: System, tries: int = 48) -> list[State]:
    """Guesses all over, for evidence that gives no closed form. Always the same ones: a fit depends
    on its document alone."""
    rng = np.random.default_rng(20260101)
    out = []
    focals = _focals(system)
    focals = focals[[len(focals) // 4, len(focals) // 2]] if len(focals) > 2 else focals[:1]
    for _ in range(tries):
        q = rng.normal(size=4)
        w, x, y, z = q / np.linalg.norm(q)
        rotation = exponential(
            2
            * np.arctan2(np.linalg.norm([x, y, z]), w)
            * np.array([x, y, z])
            / max(np.linalg.norm([x, y, z]), 1e-12)
        )
        for focal in focals:
            state = with_position(system, rotation, system.lens_with_focal(float(focal)))
            if state is not None:
                out.append(state)
    return out


def _focals(system: System) -> Array:
    focal, (width, height) = (
        system.evidence.focal,
        system.grid.shown_gate_mm(system.evidence.squeeze),
    )
    if focal and 0 not in system.free_lens:
        return np.array([focal.mm])
    known = [focal.mm] if focal else []
    for fact in system.evidence.facts:
        if isinstance(fact, AngleOfView):
            side = (width, height, np.hypot(width, height))[fact.basis]
            known.append(side / 2 / radius_at(system.evidence.projection, fact.radians / 2))
        elif isinstance(fact, FocalRange):
            known.append(np.sqrt(fact.mm * fact.longest_mm))
    return np.array(
        [*(f for f in known if np.isfinite(f) and f > 0), *(FOCAL_SHARES * max(width, height))]
    )


def _rotation_from_edges(system: System, rays: Array, counts: Array) -> Array | None:
    """World-from-camera rotation whose axes agree best with the edges, signs left open; None where
    it can't be had.

    rays: (N, 3) of the edges' points.
    """
    if not np.isfinite(rays).all():
        return None
    rays = rays / np.sqrt(np.einsum("ni,ni->n", rays, rays))[:, None]
    planes = system.plane_normals(
        rays
    )  # its length, the sine of the angle the edge spans, weighs each
    axes, strength = np.zeros((3, 3)), np.zeros(3)
    scatter = np.zeros((3, 3, 3))
    np.add.at(scatter, system.edge_axes, planes[:, :, None] * planes[:, None, :])
    squares, directions = np.linalg.eigh(scatter)
    for axis in np.flatnonzero(counts >= 2):
        axes[axis] = directions[axis, :, 0]
        strength[axis] = math.sqrt(max(squares[axis, 1], 0.0))
    single = np.flatnonzero(counts == 1)
    for axis in single:
        other = int(np.argmax(strength))
        direction = np.cross(axes[other], planes[system.edge_axes == axis][0])
        length = np.linalg.norm(direction)
        if length > 1e-9:
            axes[axis], strength[axis] = direction / length, strength[other] * 0.3
    have = np.flatnonzero(strength > 0)
    if len(have) < 2:
        return None
    # Signs first, so that the three are near a right-handed frame; then the nearest rotation.
    if len(have) == 2:
        a, b = have
        third = 3 - a - b
        axes[third] = np.cross(axes[(third + 1) % 3], axes[(third + 2) % 3])
        strength[third] = strength[have].min()
    elif np.linalg.det(axes) < 0:
        axes = -axes
    u, _, vt = np.linalg.svd(axes * np.maximum(strength, 1e-6)[:, None])
    u[:, 2] *= np.linalg.det(u @ vt)
    return u @ vt  # rows are the world's axes in camera space: world from camera


def _told(system: System, rotation: Array, lens: Lens) -> float:
    """What the facts about direction and lens have against a guess, in σ²."""
    state = State(rotation, np.zeros(3), lens, np.zeros(0), np.zeros((0, 3)), np.zeros(0))
    told = [
        fact
        for fact in system.evidence.facts
        if isinstance(fact, (CameraAngle, AngleOfView, FocalLength))
    ]
    misses = [
        (value - fact.wanted(value)) / fact.plus_minus
        for fact in told
        if np.isfinite(value := fact.value(system, state, None))
    ]
    return float(np.sum(np.square(misses)))


def _facings(system: System, rotation: Array, lens: Lens) -> list[Array]:
    """The four rotations that agree with the same edges.

    First those that the facts about the direction allow; of them, the one with up upward and across
    to the right in the picture.
    """
    turned = list(FLIPS[:, :, None] * rotation)
    against = (
        [_told(system, r, lens) for r in turned]
        if any(isinstance(fact, CameraAngle) for fact in system.evidence.facts)
        else [0.0] * 4
    )
    return [
        r
        for _, r in sorted(
            zip(against, turned),
            key=lambda item: (
                item[0] > 4 * min(against) + 100,
                item[1][1, 1] < 0,
                item[1][0, 0] < 0,
            ),
        )
    ]


def _from_known_spots(system: System) -> list[Iterator[Any]]:
    """Poses from four or more spots with all coordinates known, by OpenCV's SQPnP (Terzakis &
    Lourakis 2020) over the focal lengths."""
    full = [index for index in range(len(system.spots)) if system.held[index].all()]
    if len(full) < 4:
        return []
    world, at = system.guess[full], system.spot_at[full]
    scored = []
    for focal in _focals(system):
        lens = system.lens_with_focal(float(focal))
        rays = lens.rays(system.grid.to_mm(at))
        pose = pose_of_rays(world, rays) if np.isfinite(rays).all() else None
        if pose is None:
            continue
        rotation, position = pose
        miss = lens.project((world - position) @ rotation)
        # A spot that the guess doesn't see at all costs as much as one at the other end.
        off = np.nan_to_num(np.linalg.norm(system.grid.to_px(miss) - at, axis=1), nan=1e4)
        scored.append((np.sum(np.minimum(off, 1e4) ** 2), rotation, lens, position))
    scored.sort(key=lambda item: item[0])
    return [
        _with_values(system, rotation, lens, position) for _, rotation, lens, position in scored[:3]
    ]


def pose_of_rays(world: Array, rays: Array) -> tuple[Array, Array] | None:
    """World-from-camera rotation (3, 3) and position (3,) from points (N, 3) and their rays (N, 3);
    None where no pose has all of them before the camera.

    SQPnP, and EPnP, as the first now and then has some of four points behind the camera. They want
    points of a picture plane. A fisheye sees beyond 90° from its axis, so the plane is put across
    the middle of the rays; those that still don't reach it take no part.
    """
    import cv2

    unit = rays / np.linalg.norm(rays, axis=1, keepdims=True)
    turn = np.eye(3)
    if (unit[:, 2] > -LEAST_FORWARD).any():
        turn = _toward(unit.mean(axis=0))
    seen = unit @ turn
    ahead = seen[:, 2] < -LEAST_FORWARD
    if ahead.sum() < 4:
        return None
    flat = np.stack([seen[:, 0] / -seen[:, 2], -seen[:, 1] / -seen[:, 2]], -1)[ahead]
    poses: list[tuple[float, Array, Array]] = []
    for flags in (cv2.SOLVEPNP_SQPNP, cv2.SOLVEPNP_EPNP):
        try:
            _, vectors, shifts, errors = cv2.solvePnPGeneric(
                world[ahead], flat, np.eye(3), None, flags=flags
            )
        except cv2.error:
            continue
        for vector, shift, error in zip(vectors, shifts, np.ravel(errors).tolist()):
            cv_from_world = cv2.Rodrigues(vector)[0]
            if ((world[ahead] @ cv_from_world[2] + shift[2]) > 0).all():
                poses.append((error, cv_from_world, shift.ravel()))
        if poses:
            break
    if not poses:
        return None
    _, cv_from_world, shift = min(poses, key=lambda pose: pose[0])
    rotation = (np.diag([1.0, -1.0, -1.0]) @ cv_from_world).T @ turn.T
    return rotation, -(cv_from_world.T @ shift)


def _toward(direction: Array) -> Array:
    """A rotation (3, 3) that turns a camera's view, −Z, toward `direction` (3,)."""
    back = -direction / max(np.linalg.norm(direction), 1e-12)
    helper = np.eye(3)[np.abs(back).argmin()]
    right = np.cross(helper, back)
    right /= np.linalg.norm(right)
    return np.stack([right, np.cross(back, right), back], axis=1)


def _with_values(system: System, rotation: Array, lens: Lens, position: Array) -> Iterator[State]:
    """One state at a pose from known spots, the unknown coordinates as they agree best with it."""
    base = with_position(system, rotation, lens)
    yield system.state(
        rotation, lens, position, base.values if base is not None else np.zeros(system.value_count)
    )
