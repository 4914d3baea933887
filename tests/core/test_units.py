"""Numbers as people type and read them."""

import math
from fractions import Fraction
from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from aperture.errors import Problem
from aperture.gates.typed import aspect_text, parse_aspect
from aperture.units import (
    METRES,
    exact_length,
    exact_number,
    format_length,
    format_value,
    parse_angle,
    parse_length,
    parse_number,
    parse_pair,
    parse_plus_minus,
    parse_rate,
    parse_seconds,
)


class Units(TestCase):
    def test_lengths_as_typed_on_set(self):
        for text, metres in (
            ("52.5 in", 1.3335),
            ("1.33 m", 1.33),
            ("24 mm", 0.024),
            ("6 ft 2 in", 1.8796),
            ("6'2\"", 1.8796),
            ("1,5", 1.5),
            ("-3 cm", -0.03),
            ("−3cm", -0.03),
            ("6 ft 1/2 in", 6 * 0.3048 + 0.0127),
            ("4' 4 3/8\"", 4 * 0.3048 + 4.375 * 0.0254),
            ("4’ 4 3/8”", 4 * 0.3048 + 4.375 * 0.0254),
            ("3/8 in", 0.375 * 0.0254),
            ("1.2 + 0.35 m", 1.55),
            ("1 ft + 3 in - 2cm", 0.3048 + 0.0762 - 0.02),
            ("2 - 0.5", 1.5),
            ("1e-3 m", 0.001),
            ("2e+1 mm", 0.02),
            ("150 µm", 0.00015),
            ("12um", 0.000012),
        ):
            self.assertAlmostEqual(parse_length(text, "m"), metres, places=9, msg=text)

    def test_what_cannot_be_read_gets_a_sentence(self):
        for text in (
            "",
            "tall",
            "1 m 2",
            "nan",
            "1e999",
            "3 parsec",
            "1 in 2 ft",
            "--1",
            "1 +",
            "1 m + tall",
            "4 3/0 in",
        ):
            with self.assertRaises(Problem, msg=text):
                parse_length(text)
        for text in ("inf", "1/0", "", "x" * 500):
            with self.assertRaises(Problem, msg=text):
                parse_number(text)

    def test_plus_minus_times_and_pairs(self):
        self.assertAlmostEqual(parse_plus_minus("2 %", 1.5, parse_number), 0.03)
        self.assertAlmostEqual(
            parse_plus_minus("± 5 mm", 1.5, lambda text, name: parse_length(text, "m", name)), 0.005
        )
        self.assertAlmostEqual(parse_seconds("1/48 s"), 1 / 48)
        self.assertAlmostEqual(parse_seconds("20 ms"), 0.02)
        for text in ("960 540", "960, 540", "960,540", "960; 540 px", " 960  540 "):
            self.assertEqual(parse_pair(text), (960.0, 540.0), text)
        self.assertEqual(parse_pair("960,5 540,25"), (960.5, 540.25))
        for read, text in (
            (parse_pair, "960"),
            (parse_pair, "1 2 3"),
            (parse_seconds, "0"),
            (parse_seconds, "soon"),
            (lambda text: parse_plus_minus(text, 1.0, parse_number), "-1"),
        ):
            with self.assertRaises(Problem, msg=text):
                read(text)

    def test_rates_are_exact(self):
        self.assertEqual(parse_rate("23.976 fps"), Fraction(24000, 1001))
        self.assertEqual(parse_rate("30000/1001"), Fraction(30000, 1001))
        for text in ("0", "-24", "fast", "1/0"):
            with self.assertRaises(Problem):
                parse_rate(text)
        self.assertAlmostEqual(parse_angle("90°"), math.pi / 2)

    def test_a_value_and_its_plus_minus_round_to_the_same_place(self):
        self.assertEqual(format_value(27.3128, 0.2401, "mm"), ("27.31 mm", "± 0.24"))
        self.assertEqual(format_value(-3.5, 0.11, "°"), ("−3.50°", "± 0.11"))
        self.assertEqual(format_value(-0.0001, 0.3, ""), ("0.0", "± 0.3"))
        self.assertEqual(format_length(1.5513, "cm", 0.012), ("155.1 cm", "± 1.2"))

    @given(st.floats(-1e6, 1e6), st.sampled_from(sorted(METRES)))
    def test_what_is_shown_reads_back(self, metres, unit):
        text, _ = format_length(metres, unit, places=9)
        self.assertAlmostEqual(parse_length(text), metres, delta=1e-8)

    @given(st.floats(-1e6, 1e6), st.sampled_from(sorted(METRES)))
    def test_what_a_field_shows_reads_back_as_it_was(self, value, unit):
        """To twelve digits, and no longer than it has to be."""
        near = 1e-11 * abs(value)
        self.assertAlmostEqual(parse_number(exact_number(value)), value, delta=near)
        self.assertAlmostEqual(
            parse_length(exact_length(value, unit), "m"), value, delta=2 * near + 1e-12
        )
        self.assertEqual(exact_number(203.0), "203")
        self.assertEqual(exact_length(2.03, "cm"), "203 cm")

    @given(st.floats(0.05, 50))
    def test_an_aspect_reads_back_as_it_was(self, aspect):
        self.assertAlmostEqual(parse_aspect(aspect_text(aspect)), aspect, delta=1e-10)

    def test_an_aspect_is_said_as_people_say_it(self):
        for aspect, says in ((2.39, "2.39"), (16 / 9, "16:9"), (4 / 3, "4:3"), (1.0, "1")):
            self.assertEqual(aspect_text(aspect), says)
