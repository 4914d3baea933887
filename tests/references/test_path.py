"""Paths against GTSAM, real films with known cameras, and a street drive's published tracks."""

from pathlib import Path

import cv2
import gtsam
import numpy as np
from django.test import SimpleTestCase
from gtsam.symbol_shorthand import K, L, X

from aperture.path import imaging
from aperture.path.bundle import Bundle
from aperture.path.covariance import Solved
from aperture.path.problem import Freedom, Observations, Row, State
from aperture.path.solve import solve
from aperture.track.follow import Follower, Settings
from tests.moving import GRID, aligned, scene

FLIP = np.diag([1.0, -1.0, -1.0])  # our camera space to one that is y down and looks along +z
# Of Debian's package visp-images-data.
OPENCV = Path("/usr/share/doc/opencv-doc/examples/data")
PICTURES = Path("/usr/share/visp-images-data/ViSP-images")


class AgainstGtsam(SimpleTestCase):
    """The same problem, from the same start: GTSAM 4.3's `GeneralSFMFactor2Cal3Bundler`, whose f,
    k1, k2 are ours."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.made = scene("sideways", frames=12, count=60)
        rng = np.random.default_rng(4)
        cls.camera, cls.point = np.nonzero(np.isfinite(cls.made.seen[:, :, 0]))
        seen = cls.made.seen[cls.camera, cls.point]
        cls.xy = seen + rng.normal(0, 0.3, seen.shape)
        cls.bundle = cls.ours(rng)
        cls.bundle.solve(least_gain=1e-9)

    @classmethod
    def ours(cls, rng):
        made = cls.made
        count = len(made.cameras)
        free = np.ones((count, 6), bool)
        free[0] = free[-1, 3] = False
        state = State(
            np.array([c.rotation for c in made.cameras]),
            made.positions,
            np.zeros(count),
            made.cameras[0].lens.parameters + [0.01, 0, 0, 0, 0, 0, 0, 0],
            made.points + rng.normal(0, 0.02, made.points.shape),
        )
        lens = np.zeros(8, bool)
        lens[[0, 3, 4]] = True
        freedom = Freedom(free, lens, np.zeros(made.points.shape, bool))
        observations = Observations(cls.camera, cls.point, cls.xy, np.full(cls.xy.shape, 0.3))
        optics = imaging.Optics(GRID, made.cameras[0].lens)
        return Bundle(observations, optics, state, freedom, threads=1)

    def theirs(self):
        """Their graph and its optimum; the gauge is held as ours is, by priors that are practically
        exact."""
        graph, values = gtsam.NonlinearFactorGraph(), gtsam.Values()
        noise = gtsam.noiseModel.Isotropic.Sigma(2, 0.3)
        middle = [GRID.width / 2, GRID.height / 2]
        for camera, point, xy in zip(self.camera, self.point, self.xy - middle):
            graph.add(
                gtsam.GeneralSFMFactor2Cal3Bundler(xy, noise, X(int(camera)), L(int(point)), K(0))
            )
        for number, camera in enumerate(self.made.cameras):
            pose = gtsam.Pose3(gtsam.Rot3(camera.rotation @ FLIP), camera.position)
            values.insert(X(number), pose)
        last = len(self.made.cameras) - 1
        exact = gtsam.noiseModel.Isotropic.Sigma(6, 1e-8)
        graph.add(gtsam.PriorFactorPose3(X(0), values.atPose3(X(0)), exact))
        graph.add(
            gtsam.RangeFactorPose3(
                X(0),
                X(last),
                float(np.linalg.norm(self.bundle.state.positions[last] - self.made.positions[0])),
                gtsam.noiseModel.Isotropic.Sigma(1, 1e-8),
            )
        )
        for number, point in enumerate(self.made.points):
            values.insert(L(number), point)
        focal = 20.0 / 24.0 * 1920
        values.insert(K(0), gtsam.Cal3Bundler(focal, -0.06, 0.0, 0, 0))
        parameters = gtsam.LevenbergMarquardtParams()
        parameters.setRelativeErrorTol(1e-13)
        parameters.setAbsoluteErrorTol(1e-13)
        found = gtsam.LevenbergMarquardtOptimizer(graph, values, parameters).optimize()
        return graph, found

    def test_the_sum_of_squares_the_cameras_and_their_sigma_are_the_same(self):
        graph, found = self.theirs()
        self.assertAlmostEqual(2 * graph.error(found) / self.bundle.chi2, 1, delta=1e-9)
        state = self.bundle.state
        lens = found.atCal3Bundler(K(0))
        self.assertAlmostEqual(np.exp(state.lens[0]) / 24 * 1920, lens.fx(), delta=1e-3)
        self.assertAlmostEqual(state.lens[3], lens.k1(), delta=1e-6)
        for number in (3, 7, 11):
            pose = found.atPose3(X(number))
            np.testing.assert_allclose(state.positions[number], pose.translation(), atol=1e-5)
            theirs = pose.rotation().matrix() @ FLIP
            np.testing.assert_allclose(state.rotations[number], theirs, atol=1e-6)
        spread = Solved(self.bundle).spread()
        focal = np.exp(state.lens[0]) / 24 * 1920
        sigma = gtsam.Marginals(graph, found).marginalCovariance(K(0))[0, 0] ** 0.5
        self.assertAlmostEqual(spread.lens[0, 0] ** 0.5 * focal / sigma, 1, delta=0.01)


class RangeToLast:
    """The distance between the first camera, which is held, and the last one."""

    def __init__(self, metres, sigma):
        self.metres, self.sigma = metres, sigma

    def rows(self, state):
        """One row."""
        away = state.positions[-1] - state.positions[0]
        far, slope = np.linalg.norm(away), np.zeros(7)
        slope[3:6] = away / far / self.sigma
        residual = (far - self.metres) / self.sigma
        return [Row(float(residual), len(state.positions) - 1, slope)]


class EveryPlusMinus(SimpleTestCase):
    """The covariances of all cameras and points against GTSAM's marginals, with the size of the
    path from a measured distance in both."""

    def test_cameras_and_points_are_known_as_well_as_gtsam_says(self):
        made = scene("orbit", frames=30, count=50, seed=2)
        rng = np.random.default_rng(6)
        camera, point = np.nonzero(np.isfinite(made.seen[:, :, 0]))
        xy = made.seen[camera, point] + rng.normal(0, 0.3, (len(camera), 2))
        count, lens = len(made.cameras), made.cameras[0].lens
        free, solved = np.ones((count, 6), bool), np.zeros(8, bool)
        free[0], solved[[0, 3, 4]] = False, True
        rotations = np.array([one.rotation for one in made.cameras])
        places = made.positions
        state = State(
            rotations, places, np.zeros(count), lens.parameters.copy(), made.points.copy()
        )
        metres = float(np.linalg.norm(places[-1] - places[0]))
        bundle = Bundle(
            Observations(camera, point, xy, np.full(xy.shape, 0.3)),
            imaging.Optics(GRID, lens),
            state,
            Freedom(free, solved, np.zeros(made.points.shape, bool)),
            RangeToLast(metres, 0.01),
            threads=2,
        )
        bundle.solve(least_gain=1e-9)
        spread = Solved(bundle).spread()
        graph, values = self.theirs(bundle, camera, point, xy, metres)
        marginals = gtsam.Marginals(graph, values)
        for number in (1, 7, 13, 22, 29):
            theirs = marginals.marginalCovariance(X(number))  # turn and shift, in the body's axes
            axes = bundle.state.rotations[number] @ FLIP
            shift = axes @ theirs[3:, 3:] @ axes.T
            turn = FLIP @ theirs[:3, :3] @ FLIP
            own = spread.cameras[number]
            np.testing.assert_allclose(own[3:, 3:], shift, atol=2e-3 * np.trace(shift))
            np.testing.assert_allclose(own[:3, :3], turn, atol=2e-3 * np.trace(turn))
        for number in (0, 11, 30, 49):
            theirs = marginals.marginalCovariance(L(number))
            np.testing.assert_allclose(spread.points[number], theirs, atol=2e-3 * np.trace(theirs))

    def theirs(self, bundle, camera, point, xy, metres):
        """The same problem, at the same optimum."""
        graph, values, state = gtsam.NonlinearFactorGraph(), gtsam.Values(), bundle.state
        noise = gtsam.noiseModel.Isotropic.Sigma(2, 0.3)
        for one, of, at in zip(camera, point, xy - [GRID.width / 2, GRID.height / 2]):
            graph.add(gtsam.GeneralSFMFactor2Cal3Bundler(at, noise, X(int(one)), L(int(of)), K(0)))
        for number, (rotation, place) in enumerate(zip(state.rotations, state.positions)):
            values.insert(X(number), gtsam.Pose3(gtsam.Rot3(rotation @ FLIP), place))
        exact = gtsam.noiseModel.Isotropic.Sigma(6, 1e-8)
        graph.add(gtsam.PriorFactorPose3(X(0), values.atPose3(X(0)), exact))
        last = len(state.positions) - 1
        sigma = gtsam.noiseModel.Isotropic.Sigma(1, 0.01)
        graph.add(gtsam.RangeFactorPose3(X(0), X(last), metres, sigma))
        for number, place in enumerate(state.points):
            values.insert(L(number), place)
        focal = np.exp(state.lens[0]) / 24 * 1920
        values.insert(K(0), gtsam.Cal3Bundler(focal, state.lens[3], state.lens[4], 0, 0))
        self.assertAlmostEqual(2 * graph.error(values) / bundle.chi2, 1, delta=1e-6)
        return graph, values


def followed(files, **wish):
    """The tracks of some pictures as a match document of version 2."""
    follower = Follower(Settings(**wish), threads=2)
    for number, file in enumerate(files, 1):
        picture = cv2.imread(str(file), cv2.IMREAD_GRAYSCALE)
        follower.advance(number, picture)
    tracks, (height, width) = follower.finish(), picture.shape
    rows = []
    for index, id_ in enumerate(tracks.ids):
        own = slice(tracks.starts[index], tracks.starts[index + 1])
        table = np.column_stack(
            [tracks.frame[own], tracks.xy[own], tracks.sigma[own], tracks.cross[own]]
        )
        rows.append({"id": id_, "observations": [[int(f), *rest] for f, *rest in table.tolist()]})
    return {
        "format": "accurate-aperture/match",
        "version": 2,
        "image": {"width": width, "height": height},
        "frames": {"first": 1, "last": len(files)},
        "tracks": rows,
    }


class RealFilms(SimpleTestCase):
    def test_every_frame_of_a_cube_filmed_by_hand_is_solved(self):
        told = followed(sorted(PICTURES.glob("cube/*.pgm")), wanted=250)
        fit = solve(told | {"lens": {"distortion": {"free": ["k1"]}}}).document
        self.assertTrue(fit["ok"], fit.get("problem"))
        self.assertEqual(sum(pan is not None for pan in fit["path"]["pan_deg"]), 80)
        # Edges slide along themselves, and say so: they count by what they tell.
        self.assertLess(fit["residuals"]["weighted_px"], 0.05)
        self.assertLess(fit["residuals"]["rms_px"], 0.3)

    def test_a_rendered_film_with_exact_cameras(self):
        """Castle-simu: 40 pictures, f = 700 px, poses camera from world in `CameraPose`."""
        home = PICTURES / "mbt-depth/Castle-simu"
        # As many points, and as large windows, as the application takes by itself.
        fit = solve(followed(sorted(home.glob("Images/*.pgm")), wanted=300)).document
        self.assertTrue(fit["ok"], fit.get("problem"))
        focal, sigma = fit["camera"]["focal_px"][1], fit["plus_minus"]["focal_px"][1]
        self.assertLess(abs(focal - 700) / sigma, 2)
        poses = [np.loadtxt(home / f"CameraPose/Camera_{n:03d}.txt") for n in range(1, 41)]
        true = np.array([-pose[:3, :3].T @ pose[:3, 3] for pose in poses])
        found = np.array(fit["path"]["position_m"], float)
        off = np.linalg.norm(aligned(found, true) - true, axis=1)
        length = np.linalg.norm(np.diff(true, axis=0), axis=1).sum()
        self.assertLess(np.sqrt((off**2).mean()) / length, 0.002)


class StreetDrive(SimpleTestCase):
    """`VO_stereo_factors00.txt` of GTSAM's wheel: tracks of a stereo drive, of which the left
    pictures are taken.

    f = 718.856 px and the centre (607.1928, 185.2157) stand in `VO_calibration00.txt` beside it.
    """

    def test_a_road_that_is_driven(self):
        home = Path(gtsam.__file__).parent / "Data"
        rows = np.loadtxt(home / "VO_stereo_factors00.txt")
        places = {}
        for frame, landmark, left, _, y, *_ in rows:
            places.setdefault(int(landmark), []).append([int(frame), left, y, 0.5])
        tracks = [
            {"id": str(name), "observations": seen}
            for name, seen in places.items()
            if len(seen) > 4  # shorter ones have errors in common: with them f is 5.5 σ off
        ]
        frames = rows[:, 0].astype(int)
        told = {
            "format": "accurate-aperture/match",
            "version": 2,
            "image": {"width": 1241, "height": 376},
            "frames": {"first": int(frames.min()), "last": int(frames.max())},
            "lens": {"principal_point": [607.1928, 185.2157], "distortion": {"free": ["k1"]}},
            "tracks": tracks,
        }
        fit = solve(told).document
        self.assertTrue(fit["ok"], fit.get("problem"))
        focal, sigma = fit["camera"]["focal_px"][1], fit["plus_minus"]["focal_px"][1]
        self.assertLess(abs(focal - 718.856) / sigma, 3)
        solved = sum(pan is not None for pan in fit["path"]["pan_deg"])
        self.assertGreaterEqual(solved, 116)


class Chessboards(SimpleTestCase):
    """Debian's opencv-doc: thirteen pairs of pictures of a board of 9 × 6 corners, 25 mm apart, by
    two cameras that are fixed to each other.

    Seen from the board the cameras move: it is a survey of 54 points, without parallax between
    neighbours. `left_intrinsics.yml` publishes f = 535.916 px; the base comes from OpenCV's own
    `stereoCalibrate`.
    """

    SQUARE = 0.025
    FOCAL_PX = 535.91573396163199

    def corners(self):
        """By side the corners (54, 2) px of each picture, from the outer corner of the first
        pixel."""
        found = {"left": [], "right": []}
        for number in [*range(1, 10), *range(11, 15)]:
            for side, seen in found.items():
                picture = cv2.imread(str(OPENCV / f"{side}{number:02d}.jpg"), cv2.IMREAD_GRAYSCALE)
                there, corners = cv2.findChessboardCorners(picture, (9, 6))
                self.assertTrue(there)
                criteria = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 40, 0.001)
                corners = cv2.cornerSubPix(picture, corners, (5, 5), (-1, -1), criteria)
                seen.append(corners.reshape(-1, 2) + 0.5)
        return found

    def test_cameras_around_a_board(self):
        found = self.corners()
        board = np.zeros((54, 3))
        board[:, :2] = self.SQUARE * np.mgrid[:9, :6].T.reshape(-1, 2)
        pictures = [*found["left"], *found["right"]]
        tracks = [
            {
                "id": f"t{n}",
                # The board's own axes go right and down: here up is against gravity.
                "world": (board[n] * [1, -1, 0]).tolist(),
                "observations": [[f, *seen[n].tolist(), 0.1] for f, seen in enumerate(pictures, 1)],
            }
            for n in range(54)
        ]
        told = {
            "format": "accurate-aperture/match",
            "version": 2,
            "image": {"width": 640, "height": 480},
            "frames": {"first": 1, "last": len(pictures)},
            "lens": {"principal_point": "free", "distortion": {"free": ["k1", "k2"]}},
            "tracks": tracks,
        }
        fit = solve(told).document
        self.assertTrue(fit["ok"], fit.get("problem"))
        focal, sigma = fit["camera"]["focal_px"][1], fit["plus_minus"]["focal_px"][1]
        self.assertLess(abs(focal / self.FOCAL_PX - 1), 0.006)
        self.assertLess(abs(focal - self.FOCAL_PX) / sigma, 3)
        places = np.array(fit["path"]["position_m"], float)
        bases = np.linalg.norm(places[:13] - places[13:], axis=1)
        onto = [board.astype(np.float32)] * 13
        left, right = ([seen.astype(np.float32) for seen in found[s]] for s in ("left", "right"))
        start = [
            cv2.calibrateCamera(onto, seen, (640, 480), None, None)[1:3] for seen in (left, right)
        ]
        *_, shift, _, _ = cv2.stereoCalibrate(
            onto, left, right, *start[0], *start[1], (640, 480), flags=cv2.CALIB_FIX_INTRINSIC
        )
        self.assertAlmostEqual(np.mean(bases), np.linalg.norm(shift), delta=0.001)
        self.assertLess(np.std(bases), 0.0015)
