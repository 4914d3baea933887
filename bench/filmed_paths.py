"""The ± of a camera whose film went through H.264: rooms drawn here, filmed, compressed, followed
and solved; the reference is the truth.

A room is a floor, a wall and eight cards that stand about, each with a soft random texture, warped
by the homography of its plane (OpenCV). So corners that two things at different depths make slide,
as in a real film, and the errors of a track hang together.
"""

import math
import sys
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.path.solve import solve
from aperture.track.follow import Follower, Settings
from aperture.track.tracks import Tracks
from bench.means import through_a_movie
from tests.moving import FIRST, GATE_MM, scene

SIZE, FRAMES, TRACKS, REPETITIONS = (1280, 720), 40, 200, 10
GRID, LENS = Grid.from_gate(*SIZE, *GATE_MM), Lens(20.0)
# Of the surveyed tracks: how many, and how exactly, m.
KNOWN, SURVEY_M = 6, 0.002
# A track that is seen this far beside one place of its plane at most, px rms an axis, stayed there:
# one that slides along an edge has no place to be surveyed at.
STAYED_PX = 0.25


@dataclass
class Plane:
    """corner (3,), right (3,) and up (3,) unit vectors, metres; texture (H, W) float32, of `finer`
    texels a metre, its first row on top."""

    corner: np.ndarray
    right: np.ndarray
    up: np.ndarray
    texture: np.ndarray
    finer: float

    @property
    def middle(self) -> np.ndarray:
        """(3,) metres."""
        height, width = np.array(self.texture.shape) / self.finer
        return self.corner + self.right * width / 2 + self.up * height / 2

    def seen_by(self, camera: Camera) -> np.ndarray:
        """(3, 3) the homography from texels to pixels, both counted from the first one's middle."""
        top = self.corner + self.up * self.texture.shape[0] / self.finer
        columns = np.stack([self.right / self.finer, -self.up / self.finer, top - camera.position])
        focal, middle = LENS.focal_mm / GATE_MM[0] * SIZE[0], np.array(SIZE) / 2
        lens = np.array([[focal, 0, -middle[0]], [0, -focal, -middle[1]], [0, 0, -1.0]])
        shift, back = np.eye(3), np.eye(3)
        shift[:2, 2], back[:2, 2] = 0.5, -0.5
        return back @ lens @ camera.rotation.T @ columns.T @ shift

    def met(self, place: np.ndarray, rays: np.ndarray) -> np.ndarray:
        """(N,) how far along rays (N, 3) from places (N, 3) the plane is, m; infinite beside it."""
        normal = np.cross(self.right, self.up)
        with np.errstate(all="ignore"):
            far = ((self.corner - place) @ normal) / (rays @ normal)
        at = place + rays * far[:, None] - self.corner
        height, width = np.array(self.texture.shape) / self.finer
        along, above = at @ self.right, at @ self.up
        inside = (along > 0) & (along < width) & (above > 0) & (above < height) & (far > 0)
        return np.where(inside, far, np.inf)


def room(rng: np.random.Generator) -> list[Plane]:
    """A floor, a wall, and cards about (0, 0, −7)."""

    def plane(corner, right, up, size, finer):
        shape = [round(size[1] * finer), round(size[0] * finer)]
        rough = rng.normal(0, 1, shape).astype(np.float32)
        soft = cv2.GaussianBlur(rough, (0, 0), rng.uniform(2, 5))
        texture = 128 + rng.uniform(8, 35) * soft / soft.std()
        return Plane(np.array(corner, float), np.array(right, float), up, texture, finer)

    y, away = np.array([0.0, 1, 0]), np.array([0.0, 0, -1])
    out = [
        plane([-14, 0, 3], [1, 0, 0], away, (28, 17), 90),
        plane([-14, 0, -14], [1, 0, 0], y, (28, 9), 80),
    ]
    for _ in range(8):
        turn, wide = rng.uniform(-0.7, 0.7), rng.uniform(1.0, 2.2)
        right = np.array([math.cos(turn), 0, math.sin(turn)])
        corner = np.array([rng.uniform(-4, 4), 0, rng.uniform(-11, -5)]) - right * wide / 2
        out.append(plane(corner, right, y, (wide, rng.uniform(0.8, 2.6)), 150))
    return out


def picture(planes: list[Plane], camera: Camera, rng: np.random.Generator) -> np.ndarray:
    """(H, W) uint8 with the grain of two values; what is nearer is drawn later."""
    out = np.full(SIZE[::-1], 60.0, np.float32)
    floor_and_wall, cards = planes[:2], planes[2:]
    cards = sorted(cards, key=lambda one: -float(np.linalg.norm(one.middle - camera.position)))
    for one in (*floor_and_wall, *cards):
        homography = one.seen_by(camera)
        seen = cv2.warpPerspective(one.texture, homography, SIZE, flags=cv2.INTER_CUBIC)
        share = cv2.warpPerspective(np.ones_like(one.texture), homography, SIZE)
        behind = _behind(homography)
        if behind is not None:
            share[behind] = 0
        out = out * (1 - share) + seen * share
    noisy = out + rng.normal(0, 2, out.shape)
    return np.clip(np.round(noisy), 0, 255).astype(np.uint8)


def _behind(homography: np.ndarray) -> np.ndarray | None:
    """(H, W) the pixels whose texel lies behind the camera: a plane that goes past it."""
    back = np.linalg.inv(homography)
    x, y = np.meshgrid(np.arange(SIZE[0]), np.arange(SIZE[1]))
    depth = 1 / (back[2, 0] * x + back[2, 1] * y + back[2, 2])
    return depth < 0 if (depth < 0).any() else None


def followed(pictures: list[np.ndarray]) -> Tracks:
    """Tracks through the pictures."""
    follower = Follower(Settings(wanted=TRACKS), threads=2)
    for number, pixels in enumerate(pictures, FIRST):
        follower.advance(number, pixels)
    return follower.finish()


def on_planes(
    tracks: Tracks, planes: list[Plane], cameras: list[Camera]
) -> dict[int, tuple[int, np.ndarray]]:
    """By track the index of the plane on which all its rays end and the place (3,) m that they have
    there, of those that stayed in it. What lies in a plane can't be told by its distance from it:
    the feet of the cards are near the floor."""
    out = {}
    for index in range(len(tracks)):
        own = slice(tracks.starts[index], tracks.starts[index + 1])
        seers = [cameras[frame - FIRST] for frame in tracks.frame[own]]
        rays = np.array([one.rays(xy[None])[0] for one, xy in zip(seers, tracks.xy[own])])
        places = np.array([one.position for one in seers])
        met = np.array([one.met(places, rays) for one in planes])
        nearest, first = met.min(axis=0), met.argmin(axis=0)
        if np.isfinite(nearest).all() and (first == first[0]).all():
            place = np.mean(places + rays * nearest[:, None], axis=0)
            beside = [one.project(place[None])[0] - xy for one, xy in zip(seers, tracks.xy[own])]
            if np.sqrt(np.mean(np.square(beside), axis=0)).max() < STAYED_PX:
                out[index] = int(first[0]), place
    return out


def as_document(
    tracks: Tracks, size: tuple[int, int], known: dict[int, dict] | None = None
) -> dict[str, Any]:
    """A match document of tracks through FRAMES pictures of a size in pixels, the focal length and
    k1 unknown; known: more that is said of tracks, by their index."""
    rows = []
    for index, id_ in enumerate(tracks.ids):
        own = slice(tracks.starts[index], tracks.starts[index + 1])
        table = np.column_stack([tracks.xy[own], tracks.sigma[own], tracks.cross[own]]).tolist()
        seen = [[int(frame), *row] for frame, row in zip(tracks.frame[own], table)]
        rows.append({"id": id_, "observations": seen} | (known or {}).get(index, {}))
    return {
        "format": "accurate-aperture/match",
        "version": 2,
        "image": {"width": size[0], "height": size[1]},
        "gate": {"width_mm": GATE_MM[0], "height_mm": GATE_MM[1]},
        "frames": {"first": FIRST, "last": FIRST + FRAMES - 1, "rate": "24/1"},
        "lens": {"focal_mm": None, "distortion": {"free": ["k1"]}},
        "tracks": rows,
        "facts": [],
    }


def solved(kind: str, seed: int, quality: int | None):
    """(fit, cameras, by track of the floor or the wall 0 or 1) of one film, whose longest tracks
    that stayed on their planes are surveyed."""
    rng = np.random.default_rng([seed, 4])
    planes, cameras = room(rng), scene(kind, frames=FRAMES).cameras
    cameras = [Camera(GRID, LENS, one.world_from_camera) for one in cameras]
    pictures = [picture(planes, one, rng) for one in cameras]
    tracks = followed(pictures if quality is None else through_a_movie(pictures, quality))
    stayed = on_planes(tracks, planes, cameras)
    surveyed = sorted(stayed, key=lambda index: -tracks.lengths()[index])[:KNOWN]
    known = {}
    for index in surveyed:
        place = stayed[index][1] + rng.normal(0, SURVEY_M, 3)
        known[index] = {"world": place.tolist(), "world_plus_minus": SURVEY_M}
    document = as_document(tracks, SIZE, known)
    lying = {
        tracks.ids[index]: plane
        for index, (plane, _) in stayed.items()
        if plane < 2 and index not in surveyed
    }
    return solve(document).document, cameras, lying


def beside_planes(fit: dict, lying: dict[str, int]) -> tuple[list[float], list[float]]:
    """Of the floor and of the wall how far their points are beside them, over their ±."""
    out: tuple[list[float], list[float]] = ([], [])
    for id_, plane in lying.items():
        point = fit["points"].get(id_)
        if point is None or point["world_m"] is None or None in point["plus_minus_m"]:
            continue
        axis, at = ((1, 0.0), (2, -14.0))[plane]
        out[plane].append(abs(point["world_m"][axis] - at) / point["plus_minus_m"][axis])
    return out


def report(repetitions: int = REPETITIONS) -> None:
    """Print whether the ± of the cameras is true."""
    print(
        f"\nRooms filmed at {SIZE[0]} × {SIZE[1]}, {FRAMES} frames, followed and solved, the focal"
        f" length unknown, {KNOWN} tracks surveyed:"
    )
    for name, quality in (("clean", None), ("H.264, CRF 18", 18)):
        places, focal, off = [], [], []
        points: tuple[list[float], list[float]] = ([], [])
        for kind in ("orbit", "sideways", "forward"):
            for seed in range(repetitions):
                fit, cameras, lying = solved(kind, seed, quality)
                if not fit["ok"] or fit["motion"] != "free":
                    print(f"  {name}, {kind} {seed}: {fit.get('problem') or fit['motion']}")
                    continue
                for own, more in zip(points, beside_planes(fit, lying)):
                    own += more
                true = np.array([one.position for one in cameras])
                away = np.array(fit["path"]["position_m"], float) - true
                places.append(away / np.array(fit["path"]["position_plus_minus_m"], float))
                off.append(fit["camera"]["focal_mm"] / LENS.focal_mm - 1)
                spread = fit["plus_minus"]["focal_mm"] / LENS.focal_mm
                focal.append(off[-1] / spread)
        sigmas = np.array(places)
        floor, wall = (np.quantile(own, 0.683) for own in points)
        print(
            f"  {name}, {len(off)} films: error/± of places {np.sqrt(np.mean(sigmas**2)):.2f}"
            f" (0.9–1.2), {np.mean(np.abs(sigmas) < 1.96):.1%} within 1.96 ±; of the focal length"
            f" {np.sqrt(np.mean(np.square(focal))):.2f}, which is {100 * np.std(off):.3f} % off; of"
            f" points that lie on the floor {floor:.2f}, on the wall {wall:.2f}, by two thirds of"
            " them"
        )


if __name__ == "__main__":
    report(int(sys.argv[1]) if len(sys.argv) > 1 else REPETITIONS)
