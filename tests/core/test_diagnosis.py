"""What the artist is told: residuals, conflicts, sentences; and evidence of every shape in the
document."""

import copy
from unittest import TestCase

import numpy as np

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match.document import AXES, empty, label, read, validate
from aperture.match.solve import camera_of, solve
from aperture.scene import overlay
from bench.simulated import case

SIZE = (1920, 1080)
GRID = Grid.from_gate(*SIZE, 36, 20.25)


def room(camera, count=12, noise=0.3, seed=5, **lens):
    """A document of edges that `camera` sees, five points each, an origin and the camera's height;
    all with a known error."""
    rng = np.random.default_rng(seed)
    document = empty(*SIZE) | {
        "gate": {"width_mm": 36, "height_mm": 20.25, "squeeze": camera.lens.squeeze}
    }
    document["lens"] |= lens
    while len(document["marks"]) < count:
        middle = camera.position + camera.rays([rng.uniform([0, 0], SIZE)])[0] * rng.uniform(3, 9)
        axis = len(document["marks"]) % 3
        at = camera.project(
            middle + np.linspace(-1, 1, 5)[:, None] * rng.uniform(0.6, 2.5) * np.eye(3)[axis]
        )
        if (
            np.isfinite(at).all()
            and (at > 0).all()
            and (at < SIZE).all()
            and np.linalg.norm(at[0] - at[-1]) > 220
        ):
            document["marks"].append(
                {
                    "id": f"e{len(document['marks'])}",
                    "kind": "edge",
                    "axis": AXES[axis],
                    "points": (at + rng.normal(size=at.shape) * noise).tolist(),
                    "sigma_px": noise,
                }
            )
    origin = camera.project([[0, 0, 0]])[0] + rng.normal(size=2) * noise
    document["marks"].append(
        {"id": "o", "kind": "spot", "at": origin.tolist(), "world": [0, 0, 0], "sigma_px": noise}
    )
    document["facts"].append(
        {
            "id": "h",
            "kind": "camera_height",
            "metres": float(camera.position[1]),
            "plus_minus": 0.01,
        }
    )
    return document


def camera(lens=None):
    return Camera.at(GRID, lens or Lens(28), (3, 1.6, 6), *np.radians([25, -8, 1]))


class Lenses(TestCase):
    def close(self, fit, truth, most=4):
        self.assertTrue(fit["ok"], fit.get("problem"))
        found, pm = fit["camera"], fit["plus_minus"]
        self.assertLess(abs(found["focal_mm"] - truth.lens.focal_mm), most * pm["focal_mm"])
        self.assertLess(
            np.abs((np.array(found["position_m"]) - truth.position) / pm["position_m"]).max(), most
        )
        for name, angle in zip(("pan", "tilt", "roll"), np.degrees(truth.angles)):
            self.assertLess(abs(found[f"{name}_deg"] - angle), most * pm[f"{name}_deg"])

    def test_every_kind_of_lens_that_a_document_may_name(self):
        for lens, said in (
            (Lens(50, 2.0), {}),
            (Lens(14, projection="equidistant"), {"projection": "equidistant"}),
            (Lens(14, projection="equisolid"), {"projection": "equisolid"}),
            (Lens(14, projection="stereographic"), {"projection": "stereographic"}),
            (
                Lens(24, coefficients=(-0.15, 0.04, 0, 0.001, 0)),
                {"distortion": {"k1": -0.15, "k2": 0.04, "p1": 0.001}},
            ),
            (
                Lens(26, centre_mm=tuple(GRID.to_mm([[990.0, 520.0]])[0])),
                {"principal_point": [990.0, 520.0]},
            ),
        ):
            with self.subTest(lens=lens):
                self.close(solve(room(camera(lens), **said)).document, camera(lens))

    def test_what_is_free_is_solved_with_its_plus_minus(self):
        truth = camera(
            Lens(
                24,
                coefficients=(-0.15, 0.04, 0, 0.001, 0),
                centre_mm=tuple(GRID.to_mm([[990.0, 520.0]])[0]),
            )
        )
        document = room(
            truth, 18, principal_point="free", distortion={"k2": 0.04, "p1": 0.001, "free": ["k1"]}
        )
        fit = solve(document).document
        self.close(fit, truth)
        self.assertEqual(
            (fit["determined"]["principal_point"], fit["determined"]["distortion"]),
            ("solved", "solved"),
        )
        self.assertLess(
            abs(fit["camera"]["distortion"]["k1"] + 0.15), 4 * fit["plus_minus"]["distortion"]["k1"]
        )
        off = (np.array(fit["camera"]["principal_point_px"]) - [990, 520]) / fit["plus_minus"][
            "principal_point_px"
        ]
        self.assertLess(np.abs(off).max(), 4)
        self.assertEqual(fit["camera"]["distortion"]["k2"], 0.04)

    def test_bows_tell_the_distortion(self):
        truth, rng = camera(Lens(24, coefficients=(-0.2, 0, 0, 0, 0))), np.random.default_rng(2)
        document = room(truth, 12, distortion={"free": ["k1"]})
        before = solve(document).document["plus_minus"]["distortion"]["k1"]
        for index, y in enumerate((60, 1000)):
            ends = truth.position + truth.rays([[100, y], [1820, y]]) * 5
            at = (
                truth.project(ends[0] + np.linspace(0, 1, 15)[:, None] * (ends[1] - ends[0]))
                + rng.normal(size=(15, 2)) * 0.3
            )
            document["marks"].append(
                {"id": f"b{index}", "kind": "bow", "points": at.tolist(), "sigma_px": 0.3}
            )
        fit = solve(document).document
        self.assertLess(fit["plus_minus"]["distortion"]["k1"], before)
        self.assertLess(
            abs(fit["camera"]["distortion"]["k1"] + 0.2), 4 * fit["plus_minus"]["distortion"]["k1"]
        )

    def test_the_camera_of_a_fit_is_the_camera_of_the_fit(self):
        document = room(
            camera(Lens(24, coefficients=(-0.15, 0.04, 0, 0.001, 0))),
            distortion={"k1": -0.15, "k2": 0.04, "p1": 0.001},
        )
        fit = solve(document)
        world = np.array([[0.5, 0.2, 0.1], [1.0, 1.0, -1.0]])
        np.testing.assert_allclose(
            camera_of(fit.document, document).project(world), fit.camera.project(world), atol=1e-6
        )
        with self.assertRaises(Problem):
            camera_of(solve(empty(*SIZE)).document, empty(*SIZE))


class Evidence(TestCase):
    def test_switched_off_means_not_used_and_kept(self):
        document = room(camera())
        bent = copy.deepcopy(document)
        bent["marks"][0]["points"][0][1] += 40
        bent["marks"][0]["off"] = True
        without = copy.deepcopy(document)
        del without["marks"][0]
        self.assertEqual(solve(bent).document["camera"], solve(without).document["camera"])
        bent["facts"][0]["off"] = True
        self.assertEqual(solve(bent).document["determined"]["scale"], "no")

    def test_lengths_of_every_kind(self):
        truth = camera()
        places = {"a": [2.0, 0, 1.0], "b": [1.0, 0, -1.0], "c": [2.0, 1.5, 1.0]}
        document = room(truth)
        document["facts"] = []
        for id_, place in places.items():
            document["marks"].append(
                {
                    "id": id_,
                    "kind": "spot",
                    "at": truth.project([place])[0].tolist(),
                    "sigma_px": 0.3,
                    "world": [None, 0, None] if place[1] == 0 else [None] * 3,
                }
            )
        straight = {
            "id": "ab",
            "kind": "length",
            "from": "a",
            "to": "b",
            "metres": 5**0.5,
            "plus_minus": 0.005,
        }
        upright = {
            "id": "ac",
            "kind": "length",
            "from": "c",
            "to": "a",
            "metres": 1.5,
            "plus_minus": 0.005,
            "along": "up",
        }
        for facts, spot in (([straight], "b"), ([upright], "c"), ([straight, upright], "c")):
            fit = solve(document | {"facts": facts}).document
            self.assertEqual(fit["determined"]["scale"], "solved")
            off = np.array(fit["spots"][spot]["world_m"]) - places[spot]
            sd = np.array(fit["spots"][spot]["plus_minus_m"])
            self.assertLess(np.abs(off[sd > 0] / sd[sd > 0]).max(), 4)
        apart = (
            document["marks"][-3] | {"world": [0.0, 0, None]},
            document["marks"][-1] | {"world": [1.0, None, None]},
        )
        answer = solve(
            document
            | {
                "marks": [*document["marks"][:-3], document["marks"][-2], *apart],
                "facts": [upright],
            }
        ).document
        self.assertIn("share their place across", answer["problem"])

    def test_camera_position_facts(self):
        truth = camera()
        document = room(truth)
        document["facts"] = [
            {"id": "p", "kind": "camera_position", "metres": [3.0, None, 6.0], "plus_minus": 0.01}
        ]
        fit = solve(document).document
        self.assertEqual(fit["determined"]["position"], "solved")
        self.assertAlmostEqual(
            fit["camera"]["position_m"][1], 1.6, delta=4 * fit["plus_minus"]["position_m"][1]
        )
        no_spots = document | {"marks": document["marks"][:-1]}
        self.assertIsNone(solve(no_spots).document["camera"]["position_m"][1])

    def test_residuals_are_in_their_own_units(self):
        document = room(camera())
        document["facts"].append(
            {"id": "wrong", "kind": "camera_height", "metres": 1.7, "plus_minus": 0.01}
        )
        fit = solve(document).document
        self.assertAlmostEqual(fit["residuals"]["facts"]["wrong"]["metres"], -0.05, places=4)
        self.assertAlmostEqual(fit["residuals"]["facts"]["wrong"]["sigmas"], -5, places=2)
        self.assertAlmostEqual(
            fit["camera"]["position_m"][1], 1.65, places=4
        )  # of two equally sure facts, the middle: nothing forced
        self.assertEqual(set(fit["conflicts"][0]["of"]), {"h", "wrong"})
        self.assertAlmostEqual(fit["conflicts"][0]["sigmas"], 0.1 / (0.01 * 2**0.5), places=1)
        self.assertIn("would be 1.600 m, not 1.700", fit["conflicts"][0]["says"])

    def test_a_wrong_fact_is_told_from_right_ones_and_few_alarms_are_false(self):
        rng, named, false = np.random.default_rng(31), 0, 0
        for _ in range(25):
            document, _ = case(rng)
            false += bool(solve(document).document["conflicts"])
            bad = document["marks"][rng.integers(4)]
            bad["points"][1][1] += 25.0
            bad["points"][0][1] -= 25.0
            found = solve(document).document
            named += (
                found["ok"]
                and bool(found["conflicts"])
                and bad["id"] in found["conflicts"][0]["of"]
            )
        self.assertLessEqual(false, 3)
        self.assertGreaterEqual(named, 19)

    def test_names_are_used_in_sentences(self):
        document = room(camera())
        document["marks"][3] |= {"name": "Bench front"}
        document["marks"][3]["points"] = (
            np.array(document["marks"][3]["points"]) + np.outer(np.linspace(-20, 20, 5), [0, 1])
        ).tolist()
        self.assertIn("“Bench front”", solve(document).document["conflicts"][0]["says"])
        self.assertEqual(
            (
                label({"id": "x"}),
                label({"id": "x", "name": ""}),
                label({"id": "x", "name": "Door"}),
            ),
            ("x", "x", "Door"),
        )

    def test_a_focal_length_without_a_gate_means_nothing(self):
        document = room(camera(), focal_mm={"value": 28, "plus_minus": 0.1})
        validate(document)
        del document["gate"]
        with self.assertRaises(Problem):
            read(document)
        self.assertIn("gate", solve(document).document["problem"])


class Overlay(TestCase):
    def test_residual_feet_lie_on_lines_through_the_vanishing_point(self):
        seen = camera()
        points = np.array([[400.0, 300.0], [700.0, 330.0], [1000.0, 335.0]])
        feet, other = overlay.edge_misses(seen, [(points, 0), (points[:2], 1)])
        self.assertEqual(other.shape, (2, 2))
        vanishing = overlay.vanishing_points(seen)[0]
        a, b = feet[0] - vanishing, feet[2] - vanishing
        self.assertAlmostEqual(
            (a[0] * b[1] - a[1] * b[0]) / np.linalg.norm(a) / np.linalg.norm(b), 0, places=9
        )
        self.assertLess(np.linalg.norm(feet - points, axis=1).max(), 30)

    def test_horizon_is_level_with_the_camera(self):
        seen = camera()
        piece = max(overlay.horizon(seen), key=len)
        rays = seen.rays(piece[(piece > 0).all(axis=1) & (piece < SIZE).all(axis=1)])
        np.testing.assert_allclose(rays[:, 1], 0, atol=1e-9)
        self.assertEqual(overlay.vanishing_points(camera(Lens(28)))[2].shape, (2,))

    def test_a_grid_line_that_crosses_the_camera_is_cut_in_front(self):
        seen = camera()
        pieces = overlay.polyline(seen, [3.2, 0, -20], [3.2, 0, 30])
        self.assertEqual(len(pieces), 1)
        self.assertTrue((np.abs(pieces[0] - np.array(SIZE) / 2) <= 4.51 * np.array(SIZE)).all())
