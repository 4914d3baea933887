"""The solver: right, honest about its ±, and clear about what it can't know."""

import copy
import io
import json
import tempfile
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from unittest import TestCase

import cv2
import numpy as np
from jsonschema import Draft202012Validator

from aperture.__main__ import main
from aperture.geometry.rotation import rotation_from_angles
from aperture.match.document import InvalidDocument, empty, loads, read, schema, validate
from aperture.match.solve import camera_of, solve
from aperture.match.system import System
from bench.simulated import case, scores


def edge(id_, axis, *points):
    return {
        "id": id_,
        "kind": "edge",
        "axis": axis,
        "points": [list(map(float, point)) for point in points],
    }


CORNER = [
    edge("a", "across", (1000, 300), (1800, 200)),
    edge("b", "across", (1000, 800), (1800, 950)),
    edge("c", "along", (900, 300), (200, 150)),
    edge("d", "along", (900, 800), (200, 1000)),
]
ORIGIN = {"id": "o", "kind": "spot", "at": [950, 800], "world": [0, 0, 0]}
HEIGHT = {"id": "h", "kind": "camera_height", "metres": 1.6, "plus_minus": 0.01}


def document(marks, facts=(), gate=True, **lens):
    out = empty(1920, 1080) | {"marks": list(marks), "facts": list(facts)}
    out["lens"] |= lens
    return out | ({"gate": {"width_mm": 36, "height_mm": 20.25}} if gate else {})


def fit(*arguments, **lens):
    return solve(document(*arguments, **lens)).document


class Accuracy(TestCase):
    def test_errors_are_as_large_as_their_plus_minus_says(self):
        found = scores(60, seed=11)
        self.assertFalse(np.isnan(found).any())
        spread, covered = found.std(axis=0), (np.abs(found) < 1.96).mean(axis=0)
        self.assertTrue(((spread > 0.75) & (spread < 1.3)).all(), spread)
        self.assertTrue((covered >= 0.85).all(), covered)

    def test_the_jacobian_is_the_derivative(self):
        rng = np.random.default_rng(3)
        for projection, k in (
            ("rectilinear", (-0.1, 0.02, -0.003, 0.001, 0.002)),
            ("equidistant", None),
            ("equisolid", None),
            ("stereographic", None),
        ):
            free = (
                {
                    "free": ["k1", "k2", "k3", "p1", "p2"],
                    **dict(zip(("k1", "k2", "k3", "p1", "p2"), k)),
                }
                if k
                else "none"
            )
            marks = [
                edge(f"e{i}", ("across", "up", "along")[i % 3], *(rng.uniform(400, 1000, (3, 2))))
                for i in range(6)
            ]
            marks += [{"id": "b", "kind": "bow", "points": rng.uniform(400, 900, (4, 2)).tolist()}]
            marks += [
                {"id": f"s{i}", "kind": "spot", "at": [700, 500], "world": world}
                for i, world in enumerate(([0, 0, 0], [None] * 3, [None, 0, None], [1, None, 2]))
            ]
            facts = [
                {
                    "id": "l",
                    "kind": "length",
                    "from": "s0",
                    "to": "s1",
                    "metres": 2,
                    "plus_minus": 0.1,
                    "along": "up",
                },
                {
                    "id": "m",
                    "kind": "length",
                    "from": "s2",
                    "to": "s3",
                    "metres": 2,
                    "plus_minus": 0.1,
                },
                HEIGHT,
                {"id": "p", "kind": "camera_position", "metres": [None, 1, 3], "plus_minus": 0.1},
            ]
            system = System(
                read(
                    document(
                        marks,
                        facts,
                        projection=projection,
                        distortion=free,
                        principal_point="free",
                        focal_mm={"value": 20, "plus_minus": 1},
                    )
                )
            )
            start = (
                rotation_from_angles(0.2, -0.1, 0.05),
                system.lens_with_focal(22),
                np.array([1, 1.5, 6.0]),
            )
            state = system.state(*start, rng.random(system.value_count))
            state = system.moved(state, rng.normal(size=system.size) * 0.01)
            _, jacobian = system.evaluate(state)
            steps = np.eye(system.size) * 1e-6
            numeric = np.stack(
                [
                    (
                        system.evaluate(system.moved(state, h))[0]
                        - system.evaluate(system.moved(state, -h))[0]
                    )
                    / 2e-6
                    for h in steps
                ],
                1,
            )
            np.testing.assert_allclose(
                jacobian, numeric, atol=1e-6 * np.abs(jacobian).max(), err_msg=projection
            )

    def test_a_warm_start_gives_the_cold_answer(self):
        start, _ = case(np.random.default_rng(4))
        before = solve(start).document
        moved = copy.deepcopy(start)
        moved["marks"][0]["points"][0][0] += 1.0
        warm, cold = solve(moved, warm=before).document, solve(moved).document
        self.assertAlmostEqual(warm["camera"]["focal_mm"], cold["camera"]["focal_mm"], places=4)
        np.testing.assert_allclose(
            warm["camera"]["position_m"], cold["camera"]["position_m"], atol=1e-4
        )
        # From a fit without a place in the world, with and without spots now.
        bare = fit(CORNER)
        self.assertTrue(solve(document([*CORNER, ORIGIN]), warm=bare).ok)
        self.assertTrue(solve(document(CORNER), warm=bare).ok)


class Honesty(TestCase):
    def test_what_is_missing_is_said(self):
        bare = fit(CORNER)
        self.assertEqual(
            (bare["determined"]["position"], bare["determined"]["scale"]), ("no", "no")
        )
        self.assertEqual(bare["camera"]["position_m"], [None] * 3)
        unscaled = fit([*CORNER, ORIGIN])
        self.assertEqual(unscaled["determined"]["scale"], "no")
        self.assertAlmostEqual(np.linalg.norm(unscaled["camera"]["position_m"]), 1.0)
        self.assertIn(
            "one known length", " ".join(item["would_settle"] for item in unscaled["missing"])
        )
        scaled = fit([*CORNER, ORIGIN], [HEIGHT])
        self.assertEqual(scaled["missing"], [])
        self.assertAlmostEqual(scaled["camera"]["position_m"][1], 1.6, places=6)
        self.assertAlmostEqual(scaled["plus_minus"]["position_m"][1], 0.01, places=6)
        self.assertIsNone(fit([*CORNER, ORIGIN], gate=False)["camera"]["focal_mm"])

    def test_up_points_up_and_across_to_the_right(self):
        for marks in (
            CORNER,
            CORNER[::-1],
            [edge(m["id"], m["axis"], *m["points"][::-1]) for m in CORNER],
        ):
            pose = np.array(
                [
                    [np.nan if v is None else v for v in row]
                    for row in fit(marks)["camera"]["world_from_camera"]
                ],
                float,
            )
            self.assertGreater(pose[1, 1], 0)
            self.assertGreater(pose[0, 0], 0)
            self.assertAlmostEqual(np.linalg.det(pose[:3, :3]), 1.0)

    def test_known_spots_win_over_the_rule(self):
        data, truth = case(np.random.default_rng(8))
        flipped = np.array(
            [-1.0, 1.0, -1.0]
        )  # the same room, its across and along counted the other way
        for index, px in enumerate(([900, 900], [2100, 800], [1500, 1500])):
            point = truth.position + truth.rays([px])[0] * (5 + index)
            data["marks"].append(
                {
                    "id": f"k{index}",
                    "kind": "spot",
                    "at": list(map(float, px)),
                    "world": (point * flipped).tolist(),
                }
            )
        found = solve(data).document["camera"]
        np.testing.assert_allclose(
            np.array(found["position_m"]) * flipped, truth.position, atol=0.05
        )

    def test_no_camera_gets_a_sentence_that_names_why(self):
        for marks, words in (
            ([], "Nothing is marked"),
            (
                [
                    edge("a", "along", (100, 900), (700, 600)),
                    edge("b", "along", (1800, 950), (1200, 600)),
                ],
                "All edges run along",
            ),
            ([*CORNER, edge("z", "up", (5, 5), (5, 5))], "“z” has no length"),
            (
                [
                    edge("a", "across", (100, 900), (1700, 900)),
                    edge("b", "across", (100, 100), (1700, 100)),
                    edge("c", "up", (100, 900), (100, 100)),
                    edge("d", "up", (1700, 900), (1700, 100)),
                ],
                "across and up are parallel in the picture",
            ),
            (
                [
                    edge("a", "across", (100, 900), (700, 700)),
                    edge("b", "across", (100, 100), (700, 250)),
                    edge("c", "along", (150, 800), (800, 650)),
                    edge("d", "along", (150, 200), (800, 330)),
                ],
                "square of the focal length negative",
            ),
        ):
            answer = fit(marks)
            self.assertFalse(answer["ok"])
            self.assertIn(words, answer["problem"])
        self.assertIn("“d”", answer["problem"])
        self.assertIn(
            "left free",
            fit([*CORNER, ORIGIN], principal_point="free", distortion={"free": ["k1"]})["problem"],
        )

    def test_an_ambiguous_answer_is_not_given(self):
        three = [CORNER[0], CORNER[2], edge("u", "up", (950, 300), (955, 800))]
        answer = fit([*three, ORIGIN], [HEIGHT], focal_mm={"value": 22.7, "plus_minus": 0})
        self.assertIn("more than one camera", answer["problem"])
        points = np.array([[0, 0, 0], [1, 0, 0], [0, 2, 0.0]])
        _, camera = case(np.random.default_rng(2))
        spots = [
            {"id": f"s{i}", "kind": "spot", "at": at.tolist(), "world": point.tolist()}
            for i, (at, point) in enumerate(zip(camera.project(points), points))
        ]
        data = empty(3000, 2000) | {"gate": {"width_mm": 36, "height_mm": 24}, "marks": spots}
        data["lens"]["focal_mm"] = {"value": camera.lens.focal_mm, "plus_minus": 0}
        # Three points: up to four cameras (Grunert 1841). OpenCV finds two for these, and nothing
        # tells them apart.
        cameras, *_ = cv2.solveP3P(
            points, camera.project(points), camera.intrinsic_matrix(), None, cv2.SOLVEPNP_P3P
        )
        self.assertEqual(cameras, 2)
        self.assertIn("more than one camera", solve(data).document["problem"])

    def test_facts_that_disagree_are_named_and_not_resolved(self):
        top = {"id": "t", "kind": "spot", "at": [950, 300]}
        door = {
            "id": "door",
            "name": "Doorway",
            "kind": "length",
            "from": "o",
            "to": "t",
            "metres": 2.0,
            "plus_minus": 0.005,
            "along": "up",
        }
        answer = fit([*CORNER, ORIGIN, top], [door, HEIGHT])
        self.assertTrue({"door", "h"} <= set(answer["conflicts"][0]["of"]))
        alone = fit([*CORNER, ORIGIN, top], [HEIGHT, door | {"plus_minus": 50.0}])
        implied = alone["residuals"]["facts"]["door"]["metres"] + 2.0
        self.assertIn(
            f"“Doorway” would be {implied:.3f} m long, not 2.000", answer["conflicts"][0]["says"]
        )
        self.assertEqual(
            fit([*CORNER, ORIGIN, top], [door | {"off": True}, HEIGHT])["conflicts"], []
        )
        given = fit([*CORNER, ORIGIN], focal_mm={"value": 24, "plus_minus": 0.2})
        self.assertIn("focal length", given["conflicts"][0]["of"])
        self.assertEqual(
            fit([*CORNER, ORIGIN], focal_mm={"value": 22.7, "plus_minus": 0})["determined"][
                "focal"
            ],
            "given",
        )

    def test_one_bent_edge_among_many_is_found(self):
        data, _ = case(np.random.default_rng(21))
        data["marks"][2]["points"][0][1] += 12.0
        self.assertEqual(solve(data).document["conflicts"][0]["of"], ["e2"])


class Documents(TestCase):
    def test_what_json_from_outside_may_not_hold(self):
        """RFC 8259: no NaN (section 6), and halves of surrogate pairs are unpredictable (section
        8.2)."""
        for text, says in (
            ('{"a": NaN}', "no NaN"),
            ('["\\ud83d"]', "half a character"),
            ("[" * 100_000, "not JSON"),
            (b"\xff\xfe[]", "not JSON"),
            ("", "not JSON"),
        ):
            with self.assertRaisesRegex(InvalidDocument, says, msg=text[:20]):
                loads(text)
        self.assertEqual(loads('["\\ud83d\\udd26"]'), ["\U0001f526"])
        self.assertEqual(loads(b'\xef\xbb\xbf{"a": 1}'), {"a": 1})  # with a byte order mark

    def test_the_schema_is_a_schema(self):
        Draft202012Validator.check_schema(schema())

    def test_broken_documents_name_the_place(self):
        good = document([*CORNER, ORIGIN], [HEIGHT])
        astray = {
            "id": "x",
            "kind": "length",
            "from": "o",
            "to": "no",
            "metres": 1,
            "plus_minus": 1,
        }
        for change, place in (
            (lambda d: d["marks"][1].update(axis="sideways"), "/marks/1/axis"),
            (lambda d: d.update(version=2), "/version"),
            (lambda d: d["gate"].update(width_mm=0), "/gate/width_mm"),
            (lambda d: d["marks"][0].update(points=[[1, 2]]), "/marks/0/points"),
            (
                lambda d: d["marks"][2]["points"][0].__setitem__(0, float("nan")),
                "/marks/2/points/0/0",
            ),
            (lambda d: d["marks"][0].update(id="b"), "/marks/1/id"),
            (lambda d: d["facts"].append(astray), "/facts/1/to"),
        ):
            broken = copy.deepcopy(good)
            change(broken)
            with self.assertRaises(InvalidDocument) as caught:
                validate(broken)
            self.assertEqual(caught.exception.place, place)
        for text in ("{", "[1, NaN]", "[" * 100000):
            with self.assertRaises(InvalidDocument):
                validate(loads(text))

    def test_command_line(self):
        with tempfile.TemporaryDirectory() as folder:
            good, empty_, bad = (
                Path(folder) / name for name in ("good.json", "empty.json", "bad.json")
            )
            good.write_text(json.dumps(document([*CORNER, ORIGIN], [HEIGHT])))
            empty_.write_text(json.dumps(document([])))
            bad.write_text('{"format": "accurate-aperture/match"}')
            out, err = io.StringIO(), io.StringIO()
            with redirect_stdout(out), redirect_stderr(err):
                self.assertEqual(main(["solve", str(good), str(empty_)]), 0)
                self.assertEqual(main(["solve", str(bad)]), 2)
                self.assertEqual(main(["solve", str(Path(folder) / "none.json")]), 2)
            lines = [json.loads(line) for line in out.getvalue().splitlines()]
            self.assertEqual([line["ok"] for line in lines], [True, False, False, False])
            camera = camera_of(lines[0], document([*CORNER, ORIGIN], [HEIGHT]))
            np.testing.assert_allclose(camera.project([[0, 0, 0]])[0], [950, 800], atol=1e-3)
