"""Evidence that once gave a wrong camera with a small ±, and documents that are out of bounds."""

import contextlib
import io
import json
import tempfile
from pathlib import Path
from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from aperture.__main__ import main
from aperture.match.document import InvalidDocument, read, validate
from aperture.match.effort import limited
from aperture.match.solve import solve
from bench import hard_cases

CASES = Path(__file__).parent.parent / "cases"


def case(name):
    return json.loads((CASES / f"{name}.json").read_text())


def fit(document):
    return solve(document).document


def moved(mark, px):
    return mark | {"at": [mark["at"][0] + px, mark["at"][1]]}


class Found(TestCase):
    """The camera that was found wrong; the true values are those of the simulation."""

    def test_single_documents(self):
        for name, true_mm in (
            ("chain_of_lengths", 39.7),
            ("surveyed_and_plumb", 28.0),
            ("fisheye_small", 10.6),
        ):
            with self.subTest(name):
                answer = fit(case(name))
                off = answer["camera"]["focal_mm"] - true_mm
                self.assertLess(abs(off), 3 * answer["plus_minus"]["focal_mm"] + 0.05)
                self.assertEqual(answer["conflicts"], [])

    def test_chains_of_lengths(self):
        for links, count in ((2, 10), (4, 12), (30, 2)):
            errors = hard_cases.study(lambda rng, n=links: hard_cases.chain(rng, n), count, links)
            self.assertEqual(hard_cases.wrong(errors), 0, links)

    def test_surveyed_spots_on_the_plumb_line_of_an_exact_one(self):
        errors = hard_cases.study(hard_cases.plumb, 60, 14)
        self.assertEqual(hard_cases.wrong(errors), 0)
        self.assertLess(errors.std(), 1.2)

    def test_fisheyes_that_see_behind_themselves(self):
        self.assertEqual(hard_cases.wrong(hard_cases.study(hard_cases.fisheye, 12, 15)), 0)

    def test_scale_that_only_a_free_spot_carries_is_not_solved(self):
        answer = fit(case("scale_solved"))
        self.assertEqual(answer["determined"]["scale"], "no")
        self.assertIn("scale", [item["quantity"] for item in answer["missing"]])


class PlusMinus(TestCase):
    """The ± take the misfit into account."""

    def covered(self, make, count, seed):
        errors = hard_cases.study(make, count, seed)
        self.assertFalse(np.isnan(errors).any())
        return np.mean(np.abs(errors) < 1.96)

    def test_marks_that_scatter_twice_as_far(self):
        self.assertGreater(self.covered(hard_cases.noisy, 40, 21), 0.88)

    def test_honest_marks_stay_as_they_are(self):
        rng, widened = np.random.default_rng(22), 0
        for _ in range(40):
            answer = solve(hard_cases.room(rng).document, explain=False).document
            widened += any("widened" in remark for remark in answer["remarks"])
        self.assertLessEqual(widened, 3)

    def test_blunders_widen_and_can_be_mistrusted(self):
        self.assertGreater(self.covered(hard_cases.blundered, 25, 23), 0.88)
        rng, right, named = np.random.default_rng(24), 0, 0
        for _ in range(15):
            document = hard_cases.blundered(rng, robust=True).document
            answer = fit(document)
            named += len(answer["mistrusted"])
            right += answer["variance_factor"] < 2
            self.assertEqual(answer["conflicts"], [])
        self.assertEqual(right, 15)
        self.assertGreater(named, 15 * 3 * 0.7)  # three blunders each; some lie along their edge
        self.assertLess(named, 15 * 3 * 1.3)

    def test_the_factor_is_said(self):
        document = hard_cases.noisy(np.random.default_rng(3)).document
        answer = fit(document)
        self.assertGreater(answer["variance_factor"], 2)
        self.assertIn("widened", answer["remarks"][0])

    def test_a_lens_given_with_its_plus_minus(self):
        """A calibration counts by its ±: weakly where the marks know better, firmly otherwise."""
        plain = case("scale_solved")
        lens = {
            "principal_point": {"value": [963, 640], "plus_minus": 5},
            "distortion": {"k1": {"value": 0.0005, "plus_minus": 0.001}},
        }
        answer = fit(plain | {"lens": lens})
        self.assertEqual(answer["determined"]["principal_point"], "solved")
        x, _ = answer["camera"]["principal_point_px"]
        self.assertTrue(950 < x < 970)
        self.assertNotEqual(x, 963)
        self.assertLess(answer["plus_minus"]["principal_point_px"][0], 5)
        self.assertAlmostEqual(answer["camera"]["distortion"]["k1"], 0.0005, delta=0.002)
        self.assertLessEqual(answer["plus_minus"]["distortion"]["k1"], 0.00101)
        exact = {"principal_point": {"value": [1000, 640], "plus_minus": 0}}
        self.assertEqual(fit(plain | {"lens": exact})["camera"]["principal_point_px"][0], 1000)


class Conflicts(TestCase):
    def test_two_independent_blunders_are_two_conflicts(self):
        groups = [set(conflict["of"]) for conflict in fit(case("two_blunders"))["conflicts"]]
        self.assertEqual(sorted(map(sorted, groups)), [["s0"], ["s1"]])

    def test_without_a_given_focal_length_the_marks_decide(self):
        says = fit(case("focal_sentence"))["conflicts"][0]["says"]
        free = case("focal_sentence") | {"lens": {}}
        self.assertIn(f"would be {fit(free)['camera']['focal_mm']:.2f} mm", says)

    def test_long_honest_lines_raise_no_alarm(self):
        rng = np.random.default_rng(7)
        scene = hard_cases.Scene(rng)
        scene.edges(9)
        camera, middle = scene.camera, scene.seen()
        line = middle + np.linspace(-1, 1, 260)[:, None] * [1.0, 0, 0]
        inside = line[np.isfinite(camera.project(line)).all(axis=1)]
        scene.mark("long", "edge", axis="across", points=scene.drawn(inside))
        self.assertEqual(fit(scene.case().document)["conflicts"], [])

    def test_duplicates_are_said(self):
        document = case("scale_solved")
        twice = document["marks"][0] | {"id": "again", "name": "Once more"}
        remarks = fit(document | {"marks": [*document["marks"], twice]})["remarks"]
        self.assertTrue(any("“Once more” are the same" in remark for remark in remarks))

    def test_looking_straight_down(self):
        camera = hard_cases.Camera.at(
            hard_cases.Grid.from_gate(*hard_cases.SIZE, *hard_cases.GATE_MM),
            hard_cases.Lens(28.0),
            [0, 4, 0],
            0.3,
            -np.pi / 2,
            0,
        )
        points = [[x, y, z] for x in (-1, 1) for z in (-0.8, 0.7) for y in (0.0, 0.5)]
        spots = [
            {"id": f"s{i}", "kind": "spot", "at": at, "world": world}
            for i, (at, world) in enumerate(zip(camera.project(points).tolist(), points))
        ]
        document = case("scale_solved") | {"marks": spots, "facts": []}
        answer = fit(document)
        self.assertIsNone(answer["plus_minus"]["pan_deg"])
        self.assertTrue(any("straight down" in remark for remark in answer["remarks"]))
        edges = []
        for index, (x, z) in enumerate(((-1, -1), (1, -0.8), (0.9, 1), (-0.8, 0.9))):
            for axis, (a, b) in {
                "up": ([x, 0, z], [x, 1, z]),
                "across": ([-x, 0, z], [x, 0, z]),
            }.items():
                points = camera.project([a, b]).tolist()
                name = f"{axis}{index}"
                edges.append({"id": name, "kind": "edge", "axis": axis, "points": points})
        problem = fit(document | {"marks": edges})["problem"]
        self.assertIn("across are parallel", problem)
        self.assertNotIn("up", problem.split("parallel")[0])

    def test_bent_lines_suggest_distortion(self):
        camera = hard_cases.Scene(np.random.default_rng(5), (24.0, 26.0)).camera
        lens = hard_cases.Lens(camera.lens.focal_mm, coefficients=(-0.12, 0, 0, 0, 0))
        scene = hard_cases.Scene(np.random.default_rng(5), (24.0, 26.0))
        scene.camera = hard_cases.Camera(camera.grid, lens, camera.world_from_camera)
        scene.edges(18)
        for index in range(6):
            point = scene.seen()
            scene.spot(f"s{index}", point, world=point.tolist())
        answer = fit(scene.case().document)
        self.assertEqual(answer["suggestion"]["free"], "k1")
        self.assertLess(answer["suggestion"]["rms_px"], 0.7 * answer["residuals"]["rms_px"])
        freed = scene.case().document
        freed["lens"] |= {"distortion": {"free": ["k1"]}}
        self.assertNotIn("suggestion", fit(freed))


class CheckMarks(TestCase):
    def test_they_tell_their_error_and_change_nothing(self):
        scene = hard_cases.Scene(np.random.default_rng(9))
        scene.edges(12)
        for index in range(5):
            point = scene.seen()
            scene.spot(f"s{index}", point, world=point.tolist())
        document = scene.case().document
        marks = document["marks"]
        spot, edge = marks[-1], marks[0]
        without = [mark for mark in marks if mark not in (spot, edge)]
        checks = [moved(spot, 30) | {"check": True}, edge | {"check": True}]
        answer = fit(document | {"marks": [*without, *checks]})
        self.assertEqual(answer["camera"], fit(document | {"marks": without})["camera"])
        found = answer["checks"]["marks"]
        self.assertAlmostEqual(found[spot["id"]], 30, delta=3)
        self.assertLess(found[edge["id"]], 3)
        known = spot["world"]
        line = spot | {"world": [known[0], known[1], None], "check": True}
        answer = fit(document | {"marks": [*without, line]})
        self.assertLess(answer["checks"]["marks"][spot["id"]], 3)


class OutOfBounds(TestCase):
    def test_values_beyond_all_measure_are_refused_with_their_place(self):
        base = case("scale_solved")
        height = {"id": "h", "kind": "camera_height", "metres": 1.5, "plus_minus": 0.01}
        spot = base["marks"][9]
        for change, place in (
            ({"facts": [height | {"metres": 1e200}]}, "/facts/0/metres"),
            ({"facts": [height | {"metres": 10**400}]}, "/facts/0/metres"),
            ({"marks": [spot | {"world": [1e300, 0, 0]}]}, "/marks/0/world/0"),
            ({"marks": [spot | {"sigma_px": 1e-300}]}, "/marks/0/sigma_px"),
            ({"gate": {"width_mm": 1e-300, "height_mm": 24}}, "/gate/width_mm"),
            ({"lens": {"distortion": {"k1": 1e10}}}, "/lens/distortion"),
        ):
            with self.subTest(place), self.assertRaises(InvalidDocument) as caught:
                validate(base | change)
            self.assertTrue(caught.exception.place.startswith(place), caught.exception.place)

    def test_a_batch_gives_a_line_for_each_document(self):
        broken = [b"{", b"[1]", b'{"a": ' + b"9" * 5000 + b"}", b"\xff\xfe", b"[" * 10**5]
        with tempfile.TemporaryDirectory() as folder:
            paths = [Path(folder) / f"{index}.json" for index in range(len(broken) + 1)]
            for path, content in zip(paths, [*broken, json.dumps(case("scale_solved")).encode()]):
                path.write_bytes(content)
            out = io.StringIO()
            with contextlib.redirect_stdout(out):
                status = main(["solve", *map(str, paths), str(Path(folder) / "none.json")])
        lines = [json.loads(line) for line in out.getvalue().splitlines()]
        self.assertEqual(status, 2)
        self.assertEqual([line["ok"] for line in lines], [False] * 5 + [True, False])
        self.assertTrue(all("at" in line for line in lines if not line["ok"]))

    @settings(max_examples=60)
    @given(st.data())
    def test_any_numbers_within_bounds_get_an_answer(self, data):
        """One number of a document is replaced by another, however odd."""
        document = case(data.draw(st.sampled_from(["chain_of_lengths", "surveyed_and_plumb"])))
        part = data.draw(st.sampled_from(["marks", "facts"]))
        item = data.draw(st.sampled_from(document[part]))
        key = data.draw(st.sampled_from(sorted(item)))
        odd = (
            st.floats() | st.integers() | st.sampled_from([1e7, -1e7, 1e-4, 1e-6, 0.0, [1e7, -1e7]])
        )
        if isinstance(item[key], list):
            item[key][data.draw(st.integers(0, len(item[key]) - 1))] = data.draw(odd)
        else:
            item[key] = data.draw(odd)
        try:
            answer = fit(document)
        except InvalidDocument:
            return
        json.dumps(answer, allow_nan=False)
        self.assertTrue(answer["ok"] or answer["problem"])

    def test_the_work_has_a_limit(self):
        """Counted, not timed: 200 edges and 200 spots against 194 false heights."""
        rng = np.random.default_rng(1)
        scene = hard_cases.Scene(rng)
        scene.edges(200)
        for index in range(200):
            point = scene.seen()
            scene.spot(f"s{index}", point, world=point.tolist())
        document = scene.case().document
        document["facts"] = [
            {
                "id": f"h{i}",
                "kind": "camera_height",
                "metres": float(rng.uniform(0, 50)),
                "plus_minus": 0.01,
            }
            for i in range(194)
        ]
        with limited() as effort:
            answer = solve(document, explain=False).document
        self.assertGreater(effort.left, -0.1)
        self.assertTrue(answer["ok"])
        self.assertIn("best camera found so far", answer["remarks"][0])

    def test_evidence_reads_every_version_of_the_lens(self):
        lens = {"distortion": {"k1": {"value": 0.1, "plus_minus": 0}, "k2": 0.2, "free": ["k3"]}}
        evidence = read(case("scale_solved") | {"lens": lens})
        self.assertEqual(evidence.coefficients.tolist(), [0.1, 0.2, 0, 0, 0])
        self.assertEqual(evidence.free_coefficients, (2,))
