"""Stand-ins through the matched camera, over black with alpha."""

from dataclasses import dataclass

import numpy as np

from aperture.camera import Camera
from aperture.scene.overlay import outline_points
from aperture.scene.stand_in import mesh_of

BLOCK_ROWS = 128


@dataclass(frozen=True)
class Render:
    """rgba: (H, W, 4) float32, linear light, premultiplied by alpha."""

    rgba: np.ndarray


def render_stand_ins(camera: Camera, stand_ins, samples: int = 3, sun=(0.45, 0.8, 0.4), progress=None) -> Render:
    """Render stand-ins at the camera's grid size with samples × samples rays a pixel.

    Plain matte grey, lit by a sun from direction `sun` and an even sky; alpha is the share of a pixel that is covered.
    `progress(done)` is called with 0 … 1 and may raise to stop.
    """
    width, height = camera.grid.width, camera.grid.height
    rgba = np.zeros((height, width, 4), np.float32)
    rows, columns = _touched(camera, stand_ins, width, height)
    if not stand_ins or rows[1] <= rows[0] or columns[1] <= columns[0]:
        return Render(rgba)
    mesh = mesh_of(stand_ins)
    caster = mesh.ray  # embree, where trimesh finds it
    normals = mesh.face_normals
    sun = np.asarray(sun, float) / np.linalg.norm(sun)
    grey = 0.18 + 0.52 * np.clip(normals @ sun, 0, 1) + 0.14 * np.clip(normals[:, 1], 0, 1)
    offsets = (np.arange(samples) + 0.5) / samples
    xs = columns[0] + (np.arange((columns[1] - columns[0]) * samples) + 0.5) / samples
    for top in range(rows[0], rows[1], BLOCK_ROWS):
        bottom = min(top + BLOCK_ROWS, rows[1])
        ys = (np.arange(top, bottom)[:, None] + offsets).ravel()
        pixels = np.stack(np.meshgrid(xs, ys), -1).reshape(-1, 2)
        directions = camera.rays(pixels)
        seen = np.isfinite(directions[:, 0])
        hit = np.full(len(pixels), -1)
        hit[seen] = caster.intersects_first(np.broadcast_to(camera.position, (int(seen.sum()), 3)), directions[seen])
        value = np.where(hit >= 0, grey[hit], 0.0)
        shape = (bottom - top, samples, columns[1] - columns[0], samples)
        cover = (hit >= 0).reshape(shape).mean(axis=(1, 3))
        shade = value.reshape(shape).mean(axis=(1, 3))
        part = rgba[top:bottom, columns[0]:columns[1]]
        part[..., :3], part[..., 3] = shade[..., None], cover
        if progress:
            progress((bottom - rows[0]) / (rows[1] - rows[0]))
    return Render(rgba)


def _touched(camera, stand_ins, width, height):
    """Pixel rows and columns that the stand-ins can reach; everything where a corner isn't imaged."""
    if not stand_ins:
        return (0, 0), (0, 0)
    corners = np.concatenate([item.bounds() for item in stand_ins])
    points = camera.project(np.concatenate([outline_points(item) for item in stand_ins]))
    if (camera.to_camera_space(corners)[:, 2] > -1e-3).any() or not np.isfinite(points).all():
        return (0, height), (0, width)
    low, high = np.floor(points.min(axis=0)).astype(int) - 3, np.ceil(points.max(axis=0)).astype(int) + 3
    return tuple(np.clip([low[1], high[1]], 0, height)), tuple(np.clip([low[0], high[0]], 0, width))


def write_png(path, render: Render) -> None:
    """8-bit sRGB PNG, alpha not premultiplied (PNG, ISO/IEC 15948, clause 6.2)."""
    from PIL import Image

    from aperture.plates.colour import encode_srgb

    alpha = render.rgba[..., 3:]
    colour = np.where(alpha > 0, render.rgba[..., :3] / np.maximum(alpha, 1e-6), 0)
    values = np.concatenate([encode_srgb(colour), np.clip(alpha, 0, 1)], axis=-1)
    Image.fromarray((values * 255 + 0.5).astype(np.uint8), "RGBA").save(path, compress_level=4)


def write_exr(path, render: Render) -> None:
    """Half-float linear OpenEXR, premultiplied, ZIP compressed."""
    import OpenEXR

    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    with OpenEXR.File(header, {"RGBA": render.rgba.astype(np.float16)}) as file:
        file.write(str(path))
