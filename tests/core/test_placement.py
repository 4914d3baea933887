"""Laying a path onto what is known of places: upright, by directions where it is small."""

from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase
from scipy.spatial.transform import Rotation

from aperture.geometry.rotation import angles_from_rotation
from aperture.match.initial import pose_of_rays
from aperture.path.facts import (
    CameraAngle,
    CameraCoordinate,
    Distance,
    PathFacts,
    PointCoordinate,
)
from aperture.path.placement import Known, place, transformed
from aperture.path.problem import State, exponentials
from tests.moving import LENS, scene


class Placing(SimpleTestCase):
    def test_of_two_placings_that_are_the_same_upside_down_the_upright_one(self):
        """A floor, and a line in it: turned by half a turn about that line, all still holds."""
        rng = np.random.default_rng(8)
        points = np.column_stack(
            [rng.uniform(-3, 3, 30), rng.uniform(0, 2, 30), rng.uniform(-9, -4, 30)]
        )
        points[:12, 1] = 0
        places = np.stack([np.linspace(-1, 1, 8), np.full(8, 1.5), np.zeros(8)], axis=1)
        turns = exponentials(rng.normal(0, 0.05, (8, 3)))
        facts = [PointCoordinate("", 0.005, index, 1, 0.0) for index in range(12)]
        for index, axes in ((0, (0, 2)), (5, (0,))):
            facts += [
                PointCoordinate("", 1e-3, index, axis, float(points[index, axis])) for axis in axes
            ]
        size = float(np.linalg.norm(points[5] - points[0]))
        facts.append(Distance("", 1e-3, 0, 5, size))
        known = Known(np.full(points.shape, np.nan))
        true = State(turns, places, np.zeros(8), LENS.parameters.copy(), points)
        for seed in range(5):
            turn = Rotation.random(random_state=seed).as_matrix()
            scale = float(np.random.default_rng(seed).uniform(0.2, 5))
            anywhere = transformed(true, np.array([4.0, -2, 7]), turn, scale, np.zeros(3))
            placed = place(anywhere, PathFacts(facts), known, LENS)
            with self.subTest(seed):
                self.assertLess(placed.chi2, 1e-3)
                self.assertGreater(placed.state.rotations[:, 1, 1].min(), 0.9)
                np.testing.assert_allclose(placed.state.points[:12, 1], 0, atol=1e-3)
                np.testing.assert_allclose(placed.state.positions[:, 1], 1.5, atol=0.01)

    def test_a_camera_has_the_points_that_it_saw_before_it(self):
        """Four points of a room, to four digits, for which SQPnP alone finds a place among them."""
        world = np.array(
            [[-3.3325, 3.2044, -12.1878], [1.598, 2.369, -10.2064]]
            + [[-2.9972, 0.1851, -14.342], [-0.8664, 0.9809, -8.0805]]
        )
        x = [[-0.57689, -0.15403], [-0.10623, -0.0838], [-0.49789, 0.09912], [-0.38274, 0.0682]]
        rays = np.column_stack([np.array(x) * [1, -1], -np.ones(4)])
        rotation, position = pose_of_rays(world, rays)
        seen = (world - position) @ rotation
        self.assertLess(seen[:, 2].max(), 0)
        np.testing.assert_allclose(seen[:, :2] / -seen[:, 2:], rays[:, :2], atol=2e-3)
        np.testing.assert_allclose(position, [0.02, 1.5, -0.08], atol=0.3)
        self.assertIsNone(pose_of_rays(world[:3], rays[:3]))

    def test_exact_coordinates_stay_exact_however_far_other_points_are(self):
        """Beside a length that is two metres wrong."""
        rng = np.random.default_rng(5)
        points = rng.uniform([-3, 0, -9], [3, 2, -4], (30, 3))
        places = np.stack([np.linspace(-1, 1, 8), np.full(8, 1.5), np.zeros(8)], axis=1)
        values = np.full((31, 3), np.nan)
        values[:6] = points[:6]
        wrong = [Distance("", 0.007, 0, 1, float(np.linalg.norm(points[0] - points[1])) + 2)]
        for farthest in (10.0, 900.0):
            all_ = np.vstack([points, [0.0, 2.0, -farthest]])
            turns, lens = np.tile(np.eye(3), (8, 1, 1)), LENS.parameters.copy()
            true = State(turns, places, np.zeros(8), lens, all_)
            placed = place(true, PathFacts(wrong), Known(values), LENS)
            np.testing.assert_allclose(placed.state.positions, places, atol=2e-3)

    def test_a_path_of_next_to_no_extent_is_laid_by_directions(self):
        """Whatever distances it took its points to be at, and in whatever world and size."""
        made = scene("pivot", frames=12, count=80, seed=3)
        rng = np.random.default_rng(1)
        about = made.positions[0]
        wrong = about + (made.points - about) * rng.uniform(0.3, 3, (len(made.points), 1))
        true = State(
            np.array([camera.rotation for camera in made.cameras]),
            made.positions,
            np.zeros(12),
            made.cameras[0].lens.parameters,
            wrong,
        )
        turn = exponentials(np.array([[0.3, 1.2, -0.4]]))[0]
        elsewhere = transformed(true, np.array([4.0, -2.0, 9.0]), turn, 0.2, about)
        seen = np.flatnonzero(np.isfinite(made.seen[0, :, 0]))
        spread = seen[np.argsort(made.points[seen, 0])][:: max(1, len(seen) // 6)]
        facts = PathFacts(
            [
                PointCoordinate(f"t{point}", 0.005, int(point), axis, float(value))
                for point in spread
                for axis, value in enumerate(made.points[point])
            ]
        )
        nothing = Known(np.full(made.points.shape, np.nan))
        placed = place(elsewhere, facts, nothing, made.cameras[0].lens)
        np.testing.assert_allclose(placed.state.rotations[0], true.rotations[0], atol=1e-6)
        np.testing.assert_allclose(placed.state.positions[0], about, atol=1e-5)
        np.testing.assert_allclose(placed.state.points[spread], made.points[spread], atol=1e-9)
        self.assertEqual(placed.open_.shape[1], 0)
        # One that goes as far as its points are away knows their distances, and is laid onto them.
        first = elsewhere.positions[0]
        far = replace(elsewhere, positions=first + 50 * (elsewhere.positions - first))
        onto = place(far, facts, nothing, made.cameras[0].lens).state.points[spread]
        self.assertGreater(np.abs(onto - made.points[spread]).max(), 0.01)

    def test_a_size_that_is_open_is_a_usual_one_and_stays(self):
        """One camera is known, and nothing says how far the others are: a path that shrank in many
        solutions is as large as others again; one of a usual size stays as it is."""
        made = scene("sideways", frames=8, count=60, seed=2)
        turns = np.array([camera.rotation for camera in made.cameras])
        lens, first = made.cameras[0].lens, made.positions[0]
        true = State(turns, made.positions, np.zeros(8), lens.parameters, made.points)
        angles = angles_from_rotation(turns[0])
        one = np.array([0])
        facts = [CameraAngle("", 1e-3, one, of, angle) for of, angle in enumerate(angles)]
        facts += [CameraCoordinate("", 0.01, one, axis, first[axis]) for axis in range(3)]
        nothing = Known(np.full(made.points.shape, np.nan))

        def placed(scale):
            begin = transformed(true, np.zeros(3), np.eye(3), scale, first)
            return place(begin, PathFacts(facts), nothing, lens, begun=True)

        def size(one):
            return float(np.median(np.linalg.norm(one.state.points - first, axis=1)))

        away = float(np.median(np.linalg.norm(made.points - first, axis=1)))
        for scale in (1e-6, 1e6):
            found = placed(scale)
            self.assertTrue(found.is_open("scale"))
            self.assertAlmostEqual(size(found), 1, places=6)
            np.testing.assert_allclose(found.state.positions[0], first, atol=1e-9)
        self.assertAlmostEqual(size(placed(2 / away)), 2, places=9)
