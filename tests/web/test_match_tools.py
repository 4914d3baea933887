"""The Match step's leaves and helpers through their pages: facts of every kind, lens, survey,
refining, proposals, kit, advice, drafts, aids."""

import json

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from PIL import Image

from demo.evidence import SURVEY
from demo.plates import FOLDER, truth
from demo.show import catalogue, match_of
from tests.web.test_shots import NAME, WithShot
from web.match.fits import fit_of
from web.shows.history import edit, undo


class Tools(WithShot):
    def setUp(self):
        super().setUp()
        self.ready()

    def fit(self):
        return fit_of(self.state())

    def test_facts_of_every_kind_are_typed_changed_and_refused(self):
        for kind, fields, wanted in (
            (
                "position",
                {"across": "", "up": "1.6 m", "along": "8 m", "plus_minus": "10 cm"},
                {"metres": [None, 1.6, 8.0], "plus_minus": 0.1},
            ),
            (
                "angle",
                {"of": "roll", "value": "", "plus_minus": ""},
                {"of": "roll", "degrees": 0.0, "plus_minus": 0.5},
            ),
            (
                "view",
                {"basis": "horizontal", "value": "67°", "plus_minus": "1"},
                {"degrees": 67.0, "plus_minus": 1.0},
            ),
            (
                "range",
                {"from_mm": "18", "to_mm": "40 mm"},
                {"from_mm": 18.0, "to_mm": 40.0, "plus_minus": 0.18},
            ),
        ):
            self.client.post(
                self.url(f"match/fact/{kind}"),
                {f"{kind}-{key}": value for key, value in fields.items()},
            )
            stored = self.state()["facts"][-1]
            for key, value in wanted.items():
                if key == "of":
                    self.assertEqual(stored["of"], value)
                else:
                    np.testing.assert_allclose(
                        np.array(stored[key], float), np.array(value, float), err_msg=kind
                    )
            form = self.client.get(self.url(f"match/mark/{stored['id']}"))
            self.assertContains(form, "The fit leans on it")
        roll = next(fact for fact in self.state()["facts"] if fact["kind"] == "camera_angle")
        self.client.post(
            self.url(f"match/mark/{roll['id']}"),
            {"changed-of": "tilt", "changed-value": "-3.5", "changed-plus_minus": "0.2"},
        )
        self.assertEqual(
            next(fact for fact in self.state()["facts"] if fact["id"] == roll["id"])["of"], "tilt"
        )
        before = self.state()
        for kind, fields, says in (
            ("position", {"plus_minus": "1 cm"}, "at least one"),
            ("angle", {"of": "roll", "value": "level"}, "can&#x27;t be read"),
            ("view", {"basis": "diagonal", "value": "400"}, "between"),
            ("range", {"from_mm": "40", "to_mm": "18"}, "shorter end"),
            ("height", {"value": "1 m", "plus_minus": "0"}, "above zero"),
            ("range", {"from_mm": "x", "to_mm": "18"}, "can&#x27;t be read"),
        ):
            self.assertContains(
                self.client.post(
                    self.url(f"match/fact/{kind}"),
                    {f"{kind}-{key}": value for key, value in fields.items()},
                ),
                says,
                status_code=422,
            )
        self.assertEqual(self.state(), before)
        self.assertEqual(self.post_json("match/fact/none").status_code, 422)

    def test_a_lens_that_is_freed_too_far_is_said_and_held(self):
        lens = {
            "lens-projection": "rectilinear",
            "lens-centre": "free",
            "lens-free": "k1 k2 k3 p1 p2",
        }
        page = self.client.post(self.url("match/lens"), lens).content.decode()
        self.assertIn("Hold the centre in the middle", page)
        self.client.post(self.url("match/hold/centre"))
        self.client.post(self.url("match/hold/p2"))
        self.assertEqual(self.state()["lens"]["distortion"], {"free": ["k1", "k2", "k3", "p1"]})
        self.client.post(self.url("match/hold/distortion"))
        self.assertEqual(
            (self.state()["lens"]["distortion"], self.state()["lens"]["principal_point"]),
            ("none", "centre"),
        )
        curved = {
            "lens-projection": "equisolid",
            "lens-centre": "given",
            "lens-centre_at": "x",
            "lens-k1": "-0.1",
        }
        self.assertContains(
            self.client.post(self.url("match/lens"), curved), "two numbers in px", status_code=422
        )
        self.assertContains(
            self.client.post(self.url("match/lens"), curved | {"lens-centre": "centre"}),
            "rectilinear lens",
            status_code=422,
        )

    def test_spots_lie_on_planes(self):
        self.client.post(
            self.url("match/plane"),
            {"plane-name": "Table top", "plane-axis": "up", "plane-metres": ""},
        )
        plane = self.state()["planes"][0]
        at = self.state()["marks"][-1]
        self.client.post(
            self.url(f"match/mark/{at['id']}"),
            {"x0": "900", "y0": "500", "on": plane["id"], "sigma_px": "0.5"},
        )
        self.assertEqual(
            next(mark for mark in self.state()["marks"] if mark["id"] == at["id"])["on"],
            plane["id"],
        )
        self.client.post(
            self.url("match/plane"),
            {"plane-name": "Table top", "plane-axis": "up", "plane-metres": "92 cm"},
        )
        self.assertEqual([one["metres"] for one in self.state()["planes"]], [0.92])
        self.client.post(self.url(f"match/plane/{plane['id']}/remove"))
        self.assertFalse(any("on" in mark for mark in self.state()["marks"]))

    def test_marks_are_refined_to_the_picture(self):
        camera = truth(NAME)
        lintel = self.state()["marks"][0]
        answer = self.post_json("match/refine", ids=["e1", "e3", "s2"], base=None)
        self.assertIn("Refined", answer.json()["says"])
        refined = self.state()["marks"][0]
        self.assertLess(refined["sigma_px"], lintel["sigma_px"])
        true = camera.project([[-0.085, 2.115, 0.035], [1.005, 2.115, 0.035]])
        normal = np.array([-(true[1] - true[0])[1], (true[1] - true[0])[0]]) / np.linalg.norm(
            true[1] - true[0]
        )
        self.assertLess(np.abs((np.array(refined["points"]) - true[0]) @ normal).max(), 0.5)
        self.assertEqual(self.post_json("match/refine", ids=[]).status_code, 422)
        undo(self.shot)
        self.assertEqual(self.state()["marks"][0], lintel)

    def test_proposals_alone_give_the_lens(self):
        edit(self.shot, "empty", lambda state: state.update(marks=[], facts=[]))
        found = self.client.get(self.url("match/proposals")).json()
        self.assertGreater(min(found["counts"].values()), 5)
        self.post_json("match/take", axis="all")
        fit = self.fit()
        self.assertAlmostEqual(fit["camera"]["focal_mm"], 27.0, delta=0.3)
        self.assertEqual(len(fit["conflicts"]), 0)
        count = len(self.state()["marks"])
        self.post_json(
            "match/take", index=next(i for i, one in enumerate(found["segments"]) if one["axis"])
        )
        self.assertEqual(len(self.state()["marks"]), count + 1)
        for wrong in ({"axis": "north"}, {"index": 99999}, {}):
            self.assertEqual(self.post_json("match/take", **wrong).status_code, 422)

    def test_the_kit_and_what_to_measure_next(self):
        catalogue()
        page = self.client.get(self.url("match/kit")).content.decode()
        self.assertIn("Kittiwake 27 mm", page)
        self.client.post(self.url("match/kit/take"), {"says": "Saltmarsh Kittiwake 27 mm f/2.8"})
        self.assertEqual(self.state()["lens"]["focal_mm"], {"value": 27, "plus_minus": 0.27})
        for off, wanted in (
            ("1", None),
            ("0", {"value": 27, "plus_minus": 0.27}),
        ):  # switched off it is kept, not used
            self.client.post(self.url("match/switch/lens"), {"off": off})
            self.assertEqual(self.state()["lens"]["focal_mm"], wanted)
            self.assertContains(self.client.get(self.url("match")), "Focal length 27 mm")
        self.assertEqual(
            self.client.post(
                self.url("match/kit/take"), {"says": "gone"}, headers={"Accept": "application/json"}
            ).status_code,
            422,
        )
        self.assertContains(
            self.client.get(self.url("match/advice"), {"quantity": "height"}),
            "the camera&#x27;s height above the floor",
        )
        self.assertContains(
            self.client.get(self.url("match/advice"), {"quantity": "colour"}), "is not one of"
        )

    def test_aids_follow_the_wish(self):
        at = truth(NAME).project([[2.0, 0, 3.0]])[0]
        floor = self.client.get(self.url("match/floor"), {"x": at[0], "y": at[1]}).json()["at"]
        np.testing.assert_allclose(floor, (2.0, 3.0), atol=0.1)
        wish = {
            "walls": True,
            "map": True,
            "figures": [floor],
            "cubes": [[0, 1]],
            "room": {"from": [0, 0], "to": [2, 3], "height": 2.5},
        }
        overlay = self.post_json("match/state", aids=wish).json()["overlay"]
        classes = [path["class"] for path in overlay["paths"]]
        for name in ("wall", "aid", "aid room", "trust"):
            self.assertIn(name, classes)
        self.assertTrue(any(label["text"].endswith(" cm") for label in overlay["labels"]))
        self.assertEqual(
            self.client.get(
                self.url("match/floor"), {"x": 900, "y": 5}, headers={"Accept": "application/json"}
            ).status_code,
            422,
        )
        for wrong in ({"figures": [["a", 1]]}, {"room": {"from": [0]}}, {"cubes": [[1e999, 0]]}):
            self.assertEqual(
                self.client.post(
                    self.url("match/state"),
                    json.dumps({"aids": wrong}),
                    content_type="application/json",
                    headers={"Accept": "application/json"},
                ).status_code,
                422,
                wrong,
            )
        with Image.open(
            __import__("io").BytesIO(self.client.get(self.url("match/straight.jpg")).content)
        ) as straight:
            self.assertEqual(straight.size, (1920, 1080))


class Surveyed(WithShot):
    def test_points_are_taken_placed_and_expected(self):
        name = "LT060_boathouse_surveyed"
        self.upload(f"{name}.jpg", (FOLDER / f"{name}.jpg").read_bytes())
        self.client.post(self.url("gate"), {"format": "full-frame-16-9", "squeeze": "1"})
        rows = "\n".join(f"{label.replace(',', ' ')},{x},{y},{z}" for label, (x, y, z) in SURVEY)
        axes = {"survey-unit": "m", "survey-up_axis": "Y"}
        self.client.post(
            self.url("match/survey"),
            axes
            | {
                "survey-file": SimpleUploadedFile("p.csv", ("name,x,y,z\n" + rows).encode()),
                "survey-plus_minus": "4 mm",
            },
        )
        self.assertEqual(len(self.state()["survey"]), len(SURVEY))
        camera = truth(name)
        places = {label.replace(",", " "): at for label, at in SURVEY}
        for point in self.state()["survey"][:8]:
            self.post_json(
                "match/place",
                name=point["name"],
                at=camera.project([places[point["name"]]])[0].tolist(),
            )
        told = {
            one["name"]: one for one in self.client.get(self.url("match/state")).json()["survey"]
        }
        waiting = [one for one in told.values() if one.get("ellipse")]
        self.assertGreaterEqual(len(waiting), 3)
        for one in waiting:
            true = camera.project([places[one["name"]]])[0]
            self.assertLess(np.linalg.norm(np.array(one["at"]) - true), 4 * one["ellipse"][0])
        placed = self.state()["marks"][0]
        self.post_json("match/place", name=placed["name"], at=[5, 6])
        self.assertEqual((self.state()["marks"][0]["at"], len(self.state()["marks"])), ([5, 6], 8))
        before = self.state()
        self.assertEqual(self.post_json("match/place", name="none", at=[1, 2]).status_code, 422)
        self.assertEqual(
            self.post_json("match/place", name=placed["name"], at=["x", 2]).status_code, 422
        )
        self.assertContains(
            self.client.post(self.url("match/survey"), axes | {"survey-text": "A,1,2"}),
            "Line 1 has 3 cells",
            status_code=422,
        )
        self.assertContains(
            self.client.post(self.url("match/survey"), axes), "Paste a table", status_code=422
        )
        self.assertEqual(self.state(), before)
        self.client.post(self.url("match/survey"), {"clear": "1"})
        self.assertEqual(self.state()["survey"], [])


class Drafts(WithShot):
    def setUp(self):
        super().setUp()
        self.ready()

    def test_drafts_are_kept_continued_compared_and_protected(self):
        first = self.state()["marks"]
        self.client.post(self.url("match/draft/keep"), {"name": "With the lens"})
        self.client.post(
            self.url("match/focal"), {"focal-focal": "27", "focal-focal_plus_minus": "0.1"}
        )
        self.client.post(self.url("match/remove/e2"))
        beside = self.client.get(self.url("match/beside"), {"name": "First"}).json()
        self.assertIn("apart by", beside["html"])
        self.assertEqual(beside["marks"], first)
        self.client.post(self.url("match/draft/lock"), {"name": "With the lens"})
        self.assertEqual(
            self.client.post(
                self.url("match/remove/e3"), headers={"Accept": "application/json"}
            ).status_code,
            423,
        )
        self.client.post(self.url("match/draft/continue"), {"name": "First"})
        self.assertEqual((self.state()["marks"], self.state()["lens"]["focal_mm"]), (first, None))
        self.client.post(self.url("match/remove/e3"))
        self.client.post(self.url("match/draft/continue"), {"name": "With the lens"})
        self.assertEqual(len(self.state()["marks"]), len(first) - 1)
        for verb, name in (
            ("keep", "First"),
            ("keep", " "),
            ("continue", "None"),
            ("remove", "With the lens"),
            ("melt", "First"),
        ):
            self.assertEqual(
                self.client.post(
                    self.url(f"match/draft/{verb}"),
                    {"name": name},
                    headers={"Accept": "application/json"},
                ).status_code,
                422,
                verb,
            )
        self.client.post(self.url("match/draft/remove"), {"name": "First"})
        self.assertEqual(self.state()["drafts"], {})
        undo(self.shot)
        self.assertEqual(list(self.state()["drafts"]), ["First"])

    def test_an_earlier_revision_is_looked_at_and_taken(self):
        number = self.shot.revisions.latest("number").number
        self.client.post(self.url("match/remove/e1"))
        self.assertContains(self.client.get(self.url("match/revisions")), f"?revision={number}")
        page = self.client.get(self.url("match"), {"revision": number})
        self.assertContains(page, f"Revision {number}, to look at")
        self.assertContains(page, 'data-id="e1"')
        self.press(f"restore/{number}")
        self.assertIn("e1", [mark["id"] for mark in self.state()["marks"]])
        self.assertEqual(self.client.get(self.url("match"), {"revision": 9999}).status_code, 404)


class Demo(WithShot):
    def test_the_demos_shots_show_what_they_say(self):
        from aperture.match.solve import solve

        def fit(code, name):
            camera = truth(name)
            width, height = camera.grid.gate_mm
            found = match_of(code, camera)
            lens = dict(found.get("lens", {})) | {
                "principal_point": list(camera.principal_point_px)
            }
            return camera, solve(
                {
                    "format": "accurate-aperture/match",
                    "version": 1,
                    "image": {"width": camera.grid.width, "height": camera.grid.height},
                    "gate": {"width_mm": width, "height_mm": height},
                    "lens": lens,
                    "marks": found["marks"],
                    "facts": found["facts"],
                }
            ).document

        camera, bent = fit("LT030", "LT030_boathouse_wide")
        self.assertLess(
            abs(bent["camera"]["distortion"]["k1"] - camera.lens.coefficients[0]),
            3 * bent["plus_minus"]["distortion"]["k1"],
        )
        _, loft = fit("LT040", "LT040_net_loft")
        self.assertTrue({"f1", "f2"} <= set(loft["conflicts"][0]["of"]))
        self.assertRegex(
            loft["conflicts"][0]["says"], r"would be 1\.(59|60)"
        )  # what the window really is
        for code, name in (("LT050", "LT050_lamp_room"), ("LT060", "LT060_boathouse_surveyed")):
            camera, found = fit(code, name)
            self.assertEqual(found["conflicts"], [])
            self.assertLess(
                abs(found["camera"]["focal_mm"] - camera.lens.focal_mm),
                3 * found["plus_minus"]["focal_mm"],
            )
