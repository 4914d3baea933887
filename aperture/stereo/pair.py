"""Two cameras side by side, and what lies before and behind the screen.

With interaxial distance b, focal length f and convergence distance C, a point at depth Z has the
horizontal parallax f b (1/C − 1/Z) on the sensor: below zero before the screen, above zero behind
it. Lipton, "Foundations of the Stereoscopic Cinema" (1982), has the geometry; cited from memory.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.rotation import rotation_from_angles

# How both cameras look at what lies on the screen.
MODES = {
    "shifted": "parallel, the gates shifted",
    "toed": "toed in",
    "parallel": "parallel, nothing shifted",
}
LEAST_M, MOST_M = 1e-4, 1.0
# Eyes of adults stand about so far apart; and a disparity of a degree is looked at without effort
# by most: both common practice, no source.
EYES_M, COMFORT_DEG = 0.063, 1.0


@dataclass(frozen=True)
class Pair:
    """How a camera becomes two.

    Parameters
    ----------
    interaxial_m : float
        From one entrance pupil to the other.
    convergence_m : float
        Along the axis: what lies there is on the screen.
    mode : str
        A key of MODES.

    Raises Problem where a value can't be.
    """

    interaxial_m: float
    convergence_m: float
    mode: str = "shifted"

    def __post_init__(self) -> None:
        if not math.isfinite(self.interaxial_m) or self.interaxial_m < LEAST_M:
            raise Problem(
                "The interaxial distance is above zero: with none, both eyes see the same.",
                "interaxial",
            )
        if self.interaxial_m > MOST_M:
            raise Problem(
                f"The cameras stand {self.interaxial_m:g} m apart: at most {MOST_M:g} m are taken. "
                "Was another unit meant?",
                "interaxial",
            )
        if not (math.isfinite(self.convergence_m) and self.convergence_m > 0):
            raise Problem("The convergence lies before the camera.", "convergence")
        if self.mode not in MODES:
            raise Problem("Two cameras are parallel, shifted or toed in.", "mode")

    def cameras(self, camera: Camera) -> tuple[Camera, Camera]:
        """Left and right; the camera itself is in their middle.

        Raises Problem of a panorama: `aperture.stereo.around` has those.
        """
        if camera.lens.projection.around:
            raise Problem("A panorama in stereo has no two cameras: each column has its own.")
        return self._eye(camera, -1), self._eye(camera, 1)

    def _eye(self, camera: Camera, side: int) -> Camera:
        pose = np.array(camera.world_from_camera)
        aside = side * self.interaxial_m / 2
        pose[:3, 3] = camera.position + aside * camera.rotation[:, 0]
        lens = camera.lens
        if self.mode == "toed":
            # The right one turns to the left, and the other way round.
            turn = math.atan(aside / self.convergence_m)
            pose[:3, :3] = camera.rotation @ rotation_from_angles(turn, 0, 0)
        elif self.mode == "shifted":
            x, y = lens.centre_mm
            shift = aside * lens.scale_mm[0] / self.convergence_m
            lens = replace(lens, centre_mm=(x + float(shift), y))
        return Camera(camera.grid, lens, pose)


def parallax(left: Camera, right: Camera, points: Array) -> Array:
    """(N, 2) px by which points (N, 3) lie farther to the right, and lower, for the right eye."""
    return right.project(points) - left.project(points)


@dataclass(frozen=True)
class Seat:
    """Who looks at what: the screen's width, how far away they sit, and their eyes' distance,
    metres.

    Raises Problem where a value can't be.
    """

    screen_m: float
    away_m: float
    eyes_m: float = EYES_M

    def __post_init__(self) -> None:
        for value, name in (
            (self.screen_m, "screen"),
            (self.away_m, "seat"),
            (self.eyes_m, "eyes"),
        ):
            if not (math.isfinite(value) and value > 0):
                raise Problem("Screen, seat and eyes have sizes above zero.", name)
        if not 0.03 <= self.eyes_m <= 0.1:
            raise Problem("Eyes stand 3 to 10 cm apart.", "eyes")

    def on_screen(self, share: Array) -> Array:
        """Metres on the screen of parallaxes, which are shares of its width."""
        return np.asarray(share, float) * self.screen_m

    def diverges(self, share: Array) -> Array:
        """Whether the eyes would have to look apart."""
        return self.on_screen(share) > self.eyes_m

    def seems_at(self, share: Array) -> Array:
        """Metres from the eyes at which something seems; infinite where they look in parallel or
        apart."""
        rest = self.eyes_m - self.on_screen(share)
        with np.errstate(divide="ignore"):
            return np.where(rest > 0, self.away_m * self.eyes_m / rest, math.inf)

    def disparity_deg(self, share: Array) -> Array:
        """Between where the eyes turn for it and for the screen; below zero before the screen."""
        screen = 2 * math.atan(self.eyes_m / 2 / self.away_m)
        seen = 2 * np.arctan((self.eyes_m - self.on_screen(share)) / 2 / self.away_m)
        return np.degrees(screen - seen)

    def limits(
        self, camera: Camera, pair: Pair, degrees: float = COMFORT_DEG
    ) -> tuple[float, float]:
        """Nearest and farthest distance along the axis within so many degrees of disparity, and
        without divergence.

        The far one is infinite where nothing is too far.
        """
        screen = 2 * math.atan(self.eyes_m / 2 / self.away_m)
        near_share = self._share(screen + math.radians(degrees))
        far_share = self._share(screen - math.radians(degrees))
        far_share = min(far_share, self.eyes_m / self.screen_m)
        return self._depth(camera, pair, near_share), self._depth(camera, pair, far_share)

    def _share(self, angle: float) -> float:
        return (self.eyes_m - 2 * self.away_m * math.tan(angle / 2)) / self.screen_m

    @staticmethod
    def _depth(camera: Camera, pair: Pair, share: float) -> float:
        """The depth whose parallax is a share of the width; infinite where none is so far."""
        wide = (
            camera.grid.gate_mm[0] / camera.lens.scale_mm[0]
        )  # of the frustum a metre before the camera
        converges = 0.0 if pair.mode == "parallel" else 1 / pair.convergence_m
        inverse = converges - share * wide / pair.interaxial_m
        return 1 / inverse if inverse > 0 else math.inf


def keyed(keys: Sequence[Sequence[float]], frame: float) -> tuple[float, float]:
    """Interaxial and convergence, metres, between keys (frame, interaxial, convergence): evenly,
    the convergence by its inverse."""
    frames, apart, away = np.array(sorted(map(list, keys)), float).T
    inverse = np.interp(frame, frames, 1 / away)
    return float(np.interp(frame, frames, apart)), float(1 / inverse)
