"""The bundle's algebra: derivatives against `Camera`, tiles and all ± against dense matrices."""

from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.path import floor, imaging, tiles
from aperture.path.bundle import Bundle
from aperture.path.clustering import clustered
from aperture.path.covariance import Solved
from aperture.path.facts import Distance, PathFacts
from aperture.path.leaning import leverages
from aperture.path.problem import Freedom, Observations, Row, State, exponentials
from aperture.path.structure import Seen, Structure
from tests.moving import GRID, scene

TURNED = Grid(1080, 1920, ((0.0, -0.0125, 12.0), (0.0125, 0.0, -6.75)))  # a plate on its side


class Imaging(SimpleTestCase):
    def test_points_and_derivatives_are_those_of_camera(self):
        rng = np.random.default_rng(1)
        lenses = [Lens(20.0, 1.6, "rectilinear", (0.3, -0.2), (-0.07, 0.02, -0.01, 0.002, -0.001))]
        lenses += [Lens(12.0, 1.0, name) for name in imaging._KINDS[1:]]
        for lens in lenses:
            for grid in (GRID, TURNED):
                camera = Camera.at(grid, lens, (0.2, 1.4, -0.3), 0.3, -0.2, 0.1)
                optics = imaging.Optics(grid, lens)
                for point in camera.position + camera.rays(rng.uniform(300, 700, (4, 2))) * 5:
                    self._check(camera, optics, point)

    def _check(self, camera, optics, point):
        def at(camera, point, zoom=0.0):
            values = camera.lens.parameters
            out = [np.zeros((1, 2, *more)) for more in ((), (7,), (8,), (3,))]
            imaging.jacobians(
                np.zeros(1, np.int32),
                np.zeros(1, int),
                camera.project([point]) + 1,
                np.array([[2.0, 3.0, 0.5]]),
                np.ascontiguousarray(camera.rotation[None]),
                np.ascontiguousarray(camera.position[None]),
                np.array([zoom]),
                values,
                optics.packed,
                imaging.limit2(values),
                point[None],
                *out,
            )
            return [np.tensordot(np.linalg.inv([[2.0, 0.0], [0.5, 3.0]]), one[0], 1) for one in out]

        residual, by_camera, by_lens, by_point = at(camera, point)
        np.testing.assert_allclose(residual, -1, atol=1e-9)
        step = 1e-6

        def slope(change):
            """By central differences through `Camera`."""
            return (change(step) - change(-step)) / (2 * step)

        for axis in range(3):
            unit = np.eye(3)[axis]

            def turned(h, unit=unit):
                pose = camera.world_from_camera.copy()
                pose[:3, :3] = camera.rotation @ exponentials(h * unit[None])[0]
                return Camera(camera.grid, camera.lens, pose).project([point])[0]

            def moved(h, unit=unit):
                return camera.project([point + h * unit])[0]

            np.testing.assert_allclose(by_camera[:, axis], slope(turned), rtol=1e-5, atol=1e-4)
            np.testing.assert_allclose(by_point[:, axis], slope(moved), rtol=1e-5, atol=1e-4)
        np.testing.assert_allclose(by_camera[:, 3:6], -by_point)
        for index in range(8 if camera.lens.projection.parameters else 3):

            def other_lens(h, index=index):
                values = camera.lens.parameters + h * np.eye(8)[index]
                lens = camera.lens.with_parameters(values)
                return Camera(camera.grid, lens, camera.world_from_camera).project([point])[0]

            np.testing.assert_allclose(
                by_lens[:, index], slope(other_lens), rtol=1e-5, atol=1e-4, err_msg=str(index)
            )

    def test_a_panorama_goes_on_at_its_other_side(self):
        lens = Lens(12.0, 1.0, "equirectangular")
        camera = Camera.at(GRID, lens, (0.2, 1.4, -0.3), 0.3, -0.2, 0.1)
        world = camera.position + camera.rays([[400.0, 500.0]]) * 5
        around = 2 * np.pi * 12.0 * abs(GRID.px_linear[0, 0])
        out = [np.zeros((3, 2, *more)) for more in ((), (7,), (8,), (3,))]
        imaging.jacobians(
            np.zeros(3, np.int32),
            np.zeros(3, int),
            camera.project(world) + [[3.0, 1.0], [3.0 + around, 1.0], [3.0 - 2 * around, 1.0]],
            np.full((3, 3), [2.0, 3.0, 0.5]),
            camera.rotation[None].copy(),
            camera.position[None].copy(),
            np.zeros(1),
            lens.parameters,
            imaging.Optics(GRID, lens).packed,
            imaging.limit2(lens.parameters),
            world,
            *out,
        )
        np.testing.assert_allclose(out[0], np.full((3, 2), [-6.0, -4.5]), atol=1e-8)


class Tiles(SimpleTestCase):
    def test_a_band_with_a_loop_is_factored_and_inverted_as_the_whole_matrix_is(self):
        rng, n = np.random.default_rng(2), 5
        pattern = tiles.Pattern(7, [*zip(range(6), range(1, 7)), (0, 5)])
        self.assertGreater(len(pattern), 7 + 6 + 1)  # the loop fills in
        whole = np.zeros((7 * n, 7 * n))
        for row, column in [*zip(range(7), range(7)), *zip(range(1, 7), range(6)), (5, 0)]:
            block = rng.normal(size=(n, n)) + (row == column) * 12 * np.eye(n)
            whole[row * n : row * n + n, column * n : column * n + n] = block
        whole = whole + whole.T
        stored = np.array(
            [
                whole[r * n : r * n + n, c * n : c * n + n]
                for r, c in zip(pattern.rows, pattern.columns)
            ]
        )
        args = pattern.index, pattern.right_starts, pattern.right
        inverses, inverse = np.zeros((7, n, n)), np.zeros_like(stored)
        self.assertTrue(tiles.cholesky(stored, inverses, *args))
        right = rng.normal(size=(7, n, 2))
        x = right.copy()
        tiles.solve(stored, inverses, *args, x)
        np.testing.assert_allclose(whole @ x.reshape(-1, 2), right.reshape(-1, 2), atol=1e-10)
        tiles.selected_inverse(stored, inverses, *args, inverse)
        dense = np.linalg.inv(whole)
        for tile, r, c in zip(inverse, pattern.rows, pattern.columns):
            np.testing.assert_allclose(
                tile, dense[r * n : r * n + n, c * n : c * n + n], atol=1e-12
            )
        stored[:] = -1.0
        self.assertFalse(tiles.cholesky(stored, inverses, *args))


def bundle_of(made, noise=0.2, threads=1, facts=None, seed=0, still=None):
    """A bundle of a scene, begun near the truth, its first camera held and one coordinate of its
    last; `still`: begun there, with all cameras and the lens held."""
    rng = np.random.default_rng(seed)
    camera, point = np.nonzero(np.isfinite(made.seen[:, :, 0]))
    xy = made.seen[camera, point] + rng.normal(0, noise, (len(camera), 2))
    count = len(made.cameras)
    free = np.ones((count, 6), bool)
    free[0] = free[-1, 3] = False
    lens = made.cameras[0].lens
    off = rng.normal(0, 0.01, (count, 3)) * free[:, 3:]
    state = State(
        np.array([c.rotation for c in made.cameras]),
        made.positions + off,
        np.zeros(count),
        lens.parameters + [0.02, 0, 0, 0, 0, 0, 0, 0],
        made.points + rng.normal(0, 0.03, made.points.shape),
    )
    solved = np.zeros(8, bool)
    solved[[0, 3]] = True
    if still is not None:
        state, free, solved = still, np.zeros_like(free), np.zeros_like(solved)
    freedom = Freedom(free, solved, np.zeros(made.points.shape, bool))
    observations = Observations(camera, point, xy, np.full(xy.shape, noise))
    tied = facts.tied if facts else ()
    optics = imaging.Optics(GRID, lens)
    return Bundle(observations, optics, state, freedom, facts, tied, threads)


class Dense:
    """A bundle of 40 cameras in three tiles, and its whole normal matrix."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.made = scene("sideways", frames=40, count=60)
        ends = (3, 17)
        apart = float(np.linalg.norm(cls.made.points[ends[1]] - cls.made.points[ends[0]]))
        cls.facts = PathFacts([Distance("d", 0.01, *ends, apart + 0.02)])
        cls.bundle = bundle_of(cls.made, facts=cls.facts)
        cls.bundle.solve()
        cls.solved = Solved(cls.bundle)

    def dense(self):
        """The Jacobian (rows, unknowns), its residuals, which unknowns are free, and the track of
        each row."""
        bundle, state = self.bundle, self.bundle.state
        r, by_camera, by_lens, by_point = self.solved.derivatives(0, bundle.count)
        frames, points = bundle.frames, bundle.count
        jac = np.zeros((2 * len(r) + 1, 6 * frames + 8 + 3 * points))
        track = np.full(len(jac), -1)
        for row, (camera, point) in enumerate(zip(bundle.camera, bundle.order[bundle.point])):
            rows = slice(2 * row, 2 * row + 2)
            jac[rows, 6 * camera : 6 * camera + 6] = by_camera[row]
            jac[rows, 6 * frames : 6 * frames + 8] = by_lens[row]
            at = 6 * frames + 8 + 3 * point
            jac[rows, at : at + 3] = by_point[row]
            track[rows] = point
        (fact,) = self.facts.rows(state)
        for point, slope in zip(fact.points, fact.by_points):
            at = 6 * frames + 8 + 3 * point
            jac[-1, at : at + 3] = slope
        free = np.concatenate(
            [bundle.freedom.cameras.ravel(), bundle.freedom.lens, np.ones(3 * points, bool)]
        )
        return jac, np.append(r.ravel(), fact.residual), free, track

    def inverse_of(self, jac, free):
        """(n, n) the covariance of all unknowns, zero where they are held."""
        scale = np.linalg.norm(jac[:, free], axis=0)
        normal = (jac[:, free] / scale).T @ (jac[:, free] / scale)
        inverse = np.zeros((len(free), len(free)))
        inverse[np.ix_(free, free)] = np.linalg.inv(normal) / np.outer(scale, scale)
        return inverse

    def alike(self, found, wanted, rtol=1e-7):
        self.assertLess(np.abs(found - wanted).max(), rtol * np.abs(wanted).max() + 1e-30)


class Spreads(Dense, SimpleTestCase):
    """Every ± against the inverse of the whole normal matrix."""

    def test_what_a_track_determines_and_what_one_more_measurement_would_change(self):
        jac, _, free, track = self.dense()
        inverse, frames = self.inverse_of(jac, free), self.bundle.frames
        spread = self.solved.spread()
        found = leverages(self.solved, spread)
        for point in (0, 3, 30):  # the second is tied by a fact
            rows = jac[track == point]
            self.assertAlmostEqual(found[point], np.trace(rows @ inverse @ rows.T) - 3, 6)
        unknowns = int(free.sum()) - 3 * self.bundle.count
        self.assertAlmostEqual(found.sum(), unknowns, delta=1)  # the rest is the fact's
        camera = 21
        at = [*range(6 * camera, 6 * camera + 6), *range(6 * frames, 6 * frames + 8)]
        self.alike(spread.with_lens[camera], inverse[np.ix_(at, at)])
        # A height between two points that no fact ties, measured as well as 1 mm.
        slope = np.array([[0.0, -1000.0, 0.0], [0.0, 1000.0, 0.0]])
        one = Row(0.0, points=(5, 9), by_points=slope)
        whole = np.zeros(len(free))
        for point, own in zip(one.points, slope):
            whole[6 * frames + 8 + 3 * point :][:3] = own
        cameras, border, product = self.solved.responses([one])
        after = self.inverse_of(np.vstack([jac, whole]), free)
        gained = cameras[camera, :, 0] ** 2 / (1 + product[0, 0])
        at = np.arange(6 * camera, 6 * camera + 6)
        self.alike(gained, (inverse - after)[at, at], 1e-6)
        gained = border[0, 0] ** 2 / (1 + product[0, 0])
        self.alike(gained, (inverse - after)[6 * frames, 6 * frames], 1e-6)

    def test_what_each_track_has_to_do_with_how_level_the_floor_is(self):
        """With a the derivatives of what is asked, and J of a track: the squares of J N⁻¹ a; all of
        them, and the fact's, are the variance."""
        jac, _, free, track = self.dense()
        inverse, camera = self.inverse_of(jac, free), 21
        turn = np.array([0.3, -0.2, 0.9, 0.0, 0.0, 0.0, 0.0])
        asked = np.zeros(len(free))
        asked[6 * camera : 6 * camera + 6] = turn[:6]
        x_camera, x_border, _ = self.solved.responses([Row(0.0, camera, turn)])
        found = floor.of_tracks(self.solved, x_camera[:, :, 0], x_border[:, 0])
        moved = (jac @ inverse @ asked) ** 2
        wanted = np.bincount(track[:-1], moved[:-1])  # one track is tied by a fact
        np.testing.assert_allclose(found, wanted, rtol=1e-6, atol=1e-9 * wanted.max())
        self.assertAlmostEqual((found.sum() + moved[-1]) / (asked @ inverse @ asked), 1, 6)

    def test_the_gradient_is_zero_and_the_inverse_is_the_whole_matrix_s(self):
        jac, r, free, track = self.dense()
        self.assertTrue(self.bundle.converged)
        scale = np.linalg.norm(jac[:, free], axis=0)
        self.assertLess(np.abs(jac[:, free].T @ r / scale).max(), 0.02)
        normal = (jac[:, free] / scale).T @ (jac[:, free] / scale)
        inverse = self.inverse_of(jac, free)
        spread, frames = self.solved.spread(), self.bundle.frames
        for camera in range(frames):
            at = slice(6 * camera, 6 * camera + 6)
            self.alike(spread.cameras[camera], inverse[at, at])
        at = slice(6 * frames, 6 * frames + 8)
        self.alike(spread.lens, inverse[at, at])
        for point in range(self.bundle.count):
            at = slice(6 * frames + 8 + 3 * point, 6 * frames + 11 + 3 * point)
            self.alike(spread.points[point], inverse[at, at])
        row = Row(0.0, points=(17,), by_points=np.array([[0.0, 1.0, 0.0]]))
        at = 6 * frames + 8 + 3 * 17 + 1
        self.alike(self.solved.products([row]), inverse[at : at + 1, at : at + 1])
        meat = np.zeros_like(normal)
        for point in range(self.bundle.count):
            own = (jac[:, free][track == point] / scale).T @ r[track == point]
            meat += np.outer(own, own)
        inner = np.linalg.inv(normal)
        whole = np.zeros_like(inverse)
        whole[np.ix_(free, free)] = inner @ meat @ inner / np.outer(scale, scale)
        count, rows = self.bundle.count, 2 * len(self.bundle.camera)
        whole *= count / (count - 1) * rows / 1000
        found = clustered(self.solved, 1000)
        for camera in range(frames):
            at = slice(6 * camera, 6 * camera + 6)
            self.alike(found.cameras[camera], whole[at, at], 1e-6)
        # Beside them two facts, one about points that it ties, one about a point alone: by their
        # own ±, whatever their residuals.
        alone = Row(9.0, points=(30,), by_points=np.array([[0.0, 80.0, 0.0]]))
        slope = np.zeros(len(free))
        slope[6 * frames + 8 + 3 * 30 + 1] = 80.0
        for own in (jac[-1], slope):
            moved = inverse @ own
            whole += np.outer(moved, moved)
        both = clustered(self.solved, 1000, [*self.facts.rows(self.bundle.state), alone])
        for camera in range(frames):
            at = slice(6 * camera, 6 * camera + 6)
            self.alike(both.cameras[camera], whole[at, at], 1e-6)
        at = slice(6 * frames, 6 * frames + 8)
        self.alike(both.lens, whole[at, at], 1e-6)
        at = slice(6 * frames + 8 + 3 * 17, 6 * frames + 11 + 3 * 17)
        self.alike(both.points[17], whole[at, at], 1e-6)

    def test_two_threads_give_the_same(self):
        both = bundle_of(self.made, facts=self.facts, threads=2)
        both.solve()
        np.testing.assert_allclose(both.state.positions, self.bundle.state.positions, atol=1e-7)
        self.assertAlmostEqual(both.chi2, self.bundle.chi2, places=5)

    def test_the_order_of_one_problem_serves_another_of_the_same_sightings_alone(self):
        camera, point = np.array([0, 0, 1, 1, 2]), np.array([0, 1, 0, 1, 1])
        one = Structure.of(Seen(camera, point, 2, 3, 6))
        self.assertIs(Structure.of(Seen(camera.copy(), point.copy(), 2, 3, 6), one), one)
        for other in (
            (camera, point[[1, 0, 2, 3, 4]], 2, 3, 6),
            (camera[:-1], point[:-1], 2, 3, 6),
            (camera, point, 3, 3, 6),
            (camera, point, 2, 3, 7),
            (camera, point, 2, 3, 6, (1,)),
        ):
            made, like = Structure.of(Seen(*other)), Structure.of(Seen(*other), one)
            self.assertIsNot(like, one)
            self.assertEqual(like.order.tolist(), made.order.tolist())
            self.assertEqual(like.eliminated, made.eliminated)


class PointsBeforeTheLens(SimpleTestCase):
    """A track that slid may have its point a finger's breadth before the lens, where it turns much
    as the camera moves."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        made = scene("sideways", frames=60, count=60)
        middle = made.cameras[30]
        point = middle.position + middle.rotation @ [0.004, 0.002, -0.05]
        seen = np.full((60, 1, 2), np.nan)
        for frame in (29, 30, 31):
            seen[frame, 0] = made.cameras[frame].project(point[None])[0]
        points, seen = np.vstack([made.points, point]), np.concatenate([made.seen, seen], axis=1)
        cls.made = replace(made, points=points, seen=seen)

    def test_they_go_along_with_the_camera(self):
        """Where all that there is moves alike, nothing is seen to move."""
        bundle = bundle_of(self.made)
        state = replace(bundle.state, positions=self.made.positions, points=self.made.points)
        way, cameras, points = [0.04, -0.03, 0.02], np.zeros((60, 6)), np.zeros((bundle.count, 3))
        cameras[:, 3:6] = points[:] = way
        moved = bundle.moved(state, cameras, np.zeros(bundle.border_size), points)
        before, after = (bundle.residuals(each)[0] for each in (state, moved))
        np.testing.assert_allclose(before, after, atol=1e-6)
        np.testing.assert_allclose(moved.points, state.points + way, atol=1e-9)

    def test_each_comes_to_its_own_optimum_whatever_the_others_do(self):
        """As a bundle finds them whose cameras and lens are held; and none gets worse."""
        bundle, middle = bundle_of(self.made), self.made.positions[30]
        off = 1 + 0.02 * np.random.default_rng(3).normal(size=(bundle.count, 1))
        points = middle + off * (self.made.points - middle)
        lens = self.made.cameras[0].lens.parameters
        begun = replace(bundle.state, positions=self.made.positions, points=points, lens=lens)
        with bundle.pool() as run:
            settled = bundle._settled(begun, run)
        alone = bundle_of(self.made, still=begun)
        alone.solve()
        self.assertGreater(bundle.residuals(begun)[1], 3 * alone.chi2)
        self.assertAlmostEqual(bundle.residuals(settled)[1] / alone.chi2, 1, places=3)
        before, after = (bundle._by_point(each) for each in (begun, settled))
        self.assertTrue((after <= before).all())
