"""Pictures over the plate: how bright, how sharp, how smeared each place is, and the plate with its
look."""

import io
import math
from collections.abc import Callable
from functools import lru_cache

import cv2
import numpy as np
from PIL import Image

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.light.metering import (
    CLIPPED,
    CRUSHED,
    Levels,
    false_colour,
    histogram,
    levels,
    luminance_of,
)
from aperture.light.sharpness import BlurMap, blur_map
from aperture.light.white import adapted
from aperture.plates.colour import encode_srgb, linear_light
from aperture.render.tracer import Look, Scene
from aperture.scene.way import riding
from web.expose import blurring, looks, whites
from web.expose.focusing import circle_of, lens_at
from web.match.path_fits import require_camera
from web.plates.models import Plate, require_plate, transfer_of, working_pixels
from web.shows.models import Shot
from web.stage.stand_ins import stand_ins_of

WIDE = 1280  # px of a picture that is laid over the plate
MOST_LIGHT = 65_504.0  # of a half float
BAND_PIXELS = 4_000_000
MAP_WIDE = 480  # px of one that rays are traced for
QUIET, LOUD = np.array([91, 99, 104]), np.array([242, 84, 91])  # the ramp of residuals
SHARP = np.array([60, 199, 165])
LOUD_PX = 12.0  # blur or streak that is drawn loudest
ALPHA = 150


@lru_cache(maxsize=4)
def _small(digest: str, transfer: str) -> np.ndarray:
    """(h, w, 3) float32 linear light of a plate, WIDE px at most: means of its pixels."""
    pixels = working_pixels(Plate.objects.get(digest=digest))
    height, width = pixels.shape[:2]
    fewer = max(1, width // WIDE)
    # Band by band, so that a large plate is never whole in memory as floats.
    rows = max(1, BAND_PIXELS // width // fewer) * fewer
    whole = (height // fewer * fewer, width // fewer * fewer)
    bands = []
    for top in range(0, whole[0], rows):
        band = linear_light(
            np.asarray(pixels[top : min(top + rows, whole[0]), : whole[1]]), transfer
        )
        size = (whole[1] // fewer, len(band) // fewer)
        bands.append(cv2.resize(band, size, interpolation=cv2.INTER_AREA) if fewer > 1 else band)
    linear = np.concatenate(bands)
    wide = min(WIDE, linear.shape[1])
    size = (wide, max(1, round(height * wide / width)))
    out = np.nan_to_num(cv2.resize(linear, size, interpolation=cv2.INTER_AREA), posinf=MOST_LIGHT)
    out.setflags(write=False)
    return out


def small_plate(shot: Shot) -> np.ndarray:
    """(h, w, 3) float32 the shot's plate in linear light, WIDE px at most. Raises Problem without a
    plate."""
    plate = require_plate(shot)
    return _small(plate.digest, transfer_of(shot.state))


def ceiling_of(shot: Shot) -> float:
    """From which linear light on the plate is clipped: a file of floating-point numbers never
    is."""
    whole = working_pixels(require_plate(shot)).dtype.kind == "u"
    return CLIPPED if whole else math.inf


def counted(shot: Shot, bins: int) -> tuple[Levels, np.ndarray]:
    """How bright the shot's plate is, and its histogram, (4, bins). Raises Problem without a
    plate."""
    return _counted(require_plate(shot).digest, transfer_of(shot.state), ceiling_of(shot), bins)


@lru_cache(maxsize=128)
def _counted(digest: str, transfer: str, ceiling: float, bins: int) -> tuple[Levels, np.ndarray]:
    small = _small(digest, transfer)
    return levels(small, ceiling), histogram(small, bins)


@lru_cache(maxsize=4)
def _blur_map(digest: str, transfer: str) -> BlurMap:
    return blur_map(working_pixels(Plate.objects.get(digest=digest)), transfer)


def measured_blur(shot: Shot) -> BlurMap:
    """The blur of the plate's edges. Raises Problem without a plate."""
    plate = require_plate(shot)
    return _blur_map(plate.digest, transfer_of(shot.state))


def png(pixels: np.ndarray) -> bytes:
    """A picture (h, w, 3 or 4) uint8 as a file."""
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "PNG", compress_level=3)
    return out.getvalue()


def shown(linear: np.ndarray) -> np.ndarray:
    """(h, w, 3) uint8 of linear light, as a screen wants it."""
    return (encode_srgb(linear) * 255 + 0.5).astype(np.uint8)


def false_colours(shot: Shot) -> np.ndarray:
    """The plate in stops."""
    return false_colour(small_plate(shot), ceiling=ceiling_of(shot))


def clipping(shot: Shot) -> np.ndarray:
    """What is clipped and what is black, over nothing."""
    linear = small_plate(shot)
    out = np.zeros((*linear.shape[:2], 4), np.uint8)
    out[linear.max(axis=2) >= ceiling_of(shot)] = (255, 40, 140, 255)
    out[luminance_of(linear) <= CRUSHED] = (40, 90, 255, 255)
    return out


def white_balanced(shot: Shot) -> np.ndarray:
    """The plate as its white balance would have it."""
    matrix = whites.matrix_of(shot)
    if matrix is None:
        raise Problem("No white balance is chosen yet.")
    return shown(adapted(small_plate(shot), matrix))


def with_look(shot: Shot) -> np.ndarray:
    """The plate with the shot's look."""
    linear = small_plate(shot)
    matrix = whites.matrix_of(shot)
    if matrix is not None:
        linear = adapted(linear, matrix)
    return shown(looks.applied(shot, linear, perspective=True))


def stray_pixels(shot: Shot) -> np.ndarray:
    """Which pixels a look would take away as stray, over nothing."""
    from aperture.light.character.sensor import stray

    threshold = looks.look_of(shot).stray
    if not threshold:
        raise Problem("Stray pixels are left in: type a threshold first.")
    plate = require_plate(shot)
    linear = linear_light(np.asarray(working_pixels(plate)), transfer_of(shot.state))
    where = stray(linear, threshold).astype(np.uint8)
    size = small_plate(shot).shape[1::-1]
    # Every one is seen, however small it is drawn.
    side = max(5, math.ceil(plate.width / size[0]) + 1)
    where = cv2.dilate(where, np.ones((side, side), np.uint8))
    where = cv2.resize(where, size, interpolation=cv2.INTER_NEAREST)
    out = np.zeros((*where.shape, 4), np.uint8)
    out[where > 0] = (255, 40, 140, 255)
    return out


def seen_points(shot: Shot, floor: bool = True) -> tuple[Camera, np.ndarray, np.ndarray]:
    """A small camera (h, w), and the set's points (h, w, 3) that its pixels see; NaN where nothing
    is; and on which stand-in (h, w) each lies, negative on none.

    Raises Problem without a camera.
    """
    camera = blurring.small(require_camera(shot.state), MAP_WIDE)
    width, height = camera.grid.width, camera.grid.height
    across, down = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)
    at = np.stack([across.ravel(), down.ravel()], -1)
    directions = camera.rays(at)
    items = [(item, Look(name)) for name, item in stand_ins_of(shot.state).items()]
    hits = Scene(camera, items).hit(directions)
    points = np.where(hits.met[:, None], hits.point + camera.position, np.nan)
    if floor:
        ground = camera.on_plane(at)
        near = np.linalg.norm(ground - camera.position, axis=1) < _floor_reach(camera, items)
        use = ~hits.met & near & np.isfinite(ground).all(axis=1)
        points[use] = ground[use]
    return camera, points.reshape(height, width, 3), hits.item.reshape(height, width)


def _floor_reach(camera: Camera, items: list) -> float:
    """How far the floor is drawn: a little beyond the farthest stand-in, as walls hide the rest."""
    if not items:
        return 20.0
    corners = np.concatenate([item.bounds() for item, _ in items])
    return 1.1 * float(np.linalg.norm(corners - camera.position, axis=1).max())


def depths(camera: Camera, points: np.ndarray) -> np.ndarray:
    """(h, w) metres along the axis."""
    return -camera.to_camera_space(points.reshape(-1, 3))[:, 2].reshape(points.shape[:2])


def ramp(px: np.ndarray, least: float = 0.0) -> np.ndarray:
    """(h, w, 4) a tint by size, px; clear where there is none; in a colour of its own up to
    `least`."""
    share = np.clip(np.nan_to_num(px) / LOUD_PX, 0, 1)[..., None]
    colour = QUIET + share * (LOUD - QUIET)
    colour = np.where((px <= least)[..., None], SHARP, colour)
    alpha = np.where(np.isfinite(px), ALPHA, 0)
    return np.concatenate([colour, alpha[..., None]], axis=2).astype(np.uint8)


def implied_blur(shot: Shot) -> tuple[np.ndarray, float]:
    """(h, w) diameters of the blur that lens and focus imply over the plate, px of the plate, and
    the circle that counts as sharp.

    Raises Problem where stop, focus or gate isn't known.
    """
    lens = lens_at(shot)
    if lens is None:
        raise Problem("Blur is known once there are a camera, a gate, a stop and a focus.")
    camera, points, _ = seen_points(shot)
    away = depths(camera, points)
    full = require_camera(shot.state)
    px = full.grid.width / full.grid.gate_mm[0]
    circle, _ = circle_of(shot, full)
    return lens.blur_mm(away) * px, circle * px


def sharp(shot: Shot) -> np.ndarray:
    """What is sharp, and how blurred the rest is."""
    px, circle = implied_blur(shot)
    return ramp(px, circle)


def measured(shot: Shot) -> np.ndarray:
    """How blurred the plate's edges are, cell by cell."""
    found = measured_blur(shot)
    plate = require_plate(shot)
    if not np.isfinite(found.diameter).any():
        raise Problem(
            "No edge of the plate stands out enough to measure its blur: all is blurred by more"
            " than some 25 px, or lost in noise."
        )
    tint = ramp(found.diameter, 2.0)
    high, wide = (side * found.cell for side in found.diameter.shape)
    large = cv2.resize(tint, (wide, high), interpolation=cv2.INTER_NEAREST)
    large = large[: plate.height, : plate.width]
    size = small_plate(shot).shape[1::-1]
    return cv2.resize(large, size, interpolation=cv2.INTER_NEAREST)


def smeared(shot: Shot) -> np.ndarray:
    """How far each place goes while the shutter is open."""
    _, points, which = seen_points(shot)
    flat = points.reshape(-1, 3)
    there = np.isfinite(flat).all(axis=1)
    ways = [item.way for item in blurring.exposed_items(shot.state).values()]
    going = riding(ways, which.ravel()[there], flat[there], blurring.moment_of(shot))
    found = blurring.streaks_of(shot, going)
    if found is None:
        raise Problem(blurring.STILL)
    px = np.full(len(flat), np.nan)
    px[there] = found.lengths
    return ramp(px.reshape(points.shape[:2]), 1.0)


MAPS: dict[str, tuple[str, Callable[[Shot], np.ndarray]]] = {
    "false": ("Stops, as colours", false_colours),
    "clip": ("Clipped and black", clipping),
    "sharp": ("Sharp by lens and focus", sharp),
    "measured": ("Blur measured on edges", measured),
    "smeared": ("Motion blur", smeared),
    "white": ("White balanced", white_balanced),
    "look": ("With the look", with_look),
    "stray": ("Stray pixels", stray_pixels),
}
