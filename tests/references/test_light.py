"""The stand-in renderer's light and surfaces against formulas on paper."""

from unittest import TestCase

import cv2
import numpy as np

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.render.passes import Wanted, render
from aperture.render.tracer import ALBEDO, DARK, MIRROR, Light, Look
from aperture.scene.stand_in import StandIn

GRID = Grid.from_gate(400, 300, 36, 27)
ABOVE = Camera.at(GRID, Lens(24), (0, 6, 0), 0, -np.pi / 2 + 1e-9, 0)
FLOOR = (StandIn((30, 0, 30), kind="plane"), Look("Floor"))
NIGHT = {"sun": 0.0, "ambient": 0.0}


def layers(camera, items, light, passes=("position",), samples=1):
    return render(camera, items, Wanted(passes, samples, light=light)).layers


class Lights(TestCase):
    def test_a_lamp_falls_off_with_the_square_of_its_distance(self):
        """A small square lamp at height h over a matte floor: its strength × albedo × cos θ / d², cos θ = h / d."""
        seen = layers(
            ABOVE, [FLOOR], Light(**NIGHT, lamp=3.0, lamp_at=(0.5, 2.0, 0.0), lamp_m=0.02)
        )
        d = np.linalg.norm(seen["position"] - (0.5, 2.0, 0.0), axis=2)
        np.testing.assert_allclose(seen["beauty"][..., 0], 3.0 * ALBEDO * 2.0 / d**3, rtol=0.01)

    def test_the_sun_by_the_cosine_of_its_height_and_only_on_what_faces_it(self):
        crate = (StandIn((1, 1, 1)), Look("Crate"))
        seen = layers(
            Camera.at(GRID, Lens(24), (2.5, 1.8, 4), 0.55, -0.25),
            [crate],
            Light(90, 30, sun=1.0, ambient=0.0),
            ("position", "normal"),
        )
        across, along, up = (
            np.abs(seen["normal"] - way).max(axis=2) < 1e-4
            for way in ((1, 0, 0), (0, 0, 1), (0, 1, 0))
        )
        self.assertTrue(across.any() and along.any() and up.any())
        np.testing.assert_allclose(
            seen["beauty"][across][:, 0], ALBEDO * np.cos(np.radians(30)), rtol=1e-3
        )
        self.assertLess(seen["beauty"][along][:, :3].max(), 1e-9)
        np.testing.assert_allclose(
            seen["beauty"][up][:, 0], ALBEDO * np.sin(np.radians(30)), rtol=1e-3
        )

    def test_a_soft_shadow_is_as_wide_as_the_sun(self):
        """Half a disc of 6° overhead is hidden at the edge of a board 1.5 m up: its penumbra is 2 · 1.5 m · tan 3° wide."""
        board = (StandIn((2, 0, 4), base=(-1.0, 1.5, 0), kind="plane"), Look("Board"))
        beneath = Camera.at(GRID, Lens(45), (0.0, 1.2, 0), 0, -np.pi / 2 + 1e-9, 0)
        seen = layers(
            beneath,
            [FLOOR, board],
            Light(0, 89.999, sun=1.0, ambient=0.0, sun_size=6.0, shadow_rays=64),
        )
        x, value = seen["position"][150, :, 0], seen["beauty"][150, :, 0] / ALBEDO
        half = 1.5 * np.tan(np.radians(3))
        self.assertLess(value[x < -1.05 * half].max(), 0.01)
        self.assertGreater(value[x > 1.05 * half].min(), 0.99)
        # A disc hidden up to the share u of its radius from its middle lets (acos u − u √(1 − u²)) / π through.
        u = np.clip(-x / half, -1, 1)
        inside = np.abs(u) < 0.95
        np.testing.assert_allclose(
            value[inside], ((np.arccos(u) - u * np.sqrt(1 - u * u)) / np.pi)[inside], atol=0.04
        )


class Surfaces(TestCase):
    CAMERA = Camera.at(GRID, Lens(24), (1.5, 1.6, 4.5), 0.3, -0.25)
    LIGHT = Light(20, 60, sun=0.0, ambient=0.5)

    def test_a_mirror_shows_what_a_mirrored_camera_sees(self):
        """A level mirror: where it is seen, the ball in it is where its image under the floor would be, seen straight."""
        mirror, ball = (
            (StandIn((8, 0, 8), kind="plane"), Look("Mirror", "mirror")),
            StandIn((0.8, 0.8, 0.8), (0.3, 0.7, 1.2), kind="sphere"),
        )
        shown = layers(
            self.CAMERA, [mirror, (ball, Look("Ball", "checker", 0.2))], self.LIGHT, ("masks",), 1
        )
        image = layers(
            self.CAMERA,
            [(StandIn((0.8, 0.8, 0.8), (0.3, -1.5, 1.2), kind="sphere"), Look("Image"))],
            self.LIGHT,
            ("masks",),
            1,
        )
        there = (image["masks"][..., 0] > 0.5) & (shown["masks"][..., 0] > 0.5)
        self.assertGreater(there.sum(), 500)
        sky = (
            MIRROR * 0.5 * (0.75 + 0.25)
        )  # brightest it could be; what reflects the ball is darker than any sky
        inner = cv2.erode(there.astype(np.uint8), np.ones((5, 5))).astype(bool)
        ball_light = shown["beauty"][inner][:, 0]
        self.assertTrue((ball_light <= MIRROR * ALBEDO * 0.5 + 1e-3).all() and ball_light.max() > 0)
        outer = (shown["masks"][..., 0] > 0.5) & ~cv2.dilate(
            image["masks"][..., 0], np.ones((5, 5))
        ).astype(bool)
        self.assertGreater(
            shown["beauty"][outer][:, 0].min(), MIRROR * ALBEDO * 0.5
        )  # the sky itself
        self.assertLessEqual(shown["beauty"][outer][:, 0].max(), sky + 1e-3)

    def test_a_checker_has_squares_of_its_size_where_opencv_projects_them(self):
        floor = (StandIn((6, 0, 6), kind="plane"), Look("Floor", "checker", 0.5))
        seen = layers(self.CAMERA, [floor], self.LIGHT)["beauty"][..., 0]
        x, z = (
            values.ravel()
            for values in np.meshgrid(np.arange(-2.75, 3, 0.5), np.arange(-2.75, 2, 0.5))
        )
        turned = np.diag([1.0, -1.0, -1.0]) @ self.CAMERA.rotation.T
        at = cv2.projectPoints(
            np.stack([x, 0 * x, z], -1),
            cv2.Rodrigues(turned)[0],
            -turned @ self.CAMERA.position,
            self.CAMERA.intrinsic_matrix(),
            np.zeros(5),
        )[0][:, 0]
        inside = (at > 0).all(axis=1) & (at < (400, 300)).all(axis=1)
        self.assertGreater(inside.sum(), 60)
        column, row = at[inside].astype(int).T
        dark = (np.floor(x / 0.5) + np.floor(z / 0.5))[inside] % 2 == 0
        light = seen[row, column]
        both = np.sort([DARK * 0.5, ALBEDO * 0.5])
        self.assertTrue(
            (np.isclose(light, both[0], rtol=0.01) == dark).all()
            or (np.isclose(light, both[0], rtol=0.01) == ~dark).all()
        )
        np.testing.assert_allclose(
            np.sort(np.unique(np.round(light, 4))), np.round(both, 4), atol=1e-3
        )
