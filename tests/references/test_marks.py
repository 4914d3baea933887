"""Marks, surveys and bends against OpenCV and SciPy, on real photographs where there are some."""

from dataclasses import replace
from unittest import TestCase

import cv2
import numpy as np
from scipy.optimize import least_squares

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.gates.chain import straight
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match.document import empty
from aperture.match.refine import refine_edge, refine_spot
from aperture.match.solve import solve
from aperture.plates.straighten import map_between, straighten_map
from bench.chessboards import FREE, bows, document, straightness, study
from tests.chessboard import FOLDER, intrinsics, photographs

SIZE = (1920, 1080)
GRID = Grid.from_gate(*SIZE, 36, 20.25)


def published_camera(size) -> Camera:
    """The calibrated camera of the chessboard photographs, one millimetre a pixel."""
    matrix, (k1, k2, p1, p2, k3) = intrinsics()
    grid = Grid.from_gate(*size, *map(float, size))
    centre = grid.to_mm([[matrix[0, 2] + 0.5, matrix[1, 2] + 0.5]])[0]
    return Camera.at(
        grid,
        Lens(float(matrix[1, 1]), centre_mm=tuple(centre), coefficients=(k1, k2, k3, p1, p2)),
        (0, 0, 0),
    )


class RealPhotographs(TestCase):
    def test_corners_of_a_chessboard(self):
        """Refined corners lie where OpenCV's cornerSubPix has them, from a start some pixels off;
        on every third photograph."""
        rng, off = np.random.default_rng(1), []
        for name, _, corners in list(photographs())[::3]:
            grey = cv2.imread(str(FOLDER / name), cv2.IMREAD_GRAYSCALE)
            pixels = np.repeat(grey[..., None], 3, 2)
            for corner in corners.reshape(-1, 2)[::5]:
                off.append(
                    np.linalg.norm(
                        refine_spot(pixels, corner + rng.uniform(-1.5, 1.5, 2)).points[0] - corner
                    )
                )
        self.assertLess(np.median(off), 0.08)
        self.assertLess(np.quantile(off, 0.95), 0.35)

    def test_edges_of_a_chessboard(self):
        """An edge between two neighbouring corners, refined from a shaky start, passes through
        both."""
        rng, off = np.random.default_rng(2), []
        for name, _, corners in list(photographs())[::4]:
            # This camera answers to light in a straight line, without a display curve.
            grey = cv2.imread(str(FOLDER / name), cv2.IMREAD_GRAYSCALE)
            pixels = np.repeat(grey[..., None], 3, 2)
            for row in corners[::2]:
                for a, b in zip(row[:-1:3], row[1::3]):
                    along = (b - a) / np.linalg.norm(b - a)
                    inside = np.array(
                        [a + 3 * along, b - 3 * along]
                    )  # the corners themselves belong to two edges
                    found = refine_edge(
                        pixels, inside + rng.uniform(-1, 1, (2, 2)), "linear"
                    ).points
                    normal = np.array([-along[1], along[0]])
                    off += np.abs((found[[0, -1]] - a) @ normal).tolist()
        self.assertLess(np.median(off), 0.12)

    def test_rows_that_cross_squares_of_opposite_contrast(self):
        """Whole rows and columns, from marks 1 px off, against a parabola through cornerSubPix.

        The step's sign turns at each corner, and the curve of the plate is not told. Within 0.1 px
        for nine rows in ten, as many as a perfect edge would have (the parabola's own standard
        error is 0.05 px).
        """
        rng, off, ratio, refused, count = np.random.default_rng(5), [], [], 0, 0
        for name, _, corners in list(photographs())[::3]:
            pixels = np.repeat(cv2.imread(str(FOLDER / name), 0)[..., None], 3, 2)
            for row in (*corners, *corners.transpose(1, 0, 2)):
                along = (row[-1] - row[0]) / np.linalg.norm(row[-1] - row[0])
                frame = np.stack([along, [-along[1], along[0]]], -1)
                curve = np.polyfit(*((row - row[0]) @ frame).T, 2)
                count += 1
                try:
                    drawn = row[[0, -1]] + rng.normal(size=(2, 1)) * frame[:, 1]
                    found = refine_edge(pixels, drawn)
                except Problem:
                    refused += 1
                    continue
                place, height = ((found.points - row[0]) @ frame).T
                miss = height - np.polyval(curve, place)
                off.append(np.sqrt(np.mean(miss**2)))
                ratio += (miss / found.sigma_px).tolist()
        self.assertLess(refused, 0.1 * count)
        self.assertLess(np.median(off), 0.06)
        self.assertLess(np.quantile(off, 0.9), 0.11)
        spread = np.sqrt(np.mean(np.square(ratio)))
        self.assertTrue(0.8 < spread < 1.3, spread)

    def test_bows_alone_tell_how_the_lens_bends(self):
        """Published intrinsics: all photographs together within 2 of its own ±, rows once
        straightened within 0.25 px rms."""
        found = study()
        self.assertLess(abs(found["off"]), 2)
        self.assertLess(max(found["straight"]), 0.25)
        self.assertGreaterEqual(np.mean(np.abs(found["alone"]) < 2.5), 0.9)

    def test_one_photograph_straightens_another(self):
        """What the bows of one photograph tell makes the rows of the others straighter than no lens
        does."""
        boards = list(photographs())
        _, size, corners = boards[0]
        lens = solve(document(size, bows(corners), ["k1"])).document["lens"]
        none = {"distortion": dict.fromkeys(FREE, 0.0)}
        better = [
            straightness(size, lens, other) < 0.6 * straightness(size, none, other)
            for _, _, other in boards[1:]
        ]
        self.assertGreaterEqual(np.mean(better), 0.75)

    def test_the_straightened_plate_is_opencvs(self):
        size = (640, 480)
        x, y = straighten_map(published_camera(size), size)
        matrix, coefficients = intrinsics()
        theirs = cv2.initUndistortRectifyMap(matrix, coefficients, None, matrix, size, cv2.CV_32FC1)
        for ours, other in zip((x, y), theirs):
            inside = (other > -20) & (other < 700)
            self.assertLess(np.abs(ours - other)[inside].max(), 0.02)

    def test_bent_again_as_opencv_undistorts(self):
        """The way back: of a straight picture at twice the size, where each pixel of the bent one
        lies."""
        matrix, coefficients = intrinsics()
        bent = published_camera((640, 480))
        large = replace(bent, lens=straight(bent.lens), grid=bent.grid.resize(1280, 960))
        x, y = map_between(large, bent)
        at = np.stack(np.meshgrid(np.arange(640.0), np.arange(480.0)), -1).reshape(-1, 1, 2)
        theirs = cv2.undistortPoints(at, matrix, coefficients, P=matrix)[:, 0]
        # Twice as large, and both count from the first pixel's centre.
        wanted = (theirs + 0.5) * 2 - 0.5
        ours = np.stack([x, y], -1).reshape(-1, 2)
        self.assertLess(float(np.abs(ours - wanted).max()), 0.05)


class Surveys(TestCase):
    """The same points given to general-purpose solvers; pose and focal length within a tenth of
    their ±."""

    def seen(self, seed=3, count=24, noise=0.4, k1=-0.08, world_noise=0.0):
        rng = np.random.default_rng(seed)
        camera = Camera.at(
            GRID, Lens(24, coefficients=(k1, 0, 0, 0, 0)), (3, 1.6, 6), *np.radians([25, -8, 1])
        )
        pixels = rng.uniform([60, 60], [1860, 1020], (count, 2))
        world = camera.position + camera.rays(pixels) * rng.uniform(3, 9, (count, 1))
        at = camera.project(world) + rng.normal(size=(count, 2)) * noise
        return camera, world + rng.normal(size=world.shape) * world_noise, at

    def test_pose_focal_length_and_k1_against_calibrate_camera(self):
        camera, world, at = self.seen()
        data = empty(*SIZE) | {"gate": {"width_mm": 36, "height_mm": 20.25}}
        data["lens"]["distortion"] = {"free": ["k1"]}
        data["marks"] = [
            {"id": f"s{i}", "kind": "spot", "at": p.tolist(), "world": w.tolist(), "sigma_px": 0.4}
            for i, (p, w) in enumerate(zip(at, world))
        ]
        fit = solve(data).document
        flags = (
            cv2.CALIB_USE_INTRINSIC_GUESS
            | cv2.CALIB_FIX_PRINCIPAL_POINT
            | cv2.CALIB_FIX_ASPECT_RATIO
            | cv2.CALIB_ZERO_TANGENT_DIST
            | cv2.CALIB_FIX_K2
            | cv2.CALIB_FIX_K3
        )
        _, matrix, k, turns, shifts = cv2.calibrateCamera(
            [world.astype(np.float32)],
            [at.astype(np.float32)[:, None]],
            SIZE,
            camera.intrinsic_matrix(),
            np.zeros(5),
            flags=flags,
            criteria=(3, 500, 1e-13),
        )
        pm = fit["plus_minus"]
        self.assertLess(abs(fit["camera"]["focal_px"][1] - matrix[1, 1]), 0.1 * pm["focal_px"][1])
        self.assertLess(
            abs(fit["camera"]["distortion"]["k1"] - k.ravel()[0]), 0.1 * pm["distortion"]["k1"]
        )
        theirs = (-cv2.Rodrigues(turns[0])[0].T @ shifts[0]).ravel()
        self.assertLess(
            (np.abs(np.array(fit["camera"]["position_m"]) - theirs) / pm["position_m"]).max(), 0.1
        )

    def test_points_with_a_plus_minus_of_their_own(self):
        """OpenCV's projectPoints in SciPy's least_squares, every surveyed coordinate an unknown
        with its measurement."""
        camera, world, at = self.seen(seed=5, count=12, k1=0.0, world_noise=0.02)
        data = empty(*SIZE) | {"gate": {"width_mm": 36, "height_mm": 20.25}}
        data["marks"] = [
            {
                "id": f"s{i}",
                "kind": "spot",
                "at": p.tolist(),
                "world": w.tolist(),
                "world_plus_minus": 0.02,
                "sigma_px": 0.4,
            }
            for i, (p, w) in enumerate(zip(at, world))
        ]
        fit = solve(data).document
        cv_from_ours = np.diag([1.0, -1.0, -1.0])
        turn = cv2.Rodrigues(cv_from_ours @ camera.rotation.T)[0].ravel()
        start = np.concatenate(
            [
                turn,
                -cv_from_ours @ camera.rotation.T @ camera.position,
                [np.log(camera.focal_px[0])],
                world.ravel(),
            ]
        )

        def residuals(p):
            matrix = np.array(
                [[np.exp(p[6]), 0, SIZE[0] / 2], [0, np.exp(p[6]), SIZE[1] / 2], [0, 0, 1]]
            )
            seen = cv2.projectPoints(p[7:].reshape(-1, 3), p[:3], p[3:6], matrix, None)[0].reshape(
                -1, 2
            )
            return np.concatenate([(seen - at).ravel() / 0.4, (p[7:] - world.ravel()) / 0.02])

        end = least_squares(residuals, start, x_scale="jac", xtol=1e-14, ftol=1e-14, gtol=1e-14)
        theirs = -cv2.Rodrigues(end.x[:3])[0].T @ end.x[3:6]
        pm = fit["plus_minus"]
        self.assertLess(
            (np.abs(np.array(fit["camera"]["position_m"]) - theirs) / pm["position_m"]).max(), 0.02
        )
        self.assertAlmostEqual(
            fit["camera"]["focal_px"][0], np.exp(end.x[6]), delta=0.02 * pm["focal_px"][0]
        )
        covariance = np.linalg.inv(end.jac.T @ end.jac)
        self.assertAlmostEqual(
            np.sqrt(covariance[6, 6]) * np.exp(end.x[6]) / pm["focal_px"][0], 1, delta=0.02
        )
        spot = fit["spots"]["s0"]
        np.testing.assert_allclose(spot["world_m"], end.x[7:10], atol=0.02 * 0.02)
        np.testing.assert_allclose(
            spot["plus_minus_m"], np.sqrt(np.diag(covariance)[7:10]), rtol=0.02
        )

    def test_fisheye_lenses_against_opencvs_fisheye_model(self):
        """An equidistant lens is OpenCV's fisheye model without coefficients: surveyed spots give
        the same pose."""
        rng = np.random.default_rng(7)
        camera = Camera.at(
            GRID, Lens(12, projection="equidistant"), (1, 1.5, 4), *np.radians([20, -5, 2])
        )
        pixels = rng.uniform([60, 60], [1860, 1020], (20, 2))
        world = camera.position + camera.rays(pixels) * rng.uniform(3, 8, (20, 1))
        at = camera.project(world) + rng.normal(size=(20, 2)) * 0.3
        data = empty(*SIZE) | {"gate": {"width_mm": 36, "height_mm": 20.25}}
        data["lens"] |= {"projection": "equidistant", "focal_mm": {"value": 12, "plus_minus": 0}}
        data["marks"] = [
            {"id": f"s{i}", "kind": "spot", "at": p.tolist(), "world": w.tolist(), "sigma_px": 0.3}
            for i, (p, w) in enumerate(zip(at, world))
        ]
        fit = solve(data).document
        matrix = camera.intrinsic_matrix()

        def residuals(p):
            seen = cv2.fisheye.projectPoints(world[:, None], p[:3], p[3:6], matrix, np.zeros(4))[
                0
            ].reshape(-1, 2)
            return ((seen - at) / 0.3).ravel()

        flip = np.diag([1.0, -1.0, -1.0])
        start = np.concatenate(
            [
                cv2.Rodrigues(flip @ camera.rotation.T)[0].ravel(),
                -flip @ camera.rotation.T @ camera.position,
            ]
        )
        end = least_squares(residuals, start, x_scale="jac", xtol=1e-13, ftol=1e-13)
        theirs = -cv2.Rodrigues(end.x[:3])[0].T @ end.x[3:6]
        self.assertLess(
            (
                np.abs(np.array(fit["camera"]["position_m"]) - theirs)
                / fit["plus_minus"]["position_m"]
            ).max(),
            0.05,
        )


class FactsOfTheTrade(TestCase):
    def test_a_height_measured_to_a_quarter_inch_against_another_scale(self):
        """Common practice, no source: two statements about size usually disagree a little; the
        height of the camera, to a quarter of an inch, above a floor fixed by three near points,
        against a length that sets another scale, is told, and both are named with what they would
        imply."""
        camera = Camera.at(GRID, Lens(28), (2.0, 1.35, 6.0), *np.radians([18, -6, 0.5]))
        rng = np.random.default_rng(11)

        def drawn(points):
            return (camera.project(points) + rng.normal(size=(len(points), 2)) * 0.5).tolist()

        walls = (
            ("across", [(-1, 0, 0), (2, 0, 0)]),
            ("across", [(-1, 2.4, 0), (2, 2.4, 0)]),
            ("along", [(-1, 0, 0), (-1, 0, 3)]),
            ("along", [(2, 0, 0), (2, 0, 2.5)]),
            ("up", [(-1, 0, 0), (-1, 2.4, 0)]),
            ("up", [(2, 0, 0), (2, 2.4, 0)]),
        )
        marks = [
            {"id": f"e{i}", "kind": "edge", "axis": axis, "points": drawn(np.array(ends, float))}
            for i, (axis, ends) in enumerate(walls)
        ]
        marks += [
            {"id": f"s{i}", "kind": "spot", "at": drawn(np.array([at], float))[0], "world": world}
            for i, (at, world) in enumerate(
                (
                    ((0.0, 0, 0.5), [0, 0, 0]),
                    ((0.2, 0, 0.5), [None, 0, None]),
                    ((0.1, 0, 0.7), [None, 0, None]),
                )
            )
        ]
        marks += [
            {
                "id": id_,
                "kind": "spot",
                "at": drawn(np.array([(x, 0, 0)]))[0],
                "world": [None, 0, None],
            }
            for id_, x in (("a", -1.0), ("b", 2.0))
        ]
        quarter_inch = 0.00635
        data = empty(*SIZE) | {
            "gate": {"width_mm": 36, "height_mm": 20.25},
            "marks": marks,
            "facts": [
                {
                    "id": "wall",
                    "name": "Wall",
                    "kind": "length",
                    "from": "a",
                    "to": "b",
                    "along": "across",
                    "metres": 3.0,
                    "plus_minus": 0.01,
                },
                {
                    "id": "height",
                    "name": "Lens height",
                    "kind": "camera_height",
                    "metres": 1.35,
                    "plus_minus": quarter_inch,
                },
            ],
        }
        self.assertEqual(solve(data).document["conflicts"], [])
        data["facts"][0]["metres"] = 3.4  # the tape ran round a post
        conflict = solve(data).document["conflicts"][0]
        self.assertTrue({"wall", "height"} <= set(conflict["of"]))
        self.assertRegex(conflict["says"], r"“Wall”.*“Lens height”|“Lens height”.*“Wall”")
        self.assertRegex(conflict["says"], r"would be (2\.9|3\.0)\d* m long, not 3\.400")
        self.assertRegex(conflict["says"], r"height would be 1\.5\d* m, not 1\.350")
