"""The edge of a picture beside a drawn line: where it lies, how it bends, and how sure that is.

Profiles across the drawn line, in linear light, are averaged along it in blocks. The line through
the blocks along which the gradient is strongest is found first, then each block's place by fitting
a blurred step or ridge, then the line by reweighted least squares. Where the line crosses squares
of opposite contrast, the step's sign turns along it, and each block has a sign of its own.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.match.crossing import corners_along, crossing_places, turning_signs
from aperture.match.line_search import STEP, along_lines, strongest
from aperture.match.places import Places, plain_places
from aperture.match.sampling import SEARCH_PX, Sampler, noise_of, smoothed

WINDOW_PX = 3.0  # of the blurred step, each way
# Of a line's blocks, how many have to show the edge.
LEAST_GOOD = 0.5
# A bow is told where it is as large as this, and as many times its σ.
LEAST_SAG_PX = 0.1
# On a line that turns the corners bear witness too, which stray less than blocks of texture.
SAG_SIGMAS, TURNING_SAG_SIGMAS = 4.0, 3.0
LEAST_LENGTH_PX = 6.0
WIDEST_GAP_PX = 4.5  # two opposite steps nearer than this are the sides of one gap


@dataclass(frozen=True)
class EdgeLine:
    """An edge of the picture beside a drawn line.

    offset : ndarray, shape (2,), px along `normal` at both ends of the drawn line.
    sag : px, height of a parabola added to that; 0 where the edge is straight within its ±.
    covariance : ndarray, shape (3, 3), px², of the two offsets and the sag.
    turns, scatter : whether the step's sign turns along the line, and then by how far, px, the
        blocks lie to both sides of it.
    """

    ends: Array
    normal: Array
    offset: Array
    covariance: Array
    sag: float = 0.0
    turns: bool = False
    scatter: float = 0.0

    def variance(self, place: float) -> float:
        """px², of where the edge is found at `place`, 0 at its first end and 1 at its last."""
        weights = np.array([1 - place, place, bow(place)])
        return float(weights @ self.covariance @ weights)


def bow(place: Array | float) -> Array | float:
    """A parabola along a line, 0 to 1, of height 1 and without a mean."""
    return 4 * place * (1 - place) - 2 / 3


def find_line(sampler: Sampler, ends: Array, lossy: bool = False) -> EdgeLine:
    """The edge of the picture beside the line between two drawn ends (2, 2) px; `lossy`: of a movie
    whose codec leaves things out.

    Raises Problem, with a sentence, where there is none, or none that is straight.
    """
    along = ends[1] - ends[0]
    length = float(np.linalg.norm(along))
    if length < LEAST_LENGTH_PX:
        raise Problem("The edge is too short to be refined: draw at least 6 px of it.")
    normal = np.array([-along[1], along[0]]) / length
    at, offsets, profile, noise = _profiles(sampler, ends, along, normal, length)
    blocks = len(at)
    smooth = smoothed(profile, 1.0 / STEP)
    # The border of a surface is a step; a gap between planks or a painted line is a ridge, whose
    # middle is meant. Where a line crosses squares of opposite contrast it is a step that turns.
    found, gradient = [], np.gradient(smooth, STEP, axis=1)
    signs = turning_signs(along_lines(gradient, at, offsets))
    responses = [(STEP_MODEL, gradient if signs is None else gradient * signs[:, None])]
    if signs is None:
        responses.append((RIDGE_MODEL, smooth - smoothed(profile, 3.0 / STEP)))
    for model, response in responses:
        first, last, strength = strongest(response, at, offsets)
        if strength > 4 * noise / np.sqrt(blocks) and strength > 1e-4:
            centre = first + at * (last - first)
            found.append((*_blurred(profile, offsets, centre, noise, model), model, centre))
    if not found:
        raise Problem(
            "There is no edge here in the picture: nothing stands out from the noise. Leave it as "
            "it is, or widen its ±."
        )
    place, sigma, _, model, centre = max(found, key=lambda one: one[2])
    if signs is not None:
        corners = corners_along(sampler, ends, at, centre, signs)
        return _through(ends, normal, crossing_places(at, place, signs, corners), turns=True)
    if model is STEP_MODEL:
        place, sigma = _or_middle(profile, offsets, gradient, noise, (place, sigma, centre))
    return _through(ends, normal, plain_places(at, place, sigma, lossy), turns=False)


def _profiles(
    sampler: Sampler, ends: Array, along: Array, normal: Array, length: float
) -> tuple[Array, Array, Array, float]:
    """Blocks along a line: their places 0 … 1, the offsets across in px, the profiles, their
    noise."""
    count = int(np.clip(length, 12, 900))
    margin = min(0.04, 2 / length)
    place = np.linspace(margin, 1 - margin, count)
    reach = SEARCH_PX + WINDOW_PX + 1
    offsets = np.arange(-reach, reach + STEP / 2, STEP)
    profiles = sampler.at(ends[0] + place[:, None, None] * along + offsets[None, :, None] * normal)
    blocks = int(np.clip(length / 8, 4, 48))
    parts = np.array_split(np.arange(count), blocks)
    profile = np.array([profiles[part].mean(axis=0) for part in parts])
    at = np.array([place[part].mean() for part in parts])
    return at, offsets, profile, noise_of(profiles) / np.sqrt(count / blocks)


def _or_middle(
    profile: Array, offsets: Array, gradient: Array, noise: float, found: tuple[Array, Array, Array]
) -> tuple[Array, Array]:
    """The places of a step and their σ, or those of the middle of a gap that was drawn along it."""
    place, sigma, centre = found
    other = _other_side(gradient, offsets, centre)
    if other is None:
        return place, sigma
    far, far_sigma, _ = _blurred(profile, offsets, centre + other, noise, STEP_MODEL)
    middle = (place + far) / 2
    if not np.isfinite(middle).any():
        return place, sigma
    nearer = min(abs(np.nanmean(place)), abs(np.nanmean(far)))
    if abs(np.nanmean(middle)) < 0.6 * nearer:
        return middle, np.sqrt(sigma**2 + far_sigma**2) / 2
    return place, sigma


def _step(z: Array) -> tuple[Array, Array]:
    return 0.5 * (1 + _erf(z / math.sqrt(2))), np.exp(-z * z / 2) / math.sqrt(2 * math.pi)


def _ridge(z: Array) -> tuple[Array, Array]:
    value = np.exp(-z * z / 2)
    return value, -z * value


# Shape of a blurred step and of a blurred line: value and derivative by z = (u − u0) / s.
STEP_MODEL, RIDGE_MODEL = _step, _ridge


def _other_side(gradient: Array, offsets: Array, centre: Array) -> float | None:
    """How far beside a step its opposite lies, px, where the two are the sides of a narrow gap or
    line; None where there is none."""
    shifts = np.concatenate(
        [-np.arange(1.5, WIDEST_GAP_PX + 0.1, STEP), np.arange(1.5, WIDEST_GAP_PX + 0.1, STEP)]
    )

    def mean(shift: float) -> float:
        index = np.clip(
            np.round((centre + shift - offsets[0]) / STEP).astype(int), 0, len(offsets) - 1
        )
        return float(gradient[np.arange(len(gradient)), index].mean())

    here = mean(0.0)
    strengths = np.array([-mean(shift) * np.sign(here) for shift in shifts])
    return float(shifts[strengths.argmax()]) if strengths.max() > 0.6 * abs(here) else None


def _blurred(
    profile: Array, offsets: Array, centre: Array, noise: float, model: Callable[..., Any]
) -> tuple[Array, Array, float]:
    """Each block's place and its σ, px, NaN where it won't be found, and how much of the profile
    the model explains, on the whole.

    a + b · model((u − u0) / s), by Gauss–Newton on the samples near where the line passes.
    """
    half = int(WINDOW_PX / STEP)
    middle = np.clip(
        np.round((centre - offsets[0]) / STEP).astype(int), half, len(offsets) - half - 1
    )
    index = middle[:, None] + np.arange(-half, half + 1)
    u, value = offsets[index], np.take_along_axis(profile, index, 1)
    u0, spread = centre.copy(), np.full(len(profile), 1.0)
    weight = np.exp(-((u - centre[:, None]) ** 2) / (2 * 2.0**2))
    for _ in range(12):
        z = (u - u0[:, None]) / spread[:, None]
        shape, slope = model(z)
        linear = np.stack([np.ones_like(shape), shape], -1)
        # Base and height follow from place and blur.
        (base, height), _ = _weighted(linear, weight, value, 0.0, 1e-15)
        residual = value - base[:, None] - height[:, None] * shape
        by_place = -height[:, None] * slope / spread[:, None]
        jac = np.stack([by_place, by_place * z, linear[..., 0], shape], -1)
        (by, wider, _, _), normal = _weighted(jac, weight, residual, 1e-9, 1e-18)
        u0 = u0 + np.clip(by, -0.5, 0.5)
        spread = np.clip(spread + np.clip(wider, -0.3, 0.3), 0.35, 3.0)
    left = (weight * residual**2).sum(axis=1)
    mean = (weight * value).sum(axis=1) / weight.sum(axis=1)
    explained = (weight * (value - mean[:, None]) ** 2).sum(axis=1) - left
    # Samples lie closer than pixels: neighbours are not independent.
    variance = (
        np.linalg.inv(normal)[:, 0, 0]
        * np.maximum(np.sqrt(left / weight.sum(axis=1)), noise) ** 2
        / STEP
    )
    bad = (np.abs(u0 - centre) > 2.5) | ~np.isfinite(variance) | (np.abs(height) < 3 * noise)
    return (
        np.where(bad, np.nan, u0),
        np.sqrt(np.where(bad, np.nan, variance)),
        float(np.where(bad, 0, explained).sum()),
    )


def _weighted(
    columns: Array, weight: Array, value: Array, relative: float, least: float
) -> tuple[Array, Array]:
    """The weighted least-squares solutions (P, B) of B blocks with columns (B, N, P), and their
    normal matrices (B, P, P).

    The matrices are damped by a share of their trace (`relative`), and by `least`.
    """
    eye = np.eye(columns.shape[2])
    normal = np.einsum("bni,bn,bnj->bij", columns, weight, columns)
    normal += relative * eye * np.trace(normal, axis1=1, axis2=2)[:, None, None] + least * eye
    right = np.einsum("bni,bn,bn->bi", columns, weight, value)
    return np.linalg.solve(normal, right[..., None])[..., 0].T, normal


def _through(ends: Array, normal: Array, places: Places, turns: bool) -> EdgeLine:
    """The line through the places found along it, by reweighted least squares."""
    at, good = places.at, places.good
    if good.sum() < max(3, LEAST_GOOD * len(good)):
        raise Problem(
            "The picture has no clear edge along most of this line. Draw it along one straight "
            "edge, or leave it as it is."
        )
    straight, bent = [1 - at, at], [bow(at)]
    # Light spreads from the bright side to the dark one, and a transfer curve that isn't quite the
    # plate's shifts a step likewise: by as much, to the other side, where the step turns. It
    # changes along a line that comes nearer, as the blur and the squares do.
    shift = [places.sign, places.sign * (2 * at - 1)] if turns else []
    design = np.stack([*straight, *bent, *shift], -1)
    solution, w, kept, scale = _reweighted(design, places.offset, places.weight, good)
    if kept.sum() < max(3, LEAST_GOOD * good.sum()):
        raise Problem(
            "The edges found along this line don't lie on one straight line. Draw a shorter piece, "
            "or leave it as it is."
        )
    covariance = _scattered_covariance(design, places, w)
    sag, sag_sigma = float(solution[2]), math.sqrt(covariance[2, 2])
    # A bow is believed only of a clean line.
    untidy = kept.sum() < 0.8 * good.sum() or scale > 0.3
    sigmas = TURNING_SAG_SIGMAS if turns else SAG_SIGMAS
    if untidy or abs(sag) < sigmas * sag_sigma or abs(sag) < LEAST_SAG_PX:
        design, sag = np.stack([*straight, *shift], -1), 0.0
        root = np.sqrt(w)
        solution = np.linalg.lstsq(design * root[:, None], places.offset * root, rcond=None)[0]
        covariance = np.zeros((3, 3))
        covariance[:2, :2] = _scattered_covariance(design, places, w)[:2, :2]
    scatter = float(np.hypot(abs(solution[-2]), scale)) if turns else 0.0
    return EdgeLine(ends, normal, solution[:2], covariance[:3, :3], sag, turns, scatter)


def _reweighted(
    design: Array, value: Array, weight: Array, good: Array
) -> tuple[Array, Array, Array, float]:
    """Solution, final weights, which places were kept, and the scatter of the residuals, px."""
    robust = np.ones(len(value))
    for _ in range(12):
        root = np.sqrt(weight * robust)
        solution = np.linalg.lstsq(design * root[:, None], value * root, rcond=None)[0]
        residual = value - design @ solution
        scale = max(1.4826 * float(np.median(np.abs(residual[good]))), 0.01)
        robust = np.maximum(0, 1 - (residual / (4.7 * scale)) ** 2) ** 2 * good  # Tukey's biweight
    return solution, weight * robust, good & (robust > 0.1), scale


def _scattered_covariance(design: Array, places: Places, weight: Array) -> Array:
    """Covariance of the solution: from the places' σ, or from their scatter where that is larger.

    The places of one group err together, as the blocks of one square or of one patch of texture
    do: of `m` places in a group, all but one say nothing new (the design effect of cluster samples
    with full correlation; Kish 1965, cited from memory).
    """
    columns = design.shape[1]
    inverse = np.linalg.inv(design.T @ (design * weight[:, None]) + 1e-12 * np.eye(columns))
    solution = inverse @ (design.T @ (weight * places.offset))
    square = float((weight * (places.offset - design @ solution) ** 2).sum())
    used = weight > 0
    together = used.sum() / len(np.unique(places.group[used]))
    freedom = max(used.sum() / together - columns, 1)
    return inverse * max(1.0, square / freedom)


def _erf(x: Array) -> Array:
    """The error function; Abramowitz & Stegun 1964, 7.1.26, within 1.5e-7, which no pixel
    resolves."""
    t = 1 / (1 + 0.3275911 * np.abs(x))
    poly = t * (
        0.254829592 + t * (-0.284496736 + t * (1.421413741 + t * (-1.453152027 + t * 1.061405429)))
    )
    return np.sign(x) * (1 - poly * np.exp(-x * x))
