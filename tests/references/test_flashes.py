"""Flashes found in a real film, and under a moving camera over a real photograph.

The film is `vtest.avi` of Debian's package opencv-doc (a street seen by a still camera, people
walking, MJPEG noise); the photograph is scikit-learn's sample `china.jpg`. The lamps are painted
in: a small disc, blurred as a lens does.
"""

from pathlib import Path

import cv2
import numpy as np
from django.test import SimpleTestCase
from sklearn.datasets import load_sample_image

from aperture.plates.flashes import find_flashes
from aperture.plates.movies import Decoder, probe

VTEST = Path("/usr/share/doc/opencv-doc/examples/data/vtest.avi")
COUNT = 70
# first lit picture, how strongly it is lit in the first and the following pictures, colour (blue,
# green, red), place, radius
LAMPS = {
    "green": (8, (1.0,), (90, 255, 60), (120, 420), 5),
    "red": (19, (0.35, 1.0, 1.0), (40, 40, 255), (640, 150), 4),  # lit while the shutter was open
    "blue": (30, (1.0, 1.0), (255, 90, 40), (400, 300), 5),
    "yellow": (44, (1.0,) * 4, (40, 230, 255), (220, 200), 5),
    "white": (58, (1.0, 1.0), (255, 255, 255), (560, 430), 6),
}


def lit(picture, strength, colour, place, radius):
    """A lamp in a picture: its light over what is there."""
    mask = np.zeros(picture.shape[:2], np.float32)
    cv2.circle(mask, tuple(round(16 * v) for v in place), 16 * radius, 1.0, -1, cv2.LINE_AA, 4)
    mask = strength * cv2.GaussianBlur(mask, (0, 0), 1.2)[..., None]
    return (picture * (1 - mask) + np.array(colour, np.float32) * mask).astype(np.uint8)


def compressed(picture):
    """As the small pictures are: JPEG."""
    return cv2.imdecode(cv2.imencode(".jpg", picture, [1, 85])[1], cv2.IMREAD_COLOR)


class Flashes(SimpleTestCase):
    def found_all(self, found, size):
        """Each lamp, at its first picture and place, stronger than anything else."""
        self.assertEqual(
            sorted(flash.number for flash in found[: len(LAMPS)]),
            sorted(lamp[0] for lamp in LAMPS.values()),
        )
        for first, _, colour, place, _ in LAMPS.values():
            flash = next(one for one in found if one.number == first)
            away = np.subtract(flash.at, np.divide(place, size)) * size
            self.assertLess(np.abs(away).max(), 12)
            self.assertFalse(flash.wide)
            if min(colour) < 255:
                self.assertEqual(np.argmax(flash.colour[::-1]), np.argmax(colour))

    def test_in_a_real_film(self):
        with Decoder(VTEST, probe(VTEST), "vtest.avi") as film:
            pictures = [film.picture(number)[..., ::-1] for number in range(COUNT)]
        plain = list(enumerate(pictures, 1))
        # People walk, and nothing lights up: at most something pale that comes out from behind
        # something else.
        self.assertTrue(all(flash.rise < 0.3 for flash in find_flashes(plain)))
        for first, strengths, *lamp in LAMPS.values():
            for number, strength in enumerate(strengths, first):
                pictures[number - 1] = lit(pictures[number - 1], strength, *lamp)
        shown = [(number, compressed(picture)) for number, picture in enumerate(pictures, 1)]
        self.found_all(find_flashes(shown), (768, 576))
        # Within a rectangle only what lies in it.
        found = find_flashes(shown, (0.0, 0.0, 0.45, 0.5))
        self.assertEqual(found[0].number, 44)
        self.assertTrue(all(flash.rise < 0.3 for flash in found[1:]))

    def test_under_a_moving_camera(self):
        photograph = load_sample_image("china.jpg")[..., ::-1]
        rng = np.random.default_rng(3)
        size, pictures = (480, 320), []
        for number in range(1, COUNT + 1):
            turn = cv2.getRotationMatrix2D((320, 213), 3 * np.sin(number / 9), 1.0 + number / 900)
            turn[:, 2] += [-80 - 1.3 * number + 4 * np.sin(number), -50 + 3 * np.cos(number / 2)]
            seen = cv2.warpAffine(photograph, turn, size, flags=cv2.INTER_CUBIC)
            pictures.append(seen)
        for first, strengths, colour, place, radius in LAMPS.values():
            for number, strength in enumerate(strengths, first):
                at = np.array(place) * [480 / 768, 320 / 576]
                pictures[number - 1] = lit(pictures[number - 1], strength, colour, at, radius)
        noisy = [
            np.clip(picture + rng.normal(size=picture.shape) * 3, 0, 255).astype(np.uint8)
            for picture in pictures
        ]
        shown = [(number, compressed(picture)) for number, picture in enumerate(noisy, 1)]
        found = find_flashes(shown)
        self.assertEqual(
            sorted(flash.number for flash in found[: len(LAMPS)]),
            sorted(lamp[0] for lamp in LAMPS.values()),
        )

    def test_the_demos_lantern(self):
        from demo import films

        path = films.FOLDER / "LT080_arm.mp4"
        with Decoder(path, probe(path), path.name) as film:
            shown = [(n, compressed(film.picture(n - 1)[..., ::-1])) for n in range(1, 61)]
        first, *others = find_flashes(shown)
        self.assertEqual(first.number, films.FLASH + 1)
        self.assertTrue(all(other.rise < first.rise / 3 for other in others))
        # Where the true camera sees the lantern.
        from demo.places import SIGNAL

        seen = films.truth("LT080")[films.FLASH].project([SIGNAL])[0]
        self.assertLess(np.abs(np.multiply(first.at, films.SIZE) - seen).max(), 8)
