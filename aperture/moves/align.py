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
from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.arrays import Array, ArrayLike
from aperture.errors import Problem
from aperture.match.statistics import chi2_tail
from aperture.moves.align_search import (
    LEAST_M,
    LEAST_TANGENT,
    PARAMETERS,
    PLACE,
    PUPIL,
    SCALE,
    TURN,
    Pair,
    Place,
    Reference,
    Sighting,
    System,
    Wanted,
    begins,
    descend,
    system_of,
    umeyama,
)

__all__ = [
    "MOST_REFERENCES",
    "Alignment",
    "Pair",
    "Reference",
    "Residual",
    "Sighting",
    "Wanted",
    "align",
    "umeyama",
]

MOST_REFERENCES = 200
MISFIT = 0.01  # as for a match: a sum of squares rarer than this widens the ±
# A turn or a share of the scale known worse than this isn't known; a place, metres.
VAGUE_TURN, VAGUE_SCALE, VAGUE_M = np.radians(2.0), 0.05, 0.25
NULL_SHARE = 1e-9
ALIKE = 0.99  # cosine of two directions that are called one
# Another place counts as a rival if it fits about as well: χ² larger by less, turned by more.
RIVAL_CHI2, RIVAL_TURN = 6.0, np.radians(3.0)
RIGID = Wanted()


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


def align(
    references: Sequence[Reference],
    wanted: Wanted = RIGID,
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
    system = system_of(references, wanted, np.asarray(centre, float))
    ends = [end for one in begins(system, begin) if (end := descend(system, one)) is not None]
    if not ends:
        raise Problem(
            "No place of the move has all sighted points in front of the camera. Look at the frames"
            " and the points of the sightings."
        )
    ends.sort(key=lambda end: end[1])
    return _report(system, ends)


def _spread(jac: Array, free: Array, wide: float) -> tuple[Array, Array]:
    """The covariance (P, P) of the place, all variances times `wide`, and the directions (k, P) in
    which nothing holds it; from the Jacobian (M, N) and what is free (N,)."""
    own = jac[:, free]
    size = np.linalg.norm(own, axis=0)
    safe = np.where(size > 0, size, 1.0)
    _, weights, axes = np.linalg.svd(own / safe, full_matrices=True)
    weights = np.append(weights, np.zeros(axes.shape[0] - len(weights)))
    known = weights > NULL_SHARE * weights.max()
    scaled = axes[known] / safe
    within = (scaled / weights[known][:, None] ** 2).T @ scaled * wide
    covariance = np.zeros((PARAMETERS, PARAMETERS))
    head = np.flatnonzero(free[:PARAMETERS])
    covariance[np.ix_(head, head)] = within[: len(head), : len(head)]
    null = (axes[~known] / safe)[:, : len(head)]
    open_ = np.zeros((len(null), PARAMETERS))
    open_[:, head] = null
    return covariance, open_


def _report(system: System, ends: list[tuple[Place, float, Array, Array]]) -> Alignment:
    at, chi2, r, jac = ends[0]
    free = system.free()
    freedom = max(len(r) - int(free.sum()), 0)
    # Where the sum of squares is larger than chance makes it, the ± are wider than they were said.
    wide = chi2 / freedom if freedom and chi2_tail(chi2, freedom) < MISFIT else 1.0
    covariance, open_ = _spread(jac, free, max(wide, 1.0))
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


def _residuals(system: System, at: Place, r: Array) -> tuple[Residual, ...]:
    """Of each reference against the measured place of its point; the σ holds both ±."""
    measured = System(
        system.references,
        system.wanted,
        system.centre,
        system.known,
        np.zeros(len(system.known)),
        system.which,
    )
    now = measured.evaluate(Place(at.middle, at.turn, at.log_scale, at.pupil, system.known))
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


def _says(system: System, at: Place, direction: Array) -> str:
    """What an undetermined direction of the eight numbers is, in words."""
    turn, place = direction[TURN], direction[PLACE]
    if abs(direction[PUPIL]) > 0.7:
        return "Where the entrance pupil is before the rig’s axis isn’t determined."
    if np.linalg.norm(turn) > 0.05:
        return f"The turn about {_line(system, at, turn)} isn’t determined."
    if abs(direction[SCALE]) > 0.05:
        return "The size isn’t determined: two references far apart would tell it."
    return f"Where the move stands {_along(place)} isn’t determined."


def _vague(system: System, at: Place, covariance: Array) -> list[str]:
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


def _line(system: System, at: Place, axis: Array) -> str:
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
