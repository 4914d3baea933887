"""Corrections done twice, or not yet: recognised from the render alone, and put right; the lens's
bend against OpenCV's."""

from dataclasses import replace
from unittest import TestCase

import cv2
import numpy as np

from aperture.camera import Camera
from aperture.gates.chain import build, straight
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.render import offsets, returned
from aperture.render.correction_words import in_words
from aperture.render.corrections import Geometry, apply, corrections_of, targets_of
from tests.core.test_returned import CAMERA, seen

STEPS = [{"id": "mirror", "do": "flip", "way": "sides"}, {"id": "wide", "do": "desqueeze"}]
GATE = {
    "width_mm": 18.0,
    "height_mm": 20.25,
    "squeeze": 2.0,
    "photosites": [240, 270],
    "steps": STEPS,
    "plate_at": 2,
}


class DoneTwice(TestCase):
    def setUp(self):
        chain = build(GATE, (480, 270), Lens(24.0, 2.0))
        self.chain, self.pose = chain, CAMERA.world_from_camera
        self.camera = replace(chain.camera(chain.plate), world_from_camera=self.pose)
        self.right = seen(self.camera).rgba
        self.corrections, self.targets = (
            corrections_of(chain, self.camera),
            targets_of(chain, 480, 270),
        )

    def taken(self, rgba, geometry=None):
        found, findings, taken = returned.put_right(
            returned.Returned(np.ascontiguousarray(rgba, np.float32), True, True),
            self.right[..., 3],
            self.corrections,
            self.targets,
            returned.Taken(geometry),
        )
        return found.rgba, taken.geometry, " ".join(finding.says for finding in findings)

    def test_the_render_of_the_matched_camera_gets_nothing(self):
        rgba, geometry, says = self.taken(self.right)
        np.testing.assert_array_equal(rgba, self.right)
        self.assertEqual((geometry, says), (Geometry("plate", {}), ""))
        self.assertIn(
            "must not be desqueezed again",
            in_words(next(one for one in self.corrections if one.key == "wide"), 0),
        )

    def test_what_was_done_again_is_taken_back(self):
        wider = cv2.resize(self.right, (960, 270), interpolation=cv2.INTER_NEAREST)
        for rgba, ways, said in (
            (self.right[:, ::-1], {"mirror": -1}, "flipped left to right"),
            (wider, {"wide": -1}, "desqueezed by 2"),
            (wider[:, ::-1], {"mirror": -1, "wide": -1}, "desqueezed by 2"),
            (self.right[::-1], {"upside-down": -1}, "upside down"),
        ):
            mended, geometry, says = self.taken(rgba)
            self.assertEqual(geometry.ways, ways)
            self.assertIn(said, says)
            np.testing.assert_allclose(mended, self.right, atol=1e-6)

    def test_a_render_for_the_sensor_is_brought_along(self):
        """Squeezed and unflipped, as an outside renderer sees that grid's camera."""
        rgba, geometry, says = self.taken(
            seen(replace(self.chain.camera(0), world_from_camera=self.pose)).rgba
        )
        self.assertIn("another grid", says + in_words(self.corrections[1], 1))
        found = offsets.measure(rgba[..., 3], self.right[..., 3])
        np.testing.assert_allclose(found.shift, 0, atol=0.1)
        self.assertLess(
            np.percentile(np.abs(found.off), 90), 0.6
        )  # it had half as many pixels across

    def test_the_artist_has_the_last_word(self):
        rgba, geometry, _ = self.taken(self.right, Geometry("plate", {"mirror": -1}))
        np.testing.assert_allclose(rgba, self.right[:, ::-1])


class Stabilised(TestCase):
    """A plate that was moved by (3.4, −2.25) px to hold it still: the matched camera's axis has
    moved along."""

    BY = (3.4, -2.25)

    def setUp(self):
        gate = {
            "width_mm": 36.0,
            "height_mm": 20.25,
            "photosites": [480, 270],
            "plate_at": 1,
            "steps": [{"id": "held", "do": "stabilise", "right": self.BY[0], "down": self.BY[1]}],
        }
        self.chain = build(
            gate, (480, 270), Lens(24.0, centre_mm=tuple(np.array(self.BY) * 36 / 480)), strict=True
        )
        self.camera = replace(self.chain.camera(1), world_from_camera=CAMERA.world_from_camera)
        self.right = seen(self.camera).rgba
        self.corrections, self.targets = (
            corrections_of(self.chain, self.camera),
            targets_of(self.chain, 480, 270),
        )

    def test_the_step_moves_the_picture(self):
        points = [[2.0, 0.5, 0.5], [0.4, 0.2, 1.0]]
        before = replace(self.chain.camera(0), world_from_camera=CAMERA.world_from_camera).project(
            points
        )
        np.testing.assert_allclose(self.camera.project(points) - before, [self.BY] * 2, atol=1e-9)
        np.testing.assert_allclose(self.chain.axis_px, np.add((240, 135), self.BY), atol=1e-9)

    def test_moved_on_another_grid_it_is_told_in_the_plate_s_pixels(self):
        """Twice as fine, turned on its side, then brought to the plate: what went right goes down,
        by half."""
        steps = [
            {"id": "held", "do": "stabilise", "right": 40.0, "down": 6.0},
            {"id": "upright", "do": "turn", "quarters": 1},
            {"id": "small", "do": "resize", "width": 270, "height": 480},
        ]
        chain = build(
            {
                "width_mm": 36.0,
                "height_mm": 20.25,
                "photosites": [960, 540],
                "plate_at": 3,
                "steps": steps,
            },
            (270, 480),
            Lens(24.0),
            strict=True,
        )
        held = next(one for one in corrections_of(chain, None) if one.key == "held")
        self.assertEqual((held.about, held.fine), ("stabilised by -3, +20 px", False))
        dot = np.zeros((480, 270, 1), np.float32)
        dot[100, 50] = 1
        self.assertEqual(np.argwhere(held.apply(dot, 1)[..., 0] > 0.5).tolist(), [[120, 47]])

    def test_stabilised_again_or_not_at_all(self):
        """OpenCV moves the pictures, so that they slide by the step once too often, or never got
        it."""
        for times, way in ((1, -1), (-1, 1), (0, None)):
            moved = cv2.warpAffine(
                self.right,
                np.float32([[1, 0, times * self.BY[0]], [0, 1, times * self.BY[1]]]),
                (480, 270),
            )
            found, findings, taken = returned.put_right(
                returned.Returned(moved, True, True),
                self.right[..., 3],
                self.corrections,
                self.targets,
            )
            self.assertEqual(taken.geometry.ways, {"held": way} if way else {})
            self.assertEqual([finding.key for finding in findings], ["held"] if way else [])
            self.assertLess(offsets.measure(found.rgba[..., 3], self.right[..., 3]).median, 0.1)


class LensBend(TestCase):
    CAMERA = Camera.at(
        Grid.from_gate(960, 540, 36, 20.25),
        Lens(22.0, coefficients=(-0.16, 0.03, 0.0, 0.001, -0.002)),
        (3, 1.7, 5.2),
        0.5,
        -0.15,
    )

    def test_a_straight_render_is_bent_as_the_plate_is(self):
        expected = seen(self.CAMERA).rgba[..., 3]
        plain = seen(replace(self.CAMERA, lens=straight(self.CAMERA.lens))).rgba
        corrections, targets = corrections_of(None, self.CAMERA), targets_of(None, 960, 540)
        for rgba, ways in ((plain, {"lens": 1}), (seen(self.CAMERA).rgba, {})):
            found, _, taken = returned.put_right(
                returned.Returned(rgba, True, True), expected, corrections, targets
            )
            self.assertEqual(taken.geometry.ways, ways)
            measured = offsets.measure(found.rgba[..., 3], expected)
            self.assertLess(measured.median, 0.05)
        self.assertGreater(
            offsets.measure(plain[..., 3], expected).most, 2.0
        )  # else nothing was shown

    def test_a_render_for_the_straight_grid_is_bent_by_the_chain(self):
        gate = {
            "width_mm": 36.0,
            "height_mm": 20.25,
            "photosites": [960, 540],
            "plate_at": 0,
            "steps": [{"id": "flat", "do": "straighten"}],
        }
        chain = build(gate, (960, 540), self.CAMERA.lens, strict=True)
        pose, expected = self.CAMERA.world_from_camera, seen(self.CAMERA).rgba[..., 3]
        plain = seen(replace(chain.camera(1), world_from_camera=pose)).rgba
        self.assertNotEqual(plain.shape[:2], expected.shape)  # enlarged to hold all of it
        known, targets = corrections_of(chain, self.CAMERA), targets_of(chain, 960, 540)
        found, _, taken = returned.put_right(
            returned.Returned(plain, True, True), expected, known, targets
        )
        self.assertEqual(taken.geometry, Geometry("flat", {}))
        self.assertLess(offsets.measure(found.rgba[..., 3], expected).median, 0.06)
        self.assertIn(
            "the chain bent it",
            in_words(known[0], 0, target=next(one for one in targets if one.key == "flat")),
        )

    def test_straightened_as_opencv_does(self):
        rng = np.random.default_rng(2)
        picture = cv2.GaussianBlur(rng.random((540, 960, 3)).astype(np.float32), (0, 0), 4)
        mine = apply(
            picture,
            corrections_of(None, self.CAMERA),
            targets_of(None, 960, 540),
            Geometry("plate", {"lens": -1}),
        )
        matrix = self.CAMERA.intrinsic_matrix()
        matrix[:2, 2] -= 0.5  # OpenCV counts from pixel middles
        k1, k2, k3, p1, p2 = self.CAMERA.lens.coefficients
        theirs = cv2.undistort(picture, matrix, np.array([k1, k2, p1, p2, k3]))
        self.assertLess(np.abs(mine - theirs)[20:-20, 20:-20].max(), 2e-3)
