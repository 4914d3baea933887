"""The forms of the Gate's steps: what they show of a step is read back as that step."""

from django.test import SimpleTestCase

from aperture.gates.steps import KINDS
from web.gates.forms import GateForm, StepForm

STEPS = [
    {"do": "window", "width": 4096, "height": 1716, "left": 12, "top": 0, "multiple": 16},
    {"do": "window", "aspect": 2.39},
    {"do": "window", "width_mm": 21.95, "height_mm": 16.0},
    {"do": "bin", "by": 2},
    {"do": "resize", "width": 1920, "height": 1080},
    {"do": "resize", "width": 1920},
    {"do": "resize", "scale": 0.5},
    {"do": "pad", "aspect": 1.7777777777777777},
    {"do": "turn", "quarters": 3},
    {"do": "flip", "way": "upside-down"},
    {"do": "desqueeze", "by": 1.3333333333333333},
    {"do": "desqueeze", "keep": "width"},
    {"do": "straighten", "enlarge": False},
    {"do": "overscan", "percent": 12.5},
    {"do": "overscan", "left": 96, "right": 0, "top": 54, "bottom": 1},
    {"do": "overscan", "for": "distortion"},
    {"do": "extract", "aspect": 2.39, "width": 2048, "height": 858, "multiple": 2},
    {"do": "return"},
    {"do": "stabilise", "right": -3.25, "down": 0.125, "turn_deg": 0.5, "scale": 1.01},
    {
        "do": "stabilise",
        "right": 1234.56789,
        "down": -0.00012345678,
        "turn_deg": 0.0,
        "scale": 1.0000123456,
        "values": [
            [1, 1234.56789, -0.00012345678, 0.0, 1.0000123456],
            [2, -0.1, 0.2, 0.0, 1.0],
            [1000123, 1.0, 2.0, 0.0, 1.0],
        ],
    },
    {"do": "reorient", "pan_deg": 181.123456789, "tilt_deg": 0.0, "roll_deg": -4.5},
]


def close(one, other):
    """Whether two steps are the same but for the last digits of their figures."""
    if isinstance(one, dict):
        return one.keys() == other.keys() and all(close(one[key], other[key]) for key in one)
    if isinstance(one, list):
        return len(one) == len(other) and all(map(close, one, other))
    if isinstance(one, float):
        return abs(one - other) <= 1e-9 * max(1.0, abs(one))
    return one == other


class StepForms(SimpleTestCase):
    def read(self, do, offset=0, now=None, **typed):
        return StepForm({"base": "1", **typed}, do=do, now=now, offset=offset)

    def test_what_is_shown_is_read_back_as_it_was(self):
        for step in STEPS:
            for offset in (0, 1000):
                with self.subTest(step=step, offset=offset):
                    now = step | {"id": "s1", "from": "file"}
                    shown = StepForm(do=step["do"], now=now, offset=offset).initial
                    form = self.read(step["do"], offset, now, **shown)
                    self.assertTrue(form.is_valid(), form.errors)
                    self.assertTrue(close(now, form.step), f"{now}\n{form.step}")

    def test_every_kind_of_step_has_a_form(self):
        self.assertEqual({step["do"] for step in STEPS}, set(KINDS))
        for do in KINDS:
            form = StepForm(do=do)
            self.assertEqual(form.title, KINDS[do])
            self.assertNotIn("id", self.read(do).data)
        with self.assertRaises(KeyError):
            StepForm(do="burn")

    def test_what_by_frame_can_t_be_is_told_with_its_line(self):
        for do, lines, says in (
            ("stabilise", "1 0.5 0.5\n2 x 0", "Line 2"),
            ("stabilise", "1.5 0 0", "Line 1: a whole frame"),
            ("stabilise", "1 0", "by how many px right and down"),
            ("stabilise", "1 0 0 0 1 9", "Line 1"),
            ("reorient", "1 10 20", "degrees of pan, tilt and roll"),
            ("reorient", "1 0 0 0\n\n1 5 0 0", "Line 3: frame 1 is there twice"),
        ):
            with self.subTest(lines):
                form = self.read(do, values=lines)
                self.assertFalse(form.is_valid())
                self.assertIn(says, " ".join(form.errors["values"]))

    def test_lines_by_frame_may_be_parted_by_anything_and_say_only_what_they_need(self):
        form = self.read("stabilise", 1000, values="1002; 1.5, 4\n\n1001\t-2 3 0.5")
        self.assertTrue(form.is_valid(), form.errors)
        self.assertEqual(form.step["values"], [[1, -2.0, 3.0, 0.5, 1.0], [2, 1.5, 4.0, 0.0, 1.0]])
        self.assertEqual((form.step["right"], form.step["scale"]), (-2.0, 1.0))

    def test_only_what_is_chosen_of_an_overscan_counts(self):
        typed = {"percent": "10 %", "left": "96", "right": "", "top": "5", "bottom": ""}
        for how, step in (
            ("percent", {"percent": 10.0}),
            ("sides", {"left": 96, "right": 0, "top": 5, "bottom": 0}),
            ("distortion", {"for": "distortion"}),
        ):
            form = self.read("overscan", how=how, **typed)
            self.assertTrue(form.is_valid(), form.errors)
            self.assertEqual(form.step, {"do": "overscan"} | step)
        self.assertIn("left", self.read("overscan", how="sides", left="1.5").errors)
        self.assertIn("left", self.read("overscan", how="sides", left="-1").errors)

    def test_a_corner_needs_a_size_in_px(self):
        form = self.read("window", size="2.39", left="10")
        self.assertIn("A corner needs a size in px", str(form.errors["left"]))


class GateForms(SimpleTestCase):
    def test_what_is_shown_of_a_gate_is_read_back_as_it_was(self):
        gate = {
            "width_mm": 24.892345,
            "height_mm": 18.669123,
            "squeeze": 1.3333333333333333,
            "rate": "24000/1001",
            "photosites": [4096, 3072],
            "name": "",
        }
        form = GateForm(GateForm.initial_of(gate, 3))
        self.assertTrue(form.is_valid(), form.errors)
        data = form.cleaned_data
        for side in ("width_mm", "height_mm", "squeeze"):
            self.assertAlmostEqual(data[side], gate[side], places=9)
        self.assertEqual((data["rate"], data["sites"]), (gate["rate"], gate["photosites"]))

    def test_what_can_t_be_is_told_beside_its_field(self):
        typed = {"width": "0", "height": "2 m", "squeeze": "0.5", "rate": "fast", "photosites": "9"}
        form = GateForm(typed | {"base": "1"})
        self.assertEqual(set(form.errors), set(typed))
        self.assertIn("0.1 mm and 1000 mm", str(form.errors["width"]))
        self.assertIn("between 1 (a spherical lens) and 4", str(form.errors["squeeze"]))
