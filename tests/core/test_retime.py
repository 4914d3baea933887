"""A shot at another speed: its moments, its camera there against SciPy's interpolation, its
keys."""

from unittest import TestCase

import numpy as np
from scipy.spatial.transform import Rotation, Slerp

from aperture.camera import CameraPath
from aperture.cut.cut import Clip
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.lens.projections import named
from aperture.moves.move import Move
from aperture.moves.retime import keys_at, moments, path_at, slowed

CURVE = ((1, 1.0), (5, 0.25), (20, 2.0))


def clip(speeds, between="flow", first=3, last=10):
    return Clip("a", "LT010", first, last, 1, 20, speeds, between)


def path(lens=None):
    lens = lens or Lens(35.0)
    rng = np.random.default_rng(4)
    turns = Rotation.from_rotvec(rng.normal(0, 0.3, (20, 3))).as_matrix()
    places, focal = rng.normal(0, 2, (20, 3)), np.linspace(30, 40, 20)
    grid = Grid.from_gate(1920, 1080, 36.0, 20.25)
    return CameraPath(grid, lens, np.arange(1, 21), turns, places, focal)


class Retimed(TestCase):
    def test_moments_go_there_and_back(self):
        for one in (clip(((3, 0.5),)), clip(CURVE), clip(((3, 3.0),)), clip(())):
            at = moments(one)
            self.assertEqual((len(at), at[0]), (one.length, 3))
            self.assertTrue((np.diff(at) > 0).all())
            back = [one.place(moment) for moment in at]
            np.testing.assert_allclose(back, np.arange(one.length), atol=1e-9)
        nearest = moments(clip(((3, 0.5),), "repeat"))
        self.assertEqual(nearest[:5].tolist(), [3, 4, 4, 5, 5])
        self.assertEqual(slowed(clip(((3, 0.5),))), [(0, 2.0)])
        by = [value for _, value in slowed(clip(CURVE))]
        self.assertAlmostEqual(max(by), 4.0, places=6)  # where it goes at a quarter

    def test_the_camera_is_where_another_library_has_it(self):
        own, one = path(), clip(CURVE)
        made = path_at(own, moments(one), 101 + np.arange(one.length))
        self.assertEqual(made.frames[0], 101)
        at = moments(one)
        turns = Slerp(own.frames, Rotation.from_matrix(own.rotations))(at).as_matrix()
        np.testing.assert_allclose(made.rotations, turns, atol=1e-12)
        for axis in range(3):
            wanted = np.interp(at, own.frames, own.positions[:, axis])
            np.testing.assert_allclose(made.positions[:, axis], wanted, atol=1e-12)
        with self.assertRaises(Problem):
            path_at(own, at + 100, made.frames)

    def test_as_a_move_it_sees_the_same(self):
        lens = Lens(35.0, 2.0, centre_mm=(0.4, -0.3), coefficients=(-0.1, 0.02, 0.0, 1e-3, -1e-3))
        own = path(lens)
        again = Move.of(own).on(own.grid, lens.squeeze)
        points = own.at(7).position - 5 * own.at(7).rotation[:, 2] + np.eye(3)
        np.testing.assert_allclose(
            again.at(7).project(points), own.at(7).project(points), atol=1e-9
        )
        with self.assertRaises(Problem):
            Move.of(path(Lens(12.0, projection=named("equidistant"))))

    def test_keys_fall_on_frames_and_hold_what_holds_there(self):
        half = clip(((3, 0.5),))
        keys = keys_at(half, [3, 6, 10], lambda at: [10 * at], 1001)
        self.assertEqual(keys, [[1001, 30.0], [1007, 60.0], [1015, 100.0]])
        curved = keys_at(clip(CURVE), [4, 8], lambda at: [at], 1)
        self.assertEqual(len(curved), curved[-1][0] - curved[0][0] + 1)  # on every frame
        self.assertEqual(
            [at for _, at in curved],
            moments(clip(CURVE))[curved[0][0] - 1 : curved[-1][0]].tolist(),
        )
