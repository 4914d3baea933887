"""What a track's residuals tell of how its errors drift, and the ± that follow from it."""

from contextlib import nullcontext
from unittest import mock

import numpy as np
from django.test import SimpleTestCase

from aperture.path import drift
from aperture.path.clustering import clustered, drift_of
from aperture.path.covariance import Solved
from aperture.path.drift import Drift, estimated, of_points
from aperture.path.solve import solve
from tests.core.test_bundle import Dense, bundle_of
from tests.moving import document, drifting, scene


def tracks(share, kept, seed, count=300):
    """Of points that a camera goes past: their frames, the residuals that are left once each point
    has found its place, and the derivatives by it."""
    rng = np.random.default_rng(seed)
    for _ in range(count):
        first, seen = int(rng.integers(0, 40)), int(rng.integers(8, 60))
        frames = np.sort(rng.choice(np.arange(first, first + seen + 5), seen, replace=False))
        across, deep = rng.uniform(-3, 3) - 0.1 * frames, rng.uniform(4, 12)
        by_point = np.zeros((seen, 2, 3))
        by_point[:, 0, 0] = by_point[:, 1, 1] = 3000 / deep
        by_point[:, 0, 2] = -3000 * across / deep**2
        by_point[:, 1, 2] = -3000 * rng.uniform(-2, 2) / deep**2
        whole = drifting(rng, (int(frames[-1]) - first + 1, 2), share, kept)
        errors = whole[frames - first].ravel()
        jacobian = by_point.reshape(-1, 3)
        taken = jacobian @ np.linalg.lstsq(jacobian, errors, rcond=None)[0]
        yield frames, (errors - taken).reshape(-1, 2), by_point


class Components(SimpleTestCase):
    def test_they_are_found_behind_what_the_points_took_up(self):
        for share, kept, slow in ((0.5, 0.97, (0, 0.5)), (0.5, 0.7, (0.5, 0)), (0, 0, (0, 0))):
            found = estimated(list(tracks(share, kept, 3)))
            with self.subTest(kept=kept):
                self.assertAlmostEqual(found.fresh, 1 - share, delta=0.06)
                np.testing.assert_allclose(found.slow, slow, atol=0.1)
        # What the residuals themselves say would have been far less: 0.5 on the next frame.
        pairs = [
            (residuals[:-1] * residuals[1:]).mean() for _, residuals, _ in tracks(0.5, 0.97, 3)
        ]
        self.assertLess(np.mean(pairs), 0.2)

    def test_few_tracks_short_ones_and_far_ones_tell_nothing(self):
        some = list(tracks(0.5, 0.97, 4))
        self.assertEqual(estimated(some[: drift.FEWEST_TRACKS - 1]), Drift())
        short = [tuple(part[: drift.LEAST_SEEN - 1] for part in one) for one in some]
        self.assertEqual(estimated(short), Drift())
        self.assertFalse(Drift())
        before = estimated(some)
        slid = [(frames, 40 * left, by_point) for frames, left, by_point in some[:30]]
        self.assertEqual(estimated(some + slid), before)

    def test_points_of_a_nodal_shot_have_two_derivatives(self):
        def turned(one):
            frames, left, by_point = one
            return frames, left, by_point * np.array([1, 1, 0])

        found = estimated([turned(one) for one in tracks(0, 0, 5)])
        self.assertGreater(found.fresh, 0.85)

    def test_the_covariance_of_a_point_s_gradient(self):
        rng, own = np.random.default_rng(0), Drift(0.7, (0.2, 0.3))
        frames = np.sort(rng.choice(30, 12, replace=False))
        by_point = rng.normal(size=(12, 2, 3))
        starts = np.array([0, 5, 12])
        found = of_points(starts, frames, by_point, own)
        for index, (first, last) in enumerate(((0, 5), (5, 12))):
            jacobian = by_point[first:last].reshape(-1, 3)
            errors = np.kron(own.between(frames[first:last]), np.eye(2))
            np.testing.assert_allclose(found[index], jacobian.T @ errors @ jacobian, rtol=1e-12)
        modes = own.modes(frames)
        np.testing.assert_allclose(modes @ modes.T, own.between(frames), atol=1e-12)


class Spreads(Dense, SimpleTestCase):
    def test_leading_tracks_and_points_have_their_drift(self):
        """Against the whole matrix: two tracks that a distance ties, and all others."""
        jac, r, free, track = self.dense()
        own = Drift(0.8, (0.1, 0.6))
        inverse, bundle = self.inverse_of(jac, free), self.bundle
        count, rows = bundle.count, 2 * len(bundle.camera)
        ties = {3, 17}
        whole = np.zeros_like(inverse)
        for point in set(range(count)) - ties:
            moved = inverse @ (jac[track == point].T @ r[track == point])
            whole += np.outer(moved, moved) * count / (count - 1) * rows / 1000
        for point in ties:
            frames = bundle.camera[bundle.order[bundle.point] == point]
            errors = np.kron(own.between(frames.astype(int)), np.eye(2))
            moved = inverse @ jac[track == point].T
            whole += moved @ errors @ moved.T
        moved = inverse @ jac[-1]
        whole += np.outer(moved, moved)
        facts = self.facts.rows(bundle.state)
        with mock.patch.object(drift, "MODES", 64):
            found = clustered(self.solved, 1000, facts, own)
        for camera in range(bundle.frames):
            at = slice(6 * camera, 6 * camera + 6)
            self.alike(found.cameras[camera], whole[at, at], 1e-6)
        at = slice(6 * bundle.frames, 6 * bundle.frames + 8)
        self.alike(found.lens, whole[at, at], 1e-6)
        # The few modes that are kept of long tracks move the cameras as all do.
        short = clustered(self.solved, 1000, facts, own)
        free_ones = bundle.freedom.cameras
        variances = [np.einsum("fii->fi", one.cameras)[free_ones] for one in (short, found)]
        self.assertGreater((variances[0] / variances[1]).min(), 0.9)
        self.assertLess((variances[0] / variances[1]).max(), 1 + 1e-6)
        # A point by itself: its own errors, beside what the cameras bring.
        point = 30
        at = slice(6 * bundle.frames + 8 + 3 * point, 6 * bundle.frames + 11 + 3 * point)
        jacobian = jac[track == point][:, at]
        frames = bundle.camera[bundle.order[bundle.point] == point].astype(int)
        errors = np.kron(own.between(frames), np.eye(2))
        alone = np.linalg.inv(jacobian.T @ jacobian)
        more = alone @ jacobian.T @ (errors - np.eye(len(errors))) @ jacobian @ alone
        drifts, plain = (
            clustered(self.solved, 1000, (), one).points[point]
            for one in (own, Drift(1.0, (0.0, 1e-12)))
        )
        self.alike(drifts - plain, more, 1e-6)

    def test_facts_about_a_track_leave_it_out_of_the_estimate(self):
        asked = []
        with mock.patch.object(
            drift, "estimated", side_effect=lambda tracks, _: asked.append(tracks)
        ):
            drift_of(Solved(bundle_of(self.made, facts=self.facts)))
        self.assertEqual(len(asked[0]), self.bundle.count - 2)


class Paths(SimpleTestCase):
    def test_a_drifting_film_is_told_less_exact_and_another_as_before(self):
        """Four surveyed tracks hold the path: their drift moves it as a whole. Whether these ± are
        true over repetitions: `bench.moving_cameras`."""
        made = scene("forward", frames=40, count=120)
        for share, least, most in ((0.0, 0.9, 1.05), (0.7, 1.1, 4.0)):
            given = document(made, known=4, drift=(share, 0.95))
            told = {}
            for name in ("with", "without"):
                none = mock.patch.object(drift, "estimated", return_value=Drift())
                with none if name == "without" else nullcontext():
                    fit = solve(given).document
                points = [one["plus_minus_m"] for one in fit["points"].values()]
                told[name] = fit["path"]["position_plus_minus_m"], points
            for ours, before in zip(told["with"], told["without"]):
                ratio = np.median(np.array(ours, float) / np.array(before, float))
                with self.subTest(share):
                    self.assertGreater(ratio, least)
                    self.assertLess(ratio, most)
