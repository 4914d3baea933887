"""Gate chains: their maps, their checks and remedies, and what people type."""

import math
from dataclasses import replace
from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.gates import checks
from aperture.gates.chain import build
from aperture.gates.claims import Claim, lay_out
from aperture.gates.guides import frame
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens

DORY = {
    "width_mm": 36.7,
    "height_mm": 25.54,
    "photosites": [4448, 3096],
    "squeeze": 1.0,
    "name": "Dory Four",
}
BEFORE = st.lists(
    st.one_of(
        st.fixed_dictionaries(
            {
                "do": st.just("window"),
                "aspect": st.floats(0.6, 3),
                "multiple": st.sampled_from([1, 2, 4]),
            }
        ),
        st.fixed_dictionaries(
            {
                "do": st.just("window"),
                "left": st.integers(0, 40),
                "top": st.integers(0, 40),
                "width": st.integers(200, 300),
                "height": st.integers(200, 300),
            }
        ),
        st.fixed_dictionaries({"do": st.just("bin"), "by": st.integers(2, 3)}),
        st.fixed_dictionaries({"do": st.just("resize"), "width": st.integers(400, 3000)}),
        st.fixed_dictionaries({"do": st.just("turn"), "quarters": st.integers(1, 3)}),
        st.fixed_dictionaries(
            {"do": st.just("flip"), "way": st.sampled_from(["sides", "upside-down"])}
        ),
        st.fixed_dictionaries(
            {
                "do": st.just("desqueeze"),
                "by": st.sampled_from([1.3, 2.0]),
                "keep": st.sampled_from(["height", "width"]),
            }
        ),
        st.fixed_dictionaries({"do": st.just("pad"), "aspect": st.floats(0.6, 3)}),
    ),
    max_size=4,
)
AFTER = st.lists(
    st.one_of(
        st.fixed_dictionaries({"do": st.just("straighten"), "enlarge": st.booleans()}),
        st.just({"do": "overscan", "for": "distortion"}),
        st.just({"do": "return"}),
        st.fixed_dictionaries({"do": st.just("overscan"), "percent": st.floats(0, 40)}),
        st.fixed_dictionaries(
            {
                "do": st.just("overscan"),
                "left": st.integers(0, 90),
                "right": st.integers(0, 90),
                "top": st.integers(0, 90),
            }
        ),
        st.fixed_dictionaries(
            {"do": st.just("extract"), "aspect": st.floats(1, 2.6), "width": st.integers(300, 3000)}
        ),
    ),
    max_size=4,
)


def gate(before=(), after=(), **more):
    steps = [{"id": f"g{index}", **step} for index, step in enumerate((*before, *after))]
    return DORY | more | {"steps": steps, "plate_at": len(before)}


def aspect(document, size):
    return checks.check_aspect(build(document, size), document)


class Maps(TestCase):
    @settings(max_examples=150)
    @given(
        BEFORE,
        AFTER,
        st.sampled_from([1.0, 2.0]),
        st.sampled_from([(0.0,) * 5, (-0.06, 0.01, 0.0, 0.001, -0.002)]),
    )
    def test_any_chain_can_be_followed_there_and_back(self, before, after, squeeze, k):
        chain = build(gate(before, after, squeeze=squeeze), None, Lens(32.0, 1.0, coefficients=k))
        if (
            chain.turned and squeeze != 1
        ):  # the lens is described in the plate's own rows: its squeeze is in the chain's map
            chain = replace(chain, lens=replace(chain.lens, squeeze=1.0))
        elif squeeze != 1:
            chain = replace(chain, lens=replace(chain.lens, squeeze=squeeze))
        grid = chain.plate_grid
        points = np.array(
            [[0.5, 0.5], [grid.width / 2, grid.height / 3], [grid.width - 0.25, grid.height * 0.75]]
        )
        there = chain.follow(points, chain.plate)
        for index, reached in enumerate(there):
            if np.isfinite(reached).all():
                # px; with a lens that bends, what it is undone to: 1e-10 of the focal length
                np.testing.assert_allclose(
                    chain.follow(reached, index)[chain.plate], points, atol=1e-6 if any(k) else 1e-9
                )

    @settings(max_examples=60)
    @given(AFTER)
    def test_what_comes_after_the_plate_never_moves_the_light(self, after):
        chain = build(
            gate([{"do": "window", "aspect": 16 / 9}], after),
            None,
            Lens(32.0, coefficients=(-0.05, 0, 0, 0, 0)),
        )
        world = np.array([[0.4, 0.2, -3.0], [-1.1, 0.5, -4.0], [0.0, 0.0, -2.0]])
        want = chain.plate_grid.to_mm(chain.camera(chain.plate).project(world))
        for index, stage in enumerate(chain.stages):
            camera = chain.camera(index)
            self.assertEqual(camera.lens.focal_mm, 32.0)
            np.testing.assert_allclose(
                chain.sensor_mm(camera.project(world), index), want, atol=1e-9, err_msg=stage.name
            )

    def test_a_camera_on_its_side_with_a_squeezing_lens(self):
        """Turned by 90° the squeeze acts down the plate; the match's gate and lens must draw what
        the sensor saw."""
        upright = build(gate(squeeze=2.0), (4448, 3096))
        turned = build(gate([{"do": "turn", "quarters": 1}], squeeze=2.0), (3096, 4448))
        width, height, squeeze = turned.match_gate
        self.assertEqual((round(width, 6), round(height, 6), squeeze), (25.54, 73.4, 1.0))
        seen = Camera.at(upright.plate_grid, Lens(50, 2.0), (0, 0, 0)).project([[0.6, 0.3, -2.0]])
        lying = Camera.at(
            Grid.from_gate(3096, 4448, width, height), Lens(50, squeeze), (0, 0, 0)
        ).project([[0.3, -0.6, -2.0]])
        np.testing.assert_allclose(turned.follow(lying, 1)[0], seen, atol=1e-9)

    def test_a_crop_off_the_middle_moves_the_axis_on_the_plate(self):
        chain = build(
            gate([{"do": "window", "left": 100, "top": 200, "width": 2000, "height": 1000}]),
            (2000, 1000),
        )
        np.testing.assert_allclose(chain.axis_px, (2224 - 100, 1548 - 200), atol=1e-9)
        np.testing.assert_allclose(
            chain.figures(1).centre_mm, ((1100 - 2224) * 36.7 / 4448, (700 - 1548) * 25.54 / 3096)
        )

    def test_overscan_holds_all_that_the_distortion_moves_out(self):
        for k in ((-0.2, 0.03, 0, 0, 0), (0.15, 0, 0, 0.002, 0.001)):
            chain = build(
                gate([{"do": "window", "aspect": 1.85}], [{"do": "overscan", "for": "distortion"}]),
                None,
                Lens(30.0, coefficients=k),
            )
            grid, over = chain.plate_grid, chain.stages[-1].grid
            u = np.linspace(0, 1, 400)
            border = np.concatenate(
                [
                    np.stack(pair, -1)
                    for pair in ((u, 0 * u), (u, 0 * u + 1), (0 * u, u), (0 * u + 1, u))
                ]
            ) * (grid.width, grid.height)
            reached = chain.follow(border, chain.plate)[-1]
            self.assertTrue(
                (reached > -0.05).all()
                and (reached < np.array([over.width, over.height]) + 0.05).all()
            )
            slack = min(
                reached.min(), (np.array([over.width, over.height]) - reached.max(axis=0)).min()
            )
            if k[0] < 0:
                self.assertLess(slack, 2.0)  # and no more than that
            else:  # a pincushion's straight picture is the smaller one: nothing is added
                self.assertLessEqual(over.width - grid.width + over.height - grid.height, 2)
            self.assertEqual((over.width % 2, over.height % 2), (0, 0))

    def test_a_sensor_without_photosites_is_cropped_in_millimetres(self):
        document = {
            "width_mm": 36,
            "height_mm": 24,
            "steps": [{"id": "g1", "do": "window", "aspect": 16 / 9}],
            "plate_at": 1,
        }
        chain = build(document, (1920, 1080))
        np.testing.assert_allclose(chain.plate_grid.gate_mm, (36, 20.25), atol=2e-3)
        self.assertEqual([stage.size_text for stage in chain.stages], ["–", "–", "1920 × 1080"])
        with self.assertRaisesRegex(Problem, "photosites"):
            build(
                document | {"steps": [{"id": "g1", "do": "window", "width": 100, "height": 100}]},
                (1920, 1080),
                strict=True,
            )

    def test_steps_that_cannot_be(self):
        for step, says in (
            ({"do": "window", "width": 5000, "height": 10}, "larger than"),
            ({"do": "window", "left": 4400, "top": 0, "width": 100, "height": 9}, "outside"),
            ({"do": "bin", "by": 1}, "at least 2"),
            ({"do": "turn", "quarters": 4}, "quarters"),
            ({"do": "pad", "width": 10, "height": 10}, "smaller"),
            ({"do": "resize", "width": 300000}, "200000"),
            ({"do": "overscan", "percent": math.nan}, "percent"),
            ({"do": "melt"}, "no step called"),
            ({"do": "extract", "aspect": 0.001}, "aspect"),
            ({"do": "resize", "width": 1.5}, "whole number"),
            ({"do": "return"}, "later"),
        ):
            with self.assertRaisesRegex(Problem, says, msg=step):
                build(gate([step]), None, strict=True)
            told = build(gate([step])).problems
            self.assertEqual([key for key, _ in told], ["g0"])
        self.assertTrue(
            build(
                gate([], [{"do": "straighten"}]), None, Lens(30, coefficients=(-0.9, 0, 0, 0, 0))
            ).problems
        )


class Checks(TestCase):
    def test_every_remedy_brings_agreement(self):
        still = {"width_mm": 36, "height_mm": 24, "name": ""}
        cases = (
            (still, (1920, 1080), {"crop-top-bottom", "stretched"}),
            (still, (2400, 3600), {"crop-sides", "turned", "stretched"}),
            (DORY, (3840, 2160), {"squeeze-1.25", "crop-top-bottom", "window", "stretched"}),
            (DORY | {"squeeze": 2.0}, (4448, 1548), {"desqueeze", "window", "stretched"}),
            (
                {"width_mm": 21.95, "height_mm": 18.6, "name": ""},
                (2048, 858),
                {"squeeze-2", "crop-top-bottom", "stretched"},
            ),
            (
                gate([{"do": "desqueeze", "by": 2.0}], squeeze=2.0),
                (4448, 3096),
                {"still-squeezed", "crop-sides", "stretched"},
            ),
            (
                gate([{"do": "desqueeze", "by": 2.0}], squeeze=2.0),
                (8896, 1548),
                {"squeeze-twice-2", "crop-top-bottom", "stretched"},
            ),
        )
        for document, size, wanted in cases:
            finding = aspect(document, size)
            self.assertEqual(finding.kind, "doubt", size)
            self.assertEqual(
                {remedy.key for remedy in finding.remedies} - {"window"}, wanted - {"window"}, size
            )
            for remedy in finding.remedies:
                if not (remedy.key == "turned" and size == (3240, 1080)):
                    self.assertEqual(aspect(remedy.gate, size).kind, "good", remedy.key)

    def test_by_how_much(self):
        document = {"width_mm": 36, "height_mm": 24, "name": ""}
        self.assertAlmostEqual(
            checks.AspectCheck(build(document, (1920, 1080)), document).error_px, -300
        )  # 1.5 × 1080 = 1620 of 1920
        self.assertTrue(checks.AspectCheck(build(document, (6000, 4000)), document).agrees)
        self.assertEqual(
            aspect(DORY, (2224, 1548)).remedies[0].key, "add-resize"
        )  # half the size is no disagreement

    def test_the_files_focal_length_against_the_mode(self):
        chain = build(gate(), (4448, 3096))
        self.assertEqual(
            checks.check_file_focal(chain, gate(), 35.0, 34.0).kind, "good"
        )  # 36.7 mm is wider than 36: the equivalent is shorter
        cut = build(
            gate([{"do": "window", "left": 9, "top": 9, "width": 2000, "height": 1200}]),
            (2000, 1200),
        )
        self.assertEqual(
            checks.check_file_focal(cut, gate(), 35.0, 34.0).kind, "good"
        )  # the camera knew nothing of the crop
        wrong = checks.check_file_focal(chain, gate(), 8.8, 24.0)  # a sensor 13.2 mm wide
        self.assertIn("13.20 mm wide", wrong.says)
        widths = {
            remedy.key: build(remedy.gate, (4448, 3096)).plate_grid.gate_mm[0]
            for remedy in wrong.remedies
        }
        self.assertAlmostEqual(widths["file-width"], 13.2, places=3)
        self.assertAlmostEqual(
            widths["file-crop"], 43.2666 * 8.8 / 24 * 36.7 / math.hypot(36.7, 25.54), places=2
        )
        self.assertIsNone(checks.check_file_focal(chain, gate(), 8.8, None))

    def test_odd_sizes_and_half_pixels_and_their_remedies(self):
        for step, key in (
            ({"do": "extract", "aspect": 2.39, "multiple": 1}, "centre-g0"),
            ({"do": "extract", "aspect": 2.39, "width": 2048, "height": 857}, "odd-g0"),
            ({"do": "overscan", "left": 3, "right": 0, "top": 0, "bottom": 0}, "odd-g0"),
            ({"do": "pad", "width": 4451, "height": 3097}, "odd-g0"),
            ({"do": "resize", "scale": 0.3333}, "odd-g0"),
            ({"do": "window", "left": 0, "top": 0, "width": 4447, "height": 3095}, "odd-g0"),
        ):
            document = gate([], [step])
            found = {
                finding.key: finding for finding in checks.check_sizes(build(document), document)
            }
            self.assertIn(key, found, step)
            self.assertTrue(found[key].remedies, step)
            for remedy in found[key].remedies:
                left = {
                    finding.key
                    for finding in checks.check_sizes(build(remedy.gate), remedy.gate)
                    if finding.kind == "doubt"
                }
                self.assertNotIn(key, left, (step, remedy.label))
        quiet = gate([], [{"do": "extract", "aspect": 2.39, "width": 2048, "height": 858}])
        self.assertEqual(
            [
                finding
                for finding in checks.check_sizes(build(quiet), quiet)
                if finding.kind == "doubt"
            ],
            [],
        )

    def test_a_render_finds_its_place_in_the_chain(self):
        document = gate(
            [{"do": "window", "aspect": 16 / 9}, {"do": "resize", "width": 1920}],
            [{"do": "overscan", "percent": 10}],
        )
        chain = build(document)
        for size, kind, keys in (
            ((1920, 1080), "good", ()),
            ((2112, 1188), "good", ()),
            ((960, 540), "note", ("render-plate", "render-resize")),
            ((1920, 800), "doubt", ("render-plate", "render-extract")),
            ((2200, 1300), "doubt", ("render-plate", "render-overscan")),
        ):
            finding = checks.check_render(chain, document, size)
            self.assertEqual(
                (finding.kind, tuple(remedy.key for remedy in finding.remedies)), (kind, keys), size
            )
            for remedy in finding.remedies[1:]:
                self.assertEqual(
                    checks.check_render(build(remedy.gate), remedy.gate, size).kind,
                    "good",
                    (size, remedy.key),
                )

    def test_claims_that_lack_numbers(self):
        with self.assertRaisesRegex(Problem, "two of these"):
            Claim(angle=1.0)
        side = next(
            r
            for r in lay_out(Claim(math.radians(90), None, 18.0))
            if (r.projection, r.basis) == ("rectilinear", "horizontal")
        )
        self.assertAlmostEqual(side.side_mm, 36.0)
        focal = next(
            r
            for r in lay_out(Claim(math.radians(180), None, None, (24.0, 24.0)))
            if (r.projection, r.basis) == ("equidistant", "horizontal")
        )
        self.assertAlmostEqual(focal.focal_mm, 24 / math.pi)

    def test_frames_take_the_squeeze_into_account(self):
        grid = build(gate(), None).plate_grid
        self.assertEqual((frame(grid, 2.39).width, frame(grid, 2.39).height), (4448, 1861))
        squeezed = frame(grid, 2.39, 2.0)  # 2.87 : 1 as shown: the sides go
        self.assertEqual(
            (squeezed.width, squeezed.height),
            (round(3096 * 2.39 / (2 * (36.7 / 4448) / (25.54 / 3096))), 3096),
        )
