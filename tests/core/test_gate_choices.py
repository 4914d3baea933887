"""What a gate is chosen from: modes and lenses of a catalogue, shapes as people type them, and all
kinds of steps."""

import math
from unittest import TestCase

import numpy as np

from aperture.errors import Problem
from aperture.gates.catalogue import distortion_at, with_lens, with_mode
from aperture.gates.chain import bends, build
from aperture.gates.steps import KINDS
from aperture.gates.typed import parse_shape, shape_text
from aperture.lens.lens import Lens
from tests.core.test_chain import DORY, gate


class Choosing(TestCase):
    BODY = {"name": "Dory Four", "photosites": [4448, 3096]}
    MODE = {
        "name": "2.39",
        "window": [0, 617, 4448, 1862],
        "width_mm": 36.7,
        "height_mm": 15.36,
        "recorded": [2224, 931],
        "squeezes": [1.0],
        "rates": ["24", "25"],
    }

    def test_a_mode_replaces_the_last_mode_and_keeps_the_rest(self):
        first = with_mode(
            {
                "squeeze": 2.0,
                "rate": "25",
                "steps": [{"id": "g1", "do": "turn", "quarters": 2}],
                "plate_at": 1,
                "width_mm": 1,
                "height_mm": 1,
            },
            self.BODY,
            self.MODE,
        )
        self.assertEqual([step["do"] for step in first["steps"]], ["window", "resize", "turn"])
        self.assertEqual((first["squeeze"], first["rate"], first["plate_at"]), (1.0, "25", 3))
        np.testing.assert_allclose(build(first).stages[2].grid.gate_mm, (36.7, 15.36), atol=1e-6)
        again = with_mode(
            first,
            self.BODY,
            self.MODE
            | {"window": [0, 0, 4448, 3096], "height_mm": 25.54, "recorded": [4448, 3096]},
        )
        self.assertEqual([step["do"] for step in again["steps"]], ["turn"])
        self.assertEqual(len({step["id"] for step in first["steps"]}), 3)

    def test_a_lens_brings_its_squeeze_its_focal_length_and_its_bend(self):
        zoom = {
            "name": "Zoom",
            "focal_mm": [18, 40],
            "squeeze": 1.0,
            "projection": "rectilinear",
            "distortion": [{"focal_mm": 18, "k1": -0.08}, {"focal_mm": 36, "k1": 0.02}],
        }
        prime = {"name": "Prime", "focal_mm": [50, 50], "squeeze": 2.0, "projection": "rectilinear"}
        changed, lens, says = with_lens(dict(DORY), {"focal_mm": None}, prime)
        self.assertEqual(
            (changed["squeeze"], lens["focal_mm"], lens["name"]),
            (2.0, {"value": 50, "plus_minus": 0.5}, "Prime"),
        )
        self.assertIn("squeeze 1 → 2", says)
        _, lens, says = with_lens(changed, lens, zoom)
        self.assertIsNone(lens["focal_mm"])  # 50 mm is outside 18–40
        self.assertIn("let go", says)
        self.assertAlmostEqual(distortion_at(zoom, math.sqrt(18 * 36))["k1"], -0.03)
        self.assertEqual(
            (distortion_at(zoom, 10)["k1"], distortion_at(zoom, 99)["k1"]), (-0.08, 0.02)
        )
        with self.assertRaises(Problem):
            with_lens(None, {"focal_mm": None}, prime)


class Typed(TestCase):
    def test_shapes_as_people_write_them(self):
        every = ("aspect", "px", "mm", "side", "scale")
        for text, wanted in (
            ("2.39", {"aspect": 2.39}),
            ("2,39:1", {"aspect": 2.39}),
            ("16:9", {"aspect": 16 / 9}),
            ("2048 × 858", {"width": 2048, "height": 858}),
            ("2048x858 px", {"width": 2048, "height": 858}),
            ("1920 wide", {"width": 1920}),
            ("50 %", {"scale": 0.5}),
            ("21.95 mm x 16 mm", {"width_mm": 21.95, "height_mm": 16.0}),
            ("1 × 0.5 in", {"width_mm": 25.4, "height_mm": 12.7}),
        ):
            step = parse_shape(text, every)
            self.assertEqual(
                {key: round(value, 9) for key, value in step.items()},
                {key: round(value, 9) for key, value in wanted.items()},
                text,
            )
            self.assertEqual(
                {k: round(v, 5) for k, v in parse_shape(shape_text(step), every).items()},
                {k: round(v, 5) for k, v in step.items()},
                text,
            )
        for text in (
            "",
            "wide",
            "1 × 2 × 3",
            "-2",
            "0 × 5",
            "2.5 × 3",
            "9e9",
            "16:0",
            "nan",
            "1920 ×",
        ):
            with self.assertRaises(Problem, msg=text):
                parse_shape(text, every)

    def test_every_kind_of_step_can_be_made_and_described(self):
        made = {
            "window": {"width": 100, "height": 100},
            "bin": {"by": 2},
            "resize": {"scale": 0.5},
            "turn": {"quarters": 1},
            "flip": {"way": "sides"},
            "desqueeze": {},
            "pad": {"aspect": 2.0},
            "stabilise": {"right": 3.5, "down": -2},
            "reorient": {"pan_deg": 3.5, "tilt_deg": -2, "roll_deg": 0},
            "straighten": {},
            "overscan": {"percent": 5},
            "extract": {"aspect": 2.0},
            "return": {},
        }
        self.assertEqual(set(made), set(KINDS))
        chain = build(
            gate([], [{"do": do, **more} for do, more in made.items() if do != "bin"]),
            None,
            Lens(30, coefficients=(-0.05, 0, 0, 0, 0)),
        )
        self.assertEqual((chain.problems, bends(chain.lens)), ((), True))
        self.assertEqual(len({stage.name for stage in chain.stages}), len(made))
        self.assertTrue(all(stage.says for stage in chain.stages))
