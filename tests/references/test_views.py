"""A panorama cut into ordinary views and joined again: against the panorama itself, py360convert's
cube, and what doesn't meet."""

import math
from dataclasses import replace
from unittest import TestCase

import numpy as np
import py360convert
from hypothesis import given, settings
from hypothesis import strategies as st

from aperture.around.recombine import recombine, seams
from aperture.around.views import CUBE, View, checked, cube, sees, unseen
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.render.passes import Wanted, render
from aperture.render.tracer import Look
from aperture.scene.stand_in import StandIn

GRID = Grid.from_gate(1024, 512, math.tau, math.pi)
AROUND = Lens(1.0, projection="equirectangular")
ROOM = StandIn(
    (9, 4, 9), (0, 0, 0), kind="room", corners=((-0.5, -0.5), (0.5, -0.5), (0.5, 0.5), (-0.5, 0.5))
)
THINGS = [
    (StandIn((1, 1, 1), (x, 0, z), turn=0.3), Look(f"box {x}"))
    for x, z in ((3, 1), (-2, 2), (0, -4), (1, 4), (-4, -1))
]


def at(pan=0.3, tilt=0.1, roll=0.05, grid=GRID):
    return Camera.at(grid, AROUND, (0.2, 1.6, 0.1), pan, tilt, roll)


class Joined(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.panorama, items = at(), [*THINGS, (ROOM, Look("room"))]
        cls.views = cube(512, 5)
        cls.cameras = [view.camera(cls.panorama) for view in cls.views]
        wanted = Wanted(samples=4)
        cls.direct = render(cls.panorama, items, wanted).rgba
        cls.pictures = [render(camera, items, wanted).rgba for camera in cls.cameras]

    def test_is_the_panorama_itself(self):
        """Within 1/255 but along contours; transparent where nothing stands, and colours multiplied
        by alpha."""
        made = recombine(self.pictures, self.cameras, self.panorama)
        off = np.abs(made - self.direct).max(axis=2)
        height = self.direct[..., :3].mean(axis=2)
        slope = np.hypot(*np.gradient(height)) + np.hypot(*np.gradient(self.direct[..., 3]))
        plain = slope < 1e-3
        self.assertGreater(plain.mean(), 0.85)
        self.assertLess(float(off[plain].max()), 1 / 255)
        self.assertTrue((made[..., :3] <= made[..., 3:] + 1e-5).all())
        # Without the room, nothing is everywhere but at the boxes.
        boxes = [render(camera, THINGS, Wanted(samples=1)).rgba for camera in self.cameras]
        alpha = recombine(boxes, self.cameras, self.panorama)[..., 3]
        self.assertGreater((alpha == 0).mean(), 0.8)

    def test_seams_meet_and_slips_are_told(self):
        found = seams(self.pictures, self.cameras)
        self.assertEqual(len(found), 12)  # each side of a cube has four neighbours
        self.assertTrue(all(seam.meets for seam in found))
        shifts = [seam.shift_px for seam in found if math.isfinite(seam.shift_px)]
        self.assertGreater(len(shifts), 3)
        self.assertLess(float(np.median(shifts)), 0.05)
        slipped, dark = list(self.pictures), list(self.pictures)
        slipped[1] = np.roll(slipped[1], 2, axis=1)
        apart = [
            seam.shift_px for seam in seams(slipped, self.cameras) if 1 in (seam.first, seam.second)
        ]
        self.assertAlmostEqual(float(np.nanmedian(apart)), 2.0, delta=0.2)
        dark[2] = dark[2] * [0.8, 0.8, 0.8, 1]
        wrong = {(s.first, s.second) for s in seams(dark, self.cameras) if not s.meets}
        self.assertEqual(wrong, {(1, 2), (2, 3), (2, 5)})  # above it is all black

    def test_py360convert_s_cube(self):
        """Its six faces of 90°, of a smooth picture, joined by us are the picture again."""
        height, width = 256, 512
        x, y = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)
        turn, up = math.tau * x / width, math.pi * y / height
        smooth = 0.5 + 0.2 * np.cos(2 * turn) * np.sin(up) ** 2 + 0.2 * np.cos(up)
        picture = np.repeat(smooth[..., None], 4, axis=2).astype(np.float32)
        faces = py360convert.e2c(picture, 512, mode="bilinear", cube_format="dict")
        grid = Grid.from_gate(width, height, math.tau, math.pi)
        panorama = Camera.at(grid, AROUND, (0, 0, 0))
        names = {"front": "F", "right": "R", "back": "B", "left": "L", "up": "U", "down": "D"}
        views = cube(512, 0)
        pictures = [np.ascontiguousarray(faces[names[view.name]]) for view in views]
        made = recombine(pictures, [view.camera(panorama) for view in views], panorama)
        # Its rasters reach from edge to edge, half a pixel off at their borders.
        self.assertLess(float(np.abs(made - picture)[..., 0].max()), 0.006)


class Views(TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.floats(-180, 180), st.floats(-90, 90), st.floats(30, 120), st.integers(0, 999))
    def test_a_view_s_pixels_are_where_the_panorama_has_them(self, pan, tilt, angle, seed):
        panorama = at()
        camera = View("one", pan, tilt, angle, 320, 200).camera(panorama)
        self.assertAlmostEqual(math.degrees(camera.view.horizontal), angle, places=6)
        np.testing.assert_allclose(camera.position, panorama.position)
        points = np.random.default_rng(seed).uniform(0, (320, 200), (5, 2))
        rays = camera.rays(points)
        back = panorama.rays(panorama.project_directions(rays))
        np.testing.assert_allclose(back, rays, atol=1e-9)
        self.assertTrue(sees(camera, rays).all())

    def test_which_way_a_cube_looks(self):
        """Right of the front is what a panorama has right of its middle (common practice, no
        source)."""
        panorama = at(0, 0, 0)
        middle = {view.name: -view.camera(panorama).rotation[:, 2] for view in cube(64)}
        px = panorama.project_directions(
            np.array([middle[name] for name in ("front", "right", "left")])
        )
        np.testing.assert_allclose(px, [[512, 256], [768, 256], [256, 256]], atol=1e-6)
        np.testing.assert_allclose(middle["up"], [0, 1, 0], atol=1e-12)

    def test_what_none_sees(self):
        panorama = at()
        self.assertEqual(unseen(cube(64, 0), panorama), 0)
        without = [view for view in cube(64, 0) if view.name != "up"]
        self.assertAlmostEqual(unseen(without, panorama), 1 / 6, delta=0.01)

    def test_what_can_t_be(self):
        for make, says in (
            (lambda: View("", 0, 0), "name"),
            (lambda: View("a", 0, 0, 180), "see"),
            (lambda: View("a", 0, 0, 90, 4, 4), "px a side"),
            (lambda: View("a", math.nan, 0), "degrees"),
            (lambda: cube(64, 60), "overlap"),
            (lambda: checked([]), "1 to"),
            (lambda: checked([View("a", 0, 0), View("A", 9, 0)]), "Two views"),
            (
                lambda: recombine([np.zeros((9, 9, 4))], [cube(64)[0].camera(at())], at()),
                "can't be",
            ),
        ):
            with self.assertRaisesRegex(Problem, says):
                make()
        self.assertEqual(len(CUBE), 6)
        self.assertEqual(replace(cube(64)[0], roll_deg=5).json()["roll_deg"], 5)
