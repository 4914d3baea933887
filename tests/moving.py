"""Cameras that move past points: their tracks through `Camera.project`, as match documents of
version 2."""

from dataclasses import dataclass, replace

import numpy as np

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens

SIZE, GATE_MM = (1920, 1080), (24.0, 13.5)
GRID = Grid.from_gate(*SIZE, *GATE_MM)
LENS = Lens(20.0, coefficients=(-0.06, 0.0, 0.0, 0.0, 0.0))
FIRST = 1001


@dataclass
class Scene:
    """cameras, one per frame; points (P, 3); seen (F, P, 2) px, NaN outside the picture, without
    noise."""

    cameras: list
    points: np.ndarray
    seen: np.ndarray

    @property
    def positions(self):
        """(F, 3) metres."""
        return np.array([camera.position for camera in self.cameras])


def scene(
    kind: str,
    frames: int = 40,
    count: int = 150,
    seed: int = 0,
    lens: Lens = LENS,
    arm: float = 0.08,
) -> Scene:
    """`orbit`, `sideways`, `forward` past points in a room; `turning` about one place; `still`.

    `pivot`: turning, with the lens an arm (m) ahead of the pivot; `sway`: turning in the hand,
    which sways by 5 cm; `wall`: sideways along a flat one.
    """
    rng, s = np.random.default_rng(seed), np.linspace(0, 1, frames)
    places, turns = np.zeros((frames, 3)), np.zeros((frames, 3))
    places[:, 1] = 1.5
    points = np.stack(
        [rng.uniform(-7, 7, count), rng.uniform(0, 4, count), rng.uniform(-16, -4, count)], axis=1
    )
    if kind == "orbit":
        angle = np.radians(50 * s - 25)
        places[:, 0], places[:, 2] = 7 * np.sin(angle), 7 * np.cos(angle) - 7
        turns[:, 0] = angle
        points = np.stack(
            [rng.uniform(-2, 2, count), rng.uniform(0, 3, count), rng.uniform(-9, -5, count)],
            axis=1,
        )
    elif kind in ("sideways", "wall"):
        places[:, 0], places[:, 1] = 2.4 * s - 1.2, 1.5 + 0.1 * np.sin(6 * s)
        turns[:, 0], turns[:, 1] = 0.06 * np.sin(3 * s), 0.02 * np.sin(5 * s)
    elif kind == "forward":
        places[:, 2], places[:, 0] = -3 * s, 0.1 * np.sin(5 * s)
        turns[:, 0] = 0.03 * np.sin(3 * s)
    elif kind in ("turning", "pivot", "sway"):
        turns[:, 0], turns[:, 1] = np.radians(30 * s - 15), 0.06 * np.sin(3 * s)
    if kind == "wall":
        points[:, 2] = -8
    cameras = [Camera.at(GRID, lens, place, *turn) for place, turn in zip(places, turns)]
    if kind == "pivot":
        ahead = [place + camera.rotation @ [0, 0, -arm] for place, camera in zip(places, cameras)]
        cameras = [Camera.at(GRID, lens, place, *turn) for place, turn in zip(ahead, turns)]
    if kind == "sway":
        phases = np.random.default_rng([seed, 5]).uniform(0, 2 * np.pi, (2, 3))
        sways = np.sin(8 * s[:, None] + phases[0]) + 0.5 * np.sin(19 * s[:, None] + phases[1])
        there = zip(places + 0.05 * sways, turns)
        cameras = [Camera.at(GRID, lens, place, *turn) for place, turn in there]
    seen = np.array([camera.project(points) for camera in cameras])
    outside = ((seen < 0) | (seen > SIZE)).any(axis=2)
    seen[outside | np.isnan(seen).any(axis=2)] = np.nan
    kept = np.isfinite(seen[:, :, 0]).sum(axis=0) >= 8
    return Scene(cameras, points[kept], seen[:, kept])


def zooming(kind: str, frames: int, count: int, seed: int = 0, ends=(16.0, 46.7)) -> Scene:
    """The same while the lens zooms, slowly at the ends: 16 to 46.7 mm here are 24 to 70 of a full
    frame."""
    made = scene(kind, frames, 6 * count, seed)
    course = 0.5 - 0.5 * np.cos(np.pi * np.linspace(0, 1, frames))
    focal = ends[0] * (ends[1] / ends[0]) ** course
    cameras = [
        Camera(GRID, replace(LENS, focal_mm=float(mm)), camera.world_from_camera)
        for mm, camera in zip(focal, made.cameras)
    ]
    seen = np.array([camera.project(made.points) for camera in cameras])
    seen[((seen < 0) | (seen > SIZE)).any(axis=2) | np.isnan(seen).any(axis=2)] = np.nan
    kept = np.flatnonzero(np.isfinite(seen[:, :, 0]).sum(axis=0) >= 8)
    kept = np.random.default_rng(seed).permutation(kept)[:count]
    return Scene(cameras, made.points[kept], seen[:, kept])


def rolling(kind: str, frames: int, count: int, readout: float, seed: int = 0) -> Scene:
    """The same through a shutter that takes `readout` frames from the first row to the last;
    cameras at the middle row.

    Each point is seen by the camera of the moment at which its own row is read: found by going from
    the row to the moment and back, between cameras a fortieth of a frame apart.
    """
    finer = 40
    moving = scene(kind, (frames + 1) * finer + 1, count, seed)
    middles = finer * np.arange(1, frames + 1)
    seen = np.full((frames, len(moving.points), 2), np.nan)
    for frame, middle in enumerate(middles):
        rows = moving.cameras[middle].project(moving.points)[:, 1]
        for _ in range(3):
            late = readout * (rows / SIZE[1] - 0.5) * finer
            begin = np.nan_to_num(np.clip(np.floor(late), -finer, finer - 1)).astype(int)
            at = np.full((len(rows), 2), np.nan)
            for step in np.unique(begin[np.isfinite(late)]):
                own = begin == step
                first, second = (
                    moving.cameras[middle + step + more].project(moving.points[own])
                    for more in (0, 1)
                )
                share = (late[own] - step)[:, None]
                at[own] = first * (1 - share) + second * share
            rows = at[:, 1]
        at[((at < 0) | (at > SIZE)).any(axis=1)] = np.nan
        seen[frame] = at
    kept = np.isfinite(seen[:, :, 0]).sum(axis=0) >= 8
    cameras = [moving.cameras[middle] for middle in middles]
    return Scene(cameras, moving.points[kept], seen[:, kept])


def drifting(rng: np.random.Generator, shape: tuple, share: float, kept: float) -> np.ndarray:
    """Errors of variance 1 over frames (F, …), of which a share of the variance stays from frame to
    frame by `kept`."""
    fresh = rng.normal(0, 1, shape)
    if not share:
        return fresh
    slow = rng.normal(0, 1, shape)
    for frame in range(1, len(slow)):
        slow[frame] = kept * slow[frame - 1] + np.sqrt(1 - kept**2) * slow[frame]
    return np.sqrt(1 - share) * fresh + np.sqrt(share) * slow


def document(
    made: Scene,
    noise: float = 0.2,
    seed: int = 0,
    sliding: float = 0.0,
    known: int = 0,
    drift: tuple[float, float] = (0.0, 0.0),
    **more,
) -> dict:
    """The tracks with noise; a share of them slides. `known`: of so many of the longest the place,
    ± 5 mm. `drift`: as `drifting` takes it."""
    # A stream of its own: with the scene's, the noise would follow from where the points are.
    rng = np.random.default_rng([seed, 1])
    seen = made.seen + noise * drifting(rng, made.seen.shape, *drift)
    slides = rng.random(seen.shape[1]) < sliding
    way = rng.normal(0, 60, (seen.shape[1], 2)) * slides[:, None]
    seen = seen + np.linspace(0, 1, len(seen))[:, None, None] * way
    tracks = []
    for index in range(seen.shape[1]):
        rows = np.flatnonzero(np.isfinite(seen[:, index, 0]))
        places = [[FIRST + int(row), *seen[row, index].tolist()] for row in rows]
        tracks.append({"id": f"t{index}", "sigma_px": noise or 0.2, "observations": places})
    longest = sorted(np.flatnonzero(~slides), key=lambda t: -len(tracks[t]["observations"]))
    for index in longest[:known]:
        place = made.points[index] + rng.normal(0, 0.005, 3)
        tracks[index] |= {"world": place.tolist(), "world_plus_minus": 0.005}
    return {
        "format": "accurate-aperture/match",
        "version": 2,
        "image": {"width": SIZE[0], "height": SIZE[1]},
        "gate": {"width_mm": GATE_MM[0], "height_mm": GATE_MM[1]},
        "frames": {"first": FIRST, "last": FIRST + len(made.cameras) - 1, "rate": "24/1"},
        "lens": {"focal_mm": None, "distortion": {"free": ["k1"]}},
        "tracks": tracks,
        "facts": [],
    } | more


def aligned(places: np.ndarray, onto: np.ndarray) -> np.ndarray:
    """(F, 3) places after the similarity that lays them best onto others (Umeyama 1991)."""
    middle, other = places.mean(axis=0), onto.mean(axis=0)
    left, sizes, right = np.linalg.svd((onto - other).T @ (places - middle))
    signs = np.diag([1, 1, np.sign(np.linalg.det(left @ right))])
    scale = (sizes * np.diag(signs)).sum() / ((places - middle) ** 2).sum()
    return scale * (places - middle) @ (left @ signs @ right).T + other


def path_error(fit: dict, made: Scene) -> float:
    """The rms distance of a fit's path from the true one, once laid onto it, over the true one's
    length."""
    found = np.array(fit["path"]["position_m"], float)
    off = np.linalg.norm(aligned(found, made.positions) - made.positions, axis=1)
    return float(
        np.sqrt((off**2).mean()) / np.linalg.norm(np.diff(made.positions, axis=0), axis=1).sum()
    )
