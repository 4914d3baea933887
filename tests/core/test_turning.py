"""The world of a match turned, shifted, its axes renamed; the file's word on lens and size."""

from unittest import TestCase

import numpy as np

from aperture.errors import Problem
from aperture.match import turning
from aperture.match.file_focal import compare
from aperture.match.solve import solve
from aperture.plates.original import explain
from bench import hard_cases


def evidence():
    """Edges, known and partly known spots, a plumb length, a plane, a camera position."""
    scene = hard_cases.Scene(np.random.default_rng(6))
    scene.edges(12)
    top = np.array([0.0, 1.2, 0.0])
    scene.spot("s0", np.zeros(3), world=[0.0, 0.0, 0.0])
    scene.spot("s1", top)
    scene.length("s0", "s1", 1.2, along="up")
    point = scene.seen()
    scene.spot("s2", point, world=[None, round(float(point[1]), 6), None])
    known = scene.seen().round(6)
    scene.spot("s3", known, world=known.tolist())
    place = scene.camera.position.round(6)
    fact = {"id": "p", "kind": "camera_position", "metres": [float(place[0]), None, None]}
    scene.facts.append(fact | {"plus_minus": 0.05})
    document = scene.case().document
    document["planes"] = [{"id": "shelf", "axis": "across", "metres": 0.7}]
    return document, scene.camera


class Turned(TestCase):
    def test_the_camera_turns_with_the_world(self):
        document, _ = evidence()
        before = np.array(solve(document).document["camera"]["world_from_camera"])
        for axis in ("across", "up", "along"):
            turn, shift = turning.quarter_turn(axis), np.array([0.5, -1.0, 2.0])
            changed = document | turning.turned(document, turn, shift)
            answer = solve({key: changed[key] for key in changed if key != "survey"}).document
            after = np.array(answer["camera"]["world_from_camera"])
            np.testing.assert_allclose(after[:3, 3], turn @ before[:3, 3] + shift, atol=0.02)
            self.assertEqual(answer["conflicts"], [])

    def test_four_quarters_are_none(self):
        document, _ = evidence()
        changed = document
        for _ in range(4):
            changed = changed | turning.turned(changed, turning.quarter_turn("up"))
        for part in ("marks", "facts", "planes"):
            self.assertEqual(changed[part], document[part])

    def test_a_plane_becomes_the_floor(self):
        document, _ = evidence()
        turn, shift = turning.floor_from("across", 0.7)
        plane = turning.turned(document, turn, shift)["planes"][0]
        self.assertEqual((plane["axis"], plane["metres"]), ("up", 0.0))
        np.testing.assert_allclose(np.linalg.det(turn), 1)

    def test_facts_that_belong_to_the_old_floor_are_not_turned(self):
        for fact in (
            {"id": "h", "kind": "camera_height", "metres": 1.6, "plus_minus": 0.01},
            {"id": "r", "kind": "camera_angle", "of": "roll", "degrees": 0, "plus_minus": 1},
        ):
            document = evidence()[0] | {"facts": [fact]}
            with self.assertRaises(Problem):
                turning.turned(document, turning.quarter_turn("along"))
            turning.turned(document, turning.quarter_turn("up"))
        pan = {"id": "r", "kind": "camera_angle", "of": "pan", "degrees": 10, "plus_minus": 1}
        turned = turning.turned({"facts": [pan]}, turning.quarter_turn("up"))["facts"][0]
        self.assertAlmostEqual(turned["degrees"], 100)

    def test_letters_swapped(self):
        marks = [{"kind": "edge", "axis": "up"}, {"kind": "edge", "axis": "along"}, {"kind": "bow"}]
        axes = [mark.get("axis") for mark in turning.swapped(marks, "up", "across")]
        self.assertEqual(axes, ["across", "along", None])


class SeveralHeights(TestCase):
    def test_are_one_question(self):
        document, camera = evidence()
        height = float(camera.position[1])
        document["facts"] += [
            {
                "id": f"h{i}",
                "name": f"Height {i}",
                "kind": "camera_height",
                "metres": value,
                "plus_minus": 0.01,
            }
            for i, value in enumerate((height, height + 0.3, height - 0.4, height + 1, height + 2))
        ]
        conflicts = solve(document).document["conflicts"]
        self.assertEqual(len(conflicts), 1)
        self.assertIn("given 5 times", conflicts[0]["says"])


class TheFilesWord(TestCase):
    def test_a_focal_length_that_differs_is_told(self):
        document, camera = evidence()
        fit = solve(document).document
        true = camera.lens.focal_mm
        self.assertIsNone(compare(fit, true))
        self.assertIsNone(compare(fit, None))
        told = compare(fit, true * 1.4)
        self.assertGreater(told.sigmas, 3)
        self.assertIn(f"The file says {true * 1.4:g} mm", told.says)

    def test_what_became_of_the_cameras_picture(self):
        for original, picture, words in (
            ((3264, 2448), (3264, 2448), ""),
            ((3264, 2448), (2448, 3264), ""),
            ((3264, 2448), (751, 563), "resized to 23.0%, whole"),
            ((4000, 3000), (4000, 2250), "cropped to 2250 of 3000 rows"),
            ((4000, 3000), (2000, 1125), "cropped to 1125 of 1500 rows"),
            ((4000, 3000), (1500, 2000), "turned on its side, and resized to 50.0%"),
        ):
            told = explain(original, picture)
            self.assertIn(words, told)
            self.assertEqual(bool(words), bool(told))
