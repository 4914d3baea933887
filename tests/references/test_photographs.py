"""Proposals on real photographs whose focal length is known from elsewhere.

Sources: the calibration published with OpenCV's chessboard photographs (`intrinsics.yml`, 534.8
px); the calibration of the Middlebury 2014 stereo data set in scikit-image's documentation of
`stereo_motorcycle` (994.978 px); for the rest, Debian's opencv-doc, the focal length in the file's
EXIF data over the width of the camera's sensor (makers' data sheets, from memory). Of the pairs of
twin cameras one picture is taken: two would count one scene twice.
"""

from pathlib import Path
from unittest import TestCase

import cv2
import numpy as np
import skimage
from PIL import Image

from aperture.errors import Problem
from aperture.match import proposals
from aperture.match.document import empty
from aperture.match.solve import solve

OPENCV = Path("/usr/share/doc/opencv-doc/examples")
SKIMAGE = Path(skimage.__file__).parent / "data"
# Sensor widths, mm: a phone of 2014 (1/3 inch), compact cameras of 2000 to 2006.
PHONE, HALF_INCH_8, HALF_INCH_5, THIRD_INCH_3 = 4.896, 7.18, 5.75, 5.37
BOARD_PX, MOTORCYCLE_PX = 534.8, 994.978
# Picture, focal length in px or the width of the sensor in mm.
WITH_A_LENS = (
    (OPENCV / "data/left02.jpg", BOARD_PX, None),
    (OPENCV / "data/left13.jpg", BOARD_PX, None),
    (OPENCV / "data/right05.jpg", BOARD_PX, None),
    (OPENCV / "data/leuvenA.jpg", None, PHONE),
    (OPENCV / "data/leuvenB.jpg", None, PHONE),
    (OPENCV / "text/scenetext05.jpg", None, HALF_INCH_5),
    (OPENCV / "text/scenetext06.jpg", None, THIRD_INCH_3),
    (OPENCV / "text/scenetext_segmented_word03.jpg", None, HALF_INCH_8),
    (SKIMAGE / "motorcycle_left.png", MOTORCYCLE_PX, None),
)
# A board held before the camera and a shop seen from the front: what runs where can't be told.
WITHOUT = (
    OPENCV / "data/left01.jpg",
    OPENCV / "data/right09.jpg",
    OPENCV / "data/board.jpg",
    OPENCV / "text/scenetext01.jpg",
    OPENCV / "text/scenetext_segmented_word02.jpg",
)
EXIF_IFD, FOCAL_LENGTH = 0x8769, 0x920A


def pixels_of(path):
    return np.ascontiguousarray(cv2.imread(str(path))[..., ::-1])


def known_focal_px(path, focal_px, sensor_mm):
    if focal_px is not None:
        return focal_px
    with Image.open(path) as picture:
        focal_mm = float(picture.getexif().get_ifd(EXIF_IFD)[FOCAL_LENGTH])
        return focal_mm / sensor_mm * picture.width


class OfKnownLenses(TestCase):
    def test_the_truth_lies_within_two_of_their_plus_minus(self):
        inside, trusted = [], 0
        for path, focal_px, sensor_mm in WITH_A_LENS:
            pixels = pixels_of(path)
            found = proposals.propose(pixels)
            trusted += found.trust != "none"
            document = empty(pixels.shape[1], pixels.shape[0])
            marks = proposals.marks_of(pixels, proposals.choose(found.segments))
            marks = proposals.agreeing(document, marks)
            document["marks"] = [
                mark | {"id": f"e{index}"}
                for index, mark in enumerate(proposals.believed(found, document, marks))
            ]
            fit = solve(document, explain=False).document
            self.assertTrue(fit["ok"], path.name)
            off = fit["camera"]["focal_px"][0] - known_focal_px(path, focal_px, sensor_mm)
            inside.append(abs(off) < 2 * fit["plus_minus"]["focal_px"][0])
        self.assertGreaterEqual(sum(inside), len(inside) - 1)
        self.assertGreaterEqual(trusted, 5)

    def test_where_they_cannot_be_trusted_they_say_so(self):
        for path in WITHOUT:
            with self.subTest(path.name):
                try:
                    found = proposals.propose(pixels_of(path))
                except Problem:
                    continue
                self.assertEqual(found.trust, "none")
                self.assertIn("don't tell the lens", found.says(""))
