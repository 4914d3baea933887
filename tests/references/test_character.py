"""Looks against other libraries, published equations, and what their figures say."""

import math
import tempfile
from pathlib import Path
from unittest import TestCase

import numpy as np
import PyOpenColorIO as ocio
from hypothesis import given, settings
from hypothesis import strategies as st

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.light.character import glass, grade, sensor
from aperture.light.character.look import Look, apply
from aperture.light.character.pannini import backward, forward, pannini
from aperture.plates.colour import decode_srgb, encode_srgb


class Tables(TestCase):
    def test_cubes_are_read_by_another_library(self):
        """What is written as .cube is read by OpenColorIO to the same table."""
        look = Look(response="film", saturation=1.2, stops=0.3)
        table = grade.baked(lambda linear: apply(linear, look, 0.5), 17)
        random = np.random.default_rng(1)
        colours = random.uniform(0, 1, (50, 3)).astype(np.float32)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "film.cube"
            grade.write_cube(table, path)
            ours = grade.read_cube(path.read_bytes())
            np.testing.assert_allclose(ours.table, table.table, atol=1e-6)
            transform = ocio.FileTransform(src=str(path), interpolation=ocio.INTERP_LINEAR)
            processor = ocio.Config.CreateRaw().getProcessor(transform).getDefaultCPUProcessor()
            theirs = colours.copy()
            processor.applyRGB(theirs)
        np.testing.assert_allclose(
            encode_srgb(grade.through_table(decode_srgb(colours)[None], ours))[0], theirs, atol=2e-3
        )

    def test_odd_cubes(self):
        good = "LUT_3D_SIZE 2\n" + "\n".join(["0 0 0"] * 8)
        self.assertEqual(grade.read_cube(good.encode()).size, 2)
        for text, says in (
            ("", "doesn't say its size"),
            ("LUT_3D_SIZE 3\n0 0 0", "27 lines of numbers, and has 1"),
            ("LUT_3D_SIZE 2\n" + "nan 0 0\n" * 8, "three finite"),
            ("LUT_3D_SIZE 2\n" + "a b c\n" * 8, "can't be read"),
            ("LUT_3D_SIZE 500\n", "between 2 and"),
            ("LUT_1D_SIZE two\n", "gives no size"),
        ):
            with self.assertRaisesRegex(Problem, says):
                grade.read_cube(text.encode())
        with self.assertRaisesRegex(Problem, "is text"):
            grade.read_cube(b"\xff\xfe\x00\x80")


class Perspective(TestCase):
    """Sharpless, Postle and German (2010): equations of the general Pannini projection, from
    memory."""

    @settings(max_examples=60, deadline=None)
    @given(st.floats(0, 4), st.floats(0, 1), st.floats(-1.3, 1.3), st.floats(-1.0, 1.0))
    def test_there_and_back(self, compression, vertical, longitude, latitude):
        plane = forward(np.array([longitude]), np.array([latitude]), compression, vertical)
        own = backward(plane, compression, vertical)[0]
        self.assertAlmostEqual(math.atan2(own[0], -own[2]), longitude, places=7)
        found = math.atan2(own[1], math.hypot(own[0], own[2]))
        self.assertAlmostEqual(found, latitude, places=7)

    def test_known_cases(self):
        """d = 0 is the straight perspective; d = 1 along the equator is 2 tan(φ/2), as of a
        stereographic one."""
        across, up = np.array([0.3, 0.9]), np.array([0.4, -0.2])
        straight = forward(across, up, 0.0, 0.0)
        np.testing.assert_allclose(straight[:, 0], np.tan(across))
        np.testing.assert_allclose(straight[:, 1], np.tan(up) / np.cos(across))
        middle = forward(across, np.zeros(2), 1.0, 0.0)
        np.testing.assert_allclose(middle[:, 0], 2 * np.tan(across / 2))

    def test_the_refit_has_no_border(self):
        grid = Grid.from_gate(320, 180, 36.0, 20.25)
        for lens in (Lens(14.0), Lens(20.0, coefficients=(-0.08, 0, 0, 0, 0))):
            found = pannini(Camera.at(grid, lens, (0, 0, 0)), 1.0, 0.3)
            self.assertTrue(np.isfinite(found.source).all())
            self.assertTrue((found.source >= -0.5).all())
            self.assertTrue((found.source <= [320.5, 180.5]).all())
            self.assertGreaterEqual(found.lost_horizontal + found.lost_vertical, 0)
        with self.assertRaises(Problem):
            pannini(Camera.at(grid, Lens(14.0), (0, 0, 0)), 99, 0)


class Character(TestCase):
    def test_figures(self):
        """cos⁴ at the corner, fringes of so many px, grain of a known strength, light that is
        spread and not added."""
        fall = glass.fall_off(101, 101, math.tan(math.radians(35)), True, ())
        corner = fall[0, 0] / math.cos(math.radians(35)) ** 4
        self.assertLess(abs(corner - 1), 0.02)
        ring = np.zeros((400, 400, 3), np.float32)
        ring[:, 300:] = 1
        moved = glass.fringes(ring, 5.0, -5.0)
        edge = [
            float(np.interp(0.5, moved[200, 280:320, c], np.arange(280, 320))) for c in range(3)
        ]
        shift = 5.0 * 100 / math.hypot(200, 200)
        self.assertAlmostEqual(edge[0] - edge[1], shift, delta=0.15)
        self.assertAlmostEqual(edge[2] - edge[1], -shift, delta=0.15)
        flat = np.full((200, 300, 3), 0.18, np.float32)
        first = sensor.grained(flat, 0.05, 0.8, 7, 1001)
        self.assertAlmostEqual(float(first.std(axis=(0, 1)).mean()) / 0.18, 0.05, delta=0.003)
        np.testing.assert_array_equal(first, sensor.grained(flat, 0.05, 0.8, 7, 1001))
        self.assertLess(
            abs(np.corrcoef(first.ravel(), sensor.grained(flat, 0.05, 0.8, 7, 1002).ravel())[0, 1]),
            0.02,
        )
        lamp = np.zeros((121, 161, 3), np.float32)
        lamp[60, 80] = 40.0
        for spread in (
            glass.bloom(lamp, 0.5, 1.0, 0.03),
            glass.streaks(lamp, 0.5, 1.0, 4, 0, 0.2),
        ):
            self.assertAlmostEqual(float(spread.sum()) / float(lamp.sum()), 1, delta=0.02)
            self.assertLess(spread.max(), lamp.max())
        speck = flat.copy()
        speck[50, 60] = 30.0
        self.assertEqual(int(sensor.stray(speck, 4.0).sum()), 1)
        np.testing.assert_allclose(sensor.without_stray(speck, 4.0), flat)

    def test_looks_there_and_back(self):
        look = Look(cos4=True, grain=0.1, response="own", points=((-4, -4), (0, 0), (4, 2)), seed=9)
        self.assertEqual(Look.from_json(look.to_json()), look)
        self.assertTrue(Look().plain)
        picture = np.random.default_rng(0).uniform(0, 1, (20, 30, 3)).astype(np.float32)
        np.testing.assert_array_equal(apply(picture, Look(), 0.5), picture)
        for kept, says in (
            ({"format": "other"}, "isn't a look"),
            ({"version": 99}, "another version"),
            ({"grain": "lots"}, "can't be read"),
            ({"gamma": 0}, "Gamma lies between"),
            ({"stray": 0.5}, "above 1"),
            ({"fall_off": [1, 2]}, "can't be read"),
            ({"response": "sepia"}, "no such response"),
        ):
            with self.assertRaisesRegex(Problem, says):
                Look.from_json(kept)
