"""Moves laid into a set: against SciPy, scikit-image's Umeyama, and simulated repetitions."""

import unittest

import numpy as np
from scipy.spatial.transform import Rotation
from skimage.transform import SimilarityTransform

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.moves.align import Pair, Sighting, Wanted, align, umeyama
from aperture.moves.by_hand import dragged
from aperture.moves.hierarchy import look_at

PLACE = np.array([3.0, 0.2, -5.0])
TURN = Rotation.from_euler("yxz", [70, 3, 2], degrees=True).as_matrix()


def points(random, count=8):
    return random.uniform(-2, 2, (count, 3)) * [2, 1, 2]


def inside(world, scale=1.0, turn=TURN):
    """The points in the move's space."""
    return (world - PLACE) @ turn / scale


def cameras(count, scale=1.0, turn=TURN):
    """Rotations and places, in the move's space, of cameras that look at the set."""
    places = np.array([[0.5 * k - 2, 1.5 + 0.1 * k, 7] for k in range(count)])
    turns = look_at(places, np.zeros((count, 3)))
    return turn.T @ turns, inside(places, scale, turn)


def sighting(name, rotation, position, own, world, noise=(0, 0), spread=0.001, known=0.0):
    away = rotation.T @ (own - position)
    return Sighting(name, rotation, position, away[:2] / -away[2] + noise, world, spread, known)


class Aligned(unittest.TestCase):
    def test_turns_are_scipys_and_similarities_scikit_images(self):
        random = np.random.default_rng(1)
        for _ in range(20):
            world, noise = points(random), random.normal(size=(8, 3)) * 0.05
            own = inside(world) + noise
            sigma = random.uniform(0.01, 0.1, 8)
            _, turn, _ = umeyama(own, world, 1 / sigma**2, False)
            weights = 1 / sigma**2
            low, high = (np.average(at, axis=0, weights=weights) for at in (own, world))
            theirs, _ = Rotation.align_vectors(world - high, own - low, weights)
            np.testing.assert_allclose(turn, theirs.as_matrix(), atol=1e-9)
            pairs = [Pair(str(i), p, w, s) for i, (p, w, s) in enumerate(zip(own, world, sigma))]
            found = align(pairs)
            np.testing.assert_allclose(found.world_from_move[:3, :3], turn, atol=1e-6)
            np.testing.assert_allclose(found.world_from_move[:3, 3], high - turn @ low, atol=1e-5)
            other = SimilarityTransform.from_estimate(own, world)
            scale, turn, shift = umeyama(own, world, np.ones(8), True)
            np.testing.assert_allclose(scale * turn, other.params[:3, :3], atol=1e-9)
            np.testing.assert_allclose(shift, other.params[:3, 3], atol=1e-9)

    def test_plus_minus_over_a_thousand_repetitions(self):
        """What is sighted and what is paired, rigid and with a scale, and with the floor level: the
        spread of the results is what the ± say.
        """
        random = np.random.default_rng(2)
        for paired, scale, level in (
            (8, 1.0, None),
            (8, 1.3, None),
            (0, 1.0, None),
            (0, 1.3, None),
            (2, 1.0, None),
            (0, 1.0, 0.003),
        ):
            world = points(random)
            turn = TURN if level is None else Rotation.from_euler("y", 1.2).as_matrix()
            own = inside(world, scale, turn)
            turns, places = cameras(8, scale, turn)
            squares, excess = [], []
            for _ in range(110):
                known = world + random.normal(size=world.shape) * 0.01
                tilt = Rotation.from_rotvec(
                    random.normal(size=3) * [1, 0, 1] * (level or 0)
                ).as_matrix()
                told = [
                    Pair(str(i), own[i] + random.normal(size=3) * 0.02, known[i], 0.02, 0.01)
                    for i in range(paired)
                ] + [
                    sighting(
                        str(i),
                        turns[i],
                        places[i],
                        own[i],
                        known[i],
                        random.normal(size=2) * 0.002,
                        0.002,
                        0.01,
                    )
                    for i in range(paired, 8)
                ]
                # A rig whose floor isn't quite level: all that it knows is turned.
                if level:
                    told = [
                        Sighting(
                            one.name,
                            tilt @ one.rotation,
                            tilt @ one.position,
                            one.tangents,
                            one.world,
                            0.002,
                            0.01,
                        )
                        for one in told
                    ]
                found = align(told, Wanted(scale=scale != 1, level=level))
                off = Rotation.from_matrix(
                    found.world_from_move[:3, :3] / found.scale @ tilt @ turn.T
                )
                error = np.concatenate([found.middle - PLACE, off.as_rotvec()])
                if scale != 1:
                    error = np.append(error, np.log(found.scale / scale))
                within = found.covariance[: len(error), : len(error)]
                squares.append(error @ np.linalg.solve(within, error) / len(error))
                excess.append(found.chi2 / found.freedom)
            case = (paired, scale, level)
            self.assertTrue(0.9 < np.sqrt(np.mean(squares)) < 1.1, (case, np.mean(squares)))
            self.assertTrue(0.9 < np.sqrt(np.mean(excess)) < 1.1, (case, np.mean(excess)))

    def test_the_entrance_pupil_is_found(self):
        """A rig whose places are of the axis that it turns about, 120 mm behind the pupil."""
        random = np.random.default_rng(3)
        world, (turns, places) = points(random, 24), cameras(24)
        told = []
        for index, at in enumerate(inside(world)):
            axis = places[index] + 0.12 * turns[index][:, 2]
            seen = sighting(
                str(index),
                turns[index],
                places[index],
                at,
                world[index],
                random.normal(size=2) * 5e-4,
                5e-4,
            )
            told.append(Sighting(seen.name, seen.rotation, axis, seen.tangents, seen.world, 5e-4))
        # Pairs hold the space; else a camera that always looks at the middle could step back.
        told += [Pair(f"p{i}", inside(world)[i], world[i], 0.001) for i in range(6)]
        found = align(told, Wanted(pupil=True))
        self.assertLess(abs(found.pupil_m - 0.12), 3 * found.plus_minus[7])
        self.assertLess(found.plus_minus[7], 0.01)

    def test_what_is_not_determined_is_said(self):
        line = np.array([[0, 0, 0], [1, 0, 0], [2.5, 0, 0]], float)
        for off, says in ((0, "isn’t determined"), (0.002, "known to")):
            world = line + [[0, 0, 0], [0, off, 0], [0, 0, 0]]
            told = [Pair(name, at, to, 0.005) for name, at, to in zip("ABC", inside(world), world)]
            found = align(told)
            self.assertIn("the line through “A” and “C”", found.open[0])
            self.assertIn(says, found.open[0])
        self.assertIn("isn’t determined", align(told[:1]).open[0])
        turns, places = cameras(2)
        world = points(np.random.default_rng(4), 2)
        two = [sighting(str(i), turns[i], places[i], inside(world)[i], world[i]) for i in range(2)]
        self.assertFalse(align(two).determined)
        with self.assertRaisesRegex(Problem, "Add references"):
            align([])

    def test_a_drag_keeps_what_was_grabbed_below_the_pointer(self):
        grid = Grid.from_gate(1920, 1080, 36, 20.25)
        camera = Camera.at(grid, Lens(30), (1, 1.5, 6), 0.2, -0.2)
        stands = np.eye(4)
        stands[:3, 3] = 1, 0, 2
        start, end = (900, 800), (1010, 870)
        floor = camera.on_plane([start])
        for way, kept in (("slide", (0, 1)), ("raise", (1,))):
            after = dragged(camera, stands, way, start, end) @ np.linalg.inv(stands)
            moved = Camera(grid, camera.lens, after @ camera.world_from_camera)
            (seen,) = moved.project(floor)
            for index in kept:
                self.assertAlmostEqual(seen[index], end[index], delta=6 if way == "raise" else 1e-6)
        after = dragged(camera, stands, "turn", start, end) @ np.linalg.inv(stands)
        moved = Camera(grid, camera.lens, after @ camera.world_from_camera)
        np.testing.assert_allclose(moved.position[1], camera.position[1])
        np.testing.assert_allclose(after[:3, :3] @ floor[0] + after[:3, 3], floor[0], atol=1e-12)
        with self.assertRaisesRegex(Problem, "begin on the floor"):
            dragged(camera, stands, "slide", start, (960, 10))
