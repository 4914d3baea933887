"""Pictures of every kind that can come in, and of kinds that can't."""

import tempfile
from pathlib import Path
from unittest import TestCase

import cv2
import numpy as np
import OpenEXR
import tifffile
from PIL import Image

from aperture.errors import Problem
from aperture.plates.metadata import from_exif
from aperture.plates.proxies import region_png, write_proxies
from aperture.plates.reading import read_picture, upright

RAMP = (np.arange(40 * 60 * 3).reshape(40, 60, 3) * 9).astype(np.uint16)


class Reading(TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def refused(self, name, data, *words):
        (self.folder / name).write_bytes(data)
        with self.assertRaises(Problem) as caught:
            read_picture(self.folder / name)
        for word in words:
            self.assertIn(word, caught.exception.sentence)

    def test_every_kind_keeps_its_values(self):
        eight, real = (RAMP >> 8).astype(np.uint8), RAMP.astype(np.float32) / 9000
        Image.fromarray(eight).save(self.folder / "a.png")
        cv2.imwrite(str(self.folder / "b.png"), cv2.cvtColor(RAMP, cv2.COLOR_RGB2BGR))
        tifffile.imwrite(self.folder / "c.tif", RAMP, compression="lzw", photometric="rgb")
        tifffile.imwrite(self.folder / "d.tif", real, photometric="rgb")
        tifffile.imwrite(self.folder / "e.tiff", eight, photometric="rgb")
        for name, kind in (("f.exr", np.float16), ("g.exr", np.float32)):
            channels = {
                key: np.ascontiguousarray(real[..., i].astype(kind)) for i, key in enumerate("RGB")
            }
            with OpenEXR.File(
                {"compression": OpenEXR.ZIP_COMPRESSION, "cameraModel": "Saltmarsh One"}, channels
            ) as file:
                file.write(str(self.folder / name))
        for name, wanted, depth in (
            ("a.png", eight, "8 bit"),
            ("b.png", RAMP, "16 bit"),
            ("c.tif", RAMP, "16 bit"),
            ("d.tif", real, "float"),
            ("e.tiff", eight, "8 bit"),
            ("f.exr", real.astype(np.float16), "half"),
            ("g.exr", real, "float"),
        ):
            picture = read_picture(self.folder / name)
            np.testing.assert_array_equal(picture.pixels, wanted, err_msg=name)
            self.assertEqual(
                (picture.depth, picture.linear), (depth, wanted.dtype.kind == "f"), name
            )
        self.assertEqual(picture.metadata.model, "Saltmarsh One")

    def test_other_colours_are_converted_and_said(self):
        grey = Image.fromarray(np.tile(np.arange(60, dtype=np.uint8), (40, 1)))
        grey.convert("CMYK").save(self.folder / "c.jpg")
        grey.convert("P").save(self.folder / "p.png")
        grey.save(self.folder / "l.png")
        for name, word in (("c.jpg", "CMYK"), ("p.png", "palette"), ("l.png", "grey")):
            picture = read_picture(self.folder / name)
            self.assertEqual(picture.pixels.shape, (40, 60, 3))
            self.assertIn(word, " ".join(picture.notes))

    def test_damaged_files_get_a_sentence(self):
        Image.fromarray(np.random.default_rng(0).integers(0, 255, (200, 300, 3), np.uint8)).save(
            self.folder / "x.jpg"
        )
        tifffile.imwrite(self.folder / "x.tif", np.tile(RAMP, (5, 5, 1)), photometric="rgb")
        Image.fromarray(np.zeros((50, 50, 3), np.uint8)).save(self.folder / "x.png")
        with OpenEXR.File(
            {"compression": OpenEXR.NO_COMPRESSION},
            {"RGB": np.random.rand(64, 64, 3).astype(np.float32)},
        ) as file:
            file.write(str(self.folder / "x.exr"))
        for name in ("x.jpg", "x.tif", "x.exr", "x.png"):
            data = (self.folder / name).read_bytes()
            self.refused(f"half{name}", data[: len(data) // 2], "Export it again")
        self.refused("empty.png", b"", "empty")
        self.refused("text.jpg", b"hello, this is no picture", "is not a picture")
        self.refused("wrong.tif", (self.folder / "x.jpg").read_bytes(), "JPEG", ".jpg")

    def test_too_many_pixels_are_refused_before_they_are_read(self):
        header = (
            b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR" + (30000).to_bytes(4, "big") * 2 + b"\x08\x02\0\0\0"
        )
        import zlib

        self.refused(
            "huge.png",
            header + zlib.crc32(header[12:]).to_bytes(4, "big") + b"\0\0\0\0IDAT\x35\xaf\x06\x1e",
            "900 megapixels",
        )

    def test_metadata_that_is_nonsense_is_left_out_and_counted(self):
        good, spoiled = from_exif(
            {
                0x920A: (27, 1),
                0x829A: (1, 60),
                0x9003: "2026:03:14 07:42:10",
                0x0110: "Saltmarsh One\0\0",
                0x8827: (400,),
            }
        )
        self.assertEqual(
            (good.focal_mm, good.iso, good.model, good.date, spoiled),
            (27, 400, "Saltmarsh One", "2026-03-14 07:42:10", 0),
        )
        bad, spoiled = from_exif(
            {
                0x920A: (1, 0),
                0x829A: "soon",
                0x9003: b"\xff\xfe" * 9000,
                0x0112: 77,
                0x8827: float("nan"),
                0x0110: "x" * 10**6,
            }
        )
        self.assertEqual(
            (bad.focal_mm, bad.exposure_time, bad.iso, bad.orientation, spoiled),
            (None, None, None, None, 4),
        )
        self.assertLessEqual(len(bad.model), 120)
        exif = Image.Exif()
        exif[0x010F] = "x" * 60000
        Image.fromarray(np.zeros((8, 8, 3), np.uint8)).save(self.folder / "m.jpg", exif=exif)
        self.assertEqual(read_picture(self.folder / "m.jpg").width, 8)

    def test_orientation_is_applied_as_pillow_applies_it(self):
        from PIL import ImageOps

        for orientation in range(1, 9):
            exif = Image.Exif()
            exif[0x0112] = orientation
            picture = Image.fromarray((RAMP >> 8).astype(np.uint8))
            picture.getexif()[0x0112] = orientation
            np.testing.assert_array_equal(
                upright((RAMP >> 8).astype(np.uint8), orientation),
                np.asarray(ImageOps.exif_transpose(picture)),
            )

    def test_the_loupe_gets_real_pixels(self):
        cv2.imwrite(str(self.folder / "b.png"), cv2.cvtColor(RAMP, cv2.COLOR_RGB2BGR))
        write_proxies(read_picture(self.folder / "b.png"), self.folder)
        part = cv2.cvtColor(
            cv2.imdecode(
                np.frombuffer(region_png(self.folder, 50, 30, 16, 16), np.uint8), cv2.IMREAD_COLOR
            ),
            cv2.COLOR_BGR2RGB,
        )
        np.testing.assert_array_equal(
            part[:10, :10], ((RAMP[30:, 50:].astype(int) * 255 + 32767) // 65535)
        )
        self.assertEqual(tuple(part[12, 12]), (0x5A, 0x5B, 0x5C))
