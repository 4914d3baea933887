"""Refine a drawn mark to the picture's gradient, at sub-pixel accuracy, with a σ from what blur, noise and texture left of it.

Edges: profiles across the drawn line, in linear light, are averaged along it in blocks; the line through them along which the gradient is
strongest is found first, then each block's place by fitting a blurred step, then the line by reweighted least squares. Spots: the point
that all gradient lines pass through (a corner) or that all gradients point at (a round mark), after Förstner & Gülch (1987), "A fast
operator for detection and precise location of distinct points, corners and centres of circular features"; cited from memory.
"""

import math
from dataclasses import dataclass

import numpy as np

from aperture.errors import Problem
from aperture.plates.colour import luminance

SEARCH_PX = 5.0  # how far from the drawn line the edge is looked for
STEP = 0.5
LEAST_SIGMA_PX = 0.02
WINDOW_PX = 3.0  # of the blurred step, each way
SPOT_PX = 7
WIDEST_GAP_PX = 4.5  # two opposite steps nearer than this are the sides of one gap


@dataclass(frozen=True)
class Refined:
    """points: (N, 2) px; `moved`: by how far, px, at most; `bent`: by how far the edge bows from its chord, px, 0 where it is straight within its ±."""

    points: np.ndarray
    sigma_px: float
    moved: float
    bent: float = 0.0


class Sampler:
    """Linear luminance at any position of a picture (H, W, 3) uint8, which may be memory-mapped: only what is looked at is read."""

    def __init__(self, pixels):
        self.pixels = pixels

    def at(self, points) -> np.ndarray:
        """Values (…) at positions (…, 2) px, cubically interpolated; the nearest border pixel outside."""
        import cv2

        points = np.asarray(points, float)
        height, width = self.pixels.shape[:2]
        low = np.maximum(np.floor(points.reshape(-1, 2).min(axis=0)).astype(int) - 4, 0)
        high = np.minimum(np.ceil(points.reshape(-1, 2).max(axis=0)).astype(int) + 4, (width, height))
        if (low >= high).any():
            raise Problem("That lies outside the picture.")
        part = luminance(np.asarray(self.pixels[low[1]:high[1], low[0]:high[0]]))
        # OpenCV counts from the first pixel's centre.
        local = (points - low - 0.5).astype(np.float32)
        flat = local.reshape(-1, 2)
        out = np.empty(len(flat), np.float32)
        for start in range(0, len(flat), 30000):  # remap takes pictures of less than 32768 rows
            piece = flat[start:start + 30000]
            out[start:start + 30000] = cv2.remap(part, piece[:, None, 0], piece[:, None, 1], cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)[:, 0]
        return out.reshape(points.shape[:-1]).astype(float)


def refine_edge(pixels, points) -> Refined:
    """Refine the line through drawn points (N, 2) px: as a whole where it has two points, at each of its points where it has more.

    Raises Problem, with a sentence, where the picture has no edge there.
    """
    sampler, points = Sampler(pixels), np.asarray(points, float)
    if len(points) == 2:
        return _whole_line(sampler, points)
    gaps = np.linalg.norm(np.diff(points, axis=0), axis=1)
    out, variances = points.copy(), []
    for index in range(len(points)):
        before, after = points[max(index - 1, 0)], points[min(index + 1, len(points) - 1)]
        direction = (after - before) / max(np.linalg.norm(after - before), 1e-12)
        reach = float(np.clip(0.4 * min(gaps[max(index - 1, 0)], gaps[min(index, len(gaps) - 1)]), 6, 40))
        first = reach if index == len(points) - 1 else 0 if index == 0 else reach / 2  # the ends look inward only
        ends = points[index] + np.array([-first, reach - first if index else reach])[:, None] * direction
        try:
            line = _line(sampler, ends)
        except Problem:
            continue
        place = first / reach
        out[index] = points[index] + line.normal * (line.offset[0] + place * (line.offset[1] - line.offset[0]))
        variances.append(line.variance(place))
    if len(variances) < max(2, 0.6 * len(points)):
        raise Problem(f"Only {len(variances)} of {len(points)} points lie on an edge of the picture. Draw it closer, or leave it as it is.")
    return Refined(out, max(LEAST_SIGMA_PX, float(np.sqrt(np.median(variances)))), float(np.linalg.norm(out - points, axis=1).max()))


@dataclass(frozen=True)
class _Line:
    """offset: px along `normal` at both ends of the drawn line; covariance (2, 2) of the two; `sag`, `sag_sigma`: of a parabola through the blocks."""

    ends: np.ndarray
    normal: np.ndarray
    offset: np.ndarray
    covariance: np.ndarray
    sag: float = 0.0
    sag_sigma: float = math.inf

    def variance(self, place):
        weights = np.array([1 - place, place])
        return float(weights @ self.covariance @ weights)


def _whole_line(sampler, ends):
    line = _line(sampler, ends)
    line = _line(sampler, line.ends + line.offset[:, None] * line.normal)  # along itself the profiles are sharper
    found = line.ends + line.offset[:, None] * line.normal
    sigma = max(LEAST_SIGMA_PX, float(np.sqrt(np.diag(line.covariance).mean())))
    moved = float(np.abs((found - ends) @ line.normal).max())
    if abs(line.sag) > 0.3 and abs(line.sag) > 5 * line.sag_sigma:
        at = np.linspace(0, 1, 5)
        bent = found[0] + at[:, None] * (found[1] - found[0]) + ((4 * at * (1 - at) - 2 / 3) * line.sag)[:, None] * line.normal
        return Refined(bent, max(sigma, line.sag_sigma), moved, abs(line.sag))
    return Refined(found, sigma, moved)


def _line(sampler, ends) -> _Line:
    along = ends[1] - ends[0]
    length = float(np.linalg.norm(along))
    if length < 6:
        raise Problem("The edge is too short to be refined: draw at least 6 px of it.")
    normal = np.array([-along[1], along[0]]) / length
    count = int(np.clip(length, 12, 900))
    margin = min(0.04, 2 / length)
    place = np.linspace(margin, 1 - margin, count)
    offsets = np.arange(-SEARCH_PX - WINDOW_PX - 1, SEARCH_PX + WINDOW_PX + 1 + STEP / 2, STEP)
    profiles = sampler.at(ends[0] + place[:, None, None] * along + offsets[None, :, None] * normal)
    blocks = int(np.clip(length / 8, 4, 48))
    parts = np.array_split(np.arange(count), blocks)
    profile = np.array([profiles[part].mean(axis=0) for part in parts])
    at = np.array([place[part].mean() for part in parts])
    noise = _noise(profiles) / np.sqrt(count / blocks)
    smooth = _smoothed(profile, 1.0 / STEP)
    # The border of a surface is a step; a gap between planks or a painted line is a ridge, whose middle is meant.
    found, gradient = [], np.gradient(smooth, STEP, axis=1)
    for model, response in ((STEP_MODEL, gradient), (RIDGE_MODEL, smooth - _smoothed(profile, 3.0 / STEP))):
        first, last, strength = _strongest(response, at, offsets)
        if strength > 4 * noise / np.sqrt(blocks) and strength > 1e-4:
            centre = first + at * (last - first)
            found.append((*_blurred(profile, offsets, centre, noise, model), model, centre))
    if not found:
        raise Problem("There is no edge here in the picture: nothing stands out from the noise. Leave it as it is, or widen its ±.")
    place, sigma, _, model, centre = max(found, key=lambda one: one[2])
    if model is STEP_MODEL and (other := _other_side(gradient, offsets, centre)) is not None:
        far, far_sigma, _ = _blurred(profile, offsets, centre + other, noise, model)
        middle = (place + far) / 2
        if abs(np.nanmean(middle)) < 0.6 * min(abs(np.nanmean(place)), abs(np.nanmean(far))):  # it was drawn along the middle
            place, sigma = middle, np.sqrt(sigma**2 + far_sigma**2) / 2
    return _through(ends, normal, at, place, sigma, blocks)


def _step(z):
    return 0.5 * (1 + _erf(z / math.sqrt(2))), np.exp(-z * z / 2) / math.sqrt(2 * math.pi)


def _ridge(z):
    value = np.exp(-z * z / 2)
    return value, -z * value


# Shape of a blurred step and of a blurred line: value and derivative by z = (u − u0) / s.
STEP_MODEL, RIDGE_MODEL = _step, _ridge


def _strongest(gradient, at, offsets):
    """Offsets at both ends of the line along which the gradient, with one sign, is strongest; those drawn near count a little more."""
    tries = np.arange(-SEARCH_PX, SEARCH_PX + STEP / 2, STEP)
    first, last = np.meshgrid(tries, tries, indexing="ij")
    want = first[..., None] + at * (last - first)[..., None]  # (A, B, blocks)
    low = np.clip(((want - offsets[0]) / STEP).astype(int), 0, len(offsets) - 2)
    share = (want - offsets[low]) / STEP
    block = np.arange(len(at))
    mean = np.mean(gradient[block, low] * (1 - share) + gradient[block, low + 1] * share, axis=-1)
    nearness = np.exp(-(first**2 + last**2) / (2 * (0.8 * SEARCH_PX) ** 2))
    best = np.unravel_index(np.argmax(np.abs(mean) * nearness), mean.shape)
    return tries[best[0]], tries[best[1]], float(abs(mean[best]))


def _other_side(gradient, offsets, centre) -> float | None:
    """How far beside a step its opposite lies, px, where the two are the sides of a narrow gap or line; None where there is none."""
    shifts = np.concatenate([-np.arange(1.5, WIDEST_GAP_PX + 0.1, STEP), np.arange(1.5, WIDEST_GAP_PX + 0.1, STEP)])

    def mean(shift):
        index = np.clip(np.round((centre + shift - offsets[0]) / STEP).astype(int), 0, len(offsets) - 1)
        return float(gradient[np.arange(len(gradient)), index].mean())
    here = mean(0.0)
    strengths = np.array([-mean(shift) * np.sign(here) for shift in shifts])
    return float(shifts[strengths.argmax()]) if strengths.max() > 0.6 * abs(here) else None


def _blurred(profile, offsets, centre, noise, model):
    """Each block's place and its σ, px, NaN where it won't be found, and how much of the profile the model explains, on the whole.

    a + b · model((u − u0) / s), by Gauss–Newton on the samples near where the line passes.
    """
    half = int(WINDOW_PX / STEP)
    middle = np.clip(np.round((centre - offsets[0]) / STEP).astype(int), half, len(offsets) - half - 1)
    index = middle[:, None] + np.arange(-half, half + 1)
    u, value = offsets[index], np.take_along_axis(profile, index, 1)
    u0, spread = centre.copy(), np.full(len(profile), 1.0)
    weight = np.exp(-((u - centre[:, None]) ** 2) / (2 * 2.0**2))
    for _ in range(12):
        z = (u - u0[:, None]) / spread[:, None]
        shape, slope = model(z)
        linear = np.stack([np.ones_like(shape), shape], -1)  # base and height follow from place and blur
        normal = np.einsum("bni,bn,bnj->bij", linear, weight, linear) + 1e-15 * np.eye(2)
        base, height = np.linalg.solve(normal, np.einsum("bni,bn,bn->bi", linear, weight, value)[..., None])[..., 0].T
        residual = value - base[:, None] - height[:, None] * shape
        by_place = -height[:, None] * slope / spread[:, None]
        jac = np.stack([by_place, by_place * z, np.ones_like(z), shape], -1)  # by place, blur, base, height
        normal = np.einsum("bni,bn,bnj->bij", jac, weight, jac)
        normal += 1e-9 * np.eye(4) * np.trace(normal, axis1=1, axis2=2)[:, None, None] + 1e-18 * np.eye(4)
        step = np.linalg.solve(normal, np.einsum("bni,bn,bn->bi", jac, weight, residual)[..., None])[..., 0]
        u0 = u0 + np.clip(step[:, 0], -0.5, 0.5)
        spread = np.clip(spread + np.clip(step[:, 1], -0.3, 0.3), 0.35, 3.0)
    left = (weight * residual**2).sum(axis=1)
    mean = (weight * value).sum(axis=1) / weight.sum(axis=1)
    explained = (weight * (value - mean[:, None]) ** 2).sum(axis=1) - left
    # Samples lie closer than pixels: neighbours are not independent.
    variance = np.linalg.inv(normal)[:, 0, 0] * np.maximum(np.sqrt(left / weight.sum(axis=1)), noise) ** 2 / STEP
    bad = (np.abs(u0 - centre) > 2.5) | ~np.isfinite(variance) | (np.abs(height) < 3 * noise)
    return np.where(bad, np.nan, u0), np.sqrt(np.where(bad, np.nan, variance)), float(np.where(bad, 0, explained).sum())


def _through(ends, normal, at, step, sigma, blocks):
    good = np.isfinite(step) & np.isfinite(sigma)
    if good.sum() < max(3, 0.5 * blocks):
        raise Problem("The picture has no clear edge along most of this line. Draw it along one straight edge, or leave it as it is.")
    design = np.stack([1 - at, at, 4 * at * (1 - at) - 2 / 3], -1)  # the last: a bow without mean over the line
    weight = np.where(good, 1 / np.maximum(np.nan_to_num(sigma, nan=1.0), 0.02) ** 2, 0.0)
    robust = np.ones(len(at))
    value = np.nan_to_num(step)
    for _ in range(12):
        w = weight * robust
        solution = np.linalg.lstsq(design * np.sqrt(w)[:, None], value * np.sqrt(w), rcond=None)[0]
        residual = value - design @ solution
        scale = max(1.4826 * float(np.median(np.abs(residual[good]))), 0.01)
        robust = np.maximum(0, 1 - (residual / (4.7 * scale)) ** 2) ** 2 * good  # Tukey's biweight
    kept = good & (robust > 0.1)
    if kept.sum() < max(3, 0.5 * blocks):
        raise Problem("The edges found along this line don't lie on one straight line. Draw a shorter piece, or leave it as it is.")
    w = weight * robust
    inverse = np.linalg.inv(design.T @ (design * w[:, None]) + 1e-12 * np.eye(3))
    freedom = max(kept.sum() - 3, 1)
    factor = max(1.0, float((w * residual**2).sum() / freedom))  # texture scatters more than noise alone
    covariance = inverse * factor
    straight = design[:, :2]
    inverse2 = np.linalg.inv(straight.T @ (straight * w[:, None])) * factor
    untidy = kept.sum() < 0.8 * blocks or scale > 0.3  # a bow is believed only of a clean line
    if untidy or abs(solution[2]) < 5 * math.sqrt(covariance[2, 2]) or abs(solution[2]) < 0.3:
        solution = np.append(np.linalg.lstsq(straight * np.sqrt(w)[:, None], value * np.sqrt(w), rcond=None)[0], 0.0)
    return _Line(ends, normal, solution[:2], inverse2, float(solution[2]), math.sqrt(covariance[2, 2]))


def refine_spot(pixels, point) -> Refined:
    """Refine a drawn point (2,) px to the corner or round mark nearest to it. Raises Problem where there is neither."""
    sampler, start = Sampler(pixels), np.asarray(point, float)
    grid = np.arange(-SPOT_PX, SPOT_PX + 1.0)
    at, kind = start.copy(), None
    for _ in range(12):
        patch = sampler.at(at + np.stack(np.meshgrid(grid, grid), -1))
        smooth = _smoothed(_smoothed(patch, 0.8).T, 0.8).T
        gy, gx = np.gradient(smooth)
        y, x = np.meshgrid(grid, grid, indexing="ij")
        weight = np.exp(-(x**2 + y**2) / (2 * (SPOT_PX / 2.2) ** 2))
        fits = {}
        for name, (a, b, c) in {"corner": (gx * gx, gx * gy, gy * gy), "round": (gy * gy, -gx * gy, gx * gx)}.items():
            normal = np.array([[(weight * a).sum(), (weight * b).sum()], [(weight * b).sum(), (weight * c).sum()]])
            right = np.array([(weight * (a * x + b * y)).sum(), (weight * (b * x + c * y)).sum()])
            values = np.linalg.eigvalsh(normal)
            if values[0] < 0.06 * values[1] or values[1] <= 0:
                continue
            shift = np.linalg.solve(normal, right)
            dx, dy = x - shift[0], y - shift[1]
            fits[name] = (float((weight * (a * dx * dx + 2 * b * dx * dy + c * dy * dy)).sum()), shift, normal)
        if not fits:
            raise Problem("There is no corner and no round mark here in the picture, only an edge or plain ground. Leave the spot as it is.")
        kind = kind if kind in fits else min(fits, key=lambda name: fits[name][0])
        left, shift, normal = fits[kind]
        at = at + np.clip(shift, -1.5, 1.5)
        if np.linalg.norm(at - start) > SEARCH_PX + 1:
            raise Problem("The nearest corner is too far from this spot to be meant. Place it closer, or leave it as it is.")
        if np.linalg.norm(shift) < 0.003:
            break
    noise = _noise(patch)
    strength = np.sqrt((weight * (gx**2 + gy**2)).sum() / weight.sum())
    if strength < 1.5 * noise / np.sqrt(10) or strength < 2e-4:
        raise Problem("Nothing stands out from the noise here. Leave the spot as it is, or widen its ±.")
    freedom = max(weight.sum() - 2, 1)
    sigma = float(np.sqrt(left / freedom * np.linalg.eigvalsh(np.linalg.inv(normal))[-1] * 2))
    return Refined(at[None], float(np.clip(sigma, LEAST_SIGMA_PX, 2.0)), float(np.linalg.norm(at - start)))


def _smoothed(rows, sigma):
    """Each row smoothed by a Gaussian of `sigma` samples."""
    reach = int(np.ceil(3 * sigma))
    kernel = np.exp(-(np.arange(-reach, reach + 1) ** 2) / (2 * sigma**2))
    kernel /= kernel.sum()
    padded = np.pad(rows, ((0, 0), (reach, reach)), mode="edge")
    return np.stack([np.convolve(row, kernel, mode="valid") for row in padded])


def _noise(rows) -> float:
    """The noise of single samples, from second differences along the first axis, insensitive to edges across it (Immerkær 1996, in one direction)."""
    if len(rows) < 3:
        return 0.0
    return float(1.4826 * np.median(np.abs(rows[2:] - 2 * rows[1:-1] + rows[:-2])) / np.sqrt(6))


def _erf(x):
    """The error function; Abramowitz & Stegun 1964, 7.1.26, within 1.5e-7, which no pixel resolves."""
    t = 1 / (1 + 0.3275911 * np.abs(x))
    poly = t * (0.254829592 + t * (-0.284496736 + t * (1.421413741 + t * (-1.453152027 + t * 1.061405429))))
    return np.sign(x) * (1 - poly * np.exp(-x * x))
