"""One thing typed wrong in a photograph's match: it is named, and not the good marks around it."""

import json

import numpy as np
from django.test import SimpleTestCase

from aperture.match.solve import solve
from bench.simulated import case


def surveyed(seed):
    """Edges, an origin, a length, seven places known to 5 mm and the camera's height."""
    rng = np.random.default_rng(seed)
    data, camera = case(rng)
    px = rng.uniform([300, 200], [2700, 1800], (7, 2))
    places = camera.position + camera.rays(px) * rng.uniform(4, 12, (7, 1))
    seen = camera.project(places) + rng.normal(0, 0.5, (7, 2))
    places += rng.normal(0, 0.005, places.shape)
    for number, (at, place) in enumerate(zip(seen.tolist(), places.tolist())):
        mark = {"id": f"s{number}", "kind": "spot", "at": at, "sigma_px": 0.5, "world": place}
        data["marks"].append(mark | {"world_plus_minus": 0.005})
    height = {"id": "h", "kind": "camera_height", "metres": float(camera.position[1])}
    data["facts"].append(height | {"plus_minus": 0.01})
    return data


def blamed(fit):
    """Whom it names: of each conflict, or of the refusal."""
    return [conflict["of"] for conflict in fit["conflicts"]] if fit["ok"] else [fit.get("of")]


class Mistakes(SimpleTestCase):
    def mark(self, data, id_):
        return next(mark for mark in data["marks"] if mark["id"] == id_)

    def test_a_sign_and_axes_exchanged(self):
        refused = set()
        for seed in (0, 3, 19):
            data = surveyed(seed)
            self.assertEqual(blamed(solve(data).document), [])
            sign, swap = (json.loads(json.dumps(data)) for _ in range(2))
            self.mark(sign, "s2")["world"][0] *= -1
            world = self.mark(swap, "s3")["world"]
            world[1], world[2] = world[2], world[1]
            for wrong, id_ in ((sign, "s2"), (swap, "s3")):
                fit = solve(wrong).document
                self.assertEqual(blamed(fit), [[id_]], (seed, id_))
                refused.add(fit["ok"])
                if not fit["ok"]:
                    self.assertIn(f"The place of “{id_}” can't be right", fit["problem"])
                    self.assertRegex(fit["problem"], r"seen \d+ px from the mark|behind the camera")
        self.assertEqual(refused, {True, False})  # both kinds of answer were seen

    def test_a_length_in_centimetres_and_the_place_that_it_hangs_on(self):
        """The length runs from the origin to a spot that nothing else places: either of them may be
        wrong, and both are told."""
        for seed in (0, 1):
            data = surveyed(seed)
            data["facts"][0]["metres"] *= 100
            (ids,) = blamed(solve(data).document)
            self.assertEqual(set(ids), {data["facts"][0]["id"], "origin"})

    def test_a_height_says_what_the_rest_makes_of_it(self):
        data = surveyed(2)
        right = data["facts"][-1]["metres"]
        data["facts"][-1]["metres"] *= 0.1
        (conflict,) = solve(data).document["conflicts"]
        self.assertEqual(conflict["of"], ["h"])
        self.assertRegex(conflict["says"], rf"would be {right:.1f}\d* m")
