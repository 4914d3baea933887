"""Evidence beyond edges and spots: facts about the camera, planes, surveys; what the fit leans on;
advice, the kit, how far the floor can be trusted."""

import copy
import re
from unittest import TestCase

import numpy as np
import trimesh
from jsonschema import Draft202012Validator

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.formats import survey
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match.advise import QUANTITIES, advise
from aperture.match.document import InvalidDocument, read, schema
from aperture.match.kit import choices, zooms_that_reach
from aperture.match.reach import Reach, ellipse
from aperture.match.solve import find, solve
from aperture.match.system import System
from bench.mixed import Scene, case, efficiency, errors, study
from tests.core.test_match import CORNER, HEIGHT, ORIGIN, document, fit


class Facts(TestCase):
    def test_derivatives_of_every_kind(self):
        marks = [
            *CORNER,
            ORIGIN,
            {
                "id": "t",
                "kind": "spot",
                "at": [980, 500],
                "world": [0.1, 1.2, 0.3],
                "world_plus_minus": 0.02,
            },
            {"id": "u", "kind": "spot", "at": [1200, 700], "on": "p"},
            {"id": "v", "kind": "spot", "at": [1300, 760], "on": "p"},
        ]
        facts = [
            HEIGHT,
            {"id": "r", "kind": "camera_angle", "of": "roll", "degrees": 0, "plus_minus": 0.5},
            {"id": "n", "kind": "camera_angle", "of": "pan", "degrees": 179, "plus_minus": 0.5},
            {
                "id": "w",
                "kind": "angle_of_view",
                "basis": "diagonal",
                "degrees": 70,
                "plus_minus": 1,
            },
            {"id": "z", "kind": "focal_range", "from_mm": 60, "to_mm": 80, "plus_minus": 1},
            {"id": "l", "kind": "length", "from": "u", "to": "v", "metres": 1, "plus_minus": 0.1},
        ]
        data = document(
            marks, facts, focal_mm={"value": 30, "plus_minus": 1}, distortion={"free": ["k1"]}
        ) | {"planes": [{"id": "p", "axis": "up", "metres": None}]}
        Draft202012Validator(schema()).validate(data)
        system = System(read(data))
        rng = np.random.default_rng(5)
        state = system.moved(
            system.state(
                np.eye(3),
                system.lens_with_focal(31),
                np.array([0.3, 1.5, 5]),
                rng.normal(size=system.value_count),
            ),
            rng.normal(size=system.size) * 0.05,
        )
        _, jac = system.evaluate(state)
        for column, step in enumerate(np.eye(system.size) * 1e-6):
            slope = (
                system.evaluate(system.moved(state, step))[0]
                - system.evaluate(system.moved(state, -step))[0]
            ) / 2e-6
            np.testing.assert_allclose(
                jac[:, column], slope, rtol=2e-4, atol=2e-4 * (1 + np.abs(jac).max(axis=0)[column])
            )

    def test_each_fact_pulls_the_camera_by_its_own_weight(self):
        plain = fit(CORNER)["camera"]
        for fact, read_back, wanted in (
            (
                {"kind": "camera_angle", "of": "roll", "degrees": 1.5, "plus_minus": 1e-4},
                lambda c: c["roll_deg"],
                1.5,
            ),
            (
                {
                    "kind": "camera_angle",
                    "of": "tilt",
                    "degrees": plain["tilt_deg"] + 1,
                    "plus_minus": 1e-4,
                },
                lambda c: c["tilt_deg"],
                plain["tilt_deg"] + 1,
            ),
            (
                {"kind": "angle_of_view", "basis": "horizontal", "degrees": 60, "plus_minus": 1e-4},
                lambda c: c["field_of_view_deg"]["horizontal"],
                60,
            ),
        ):
            self.assertAlmostEqual(
                read_back(fit(CORNER, [fact | {"id": "x"}])["camera"]), wanted, delta=0.01
            )
        weak = fit(
            CORNER,
            [{"id": "x", "kind": "camera_angle", "of": "roll", "degrees": 1.5, "plus_minus": 50}],
        )["camera"]
        self.assertAlmostEqual(weak["roll_deg"], plain["roll_deg"], places=2)

    def test_a_zooms_range_says_nothing_inside_and_pulls_outside(self):
        plain = fit(CORNER)
        focal = plain["camera"]["focal_mm"]
        inside = fit(
            CORNER,
            [
                {
                    "id": "z",
                    "kind": "focal_range",
                    "from_mm": focal - 5,
                    "to_mm": focal + 5,
                    "plus_minus": 0.1,
                }
            ],
        )
        self.assertAlmostEqual(inside["camera"]["focal_mm"], focal, places=4)
        self.assertAlmostEqual(
            inside["plus_minus"]["focal_mm"], plain["plus_minus"]["focal_mm"], places=4
        )
        outside = fit(
            CORNER,
            [
                {
                    "id": "z",
                    "kind": "focal_range",
                    "from_mm": focal + 2,
                    "to_mm": focal + 9,
                    "plus_minus": 1e-4,
                }
            ],
        )
        self.assertAlmostEqual(outside["camera"]["focal_mm"], focal + 2, delta=0.01)
        with self.assertRaisesRegex(Problem, "shorter end"):
            read(
                document(
                    CORNER,
                    [{"id": "z", "kind": "focal_range", "from_mm": 9, "to_mm": 2, "plus_minus": 1}],
                )
            )

    def test_spots_on_one_plane_share_its_place(self):
        marks = [
            *CORNER,
            ORIGIN,
            {"id": "ta", "kind": "spot", "at": [1300, 760], "on": "p", "world": [2.0, None, None]},
            {"id": "tb", "kind": "spot", "at": [700, 780], "on": "p"},
        ]
        data = document(marks, [HEIGHT]) | {
            "planes": [{"id": "p", "name": "Table", "axis": "up", "metres": None}]
        }
        found = solve(data).document
        self.assertAlmostEqual(
            found["spots"]["ta"]["world_m"][1], found["spots"]["tb"]["world_m"][1]
        )
        self.assertAlmostEqual(found["spots"]["ta"]["world_m"][0], 2.0)
        data["planes"][0]["metres"] = 0.74
        self.assertAlmostEqual(solve(data).document["spots"]["tb"]["world_m"][1], 0.74)
        with self.assertRaisesRegex(InvalidDocument, "no such plane"):
            read(document([{"id": "ta", "kind": "spot", "at": [1, 1], "on": "q"}]))
        data["marks"][5]["world"] = [2.0, 0.9, None]
        self.assertIn("lie on “Table”", solve(data).document["problem"])

    def test_bows_alone_tell_the_bend_and_nothing_of_the_place(self):
        bows = [
            {
                "id": f"b{i}",
                "kind": "bow",
                "points": [
                    [x, y + 8 * (x / 960 - 1) ** 2 * (1 if y < 540 else -1)]
                    for x in range(60, 1900, 200)
                ],
            }
            for i, y in enumerate((60, 300, 800, 1020))
        ]
        found = fit(bows, focal_mm={"value": 30, "plus_minus": 0}, distortion={"free": ["k1"]})
        self.assertFalse(found["ok"])
        self.assertIn("but not where the camera looks", found["problem"])
        self.assertGreater(
            abs(found["lens"]["distortion"]["k1"]),
            5 * found["lens"]["plus_minus"]["distortion"]["k1"],
        )
        self.assertIn("give the focal length", fit(bows, distortion={"free": ["k1"]})["problem"])


class Mixed(TestCase):
    def test_every_kind_of_evidence_at_once(self):
        """A few of the benchmark's cases: near the bound, and a planted wrong fact is named."""
        found = study(24, seed=5)
        self.assertEqual(found["failed"], 0)
        self.assertGreater(efficiency(found, slice(0, 7))[0], 0.95)
        self.assertGreaterEqual(found["named"], 0.9)

    def test_where_a_length_can_be_met_in_two_ways_both_cameras_are_told(self):
        """A spot at eye level, of which only the height is known, may stand before or behind the
        foot of the length's plumb on its ray."""
        camera = Camera.at(
            Grid.from_gate(3000, 2000, 36, 24),
            Lens(28.0),
            [2.0, 1.5, 6.0],
            *np.radians([25, -4, 1]),
        )
        scene = Scene(np.random.default_rng(4), camera, 6.0, "straight")
        scene.marks += [
            {
                "id": f"e{index}",
                "kind": "edge",
                "axis": ("across", "up", "along")[index % 3],
                "points": scene.drawn(scene.line(index % 3, 2), 0.5),
            }
            for index in range(9)
        ]
        partner, near = np.array([-0.5, 0.9, 0.5]), np.array([-0.9, 1.46, 0.2])
        ray = (near - camera.position) / np.linalg.norm(near - camera.position)
        far = near + 2 * ((partner - near) @ ray) * ray
        for name, point, world in (
            ("o", [0, 0, 0], [0, 0, 0]),
            ("w", partner, partner.tolist()),
            ("q", near, [None, float(near[1]), None]),
        ):
            scene.spot(name, point, world=world)
        scene.fact("length", np.linalg.norm(near - partner), 0.005, **{"from": "w", "to": "q"})
        found = solve(
            document(scene.marks, scene.facts)
            | {"image": {"width": 3000, "height": 2000}, "gate": {"width_mm": 36, "height_mm": 24}}
        ).document
        told = [
            found["spots"]["q"]["world_m"],
            [
                float(value)
                for value in re.search(r"“q” at (.+?) m", found["rival"]["says"])[1].split(", ")
            ],
        ]
        for place in (near, far):
            self.assertLess(min(np.linalg.norm(place - other) for other in told), 0.03)

    def test_a_warm_start_ends_where_a_cold_one_does(self):
        one = case(np.random.default_rng(3))
        cold = solve(one.document).document
        moved = copy.deepcopy(one.document)
        moved["marks"][0]["points"][0][0] += 3
        np.testing.assert_allclose(
            errors(solve(moved, warm=cold).document, one)[0],
            errors(solve(moved).document, one)[0],
            atol=1e-5,
        )

    def test_what_it_leans_on(self):
        """Leaving a piece out for good changes the fit by about as much as was said to first order,
        and its leverage is what is lost."""
        one = case(np.random.default_rng(8))
        fitted = solve(one.document).document
        for id_, own in list(fitted["evidence"].items())[:8]:
            if own["leverage"] > 0.5:
                continue
            without = copy.deepcopy(one.document)
            for item in without["marks"] + without["facts"]:
                if item["id"] == id_:
                    item["off"] = True
            found = solve(without).document
            self.assertAlmostEqual(
                found["camera"]["focal_mm"],
                own["focal_mm"],
                delta=0.2 * fitted["plus_minus"]["focal_mm"],
                msg=id_,
            )
            lost = 1 - (fitted["plus_minus"]["focal_mm"] / found["plus_minus"]["focal_mm"]) ** 2
            self.assertLessEqual(lost, own["leverage"] + 0.03, id_)


class Advice(TestCase):
    def test_what_is_advised_shrinks_the_plus_minus_as_said(self):
        data = document(
            [*CORNER, ORIGIN, {"id": "t", "kind": "spot", "at": [950, 500]}],
            [
                {
                    "id": "l",
                    "kind": "length",
                    "from": "o",
                    "to": "t",
                    "metres": 2,
                    "plus_minus": 0.05,
                    "along": "up",
                }
            ],
        )
        first = solve(data).document
        for quantity, measure in (
            ("focal", lambda f: f["plus_minus"]["focal_mm"] / f["camera"]["focal_mm"]),
            ("height", lambda f: f["plus_minus"]["position_m"][1]),
            ("position", lambda f: np.linalg.norm(f["plus_minus"]["position_m"])),
        ):
            best = advise(data, quantity)[0]
            self.assertAlmostEqual(best.before, measure(first), delta=0.02 * best.before)
            grown = copy.deepcopy(data)
            (grown["facts"] if best.fact else grown["marks"]).append(best.fact or best.mark)
            self.assertAlmostEqual(
                measure(solve(grown).document), best.after, delta=0.05 * best.after
            )
            self.assertLess(best.after, best.before)
        with self.assertRaises(Problem):
            advise(data, "colour")
        self.assertEqual(len(QUANTITIES), 5)

    def test_every_distance_between_spots_that_isn_t_measured_is_weighed(self):
        """By the names of its ends; what is measured, or known at both ends, is no advice. Each is
        worth what it then is."""
        spots = [
            ORIGIN | {"name": "Bollard"},
            {"id": "p", "kind": "spot", "at": [820, 800], "world": [None, 0, None]},
            {"id": "q", "kind": "spot", "at": [1350, 760], "world": [None, 0, None]},
            {"id": "z", "kind": "spot", "at": [600, 640], "world": [-1.0, 0, 0]},
        ]
        spots[1]["name"], spots[2]["name"] = "Cleat", "Ring"
        length = {"id": "l", "kind": "length", "from": "o", "to": "p"}
        length |= {"metres": 2, "plus_minus": 0.05}
        data = document([*CORNER, *spots[:3]], [length])

        def weighed(given, quantity="position"):
            found = advise(given, quantity)
            lengths = [one for one in found if one.fact and one.fact["kind"] == "length"]
            return {frozenset((one.fact["from"], one.fact["to"])): one for one in lengths}

        found = weighed(data)
        self.assertLessEqual(found.keys(), {frozenset("oq"), frozenset("pq")})
        self.assertTrue(found)
        for one in found.values():
            self.assertRegex(one.says, "the distance from “(Bollard|Cleat)” to “Ring”")
            grown = copy.deepcopy(data)
            grown["facts"].append(one.fact)
            then = np.linalg.norm(solve(grown).document["plus_minus"]["position_m"])
            self.assertAlmostEqual(then / one.after, 1, delta=0.05)
        both = weighed(document([*CORNER, ORIGIN, spots[3]]))
        self.assertNotIn(frozenset("oz"), both)

    def test_the_direction_and_the_size_have_advice_of_their_own(self):
        data = document([*CORNER, ORIGIN])
        level = {one.says for one in advise(data, "direction")}
        self.assertTrue(any("edge" in says or "level" in says for says in level), level)
        for quantity in QUANTITIES:
            shares = [one.share for one in advise(data, quantity)]
            self.assertTrue(all(0.005 < share <= 1 for share in shares), quantity)
        with self.assertRaises(Problem):
            advise(document([]), "focal")

    def test_an_open_size_is_settled_by_what_is_advised(self):
        best = advise(document([*CORNER, ORIGIN]), "size")[0]
        self.assertTrue(np.isinf(best.before) and np.isfinite(best.after))

    def test_the_kit(self):
        data = document(CORNER)
        fitted = solve(data).document
        focal = fitted["camera"]["focal_mm"]
        found = {
            one.says: one
            for one in choices(
                data,
                fitted,
                [
                    ("near", focal + 0.01, focal + 0.01),
                    ("far", 2 * focal, 2 * focal),
                    ("zoom", 1, 99),
                ],
            )
        }
        self.assertLess(found["near"].sigmas, 0.2)
        self.assertGreater(found["far"].sigmas, 3 * found["near"].sigmas)
        self.assertTrue(
            any("degree" in says for says in found)
            and all(one.costs_px > -1e-9 for one in found.values())
        )
        self.assertEqual(
            zooms_that_reach(focal, [("zoom", 1, 99), ("prime", focal, focal), ("long", 100, 200)]),
            ["zoom"],
        )


class Trust(TestCase):
    def test_the_spread_of_the_floor_is_that_of_many_photographs(self):
        """A pixel's place on the floor, and a surveyed point's expected place, scatter over
        repeated drawings as said."""
        rng, pixel, point = np.random.default_rng(4), [[1250.0, 900.0]], [[0.6, 0.3, 0.5]]
        base = document([*CORNER, ORIGIN], [HEIGHT])
        reach = Reach.of(*find(base))
        said = reach.on_floor(pixel)["metres"][0]
        at, covariance = reach.expected(point, [0.0])
        floor, seen = [], []
        for _ in range(150):
            noisy = copy.deepcopy(base)
            for mark in noisy["marks"]:
                for each in mark.get("points", [mark.get("at")]):
                    each[0], each[1] = each[0] + rng.normal() * 0.5, each[1] + rng.normal() * 0.5
            noisy["facts"][0]["metres"] += rng.normal() * 0.01
            other = Reach.of(*find(noisy))
            floor.append(other.camera.on_plane(pixel)[0][[0, 2]])
            seen.append(other.camera.project(point)[0])
        self.assertAlmostEqual(
            np.sqrt(np.linalg.eigvalsh(np.cov(np.array(floor).T))[-1]) / said, 1, delta=0.25
        )
        self.assertAlmostEqual(
            np.sqrt(np.linalg.eigvalsh(np.cov(np.array(seen).T))[-1]) / ellipse(covariance[0])[0],
            1,
            delta=0.25,
        )
        self.assertTrue(np.isnan(reach.on_floor([[900.0, 10.0]])["px"][0]))

    def test_far_floor_spots_steady_the_floor_and_near_ones_do_not(self):
        loose = [edge | {"sigma_px": 6.0} for edge in CORNER]

        def tilt(places):
            camera = Reach.of(*find(document([*loose, ORIGIN], [HEIGHT]))).camera
            spots = [
                {
                    "id": f"f{i}",
                    "kind": "spot",
                    "at": at.tolist(),
                    "sigma_px": 0.5,
                    "world": [float(x), 0, float(z)],
                }
                for i, ((x, z), at) in enumerate(
                    zip(places, camera.project([[x, 0, z] for x, z in places]))
                )
            ]
            system, optimum = find(document([*loose, ORIGIN, *spots], [HEIGHT]))
            return Reach.of(system, optimum).floor_tilt(optimum)

        (near, _), (far, carriers) = (
            tilt([(0.1, 0.1), (0.2, 0.1), (0.1, 0.2)]),
            tilt([(-0.8, 1.2), (1.6, 0.9), (1.5, 0.1)]),
        )
        self.assertLess(far, 0.8 * near)
        self.assertTrue({id_ for id_, _ in carriers[:4]} & {"f0", "f1", "f2"})


class Survey(TestCase):
    def test_tables_as_people_send_them(self):
        for text in (
            "name,x,y,z,±\nA,1,2,3,0.01\n",
            "A 1 2 3 0.01",
            "id;x;y;z;sigma\nA;1,0;2;3;1 cm",
            "A, 100 cm, 2 m, 3, 10 mm",
        ):
            point = survey.read(text.encode(), "s.csv", "m", "Y")[0]
            self.assertEqual(
                (point["name"], point["world"], point["plus_minus"]), ("A", [1, 2, 3], 0.01), text
            )
        self.assertEqual(
            survey.read(b"1 2 3\n4 5 6", "s.csv", "ft", "Z", 0.002)[1],
            {"name": "P2", "world": [1.2192, 1.8288, -1.524], "plus_minus": 0.002},
        )
        self.assertEqual(
            [p["name"] for p in survey.read(b"A 1 2 3\nA 2 2 2", "s", "m", "Y")], ["A", "A-2"]
        )
        # Old line ends, and a name that numbering would make again.
        for end in ("\r", "\r\n"):
            text = end.join(("Door,1,2,3", "Door-2,2,3,4", "Door,3,4,5"))
            names = [p["name"] for p in survey.read(text.encode(), "s.csv", "m", "Y")]
            self.assertEqual(names, ["Door", "Door-2", "Door-3"])
        for text, says in (
            ("A,1,2", "Line 1 has 3 cells"),
            ("A,1,x,3", "Line 1, y"),
            ("", "no point"),
            ("A,1,2,1e9", "within"),
            ("A,1,2,3\n" + "x" * 140_000 + ",1,2,3", "Line 2 can't be read"),
            ("A,1,2,3\n" * 20_001, "more than 20000 points"),
        ):
            with self.assertRaisesRegex(Problem, says, msg=text):
                survey.read(text.encode(), "s.csv", "m", "Y")

    def test_vertices_by_somebody_elses_writer(self):
        mesh = trimesh.creation.icosahedron()
        for kind in ("obj", "ply"):
            data = mesh.export(file_type=kind)
            points = survey.read(
                data if isinstance(data, bytes) else data.encode(), f"m.{kind}", "cm", "Y"
            )
            np.testing.assert_allclose(
                [p["world"] for p in points], mesh.vertices * 0.01, atol=1e-6
            )
        with self.assertRaisesRegex(Problem, "PLY"):
            survey.read(b"ply\nformat nonsense\n", "m.ply", "m", "Y")
