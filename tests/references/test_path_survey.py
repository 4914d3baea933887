"""Cameras that six surveyed tracks pose, on real photographs: the corners of OpenCV's chessboard
(Debian's package opencv-doc), against OpenCV's own calibration by the same corners."""

import cv2
import numpy as np
from django.test import SimpleTestCase

from aperture.path.solve import solve
from tests import chessboard

SIDE_M = 0.025  # of a square; any length would do
SIX = ((0, 0), (0, 8), (5, 0), (5, 8), (2, 3), (3, 6))
FLAGS = (
    cv2.CALIB_USE_INTRINSIC_GUESS
    | cv2.CALIB_FIX_PRINCIPAL_POINT
    | cv2.CALIB_FIX_ASPECT_RATIO
    | cv2.CALIB_ZERO_TANGENT_DIST
    | cv2.CALIB_FIX_K3
)


class SixCorners(SimpleTestCase):
    def test_focal_length_and_every_camera(self):
        """The board is taken as exact, as OpenCV takes it. Ours gives less weight to what is far
        off, theirs doesn't: the difference is a fraction of the ±."""
        seen = [corners for _, _, corners in chessboard.photographs()]
        size = next(chessboard.photographs())[1]
        matrix, _ = chessboard.intrinsics()
        centre = matrix[:2, 2]
        tracks = [
            {
                "id": f"c{number}",
                "sigma_px": 0.15,
                "observations": [
                    [at + 1, *one[row, column].tolist()] for at, one in enumerate(seen)
                ],
                "world": [SIDE_M * column, -SIDE_M * row, 0.0],
                "world_plus_minus": 0.0,
            }
            for number, (row, column) in enumerate(SIX)
        ]
        fit = solve(
            {
                "format": "accurate-aperture/match",
                "version": 2,
                "image": {"width": size[0], "height": size[1]},
                "frames": {"first": 1, "last": len(seen)},
                "lens": {
                    "focal_mm": None,
                    "principal_point": (centre + 0.5).tolist(),
                    "distortion": {"free": ["k1", "k2"]},
                },
                "tracks": tracks,
                "facts": [],
            }
        ).document
        self.assertEqual(fit["motion"], "free", fit.get("problem"))

        board = np.array([[SIDE_M * column, SIDE_M * row, 0] for row, column in SIX], np.float32)
        at = [np.array([one[place] - 0.5 for place in SIX], np.float32) for one in seen]
        begin = np.array([[535, 0, centre[0]], [0, 535, centre[1]], [0, 0, 1.0]])
        _, found, _, turns, shifts, sigmas, *_ = cv2.calibrateCameraExtended(
            [board] * len(seen), at, size, begin, np.zeros(5), flags=FLAGS
        )
        plus_minus = fit["plus_minus"]["focal_px"][1]
        self.assertLess(abs(fit["camera"]["focal_px"][1] - found[1, 1]), 0.3 * plus_minus)
        self.assertAlmostEqual(plus_minus / sigmas[1, 0], 1, delta=0.15)
        theirs = [-cv2.Rodrigues(turn)[0].T @ shift for turn, shift in zip(turns, shifts)]
        theirs = np.array(theirs)[:, :, 0] * [1, -1, -1]
        off = np.array(fit["path"]["position_m"]) - theirs
        sigma = np.array(fit["path"]["position_plus_minus_m"])
        self.assertLess(np.abs(off / sigma).max(), 0.5)
