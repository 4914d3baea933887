"""What a path is found with: tries side by side, an arc, a first pair of frames, the one point that
fits sightings, and tables of observations."""

import threading
from dataclasses import replace
from types import SimpleNamespace

import numpy as np
from django.test import SimpleTestCase
from scipy.optimize import least_squares
from scipy.stats import spearmanr
from threadpoolctl import threadpool_info

from aperture.match.document import InvalidDocument, validate
from aperture.path import cleaning, growing, pairs, pivot
from aperture.path.arc import Arc, Together
from aperture.path.document import read
from aperture.path.drawn import Lines
from aperture.path.facts import PathFacts
from aperture.path.growing import Growing, LensPrior
from aperture.path.imaging import Optics
from aperture.path.problem import State, exponentials
from aperture.path.several import cores, several, sharing
from aperture.path.sightings import Sightings
from aperture.path.turning import solve_turning
from aperture.path.wanted import Wanted, prior_for, simple_lens
from tests.moving import FIRST, GRID, LENS, document, scene


def sightings_of(made, noise=0.2, seed=0):
    """What is seen of a scene, and the Optics it is seen through."""
    evidence = read(document(made, noise=noise, seed=seed))
    seen = Sightings.of(evidence.tracks, evidence.first, evidence.last, evidence.grid)
    return seen, Optics(evidence.grid, LENS)


def growing_of(seen, optics):
    """A path that has nothing yet, of the true lens."""
    free = np.zeros(8, bool)
    free[[0, 3]] = True
    return Growing(seen, optics, free, LENS.parameters.copy(), None)


class SideBySide(SimpleTestCase):
    def test_results_come_in_order_whatever_ends_first(self):
        first = threading.Event()

        def work(number):
            if number == 0:
                first.wait(60)  # so that the second one ends before it
            else:
                first.set()
            return 10 * number

        told = []
        self.assertEqual(several(work, range(4), 2, told.append), [0, 10, 20, 30])
        self.assertEqual(told, [0, 1, 2, 3])
        self.assertEqual(several(lambda n: 10 * n, range(4), 1, told.append), [0, 10, 20, 30])

    def test_what_ends_one_ends_all_and_blas_gets_its_threads_back(self):
        def threads():
            return [one["num_threads"] for one in threadpool_info() if one["user_api"] == "blas"]

        before, begun, go_on = threads(), [], threading.Event()

        def work(number):
            begun.append(number)
            if number:
                go_on.wait(60)
            return number

        def stop(number):
            go_on.set()
            raise KeyboardInterrupt

        with self.assertRaises(KeyboardInterrupt):
            several(work, range(50), 2, stop)
        self.assertLess(len(begun), 50)
        with self.assertRaises(ZeroDivisionError):
            several(lambda number: 1 / number, [1, 0, 2], 2, lambda number: None)
        self.assertEqual(threads(), before)
        self.assertGreaterEqual(cores(), 1)

    def test_shared_work_comes_in_order_and_ends_where_one_fails(self):
        taken = []

        def items():
            for number in range(50):
                taken.append(number)
                yield (number,)

        for number in (1, 3):
            with sharing(number) as run:
                self.assertEqual(run(lambda n: 10 * n, items()), list(range(0, 500, 10)))
                taken.clear()
                with self.assertRaises(ZeroDivisionError):
                    run(lambda n: 1 / (n - 4), items())
                self.assertLessEqual(len(taken), 50)
                self.assertIn(4, taken)
                self.assertEqual(run(lambda n: n, ()), [])


class Arcs(SimpleTestCase):
    def state(self, rng):
        turns = exponentials(rng.normal(0, 0.3, (4, 3)))
        places, points = rng.normal(0, 0.1, (4, 3)), np.zeros((0, 3))
        return State(
            turns, places, np.zeros(4), LENS.parameters.copy(), points, rng.normal(0, 0.1, 6)
        )

    def test_a_camera_on_it_leaves_nothing_and_derivatives_are_those_of_the_residuals(self):
        rng = np.random.default_rng(3)
        state, arc = self.state(rng), Arc(0.01)
        on_it = replace(
            state, positions=Arc(0.01, state.extra).places(state.rotations), zoom=state.zoom
        )
        np.testing.assert_allclose([row.residual for row in arc.rows(on_it)], 0, atol=1e-12)
        rows, step = arc.rows(state), 1e-6
        self.assertEqual([row.camera for row in rows], np.repeat(range(4), 3).tolist())

        def slope(changed):
            sides = [[row.residual for row in arc.rows(changed(sign * step))] for sign in (1, -1)]
            return (np.array(sides[0]) - sides[1]) / (2 * step)

        for axis, unit in enumerate(np.eye(3)):
            turned = slope(
                lambda h, unit=unit: replace(
                    state, rotations=state.rotations @ exponentials(np.tile(h * unit, (4, 1)))
                )
            )
            moved = slope(lambda h, unit=unit: replace(state, positions=state.positions + h * unit))
            np.testing.assert_allclose([row.by_camera[axis] for row in rows], turned, atol=1e-6)
            np.testing.assert_allclose([row.by_camera[3 + axis] for row in rows], moved, atol=1e-6)
        for index, unit in enumerate(np.eye(6)):
            own = slope(lambda h, unit=unit: replace(state, extra=state.extra + h * unit))
            np.testing.assert_allclose([dict(row.extra)[index] for row in rows], own, atol=1e-6)

    def test_several_equations_come_one_after_the_other(self):
        state = self.state(np.random.default_rng(4))
        sigma = np.full(8, np.inf)
        sigma[3] = 0.1
        prior = LensPrior(LENS.parameters + 0.05, sigma)
        both = Together((prior, Arc(0.01))).rows(state)
        self.assertEqual(len(both), 1 + 12)
        self.assertAlmostEqual(both[0].residual, -0.5)
        self.assertEqual(Together(()).rows(state), [])

    def test_held_on_an_arc_a_path_finds_its_arm(self):
        made = scene("pivot", frames=20, count=120, seed=4)
        seen, optics = sightings_of(made, noise=0.02)
        path = growing_of(seen, optics)
        path.rotations = np.array([camera.rotation for camera in made.cameras])
        path.arc = Arc(1e-4, np.array([0, 0, 0, 0.01, 0.01, -0.05]))
        path.positions = path.arc.places(path.rotations)
        path.posed[:] = True
        path.points = path.positions[0] + 1.05 * (made.points - path.positions[0])
        for _ in range(3):
            path.adjust(rounds=2, most=60)
        arm = path.arc.values[3:]
        # How long it is, and how far the points, is not to be known: only how they compare.
        np.testing.assert_allclose(arm / np.linalg.norm(arm), [0, 0, -1], atol=0.05)
        far = np.linalg.norm(path.points - path.positions[0], axis=1)
        true = np.linalg.norm(made.points - made.positions[0], axis=1)
        share = np.linalg.norm(arm) / far / (0.08 / true)
        self.assertLess(np.ptp(np.quantile(share, [0.1, 0.9])), 0.1)


class LinesOfAFrame(SimpleTestCase):
    def test_one_solution_s_lines_are_not_moved_by_another_s(self):
        """A bow's unknowns count from where it was lined up: that is its own in each solution."""
        made = scene("sideways", frames=10, count=60)
        ends = np.linspace([-2.0, 2.5, -7.0], [2.5, 2.5, -7.0], 7)
        bow = {"id": "b", "kind": "bow", "frame": FIRST, "sigma_px": 0.3}
        bow["points"] = made.cameras[0].project(ends).tolist()
        evidence = read(document(made, marks=[bow]))
        facts = PathFacts([Lines.on(evidence, 0, [bow], 0)], 2)
        turns = np.array([camera.rotation for camera in made.cameras])
        state = State(
            turns, made.positions, np.zeros(10), LENS.parameters, made.points, np.zeros(2)
        )
        state = replace(state, extra=facts.begin(state, LENS))
        before = [row.residual for row in facts.rows(state)]
        self.assertLess(np.abs(before).max(), 1e-3)
        turned = replace(state, rotations=turns @ exponentials(np.array([[0.02, 0.01, 0.03]])))
        facts.own().begin(turned, LENS)
        self.assertEqual([row.residual for row in facts.rows(state)], before)


class FirstPairs(SimpleTestCase):
    def test_the_pair_is_the_best_of_all_as_if_each_had_been_looked_at_whole(self):
        for kind in ("sideways", "wall", "orbit"):
            with self.subTest(kind):
                seen, optics = sightings_of(scene(kind, frames=25, count=120, seed=2))
                path, keys = growing_of(seen, optics), list(range(0, 25, 4))
                angle = path.begin(keys)
                x, focal = dict(zip(keys, path.normalised(np.array(keys)))), path.focal_px
                scores = {}
                for index, first in enumerate(keys):
                    for second in keys[index + 1 : index + 7]:
                        pair = pairs._relative_pose(x[first], x[second], focal)
                        if pair:
                            flat = pairs._flat_share(x[first], x[second], focal)
                            score = pair[0] * (1 - pairs.FLAT_COUNTS * flat)
                            scores[first, second] = score, pair[3]
                best = max(scores, key=lambda pair: scores[pair][0])
                self.assertEqual(tuple(np.flatnonzero(path.posed)), best)
                self.assertAlmostEqual(angle, scores[best][1])

    def test_frames_that_share_too_little_begin_nothing(self):
        seen, optics = sightings_of(scene("sideways", frames=10, count=60))
        few = np.arange(seen.xy.shape[1])[:, None] < 12
        hardly = replace(seen, xy=np.where(few, seen.xy, np.nan))
        path = growing_of(hardly, optics)
        self.assertIsNone(path.begin([0, 4, 9]))
        self.assertFalse(path.posed.any())
        self.assertEqual(pairs._flat_share(np.full((5, 2), np.nan), np.zeros((5, 2)), 1000.0), 0)

    def test_what_a_whole_frame_has_in_common_is_the_frame_s(self):
        row = np.repeat([0, 1, 2], 50)
        sigmas = np.random.default_rng(1).rayleigh(1, 150)
        sigmas[100:] *= 40  # this frame isn't posed right
        sigmas[7] = 60  # and this sighting slides
        beside = growing._beside_frames(sigmas, row, 3)
        self.assertLess(np.median(beside[100:]), 2)
        self.assertGreater(beside[7], 20)
        np.testing.assert_allclose(np.delete(beside[:50], 7).mean(), 1.25, atol=0.4)


class OnePoint(SimpleTestCase):
    """The point that fits a track's sightings best, and where one point no longer does."""

    def sighted(self, points, noise=0.0, focal_px=1600.0, seed=0):
        """Sightings of a point that is elsewhere on each frame, (n, 3)."""
        rng, count = np.random.default_rng(seed), len(points)
        origin = np.stack([np.linspace(-1, 1, count), np.full(count, 1.5), np.zeros(count)], axis=1)
        turns = exponentials(rng.normal(0, 0.02, (count, 3)))
        q = np.einsum("nij,ni->nj", turns, points - origin)
        x = q[:, :2] / -q[:, 2:] * [1, -1] + rng.normal(0, noise / focal_px, (count, 2))
        return cleaning._Sighted(np.arange(count), origin, turns, x, np.full(count, focal_px))

    def test_it_is_the_one_that_scipy_finds(self):
        true = np.array([0.4, 2.0, -8.0])
        exact = self.sighted(np.tile(true, (30, 1)))
        np.testing.assert_allclose(exact.nearest(), true, atol=1e-9)
        self.assertAlmostEqual(exact.misfit(), 0, places=6)
        noisy = self.sighted(np.tile(true, (30, 1)), noise=0.5)
        best = least_squares(lambda point: noisy.off(point).ravel(), true)
        least = np.sqrt(2 * best.cost / 60)
        self.assertAlmostEqual(noisy.misfit() / least, 1, delta=0.002)
        of_it = noisy.frames, noisy.origin, noisy.rotation, noisy.x, noisy.focal_px
        part = [
            cleaning._Sighted(*(of[own] for of in of_it)) for own in (slice(0, 10), slice(10, 30))
        ]
        both = np.sqrt((part[0].misfit() ** 2 + 2 * part[1].misfit() ** 2) / 3)
        parts = noisy.parts()
        self.assertAlmostEqual(parts[10], both)
        self.assertEqual(np.flatnonzero(np.isfinite(parts)).tolist(), [*range(3, 28)])

    def test_a_point_behind_is_as_far_off_as_anything_can_be(self):
        sighted = self.sighted(np.tile([0.0, 1.5, -5.0], (8, 1)))
        np.testing.assert_allclose(sighted.off(np.array([0.0, 1.5, 5.0])), 1600.0)

    def test_where_a_track_goes_over_to_another_point_is_found_to_a_frame(self):
        points = np.tile([0.4, 2.0, -8.0], (40, 1))
        points[23:] += [0.15, -0.1, 0.0]
        jumps = self.sighted(points, noise=0.2)
        self.assertEqual(cleaning._why(jumps), ("jumps", 23))
        points = np.tile([0.4, 2.0, -8.0], (40, 1)) + np.linspace(0, 0.01, 40)[:, None] ** 2
        self.assertIsNone(cleaning._jump(self.sighted(points, noise=0.2), 0.3))


class Tables(SimpleTestCase):
    """Observations as a document has them."""

    def told(self):
        return document(scene("sideways", frames=10, count=60))

    def test_rows_of_any_length_say_what_they_leave_out(self):
        told = self.told()
        track = told["tracks"][0]
        track["sigma_px"] = 0.4
        rows = [row[:3] for row in track["observations"]]
        rows[1] += [0.3]
        rows[2] += [0.3, 0.1]
        rows[3] += [0.3, 0.1, 0.5]
        track["observations"] = rows
        tracks = read(told).tracks
        own = slice(tracks.starts[0], tracks.starts[1])
        np.testing.assert_allclose(
            tracks.sigma[own][:4], [[0.4, 0.4], [0.3, 0.3]] + 2 * [[0.3, 0.1]]
        )
        np.testing.assert_allclose(tracks.cross[own][:4], [0, 0, 0, 0.5])
        np.testing.assert_allclose(tracks.xy[own], np.array([row[1:3] for row in rows]))
        self.assertEqual(tracks.frame[own].tolist(), [row[0] for row in rows])
        # All of the same length, which are read at once, give the same as one by one.
        told["tracks"][1]["observations"] = [[*row[:3], 0.7] for row in rows]
        tracks = read(told).tracks
        own = slice(tracks.starts[1], tracks.starts[2])
        np.testing.assert_allclose(tracks.sigma[own], 0.7)

    def test_what_is_no_number_is_refused_with_its_place(self):
        for value, says in (
            (float("nan"), "/tracks/3/observations/2/1"),
            (float("inf"), "/tracks/3/observations/2/1"),
            (2**60, "/tracks/3/observations/2/1"),
            (10**400, "/tracks/3/observations/2/1"),
        ):
            with self.subTest(value=str(value)[:9]):
                told = self.told()
                told["tracks"][3]["observations"][2][1] = value
                with self.assertRaises(InvalidDocument) as refused:
                    validate(told, 2)
                self.assertIn(says, str(refused.exception))
        told = self.told()
        told["tracks"][3]["observations"][2][1] = "12"
        with self.assertRaises(InvalidDocument):
            validate(told, 2)
        deep = []
        for _ in range(40):
            deep = [deep]
        with self.assertRaisesRegex(InvalidDocument, "too deeply"):
            validate(self.told() | {"facts": deep}, 2)
        # A large number that is none too large for what it is.
        told = self.told()
        told["tracks"][3]["sigma_px"] = 1e-3
        validate(told, 2)


class NearThePivot(SimpleTestCase):
    """Which of two paths of centimetres may be the true one, and which paths are one and the
    same."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        made = scene("pivot", frames=20, count=120, seed=4)
        cls.made = made
        cls.seen, cls.optics = sightings_of(made)

    def path(self, nearness=None, lens=0.0, scale=1.0, noise=1.0, seed=0):
        """A path over all frames, its points at some nearness, and residuals of a size."""
        path = growing_of(self.seen, self.optics)
        path.lens[0] += lens
        path.scale, path.posed[:] = scale, True
        away = self.made.points - self.made.positions[0]
        near = 1 / np.linalg.norm(away, axis=1, keepdims=True)
        near = near if nearness is None else nearness(near)
        path.positions[:] = self.made.positions
        path.points = self.made.positions[0] + away / np.linalg.norm(away, axis=1)[:, None] / near
        rng = np.random.default_rng(seed)
        residuals = np.where(self.seen.seen, rng.rayleigh(noise, self.seen.seen.shape), np.nan)
        return path, residuals

    def reversed(self, **more):
        """What is near is far, and the lens is as much longer as goes with that."""
        return self.path(lambda near: 2 * np.median(near) - near + 0.12, lens=0.016, **more)

    def test_the_same_lens_and_order_are_the_same_path(self):
        one, _ = self.path()
        self.assertTrue(pivot.alike(one, self.path(lambda near: 1.4 * near, lens=0.002)[0]))
        self.assertFalse(pivot.alike(one, self.reversed()[0]))
        self.assertFalse(pivot.alike(one, self.path(lens=0.01)[0]))
        few, _ = self.path()
        few.points[6:] = np.nan
        self.assertFalse(pivot.alike(one, few))

    def test_both_are_kept_where_neither_leaves_more(self):
        turning = SimpleNamespace(scale=2.0)
        true, other = self.path(seed=1), self.reversed(seed=2)
        found = pivot.near_the_pivot(turning, [true, other], true, 1.0)
        self.assertEqual(found, [true[0], other[0]])
        again = self.path(lambda near: 1.1 * near, seed=3)
        found = pivot.near_the_pivot(turning, [true, again], true, 1.0)
        self.assertEqual(found, [true[0]])
        worse = self.reversed(seed=2, noise=2.5, scale=2.5)
        self.assertEqual(pivot.near_the_pivot(turning, [true, worse], true, 1.0), [true[0]])

    def test_a_walk_keeps_its_own_path_alone(self):
        turning, best = SimpleNamespace(scale=70.0), self.path(lens=0.02, seed=4)
        pivoted = [self.path(seed=1, noise=4, scale=4), self.reversed(seed=2, noise=4, scale=4)]
        self.assertEqual(pivot.near_the_pivot(turning, pivoted, best, 1.0), [best[0]])

    def test_both_starts_are_at_the_noise_and_each_the_other_s_reversal(self):
        """Whatever slides: what turning alone leaves out stays out until the arc is found."""
        made = scene("pivot", frames=16, count=160, seed=7)
        told = document(made, seed=7, sliding=0.05)
        evidence = read(told)
        seen = Sightings.of(evidence.tracks, evidence.first, evidence.last, evidence.grid)
        optics = Optics(GRID, LENS)
        wanted = Wanted(evidence.free_lens, evidence.focal_mm)
        free = simple_lens(wanted)
        prior = prior_for(seen, optics, wanted, 20.0)
        turning = solve_turning(seen, optics, np.arange(16), LENS.parameters.copy(), free, prior)
        starts = pivot.off_the_pivot(seen, optics, wanted, turning)
        near = 1 / np.linalg.norm(made.points - made.positions[0], axis=1)
        orders = []
        for path, residuals in starts:
            self.assertLess(path.scale, 1.1)
            self.assertGreater(np.isfinite(residuals).sum(), 1000)
            self.assertIsNone(path.arc)
            both = path.placed
            own = 1 / np.linalg.norm(path.points[both] - path.positions[0], axis=1)
            orders.append(spearmanr(own, near[both])[0])
        self.assertGreater(orders[0], 0.6)
        self.assertLess(orders[1], -0.6)
        # The arm ahead, as it truly is, has the shorter lens of the two.
        self.assertLess(starts[0][0].lens[0], starts[1][0].lens[0])
