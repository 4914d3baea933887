"""Photograph a place of the demo: rays through the program's own Camera, daylight through its
openings, and what a real lens and sensor add."""

import numpy as np

from aperture.camera import Camera
from aperture.plates.colour import encode_srgb
from demo import boathouse

SUN = np.array([-0.50, 0.62, -0.60])  # toward the sun: outside, behind the back wall, to the left
SUN = SUN / np.linalg.norm(SUN)
SUN_LIGHT = np.array([10.0, 8.8, 7.0])
SKY_LIGHT = np.array([2.6, 2.9, 3.3])
INDIRECT = np.array([0.20, 0.19, 0.175])
# The signal lantern is green: what its glass sends out, and what it casts on things a metre away.
LAMP_GLASS = np.array([0.10, 0.95, 0.32])
LAMP_LIGHT = np.array([0.012, 0.110, 0.040])
SAMPLES = 3  # rays a pixel, each way
LIGHT_SAMPLES = 2
BLOCK_ROWS = 60


def photograph(
    camera: Camera,
    place: boathouse.Place,
    seed: int,
    exposure: float = 1.0,
    blur: float = 1.0,
    noise: float = 1.0,
    progress=None,
) -> np.ndarray:
    """(H, W, 3) uint8 sRGB. The optical blur grows toward the corners; the noise is that of photons
    and of reading out."""
    rng = np.random.default_rng(seed)
    width, height = camera.grid.width, camera.grid.height
    linear = np.empty((height, width, 3), np.float32)
    offsets = (np.arange(SAMPLES) + 0.5) / SAMPLES
    for top in range(0, height, BLOCK_ROWS):
        rows = min(BLOCK_ROWS, height - top)
        ys = (top + np.arange(rows)[:, None] + offsets).ravel()
        xs = (np.arange(width)[:, None] + offsets).ravel()
        pixels = np.stack(np.meshgrid(xs, ys), -1).reshape(-1, 2)
        chances = rng.random((LIGHT_SAMPLES, len(pixels), 3))
        light = seen_light(place, camera, camera.rays(pixels), chances)
        linear[top : top + rows] = light.reshape(rows, SAMPLES, width, SAMPLES, 3).mean(axis=(1, 3))
        if progress:
            progress(min(1.0, (top + rows) / height))
    return develop(linear * exposure, rng, blur, noise, camera.lens.projection.wraps)


def seen_light(
    place: boathouse.Place,
    camera: Camera,
    directions: np.ndarray,
    chances: np.ndarray,
    lit: bool = False,
) -> np.ndarray:
    """(N, 3) linear light that comes along rays (N, 3) into the camera.

    chances : (S, N, 3) numbers 0 … 1 that choose where in each opening its light is asked for, S
    times a ray.
    lit : while the place's lamp glows.
    """
    mesh, materials = place.mesh, place.materials
    origin = np.broadcast_to(camera.position, directions.shape)
    face = mesh.ray.intersects_first(origin, directions)
    out = _outside(directions)
    hit = np.flatnonzero(face >= 0)
    triangle, direction = mesh.triangles[face[hit]], directions[hit]
    normal = mesh.face_normals[face[hit]]
    facing = np.einsum("ni,ni->n", normal, direction)
    distance = np.einsum("ni,ni->n", triangle[:, 0] - camera.position, normal) / facing
    points = camera.position + direction * distance[:, None]
    normal = np.where(facing[:, None] > 0, -normal, normal)
    albedo = _albedo(points, materials[face[hit]])
    start = points + normal * 2e-3
    received = (
        np.tile(INDIRECT, (len(hit), 1))
        * (0.62 + 0.38 * normal[:, 1:2])
        * _corners_darken(points, place.room)
    )
    sunny = np.flatnonzero(normal @ SUN > 0)
    sunlit = sunny[~mesh.ray.intersects_any(start[sunny], np.broadcast_to(SUN, (len(sunny), 3)))]
    received[sunlit] += SUN_LIGHT * (normal[sunlit] @ SUN)[:, None] / np.pi
    for low, high, out_normal, strength in place.openings:
        for chance in chances:
            at = low + chance[hit] * (high - low)
            way = at - start
            square = np.einsum("ni,ni->n", way, way)
            way /= np.sqrt(square)[:, None]
            cosine = np.einsum("ni,ni->n", way, normal) * (way @ out_normal)
            use = np.flatnonzero((cosine > 0) & (way @ out_normal > 0))
            open_ = use[~mesh.ray.intersects_any(start[use], way[use])]
            area = np.prod([side for side in high - low if side > 0])
            received[open_] += (
                SKY_LIGHT
                * (
                    strength
                    * cosine[open_]
                    * area
                    / np.maximum(square[open_], 0.12 * area)
                    / np.pi
                    / len(chances)
                )[:, None]
            )
    out[hit] = albedo * received
    if lit:
        way = np.array(place.lamp) - points
        square = np.einsum("ni,ni->n", way, way)
        cosine = np.einsum("ni,ni->n", way, normal) / np.sqrt(square)
        out[hit] += (
            albedo * LAMP_LIGHT * (np.clip(cosine, 0, 1) / np.maximum(square, 0.05))[:, None]
        )
        out[hit[materials[face[hit]] == boathouse.NAMES.index("glass")]] = LAMP_GLASS
    return out


def _outside(directions):
    """The harbour on a hazy morning: sky, a far shore with a signal tower, water. Nearly burnt
    out."""
    azimuth = np.arctan2(directions[:, 0], -directions[:, 2])
    up = directions[:, 1] / np.hypot(directions[:, 0], directions[:, 2])
    sky = np.array([0.43, 0.45, 0.47]) * (1 - 0.25 * np.clip(up, 0, 1))[:, None]
    shore = (
        0.030
        + 0.022 * np.sin(azimuth * 5 + 1)
        + 0.012 * np.sin(azimuth * 17)
        + 0.006 * _noise(azimuth * 90, azimuth * 0)
    )
    tower = (np.abs(azimuth + 0.30) < 0.012) & (up < 0.16) | (np.abs(azimuth + 0.30) < 0.019) & (
        up > 0.13
    ) & (up < 0.15)
    ripple = _noise(azimuth * 60 / np.maximum(-up, 0.02), 6 / np.maximum(-up, 0.005)) - 0.5
    water = (
        np.array([0.30, 0.33, 0.345]) * (1 + 0.22 * ripple + 0.5 * np.clip(up, -0.5, 0))[:, None]
    )
    out = np.where((up < 0)[:, None], water, sky)
    return np.where(
        (((up >= 0) & (up < shore)) | tower & (up >= 0))[:, None],
        np.array([0.245, 0.265, 0.28]),
        out,
    )


def _corners_darken(points, room):
    near = np.stack(
        [
            points[:, 0] - room["left"],
            room["right"] - points[:, 0],
            points[:, 1],
            room["height"] - points[:, 1],
            points[:, 2],
        ],
        -1,
    )
    near = np.sort(np.maximum(near, 0), axis=1)[
        :, 1
    ]  # the second nearest surface: how deep in a corner
    return (1 - 0.55 * np.exp(-near / 0.45))[:, None]


# Wood
# --------------------------------------------------------------------------------------------------


def _albedo(points, ids):
    out = np.empty((len(points), 3))
    for index, material in enumerate(boathouse.MATERIALS.values()):
        own = np.flatnonzero(ids == index)
        if not len(own):
            continue
        run, lay = points[own, material.run], points[own, material.lay]
        tone = np.ones(len(own))
        if material.width:
            plank = np.floor(lay / material.width)
            inside = lay / material.width - plank
            length = 2.4 + 1.3 * _hash(plank, 7.0)
            piece = np.floor(run / length + 5 * _hash(plank, 3.0))
            tone += material.contrast * (1.7 * _hash(plank, piece + 11.0) - 0.85)
            grain = (
                _noise(run * 2.1 + 40 * _hash(plank, piece), lay * 95) * 0.55
                + _noise(run * 7.0, lay * 240 + plank * 17) * 0.45
            )
            tone += material.contrast * 0.9 * (grain - 0.5)
            rings = np.sin((lay * 60 + 3.2 * _noise(run * 0.9, lay * 6 + plank * 5)) * 3.1)
            tone += material.contrast * 0.22 * rings
            gap = np.minimum(inside, 1 - inside) * material.width
            tone *= np.where(gap < 0.0035, 0.22, np.clip(0.80 + gap / 0.05, 0, 1))
            along = run / length + 5 * _hash(plank, 3.0)
            butt = np.abs(along - np.round(along)) * length
            tone *= np.where(butt < 0.002, 0.4, 1.0)
            nail = (np.hypot(butt - 0.035, (inside - 0.25) * material.width) < 0.005) | (
                np.hypot(butt - 0.035, (inside - 0.75) * material.width) < 0.005
            )
            tone *= np.where(nail, 0.45, 1.0)
        else:
            tone += material.contrast * (
                _noise(points[own, 0] * 30 + points[own, 2] * 23, points[own, 1] * 30) - 0.5
            )
        stain = _noise(run * 0.7 + 9, lay * 1.3 + 4) * 0.6 + _noise(run * 2.3, lay * 3.1) * 0.4
        tone *= 0.86 + 0.28 * stain
        if material.lay == 1:  # walls: damp at the foot
            tone *= 1 - 0.28 * np.exp(-np.maximum(points[own, 1], 0) / 0.28)
        out[own] = np.clip(np.array(material.colour) * tone[:, None], 0.004, 0.9)
    return out


def _hash(a, b):
    value = np.sin(np.asarray(a) * 127.1 + np.asarray(b) * 311.7) * 43758.5453
    return value - np.floor(value)


def _noise(x, y):
    """Value noise 0 … 1 on a unit lattice."""
    xi, yi = np.floor(x), np.floor(y)
    u, v = x - xi, y - yi
    u, v = u * u * (3 - 2 * u), v * v * (3 - 2 * v)
    a, b, c, d = _hash(xi, yi), _hash(xi + 1, yi), _hash(xi, yi + 1), _hash(xi + 1, yi + 1)
    return (a * (1 - u) + b * u) * (1 - v) + (c * (1 - u) + d * u) * v


# Lens and sensor
# --------------------------------------------------------------------------------------------------


def develop(
    linear: np.ndarray, rng: np.random.Generator, blur: float, noise: float, around: bool = False
) -> np.ndarray:
    """(H, W, 3) uint8 sRGB of linear light, as `photograph` has it; `around`: of a panorama, which
    has no corners."""
    import cv2

    height, width = linear.shape[:2]
    y, x = np.mgrid[:height, :width].astype(np.float32)
    if around:
        x, y = np.full_like(x, (width - 1) / 2), np.full_like(y, (height - 1) / 2)
    r2 = ((x + 0.5 - width / 2) ** 2 + (y + 0.5 - height / 2) ** 2) / ((width**2 + height**2) / 4)
    glow = cv2.GaussianBlur(np.maximum(linear - 0.9, 0), (0, 0), width / 90)
    linear = linear * 0.985 + 0.10 * glow
    soft, softer = (
        cv2.GaussianBlur(linear, (0, 0), sigma * blur * width / 1920) for sigma in (0.65, 2.0)
    )
    share = np.clip((r2 - 0.15) / 0.85, 0, 1)[..., None]
    linear = soft * (1 - share) + softer * share
    linear *= (1 - 0.30 * r2)[..., None]
    photons = 5200.0 / noise**2
    linear = np.maximum(linear, 0)
    linear = (
        linear
        + rng.normal(size=linear.shape) * np.sqrt(linear / photons)
        + rng.normal(size=linear.shape) * 0.0016 * noise
    )
    shoulder = np.where(linear < 0.6, linear, 0.6 + 0.4 * (1 - np.exp(-(linear - 0.6) / 0.4)))
    return (encode_srgb(shoulder) * 255 + rng.random(linear.shape)).astype(np.uint8).clip(0, 255)
