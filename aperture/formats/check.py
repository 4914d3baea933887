"""What lets a receiver prove an import in a minute: world points and the pixels where they must
land, and sums of all files."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.gates.chain import straight
from aperture.geometry.axes import from_y_up
from aperture.moves.compare import seen_points
from aperture.units import METRES

POINTS, FRAMES = 3, 3
# Where the points are sought in the picture of the frame in the middle, as shares of its size.
PLACES = ((0.25, 0.75), (0.5, 0.9), (0.8, 0.7))


def points_for(cameras: Mapping[int, Camera]) -> Array:
    """(3, 3) world points, metres, that the camera in the middle sees well apart: on the floor, or
    else on the way there."""
    frames = sorted(cameras)
    camera = cameras[frames[len(frames) // 2]]
    px = np.array(PLACES) * [camera.grid.width, camera.grid.height]
    return np.round(seen_points(camera, px), 3)


def write_check(cameras: Mapping[int, Camera], name: str, unit: str, up_axis: str) -> str:
    """A text with the points and where they land on three frames; of the lens as it is, and of a
    renderer without distortion."""
    frames = sorted(cameras)
    some = [frames[index] for index in sorted({0, len(frames) // 2, len(frames) - 1})]
    points = points_for(cameras)
    grid = cameras[some[0]].grid
    shown = points @ from_y_up(up_axis).T / METRES[unit]
    lines = [
        f"{name}: put these points into the scene and look through the camera.",
        (
            f"Points in {unit}, {up_axis} up. Pixels of {grid.width} x {grid.height}, from the"
            " outer top left corner"
        ),
        "of the picture, y down: the centre of the first pixel is 0.5, 0.5.",
        (
            '"plate" is where the point is on the plate, "plain" where a renderer without'
            " distortion shows it."
        ),
        "",
    ]
    for number, point in enumerate(shown, 1):
        lines.append(f"point {number}:  " + "  ".join(f"{value:.6g}" for value in point))
    for frame in some:
        camera = cameras[frame]
        plain = replace(camera, lens=straight(camera.lens))
        lines += ["", f"frame {frame}"]
        for number, (plate, bare) in enumerate(
            zip(camera.project(points), plain.project(points)), 1
        ):
            lines.append(f"  point {number}:  plate {_pixel(plate)}   plain {_pixel(bare)}")
    return "\n".join(lines) + "\n"


def _pixel(at: Array) -> str:
    return f"{at[0]:.2f}, {at[1]:.2f}" if np.isfinite(at).all() else "not seen"


def sums(files: Mapping[str, bytes]) -> list[dict[str, object]]:
    """Of each file its name, size and SHA-256."""
    return [
        {"name": name, "bytes": len(data), "sha256": hashlib.sha256(data).hexdigest()}
        for name, data in files.items()
    ]
