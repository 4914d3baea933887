"""Exposure, focus and white against published tables and equations, other libraries, and real
photographs."""

import itertools
import math
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

import colour
import numpy as np
import skimage.data
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from aperture.errors import Problem
from aperture.light.exposure import (
    Exposure,
    format_seconds,
    format_stop,
    parse_filter,
    parse_iso,
    parse_shutter,
    parse_stop,
    shutter_angle,
    shutter_seconds,
)
from aperture.light.focus import CIRCLE_MM, ThinLens, circle_mm, scale_from_blur
from aperture.light.metering import (
    SURFACES,
    false_colour,
    histogram,
    levels,
    meter,
    waveform,
)
from aperture.light.patches import match_patches
from aperture.light.scales import STEPS, exact, marks, nearest, stepped
from aperture.light.sharpness import blur_map, edge_blurs, median_of
from aperture.light.white import D65, White, adaptation, adapted, grey_world, neutralised, white_of
from aperture.plates.colour import decode_srgb, linear_light
from aperture.plates.metadata import from_exif

OPENCV = Path("/usr/share/doc/opencv-doc/examples")


class Apex(TestCase):
    """Exif 2.3 (JEITA CP-3451), annex C: Av = 2 log2 N, Tv = −log2 t, Sv = log2(S / 3.125), Ev = Av
    + Tv; from memory."""

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
        """A 180° shutter at 24 frames a second is 1/48 s, 172.8° is 1/50 s. Common practice, no
        source."""
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


class Marks(TestCase):
    """Full stops are powers of √2 (ISO 517), speeds powers of 2 (ISO 516), ISO 2720's grid of both;
    from memory."""

    def test_marked_and_exact(self):
        for name, allowed in (("f_number", 0.06), ("seconds", 0.1), ("iso", 0.01)):
            for mark in marks(name, "full"):
                self.assertLess(abs(math.log2(mark.marked / mark.exact)), allowed, mark)
        for name in ("f_number", "seconds", "iso"):
            for step, size in STEPS.items():
                scale = marks(name, step)
                ratio = 2 ** (float(size) / (2 if name == "f_number" else 1))
                for first, second in zip(scale, scale[1:]):
                    grows = max(first.exact / second.exact, second.exact / first.exact)
                    self.assertAlmostEqual(grows, ratio, places=9)
        self.assertAlmostEqual(exact("f_number", 5.6), math.sqrt(32))
        self.assertAlmostEqual(exact("seconds", 1 / 60), 1 / 64)
        self.assertEqual(exact("iso", 800), 800)
        self.assertEqual(nearest("f_number", 5.657, "third").text, "f/5.6")
        self.assertEqual(nearest("seconds", 1 / 48, "third").text, "1/50 s")
        self.assertEqual(stepped("f_number", 5.6, 1, "full").text, "f/8")
        self.assertEqual(stepped("seconds", 1 / 60, 1, "third").text, "1/80 s")
        self.assertEqual(stepped("iso", 800, -3, "third").text, "400")
        self.assertEqual(stepped("iso", 102400, 9).text, "102400")

    def test_filters(self):
        """ND 0.3 is one stop, ND8 three: a density of log10(2) a stop. Common practice, no
        source."""
        for text, stops in (
            ("ND 0.9", 2.99),
            ("ND8", 3),
            ("3", 3),
            ("0.6 D", 1.99),
            ("2 stops", 2),
        ):
            self.assertAlmostEqual(parse_filter(text), stops, delta=0.01)
        for text in ("ND", "ND0", "-1", "x"):
            with self.assertRaises(Problem):
                parse_filter(text)

    @settings(max_examples=60, deadline=None)
    @given(
        st.floats(1, 22),
        st.floats(1e-4, 1),
        st.floats(50, 6400),
        st.floats(0, 6),
        st.floats(0.3, 1),
    )
    def test_what_holds_the_exposure(self, stop, seconds, iso, nd_stops, through):
        """One figure doubles or halves the light, another takes it back: the picture stays as
        bright."""
        before = Exposure(stop, seconds, iso)
        for name, value in (("nd_stops", nd_stops), ("transmittance", through), ("f_number", 4.0)):
            for holder in ("seconds", "iso"):
                after = replace(before, **{name: value}).held_at(before.light_ev100, holder)
                self.assertAlmostEqual(after.brighter_than(before), 0, places=9)
                self.assertEqual(getattr(after, name), value)
        one_stop = replace(before, nd_stops=1.0)
        self.assertAlmostEqual(one_stop.brighter_than(before), -1, places=9)
        self.assertAlmostEqual(one_stop.t_number, stop)

    def test_t_stops(self):
        """A lens of f/2.8 that lets 80 % through is T 3.13: T = N / √τ (ISO 517; from memory)."""
        self.assertAlmostEqual(Exposure(2.8, 1, 100, transmittance=0.8).t_number, 3.13, places=2)
        with self.assertRaisesRegex(Problem, "can't hold"):
            Exposure(2.8, 1 / 50, 100).held_at(40, "f_number")


class Depth(TestCase):
    """Depth-of-field tables of handbooks, from memory: a circle of 0.025 mm (1/1000 inch) for 35 mm
    film."""

    # Focal length, stop, circle (mm), and the hyperfocal distance (m) that tables print.
    HYPERFOCAL = (
        (50, 2.8, 0.0254, 35.2),
        (25, 4, 0.0254, 6.18),
        (50, 8, 0.03, 10.5),
        (28, 8, 0.03, 3.3),
        (35, 11, 0.03, 3.75),
        (85, 5.6, 0.03, 43.1),
    )
    # 50 mm at f/8, 0.03 mm: focus, near and far (m), as printed on depth-of-field charts.
    LIMITS = ((3.0, 2.34, 4.19), (5.0, 3.39, 9.53))

    def test_tables(self):
        for focal, stop, circle, metres in self.HYPERFOCAL:
            found = ThinLens(focal, stop, 5).hyperfocal(circle)
            self.assertLess(abs(found / metres - 1), 0.01, (focal, stop))
        for focus, near, far in self.LIMITS:
            found = ThinLens(50, 8, focus).limits(0.03)
            self.assertAlmostEqual(found[0], near, delta=0.02)
            self.assertLess(abs(found[1] / far - 1), 0.02)
        self.assertTrue(math.isinf(ThinLens(50, 8, 10.6).limits(0.03)[1]))
        self.assertAlmostEqual(circle_mm("frame", (36, 24), 0.01, 1), CIRCLE_MM)

    @settings(max_examples=60, deadline=None)
    @given(st.floats(10, 200), st.floats(1, 22), st.floats(0.6, 50), st.floats(0.005, 0.1))
    def test_the_limits_are_where_the_circle_is(self, focal, stop, focus, circle):
        """The blur of near and far limit is the circle, by the general formula; and the right stop
        is found back."""
        lens = ThinLens(focal, stop, focus)
        near, far = lens.limits(circle)
        # The handbooks' limits neglect f against s twice: within 2 f / s.
        allowed = 2 * circle * focal / 1000 / focus + 1e-9
        self.assertLess(abs(float(lens.blur_mm(near)) - circle), allowed + 0.01 * circle)
        if math.isfinite(far):
            self.assertLess(abs(float(lens.blur_mm(far)) - circle), allowed + 0.01 * circle)
        again = ThinLens.for_depth(focal, 0.8 * focus, 1.5 * focus, circle)
        for end in (0.8, 1.5):
            self.assertAlmostEqual(float(again.blur_mm(end * focus)), circle, delta=0.002 * circle)

    def test_scale_from_blur(self):
        """A scene of another size has another blur; the ± holds over repetitions, a few odd places
        included."""
        distances = np.array([1.5, 2.0, 2.6, 3.1, 4.0, 5.0, 6.0, 7.5, 9.0, 12.0])
        expected = ThinLens(50, 2.0, 3.0).blur_mm(distances) * 50
        for factor in (1.0, 2.0, 4.0):
            # A longer way and a proportionally longer focus: the general formula, not the rule.
            true = ThinLens(50, 2.0, 3.0 * factor).blur_mm(factor * distances) * 50
            random, errors, hits = np.random.default_rng(3), [], 0
            for _ in range(300):
                measured = np.hypot(true, 2.0) * (1 + random.normal(size=10) * 0.1)
                measured += (random.random(10) < 0.05) * 8.0
                found = scale_from_blur(expected, measured, 0.1 * np.hypot(true, 2.0))
                errors.append((found.share - 1 / factor**2) / found.plus_minus)
                hits += found.agrees
            self.assertLess(abs(np.mean(errors)), 0.6, factor)
            self.assertTrue(0.7 < np.std(errors) < 1.3, (factor, np.std(errors)))
            self.assertEqual(hits > 250, factor == 1.0, (factor, hits))
        sharp = scale_from_blur(expected, np.full(10, 2.0), np.full(10, 0.2))
        self.assertTrue(math.isinf(sharp.factor))
        self.assertGreater(sharp.least_factor, 3)
        for wrong, says in (([1.0, 2.0], "Too few"), (np.ones(9), "blurred alike")):
            with self.assertRaisesRegex(Problem, says):
                scale_from_blur(wrong, wrong, wrong)


class RealExposures(TestCase):
    """Photographs of Debian's opencv-doc, whose files have the APEX values beside the plain
    ones."""

    def test_the_file_s_own_apex_values(self):
        """Av + Tv as the camera wrote them is our EV, within what its rounding of stop and time
        leaves (0.15 stops)."""
        for name in (
            "text/scenetext_word04",
            "data/leuvenA",
            "data/licenseplate_motion",
            "data/text_defocus",
            "data/ela_original",
            "data/text_motion",
        ):
            with Image.open(OPENCV / f"{name}.jpg") as picture:
                tags = picture.getexif().get_ifd(0x8769)
            metadata, _ = from_exif(dict(tags))
            own = Exposure(metadata.f_number, metadata.exposure_time, metadata.iso)
            shutter, aperture = float(tags[0x9201]), float(tags[0x9202])
            speed = math.log2(metadata.iso / 100)
            self.assertAlmostEqual(own.ev100, aperture + shutter - speed, delta=0.15, msg=name)
        with Image.open(OPENCV / "data/leuvenA.jpg") as picture:
            brightness = float(picture.getexif().get_ifd(0x8769)[0x9203])
        # Bv + Sv = Av + Tv, Sv = log2(S / 3.125): Exif 2.3, annex C, from memory.
        bright = Exposure(2.2, 0.00055586, 32)
        self.assertAlmostEqual(
            bright.ev100 + math.log2(32 / 100), brightness + math.log2(32 / 3.125), delta=0.3
        )

    def test_the_file_s_own_white(self):
        """A LightSource of 20 is illuminant D55, 5503 K (Exif 3.0; from memory)."""
        with Image.open(OPENCV / "data/board.jpg") as picture:
            metadata, _ = from_exif(dict(picture.getexif().get_ifd(0x8769)))
        self.assertEqual(metadata.white_kelvin, 5503)

    def test_a_picture_out_of_focus_is_told_from_a_sharp_one(self):
        """OpenCV's sample of defocus is some 50 px out: no edge of it is called sharp, as most of
        another one's are."""
        shares = []
        for name in ("data/text_defocus", "data/board"):
            with Image.open(OPENCV / f"{name}.jpg") as picture:
                pixels = np.asarray(picture.convert("RGB"))
            found = blur_map(pixels).diameter
            known = found[np.isfinite(found)]
            shares.append((known < 4).mean() if len(known) else 0.0)
        self.assertLess(shares[0], 0.05)
        self.assertGreater(shares[1], 0.5)


class Whites(TestCase):
    """colour-science's own functions and data; CIE 15 for D65, D50 and illuminant A."""

    def test_illuminants(self):
        xy = colour.CCS_ILLUMINANTS["CIE 1931 2 Degree Standard Observer"]
        np.testing.assert_allclose(D65.xy, xy["D65"], atol=2e-4)
        to_rgb = np.linalg.inv(colour.RGB_COLOURSPACES["ITU-R BT.709"].matrix_RGB_to_XYZ)
        for name, kelvin, allowed in (("A", 2856, 5), ("D50", 5003, 10), ("D65", 6504, 10)):
            rgb = to_rgb @ colour.xy_to_XYZ(xy[name])
            found = white_of(rgb)
            self.assertLess(abs(found.kelvin - kelvin), allowed, name)
            self.assertAlmostEqual(found.mired, 1e6 / found.kelvin)
            # McCamy's formula (1992), in the same library, is another way there.
            self.assertLess(abs(found.kelvin - colour.xy_to_CCT(xy[name], "McCamy 1992")), 60)

    def test_neutral_becomes_neutral(self):
        for rgb in ([1.0, 0.7, 0.4], [0.5, 0.55, 0.8], [0.2, 0.21, 0.19]):
            out = adapted(np.array(rgb), neutralised(rgb))
            self.assertLess(out.max() / out.min() - 1, 0.01)
        matrix = adaptation(White(3200), White(5600))
        xyz = colour.RGB_COLOURSPACES["ITU-R BT.709"].matrix_RGB_to_XYZ
        reference = colour.chromatic_adaptation(
            xyz @ [0.3, 0.4, 0.5],
            colour.xy_to_XYZ(White(3200).xy),
            colour.xy_to_XYZ(White(5600).xy),
            method="Von Kries",
            transform="Bradford",
        )
        np.testing.assert_allclose(xyz @ adapted([0.3, 0.4, 0.5], matrix), reference, atol=1e-6)

    def test_real_photographs(self):
        """The grey world of real photographs, as colour-science has it of the same pixels."""
        for picture in (skimage.data.coffee(), skimage.data.chelsea(), skimage.data.rocket()):
            mean = grey_world(linear_light(picture))
            used = picture.reshape(-1, 3)
            used = used[(used.max(axis=1) < 255) & (used.min(axis=1) > 0)]
            own = colour.cctf_decoding(used / 255, function="sRGB").mean(axis=0)
            np.testing.assert_allclose(mean, own, rtol=0.02)
            xyz = colour.RGB_COLOURSPACES["ITU-R BT.709"].matrix_RGB_to_XYZ @ own
            kelvin, _ = colour.temperature.uv_to_CCT_Ohno2013(
                colour.UCS_to_uv(colour.XYZ_to_UCS(xyz))
            )
            self.assertLess(abs(1e6 / white_of(mean).kelvin - 1e6 / kelvin), 4)

    def test_what_is_no_white(self):
        for rgb in ([1.0, 0.0, 0.0], [0.1, 1.0, 0.1], [np.nan, 1, 1]):
            with self.assertRaises(Problem):
                white_of(rgb)
        with self.assertRaises(Problem):
            grey_world(np.zeros((4, 4, 3)))
        with self.assertRaises(Problem):
            White(100)


class Meters(TestCase):
    def test_srgb_and_grey(self):
        """IEC 61966-2-1: a display value of 118 is a middle grey of 0.18 (within a step);
        colour-science agrees."""
        values = np.arange(256) / 255
        np.testing.assert_allclose(
            decode_srgb(values), colour.cctf_decoding(values, function="sRGB"), atol=1e-6
        )
        grey = np.full((40, 60, 3), 118, np.uint8)
        found = levels(linear_light(grey))
        self.assertLess(abs(found.stops("mean")), 0.03)
        self.assertAlmostEqual(found.mean, found.log_average, places=6)
        self.assertEqual((found.clipped, found.crushed), (0, 0))
        self.assertGreater(histogram(linear_light(grey))[3].max(), 0.999)
        shown = false_colour(linear_light(grey))
        self.assertEqual(len(np.unique(shown.reshape(-1, 3), axis=0)), 1)
        self.assertFalse((false_colour(linear_light(grey), 2.0) == shown).all())

    def test_a_waveform_is_the_picture_column_by_column(self):
        ramp = np.repeat(np.linspace(0, 1, 64)[None], 32, axis=0)
        wave = waveform(ramp, 64, 32)
        np.testing.assert_allclose(wave.sum(axis=0), 1)
        self.assertGreater(wave[-1, 0], 0.99)
        self.assertGreater(wave[0, -1], 0.99)

    def test_a_patch_and_its_plus_minus(self):
        """Of patches with noise that neighbours share, the ± of the mean holds; a known surface
        gives the stops."""
        random, errors = np.random.default_rng(5), []
        for _ in range(200):
            noise = random.normal(size=(62, 62))
            smooth = (noise[1:-1, 1:-1] + noise[2:, 1:-1] + noise[1:-1, 2:] + noise[:-2, 1:-1]) / 2
            patch = np.repeat((0.09 + 0.01 * smooth)[..., None], 3, axis=2)
            found = meter(patch, (0, 0, 60, 60), "grey")
            errors.append((found.luminance - 0.09) / found.plus_minus)
        self.assertLess(np.std(errors), 1.35)
        self.assertGreater(np.std(errors), 0.75)
        self.assertAlmostEqual(found.stops, 1.0, delta=0.02)
        self.assertAlmostEqual(
            found.stops_plus_minus, SURFACES["grey"][2] / math.log(2), delta=0.01
        )
        for patch, says in (
            (np.ones((9, 9, 3)), "clipped"),
            (np.zeros((9, 9, 3)), "black"),
            (np.ones((1, 1, 3)), "too few"),
        ):
            with self.assertRaisesRegex(Problem, says):
                meter(patch, (0, 0, 9, 9), "grey")

    def test_a_render_is_brought_to_the_plate(self):
        random = np.random.default_rng(2)
        render, gains = random.uniform(0.05, 0.8, (6, 3)), np.array([1.5, 1.2, 0.8])
        errors = []
        for _ in range(300):
            noise = 2 ** (random.normal(size=(6, 1)) * 0.05 + random.normal(size=(6, 3)) * 0.01)
            found = match_patches(render * gains * noise, render)
            errors.append((found.stops - np.log2(gains).mean()) / found.plus_minus)
        self.assertTrue(0.7 < np.std(errors) < 1.3, np.std(errors))
        np.testing.assert_allclose(found.balance, gains / np.exp(np.log(gains).mean()), rtol=0.03)
        odd = render * gains
        odd[2] *= 2
        residuals = np.abs(match_patches(odd, render).residuals).max(axis=1)
        self.assertEqual(int(residuals.argmax()), 2)
        with self.assertRaises(Problem):
            match_patches(np.zeros((1, 3)), np.ones((1, 3)))


class Sharpness(TestCase):
    def test_discs_over_a_real_photograph(self):
        """Real photographs under discs of known diameters: within 15 %, and within 10 % in the
        mean."""
        import cv2

        grey = [skimage.data.coins(), skimage.data.camera(), skimage.data.astronaut()[..., 1]]
        errors = []
        for picture, diameter in itertools.product(grey, (6.0, 9.0, 12.0)):
            bright = linear_light(picture)
            own, _ = median_of(edge_blurs(bright)[1])
            reach = int(diameter) + 1
            fine = np.mgrid[-reach * 8 : reach * 8 + 1, -reach * 8 : reach * 8 + 1] / 8.0
            inside = (np.hypot(*fine) <= diameter / 2).astype(np.float32)
            pad = np.pad(inside, ((4, 3), (4, 3)))
            kernel = pad.reshape(len(pad) // 8, 8, -1, 8).sum(axis=(1, 3))
            blurred = cv2.filter2D(bright, -1, kernel / kernel.sum())
            found, _ = median_of(edge_blurs(blurred)[1])
            wanted = math.hypot(diameter, own)
            self.assertLess(abs(found / wanted - 1), 0.15, (diameter, found, own))
            errors.append(found / wanted - 1)
        self.assertLess(abs(np.mean(errors)), 0.1)

    def test_a_map_knows_what_it_does_not_know(self):
        picture = np.full((128, 192, 3), 90, np.uint8)
        picture[40:90, 30:80] = 200
        found = blur_map(picture)
        self.assertEqual(found.diameter.shape, (4, 6))
        self.assertTrue(np.isnan(found.diameter[0, 5]))
        self.assertTrue((found.diameter[np.isfinite(found.diameter)] < 2).all())
