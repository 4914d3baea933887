"""Pictures turned, mirrored, made smaller on the way in: pixels, points and the gate chain say the
same."""

from itertools import product

import numpy as np
from django.test import SimpleTestCase

from aperture.gates.chain import build
from aperture.plates.way_in import WayIn

SIZE = (240, 128)
WAYS = [WayIn(*way) for way in product((False, True), range(4), (0, 96))]


def spot_at(place, size=SIZE):
    """A picture with a soft white spot at a place, px."""
    x, y = np.meshgrid(np.arange(size[0]) + 0.5, np.arange(size[1]) + 0.5)
    seen = np.exp(-((x - place[0]) ** 2 + (y - place[1]) ** 2) / (2 * 5.0**2))
    return np.repeat(seen[..., None], 3, axis=2).astype(np.float32)


def middle_of(picture):
    """Where the spot of a picture is."""
    weight = picture[..., 0].astype(float)
    y, x = np.mgrid[: weight.shape[0], : weight.shape[1]] + 0.5
    return np.array([(x * weight).sum(), (y * weight).sum()]) / weight.sum()


class TheWayIn(SimpleTestCase):
    def test_points_go_where_their_pixels_go(self):
        place = (61.0, 40.5)
        for way in WAYS:
            for kind in (np.float32, np.uint8, np.uint16, np.float16):
                most = np.iinfo(kind).max if np.dtype(kind).kind == "u" else 1.0
                came = way.apply((spot_at(place) * most).astype(kind))
                self.assertEqual((came.dtype, came.shape[1::-1]), (kind, way.size(*SIZE)))
                found = middle_of(came)
                self.assertLess(np.abs(found - way.points([place], SIZE)[0]).max(), 0.03, str(way))
            np.testing.assert_allclose(way.back(way.points([place], SIZE), SIZE), [place])
            self.assertEqual(WayIn.parse(str(way)), way)
            self.assertEqual(WayIn.from_json(way.json()), way)

    def test_the_gate_chain_follows(self):
        window = {"id": "a", "do": "window", "left": 10, "top": 4, "width": 240, "height": 128}
        gate = {"width_mm": 30.0, "height_mm": 17.0, "photosites": [300, 170]}
        points = np.array([[3.0, 5.0], [200.0, 100.0]])
        for way in WAYS:
            size = way.size(*SIZE)
            chain = build(gate | {"steps": [window, *way.steps(*size)]}, size, strict=True)
            self.assertEqual((chain.plate_grid.width, chain.plate_grid.height), size)
            # The sensor's photosites of these pixels of the file, and where the chain leads them on
            # the plate.
            led = chain.plate_grid.to_px(chain.stages[0].grid.to_mm(points + [10, 4]))
            np.testing.assert_allclose(led, way.points(points, SIZE), atol=1e-9, err_msg=str(way))

    def test_only_names_of_ways_are_ways(self):
        for name in ("x", "4", "f5", "w1", "w999999", "2f", "../", "w-20"):
            self.assertIsNone(WayIn.parse(name))
        self.assertEqual(WayIn(width=500).within(SIZE), WayIn())
