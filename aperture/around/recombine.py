"""Views joined into a panorama: blended where they overlap, and how well they meet there.

Pictures are linear light with premultiplied alpha. A view counts less toward its borders, so that
one fades into the other; where only one sees, it counts alone.
"""

from __future__ import annotations

import math
import os
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from itertools import combinations

import cv2
import numpy as np
from numba import njit

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.plates.colour import encode_srgb

ROWS = 64  # of the panorama that a thread makes at once
USUAL_FADE = 0.06  # of a view's smaller side, over which it fades toward its borders
LEAST_SEAM_PX = 400  # of an overlap: fewer say nothing of how well it meets
MEETS_PX, MEETS_CODE = 0.5, 4.0  # a seam that is farther off than this doesn't meet
TURNS = 8  # steps of the search for a seam's shift
LEAST_SLOPE = 0.01  # mean square of a picture's gradient, code values: less says nothing of a shift
MOST_SHIFT_PX = 50.0


@dataclass(frozen=True)
class Seam:
    """How two views agree where both see.

    Parameters
    ----------
    first, second : int
        Indices of the views.
    code : float
        95th percentile of the difference, 8-bit code values (IEC 61966-2-1).
    brighter : float
        By how much the second is brighter, in the mean, code values.
    shift_px : float
        By how much the second lies beside the first, px of the first; NaN where nothing there says
        so.
    pixels : int
        How many px of the first that is measured on.
    """

    first: int
    second: int
    code: float
    brighter: float
    shift_px: float
    pixels: int

    @property
    def slipped(self) -> bool:
        """Whether one lies beside the other."""
        return math.isfinite(self.shift_px) and self.shift_px > MEETS_PX

    @property
    def meets(self) -> bool:
        """Whether the two go on from one to the other."""
        return not self.slipped and abs(self.brighter) <= MEETS_CODE


@njit(cache=True, nogil=True, fastmath=True)
def _join(rays, picture, turn, lens, fade, out, weights):
    """Add what a view sees to rows of a panorama.

    rays (R, W, 3): in the panorama's space, of any length. picture (h, w, 4). turn (3, 3): from
    there into the view's space. lens: focal px across and down, principal point. fade: px. out (R,
    W, 4), weights (R, W): sums.
    """
    high, wide = picture.shape[0], picture.shape[1]
    fx, fy, cx, cy = lens
    taps = np.empty((2, 4))
    for row in range(rays.shape[0]):
        for column in range(rays.shape[1]):
            a, b, c = rays[row, column, 0], rays[row, column, 1], rays[row, column, 2]
            away = -(turn[2, 0] * a + turn[2, 1] * b + turn[2, 2] * c)
            if not away > 1e-6:
                continue
            x = cx + fx * (turn[0, 0] * a + turn[0, 1] * b + turn[0, 2] * c) / away
            y = cy - fy * (turn[1, 0] * a + turn[1, 1] * b + turn[1, 2] * c) / away
            if x < 0 or y < 0 or x > wide or y > high:
                continue
            edge = min(min(x, wide - x), min(y, high - y))
            share = min(edge / fade, 1.0)
            weight = max(share * share * (3 - 2 * share), 1e-5)
            x, y = x - 0.5, y - 0.5
            left, top = int(math.floor(x)), int(math.floor(y))
            # Catmull and Rom (1974), kept between the four nearest so that edges don't ring.
            for axis in range(2):
                t = x - left if axis == 0 else y - top
                taps[axis, 0] = t * (-0.5 + t * (1 - 0.5 * t))
                taps[axis, 1] = 1 + t * t * (-2.5 + 1.5 * t)
                taps[axis, 2] = t * (0.5 + t * (2 - 1.5 * t))
                taps[axis, 3] = t * t * (-0.5 + 0.5 * t)
            for channel in range(4):
                total, least, most = 0.0, np.inf, -np.inf
                for j in range(4):
                    v = min(max(top - 1 + j, 0), high - 1)
                    for i in range(4):
                        u = min(max(left - 1 + i, 0), wide - 1)
                        value = picture[v, u, channel]
                        total += taps[0, i] * taps[1, j] * value
                        if 1 <= i <= 2 and 1 <= j <= 2:
                            least, most = min(least, value), max(most, value)
                out[row, column, channel] += weight * min(max(total, least), most)
            weights[row, column] += weight


def recombine(
    pictures: Sequence[Array],
    cameras: Sequence[Camera],
    panorama: Camera,
    fade_px: float | None = None,
) -> Array:
    """Join views into a panorama.

    Parameters
    ----------
    pictures : sequence of ndarray, shape (h, w, 4)
        Float, linear, premultiplied.
    cameras : sequence of Camera
        Of the pictures: plain ones, as `View.camera` makes them, at the panorama's place.
    panorama : Camera
        With the grid that is wanted.
    fade_px : float, optional
        Over how many px of a view it fades toward its borders.

    Returns
    -------
    ndarray, shape (H, W, 4)
        float32; nothing where no view sees.

    Raises Problem where a picture has another size than its camera.
    """
    tables = []
    for picture, camera in zip(pictures, cameras):
        if picture.shape != (camera.grid.height, camera.grid.width, 4):
            raise Problem(
                f"A view of {camera.grid.width} × {camera.grid.height} px can't be of a picture of "
                f"{picture.shape[1]} × {picture.shape[0]}."
            )
        turn = camera.rotation.T @ panorama.rotation
        fade = fade_px or USUAL_FADE * min(picture.shape[:2])
        lens = (*camera.focal_px, *camera.principal_point_px)
        tables.append((np.ascontiguousarray(picture, np.float32), turn.copy(), lens, float(fade)))
    height, width = panorama.grid.height, panorama.grid.width
    out = np.zeros((height, width, 4), np.float32)

    def rows(top: int) -> None:
        end = min(top + ROWS, height)
        own, weights = own_rays(panorama, (top, end)), np.zeros((end - top, width), np.float32)
        for picture, turn, lens, fade in tables:
            _join(own, picture, turn, lens, fade, out[top:end], weights)
        out[top:end] /= np.maximum(weights, 1e-12)[..., None]

    with ThreadPoolExecutor(os.cpu_count() or 1) as threads:
        list(threads.map(rows, range(0, height, ROWS)))
    return out


def own_rays(panorama: Camera, rows: tuple[int, int]) -> Array:
    """(R, W, 3) float32 rays through the middles of the pixels of some rows, in the camera's own
    space."""
    x, y = np.arange(panorama.grid.width) + 0.5, np.arange(*rows) + 0.5
    if panorama.lens.projection.wraps:
        # Longitude goes by the column alone, latitude by the row: (c sin λ, s, −c cos λ).
        middle = np.zeros(1) + panorama.principal_point_px[0]
        down = panorama.lens.rays(panorama.grid.to_mm(np.stack(np.broadcast_arrays(middle, y), -1)))
        turn = (x - panorama.principal_point_px[0]) / panorama.focal_px[0]
        c, s = -down[:, 2:], down[:, 1:2]
        rays = [c * np.sin(turn), np.broadcast_to(s, (len(y), len(x))), -c * np.cos(turn)]
        return np.stack(rays, -1).astype(np.float32)
    across, down = np.meshgrid(x, y)
    at = panorama.grid.to_mm(np.stack([across.ravel(), down.ravel()], -1))
    # Where there is no picture, no direction: the compiled part knows no NaN.
    every = panorama.lens.rays(at)
    every[~np.isfinite(every)] = 0.0
    return every.reshape(len(y), len(x), 3).astype(np.float32)


def seams(pictures: Sequence[Array], cameras: Sequence[Camera]) -> list[Seam]:
    """How well each two views agree where both see; those that overlap by enough to say so."""
    codes = [_code(picture) for picture in pictures]
    found = [
        _seam(codes, cameras, first, second)
        for first, second in combinations(range(len(cameras)), 2)
    ]
    return [one for one in found if one is not None]


def _code(picture: Array) -> Array:
    """(h, w, 3) float32 code values, 0 to 255."""
    return (255 * encode_srgb(np.clip(picture[..., :3], 0, 1))).astype(np.float32)


def _seam(
    codes: Sequence[Array], cameras: Sequence[Camera], first: int, second: int
) -> Seam | None:
    here, there = cameras[first], cameras[second]
    # Both stand at one place: a homography takes one picture to the other.
    onto = _matrix(there) @ there.rotation.T @ here.rotation @ np.linalg.inv(_matrix(here))
    picture, other = codes[first], codes[second]
    if not _ahead(here, there):
        return None
    half = np.array([[1, 0, -0.5], [0, 1, -0.5], [0, 0, 1]])  # OpenCV counts from pixels' middles
    matrix = half @ onto @ np.linalg.inv(half)
    box = _box(onto, here, there)
    if box is None:
        return None
    left, top, right, bottom = box
    begin = np.array([[1, 0, left], [0, 1, top], [0, 0, 1.0]])
    size = (right - left, bottom - top)
    flags = cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
    laid = cv2.warpPerspective(other, matrix @ begin, size, flags=flags, borderValue=(-1e4,) * 3)
    full = np.ones(other.shape[:2], np.uint8)
    seen = cv2.warpPerspective(
        full, matrix @ begin, size, flags=cv2.INTER_NEAREST | cv2.WARP_INVERSE_MAP
    )
    inside = cv2.erode(seen, np.ones((5, 5), np.uint8), borderValue=0) > 0
    own = picture[top:bottom, left:right]
    if inside.sum() < LEAST_SEAM_PX:
        return None
    off = np.abs(own - laid).max(axis=2)[inside]
    brighter = float((laid - own)[inside].mean())
    shift = _shift(own, laid, inside)
    return Seam(first, second, float(np.percentile(off, 95)), brighter, shift, int(inside.sum()))


def _matrix(camera: Camera) -> Array:
    """(3, 3) from camera space, looking down −Z, to homogeneous px."""
    fx, fy = camera.focal_px
    cx, cy = camera.principal_point_px
    return np.array([[fx, 0, -cx], [0, -fy, -cy], [0, 0, -1.0]])


def _ahead(here: Camera, there: Camera) -> bool:
    """Whether the two look so nearly the same way that their pictures may overlap at all."""
    return float(here.rotation[:, 2] @ there.rotation[:, 2]) > -0.8


def _box(onto: Array, here: Camera, there: Camera) -> tuple[int, int, int, int] | None:
    """Left, top, right, bottom px of the first's picture around all that the second sees; None
    where it sees nothing."""
    step = 8
    x, y = np.meshgrid(
        np.arange(step / 2, here.grid.width, step), np.arange(step / 2, here.grid.height, step)
    )
    at = np.stack([x, y, np.ones_like(x)], -1).reshape(-1, 3) @ onto.T
    own = here.rays(np.stack([x.ravel(), y.ravel()], -1))
    ahead = -(own @ there.rotation)[:, 2] > 1e-3
    with np.errstate(all="ignore"):
        px = at[:, :2] / at[:, 2:]
    inside = (
        ahead & (px >= 0).all(axis=1) & (px <= (there.grid.width, there.grid.height)).all(axis=1)
    )
    if not inside.any():
        return None
    xs, ys = x.ravel()[inside], y.ravel()[inside]
    return (
        max(int(xs.min() - step), 0),
        max(int(ys.min() - step), 0),
        min(int(xs.max() + step), here.grid.width),
        min(int(ys.max() + step), here.grid.height),
    )


def _shift(own: Array, laid: Array, inside: Array) -> float:
    """Px by which a picture lies beside another, by their gradients (Lucas and Kanade 1981)."""
    grey, other = own.mean(axis=2), laid.mean(axis=2)
    grey, other = (
        cv2.GaussianBlur(one, (0, 0), 1.0) for one in (grey, np.where(inside, other, grey))
    )
    deep = cv2.erode(inside.astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
    total = np.zeros(2)
    for _ in range(TURNS):
        move = np.array([[1, 0, total[0]], [0, 1, total[1]]], float)
        size = (grey.shape[1], grey.shape[0])
        moved = cv2.warpAffine(
            other,
            move,
            size,
            flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP,
            borderMode=cv2.BORDER_REPLICATE,
        )
        down, across = np.gradient(moved)
        gradients = np.stack([across[deep], down[deep]], -1).astype(float)
        square = gradients.T @ gradients
        least = float(np.linalg.eigvalsh(square)[0]) if len(gradients) else 0.0
        if least < LEAST_SLOPE / 2 * max(len(gradients), 1):
            return math.nan
        step = np.linalg.solve(square, gradients.T @ (grey - moved)[deep].astype(float))
        total += step
        if np.abs(total).max() > MOST_SHIFT_PX:
            return MOST_SHIFT_PX
        if np.abs(step).max() < 1e-3:
            break
    return float(np.hypot(*total))


def compile_all() -> None:
    """Compile what is compiled, by a picture of a few pixels: it is kept on disk."""
    from aperture.around.views import cube
    from aperture.geometry.grid import Grid
    from aperture.lens.lens import Lens
    from aperture.lens.projections import named

    grid = Grid.from_gate(8, 4, math.tau, math.pi)
    panorama = Camera.at(grid, Lens(1.0, projection=named("equirectangular")), (0, 0, 0))
    cameras = [view.camera(panorama) for view in cube(16)]
    recombine([np.zeros((16, 16, 4), np.float32)] * len(cameras), cameras, panorama)
