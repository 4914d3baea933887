"""Two tracks one of which lies along an axis from the other: they turn a path, and as exactly as
they say."""

from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase

from aperture.geometry.rotation import angles_from_rotation
from aperture.match.document import AXES
from aperture.path.document import as_still
from aperture.path.facts import Direction
from aperture.path.problem import State
from aperture.path.solve import solve
from tests.moving import FIRST, LENS, document, scene

FLOOR = 6  # tracks on it


def on_a_line(seed, off_deg=0.0, axis="across"):
    """A walk past a floor, t0 in its middle and t1 2 m further along an axis, but for an error."""
    made = scene("sideways", frames=14, count=80, seed=seed)
    rng = np.random.default_rng([seed, 3])
    points = made.points.copy()
    points[:FLOOR] = np.stack(
        [rng.uniform(-2, 2, FLOOR), np.zeros(FLOOR), rng.uniform(-8, -5, FLOOR)], axis=1
    )
    points[0] = [-1.0, 0.0, -6.0]
    way, number = np.eye(3)[AXES.index(axis)], AXES.index(axis)
    away = rng.normal(0, np.radians(off_deg), 3) * (np.arange(3) != number)
    points[1] = points[0] + 2 * way + 2 * away * (np.arange(3) != 1)
    seen = np.array([camera.project(points) for camera in made.cameras])
    seen[((seen < 0) | (seen > (1920, 1080))).any(axis=2)] = np.nan
    return replace(made, points=points, seen=seen)


def told_of(made, seed=0, plus_minus=0.5, **more):
    told = document(made, seed=seed)
    for track in told["tracks"][1:FLOOR]:
        track["world"] = [None, 0, None]
    told["tracks"][0]["world"] = made.points[0].tolist()
    fact = {"id": "d", "kind": "direction", "from": "t0", "to": "t1", "along": "across"}
    tall = {"id": "h", "kind": "camera_height", "frame": FIRST, "plus_minus": 0.01}
    height = float(made.positions[0, 1])
    told["facts"] = [fact | {"plus_minus": plus_minus} | more, tall | {"metres": height}]
    return told


class Directions(SimpleTestCase):
    def test_derivatives_are_those_of_the_residuals(self):
        rng, step = np.random.default_rng(1), 1e-6
        for turned in (0.0, 0.4, 1.5, 3.0):
            points = rng.normal(0, 1, (3, 3))
            points[2] = points[0] + 1.7 * np.array([np.cos(turned), np.sin(turned), 0.0])
            state = State(
                np.eye(3)[None], np.zeros((1, 3)), np.zeros(1), LENS.parameters, points, np.zeros(0)
            )
            fact = Direction("d", 0.01, 0, 2, 0)
            rows = fact.rows(state)
            self.assertAlmostEqual(np.hypot(*[row.residual for row in rows]) * 0.01, turned)
            for end, point in ((0, 0), (1, 2)):
                for axis in range(3):
                    sides = []
                    for sign in (1, -1):
                        moved = points.copy()
                        moved[point, axis] += sign * step
                        moved = fact.rows(replace(state, points=moved))
                        sides.append(np.array([row.residual for row in moved]))
                    slope = (sides[0] - sides[1]) / (2 * step)
                    np.testing.assert_allclose(
                        [row.by_points[end, axis] for row in rows], slope, atol=1e-3
                    )

    def test_a_path_is_turned_as_exactly_as_the_line_is_known(self):
        off = []
        for seed in range(12):
            made = on_a_line(seed, off_deg=0.5)
            fit = solve(told_of(made, seed)).document
            self.assertTrue(fit["ok"], fit.get("problem"))
            self.assertEqual(fit["determined"]["heading"], "solved")
            true = np.degrees(angles_from_rotation(made.cameras[7].rotation)[0])
            pan, spread = fit["path"]["pan_deg"], fit["path"]["direction_plus_minus_deg"]
            self.assertTrue(0.4 < spread[7][0] < 0.8, spread[7])
            off.append((pan[7] - true) / spread[7][0])
        self.assertTrue(0.55 < np.sqrt(np.mean(np.square(off))) < 1.5, off)

    def test_without_it_the_heading_isn_t_set_and_its_sense_counts(self):
        made = on_a_line(3)
        told = told_of(made)
        bare = solve(told | {"facts": told["facts"][1:]}).document
        self.assertEqual(bare["determined"]["heading"], "no")
        right, turned = (
            solve(told_of(made, **ends)).document["path"]["pan_deg"][0]
            for ends in ({}, {"from": "t1", "to": "t0"})
        )
        self.assertAlmostEqual(abs(right - turned), 180, delta=1)

    def test_one_that_is_wrong_is_named_and_by_how_much(self):
        made = on_a_line(5)
        told = told_of(made, plus_minus=0.2)
        told["tracks"][2]["world"] = made.points[2].tolist()
        told["tracks"][3]["world"] = made.points[3].tolist()
        self.assertEqual(solve(told).document["conflicts"], [])
        told["facts"][0]["to"] = "t2"
        way = made.points[2] - made.points[0]
        wrong = np.degrees(np.arccos(way[0] / np.linalg.norm(way)))
        (named,) = solve(told).document["conflicts"]
        self.assertEqual(named["of"], ["d"])
        said = float(named["says"].split("would run ")[1].split("°")[0])
        self.assertAlmostEqual(said, wrong, delta=0.1 * wrong + 0.5)

    def test_on_one_frame_it_is_an_edge(self):
        made = on_a_line(2)
        told = told_of(made)
        told["frames"] = {"first": FIRST + 3, "last": FIRST + 3}
        still = as_still(told)
        (edge,) = [mark for mark in still["marks"] if mark["kind"] == "edge"]
        np.testing.assert_allclose(edge["points"], made.seen[3, :2], atol=1.5)
        self.assertEqual(edge["axis"], "across")
        across = np.radians(0.5) * np.linalg.norm(np.diff(edge["points"], axis=0))
        self.assertAlmostEqual(edge["sigma_px"], np.hypot(across, 0.2 * 2**0.5) / 2**0.5, places=2)
        self.assertEqual(still["facts"], [])
