"""The plate on stand-ins, and the gaps between them, against plane geometry."""

from unittest import TestCase

import numpy as np

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.render import worn
from aperture.scene import gaps
from aperture.scene.handles import snapped
from aperture.scene.stand_in import StandIn

CAMERA = Camera.at(
    Grid.from_gate(1600, 900, 32.0, 18.0),
    Lens(24.0, coefficients=(-0.12, 0.02, 0.0, 0.001, 0.0)),
    (0.4, 1.6, 4.5),
    pan=0.05,
    tilt=-0.15,
)
UPRIGHT = np.pi / 2  # a plane's tilt, once it stands


class PlateOnStandIns(TestCase):
    def test_straight_interpolation_serves(self):
        """Anywhere within a piece, the corners' places on the plate, weighed alike, are where the
        lens sees it."""
        item = StandIn((3.0, 1.2, 2.0), base=(0.3, 0.0, 0.5), turn=0.5)
        made = worn.wear(CAMERA, [item], 0)
        rng = np.random.default_rng(5)
        seen = made.triangles[made.mark != worn.UNSEEN]
        chosen = seen[rng.integers(0, len(seen), 3000)]
        weights = rng.dirichlet([1, 1, 1], len(chosen))[:, :, None]
        off = (made.at[chosen] * weights).sum(axis=1) - CAMERA.project(
            (made.points[chosen] * weights).sum(axis=1)
        )
        self.assertLess(np.linalg.norm(off, axis=1).max(), 2 * worn.TOLERANCE_PX)
        self.assertAlmostEqual(made.areas.sum(), 2 * (3.0 * 1.2 + 1.2 * 2.0 + 2.0 * 3.0), places=6)

    def test_what_hides_it_by_similar_triangles(self):
        """A board halfway to a wall hides four times its own area of it."""
        camera = Camera.at(Grid.from_gate(1600, 900, 32.0, 18.0), Lens(24.0), (0.0, 1.0, 4.0))
        wall = StandIn((3.0, 0.0, 2.0), base=(0.0, 1.0, 0.0), tilt=UPRIGHT, kind="plane")
        board = StandIn((0.5, 0.0, 0.4), base=(0.1, 1.1, 2.0), tilt=UPRIGHT, kind="plane")
        seen, stretched, unseen = worn.wear(camera, [wall, board], 0).shares
        self.assertAlmostEqual(unseen, 4 * 0.5 * 0.4 / 6.0, delta=0.003)
        self.assertEqual(stretched, 0.0)
        self.assertEqual(worn.wear(camera, [board], 0).shares, (1.0, 0.0, 0.0))

    def test_stretched_where_the_eye_is_low(self):
        """A floor 2 m under the lens, which looks at what is 8 m away: only beyond that a pixel is
        more than four times as long as wide."""
        camera = Camera.at(
            Grid.from_gate(2000, 2000, 36.0, 36.0),
            Lens(18.0),
            (0.0, 2.0, 0.0),
            tilt=-np.arcsin(1 / 4),
        )
        floor = StandIn((0.2, 0.0, 20.0), base=(0.0, 0.0, -10.0), kind="plane")
        made = worn.wear(camera, [floor], 0)
        middles = made.points[made.triangles].mean(axis=1)
        away = np.linalg.norm(middles - camera.position, axis=1)
        well = (
            np.abs(away / 8.0 - 1) > 0.06
        )  # at 8 m exactly four; the pieces there are some centimetres long
        self.assertTrue(
            ((made.mark == worn.STRETCHED) == (away > 8.0))[well & (made.mark != worn.UNSEEN)].all()
        )
        self.assertGreater(made.shares[1], 0.3)


class Gaps(TestCase):
    FLOOR = StandIn((4.0, 0.0, 4.0), kind="plane")

    def wall(self, lift=0.0, back=0.0):
        return StandIn(
            (4.0, 0.0, 2.5), base=(0.0, 1.25 + lift, -2.0 - back), tilt=UPRIGHT, kind="plane"
        )

    def test_only_where_light_leaks(self):
        found = gaps.find([self.FLOOR, self.wall(lift=0.02)])
        self.assertEqual(
            [(round(gap.width, 6), round(gap.length, 6)) for gap in found], [(0.02, 4.0)]
        )
        np.testing.assert_allclose(found[0].shift, (0, -0.02, 0), atol=1e-9)
        for closed in (
            self.wall(),
            self.wall(lift=-0.05),
            self.wall(back=-0.1),
        ):  # meets it, dips below it, stands on it
            self.assertEqual(gaps.find([self.FLOOR, closed]), [])
        wedge = gaps.find([self.FLOOR, StandIn((4.0, 2.5, 0.1), base=(0.0, 0.03, -1.5), roll=0.01)])
        self.assertAlmostEqual(wedge[0].width, 0.03 + 2 * np.sin(0.01), delta=0.001)
        self.assertIsNone(wedge[0].shift)

    def test_moving_by_the_shift_closes_it(self):
        box = StandIn((1.0, 1.0, 1.0), base=(0.3, 0.012, 0.2), turn=0.4)
        gap = gaps.find([self.FLOOR, box])[0]
        self.assertEqual(
            gaps.find(
                [
                    self.FLOOR,
                    StandIn(box.size, tuple(np.add(box.base, gap.shift).tolist()), box.turn),
                ]
            ),
            [],
        )


class Snapping(TestCase):
    def test_corners_first_then_edges(self):
        table = StandIn((2.0, 0.7, 1.0), base=(0.0, 0.0, 0.0))
        for point, wanted in (
            ((0.97, 0.0, 0.52), (1.0, 0.0, 0.5)),
            ((0.3, 0.0, 0.53), (0.3, 0.0, 0.5)),
            ((0.3, 0.0, 1.9), (0.3, 0.0, 1.9)),
        ):
            found = snapped(CAMERA, point, CAMERA.project([point])[0], [table])
            np.testing.assert_allclose(found, wanted, atol=1e-9)
