"""Paths from documents: found, honest about their ±, recognised where there is less to know,
refused in words."""

from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase

from aperture.errors import Problem
from aperture.geometry.rotation import angles_from_rotation
from aperture.match.document import InvalidDocument, schema
from aperture.match.solve import solve as solve_still
from aperture.path.document import as_still
from aperture.path.solve import solve
from tests.moving import FIRST, GATE_MM, LENS, SIZE, document, path_error, rolling, scene, zooming

FOCAL_PX = LENS.focal_mm / GATE_MM[0] * SIZE[0]


class Paths(SimpleTestCase):
    def test_tracks_of_which_some_slide_give_the_path_and_its_lens(self):
        for kind in ("orbit", "sideways", "forward"):
            with self.subTest(kind):
                made = scene(kind, frames=40, count=200)
                fit = solve(document(made, sliding=0.03, known=4)).document
                self.assertTrue(fit["ok"], fit.get("problem"))
                self.assertEqual(fit["motion"], "free")
                off = fit["camera"]["focal_px"][1] - FOCAL_PX
                self.assertLess(abs(off), 4 * fit["plus_minus"]["focal_px"][1])
                self.assertLess(abs(off) / FOCAL_PX, 0.006)
                self.assertLess(path_error(fit, made), 0.0006)
                self.assertEqual(set(fit["determined"].values()) - {"given"}, {"solved"})
                away = np.array(fit["path"]["position_m"]) - made.positions
                sigmas = away / np.array(fit["path"]["position_plus_minus_m"])
                self.assertLess(np.sqrt((sigmas**2).mean()), 2.5)
                self.assertEqual(fit["conflicts"], [])

    def test_what_no_fact_holds_is_said_to_be_open(self):
        made = scene("sideways", frames=20, count=100)
        fit = solve(document(made)).document
        open_ = [name for name in ("direction", "heading", "position", "scale")]
        self.assertEqual([fit["determined"][name] for name in open_], ["no"] * 4)
        ids = [track["id"] for track in document(made)["tracks"]]
        apart = float(np.linalg.norm(made.points[5] - made.points[0]))
        length = {"id": "d", "kind": "length", "from": ids[0], "to": ids[5], "metres": apart}
        sized = solve(document(made, facts=[length | {"plus_minus": 0.01}])).document
        self.assertEqual(sized["determined"]["scale"], "solved")
        self.assertEqual(sized["determined"]["heading"], "no")
        walked = np.linalg.norm(np.diff(np.array(sized["path"]["position_m"]), axis=0), axis=1)
        true = np.linalg.norm(np.diff(made.positions, axis=0), axis=1)
        self.assertAlmostEqual(walked.sum() / true.sum(), 1, delta=0.02)

    def test_by_how_much_facts_bend_the_path_is_told(self):
        made = scene("sideways", frames=14, count=80, seed=4)
        data = document(made, known=4)
        right = solve(data | {"placing": "stand"}).document
        straight = right["bending"]
        off = np.array(right["path"]["position_m"]) - made.positions
        sigma = np.array(right["path"]["position_plus_minus_m"])
        self.assertLess(np.sqrt(np.mean((off / sigma) ** 2)), 2.0)
        self.assertGreater(sigma.min(), 0.002)  # the survey's own, through which it was placed
        next(track for track in data["tracks"] if "world" in track)["world"][1] += 0.3
        bent = solve(data).document["bending"]
        self.assertLess(straight["metres"], 0.02)
        self.assertGreater(bent["metres"], 1.5 * straight["metres"])
        self.assertGreater(bent["with_px"], bent["without_px"])
        self.assertAlmostEqual(bent["without_px"], straight["without_px"], delta=2e-4)
        # The path that they only lay down is that of the tracks, and still says which fact is
        # wrong.
        stood = solve(data | {"placing": "stand"}).document
        self.assertFalse(stood["bending"]["bent"])
        self.assertAlmostEqual(stood["residuals"]["rms_px"], bent["without_px"], delta=2e-4)
        self.assertTrue(stood["conflicts"])
        # What only lays it down bends nothing.
        self.assertIsNone(solve(document(made, known=2)).document["bending"])

    def test_what_a_measurement_would_be_worth_is_what_it_then_is(self):
        made = scene("orbit", frames=24, count=80, seed=6)
        data = document(made, known=3)
        fit = solve(data).document
        told = fit["advice"]["position"]
        row = next(row for row in told["rows"] if row["kind"] == "height")
        height = {
            "id": "h",
            "kind": "camera_height",
            "frame": row["frame"],
            "metres": float(made.positions[row["frame"] - FIRST, 1]),
            "plus_minus": 0.01,
        }
        after = solve(data | {"facts": [height]}).document["advice"]["position"]["now"]
        self.assertLess(row["then"], 0.95 * told["now"])
        self.assertAlmostEqual(after / row["then"], 1, delta=0.05)
        # The tracks together determine all that is unknown of cameras and lens, but for what the
        # facts do.
        leverage = sum(point["leverage"] for point in fit["points"].values())
        self.assertAlmostEqual(leverage, 1, delta=9 / (24 * 6))

    def test_a_path_doesn_t_win_by_losing_its_facts(self):
        """A camera that walks ahead past known places."""
        made = scene("forward", frames=40, count=200, seed=6)
        fit = solve(document(made, seed=6, sliding=0.03, known=4)).document
        off = np.array(fit["path"]["position_m"]) - made.positions
        sigmas = off / np.array(fit["path"]["position_plus_minus_m"])
        self.assertLess(np.sqrt(np.mean(sigmas**2)), 2)
        self.assertAlmostEqual(fit["camera"]["focal_px"][1] / FOCAL_PX, 1, delta=0.003)

    def test_a_way_of_centimetres_is_found_and_near_told_from_far(self):
        """Scenes in which the first valley was the wrong one: what is near took itself for far, the
        path shrank to nothing, or a frame lost all that it sees."""
        for kind, seed in (("pivot", 6), ("pivot", 11), ("sway", 3)):
            made = scene(kind, frames=40, count=200, seed=seed)
            fit = solve(document(made, seed=seed, sliding=0.03, known=4)).document
            with self.subTest(kind=kind, seed=seed):
                self.assertEqual(fit["motion"], "free")
                off = np.array(fit["path"]["position_m"]) - made.positions
                sigmas = off / np.array(fit["path"]["position_plus_minus_m"])
                self.assertLess(np.sqrt(np.mean(sigmas**2)), 2.5)
                self.assertLess(np.abs(off).max(), 0.15)
                self.assertAlmostEqual(fit["camera"]["focal_px"][1] / FOCAL_PX, 1, delta=0.004)
                self.assertEqual(fit["conflicts"], [])

    def test_a_zoom_has_a_focal_length_per_frame(self):
        lens = {"focal_mm": None, "focal_over_time": "free", "distortion": {"free": ["k1"]}}
        for kind, motion in (("orbit", "free"), ("turning", "nodal")):
            with self.subTest(kind):
                made = zooming(kind, 16, 100, seed=2)
                true = np.array([camera.lens.focal_mm for camera in made.cameras])
                fit = solve(document(made, sliding=0.03, known=4, lens=lens)).document
                self.assertEqual((fit["motion"], fit["zooms"]), (motion, True))
                path = fit["path"]
                self.assertLess(np.abs(np.array(path["focal_mm"]) / true - 1).max(), 0.004)
                off = (np.array(path["focal_mm"]) - true) / np.array(path["focal_plus_minus_mm"])
                self.assertLess(np.sqrt((off**2).mean()), 2.5)
                self.assertIsNone(fit["camera"]["focal_mm"])

    def test_what_is_known_of_a_zoom_on_some_frames_holds_it(self):
        made = zooming("sideways", 16, 100, seed=2)
        true = np.array([camera.lens.focal_mm for camera in made.cameras])
        known = [[FIRST + n, round(float(true[n]), 3), 0.01] for n in (0, 8, 15)]
        lens = {"focal_over_time": "free", "distortion": {"free": ["k1"]}}
        held = solve(document(made, known=4, lens=lens | {"focal_mm": {"frames": known}})).document
        path = held["path"]
        off = np.array(path["focal_mm"]) - true
        self.assertLess(np.abs(off[[0, 8, 15]]).max(), 0.03)
        self.assertLess(np.abs(off / true).max(), 0.004)
        self.assertEqual(held["conflicts"], [])
        # What is known wrongly by 8 σ is named.
        known[1][1] += 0.5
        known[1][2] = 0.05
        wrong = solve(document(made, known=4, lens=lens | {"focal_mm": {"frames": known}})).document
        self.assertEqual(wrong["conflicts"][0]["of"], [f"lens.focal_mm@{FIRST + 8}"])
        single = lens | {"focal_mm": {"value": 24.0, "plus_minus": 0.1}}
        with self.assertRaisesMessage(Problem, "say on which frames"):
            solve(document(made, lens=single))

    def test_a_rolling_shutter_is_taken_off_or_solved_for(self):
        made, readout = rolling("sideways", 14, 90, 0.5), 0.5 * 1000 / 24
        lens = {"focal_mm": None, "distortion": {"free": ["k1"]}}

        def fitted(given):
            return solve(document(made, known=4, lens=lens | {"readout_ms": given})).document

        known, solved = fitted(readout), fitted("free")
        for fit in (known, solved):
            self.assertLess(fit["residuals"]["rms_px"], 0.2)
            away = np.array(fit["path"]["position_m"]) - made.positions
            sigmas = away / np.array(fit["path"]["position_plus_minus_m"])
            self.assertLess(np.sqrt((sigmas**2).mean()), 2.5)
        off = (solved["readout_ms"] - readout) / solved["readout_plus_minus_ms"]
        self.assertLess(abs(off), 3)
        self.assertLess(solved["readout_plus_minus_ms"], 1)
        # What isn't known of it is in the other ± too.
        self.assertGreater(
            np.mean(solved["path"]["position_plus_minus_m"]),
            np.mean(known["path"]["position_plus_minus_m"]),
        )
        # One that is said to be known agrees with the tracks, or is named with what they say.
        right = {"value": readout + 0.5, "plus_minus": 1.0}
        self.assertEqual(fitted(right)["conflicts"], [])
        (named,) = fitted(right | {"value": 5.0})["conflicts"]
        self.assertEqual(named["of"], ["lens.readout_ms"])
        implied = float(named["says"].split("would be ")[1].split(" ms")[0])
        self.assertAlmostEqual(implied, readout, delta=4 * solved["readout_plus_minus_ms"])
        # A pan through a shutter that nobody told of is not taken for a path.
        pan = solve(document(rolling("turning", 20, 100, 0.5, seed=1), lens=lens)).document
        self.assertEqual(pan["motion"], "nodal")
        self.assertAlmostEqual(pan["readout_ms"], readout, delta=4 * pan["readout_plus_minus_ms"])
        self.assertIn("rolling shutter", [remark["kind"] for remark in pan["remarks"]])
        told = document(made, lens=lens | {"readout_ms": 60})
        with self.assertRaisesMessage(Problem, "longer than a frame"):
            solve(told)
        del told["frames"]["rate"]
        with self.assertRaisesMessage(Problem, "rate"):
            solve(told)

    def test_tracks_that_are_no_points_are_named_with_the_reason(self):
        made = scene("sideways", frames=40, count=200, seed=1)
        data = document(made, known=6)
        long = [t for t in data["tracks"] if len(t["observations"]) >= 30 and "world" not in t]
        rng, told = np.random.default_rng(0), {}
        for number, track in enumerate(long[:16]):
            rows = track["observations"]
            count, kind = len(rows), ("jumps", "moves", "slides", "edge")[number % 4]
            along = rng.normal(0, 1.2, count)
            for index, row in enumerate(rows):
                by = {
                    "jumps": (9, -7) if index >= count // 2 else (0, 0),
                    "moves": (25 * np.sin(index / 4), 6 * np.cos(index / 3)),
                    # Across the way that the camera goes: along it a slide is another distance.
                    "slides": (0, 6 * (index / count - 0.5)),
                    "edge": (0.6 * along[index], 0.8 * along[index]),
                }[kind]
                row[1], row[2] = row[1] + by[0], row[2] + by[1]
            told[track["id"]] = kind, rows[count // 2][0] if kind == "jumps" else None
        # One that is a reflection in the floor.
        low = scene("sideways", frames=40, count=60, seed=3)
        low.points[:, 1] -= 5
        seen = np.array([camera.project(low.points) for camera in low.cameras])
        inside = ((seen > 0) & (seen < SIZE)).all(axis=2)
        index = int(np.argmax(inside.sum(axis=0)))
        rows = [
            [FIRST + int(n), *seen[n, index].tolist()] for n in np.flatnonzero(inside[:, index])
        ]
        data["tracks"].append({"id": "mirror", "sigma_px": 0.2, "observations": rows})
        told["mirror"] = "below", None
        fit = solve(data).document
        found = {one["id"]: (one["reason"], one["frame"]) for one in fit["doubtful"]}
        for id_ in told.keys() | found.keys():
            self.assertEqual(found.get(id_), told.get(id_), id_)

    def test_too_little_is_refused_in_words(self):
        few = document(scene("sideways", frames=20, count=100))
        few["tracks"] = few["tracks"][:5]
        self.assertIn("Only 5 tracks", solve(few).document["problem"])
        apart = document(scene("sideways", frames=20, count=100))
        for number, track in enumerate(apart["tracks"]):  # no two frames share enough
            track["observations"] = track["observations"][number % 7 :: 7][:2]
        answer = solve(apart).document
        self.assertFalse(answer["ok"])
        self.assertIn("ollow more points", answer["problem"])
        swapped = few | {"frames": {"first": 5, "last": 2}}
        with self.assertRaisesMessage(Exception, "before the first"):
            solve(swapped)

    def test_how_level_the_floor_is_and_what_carries_it(self):
        made = scene("orbit", frames=16, count=90, seed=5)
        points = made.points.copy()
        points[:4] = [[-1.5, 0, -6], [1.5, 0, -6], [-1.5, 0, -8], [1.5, 0, -8]]
        seen = np.array([camera.project(points) for camera in made.cameras])
        seen[((seen < 0) | (seen > SIZE)).any(axis=2)] = np.nan
        told = document(replace(made, points=points, seen=seen))
        self.assertIsNone(solve(told).document["floor"])  # nothing says where it is
        # A level on the camera: the floor is as level as that, and nothing else carries it.
        tilt, _, roll = np.degrees(angles_from_rotation(made.cameras[0].rotation))[[1, 0, 2]]
        levels = [
            {"id": of, "kind": "camera_angle", "of": of, "degrees": degrees, "frame": FIRST}
            for of, degrees in (("tilt", tilt), ("roll", roll))
        ]
        by_level = solve(told | {"facts": [one | {"plus_minus": 0.4} for one in levels]}).document
        floor = by_level["floor"]
        self.assertAlmostEqual(floor["tilt_plus_minus_deg"], 0.4, delta=0.05)
        self.assertLessEqual({one["of"] for one in floor["carried_by"]}, {"tilt", "roll"})
        self.assertGreater(sum(one["share"] for one in floor["carried_by"]), 0.95)
        # Tracks on the floor, on which it then lies.
        tall = {"id": "h", "kind": "camera_height", "frame": FIRST, "metres": 1.5}
        for track in told["tracks"][:4]:
            track["world"] = [None, 0, None]
        by_tracks = solve(told | {"facts": [tall | {"plus_minus": 0.01}]}).document["floor"]
        self.assertLess(by_tracks["tilt_plus_minus_deg"], 0.1)
        self.assertIn(by_tracks["carried_by"][0]["of"], {"t0", "t1", "t2", "t3"})

    def test_that_all_tracks_may_be_on_one_thing_is_said(self):
        made = scene("orbit", frames=14, count=120, seed=3)
        kinds = {}
        for most in (np.inf, 1.2):
            middle = np.median(made.points, axis=0)
            near = np.abs(made.points - middle).max(axis=1) < most
            told = document(replace(made, points=made.points[near], seen=made.seen[:, near]))
            kinds[most] = [one["kind"] for one in solve(told).document["remarks"]]
        self.assertNotIn("small part", kinds[np.inf])
        self.assertIn("small part", kinds[1.2])

    def test_one_wrong_fact_is_named_with_what_the_others_imply(self):
        made = scene("orbit", frames=30, count=150)
        facts = []
        for number, (a, b) in enumerate([(0, 9), (3, 14), (6, 21), (11, 30)]):
            apart = float(np.linalg.norm(made.points[b] - made.points[a]))
            fact = {"id": f"f{number}", "kind": "length", "from": f"t{a}", "to": f"t{b}"}
            facts.append(fact | {"metres": apart, "plus_minus": 0.01})
        self.assertEqual(solve(document(made, facts=facts)).document["conflicts"], [])
        right = facts[2]["metres"]
        facts[2]["metres"] += 0.15
        (named,) = solve(document(made, facts=facts)).document["conflicts"]
        self.assertEqual(named["of"], ["f2"])
        implied = float(named["says"].split("would be ")[1].split(" m")[0])
        self.assertAlmostEqual(implied, right, delta=0.05)

    def test_edges_and_an_origin_on_one_frame_place_the_path_and_a_distance_sizes_it(self):
        made = scene("sideways", frames=20, count=120)
        frame, camera = FIRST + 4, made.cameras[4]
        lines = {
            "up": [
                [(-2, 0, -8), (-2, 3, -8)],
                [(2, 0, -6), (2, 3, -6)],
                [(0, 0, -5), (0, 1.5, -5)],
            ],
            "across": [[(-3, 0, -8), (3, 0, -8)], [(-2, 3, -7), (3, 3, -7)]],
            "along": [[(-2, 0, -12), (-2, 0, -5)], [(2, 0.2, -12), (2, 0.2, -5)]],
        }
        marks = []
        for axis, pairs in lines.items():
            for start, end in pairs:
                places = np.linspace(start, end, 5)
                at = camera.project(places).tolist()
                marks.append(
                    {
                        "id": f"e{len(marks)}",
                        "kind": "edge",
                        "axis": axis,
                        "frame": frame,
                        "points": at,
                    }
                )
        world = made.points[0].tolist()
        told = document(made, marks=marks)
        told["tracks"][0]["world"] = world
        apart = float(np.linalg.norm(made.points[3] - made.points[0]))
        told["facts"] = [
            {
                "id": "d",
                "kind": "length",
                "from": "t0",
                "to": "t3",
                "metres": apart,
                "plus_minus": 0.01,
            }
        ]
        fit = solve(told).document
        self.assertTrue(fit["ok"], fit.get("problem"))
        self.assertEqual(fit["conflicts"], [])
        away = np.array(fit["path"]["position_m"]) - made.positions
        self.assertLess(np.abs(away).max(), 0.08)
        sigmas = np.abs(away / np.array(fit["path"]["position_plus_minus_m"]))
        self.assertLess(np.sqrt((sigmas**2).mean()), 3)
        # One of the lines drawn on that frame is on something else: that one is named, and no
        # other.
        across = marks[4]
        across["points"] = (across["points"] + np.linspace([0, -15], [0, 15], 5)).tolist()
        wrong = solve(told, warm=fit).document
        self.assertEqual([one["of"] for one in wrong["conflicts"]], [["e4"]])
        self.assertLess({mark["id"] for mark in marks}, set(wrong["residuals"]["facts"]))

    def test_solving_again_begins_at_the_last_path(self):
        made = scene("sideways", frames=30, count=150)
        told = document(made, known=4)
        stages = []
        first = solve(told, watch=lambda says, share: stages.append(says)).document
        self.assertTrue(any("focal length" in says for says in stages))
        told["tracks"] = told["tracks"][:100] + told["tracks"][101:]
        cold = solve(told).document
        stages.clear()
        warm = solve(told, warm=first, watch=lambda says, share: stages.append(says)).document
        self.assertFalse(any("focal length" in says for says in stages))
        focal = warm["camera"]["focal_px"][1] - cold["camera"]["focal_px"][1]
        self.assertLess(abs(focal), 0.1 * cold["plus_minus"]["focal_px"][1])
        for track in told["tracks"]:
            if "world" in track:
                track["world_plus_minus"] = 20.0  # all that holds the path, by very little
        looser = solve(told, warm=warm).document
        anew = solve(told, warm=looser).document
        fresh = solve(told).document
        for fit in (looser, anew):
            own, usual = (np.array(one["path"]["position_plus_minus_m"]) for one in (fit, fresh))
            self.assertGreater(np.median(own), 5)
            np.testing.assert_allclose(own, usual, rtol=0.02)

    def test_what_is_raised_while_watching_ends_the_work(self):
        def stop(says, share):
            raise KeyboardInterrupt

        with self.assertRaises(KeyboardInterrupt):
            solve(document(scene("sideways", frames=10, count=60)), watch=stop)

    def test_a_document_of_one_frame_gets_the_still_matcher_s_answer(self):
        made = scene("sideways", frames=10, count=80)
        told = document(made, known=12)
        told["frames"] = {"first": FIRST + 3, "last": FIRST + 3}
        told["lens"] = {"focal_mm": None}
        found, wanted = solve(told).document, solve_still(as_still(told)).document
        self.assertTrue(found["ok"], found.get("problem"))
        for part in ("camera", "plus_minus", "determined"):
            self.assertEqual(found[part], wanted[part])

    def test_the_schema_of_version_2_is_one(self):
        from jsonschema import Draft202012Validator

        Draft202012Validator.check_schema(schema(2))
        told = document(scene("sideways", frames=10, count=60))
        Draft202012Validator(schema(2)).validate(told)
        self.assertFalse(Draft202012Validator(schema(1)).is_valid(told))

    def test_a_number_of_a_track_that_can_t_be_computed_with_is_named(self):
        told = document(scene("sideways", frames=10, count=60))
        for wrong in (float("nan"), float("inf"), 2**60, 1e9, "12", None):
            rows = [list(row) for row in told["tracks"][2]["observations"]]
            rows[3][1] = wrong
            tracks = list(told["tracks"])
            tracks[2] = tracks[2] | {"observations": rows}
            with self.assertRaises(InvalidDocument) as caught:
                solve(told | {"tracks": tracks})
            self.assertEqual(caught.exception.place, "/tracks/2/observations/3/1")


class ByHand(SimpleTestCase):
    def test_a_length_between_hand_placed_points_is_no_better_than_the_hand(self):
        """0.8 px at 8 m of 1,600 px are 4 mm at each end; the ± of the path's size follows, as f b
        / Z has it."""
        made = scene("forward", frames=14, count=110, seed=4)
        wide = {}
        for told in (False, True):
            lens = {"focal_mm": {"value": 20.0, "plus_minus": 0.001}, "distortion": {"k1": -0.06}}
            data = document(made, seed=4, lens=lens, known=0)
            long = [n for n, track in enumerate(data["tracks"]) if len(track["observations"]) == 14]
            a, b = long[:2]
            if told:
                for index in (a, b):
                    data["tracks"][index] |= {"drawn_px": 0.8, "drawn_on": FIRST}
            metres = float(np.linalg.norm(made.points[a] - made.points[b]))
            data["facts"] = [
                {
                    "id": "f1",
                    "kind": "length",
                    "from": f"t{a}",
                    "to": f"t{b}",
                    "metres": metres,
                    "plus_minus": 1e-4,
                },
                {
                    "id": "f2",
                    "kind": "camera_position",
                    "metres": made.positions[0].tolist(),
                    "plus_minus": 1e-4,
                    "frame": FIRST,
                },
            ]
            for name, angle in zip(("pan", "tilt", "roll"), np.degrees(made.cameras[0].angles)):
                data["facts"].append(
                    {
                        "id": name,
                        "kind": "camera_angle",
                        "of": name,
                        "degrees": float(angle),
                        "plus_minus": 1e-3,
                        "frame": FIRST,
                    }
                )
            fit = solve(data).document
            self.assertTrue(fit["ok"], fit)
            wide[told] = np.linalg.norm(fit["path"]["position_plus_minus_m"][-1])
        away = [np.linalg.norm(made.points[n] - made.positions[0]) for n in (a, b)]
        spread = (
            0.8 / (20.0 / 24.0 * 1920) * np.hypot(*away) / metres * 3.0
        )  # of a way of three metres
        self.assertGreater(wide[True], 0.7 * spread)
        self.assertLess(wide[True], 2 * spread + 2 * wide[False])
        self.assertLess(wide[False], wide[True])
