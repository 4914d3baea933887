"""The pages' scripts: their unit tests, by node's own runner (`tests/scripts/`), and what they
compute against the core."""

import json
import math
import subprocess
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from unittest import TestCase

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.camera import Camera
from aperture.cut.cut import Clip, Cut
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.lens.projections import PANORAMAS, Pieces, named

FOLDER = Path(__file__).parents[1] / "scripts"
SCREEN = (900, 600)


class Scripts(TestCase):
    def test_all(self):
        files = sorted(map(str, FOLDER.glob("*.test.js")))
        done = subprocess.run(["node", "--test", *files], capture_output=True, text=True)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertRegex(done.stdout, r"# pass [1-9]")

    def test_looking_around_is_the_core_s_camera(self):
        """In each layout of a panorama the page's script sees the directions that the core does,
        and shows them where a plain camera of the core, turned the same way, has them."""
        for name in PANORAMAS:
            with self.subTest(name):
                panorama = panorama_of(name)
                random = np.random.default_rng(3)
                points = random.uniform(
                    (0, 0), (panorama.grid.width, panorama.grid.height), (80, 2)
                )
                yaw, pitch, wide = random.uniform((-3, -1.4, 0.3), (3, 1.4, 2.2))
                seen = in_the_script(panorama, points, yaw, pitch, wide)
                rays = panorama.rays(points)
                there = np.isfinite(rays).all(axis=1)
                self.assertGreater(there.sum(), 30)
                np.testing.assert_allclose(seen["directions"][there], rays[there], atol=1e-9)
                view = plain_view(yaw, pitch, wide)
                at = view.project(rays)
                ahead = np.isfinite(at).all(axis=1) & (np.abs(at - 450) < 5000).all(axis=1)
                self.assertGreater(ahead.sum(), 4)
                np.testing.assert_allclose(seen["places"][ahead], at[ahead], atol=1e-6)
                # And back: what the screen's own pixels show.
                screen = random.uniform((0, 0), SCREEN, (80, 2))
                back = in_the_script(panorama, screen, yaw, pitch, wide)["pixels"]
                np.testing.assert_allclose(panorama.rays(back), view.rays(screen), atol=1e-6)

    def test_the_page_of_a_cut_mixes_clips_as_the_movie_does(self):
        """Fades, dissolves and clips that lie over others, of cuts at random."""
        random = np.random.default_rng(6)
        for number in range(6):
            with self.subTest(number):
                cut = cut_at_random(random)
                told = [
                    {
                        key: getattr(clip, key)
                        for key in ("id", "length", "fade_in", "fade_out", "dissolve", "over")
                    }
                    | {"begin": begin}
                    for clip, begin in zip(cut.clips, cut.begins)
                ]
                done = subprocess.run(
                    ["node", str(FOLDER / "cut.js")],
                    input=json.dumps({"clips": told, "length": cut.length}),
                    capture_output=True,
                    text=True,
                    check=True,
                )
                for frame, seen in enumerate(json.loads(done.stdout)):
                    wanted = {cut.clips[one.index].id: one.weight for one in cut.layers(frame)}
                    drawn = {id_: weight for id_, weight in seen if weight > 1e-9}
                    self.assertEqual(drawn.keys(), {id_ for id_ in wanted if wanted[id_] > 1e-9})
                    for id_, weight in drawn.items():
                        self.assertAlmostEqual(weight, wanted[id_], msg=f"{frame}, {id_}")


def cut_at_random(random: np.random.Generator) -> Cut:
    """Some clips in a row with fades and dissolves, and one that lies over them."""
    clips = [
        Clip(f"c{number}", f"LT{number}", 1001, 1000 + int(random.integers(8, 20)), 900, 1100)
        for number in range(4)
    ]
    cut = Cut(tuple(clips), Fraction(24))
    for clip in clips[:3]:
        fades = random.integers(0, 4, 2).tolist()
        cut = cut.faded(clip.id, *fades, int(random.integers(0, 6)))
    over = Clip("o", "LT9", 1001, 1010, over=int(random.integers(2, 20)), fade_in=3, fade_out=4)
    return replace(cut, clips=(*cut.clips, over))


def panorama_of(name: str) -> Camera:
    """A camera whose millimetre is a radian, on a picture of 1200 px width."""
    projection = named(name)
    size = projection.size if isinstance(projection, Pieces) else (2 * math.pi, math.pi)
    high = round(1200 * size[1] / size[0])
    grid = Grid.from_gate(1200, high, size[0], high * size[0] / 1200)
    return Camera(grid, Lens(1.0, projection=projection), np.eye(4))


def plain_view(yaw: float, pitch: float, wide: float) -> Camera:
    """What the page shows: a plain camera, turned to the right by `yaw` and up by `pitch`."""
    pose = np.eye(4)
    pose[:3, :3] = Rotation.from_euler("YX", [-yaw, pitch]).as_matrix()
    grid = Grid.from_gate(*SCREEN, 2 * math.tan(wide / 2), 2 * math.tan(wide / 2) / 1.5)
    return Camera(grid, Lens(1.0), pose)


def in_the_script(panorama: Camera, points: np.ndarray, yaw, pitch, wide) -> dict:
    """What `Around` of the light table makes of points."""
    projection, grid = panorama.lens.projection, panorama.grid
    centre = grid.to_px([[0.0, 0.0]])[0].tolist()
    focal = float(grid.to_px([[1.0, 0.0]])[0, 0] - centre[0])
    lens = {"projection": projection.name, "focal": focal, "centre": centre, "full": False}
    if isinstance(projection, Pieces):
        lens |= projection.told()
    told = {"lens": lens, "points": points.tolist(), "yaw": yaw, "pitch": pitch, "wide": wide}
    done = subprocess.run(
        ["node", str(FOLDER / "around.js")],
        input=json.dumps(told | {"screen": SCREEN}),
        capture_output=True,
        text=True,
        check=True,
    )
    return {key: np.array(value, float) for key, value in json.loads(done.stdout).items()}
