"""Six pictures of a cube's faces joined into one, and whether their borders meet."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import cv2
import numpy as np

from aperture.around.views import CUBE, cube
from aperture.arrays import Array
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.lens.projections.pieces import STRIP

POINTS = 400  # along a border
# A border that doesn't meet: by so many 8-bit code values in the median, and so many times as much
# as one pixel differs from the next within the faces.
LEAST_CODES, MUCH = 6.0, 3.0


def joined(faces: Mapping[str, Array]) -> Array:
    """(S, 6 S, …) the faces by name (front, right, back, left, up, down), upright as seen from
    within, as a cube strip.

    Raises Problem where one is missing, or they are of different sizes or kinds.
    """
    missing = [name for name in CUBE if name not in faces]
    if missing:
        raise Problem(f"A face is missing: {', '.join(missing)}.")
    size = faces["front"].shape[0]
    for name, face in faces.items():
        height, width = face.shape[:2]
        if height != width:
            raise Problem(f"A face is a square: “{name}” has {width} × {height} px.")
        if height != size:
            raise Problem(
                f"The faces are of different sizes: “{name}” has {width} px a side, “front” {size}."
            )
        if face.shape != faces["front"].shape or face.dtype != faces["front"].dtype:
            raise Problem(f"“{name}” has other channels or another depth than “front”.")
    return np.concatenate([faces[way] for way, _, _ in STRIP.cells], axis=1)


def write_strip(paths: dict[str, Path], onto: Path) -> list[tuple[str, str, float]]:
    """Join the faces into a file; which of their borders don't meet. Raises Problem."""
    faces = {}
    for name, path in paths.items():
        pixels = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)
        if pixels is None:
            raise Problem(f"The picture of “{name}” can’t be read.")
        faces[name] = (
            np.repeat(pixels[..., None], 3, axis=2) if pixels.ndim == 2 else pixels[..., :3]
        )
    whole = joined(faces)
    cv2.imwrite(str(onto), whole)
    return broken(faces)


def broken(faces: Mapping[str, Array]) -> list[tuple[str, str, float]]:
    """Pairs of faces whose common border doesn't meet, and by how many 8-bit code values."""
    codes = {name: _codes(face) for name, face in faces.items()}
    size = codes["front"].shape[0]
    grid = Grid.from_gate(6, 1, *STRIP.size)
    panorama = Camera.at(grid, Lens(1.0, projection=STRIP), (0, 0, 0))
    cameras = {view.name: view.camera(panorama) for view in cube(max(size, 16), 0)}
    usual = float(
        np.median(
            [np.abs(np.diff(one, axis=axis)).mean() for one in codes.values() for axis in (0, 1)]
        )
    )
    out, names = [], list(CUBE)
    for index, one in enumerate(names):
        for other in names[index + 1 :]:
            middle = -(cameras[one].rotation[:, 2] + cameras[other].rotation[:, 2])
            if np.linalg.norm(middle) < 0.5:
                continue  # opposite each other
            along = np.cross(cameras[one].rotation[:, 2], cameras[other].rotation[:, 2])
            share = (np.arange(POINTS) + 0.5) / POINTS * 1.9 - 0.95
            directions = middle + share[:, None] * along
            seen = [_at(cameras[name], codes[name], directions) for name in (one, other)]
            off = float(np.median(np.abs(seen[0] - seen[1])))
            if off > max(LEAST_CODES, MUCH * usual):
                out.append((one, other, off))
    return out


def _codes(face: Array) -> Array:
    """(S, S) grey code values, 0 to 255."""
    values = np.asarray(face, np.float32)
    grey = values.reshape(*face.shape[:2], -1)[..., :3].mean(axis=2)
    return (
        grey / (255.0 if face.dtype == np.uint16 else 1.0) if face.dtype.kind == "u" else 255 * grey
    )


def _at(camera: Camera, grey: Array, directions: Array) -> Array:
    """(N,) the values of a face nearest to where it shows directions on its border."""
    size = grey.shape[0]
    px = camera.project_directions(directions) * size / camera.grid.width
    column, row = np.clip(np.nan_to_num(px), 0.5, size - 0.5).astype(int).T
    return grey[row, column]
