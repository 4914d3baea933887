"""Stereo: parallaxes against OpenCV's projections and its rectified photographs, the audience's
geometry, packing, all around."""

import math
from unittest import TestCase

import cv2
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.path.solve import solve
from aperture.render.exposed import Blur
from aperture.render.passes import Wanted, render
from aperture.render.tracer import Light, Look
from aperture.scene.stand_in import StandIn
from aperture.stereo.packing import KINDS, packed, parted
from aperture.stereo.pair import EYES_M, MODES, Pair, Seat, keyed, parallax
from aperture.track.follow import Settings, follow
from tests.chessboard import FOLDER, PATTERN

GRID = Grid.from_gate(1920, 1080, 36.0, 20.25)
CAMERA = Camera.at(GRID, Lens(35.0), (0.4, 1.6, 2.0), 0.3, -0.1, 0.02)


def opencv_px(camera, points):
    """(N, 2) px by `cv2.projectPoints`."""
    turn = np.diag([1.0, -1.0, -1.0]) @ camera.rotation.T  # OpenCV looks along +Z, y down
    rotation, _ = cv2.Rodrigues(turn)
    matrix = camera.intrinsic_matrix()
    return cv2.projectPoints(points, rotation, -turn @ camera.position, matrix, None)[0][:, 0]


def rig():
    """The rig of opencv-doc's chessboards, left and right, as OpenCV calibrates it: (board (N, 3)
    of squares, corners by side, lenses by side, picture's size, its turn and shift).
    """
    board = np.zeros((PATTERN[0] * PATTERN[1], 3), np.float32)
    board[:, :2] = np.mgrid[: PATTERN[0], : PATTERN[1]].T.reshape(-1, 2)
    seen = {"left": [], "right": []}
    for number in (1, 2, 3, 4, 5, 6, 7, 8, 12, 13, 14):
        found = {}
        for side in seen:
            grey = cv2.imread(str(FOLDER / f"{side}{number:02}.jpg"), cv2.IMREAD_GRAYSCALE)
            ok, corners = cv2.findChessboardCorners(grey, PATTERN)
            if ok:
                end = (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_COUNT, 40, 1e-4)
                found[side] = cv2.cornerSubPix(grey, corners, (5, 5), (-1, -1), end)
        if len(found) == 2:
            for side, corners in found.items():
                seen[side].append(corners)
    size, many = grey.shape[::-1], [board] * len(seen["left"])
    lenses = [cv2.calibrateCamera(many, seen[side], size, None, None)[1:3] for side in seen]
    flags = cv2.CALIB_FIX_INTRINSIC
    result = cv2.stereoCalibrate(
        many, seen["left"], seen["right"], *lenses[0], *lenses[1], size, flags=flags
    )
    return board, seen, lenses, size, result[5], result[6]


def two_eyes(size, focal_px, facts, tracks, centre=None):
    """A match document of two frames, a left and a right eye's, whose lens is known."""
    gate = {"width_mm": size[0] / 100, "height_mm": size[1] / 100}
    lens = {
        "distortion": "none",
        "focal_mm": {"value": focal_px / 100, "plus_minus": focal_px * 2e-5},
    }
    return {
        "format": "accurate-aperture/match",
        "version": 2,
        "image": {"width": size[0], "height": size[1]},
        "gate": gate,
        "frames": {"first": 1, "last": 2},
        "lens": lens | ({"principal_point": centre} if centre else {}),
        "marks": [],
        "facts": facts,
        "tracks": [
            {"id": f"c{number}", "observations": [[1, *left, 0.2], [2, *right, 0.2]]}
            for number, (left, right) in enumerate(tracks)
        ],
    }


def baseline(metres, plus_minus):
    own = {"id": "b", "kind": "camera_distance", "from": 1, "to": 2}
    return own | {"metres": float(metres), "plus_minus": float(plus_minus)}


class StereoPlates(TestCase):
    """Both eyes' pictures matched together, with the baseline as a fact."""

    def test_the_chessboards_have_their_size(self):
        """From the rig's baseline, and the corners of all boards as so many points before it: a
        square is one square, within 1 %."""
        board, seen, lenses, size, turn, apart = rig()
        matrix, count = lenses[0][0], len(seen["left"])
        eyes = [
            np.concatenate(
                [cv2.undistortPoints(one, *lens, P=matrix)[:, 0] + 0.5 for one in seen[side]]
            )
            for side, lens in zip(seen, lenses)
        ]
        pairs = [(left.tolist(), right.tolist()) for left, right in zip(*eyes)]
        centre = [float(matrix[0, 2]) + 0.5, float(matrix[1, 2]) + 0.5]
        facts = [baseline(0.025 * np.linalg.norm(apart), 1e-4)]  # of squares of 25 mm
        fit = solve(two_eyes(size, float(matrix[0, 0]), facts, pairs, centre)).document
        self.assertGreater(len(fit["points"]), 0.95 * len(pairs))
        at = np.full((count, PATTERN[1], PATTERN[0], 3), np.nan)
        for id_, point in fit["points"].items():
            at.reshape(-1, 3)[int(id_[1:])] = point["world_m"]
        sides = [np.linalg.norm(np.diff(at, axis=axis), axis=-1).ravel() for axis in (1, 2)]
        self.assertAlmostEqual(float(np.nanmean(np.concatenate(sides))), 0.025, delta=0.00025)
        first, second = (np.array(one)[:3, :3] for one in fit["path"]["world_from_camera"])
        flip = np.diag([1.0, -1.0, -1.0])  # OpenCV looks along +Z, y down
        ours = flip @ (first.T @ second).T @ flip
        self.assertLess(np.degrees(np.linalg.norm(cv2.Rodrigues(ours.T @ turn)[0])), 0.15)

    def test_its_plus_minus_is_true(self):
        """Pairs of which points are off as real ones are, a few of them far: errors over ± of the
        points' places."""
        ratios = []
        for seed in range(24):
            random = np.random.default_rng(seed)
            left, right = Pair(0.1, 4.0, "toed").cameras(CAMERA)
            own = random.uniform((-0.6, -0.35, -9), (0.6, 0.35, -2.5), (70, 3))
            own[:, :2] *= -own[:, 2:]
            points = left.position + own @ left.rotation.T
            seen = [
                eye.project(points) + 0.2 * random.standard_t(6, (70, 2)) for eye in (left, right)
            ]
            inside = np.logical_and.reduce(
                [(one > 0).all(1) & (one < (1920, 1080)).all(1) for one in seen]
            )
            angles = np.degrees(left.angles).tolist()
            facts = [
                baseline(0.1 + random.normal(0, 0.001), 0.001),
                {
                    "id": "p",
                    "kind": "camera_position",
                    "frame": 1,
                    "metres": left.position.tolist(),
                    "plus_minus": 0.0,
                },
                *(
                    {
                        "id": name,
                        "kind": "camera_angle",
                        "of": name,
                        "frame": 1,
                        "degrees": value,
                        "plus_minus": 0.0,
                    }
                    for name, value in zip(("pan", "tilt", "roll"), angles)
                ),
            ]
            tracks = [(a.tolist(), b.tolist()) for a, b in zip(*(one[inside] for one in seen))]
            fit = solve(two_eyes((1920, 1080), 35 * 1920 / 36, facts, tracks)).document
            for id_, point in fit["points"].items():
                off = np.array(point["world_m"]) - points[inside][int(id_[1:])]
                away = points[inside][int(id_[1:])] - left.position
                away /= np.linalg.norm(away)
                ratios.append((seed, off @ away, np.linalg.norm(point["plus_minus_m"] * away)))
        seeds, off, spread = np.array(ratios).T
        # The baseline's error is one for all points of a pair: each pair counts once.
        by_pair = [np.sqrt(np.mean((off / spread)[seeds == seed] ** 2)) for seed in range(24)]
        self.assertLess(abs(np.sqrt(np.mean(np.square(by_pair))) - 1), 0.3)

    def test_points_are_followed_from_eye_to_eye(self):
        """Middlebury's Aloe as opencv-doc has it (D. Scharstein and C. Pal, CVPR 2007), with its
        published disparities."""
        left, right, truth = (
            cv2.imread(str(FOLDER / name), cv2.IMREAD_GRAYSCALE)
            for name in ("aloeL.jpg", "aloeR.jpg", "aloeGT.png")
        )
        wish = Settings(wanted=400, least_length=2, pair=True)
        *_, (_, follower) = follow([(1, left), (2, right)], wish)
        tracks = follower.finish()
        self.assertGreater(len(tracks), 150)
        at, there = tracks.xy[0::2], tracks.xy[1::2]
        column, row = at.astype(int).T
        known = truth[row, column] > 0
        off = (at - there)[known, 0] - truth[row, column][known]
        # The published ones are whole pixels, and hang over edges by some.
        self.assertGreater(np.mean(np.abs(off) < 1.5), 0.95)
        self.assertLess(np.median(np.abs((at - there)[:, 1])), 0.2)


class Pairs(TestCase):
    @settings(max_examples=60, deadline=None)
    @given(
        st.floats(0.01, 0.3), st.floats(1, 30), st.sampled_from(list(MODES)), st.integers(0, 999)
    )
    def test_both_eyes_by_opencv(self, apart, away, mode, seed):
        left, right = Pair(apart, away, mode).cameras(CAMERA)
        self.assertAlmostEqual(float(np.linalg.norm(right.position - left.position)), apart)
        own = np.random.default_rng(seed).uniform((-1, -0.6, -20), (1, 0.6, -2), (6, 3)) * [4, 4, 1]
        points = CAMERA.position + own @ CAMERA.rotation.T
        theirs = opencv_px(right, points) - opencv_px(left, points)
        np.testing.assert_allclose(parallax(left, right, points), theirs, atol=1e-6)
        if mode == "toed":
            return
        # f b (1/C − 1/Z), and nothing up or down; on the screen where it converges.
        converges = 0.0 if mode == "parallel" else 1 / away
        wanted = 35.0 * apart * (converges + 1 / own[:, 2]) * 1920 / 36
        np.testing.assert_allclose(theirs[:, 0], wanted, atol=1e-6)
        np.testing.assert_allclose(theirs[:, 1], 0, atol=1e-6)

    def test_toed_in_both_look_at_one_place(self):
        left, right = Pair(0.2, 4.0, "toed").cameras(CAMERA)
        middle = CAMERA.position - 4.0 * CAMERA.rotation[:, 2]
        for eye in (left, right):
            np.testing.assert_allclose(eye.project(middle[None]), [[960, 540]], atol=1e-6)
        # Its corners are higher for the eye that is nearer to them: upper right, for the right eye.
        corner = CAMERA.position + 4.0 * (CAMERA.rotation @ [0.45, 0.25, -1.0])
        self.assertLess(parallax(left, right, corner[None])[0, 1], -1)

    def test_rectified_photographs(self):
        """The chessboards of opencv-doc, left and right: what our parallel pair says of them is
        their disparity, within 1 %."""
        board, seen, lenses, size, turn, apart = rig()
        rectified = cv2.stereoRectify(*lenses[0], *lenses[1], size, turn, apart)
        baseline, errors = float(np.linalg.norm(apart)), []
        for index in range(len(seen["left"])):
            straight = [
                cv2.undistortPoints(
                    seen[side][index], *lens, R=rectified[eye], P=rectified[2 + eye]
                )[:, 0]
                for eye, (side, lens) in enumerate(zip(seen, lenses))
            ]
            measured = np.median(straight[1][:, 0] - straight[0][:, 0])
            # Where the board stands, by one eye alone.
            _, rotation, shift = cv2.solvePnP(board, seen["left"][index], *lenses[0])
            own = (rectified[0] @ (cv2.Rodrigues(rotation)[0] @ board.T + shift)).T
            focal = float(rectified[2][0, 0])
            grid = Grid.from_gate(*size, size[0] / focal, size[1] / focal)
            left_eye = Camera.at(grid, Lens(1.0), (0, 0, 0))
            # One square is a length of our own choice: a tenth of a metre.
            pair = Pair(0.1 * baseline, 10.0, "parallel")
            middle = Camera.at(grid, Lens(1.0), (0.05 * baseline, 0, 0))
            left, right = pair.cameras(middle)
            np.testing.assert_allclose(left.position, left_eye.position, atol=1e-9)
            ours = np.median(parallax(left, right, 0.1 * own * [1, -1, -1])[:, 0])
            errors.append(measured / ours - 1)
        self.assertLess(abs(float(np.median(errors))), 0.01, errors)

    def test_what_can_t_be(self):
        for make, says in (
            (lambda: Pair(0, 3), "both eyes see the same"),
            (lambda: Pair(3.0, 3), "Was another unit meant"),
            (lambda: Pair(0.06, 0), "before the camera"),
            (lambda: Pair(0.06, 3, "crossed"), "toed in"),
            (lambda: Seat(0, 3), "above zero"),
            (lambda: Seat(8, 3, 0.5), "3 to 10 cm"),
            (lambda: packed(np.zeros((2, 2, 3)), np.zeros((2, 3, 3)), "side"), "different sizes"),
            (lambda: packed(np.zeros((2, 2, 3)), np.zeros((2, 2, 3)), "woven"), "no such way"),
            (lambda: parted(np.zeros((2, 3, 3)), "side"), "halved"),
            (lambda: parted(np.zeros((2, 2, 3)), "least"), "parted"),
        ):
            with self.assertRaisesRegex(Problem, says):
                make()


class Seats(TestCase):
    def test_where_things_seem_to_be(self):
        """By similar triangles: on the screen at the screen, at the eyes' distance at infinity,
        beyond it nowhere."""
        seat = Seat(10.0, 15.0)
        self.assertAlmostEqual(float(seat.seems_at(0.0)), 15.0)
        self.assertTrue(math.isinf(seat.seems_at(EYES_M / 10)))
        # Crossed by as much as the eyes are apart: half way.
        self.assertAlmostEqual(float(seat.seems_at(-EYES_M / 10)), 7.5)
        self.assertTrue(seat.diverges(1.01 * EYES_M / 10))
        self.assertFalse(seat.diverges(0.99 * EYES_M / 10))

    @settings(max_examples=60, deadline=None)
    @given(st.floats(0.02, 0.2), st.floats(1.5, 20), st.floats(0.5, 20), st.floats(0.6, 25))
    def test_limits_are_where_the_disparity_is_a_degree(self, apart, away, screen, seat_m):
        pair, seat = Pair(apart, away), Seat(screen, seat_m)
        near, far = seat.limits(CAMERA, pair)
        self.assertLessEqual(near, far)
        left, right = pair.cameras(CAMERA)
        for depth, side in ((near, -1), (far, 1)):
            if math.isinf(depth):
                continue
            point = CAMERA.position - depth * CAMERA.rotation[:, 2]
            share = parallax(left, right, point[None])[0, 0] / 1920
            if abs(float(seat.disparity_deg(share)) - side) > 1e-6:
                # Not a degree: then it is where the eyes would have to look apart.
                self.assertAlmostEqual(share * screen, EYES_M, places=9)

    def test_keys(self):
        apart, away = keyed([[9, 0.06, 4.0], [1, 0.02, 2.0]], 5)
        self.assertAlmostEqual(apart, 0.04)
        self.assertAlmostEqual(away, 1 / (0.5 * (1 / 2 + 1 / 4)))
        self.assertEqual(keyed([[1, 0.02, 2.0]], 99), (0.02, 2.0))


class Packed(TestCase):
    def test_what_is_where(self):
        rng = np.random.default_rng(3)
        left, right = rng.random((2, 12, 16, 4), dtype=np.float32)
        for kind in KINDS:
            made = packed(left, right, kind)
            if kind in ("side", "over"):
                for one, other in zip(parted(made, kind), (left, right)):
                    np.testing.assert_array_equal(one, other)
            else:
                self.assertEqual(made.shape, (12, 16, 4), kind)
        halves = parted(packed(left, right, "side half"), "side half")
        wanted = cv2.resize(left, (8, 12), interpolation=cv2.INTER_AREA)
        np.testing.assert_allclose(halves[0], wanted, atol=1e-6)
        checker = packed(left, right, "checker")
        np.testing.assert_array_equal(checker[0, 0], left[0, 0])
        np.testing.assert_array_equal(checker[0, 1], right[0, 1])

    def test_anaglyphs_of_one_picture(self):
        """What is the same for both eyes and grey stays so; each filter passes its own eye
        alone."""
        grey = np.full((4, 4, 3), 0.4, np.float32)
        np.testing.assert_allclose(packed(grey, grey, "anaglyph"), grey)
        np.testing.assert_allclose(packed(grey, grey, "least"), grey, atol=0.005)
        black = np.zeros_like(grey)
        self.assertGreater(packed(grey, black, "least")[0, 0, 0], 0.4)
        self.assertLess(packed(grey, black, "least")[0, 0, 1:].max(), 0.01)
        self.assertLess(packed(black, grey, "least")[0, 0, 0], 0.01)


class Around(TestCase):
    def test_each_column_has_its_own_eye(self):
        """A column of it is the column of a plain panorama from where that eye stands; at the poles
        both eyes agree."""
        grid = Grid.from_gate(256, 128, math.tau, math.pi)
        lens = Lens(1.0, projection="equirectangular")
        camera = Camera.at(grid, lens, (0, 1.6, 0), 0.4, 0.1, 0.05)
        things = [
            (
                StandIn((0.8, 1.2, 0.8), (2 * math.sin(turn), 0.9, -2 * math.cos(turn))),
                Look(f"{turn}"),
            )
            for turn in (0.2, 1.6, 3.1, 4.4)
        ]
        things.append((StandIn((8, 0, 8), (0, 0, 0), kind="plane"), Look("floor", "checker")))
        light = Light(sun=0, ambient=1.0)
        for side in (-1, 1):
            blur = Blur(aside_m=0.05 * side)
            made = render(camera, things, Wanted(samples=2, light=light, blur=blur)).rgba
            for column in (20, 100, 128, 200):
                turn = (column + 0.5 - 128) / 256 * math.tau
                aside = camera.rotation @ [math.cos(turn), 0, math.sin(turn)]
                there = Camera.at(grid, lens, camera.position + 0.05 * side * aside, 0.4, 0.1, 0.05)
                plain = render(there, things, Wanted(samples=2, light=light)).rgba
                rows = slice(24, 104)  # within 56° of the horizon
                off = np.abs(made[rows, column] - plain[rows, column]).max(axis=1)
                self.assertGreater(float((off < 0.02).mean()), 0.93, (side, column))
        eyes = [
            render(camera, things, Wanted(samples=2, light=light, blur=Blur(aside_m=aside))).rgba
            for aside in (-0.05, 0.05)
        ]
        self.assertLess(float(np.abs(eyes[0][-1] - eyes[1][-1]).mean()), 0.01)
        self.assertGreater(float(np.abs(eyes[0][64] - eyes[1][64]).max()), 0.1)
