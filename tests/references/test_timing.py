"""When a move happens, from the picture: films whose true cameras are known, cut, shifted and
turned.

Their pictures are rendered, but noise, blur, compression and what moves by itself are as in a real
film, and what measures knows nothing of how they were made.
"""

import unittest
from dataclasses import replace
from pathlib import Path

import av
import cv2
import numpy as np

from aperture.camera import CameraPath
from aperture.errors import Problem
from aperture.moves.timing import followed, lag
from aperture.path.solve import solve
from aperture.track.follow import Follower, Settings
from demo import films

CUBE = Path("/usr/share/visp-images-data/ViSP-images/cube")
CODES = ("LT070", "LT080")  # films of one lens axis


def pictures(code):
    with av.open(str(films.FOLDER / f"{films.SHOTS[code].name}.mp4")) as movie:
        grey = [frame.to_ndarray(format="gray") for frame in movie.decode(video=0)]
    return list(enumerate(grey, 1))


def path_of(cameras, late=0):
    rotations, positions = (
        [getattr(c, name) for c in cameras] for name in ("rotation", "position")
    )
    frames, first = np.arange(1, len(cameras) + 1) + late, cameras[0]
    focal = np.full(len(cameras), first.lens.focal_mm)
    return CameraPath(
        first.grid, first.lens, frames, np.array(rotations), np.array(positions), focal
    )


class InTime(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.shown = {code: pictures(code) for code in CODES}
        cls.corners = {code: followed(iter(shown)) for code, shown in cls.shown.items()}

    def test_a_tenth_of_a_frame_and_which_way_up(self):
        for code in CODES:
            cameras = films.truth(code)
            for late, way in ((0, 1), (7, -1), (-5, 1)):
                path = path_of(cameras, late)
                flipped = path.rotations * [way, way, 1]  # half a turn about the lens axis
                path = CameraPath(
                    path.grid, path.lens, path.frames, flipped, path.positions, path.focal_mm
                )
                found = lag(self.corners[code], path, 20)
                self.assertAlmostEqual(found.frames, late, delta=0.1)
                self.assertEqual(found.turned, way < 0)
        # A move that began between two pictures.
        for part in (0.37, -1.62):
            cameras = [films.rise(index + part) for index in range(104)]
            found = lag(self.corners["LT080"], path_of(cameras), 20)
            self.assertAlmostEqual(found.frames, -part, delta=max(0.1, 2 * found.plus_minus))

    def test_plus_minus_over_pieces_of_films(self):
        squares, wide = [], []
        for code, shown in self.shown.items():
            path = path_of(films.truth(code))
            for start in range(0, 61, 30):
                found = lag(followed(iter(shown[start : start + 40])), path, 20)
                squares.append((found.frames / found.plus_minus) ** 2)
                wide.append(found.plus_minus)
        # Six pieces can't say more: none is off by more than its ± allows, and the ± tell
        # something.
        self.assertLess(np.mean(squares), 2.5, squares)
        self.assertLess(max(wide), 0.3)

    def test_a_real_film(self):
        """A cube filmed by a moving camera (Debian's visp-images-data), with the path that its
        tracks give.
        """
        shown = [
            (number, cv2.imread(str(CUBE / f"image.{number:04}.pgm"), 0)) for number in range(1, 33)
        ]
        follower = Follower(Settings(wanted=80))
        for number, picture in shown:
            follower.advance(number, picture.astype(np.float32))
        tracks = follower.finish()
        height, width = shown[0][1].shape
        told = []
        for index, id_ in enumerate(tracks.ids):
            own = slice(tracks.starts[index], tracks.starts[index + 1])
            seen = zip(
                tracks.frame[own].tolist(), tracks.xy[own].tolist(), tracks.sigma[own].max(axis=1)
            )
            places = [[frame, x, y, float(sigma)] for frame, (x, y), sigma in seen]
            told.append({"id": id_, "observations": places})
        path = solve(
            {
                "format": "accurate-aperture/match",
                "version": 2,
                "facts": [],
                "tracks": told,
                "image": {"width": width, "height": height},
                "gate": {"width_mm": width / 10, "height_mm": height / 10},
                "frames": {"first": 1, "last": 32, "rate": "25/1"},
                "lens": {"focal_mm": None},
            }
        ).path
        found = lag(followed(iter(shown)), replace(path, frames=path.frames + 6), 15)
        self.assertAlmostEqual(found.frames, 6, delta=0.1)
        self.assertFalse(found.turned)
        self.assertGreater(found.explained, 0.7)

    def test_what_can_t_be_told_gets_a_sentence(self):
        other = path_of(films.truth("LT080"))
        with self.assertRaisesRegex(Problem, "doesn’t move as the move does"):
            lag(self.corners["LT070"], other, 20)
        still = followed((frame, self.shown["LT070"][0][1]) for frame in range(1, 30))
        with self.assertRaisesRegex(Problem, "at rest"):
            lag(still, other, 20)
        grey = np.full((720, 1280), 90, np.uint8)
        with self.assertRaisesRegex(Problem, "Too few corners"):
            lag(followed((frame, grey) for frame in range(1, 30)), other, 20)
        with self.assertRaisesRegex(Problem, "two frames"):
            followed([(1, grey)])
