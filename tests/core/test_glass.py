"""What glass does to light, and the blur spot of an opening: nothing but the amount that is asked
for, the same for a seed, at every size, and by light that is kept where it should be."""

from unittest import TestCase

import numpy as np

from aperture.errors import Problem
from aperture.light.character import glass
from aperture.light.pupil import Pupil


def lamp(width=480, height=270, at=(0.7, 0.3), light=50.0):
    """Dark, with one lamp of three pixels' breadth."""
    out = np.full((height, width, 3), 0.05, np.float32)
    x, y = round(at[0] * width), round(at[1] * height)
    out[y - 1 : y + 2, x - 1 : x + 2] = light
    return out


class Glass(TestCase):
    def test_veiling_glare_keeps_the_light_and_lifts_the_dark(self):
        picture = lamp()
        veiled = glass.veil(picture, 0.04)
        self.assertAlmostEqual(veiled.mean(dtype=float) / picture.mean(dtype=float), 1, places=5)
        # ISO 9358: what is black has the share of the mean.
        black = np.zeros_like(picture)
        black[:, :240] = 1
        self.assertAlmostEqual(float(glass.veil(black, 0.04)[0, -1, 0]), 0.02, places=5)
        np.testing.assert_array_equal(glass.veil(picture, 0.0), picture)

    def test_streaks_go_through_what_is_bright_and_spread_its_light(self):
        picture = lamp()
        for turn in (0.0, 90.0):
            streaked = glass.streaks(picture, 0.3, 1.0, 2, turn, 0.2)
            added = (streaked - picture)[..., 1]
            y, x = 81, 336
            along = added[y, x + 30] if turn == 0 else added[y - 30, x]
            across = added[y - 30, x] if turn == 0 else added[y, x + 30]
            self.assertGreater(along, 1e-3)
            self.assertLess(abs(across), 1e-5)
            # What the streak has the lamp has lost, but for what leaves the picture.
            self.assertAlmostEqual(float(added.sum()) / float(picture.sum()), 0, delta=0.02)
        dim = np.minimum(picture, 0.9)
        np.testing.assert_array_equal(glass.streaks(dim, 0.3, 1.0, 2, 0, 0.2), dim)

    def test_dirt_only_takes_light_and_is_the_same_at_every_size(self):
        small, large = glass.dirt(270, 480, 0.8, 7), glass.dirt(1080, 1920, 0.8, 7)
        self.assertLessEqual(float(small.max()), 1.0)
        self.assertGreater(float(small.min()), 0.0)
        self.assertLess(float(small.min()), 0.9)
        means = large.reshape(270, 4, 480, 4).mean(axis=(1, 3))
        self.assertLess(float(np.abs(means - small).mean()), 0.005)
        np.testing.assert_array_equal(small, glass.dirt(270, 480, 0.8, 7))
        self.assertGreater(float(np.abs(small - glass.dirt(270, 480, 0.8, 8)).mean()), 0.005)
        np.testing.assert_array_equal(glass.dirt(90, 160, 0.0, 7), np.ones((90, 160)))

    def test_scratches_stand_upright_wander_and_vanish(self):
        frames = [glass.scratches(270, 480, 0.2, 6, 3, frame) for frame in range(24)]
        for one in frames:
            np.testing.assert_allclose(one, np.broadcast_to(one[135], one.shape), atol=1e-6)
            self.assertLessEqual(float(one.max()), 0.2 + 1e-6)
        counts = {int((np.diff((one[135] > 0.05).astype(int)) > 0).sum()) for one in frames}
        self.assertGreater(len(counts), 1)  # some vanish
        self.assertLessEqual(max(counts), 6)
        np.testing.assert_array_equal(frames[5], glass.scratches(270, 480, 0.2, 6, 3, 5))

    def test_fringes_grow_with_the_distance_from_the_middle_and_leave_green_alone(self):
        x, y = np.meshgrid(np.arange(480), np.arange(270))
        spots = [(239.5, 134.5), (439.5, 134.5), (239.5, 234.5)]
        picture = sum(np.exp(-((x - a) ** 2 + (y - b) ** 2) / 8.0) for a, b in spots)
        picture = np.repeat(picture[..., None], 3, axis=2).astype(np.float32)
        fringed = glass.fringes(picture, 3.0, -2.0)
        np.testing.assert_array_equal(fringed[..., 1], picture[..., 1])
        corner = np.hypot(480, 270) / 2
        for (a, b), radius in zip(spots, (0.0, 200.0, 100.0)):
            near = np.hypot(x - a, y - b) < 12
            for channel, px in ((0, 3.0), (2, -2.0)):
                light = fringed[..., channel] * near
                middle = np.array([(light * x).sum(), (light * y).sum()]) / light.sum()
                moved = float(np.hypot(*(middle - (239.5, 134.5))) - radius)
                self.assertAlmostEqual(moved, px * radius / corner, delta=0.06)


class Openings(TestCase):
    grid = np.linspace(-1.2, 1.2, 241)

    def light(self, pupil, field=(0.0, 0.0)):
        x, y = np.meshgrid(self.grid, -self.grid)
        return pupil.light(x, y, field)

    def test_a_picture_is_the_opening_as_it_is_drawn(self):
        """Its top is up, its left is left, and its brightest lets all through."""
        drawn = np.zeros((40, 40))
        drawn[:20, :20], drawn[:20, 20:] = 100, 50
        light = self.light(Pupil(picture=drawn))
        self.assertEqual([light[90, 90], light[90, 150], light[150, 90]], [1.0, 0.5, 0.0])
        self.assertEqual(float(light[0].max()), 0.0)  # beside it nothing
        self.assertFalse(Pupil(picture=drawn).plain)
        for wrong in (np.zeros((4, 4)), -np.ones((4, 4)), np.full((4, 4), np.nan), np.ones(4)):
            with self.assertRaises(Problem):
                Pupil(picture=wrong)

    def test_blades_are_sides_and_their_curve_lies_between_chord_and_circle(self):
        """A regular polygon of n sides has n/2 · sin(2π/n) of the area of the square of its
        radius."""
        cell = (self.grid[1] - self.grid[0]) ** 2
        for blades in (5, 6, 9):
            area = float(self.light(Pupil(blades=blades)).sum()) * cell
            self.assertAlmostEqual(area, blades / 2 * np.sin(2 * np.pi / blades), delta=0.02)
        areas = [
            float(self.light(Pupil(blades=5, curvature=bend)).sum()) * cell
            for bend in (0.0, 0.5, 1.0)
        ]
        self.assertEqual(areas, sorted(areas))
        self.assertAlmostEqual(areas[2], np.pi, delta=0.02)

    def test_spherical_aberration_moves_light_and_makes_none(self):
        even, rim = self.light(Pupil()), self.light(Pupil(spherical=0.8))
        self.assertAlmostEqual(float(rim.sum() / even.sum()), 1, delta=0.02)
        self.assertGreater(rim[120, 215], 1.5)
        self.assertLess(rim[120, 120], 0.3)

    def test_the_barrel_cuts_the_opening_toward_the_edge_of_the_picture(self):
        """By the lens shape that two discs have in common."""
        pupil = Pupil(cats_eye=0.5, onset=0.2)
        whole = float(self.light(pupil).sum())
        self.assertEqual(whole, float(self.light(pupil, (0.1, 0.1)).sum()))  # before the onset
        corner = self.light(pupil, (1.0, 0.0))
        apart = 2 * 0.5  # of discs of radius 1
        common = 2 * np.arccos(apart / 2) - apart / 2 * np.sqrt(4 - apart**2)
        self.assertAlmostEqual(float(corner.sum()) / whole, common / np.pi, delta=0.01)
        # It is cut on the side away from the middle or toward it, never above or below.
        np.testing.assert_array_equal(corner, corner[::-1])

    def test_swirl_draws_spots_around_the_middle_and_keeps_their_area(self):
        pupil, at = Pupil(swirl=0.5), np.radians(np.arange(0, 360, 15))
        circle = np.stack([np.cos(at), np.sin(at)])
        right = np.stack(pupil.drawn(*circle, (0.8, 0.0)))
        above = np.stack(pupil.drawn(*circle, (0.0, 0.8)))
        along = 1 + 0.5 * 0.8**2
        np.testing.assert_allclose(np.abs(right).max(axis=1), [1 / along, along], rtol=1e-6)
        np.testing.assert_allclose(np.abs(above).max(axis=1), [along, 1 / along], rtol=1e-6)
        np.testing.assert_array_equal(np.stack(pupil.drawn(*circle, (0.0, 0.0))), circle)

    def test_squeeze_makes_upright_ovals(self):
        x, y = Pupil(squeeze=2.0).drawn(np.array([1.0]), np.array([1.0]), (0.0, 0.0))
        self.assertEqual((float(x[0]), float(y[0])), (0.5, 1.0))

    def test_what_is_kept_comes_back(self):
        pupil = Pupil(blades=7, turn_deg=10.0, curvature=0.3, cats_eye=0.2, squeeze=1.8)
        self.assertEqual(Pupil.from_json(pupil.to_json()).to_json(), pupil.to_json())
        self.assertEqual(Pupil.from_json({}).to_json(), Pupil().to_json())
        self.assertTrue(Pupil().plain)
        with self.assertRaisesRegex(Problem, "3 to"):
            Pupil(blades=2)
