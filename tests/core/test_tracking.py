"""Following points: as exact as the noise allows, with a true ±, and not led astray by what plates
hold."""

import cv2
import numpy as np
from django.test import SimpleTestCase

from aperture.errors import Problem
from aperture.formats import points
from aperture.formats.points import Convention
from aperture.path.problem import whitening
from aperture.track.by_hand import ByHand, follow_by_hand, join
from aperture.track.detect import corners
from aperture.track.follow import Follower, Settings
from aperture.track.keep_out import KeepOut, mask
from aperture.track.tracks import PLACED, Tracks

SIZE = (480, 320)


def texture(seed=0, size=(900, 700), grain=2.5):
    """(H, W) float32 of soft blobs, 40 to 215."""
    noise = np.random.default_rng(seed).normal(0, 1, size[::-1]).astype(np.float32)
    soft = cv2.GaussianBlur(noise, (0, 0), grain)
    return 128 + 35 * soft / soft.std()


def shown(picture, turn_deg=0.0, scale=1.0, shift=(0.0, 0.0), gain=1.0, noise=0.0, rng=None):
    """A view of a texture, and the map (2, 3) of its index coordinates to the view's."""
    turn = cv2.getRotationMatrix2D((450, 350), turn_deg, scale)
    turn[:, 2] += np.array([SIZE[0] / 2 - 450, SIZE[1] / 2 - 350]) + shift
    seen = cv2.warpAffine(picture, turn, SIZE, flags=cv2.INTER_LANCZOS4) * gain
    if noise:
        seen = seen + rng.normal(0, noise, seen.shape)
    return seen.astype(np.float32), turn


def followed(pictures, **wish):
    """The tracks through pictures, numbered from 1, and the follower."""
    follower = Follower(Settings(**({"wanted": 60} | wish)))
    for number, picture in enumerate(pictures, 1):
        follower.advance(number, picture)
    return follower.finish(), follower


def misplaced(tracks, turns):
    """Per observation its distance (N, 2) from where the texture's point is, the point free; over σ
    as well."""
    off = np.zeros_like(tracks.xy)
    for start, end in zip(tracks.starts[:-1], tracks.starts[1:]):
        index_xy = tracks.xy[start:end] - 0.5
        on_texture = np.array(
            [
                np.linalg.solve(turns[f - 1][:, :2], xy - turns[f - 1][:, 2])
                for f, xy in zip(tracks.frame[start:end], index_xy)
            ]
        )
        weight = 1 / tracks.sigma[start:end] ** 2
        point = (on_texture * weight).sum(axis=0) / weight.sum(axis=0)
        back = [turns[f - 1] @ [*point, 1] for f in tracks.frame[start:end]]
        off[start:end] = index_xy - back
    return off, off / tracks.sigma


class Following(SimpleTestCase):
    def test_a_turning_growing_brightening_view_is_followed_to_hundredths_with_a_true_sigma(self):
        rng, picture = np.random.default_rng(1), texture()
        views = [
            shown(picture, 0.8 * i, 1 + 0.01 * i, (2.3 * i, -1.1 * i), 1 + 0.01 * i, 2.0, rng)
            for i in range(20)
        ]
        tracks, _ = followed([view for view, _ in views])
        self.assertGreater(len(tracks), 40)
        self.assertGreater(np.median(tracks.lengths()), 15)
        off, sigmas = misplaced(tracks, [turn for _, turn in views])
        self.assertLess(np.sqrt((off**2).mean()), 0.03)
        freedom = 1 - len(tracks) / len(tracks.frame)
        self.assertAlmostEqual(np.sqrt((sigmas**2).mean() / freedom), 1, delta=0.3)

    def test_on_a_large_picture_far_jumps_are_found_and_as_exact(self):
        """Pictures of odd sizes, which are searched halved once and twice."""
        for size, jump in (((1301, 901), (37.3, -21.6)), ((2401, 1701), (71.7, 44.2))):
            with self.subTest(size):
                wide_size = size[0] + 400, size[1] + 300
                grains = [texture(5 + int(grain), wide_size, grain) for grain in (2.5, 12, 50)]
                wide = np.mean(grains, axis=0)
                shifts = [np.array([200.0, 150.0]) + np.array(jump) * i for i in (0, 1, 0, -1)]
                turns = [np.array([[1, 0, -x], [0, 1, -y]]) for x, y in shifts]
                views = [
                    cv2.warpAffine(wide, turn, size, flags=cv2.INTER_LANCZOS4) for turn in turns
                ]
                tracks, follower = followed(views, wanted=150)
                self.assertEqual(follower.remarks, [])
                self.assertGreater(np.mean(tracks.lengths() == 4), 0.8)
                off, _ = misplaced(tracks, turns)
                self.assertLess(np.abs(off).max(), 0.05)

    def test_along_an_edge_the_error_is_large_and_known_to_be(self):
        """Grain that is four times as long as it is wide, seen slantwise."""
        rng = np.random.default_rng(3)
        noise = rng.normal(0, 1, (700, 900)).astype(np.float32)
        soft = cv2.GaussianBlur(noise, (0, 0), sigmaX=9, sigmaY=2.2)
        picture = 128 + 35 * soft / soft.std()
        views = [shown(picture, 40, 1, (1.7 * i, -1.3 * i), 1, 2.0, rng) for i in range(14)]
        tracks, _ = followed([view for view, _ in views], wanted=80)
        off, _ = misplaced(tracks, [turn for _, turn in views])
        # OpenCV turns against the clock, so the grain goes up to the right: y falls as x grows.
        self.assertLess(np.median(tracks.cross), -0.4)
        weights = whitening(tracks.sigma, tracks.cross)
        first = weights[:, 0] * off[:, 0]
        second = weights[:, 1] * off[:, 1] + weights[:, 2] * off[:, 0]
        freedom = 1 - len(tracks) / len(tracks.frame)
        for part in (first, second):
            self.assertAlmostEqual(np.sqrt(np.median(part**2) / 0.455 / freedom), 1, delta=0.3)
        self.assertLess(abs(np.corrcoef(first, second)[0, 1]), 0.25)
        self.assertLess(np.corrcoef(off.T)[0, 1], -0.4)

    def test_the_next_window_of_a_fence_is_not_taken_for_the_last(self):
        """Posts 8 px apart on a textured ground; the view jumps by nearly a spacing and back in
        between."""
        picture = texture(2)
        picture[300:330] += 60 * (np.arange(900) % 8 < 4)
        views = [shown(picture, shift=(1.5 * i, 0)) for i in range(12)]
        tracks, _ = followed([view for view, _ in views], apart_px=14, wanted=200)
        off, _ = misplaced(tracks, [turn for _, turn in views])
        self.assertLess(np.abs(off).max(), 1.0)

    def test_a_flash_is_left_out_and_a_cut_begins_anew(self):
        views = [shown(texture(3), shift=(i, 0))[0] for i in range(10)]
        other = [shown(texture(4), shift=(0, i))[0] for i in range(8)]
        views[4] = np.full_like(views[4], 250)
        tracks, follower = followed([*views, *other])
        self.assertIn((5, "unlike its neighbours"), follower.remarks)
        self.assertIn((11, "cut"), follower.remarks)
        for start, end in zip(tracks.starts[:-1], tracks.starts[1:]):
            frames = tracks.frame[start:end]
            self.assertTrue((frames <= 10).all() or (frames >= 11).all())
        self.assertGreater(np.count_nonzero(tracks.lengths() >= 9), 20)  # across the flash
        self.assertNotIn(5, tracks.frame)

    def test_a_picture_twice_is_said_and_a_blank_one_has_no_tracks(self):
        view = shown(texture(5))[0]
        _, follower = followed([view, view, shown(texture(5), shift=(1, 0))[0]])
        self.assertEqual(follower.remarks, [(2, "repeated")])
        grey = np.random.default_rng(0).normal(90, 3, SIZE[::-1]).astype(np.float32)
        tracks, _ = followed([grey, grey + 1, grey])
        self.assertEqual(len(tracks), 0)

    def test_what_is_kept_out_is_neither_found_nor_followed(self):
        area = KeepOut(
            (1, 11),
            (
                np.array([[0, 0], [200, 0], [200, 320], [0, 320.0]]),
                np.array([[100, 0], [300, 0], [300, 320], [100, 320.0]]),
            ),
        )
        follower = Follower(Settings(wanted=60), keep_out=lambda n: mask([area], n, *SIZE))
        for number in range(1, 12):
            follower.advance(number, shown(texture(6))[0])
        tracks = follower.finish()
        for number in range(1, 12):
            left = 10.0 * (number - 1)
            x = tracks.xy[tracks.frame == number, 0]
            self.assertFalse(((x > left + 1) & (x < left + 199)).any(), number)
        self.assertGreater(len(tracks), 10)
        with self.assertRaises(Problem):
            KeepOut((1,), (np.zeros((2, 2)),))

    def test_corners_are_spread_and_not_on_edges(self):
        picture = np.full(SIZE[::-1], 60, np.float32)
        picture[:, 240:] = 180  # one long edge
        cv2.rectangle(picture, (40, 40), (90, 80), 200, -1)
        cv2.rectangle(picture, (380, 220), (440, 270), 20, -1)
        picture = cv2.GaussianBlur(picture, (0, 0), 1.0)
        found = corners(picture, 50, 12, np.zeros((0, 2)))
        ends = np.array(
            [[40, 40], [91, 40], [40, 81], [91, 81], [380, 220], [441, 220], [380, 271], [441, 271]]
        )
        nearest = np.linalg.norm(found[:, None] - ends, axis=2).min(axis=1)
        self.assertLess(nearest.max(), 8)
        self.assertEqual(len(found), 8)


class TrackTables(SimpleTestCase):
    def made(self):
        return Tracks.build(
            ["a", "=b"],
            [0, 0, 1, 0],
            [3, 1, 2, 1],
            [[1, 2], [3, 4], [5, 6], [7.25, 8]],
            [[0.1, 0.1], [0.2, 0.2], [0.3, 0.3], [0.4, 0.4]],
            about={"a": {"world": [0, None, 1]}},
        )

    def test_arrays_of_a_file_and_the_later_of_two_places(self):
        tracks = self.made()
        self.assertEqual(tracks.frame.tolist(), [1, 3, 2])
        self.assertEqual(tracks.xy[0].tolist(), [7.25, 8])
        # In order already, they are the same, and no view of what they were made of.
        xy = tracks.xy.copy()
        sorted_ = Tracks.build(tracks.ids, tracks.track, tracks.frame, xy, tracks.sigma)
        xy[:] = 0
        self.assertEqual(sorted_.xy.tolist(), tracks.xy.tolist())
        again = Tracks.from_arrays(tracks.to_arrays())
        self.assertEqual((again.ids, again.about), (tracks.ids, tracks.about))
        np.testing.assert_allclose(again.xy, tracks.xy, atol=1 / 4096)
        both = again.only(np.array([False, True])).joined(tracks.shifted(10))
        self.assertEqual(both.ids, ("=b", "a"))
        self.assertEqual(both.lengths().tolist(), [2, 2])
        with self.assertRaises(Problem):
            Tracks.build(["a"], [1], [1], [[0, 0]], [[1, 1]])

    def test_a_table_of_points_out_and_in_and_as_others_count(self):
        tracks = self.made()
        text = points.write(tracks)
        again = points.read(text.encode(), Convention())
        self.assertEqual(sorted(again.ids), sorted(tracks.ids))
        self.assertIn("'=b", text)  # no formula in a spreadsheet
        by_name = dict(zip(again.ids, range(2)))
        own = again.xy[again.track == by_name["a"]]
        np.testing.assert_allclose(own, [[7.25, 8], [1, 2]], atol=1e-4)
        theirs = b"1001; corner; 10; 20\n1002; corner; 11; 20\n"
        taken = points.read(theirs, Convention(from_bottom=True, centres=True, height=1080))
        np.testing.assert_allclose(taken.xy, [[10.5, 1059.5], [11.5, 1059.5]])
        for bad, says in (
            (b"", "no points"),
            (b"1,a,2", "Line 1 has 3"),
            (b"1,a,2,x", "isn't a number"),
            (b"1.5,a,2,3", "isn't a frame"),
            (b"1,a/b,2,3", "name of a track"),
            (b"1,a,2,nan", "isn't a number"),
            (b"\xff\xfe", "UTF-8"),
        ):
            with self.assertRaisesMessage(Problem, says):
                points.read(bad, Convention())


class ByHandTracks(SimpleTestCase):
    """A point that the artist placed, on a view that turns by 12° and grows by an eighth."""

    def setUp(self):
        picture = texture(5)
        rng = np.random.default_rng(6)
        views = [
            shown(picture, 0.8 * i, 1 + 0.008 * i, (3.1 * i, -1.4 * i), 1, 1.5, rng)
            for i in range(16)
        ]
        self.turns = {number: turn for number, (_, turn) in enumerate(views, 1)}
        self.views = {number: view for number, (view, _) in enumerate(views, 1)}

    def at(self, number, on_texture=(430, 360)):
        """Where a point of the texture is seen, px."""
        return self.turns[number] @ [*on_texture, 1] + 0.5

    def follow(self, *wanted):
        def pictures(some):
            return ((n, self.views[n]) for n in some)

        return follow_by_hand(wanted, list(self.views), pictures)

    def off(self, tracks, on_texture=(430, 360)):
        """By number how far it is from the truth, px."""
        return {
            int(n): float(np.hypot(*(xy - self.at(n, on_texture))))
            for n, xy in zip(tracks.frame, tracks.xy)
        }

    def test_it_goes_both_ways_and_ends_where_it_is_told_to(self):
        tracks, apart = self.follow(ByHand("h1", ((7, *self.at(7)),), first=3, last=14))
        off = self.off(tracks)
        self.assertEqual(sorted(off), list(range(3, 15)))
        self.assertLess(max(off.values()), 0.03)
        self.assertEqual(tracks.state.tolist().index(PLACED), 4)
        self.assertEqual(apart, {})

    def test_a_point_beside_its_pattern_goes_along_with_the_surface(self):
        offset = (24.0, -9.0)
        keys = ((4, *(self.at(4) + offset)),)
        on_texture = np.linalg.inv(self.turns[4][:, :2]) @ offset + (430, 360)
        tracks, _ = self.follow(ByHand("h1", keys, reach=15, offset=offset))
        off = self.off(tracks, on_texture)
        self.assertGreater(len(off), 12)
        # Turned by 12° the offset alone would be 5 px off.
        self.assertLess(max(off.values()), 0.1)
        plain, _ = self.follow(ByHand("h1", ((4, *self.at(4)),), reach=15))
        self.assertGreater(tracks.sigma[-1].mean(), 1.3 * plain.sigma[-1].mean())

    def test_between_two_places_it_is_followed_from_both_and_the_hand_s_error_is_in_the_sigma(self):
        error = np.array([1.2, 0.9])
        keys = ((3, *self.at(3)), (13, *(self.at(13) + error)))
        tracks, apart = self.follow(ByHand("h1", keys))
        off, sigma = self.off(tracks), dict(zip(tracks.frame.tolist(), tracks.sigma.mean(axis=1)))
        self.assertLess(off[2], 0.05)
        self.assertAlmostEqual(off[8], 0.75, delta=0.1)
        # The error turns and grows along with the surface.
        self.assertAlmostEqual(off[15], 1.5, delta=0.1)
        np.testing.assert_allclose(tracks.xy[tracks.frame == 13][0], keys[1][1:], atol=1e-9)
        self.assertAlmostEqual(apart["h1"], 1.5, delta=0.15)
        for number in (2, 8, 13, 15):
            self.assertAlmostEqual(sigma[number], 0.75, delta=0.1)

    def test_what_hides_it_is_bridged_from_the_other_side_or_left_open(self):
        for number in (8, 9):
            self.views[number] = texture(9)[:320, :480].copy()
        keys = ((5, *self.at(5)), (12, *self.at(12)))
        tracks, _ = self.follow(ByHand("h1", keys))
        self.assertEqual(sorted(self.off(tracks)), [*range(1, 8), *range(10, 17)])
        self.assertLess(max(self.off(tracks).values()), 0.05)

    def test_two_tracks_of_one_point_are_joined_and_of_two_points_refused(self):
        one, _ = self.follow(ByHand("a", ((2, *self.at(2)),), last=9))
        two, _ = self.follow(ByHand("b", ((12, *self.at(12)),), first=7))
        other, _ = self.follow(ByHand("c", ((12, *self.at(12, (470, 350))),), first=7))
        both = one.joined(two).joined(other).telling("b", world=[0, 0, 0])
        joined = join(both, "a", "b")
        self.assertEqual(joined.ids, ("a", "c"))
        self.assertEqual(joined.about["a"], {"world": [0, 0, 0]})
        self.assertEqual(joined.lengths().tolist(), [16, 10])
        self.assertLess(max(self.off(joined.only(np.array([True, False]))).values()), 0.05)
        with self.assertRaisesMessage(Problem, "aren’t one point"):
            join(both, "a", "c")
