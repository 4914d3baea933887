"""The set with its camera from above and from the side, in metres, as a camera sheet has it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import cv2
import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.scene.frustum import across
from aperture.scene.stand_in import StandIn

# How far the field of view is drawn beyond the farthest stand-in, as a share, and where there is
# none, metres.
BEYOND, ALONE_M = 1.1, 6.0


@dataclass(frozen=True, eq=False)
class Stroke:
    """A line of a drawing: points (N, 2), metres. kind: item, view, path or camera."""

    points: Array
    kind: str
    closed: bool = False
    name: str = ""


@dataclass(frozen=True, eq=False)
class Drawing:
    """Strokes, and the box (left, bottom, right, top) that holds them, metres."""

    name: str
    strokes: tuple[Stroke, ...]

    @property
    def box(self) -> tuple[float, float, float, float]:
        """(left, bottom, right, top), metres."""
        every = np.concatenate([stroke.points for stroke in self.strokes])
        low, high = every.min(axis=0), every.max(axis=0)
        return float(low[0]), float(low[1]), float(high[0]), float(high[1])


def drawings(
    cameras: Mapping[int, Camera], items: Mapping[str, StandIn], shown: list[int]
) -> list[Drawing]:
    """Return the plan, seen from above, and the view from the camera's right.

    Parameters
    ----------
    cameras : mapping of int to Camera
        By frame.
    items : mapping of str to StandIn
        By name.
    shown : list of int
        The frames whose field of view is drawn.
    """
    chosen = [cameras[frame] for frame in shown]
    ahead = -chosen[0].rotation[:, 2] * [1, 0, 1]
    if np.linalg.norm(ahead) < 1e-6:  # straight down or up
        ahead = np.array([0.0, 0, -1])
    ahead = ahead / np.linalg.norm(ahead)
    # From above: across to the right, away from the viewer upwards. From the side: ahead to the
    # left, up upwards.
    plan = np.array([[1.0, 0, 0], [0, 0, -1]])
    side = np.array([ahead, [0.0, 1, 0]])
    path = np.array([cameras[frame].position for frame in sorted(cameras)])
    return [
        Drawing(name, _strokes(axes, path, chosen, items))
        for name, axes in (("Plan", plan), ("From the side", side))
    ]


def _strokes(
    axes: Array, path: Array, chosen: list[Camera], items: Mapping[str, StandIn]
) -> tuple[Stroke, ...]:
    out = []
    for name, item in items.items():
        flat = (item.vertices() @ axes.T).astype(np.float32)
        hull = cv2.convexHull(flat)[:, 0].astype(float)
        out.append(Stroke(hull, "item", True, name))
    reach = ALONE_M
    if items:
        corners = np.concatenate([item.vertices() for item in items.values()])
        reach = BEYOND * max(_farthest(camera, corners) for camera in chosen)
    for camera in chosen:
        eye = camera.position @ axes.T
        ends = across(camera, reach) @ axes.T
        # The two outermost of the four corners are what the field of view spans in this drawing.
        middle = ends.mean(axis=0) - eye
        turned = np.arctan2(
            middle[0] * (ends - eye)[:, 1] - middle[1] * (ends - eye)[:, 0], (ends - eye) @ middle
        )
        outer = ends[[int(np.argmin(turned)), int(np.argmax(turned))]]
        out.append(Stroke(np.array([outer[0], eye, outer[1]]), "view"))
        out.append(Stroke(eye[None], "camera"))
    if len(path) > 1:
        out.append(Stroke(path @ axes.T, "path"))
    return tuple(out)


def _farthest(camera: Camera, points: Array) -> float:
    """How far ahead of a camera the farthest of some points lies, metres; ALONE_M where none is
    ahead.
    """
    depth = -camera.to_camera_space(points)[:, 2]
    ahead = depth[depth > 0]
    return float(ahead.max()) if len(ahead) else ALONE_M
