"""Exposure against the additive system of photographic exposure (APEX) and the trade's tables."""

import math
from unittest import TestCase

from aperture.errors import Problem
from aperture.light.exposure import (
    Exposure,
    format_seconds,
    format_stop,
    parse_iso,
    parse_shutter,
    parse_stop,
    shutter_angle,
    shutter_seconds,
)


class Apex(TestCase):
    """Exif 2.3 (JEITA CP-3451), annex C: Av = 2 log2 N, Tv = −log2 t, Sv = log2(S / 3.125), Ev = Av + Tv; from memory."""

    AV = {1: 0, 1.4: 1, 2: 2, 2.8: 3, 4: 4, 5.6: 5, 8: 6, 11: 7, 16: 8, 22: 9, 32: 10}
    TV = {1: 0, 1 / 2: 1, 1 / 4: 2, 1 / 8: 3, 1 / 15: 4, 1 / 30: 5, 1 / 60: 6, 1 / 125: 7}
    SV = {100: 5, 200: 6, 400: 7, 800: 8}

    def test_the_tables(self):
        """The marked values are rounded: by a fifth of a stop in all at most."""
        for stop, av in self.AV.items():
            for seconds, tv in self.TV.items():
                for iso, sv in self.SV.items():
                    found = Exposure(stop, seconds, iso).ev100
                    self.assertAlmostEqual(found, av + tv - (sv - 5), delta=0.2)

    def test_exact_stops_are_whole(self):
        self.assertAlmostEqual(Exposure(math.sqrt(32), 1 / 64, 100).ev100, 11, places=12)

    def test_sunlight(self):
        """Full sun: f/16 and one over the ISO, EV 15 at ISO 100. Common practice, no source."""
        for iso in (100, 200, 400):
            self.assertAlmostEqual(Exposure(16, 1 / iso, iso).ev100, 14.64, delta=0.01)


class Shutters(TestCase):
    def test_angles(self):
        """A 180° shutter at 24 frames a second is 1/48 s, 172.8° is 1/50 s. Common practice, no source."""
        for degrees, rate, fraction in ((180, 24, 48), (172.8, 24, 50), (144, 24, 60)):
            seconds = shutter_seconds(math.radians(degrees), rate)
            self.assertAlmostEqual(seconds * fraction, 1)
            self.assertAlmostEqual(math.degrees(shutter_angle(seconds, rate)), degrees)

    def test_what_is_typed(self):
        for text in ("f/5.6", "5.6", " F5.6 "):
            self.assertEqual(parse_stop(text), 5.6)
        for text in ("ISO 800", "800", "iso800"):
            self.assertEqual(parse_iso(text), 800)
        self.assertEqual(parse_shutter("1/50 s"), (0.02, None))
        self.assertEqual(parse_shutter("20 ms"), (0.02, None))
        self.assertAlmostEqual(parse_shutter("180°")[1], math.pi)
        for read, text, says in (
            (parse_stop, "f/0", "between 0.1 and 512"),
            (parse_shutter, "400°", "at most 360°"),
            (parse_shutter, "0 s", "above zero"),
            (parse_iso, "lots", "can't be read from “lots”"),
        ):
            with self.assertRaisesRegex(Problem, says):
                read(text)
        self.assertEqual((format_stop(5.657), format_seconds(1 / 48)), ("f/5.66", "1/48 s"))
        self.assertEqual(format_seconds(2.5), "2.5 s")
