"""Facts that can't be right, as a length typed in the wrong unit: named, and the path as it is
without them."""

import copy

import numpy as np
from django.test import SimpleTestCase

from aperture.path.solve import solve
from tests.moving import FIRST, document, scene

SEED = 1  # of this one least squares lay the path upside down when one sign is wrong


class FactsThatCantBeRight(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.made = scene("sideways", frames=40, count=150, seed=SEED)
        cls.told = document(cls.made, sliding=0.03, known=5, seed=SEED)
        cls.surveyed = [n for n, one in enumerate(cls.told["tracks"]) if "world" in one]
        cls.right = solve(cls.told).document

    def with_coordinate(self, axis, metres, plus_minus=0.005):
        """The document with a coordinate of the second surveyed track, and its id."""
        told = copy.deepcopy(self.told)
        track = told["tracks"][self.surveyed[1]]
        track["world"][axis], track["world_plus_minus"] = metres, plus_minus
        return told, track["id"]

    def with_fact(self, **fact):
        return self.told | {"facts": [{"id": "f1", **fact}]}, "f1"

    def length(self, factor, ends=(20, 40)):
        a, b = ends
        metres = float(np.linalg.norm(self.made.points[b] - self.made.points[a]))
        told = {"kind": "length", "from": f"t{a}", "to": f"t{b}"}
        return told | {"metres": metres * factor, "plus_minus": 0.005}

    def in_place(self, fit):
        off = np.array(fit["path"]["position_m"]) - self.made.positions
        self.assertLess(np.abs(off / fit["path"]["position_plus_minus_m"]).max(), 4)

    def test_each_is_named_alone_and_moves_nothing(self):
        world = self.told["tracks"][self.surveyed[1]]["world"]
        height = float(self.made.positions[20, 1])
        lens = self.told["lens"] | {"focal_mm": {"value": 50.0, "plus_minus": 0.2}}
        for (wrong, culprit), right in (
            (self.with_coordinate(0, -world[0]), world[0]),  # the other way round
            (self.with_coordinate(1, world[1] + 0.5, 0.0), world[1]),  # beside others with a ±
            (self.with_fact(**self.length(100)), self.length(1)["metres"]),  # in centimetres
            (
                self.with_fact(
                    kind="camera_height", frame=FIRST + 20, metres=10 * height, plus_minus=0.02
                ),
                height,
            ),
            ((self.told | {"lens": lens}, "lens.ln_focal"), 20.0),  # another lens of the set
        ):
            with self.subTest(culprit, right=right):
                anew = solve(wrong).document
                for fit in (anew, solve(wrong, warm=self.right).document):
                    (named,) = fit["conflicts"]
                    self.assertEqual(named["of"], [culprit])
                    self.assertIn("too much to be used", named["says"])
                    implied = float(named["says"].split("would be ")[1].split(" m")[0])
                    self.assertAlmostEqual(implied, right, delta=0.03 + 0.01 * abs(right))
                    self.assertGreater(abs(fit["residuals"]["facts"][culprit]["sigmas"]), 10)
                    self.assertNotIn("not used", [one["kind"] for one in fit["remarks"]])
                    self.in_place(fit)

    def test_two_at_once_and_what_is_right_beside_them(self):
        told, culprit = self.with_coordinate(2, 0.0)
        facts = [{"id": f"f{n}", **self.length(1, (20 + n, 40 + n))} for n in range(4)]
        facts[2]["metres"] *= 3
        fit = solve(told | {"facts": facts}).document
        self.assertEqual({tuple(one["of"]) for one in fit["conflicts"]}, {(culprit,), ("f2",)})
        self.in_place(fit)

    def test_it_is_named_too_where_facts_only_lay_the_path_down(self):
        told, culprit = self.with_fact(**self.length(100))
        fit = solve(told | {"placing": "stand"}).document
        self.assertEqual([one["of"] for one in fit["conflicts"]], [[culprit]])
        self.assertNotIn("not used", [one["kind"] for one in fit["remarks"]])
        self.assertFalse(fit["bending"]["bent"])
        self.in_place(fit)

    def test_of_two_lengths_alone_either_may_be_wrong(self):
        plain = copy.deepcopy(self.told)
        for track in plain["tracks"]:
            track.pop("world", None)
        facts = [{"id": "f1", **self.length(1)}, {"id": "f2", **self.length(10, (21, 41))}]
        for first, last in (facts, facts[::-1]):
            fit = solve(plain | {"facts": [first, last]}).document
            (named,) = fit["conflicts"]
            self.assertEqual(named["of"], [last["id"], first["id"]])
            self.assertIn(f"and “{first['id']}” wrong", named["says"])
            # By the one that was told first.
            long = float(np.linalg.norm(np.subtract(*np.array(fit["path"]["position_m"])[[0, -1]])))
            true = float(np.linalg.norm(self.made.positions[-1] - self.made.positions[0]))
            self.assertAlmostEqual(long / true, 1 if first["id"] == "f1" else 10, delta=0.05)
