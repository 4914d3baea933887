"""Movies against OpenCV's own reader, colour against ITU-R's formulas, time code against SMPTE's
examples."""

import tempfile
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np
import OpenImageIO
from django.test import SimpleTestCase

from aperture.errors import Problem
from aperture.gates.chain import build
from aperture.gates.steps import at_frame
from aperture.plates.movies import Decoder, probe
from aperture.plates.reading import read_picture
from aperture.render.corrections import corrections_of
from aperture.timecode import format_timecode, parse_timecode
from tests.filmed import number_in, write_movie

SAMPLES = Path("/usr/share/doc/opencv-doc/examples/data")  # of Debian's package opencv-doc


class RealMovies(SimpleTestCase):
    def test_pictures_are_those_that_opencv_reads(self):
        """Old codecs, key pictures far apart, B pictures packed into others, empty packets: count
        and every 29th picture."""
        for name in ("tree.avi", "Megamind.avi", "Megamind_bugy.avi", "vtest.avi"):
            with self.subTest(name):
                path = SAMPLES / name
                movie = probe(path)
                theirs = []
                reader = cv2.VideoCapture(str(path))
                while True:
                    there, picture = reader.read()
                    if not there:
                        break
                    theirs.append(picture[..., ::-1])
                self.assertEqual(movie.count, len(theirs))
                with Decoder(path, movie) as decoder:
                    for number in (*range(0, movie.count, 29), movie.count - 1, 3):
                        own = decoder.picture(number).astype(int)
                        self.assertLessEqual(np.abs(own - theirs[number]).max(), 1, number)

    def test_generated_movies_frame_by_frame(self):
        with tempfile.TemporaryDirectory() as folder:
            path = write_movie(Path(folder) / "a.mp4", count=60, options={"g": "15", "bf": "2"})
            movie, reader = probe(path), cv2.VideoCapture(str(path))
            self.assertAlmostEqual(reader.get(cv2.CAP_PROP_FPS), float(movie.rate), places=6)
            with Decoder(path, movie) as decoder:
                for number in range(movie.count):
                    self.assertEqual(number_in(reader.read()[1]), number)
                    self.assertEqual(number_in(decoder.picture(number)), number)
            self.assertFalse(reader.read()[0])


class Dpx(SimpleTestCase):
    def test_values_are_those_that_openimageio_reads(self):
        """Written by FFmpeg; of 8, 10, 12 and 16 bits."""
        rng = np.random.default_rng(3)
        pixels = rng.integers(0, 65536, (48, 64, 3), np.uint16)
        for form in ("rgb24", "gbrp10be", "gbrp12be", "rgb48be"):
            with self.subTest(form), tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "plate.0001.dpx"
                with av.open(str(path), "w", format="image2") as file:
                    stream = file.add_stream("dpx", rate=24)
                    stream.width, stream.height, stream.pix_fmt = 64, 48, form
                    frame = av.VideoFrame.from_ndarray(pixels, format="rgb48le")
                    file.mux(stream.encode(frame))
                    file.mux(stream.encode(None))
                found = read_picture(path)
                kind = "uint8" if form == "rgb24" else "uint16"
                theirs = OpenImageIO.ImageBuf(str(path)).get_pixels(kind)
                self.assertEqual(found.pixels.dtype, kind)
                # Compared as the file's own codes: OpenImageIO shifts twelve bits up, so that its
                # white is 65520.
                bits = {"rgb24": 8, "gbrp10be": 10, "gbrp12be": 12, "rgb48be": 16}[form]
                codes = theirs.astype(int) >> (theirs.dtype.itemsize * 8 - bits)
                full = np.iinfo(theirs.dtype).max
                own = np.round(found.pixels * (2.0**bits - 1) / full).astype(int)
                np.testing.assert_array_equal(own, codes)
                if form != "gbrp10be":
                    continue
                # What the header says of its values is told; what it says of its size is looked at
                # first.
                data = bytearray(path.read_bytes())
                data[801] = 3
                path.write_bytes(data)
                self.assertIn("logarithmic", read_picture(path).notes[0])
                data[772:780] = (60_000).to_bytes(4, "big") * 2
                path.write_bytes(data)
                with self.assertRaisesRegex(Problem, "3600 megapixels"):
                    read_picture(path)
                path.write_bytes(data[:400])
                with self.assertRaisesRegex(Problem, "damaged or cut short"):
                    read_picture(path)
                self.assertEqual((found.kind, found.linear), ("DPX", False))


class Colour(SimpleTestCase):
    """Y′CbCr to R′G′B′ by the luma weights of ITU-R BT.601-7, BT.709-6 and BT.2020-2 (from memory),
    8-bit levels as there."""

    WEIGHTS = {5: (0.299, 0.114), 1: (0.2126, 0.0722), 9: (0.2627, 0.0593)}
    COLOURS = np.array([[0.8, 0.3, 0.2], [0.1, 0.6, 0.9], [0.5, 0.5, 0.5], [0.9, 0.9, 0.1]])

    def movie(self, path, matrix, full):
        """Four flat colours side by side, without loss, with what they mean in the header."""
        kr, kb = self.WEIGHTS[matrix]
        r, g, b = self.COLOURS.T
        y = kr * r + (1 - kr - kb) * g + kb * b
        cb, cr = (b - y) / (2 - 2 * kb), (r - y) / (2 - 2 * kr)
        if full:
            planes = 255 * y, 128 + 255 * cb, 128 + 255 * cr
        else:
            planes = 16 + 219 * y, 128 + 224 * cb, 128 + 224 * cr
        values = np.repeat(np.round(planes).astype(np.uint8), 16, axis=1)
        frame = av.VideoFrame(64, 32, "yuv444p")
        for plane, row in zip(frame.planes, values):
            lines = np.zeros((32, plane.line_size), np.uint8)
            lines[:, :64] = row
            plane.update(lines.tobytes())
        frame.colorspace, frame.color_range = matrix, 2 if full else 1
        with av.open(str(path), "w") as file:
            stream = file.add_stream("ffv1", rate=24)
            stream.width, stream.height, stream.pix_fmt = 64, 32, "yuv444p"
            stream.codec_context.colorspace = matrix
            stream.codec_context.color_range = 2 if full else 1
            file.mux(stream.encode(frame))
            file.mux(stream.encode(None))
        return path

    def test_matrix_and_range(self):
        with tempfile.TemporaryDirectory() as folder:
            for matrix in self.WEIGHTS:
                for full in (False, True):
                    path = self.movie(Path(folder) / f"{matrix}{full}.mkv", matrix, full)
                    movie = probe(path)
                    self.assertEqual(movie.full_range, full)
                    with Decoder(path, movie) as decoder:
                        found = decoder.picture(0)[16, 8::16] / 255
                    np.testing.assert_allclose(found, self.COLOURS, atol=0.009, err_msg=f"{matrix}")


class Timecode(SimpleTestCase):
    """SMPTE ST 12-1:2014, drop-frame counting: numbers that it leaves out, and how many frames an
    hour and a day have (from memory)."""

    def test_known_pairs(self):
        rate = Fraction(30000, 1001)
        for frame, text in (
            (1799, "00:00:59;29"),
            (1800, "00:01:00;02"),
            (17981, "00:09:59;29"),
            (17982, "00:10:00;00"),
            (107892, "01:00:00;00"),
            (2589407, "23:59:59;29"),
        ):
            self.assertEqual(format_timecode(frame, rate, drop=True), text)
            self.assertEqual(parse_timecode(text, rate), frame)
        self.assertEqual(format_timecode(2589408, rate, drop=True), "00:00:00;00")
        self.assertEqual(format_timecode(3600, Fraction(60000, 1001), drop=True), "00:01:00;04")
        self.assertEqual(parse_timecode("01:00:00:00", Fraction(24000, 1001)), 86400)
        # An hour of drop-frame time code is an hour of the clock to within four milliseconds.
        self.assertAlmostEqual(107892 / float(rate), 3600, delta=0.004)


class Stabilised(SimpleTestCase):
    """A plate that is moved, turned and scaled on each frame, against OpenCV's own rotation matrix
    and warp."""

    STEP = {
        "id": "s",
        "do": "stabilise",
        "values": [[10, 3.5, -2.0, 1.2, 1.01], [20, -6.5, 4.0, -0.8, 0.99]],
    }

    def chain(self, frame):
        gate = {"width_mm": 24.0, "height_mm": 13.5, "photosites": [640, 360]}
        steps = at_frame([self.STEP], frame)
        return build(gate | {"steps": steps}, (640, 360), strict=True)

    def matrix(self, right, down, turn, scale):
        """OpenCV counts angles anticlockwise as the picture is seen."""
        matrix = cv2.getRotationMatrix2D((320, 180), -turn, scale)
        matrix[:, 2] += right, down
        return matrix

    def test_grids_on_frames(self):
        points = np.array([[0, 0], [640, 0], [100, 300], [320, 180.0]])
        mean = np.mean([line[1:] for line in self.STEP["values"]], axis=0)
        for frame, values in (
            (10, self.STEP["values"][0][1:]),
            (3, self.STEP["values"][0][1:]),
            (15, mean),
            (99, self.STEP["values"][1][1:]),
        ):
            chain, matrix = self.chain(frame), self.matrix(*values)
            led = chain.lead(points, 0, 1)
            np.testing.assert_allclose(led, points @ matrix[:, :2].T + matrix[:, 2], atol=1e-9)

    def test_a_render_gets_it_once_or_is_freed_of_it(self):
        rng = np.random.default_rng(2)
        ground = cv2.GaussianBlur(rng.uniform(0, 1, (360, 640, 4)), (0, 0), 3).astype(np.float32)
        chain = self.chain(20)
        (correction,) = [one for one in corrections_of(chain, None) if one.key == "s"]
        # OpenCV's matrices act on the middles of pixels, which it puts at whole numbers.
        half = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1]])
        matrix = np.vstack([self.matrix(*self.STEP["values"][1][1:]), [0, 0, 1]])
        matrix = (np.linalg.inv(half) @ matrix @ half)[:2]
        theirs = cv2.warpAffine(ground, matrix, (640, 360), flags=cv2.INTER_LINEAR)
        own = correction.apply(ground, 1)
        inner = np.s_[30:-30, 30:-30]
        self.assertLess(np.abs(own[inner] - theirs[inner]).max(), 0.02)
        back = correction.apply(own, -1)
        self.assertLess(np.abs(back[inner] - ground[inner]).max(), 0.05)
        self.assertIn("turned or scaled", correction.about)
