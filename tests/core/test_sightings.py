"""What sightings say before anything is solved: how far the picture moves and grows, which frames
to begin with, which lenses to try, and what a rolling shutter shifts."""

from types import SimpleNamespace

import cv2
import numpy as np
from django.test import SimpleTestCase

from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.path.imaging import Optics
from aperture.path.rolling import at_middle_rows, speeds
from aperture.path.sightings import Sightings, connected, grown, keyframes, travelled
from aperture.path.turning import is_still
from aperture.path.wanted import Wanted, cost, focals, prior_for, simple_lens, zooms_of
from tests.moving import GRID, LENS, scene, zooming

FREE = np.array([1, 0, 0, 1, 0, 0, 0, 0], bool)
OPTICS = Optics(GRID, LENS)


def of(xy, first=1001, sigma=0.2):
    """Sightings at places (F, T, 2) px, NaN where a track isn't seen."""
    xy = np.asarray(xy, float)
    frames = np.arange(first, first + len(xy))
    sigmas = np.where(np.isfinite(xy), sigma, np.nan)
    return Sightings(frames, xy, sigmas, np.zeros(xy.shape[:2]), GRID)


def spread_out(count=80, seed=0):
    """(T, 2) px: places all over the picture."""
    return np.random.default_rng(seed).uniform([300, 200], [1600, 900], (count, 2))


class Motion(SimpleTestCase):
    def test_the_way_of_the_picture_adds_up_and_one_track_can_t_change_it(self):
        way = np.cumsum([0, 3, 4, 0, 5])[:, None, None] * [0.6, -0.8]
        xy = spread_out() + way
        xy[:, 7] += np.arange(5)[:, None] * [90, 0]  # a person who walks
        xy[2, 30:] = np.nan
        np.testing.assert_allclose(travelled(of(xy)), [0, 3, 7, 7, 12], atol=1e-9)

    def test_frames_that_share_nothing_add_no_way(self):
        xy = np.tile(spread_out(), (4, 1, 1)) + 10 * np.arange(4)[:, None, None]
        xy[:2, 40:], xy[2:, :40] = np.nan, np.nan
        way = travelled(of(xy))
        np.testing.assert_allclose(np.diff(way), [10 * 2**0.5, 0, 10 * 2**0.5])

    def test_what_stays_where_it_is_stays_whatever_a_few_tracks_do(self):
        rng, there = np.random.default_rng(1), spread_out()
        still = there + rng.normal(0, 0.2, (20, *there.shape))
        self.assertTrue(is_still(of(still)))
        some = still.copy()
        some[:, :20] += np.linspace(0, 60, 20)[:, None, None]
        self.assertTrue(is_still(of(some)))
        some[:, :40] += np.linspace(0, 60, 20)[:, None, None]
        self.assertFalse(is_still(of(some)))
        # In a compressed picture tracks shake by more, and say so.
        shaken = there + rng.normal(0, 1.5, (20, *there.shape))
        self.assertFalse(is_still(of(shaken)))
        self.assertTrue(is_still(of(shaken, sigma=0.6)))
        self.assertTrue(is_still(of(np.where(np.arange(20)[:, None, None] == 3, still, np.nan))))

    def test_a_zoom_s_growth_is_told_apart_from_its_turn_as_opencv_does(self):
        there, ratio = spread_out(), 1.02
        xy = [there]
        for _ in range(6):
            turn = cv2.getRotationMatrix2D((960, 540), 1.5, ratio)
            xy.append(xy[-1] @ turn[:, :2].T + turn[:, 2])
        xy = np.array(xy)
        xy[3:, :9] += [40, -25]
        np.testing.assert_allclose(grown(of(xy)), np.log(ratio) * np.arange(7), atol=1e-3)
        xy[2:, 5:] = np.nan  # too few are left to say anything
        np.testing.assert_allclose(np.diff(grown(of(xy)))[2:], 0, atol=1e-12)

    def test_a_true_zoom_grows_as_its_focal_length(self):
        made = zooming("turning", 24, 120, seed=1)
        focal = np.array([camera.lens.focal_mm for camera in made.cameras])
        growth = grown(of(made.seen))
        # Its lens bends, by less where it is long: that is all that is between them.
        np.testing.assert_allclose(growth, np.log(focal / focal[0]), atol=0.1)


class Keys(SimpleTestCase):
    def test_they_are_evenly_apart_in_what_the_picture_moved(self):
        speed = np.repeat([2.0, 40.0], 20)
        xy = spread_out() + np.cumsum(speed)[:, None, None] * [0.4, 0.0]
        keys = keyframes(of(xy))
        self.assertEqual((keys[0], keys[-1]), (0, 39))
        way = travelled(of(xy))
        steps = np.diff(way[keys])
        self.assertTrue((steps[:-1] >= 0.03 * GRID.width).all())
        self.assertLess(np.count_nonzero(np.array(keys) < 20), 3)
        self.assertLessEqual(len(keys), 12)

    def test_one_more_is_taken_before_tracks_are_lost(self):
        xy = np.tile(spread_out(90), (30, 1, 1))
        xy[12:, :60] = np.nan
        xy[:9, 60:] = np.nan
        keys = keyframes(of(xy))
        seen = of(xy).seen
        self.assertTrue(any(9 <= key < 12 for key in keys), keys)
        for before, after in zip(keys, keys[1:]):
            shared = np.count_nonzero(seen[before] & seen[after])
            self.assertTrue(shared >= 30 or before >= 9, (before, after, shared))

    def test_of_many_those_that_share_enough_or_the_run_that_shares_most(self):
        whole = of(np.tile(spread_out(60), (40, 1, 1)))
        keys = list(range(0, 40, 2))
        chosen = connected(whole, keys)
        self.assertEqual((chosen[0], chosen[-1], len(chosen)), (0, 38, 8))
        self.assertEqual(connected(whole, keys[:5]), keys[:5])
        xy = np.full((40, 400, 2), np.nan)
        for frame in range(40):  # each track lasts for six frames, but in the middle for more
            first = 10 * frame
            xy[frame, max(0, first - 30) : first + 30] = 500.0
            xy[frame, 190:260] = 500.0 if 14 <= frame < 30 else xy[frame, 190:260]
        run = connected(of(xy), keys)
        self.assertEqual(len(run), 8)
        self.assertTrue(14 <= run[0] and run[-1] <= 30, run)


class ThroughTheLens(SimpleTestCase):
    def test_normalised_places_are_those_of_opencv_s_camera(self):
        """OpenCV's model has ours for k1 to k3 and no squeeze: `undistortPoints` says the same."""
        lens = Lens(20.0, coefficients=(-0.08, 0.02, -0.004, 0.0, 0.0))
        xy = np.tile(spread_out(50), (2, 1, 1))
        xy[1, 4] = np.nan
        found = of(xy).normalised(lens)
        focal = 20.0 / GRID.gate_mm[0] * GRID.width
        inner = np.array([[focal, 0, GRID.width / 2], [0, focal, GRID.height / 2], [0, 0, 1]])
        wanted = cv2.undistortPoints(
            xy[0][:, None], inner, np.array([-0.08, 0.02, 0, 0, -0.004]), None, None
        )
        np.testing.assert_allclose(found[0], wanted[:, 0], atol=1e-5)
        self.assertTrue(np.isnan(found[1, 4]).all())
        rays = of(xy).rays(lens)
        np.testing.assert_allclose(np.linalg.norm(rays[0], axis=1), 1)
        np.testing.assert_allclose(rays[0, :, :2] / -rays[0, :, 2:] * [1, -1], found[0])

    def test_a_picture_of_another_focal_length_is_one_of_the_lens_s_own_shrunk(self):
        made = zooming("turning", 10, 60, seed=3)
        seen, lens = of(made.seen), made.cameras[0].lens
        focal = np.array([camera.lens.focal_mm for camera in made.cameras])
        found = seen.zoomed(lens, np.log(focal / lens.focal_mm))
        for frame, camera in enumerate(made.cameras):
            wanted = seen.on(np.array([frame])).normalised(camera.lens)[0]
            np.testing.assert_allclose(found[frame], wanted, atol=1e-9)

    def test_what_lies_far_beside_the_axis_has_no_place_there(self):
        wide = Grid.from_gate(1000, 1000, 30.0, 30.0)
        xy = np.array([[[500.0, 500.0], [980.0, 500.0]]])
        ones = np.ones((1, 2, 2))
        seen = Sightings(np.array([1]), xy, ones, np.zeros((1, 2)), wide)
        found = seen.normalised(Lens(8.0, projection="equidistant"))
        np.testing.assert_allclose(found[0, 0], 0, atol=1e-12)
        self.assertTrue(np.isnan(found[0, 1]).all())


class Lenses(SimpleTestCase):
    def seen(self):
        return of(scene("sideways", frames=12, count=60).seen)

    def test_a_known_focal_length_is_the_only_one_and_is_held_by_its_own_sigma(self):
        ladder = (0.5, 1.0, 2.0)
        self.assertEqual(focals(OPTICS, Wanted(FREE), ladder), [12.0, 24.0, 48.0])
        known = Wanted(FREE, focal_mm=21.0, focal_sigma=0.01)
        self.assertEqual(focals(OPTICS, known, ladder), [21.0])
        prior = prior_for(self.seen(), OPTICS, known, 21.0)
        self.assertAlmostEqual(prior.values[0], np.log(21.0))
        self.assertEqual(prior.sigma[0], 0.01)
        self.assertGreater(prior_for(self.seen(), OPTICS, Wanted(FREE), 21.0).sigma[0], 0.1)
        exact = prior_for(self.seen(), OPTICS, Wanted(FREE, focal_mm=21.0), 21.0)
        self.assertGreater(exact.sigma[0], 0)

    def test_a_small_bundle_solves_for_what_it_can(self):
        every = np.ones(8, bool)
        self.assertEqual(np.flatnonzero(simple_lens(Wanted(every))).tolist(), [0, 3])
        self.assertFalse(simple_lens(Wanted(~every)).any())

    def test_values_of_a_zoom_on_some_frames_lay_its_course(self):
        seen = of(zooming("turning", 24, 120, seed=1).seen)
        ends = ((1001, 16.0, 0.1), (1024, 46.7, 0.1), (1030, 99.0, 0.1))
        wanted = Wanted(FREE, zooms=True, focal_on=ends)
        for focal, course in zooms_of(seen, OPTICS, wanted):
            own = focal * np.exp(course)
            self.assertAlmostEqual(own[0], 16.0, places=6)
            self.assertAlmostEqual(own[-1], 46.7, places=6)
            self.assertAlmostEqual(float(np.median(course)), 0)
        prior = prior_for(seen, OPTICS, wanted, 27.0, np.zeros(24))
        self.assertAlmostEqual(prior.zoom_sigma[0], 0.1 / 16)
        self.assertLess(prior.zoom_sigma[23], prior.zoom_sigma[10])
        # Nothing is known: every lens of the ladder, with the picture's growth and without.
        both = zooms_of(seen, OPTICS, Wanted(FREE, zooms=True))
        self.assertEqual(len(both) % 2, 0)
        self.assertEqual(np.ptp(both[1][1]), 0)
        self.assertGreater(np.ptp(both[0][1]), 0.9)

    def test_what_is_far_off_costs_no_more_than_five_sigma(self):
        residuals = np.array([[0.0, 2.0, np.nan], [30.0, 1.0, 4.0]])
        self.assertAlmostEqual(cost(residuals, 1.0), 0 + 4 + 25 + 1 + 16)
        self.assertAlmostEqual(cost(residuals, 2.0), 0 + 1 + 25 + 0.25 + 4)


class RollingShutters(SimpleTestCase):
    def test_speeds_are_those_of_a_parabola_at_its_ends_too(self):
        t = np.arange(9)[:, None, None]
        xy = [900, 500] + t * [12.0, -3.0] + t**2 * [0.5, 0.25] + np.zeros((1, 3, 1))
        wanted = np.array([12.0, -3.0]) + 2 * t * [0.5, 0.25] + np.zeros((1, 3, 1))
        np.testing.assert_allclose(speeds(of(xy)), wanted, atol=1e-9)
        hole = xy.copy()
        hole[4] = np.nan
        found = speeds(of(hole))
        np.testing.assert_allclose(
            np.delete(found, 4, axis=0), np.delete(wanted, 4, axis=0), atol=1e-9
        )
        alone = np.full_like(xy, np.nan)
        alone[3] = xy[3]
        self.assertFalse(speeds(of(alone)).any())

    def test_a_sighting_goes_back_by_what_its_row_was_late(self):
        t = np.arange(5)[:, None, None]
        rows = np.array([0.0, 540.0, 1080.0])
        xy = np.stack([100.0 + 20 * t[:, :, 0] + np.zeros(3), np.tile(rows, (5, 1))], axis=2)
        found = at_middle_rows(of(xy), 0.5).xy
        # The last row is read a quarter of a frame after the middle one.
        np.testing.assert_allclose(found[:, 2, 0], xy[:, 2, 0] - 5)
        np.testing.assert_allclose(found[:, 1], xy[:, 1])
        np.testing.assert_allclose(found[:, 0, 0], xy[:, 0, 0] + 5)
        np.testing.assert_allclose(found[:, :, 1], xy[:, :, 1])
        same = of(xy)
        self.assertIs(at_middle_rows(same, 0.0), same)
        told = SimpleNamespace(speed=np.zeros_like(xy))
        np.testing.assert_allclose(at_middle_rows(same, 0.5, told.speed).xy, xy)
