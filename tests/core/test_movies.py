"""Movies of many kinds, read back picture by picture; sequences told apart; time code there and
back."""

import tempfile
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np
from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from aperture.errors import Problem
from aperture.plates.film import (
    Film,
    Pictures,
    film_of_movie,
    film_of_pictures,
    make_small,
    parts,
    write_picture,
)
from aperture.plates.movies import Decoder, probe, repeated_and_dropped
from aperture.plates.sequences import ranges_of, tell_apart
from aperture.timecode import DROPPED, format_timecode, parse_timecode
from tests import examples
from tests.filmed import HEIGHT, WIDTH, number_in, numbered, write_movie

KINDS = (
    ("a.mp4", {"codec": "libx264", "options": {"g": "12", "bf": "3"}}),
    (
        "open.mov",
        {"codec": "libx264", "options": {"x264-params": "open-gop=1:keyint=10:bframes=3"}},
    ),
    ("short.mp4", {"codec": "libx264", "options": {"g": "2", "bf": "1"}}),
    ("b.mkv", {"codec": "libx265", "options": {"x265-params": "log-level=none:keyint=12"}}),
    ("c.mov", {"codec": "prores_ks", "pixels": "yuv422p10le"}),
    (
        "d.mxf",
        {
            "codec": "dnxhd",
            "pixels": "yuv422p",
            "options": {"profile": "dnxhr_sq"},
            "size": (480, 270),
        },
    ),
    ("e.avi", {"codec": "mjpeg", "pixels": "yuvj422p"}),
    ("f.mkv", {"codec": "ffv1", "pixels": "yuv444p"}),
    ("g.avi", {"codec": "mpeg4", "options": {"bf": "2"}}),
)


class InFolder(SimpleTestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


class Movies(InFolder):
    def test_each_picture_is_found_by_its_number(self):
        for name, how in KINDS:
            with self.subTest(name):
                path = write_movie(self.folder / name, **how)
                movie = probe(path)
                self.assertEqual(movie.count, 48)
                self.assertEqual(movie.rate, Fraction(24000, 1001))
                self.assertEqual((movie.width, movie.height), how.get("size", (WIDTH, HEIGHT)))
                with Decoder(path, movie) as decoder:
                    for number in (*range(15), 47, 0, 30, 29, 12, 11, 13, 46):
                        self.assertEqual(number_in(decoder.picture(number)), number)
                    with self.assertRaises(IndexError):
                        decoder.picture(48)
                # The one that stays open goes on from wherever it was asked last.
                for number in (40, 41, 47, 2, 3, 9):
                    self.assertEqual(number_in(Decoder.kept(path, movie).picture(number)), number)
        short = write_movie(path, count=12)  # the last one's file is another now
        self.assertEqual(number_in(Decoder.kept(short, probe(short)).picture(9)), 9)

    def test_what_the_header_tells(self):
        path = write_movie(
            self.folder / "a.mov", rate=Fraction(30000, 1001), timecode="01:00:00;00", rotation=90
        )
        movie = probe(path)
        self.assertEqual(movie.rate, Fraction(30000, 1001))
        self.assertEqual(movie.timecode, "01:00:00;00")
        self.assertEqual((movie.width, movie.height), (HEIGHT, WIDTH))
        with Decoder(path, movie) as decoder:
            upright = decoder.picture(5)
        self.assertEqual(upright.shape, (WIDTH, HEIGHT, 3))
        self.assertEqual(number_in(np.rot90(upright, -movie.rotation // 90)), 5)
        self.assertFalse(movie.interlaced)
        fields = {"x264-params": "interlaced=1"}
        self.assertTrue(probe(write_movie(self.folder / "i.mp4", options=fields)).interlaced)
        ten = probe(
            write_movie(self.folder / "t.mov", codec="prores_ks", pixels="yuv422p10le", count=2)
        )
        self.assertEqual(ten.bits, 10)
        with Decoder(self.folder / "t.mov", ten) as decoder:
            self.assertEqual(decoder.picture(1).dtype, np.uint16)

    def test_a_rate_that_is_not_steady(self):
        times = [0, 40, 80, 120, 240, 280, 290, 320]  # a gap of three, and one that comes early
        path = write_movie(
            self.folder / "v.mkv", count=8, codec="ffv1", pixels="yuv444p", times=times
        )
        movie = probe(path)
        self.assertIsNone(movie.rate)
        shown = movie.at_rate(Fraction(25))
        self.assertEqual(shown, [0, 1, 2, 3, 3, 3, 4, 5, 7])
        self.assertEqual(repeated_and_dropped(shown, movie.count), ([3], [6]))
        # Times rounded to milliseconds are a steady rate all the same.
        times = [round(1000 * n * 1001 / 24000) for n in range(200)]
        path = write_movie(
            self.folder / "s.mkv", count=200, codec="ffv1", pixels="yuv444p", times=times
        )
        self.assertEqual(probe(path).rate, Fraction(24000, 1001))
        self.assertEqual(probe(path).at_rate(Fraction(24000, 1001)), list(range(200)))

    def test_what_is_no_movie_is_said(self):
        whole = write_movie(self.folder / "a.mp4", count=240).read_bytes()
        sound = self.folder / "sound.wav"
        with av.open(str(sound), "w") as file:
            stream = file.add_stream("pcm_s16le", rate=8000)
            silence = av.AudioFrame.from_ndarray(np.zeros((1, 800), np.int16), layout="mono")
            silence.rate = 8000
            file.mux(stream.encode(silence))
        for name, data, says in (
            ("empty.mov", b"", "can't be read as a movie"),
            ("text.mp4", b"not a movie at all\n" * 50, "can't be read as a movie"),
            ("cut.mp4", whole[: len(whole) // 2], "can't be read as a movie"),
            ("sound.wav", sound.read_bytes(), "sound only"),
        ):
            path = self.folder / name
            path.write_bytes(data)
            with self.assertRaisesRegex(Problem, says, msg=name):
                probe(path)

    def test_a_movie_that_ends_too_soon_is_read_as_far_as_it_goes(self):
        whole = write_movie(self.folder / "a.mkv", count=240, codec="mjpeg", pixels="yuvj420p")
        path = self.folder / "cut.mkv"
        path.write_bytes(whole.read_bytes()[: whole.stat().st_size // 2])
        movie = probe(path)
        self.assertTrue(80 < movie.count < 160, movie.count)
        with Decoder(path, movie) as decoder:
            self.assertEqual(number_in(decoder.picture(movie.count - 3)), movie.count - 3)


class Films(InFolder):
    def test_a_movie_and_its_small_pictures(self):
        write_movie(self.folder / "original.mp4", count=30, size=(1600, 900), rate=Fraction(25))
        film = film_of_movie(self.folder / "original.mp4", "walk.mp4", "original.mp4")
        film.write(self.folder)
        self.assertEqual(Film.read(self.folder), film)
        self.assertEqual((film.rate, film.numbers[0], film.numbers[-1]), (25, 1, 30))
        done = []
        self.assertEqual(make_small(self.folder, (1, 7, 30), done.append), {})
        self.assertEqual(done, [1, 7, 30])
        for number in done:  # a movie's pictures count from 1, what is seen in them from 0
            small = cv2.imread(str(self.folder / f"small/{number}.jpg"))
            thumb = cv2.imread(str(self.folder / f"thumbs/{number}.jpg"))
            self.assertEqual((small.shape[:2], thumb.shape[:2]), ((720, 1280), (90, 160)))
            self.assertEqual((number_in(small), number_in(thumb)), (number - 1, number - 1))
        self.assertEqual(make_small(self.folder, (7,), done.append), {})
        self.assertEqual(len(done), 3)
        write_picture(self.folder, 9, self.folder / "full.png")
        self.assertEqual(number_in(cv2.imread(str(self.folder / "full.png"))), 8)

    def test_a_picture_that_was_cut_off_is_not_shown(self):
        """Half-written by a copy that was stopped: a JPEG decodes all the same, the rest of it
        grey."""
        (self.folder / "pictures").mkdir()
        files = {number: f"pictures/{number}.jpg" for number in (1, 2, 3)}
        for number, file in files.items():
            cv2.imwrite(str(self.folder / file), numbered(number))
        cut = self.folder / files[2]
        cut.write_bytes(cut.read_bytes()[: cut.stat().st_size * 2 // 3])
        film_of_pictures(self.folder, "plate.#.jpg", files).write(self.folder)
        problems = make_small(self.folder, files)
        self.assertEqual(list(problems), [2])
        self.assertIn("cut short", problems[2])
        small = cv2.imread(str(self.folder / "small/3.jpg"))
        self.assertEqual(number_in(small), 3)

    def test_parts_begin_where_a_movie_can_be_entered(self):
        """Else every part would decode all that comes before it."""
        write_movie(
            self.folder / "a.mp4", count=100, options={"g": "30", "bf": "2", "sc_threshold": "0"}
        )
        film = film_of_movie(self.folder / "a.mp4", "a.mp4", "a.mp4")
        found = parts(film, 24)
        self.assertEqual(
            [(part[0], part[-1]) for part in found], [(1, 30), (31, 60), (61, 90), (91, 100)]
        )
        self.assertEqual([len(part) for part in parts(film, 50)], [60, 40])
        still = Film("a", 9, 9, tuple(range(7, 57)), {})
        self.assertEqual([part[0] for part in parts(still, 24)], [7, 31, 55])

    def test_pictures_of_which_some_are_bad(self):
        (self.folder / "pictures").mkdir()
        files = {}
        for number in (1001, 1002, 1004, 1005):
            files[number] = f"pictures/{number}.png"
            size = (64, 48) if number == 1004 else (WIDTH, HEIGHT)
            cv2.imwrite(str(self.folder / files[number]), numbered(number, *size))
        cut = self.folder / files[1001]
        cut.write_bytes(cut.read_bytes()[:200])
        film = film_of_pictures(self.folder, "plate.####.png", files)
        film.write(self.folder)
        self.assertEqual((film.width, film.height), (WIDTH, HEIGHT))
        problems = make_small(self.folder, range(1001, 1006))
        self.assertEqual(list(problems), [1001, 1003, 1004])
        self.assertIn("no picture 1003", problems[1003])
        self.assertIn("64 × 48", problems[1004])
        with Pictures(self.folder) as pictures:
            self.assertEqual(number_in(pictures[1005][0]), 1005)
        with self.assertRaisesRegex(Problem, "no picture can be read"):
            film_of_pictures(self.folder, "x", {1: files[1001]})


class Sequences(SimpleTestCase):
    def test_several_in_one_drop(self):
        names = [f"a/plate.{n:04}.jpg" for n in range(98, 103) if n != 100]
        names += [f"b/plate_v002-{n}.tif" for n in range(8, 12)] + ["b/plate_v002-09.tif"]
        names += ["readme.txt", "grey.png", "._plate.0001.jpg", "a/plate.0098.JPG.xmp", "take2.mov"]
        found, others = tell_apart(names)
        self.assertEqual([one.name for one in found], ["plate.####.jpg", "plate_v002-#.tif"])
        jpeg, tiff = found
        self.assertEqual((jpeg.first, jpeg.last, jpeg.missing), (98, 102, [100]))
        self.assertEqual(list(tiff.files), [8, 9, 10, 11])
        self.assertEqual(tiff.doubled, {9: ("b/plate_v002-9.tif",)})
        self.assertEqual(len(others), 5)

    def test_numbers_far_apart_are_not_counted_out(self):
        found, _ = tell_apart(["a.1.png", "a.999999999.png"])
        self.assertEqual(len(found[0].missing), 10_000)

    def test_ranges(self):
        self.assertEqual(ranges_of([8, 3, 5, 6, 7, 12, 3]), "3, 5–8, 12")
        self.assertEqual(ranges_of([]), "")


RATES = st.sampled_from(
    [*DROPPED, Fraction(24000, 1001), Fraction(24), Fraction(25), Fraction(120)]
)


class Timecode(SimpleTestCase):
    @examples(300)
    @given(st.integers(0, 20_000_000), RATES, st.booleans())
    def test_there_and_back(self, frame, rate, drop):
        drop = drop and rate in DROPPED
        text = format_timecode(frame, rate, drop)
        day = parse_timecode(format_timecode(-1, rate, drop), rate) + 1
        self.assertEqual(parse_timecode(text, rate), frame % day)

    def test_what_is_no_time_code_is_said(self):
        for text, rate, says in (
            ("1:2", 24, "isn't time code"),
            ("01:00:00:24", 24, "frames to 23"),
            ("24:00:00:00", 24, "hours go to 23"),
            ("00:01:00;01", Fraction(30000, 1001), "leaves out"),
            ("00:01:00;10", 24, "29.97"),
        ):
            with self.assertRaisesRegex(Problem, says):
                parse_timecode(text, Fraction(rate))
