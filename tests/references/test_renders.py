"""Renders against OpenCV's projection, geometry on paper, and their files in OpenImageIO."""

import json
import struct
import tempfile
from pathlib import Path
from unittest import TestCase

import cv2
import numpy as np
import OpenImageIO

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.distortion import opencv_order
from aperture.lens.lens import Lens
from aperture.render.compose import composite, over
from aperture.render.files import cryptomatte, identity_of, write_exr, write_looks
from aperture.render.passes import PASSES, Wanted, render
from aperture.render.tracer import Light, Look
from aperture.scene.stand_in import StandIn

BENT = Lens(24, centre_mm=(2.0, -1.0), coefficients=(-0.12, 0.02, 0, 0.001, -0.002))
GRID = Grid.from_gate(320, 180, 36, 20.25)
FLOOR = StandIn((40, 0, 40), kind="plane")


def camera(lens=BENT, at=(3, 1.7, 6), tilt=-0.2):
    return Camera.at(GRID, lens, at, 0.4, tilt, 0.03)


class Passes(TestCase):
    def test_positions_are_seen_at_their_pixels_and_depths_are_theirs(self):
        seen = camera()
        items = [
            (FLOOR, Look("Floor")),
            (StandIn((1, 1, 1), (1, 0, 2), kind="sphere"), Look("Ball")),
        ]
        layers = render(seen, items, Wanted(("depth", "position", "normal"))).layers
        there = np.isfinite(layers["depth"])
        self.assertGreater(there.mean(), 0.4)
        points = layers["position"][there].astype(float)
        cv_from_world = np.diag([1.0, -1.0, -1.0]) @ seen.rotation.T
        at, _ = cv2.projectPoints(
            points,
            cv2.Rodrigues(cv_from_world)[0],
            -cv_from_world @ seen.position,
            seen.intrinsic_matrix(),
            opencv_order(BENT.coefficients),
        )
        y, x = np.nonzero(there)
        np.testing.assert_allclose(at[:, 0], np.stack([x, y], -1) + 0.5, atol=2e-3)
        away = (points - seen.position) @ cv_from_world.T
        np.testing.assert_allclose(layers["depth"][there], away[:, 2], rtol=1e-5)
        np.testing.assert_allclose(
            layers["distance"][there], np.linalg.norm(away, axis=1), rtol=1e-5
        )
        floor = np.abs(points[:, 1]) < 1e-5
        np.testing.assert_allclose(
            layers["normal"][there][floor], [[0, 1, 0]] * int(floor.sum()), atol=1e-6
        )

    def test_samples_of_a_bent_lens_are_where_its_own_rays_are(self):
        from aperture.render.passes import rays

        seen = camera()
        x, y = np.meshgrid(np.arange(10, 20, 1 / 3) + 1 / 6, np.arange(150, 160, 1 / 3) + 1 / 6)
        exact = seen.rays(np.stack([x, y], -1).reshape(-1, 2)).reshape(30, 30, 3)
        self.assertLess(
            np.abs(rays(seen, (150, 160), (10, 20), 3) - exact).max() * seen.focal_px[0], 3e-4
        )  # px

    def test_a_shadow_is_as_long_as_the_sun_is_low(self):
        above = Camera.at(GRID, Lens(24), (0, 12, 0), 0, -np.pi / 2 + 1e-9, 0)
        light = Light(
            sun_bearing=90, sun_height=30, ambient=0.2
        )  # from across: the shadow falls the other way
        items = [(FLOOR, Look("Floor", part_of_plate=True)), (StandIn((1, 2, 1)), Look("Post"))]
        layers = render(above, items, Wanted(("shadow", "position"), light=light)).layers
        dark = layers["position"][
            (layers["shadow"] > 0.3) & (np.abs(layers["position"][..., 1]) < 1e-4)
        ]
        self.assertAlmostEqual(dark[:, 0].min(), -0.5 - 2 / np.tan(np.radians(30)), delta=0.1)
        self.assertAlmostEqual(np.abs(dark[:, 2]).max(), 0.5, delta=0.1)
        # What is taken is the sun's part of all the light on the floor.
        self.assertAlmostEqual(
            float(np.median(layers["shadow"][layers["shadow"] > 0.3])),
            0.8 * 0.5 / (0.8 * 0.5 + 0.2),
            delta=1e-3,
        )
        self.assertEqual(layers["beauty"][..., 3].max(), 1)
        self.assertEqual(layers["beauty"][5, 5, 3], 0)  # the floor only catches

    def test_a_mirror_shows_what_stands_below_it_upside_down(self):
        seen, ball, under = (
            camera(Lens(24)),
            StandIn((1, 1, 1), (0.5, 0.5, 1), kind="sphere"),
            StandIn((1, 1, 1), (0.5, -1.5, 1), kind="sphere"),
        )
        reflected = render(
            seen,
            [(FLOOR, Look("Floor", "mirror", part_of_plate=True)), (ball, Look("Ball"))],
            Wanted(("reflection",)),
        ).layers
        image = render(seen, [(under, Look("Ball"))]).rgba[..., 3] * (
            1 - reflected["beauty"][..., 3]
        )
        np.testing.assert_allclose(reflected["reflection"][..., 3] / 0.9, image, atol=0.05)

    def test_light_by_the_square_of_the_distance_and_half_the_sky_in_a_corner(self):
        above = Camera.at(GRID, Lens(24), (0, 6, 0), 0, -np.pi / 2 + 1e-9, 0)
        for height in (2.0, 4.0):
            light = Light(sun=0, ambient=0, lamp=3.0, lamp_at=(0.0, height, 0.0), lamp_m=0.0)
            self.assertAlmostEqual(
                float(render(above, [(FLOOR, Look())], Wanted(light=light)).rgba[90, 160, 0]),
                0.6 * 3 / height**2,
                delta=1e-3,
            )
        wall = StandIn((40, 40, 1), (0, 0, -1.5))
        layers = render(
            above,
            [(FLOOR, Look()), (wall, Look())],
            Wanted(("occlusion", "position"), occlusion_m=100, occlusion_rays=256),
        ).layers
        near = (np.abs(layers["position"][..., 2] + 0.95) < 0.04) & (
            layers["position"][..., 1] < 1e-3
        )
        self.assertAlmostEqual(float(layers["occlusion"][near].mean()), 0.5, delta=0.03)


class Files(TestCase):
    def test_layers_and_identities_as_openimageio_reads_them(self):
        items = [
            (StandIn((1, 1, 1), (0.5, 0, 1), kind="sphere"), Look("Net float, 2")),
            (StandIn((0.6, 1.4, 0.6), (1.3, 0, 1.6)), Look("Bollard")),
            (FLOOR, Look("Floor")),
        ]
        made = render(camera(), items, Wanted(tuple(PASSES)))
        with tempfile.TemporaryDirectory() as folder:
            write_exr(Path(folder) / "a.exr", made)
            self.assertEqual(len(write_looks(Path(folder), made)), 8)
            read = OpenImageIO.ImageBuf(str(Path(folder) / "a.exr"))
            spec, pixels = read.spec(), read.get_pixels(OpenImageIO.FLOAT)
            names = list(spec.channelnames)
            np.testing.assert_array_equal(pixels[..., names.index("depth.Z")], made.layers["depth"])
            np.testing.assert_allclose(
                pixels[..., [names.index(f"position.{axis}") for axis in "XYZ"]],
                made.layers["position"],
            )
            key = next(
                attribute.name
                for attribute in spec.extra_attribs
                if attribute.name.endswith("/manifest")
            )
            manifest = json.loads(spec[key])
            self.assertEqual(
                (spec[key.replace("manifest", "name")], list(manifest)),
                ("CryptoObject", ["Net float, 2", "Bollard", "Floor"]),
            )
            identity, cover = (
                pixels[..., names.index("CryptoObject00.R")],
                pixels[..., names.index("CryptoObject00.G")],
            )
            for index, name in enumerate(manifest):
                value = struct.unpack("<f", struct.pack("<I", int(manifest[name], 16)))[0]
                whole = made.layers["masks"][..., index] > 0.99
                self.assertTrue(
                    whole.any()
                    and (identity[whole] == value).all()
                    and (cover[whole] > 0.99).all(),
                    name,
                )
            covers = sum(
                pixels[..., names.index(f"CryptoObject{rank:02}.{channel}")]
                for rank in range(3)
                for channel in "GA"
            )
            np.testing.assert_allclose(covers, made.layers["masks"].sum(axis=2), atol=1e-6)

    def test_identities_are_murmur_hashes(self):
        # Published test values of MurmurHash3_x86_32, seed 0; from memory.
        self.assertEqual(identity_of("hello")[0], 0x248BFA47)
        self.assertEqual(identity_of("hello, world")[0], 0x149BBB7F)
        pairs, _ = cryptomatte(np.array([[[0.25, 0.75]]], np.float32), ["a", "b"])
        self.assertEqual(pairs[0, 0, 0, 1], 0.75)
        self.assertEqual(pairs[0, 0, 0, 0], identity_of("b")[1])


class Compositing(TestCase):
    def test_over_by_porter_and_duff(self):
        """Table of operators in Porter & Duff 1984, worked on paper: half-covered red over
        half-covered green covers three quarters."""
        red, green = np.array([[[0.5, 0, 0, 0.5]]]), np.array([[[0, 0.5, 0, 0.5]]])
        np.testing.assert_allclose(over(red, green), [[[0.5, 0.25, 0, 0.75]]])
        clear = np.zeros((1, 1, 4))
        np.testing.assert_array_equal(over(clear, green), green)
        np.testing.assert_array_equal(over(green, clear), green)
        plate, shadow = np.full((1, 1, 3), 0.4), np.array([[0.25]])
        np.testing.assert_allclose(
            composite("over", plate, red, shadow), [[[0.5 + 0.5 * 0.3, 0.15, 0.15]]]
        )
        rng = np.random.default_rng(2)
        front, middle, back = (
            np.concatenate([rng.random((4, 4, 3)) * a, a], axis=2) for a in rng.random((3, 4, 4, 1))
        )
        np.testing.assert_allclose(
            over(over(front, middle), back), over(front, over(middle, back))
        )  # associative, as they say
        read = [OpenImageIO.ImageBuf(picture.astype(np.float32)) for picture in (front, back)]
        for buffer in read:
            buffer.specmod().alpha_channel = 3
        np.testing.assert_allclose(
            OpenImageIO.ImageBufAlgo.over(*read).get_pixels(OpenImageIO.FLOAT),
            over(front, back),
            atol=1e-6,
        )
