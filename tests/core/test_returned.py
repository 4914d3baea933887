"""Renders that come back: known shifts are measured, and what is wrong with a picture is found and
put right."""

import struct
import tempfile
import zlib
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

import cv2
import numpy as np
import OpenEXR
import tifffile
from PIL import Image

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.plates.colour import encode_srgb
from aperture.render import offsets, returned
from aperture.render.alpha import alpha_report
from aperture.render.files import write_exr
from aperture.render.passes import Wanted, coverage, render
from aperture.render.tracer import Look
from aperture.scene.stand_in import StandIn

CAMERA = Camera.at(Grid.from_gate(480, 270, 36, 20.25), Lens(24), (3, 1.7, 6), 0.4, -0.12, 0.03)
ITEMS = [
    (StandIn((1.2, 0.9, 0.7), (0.2, 0, 0.8), 0.3), Look("Crate")),
    (StandIn((0.5, 1.6, 0.5), (2.2, 0, 0.5), kind="cylinder"), Look("Bollard")),
    (StandIn((0.6, 0.6, 0.6), (1.3, 0, 2), kind="sphere"), Look("Float")),
]


def seen(camera, samples=4):
    return render(camera, ITEMS, Wanted(samples=samples))


class Coverage(TestCase):
    def test_it_is_the_render_s_alpha(self):
        """Thin things and the hiding plate included."""
        items = [
            *ITEMS,
            (StandIn((0.004, 1.2, 0.004), (0.9, 0, 2.5)), Look("Rod")),
            (StandIn((2, 1, 0.1), (2, 0, 1.5)), Look("Wall", part_of_plate=True)),
        ]
        np.testing.assert_allclose(
            coverage(CAMERA, items),
            render(CAMERA, items, Wanted(samples=4)).rgba[..., 3],
            atol=1e-6,
        )


class Offsets(TestCase):
    def setUp(self):
        self.right = seen(CAMERA).rgba[..., 3]

    def test_shifts_by_parts_of_a_pixel(self):
        for shift in ((0.0, 0.0), (0.3, -0.2), (-1.5, 0.0), (0.5, 0.5), (2.25, 1.75)):
            found = offsets.measure(
                seen(replace(CAMERA, grid=CAMERA.grid.window(-shift[0], -shift[1], 480, 270))).rgba[
                    ..., 3
                ],
                self.right,
            )
            np.testing.assert_allclose(found.shift, shift, atol=0.05)
            self.assertLess(np.percentile(np.abs(found.rest), 90), 0.2)
        self.assertRegex(
            offsets.in_words(found)[0], r"2\.\d\d ± 0\.\d\d px right and 1\.7\d ± 0\.\d\d px down"
        )

    def test_a_wrong_lens_and_a_rolled_camera_are_told_apart(self):
        longer = offsets.measure(
            seen(replace(CAMERA, lens=Lens(24 * 1.004))).rgba[..., 3], self.right
        )
        self.assertAlmostEqual(longer.scale, 1.004, delta=2e-4)
        self.assertIn("too large", " ".join(offsets.in_words(longer)))
        pan, tilt, roll = CAMERA.angles
        rolled = offsets.measure(
            seen(
                Camera.at(
                    CAMERA.grid, CAMERA.lens, CAMERA.position, pan, tilt, roll + np.radians(0.2)
                )
            ).rgba[..., 3],
            self.right,
        )
        self.assertAlmostEqual(
            np.degrees(rolled.rotation), 0.2, delta=0.01
        )  # the camera anticlockwise, its picture clockwise
        self.assertIn("clockwise", " ".join(offsets.in_words(rolled)))

    def test_half_a_pixel_is_recognised_and_nothing_in_common_is_said(self):
        half = offsets.measure(
            seen(replace(CAMERA, grid=CAMERA.grid.window(-0.5, -0.5, 480, 270))).rgba[..., 3],
            self.right,
        )
        self.assertIn("counts from pixel middles", offsets.in_words(half)[0])
        self.assertIsNone(offsets.measure(np.zeros_like(self.right), self.right))

    def test_only_what_the_outlines_tell_is_told(self):
        """A small thing in a corner tells a shift, and no turn; without an alpha that is said."""
        small = [(StandIn((0.15, 0.15, 0.15), (1.3, 0, 2)), Look("Lid"))]
        right = render(CAMERA, small, Wanted(samples=4)).rgba[..., 3]
        pan, tilt, roll = CAMERA.angles
        rolled = Camera.at(CAMERA.grid, CAMERA.lens, CAMERA.position, pan, tilt, roll + 0.003)
        found = offsets.measure(render(rolled, small, Wanted(samples=4)).rgba[..., 3], right)
        says = " ".join(offsets.in_words(found, hard=True))
        self.assertNotIn("turned by", says)
        self.assertIn("can't be told", says)
        self.assertIn("Without an alpha", says)

    def test_the_plus_minus_of_a_shift_is_true(self):
        rng, ratios = np.random.default_rng(4), []
        for _ in range(14):
            shift = rng.uniform(-1, 1, 2)
            moved = replace(CAMERA, grid=CAMERA.grid.window(*shift, 480, 270))
            alpha = seen(moved).rgba[..., 3]
            noisy = np.clip(alpha + rng.normal(size=alpha.shape) * 0.01 * (alpha > 0), 0, 1)
            found = offsets.measure(noisy.astype(np.float32), self.right)
            ratios += ((found.shift + shift) / found.plus_minus[:2]).tolist()
        self.assertLess(np.sqrt(np.mean(np.square(ratios))), 1.4)


class Returned(TestCase):
    def setUp(self):
        self.render = seen(CAMERA)
        self.rgba, self.alpha = self.render.rgba, self.render.rgba[..., 3]
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def straight(self):
        return np.concatenate(
            [
                self.rgba[..., :3]
                / np.maximum(self.alpha, 1e-6)[..., None]
                * (self.alpha > 0)[..., None],
                self.alpha[..., None],
            ],
            axis=2,
        )

    def keys(self, rgba, **how):
        found, findings, _ = returned.put_right(
            returned.Returned(rgba.astype(np.float32), **{"has_alpha": True, "linear": True} | how),
            self.alpha,
        )
        return found.rgba, {finding.key for finding in findings}

    def test_what_is_right_stays(self):
        rgba, keys = self.keys(self.rgba)
        self.assertEqual(keys, set())
        np.testing.assert_array_equal(rgba, self.rgba)

    def test_straight_colours_at_another_size_are_seen_as_straight(self):
        for size, how in (((720, 405), cv2.INTER_LINEAR), ((960, 540), cv2.INTER_CUBIC)):
            larger = cv2.resize(self.rgba, size, interpolation=how).clip(0, None)
            alpha = larger[..., 3:].clip(0, 1)
            colour = np.where(alpha > 1e-3, larger[..., :3] / np.maximum(alpha, 1e-3), 0)
            mended, keys = self.keys(np.concatenate([colour, alpha], axis=2))
            self.assertEqual(keys, {"premultiplied", "size"})
            inside = self.alpha > 0
            self.assertLess(np.abs(mended - self.rgba)[inside].mean(), 0.02)

    def test_what_is_wrong_is_put_right(self):
        wide = seen(replace(CAMERA, grid=CAMERA.grid.overscan(24, 24, 10, 10))).rgba
        inverted = np.concatenate([self.rgba[..., :3], 1 - self.alpha[..., None]], axis=2)
        for rgba, key, off in (
            (wide, "overscan", 1e-6),
            (self.straight(), "premultiplied", 1e-6),
            (self.rgba[::-1], "upright", 0),
            (self.rgba[:, ::-1], "upright", 0),
            (inverted, "alpha", 1e-6),
            (cv2.resize(self.rgba, (960, 540), interpolation=cv2.INTER_NEAREST), "size", 1e-5),
        ):
            mended, keys = self.keys(rgba)
            self.assertEqual(keys, {key})
            np.testing.assert_allclose(mended, self.rgba, atol=off, err_msg=key)
        self.assertEqual(self.keys(self.rgba, linear=False)[1], {"premultiplied"})
        bare = np.concatenate([self.rgba[..., :3], np.ones_like(self.alpha[..., None])], axis=2)
        self.assertEqual(self.keys(bare, has_alpha=False)[1], {"alpha"})
        self.assertEqual(self.keys(np.roll(self.rgba, 200, axis=1))[1], {"elsewhere"})
        with self.assertRaisesRegex(Problem, "Render it at the plate's size"):
            self.keys(np.zeros((270, 300, 4)))

    def test_files_of_other_writers_come_back(self):
        srgb = np.concatenate(
            [encode_srgb(self.straight()[..., :3]), self.alpha[..., None]], axis=2
        )
        Image.fromarray((srgb * 255 + 0.5).astype(np.uint8), "RGBA").save(self.folder / "a.png")
        tifffile.imwrite(
            self.folder / "a.tif",
            (srgb * 65535 + 0.5).astype(np.uint16),
            photometric="rgb",
            extrasamples=["unassalpha"],
        )
        write_exr(self.folder / "a.exr", self.render)
        for name, off in (("a.png", 0.012), ("a.tif", 1e-3), ("a.exr", 1e-3)):
            found, findings, _ = returned.put_right(returned.read(self.folder / name), self.alpha)
            np.testing.assert_allclose(found.rgba, self.rgba, atol=off, err_msg=name)
            self.assertEqual(findings, [])
        for name, data in (("b.png", b"nothing"), ("b.exr", b"v/1\1\2\0\0\0"), ("b.tif", b"")):
            (self.folder / name).write_bytes(data)
            self.assertRaises(Problem, returned.read, self.folder / name)

    def test_colours_that_are_encoded_otherwise_than_their_file_should_have_them(self):
        """A PNG that says linear (gAMA 1); an EXR of screen values; one of other primaries (ITU-R
        BT.2020)."""
        rng = np.random.default_rng(4)
        linear = (np.clip(rng.random((60, 80, 3)), 0, 1) * 255).astype(np.uint8)
        Image.fromarray(linear).save(self.folder / "plain.png")
        with (self.folder / "plain.png").open("rb") as file:
            data = file.read()
        chunk = b"gAMA" + struct.pack(">I", 100000)
        (self.folder / "gamma.png").write_bytes(
            data[:33]
            + struct.pack(">I", 4)
            + chunk
            + struct.pack(">I", zlib.crc32(chunk))
            + data[33:]
        )
        told = returned.read(self.folder / "gamma.png")
        self.assertEqual([finding.key for finding in told.doubts], ["encoding"])
        np.testing.assert_allclose(told.rgba[..., :3], linear / 255, atol=1e-6)
        self.assertEqual(returned.read(self.folder / "plain.png").doubts, ())

        def exr(values, **header):
            channels = {
                name: np.ascontiguousarray(values[..., index], np.float16)
                for index, name in enumerate("RGB")
            }
            with OpenEXR.File(
                {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage} | header,
                channels,
            ) as file:
                file.write(str(self.folder / "one.exr"))
            return returned.read(self.folder / "one.exr")

        self.assertIn("255 steps", exr(linear / 255).doubts[0].says)
        self.assertEqual(exr(rng.random((60, 80, 3))).doubts, ())
        wide = (0.708, 0.292, 0.170, 0.797, 0.131, 0.046, 0.3127, 0.3290)
        self.assertIn(
            "other primaries", exr(rng.random((60, 80, 3)), chromaticities=wide).doubts[0].says
        )
        as_encoded = returned.put_right(
            exr(linear / 255), self.alpha[:60, :80] * 0 + 1, taken=returned.Taken(encoding="srgb")
        )[0].rgba
        np.testing.assert_allclose(encode_srgb(as_encoded[..., :3]), linear / 255, atol=2e-3)

    def test_what_an_alpha_is_like(self):
        self.assertEqual(
            alpha_report(self.alpha),
            ["Solid inside.", "Empty outside.", "Soft along the edge.", "No stray pixels."],
        )
        self.assertIn("no stand-in", *alpha_report(self.alpha * 0))
        worse = (self.alpha > 0.5).astype(np.float32)
        worse[5:7, 5:7] = 0.3
        worse[
            np.unravel_index(
                np.argmax(cv2.distanceTransform((worse > 0.5).astype(np.uint8), cv2.DIST_L2, 5)),
                worse.shape,
            )
        ] = 0.7
        self.assertEqual(
            alpha_report(worse),
            [
                "Pixels inside that let the plate through: 1.",
                "Pixels outside that aren't empty: 4.",
                "Its edges are hard: no pixel is half covered.",
                "Stray specks of up to 4 px: 1.",
            ],
        )
