"""The demo's filmed plates: made once by `python -m demo.films`, committed as movies with the true
camera of every picture beside each.

LT070 is a hand-held walk through the boathouse, LT095 one along the slipway, all around. LT080 is a
camera hung upside down under an arm that rises past the slipway's signal lantern, which flashes
green at the move's frame zero.
"""

import json
import math
import sys
from collections.abc import Callable, Iterable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path

import numpy as np

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.geometry.rotation import rotation_from_angles
from aperture.lens.lens import Lens
from aperture.lens.projections import named
from aperture.moves.rig import Program

FOLDER = Path(__file__).parent / "plates"
SIZE = (1280, 720)
AROUND = (1024, 512)  # of a film of all around
GATE_MM = (36.0, 20.25)
SHUTTER = 0.5  # of the time between two pictures: 180°
# What the set sheet says of the films, as the Expose step keeps it; the angle in radians.
EXPOSURE = {"f_number": 4.0, "angle": math.tau * SHUTTER, "iso": 800.0}
MOMENTS = 4  # rays a pixel, each at another moment while the shutter is open
FPS = 24.0  # the moves' clock; a movie may be marked with another rate
LOOKS_AT = {"LT070": (1.75, 1.15, 0.0), "LT080": (4.15, 1.35, 2.2)}


def walk(pictures: float) -> Camera:
    """The hand-held walk, so many pictures after the first: toward the doorway at 0.7 m/s, swaying
    and bobbing with each step."""
    t = pictures / FPS
    sway, bob = np.sin(2 * np.pi * 0.92 * t), np.sin(2 * np.pi * 1.84 * t + 0.7)
    position = np.array([4.55 - 0.36 * t, 1.55, 8.30 - 0.60 * t])
    position += [0.026 * sway, 0.019 * bob, 0.011 * np.sin(2 * np.pi * 1.84 * t)]
    pan, tilt = _toward(position, LOOKS_AT["LT070"])
    # A hand's unrest: a few slow waves whose periods don't divide each other; degrees.
    pan += np.radians(0.9 * np.sin(1.13 * t + 0.4) + 0.32 * np.sin(4.7 * t) + 0.16 * sway)
    tilt += np.radians(0.6 * np.sin(0.91 * t) + 0.24 * np.sin(5.9 * t + 1.0) + 0.14 * bob)
    roll = np.radians(0.5 * np.sin(0.77 * t + 0.3) + 0.22 * np.sin(3.9 * t))
    lens = Lens(27.0, coefficients=(-0.0231, 0.0042, 0.0, 0.0, 0.0))
    return Camera.at(_grid(), lens, position, pan, tilt, roll)


def along(pictures: float) -> Camera:
    """Along the slipway with a lens that sees all around, so many pictures after the first: 1.1
    m/s, on a pole that sways."""
    t = pictures / FPS
    step = np.sin(2 * np.pi * 1.1 * t)
    position = np.array([1.3 + 0.9 * t, 1.72, 6.6 - 0.75 * t])
    position += [0.03 * step, 0.02 * np.sin(2 * np.pi * 2.2 * t + 0.5), 0.015 * step]
    pan = np.radians(-24 + 5 * np.sin(1.3 * t) + 1.2 * step)
    tilt, roll = (
        np.radians(1.6 * np.sin(2.1 * t + 0.3)),
        np.radians(2.4 * np.sin(1.7 * t) + 0.7 * step),
    )
    grid = Grid.from_gate(*AROUND, math.tau, math.pi)
    return Camera.at(
        grid, Lens(1.0, projection=named("equirectangular")), position, pan, tilt, roll
    )


FLASH = 12  # pictures of LT080 before the move's frame zero
LIT = 2  # pictures


def rise(pictures: float) -> Camera:
    """The camera under the arm, so many pictures after the first: at rest until the flash, then up
    and sideways, slow at both ends."""
    share = np.clip((pictures - FLASH) / 84, 0, 1)
    share = share**3 * (10 - 15 * share + 6 * share**2)
    turn = np.radians(52 * share)  # the arm swings about its pillar
    position = np.array(
        [-0.2 + 1.5 * np.sin(turn), 0.62 + 1.98 * share, 7.4 - 1.5 * (1 - np.cos(turn))]
    )
    pan, tilt = _toward(position, LOOKS_AT["LT080"])
    return Camera.at(_grid(), Lens(27.0), position, pan, tilt, np.pi)


RIG_TURNED, RIG_ALONG = np.pi / 6, 1.1  # the rails in the set; the pillar on them, metres


def rig_stands() -> np.ndarray:
    """(4, 4) set from the space of the rig that LT080's camera hung under."""
    out = np.eye(4)
    out[:3, :3] = rotation_from_angles(RIG_TURNED, 0, 0)
    out[:3, 3] = np.array([-0.2, 0, 5.9]) - out[:3, :3] @ [RIG_ALONG, 0, 0]
    return out


def rig_program() -> Program:
    """`rise` as the simulated rig is told it. It doesn't know that its camera hangs."""
    target = np.linalg.inv(rig_stands()) @ [*LOOKS_AT["LT080"], 1]
    return Program(
        "rise",
        start=(RIG_ALONG - 1.5 * np.sin(RIG_TURNED), 0.62, 1.5 * np.cos(RIG_TURNED)),
        end=(0.0, 2.6, 0.0),
        target=tuple(target[:3].tolist()),
        turn_deg=52,
        seconds=84 / FPS,
        side=-1,
    )


def _grid() -> Grid:
    return Grid.from_gate(*SIZE, *GATE_MM)


def _toward(position, place) -> tuple[float, float]:
    """Pan and tilt, radians, of a camera that looks from one place at another."""
    x, y, z = np.array(place) - position
    return float(np.arctan2(-x, -z)), float(np.arctan2(y, np.hypot(x, z)))


@dataclass(frozen=True)
class Shot:
    """A filmed plate: its name, its place in `demo.places`, its move, and which of its pictures the
    lamp is lit in."""

    name: str
    place: str
    move: Callable[[float], Camera]
    count: int
    rate: Fraction
    seed: int
    quality: int
    lit: range = field(default_factory=lambda: range(0))
    size: tuple[int, int] = SIZE


SHOTS = {
    "LT070": Shot("LT070_walk", "boathouse", walk, 100, Fraction(24000, 1001), 70, 22),
    "LT080": Shot(
        "LT080_arm", "slipway", rise, 104, Fraction(24), 80, 22, range(FLASH, FLASH + LIT)
    ),
    "LT095": Shot(
        "LT095_along_the_slipway", "slipway", along, 60, Fraction(24), 95, 20, size=AROUND
    ),
}


def picture(code: str, index: int, size: tuple[int, int] | None = None) -> np.ndarray:
    """(H, W, 3) uint8 sRGB: one picture of a filmed plate, with the blur of its shutter."""
    from demo import boathouse, places
    from demo.photograph import develop, seen_light

    shot = SHOTS[code]
    place = {"boathouse": boathouse.build, "slipway": places.slipway}[shot.place]()
    rng = np.random.default_rng((shot.seed, index))
    width, height = size or shot.size
    linear = np.zeros((height * width, 3))
    chances = rng.random((1, height * width, 3))
    corners = np.stack(np.meshgrid(np.arange(width), np.arange(height)), -1).reshape(-1, 2)
    for moment in range(MOMENTS):
        open_for = ((moment + 0.5) / MOMENTS - 0.5) * SHUTTER
        camera = shot.move(index + open_for)
        # Spread over the pixel as the moments go, so that moment and place in the pixel aren't tied
        # to each other.
        inside = (np.array([moment * 0.7548777, moment * 0.5698403]) + rng.random(2)) % 1
        pixels = (corners + inside) * (shot.size[0] / width)
        # Each pixel's looks at an opening are spread over it (the R3 sequence), which leaves less
        # noise than chance.
        spread = (chances + moment * np.array([0.8191725, 0.6710436, 0.5497005])) % 1
        linear += seen_light(place, camera, camera.rays(pixels), spread, lit=index in shot.lit)
    linear = linear.reshape(height, width, 3).astype(np.float32) / MOMENTS
    return develop(linear * 2.1, rng, 1.0, 0.8, shot.move(0).lens.projection.around)


def make(code: str) -> None:
    """Film a plate: its movie and the true cameras beside it."""
    shot = SHOTS[code]
    with ProcessPoolExecutor() as workers:
        encode(code, workers.map(_picture, [(code, index) for index in range(shot.count)]))
    write_truth(code)


def encode(code: str, pictures: Iterable[np.ndarray]) -> None:
    """Write a movie (H.264, video range, BT.709) of pictures as `picture` gives them."""
    import av

    shot = SHOTS[code]
    with av.open(str(FOLDER / f"{shot.name}.mp4"), "w") as movie:
        stream = movie.add_stream("libx264", rate=shot.rate)
        stream.width, stream.height, stream.pix_fmt = *shot.size, "yuv420p"
        stream.options = {"crf": str(shot.quality), "preset": "slow", "g": "24", "threads": "1"}
        context = stream.codec_context
        context.color_range = context.colorspace = 1
        context.color_primaries = context.color_trc = 1
        for index, pixels in enumerate(pictures, 1):
            frame = av.VideoFrame.from_ndarray(pixels, "rgb24").reformat(
                format="yuv420p", dst_colorspace=1, dst_color_range=1
            )
            frame.pts = index - 1
            movie.mux(stream.encode(frame))
            print(f"\r{shot.name} {index / shot.count:4.0%}", end="", file=sys.stderr)
        movie.mux(stream.encode())


def _picture(which: tuple[str, int]) -> np.ndarray:
    return picture(*which)


def write_truth(code: str) -> None:
    """The true camera of every picture, beside its movie; pictures count from 1, as a movie's
    do."""
    shot = SHOTS[code]
    cameras = [shot.move(index) for index in range(shot.count)]
    first = cameras[0]
    data = {
        "width": first.grid.width,
        "height": first.grid.height,
        "mm_from_px": first.grid.mm_from_px,
        "focal_mm": first.lens.focal_mm,
        "coefficients": first.lens.coefficients,
        "projection": first.lens.projection.name,
        "rate": str(shot.rate),
        "first": 1,
        "lit": [index + 1 for index in shot.lit],
        "world_from_camera": [np.round(camera.world_from_camera, 9).tolist() for camera in cameras],
    }
    (FOLDER / f"{shot.name}.json").write_text(json.dumps(data) + "\n")


def truth(code: str) -> list[Camera]:
    """The cameras that took a committed film, picture by picture, read from the file beside it."""
    data = json.loads((FOLDER / f"{SHOTS[code].name}.json").read_text())
    grid = Grid(data["width"], data["height"], tuple(map(tuple, data["mm_from_px"])))
    projection = named(data.get("projection", "rectilinear"))
    lens = Lens(data["focal_mm"], 1.0, projection, coefficients=tuple(data["coefficients"]))
    return [Camera(grid, lens, np.array(pose)) for pose in data["world_from_camera"]]


if __name__ == "__main__":
    for wanted in sys.argv[1:] or SHOTS:
        make(wanted)
