"""The estimate against general-purpose solvers on the same evidence, and its ± against
repetition."""

from unittest import TestCase

import cv2
import mpmath
import numpy as np
from scipy.optimize import least_squares

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match.document import empty, read
from aperture.match.solve import solve
from aperture.match.statistics import as_sigmas
from aperture.match.system import System
from bench.simulated import case

SIZE = (1920, 1080)
GRID = Grid.from_gate(*SIZE, 36, 20.25)
SURVEY = np.array(
    [
        [0, 0, 0],
        [1, 0, 0],
        [0, 2, 0],
        [2, 1, -1],
        [-1, 0.5, 1],
        [1, 1.5, 2],
        [2.5, 0, 1.5],
        [-0.5, 1.2, -1],
    ],
    float,
)


def survey(noise=0.3, seed=1, **lens):
    """A document of surveyed spots, and the camera that saw them."""
    rng = np.random.default_rng(seed)
    camera = Camera.at(GRID, Lens(28), (3, 1.6, 6), *np.radians([25, -8, 1]))
    at = camera.project(SURVEY) + rng.normal(size=(len(SURVEY), 2)) * noise
    document = empty(*SIZE) | {"gate": {"width_mm": 36, "height_mm": 20.25}}
    document["lens"] |= lens
    document["marks"] = [
        {"id": f"s{i}", "kind": "spot", "at": p.tolist(), "world": w.tolist(), "sigma_px": noise}
        for i, (p, w) in enumerate(zip(at, SURVEY))
    ]
    return document, camera, at


class AgainstOpenCV(TestCase):
    def test_pose_from_surveyed_spots(self):
        document, camera, at = survey(focal_mm={"value": 28, "plus_minus": 0})
        fit = solve(document).document
        _, turn, shift = cv2.solvePnP(
            SURVEY, at, camera.intrinsic_matrix(), None, flags=cv2.SOLVEPNP_ITERATIVE
        )
        turn, shift = cv2.solvePnPRefineLM(
            SURVEY,
            at,
            camera.intrinsic_matrix(),
            None,
            turn,
            shift,
            (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_COUNT, 200, 1e-14),
        )
        theirs = (-cv2.Rodrigues(turn)[0].T @ shift).ravel()
        off = (np.array(fit["camera"]["position_m"]) - theirs) / fit["plus_minus"]["position_m"]
        self.assertLess(np.abs(off).max(), 0.02)

    def test_focal_length_from_surveyed_spots(self):
        document, camera, at = survey()
        fit = solve(document).document
        flags = (
            cv2.CALIB_USE_INTRINSIC_GUESS
            | cv2.CALIB_FIX_PRINCIPAL_POINT
            | cv2.CALIB_FIX_ASPECT_RATIO
            | cv2.CALIB_ZERO_TANGENT_DIST
            | cv2.CALIB_FIX_K1
            | cv2.CALIB_FIX_K2
            | cv2.CALIB_FIX_K3
        )
        _, matrix, *_ = cv2.calibrateCamera(
            [SURVEY.astype(np.float32)],
            [at.astype(np.float32)[:, None]],
            SIZE,
            camera.intrinsic_matrix(),
            None,
            flags=flags,
            criteria=(cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_COUNT, 500, 1e-12),
        )
        self.assertLess(
            abs(fit["camera"]["focal_px"][1] - matrix[1, 1]), 0.1 * fit["plus_minus"]["focal_px"][1]
        )


class AgainstMpmath(TestCase):
    def test_sigmas_beyond_double_precision(self):
        """Against mpmath's incomplete gamma function, evaluated to 60 digits."""
        mpmath.mp.dps = 60
        for square, freedom in ((50, 3), (900, 2), (2500, 258), (1e5, 40)):
            tail = mpmath.gammainc(freedom / 2, square / 2, regularized=True)
            z = mpmath.findroot(
                lambda x, p=tail: mpmath.log(mpmath.erfc(x / mpmath.sqrt(2))) - mpmath.log(p),
                mpmath.sqrt(-2 * mpmath.log(tail)),
            )
            self.assertAlmostEqual(as_sigmas(square, freedom), float(z), places=4)
        self.assertAlmostEqual(as_sigmas(258, 258), 0.68, delta=0.05)


class AgainstScipy(TestCase):
    def test_the_optimum_and_its_covariance(self):
        """scipy.optimize.least_squares with a numerical Jacobian, started at the truth, ends where
        we end and with the same ±."""
        document, truth = case(np.random.default_rng(14))
        fit = solve(document).document
        system = System(read(document))
        top = float(document["facts"][0]["metres"])
        start = system.state(
            truth.rotation, truth.lens, truth.position, np.full(system.value_count, top)
        )
        end = least_squares(
            lambda step: system.evaluate(system.moved(start, step))[0],
            np.zeros(system.size),
            x_scale="jac",
            xtol=1e-14,
            ftol=1e-14,
            gtol=1e-14,
        )
        state = system.moved(start, end.x)
        self.assertAlmostEqual(
            state.lens.focal_mm,
            fit["camera"]["focal_mm"],
            delta=1e-3 * fit["plus_minus"]["focal_mm"],
        )
        np.testing.assert_allclose(
            state.position,
            fit["camera"]["position_m"],
            atol=1e-3 * max(fit["plus_minus"]["position_m"]),
        )
        covariance = np.linalg.inv(end.jac.T @ end.jac)
        column = system.at["lens"].start
        self.assertAlmostEqual(
            np.sqrt(covariance[column, column])
            * state.lens.focal_mm
            / fit["plus_minus"]["focal_mm"],
            1.0,
            places=3,
        )
        position = np.sqrt(np.diag(covariance)[system.at["position"]])
        np.testing.assert_allclose(position / fit["plus_minus"]["position_m"], 1.0, atol=2e-3)


class AgainstRepetition(TestCase):
    def test_spread_of_many_photographs_is_the_plus_minus(self):
        """The same place photographed 60 times: figures of every kind scatter as their ± says,
        unknown places of spots too."""
        document, truth = case(np.random.default_rng(17))
        clean = {
            mark["id"]: np.array(mark["points"] if mark["kind"] == "edge" else mark["at"])
            for mark in document["marks"]
        }
        first = solve(document).document
        rng, seen = np.random.default_rng(99), []
        for _ in range(60):
            for mark in document["marks"]:
                key = "points" if mark["kind"] == "edge" else "at"
                mark[key] = (
                    clean[mark["id"]] + rng.normal(size=clean[mark["id"]].shape) * 0.5
                ).tolist()
            fit = solve(document, warm=first).document
            seen.append(
                [
                    fit["camera"]["focal_mm"],
                    fit["camera"]["field_of_view_deg"]["horizontal"],
                    fit["camera"]["pan_deg"],
                    fit["camera"]["tilt_deg"],
                    fit["camera"]["roll_deg"],
                ]
            )
        pm = first["plus_minus"]
        said = np.array(
            [pm["focal_mm"], pm["horizontal_deg"], pm["pan_deg"], pm["tilt_deg"], pm["roll_deg"]]
        )
        ratio = np.std(seen, axis=0) / said
        self.assertTrue(
            ((ratio > 0.7) & (ratio < 1.35)).all(), ratio
        )  # 60 repetitions know a spread to 9 %; three of these, and some curvature
