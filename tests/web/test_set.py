"""The Set step's verbs: plans, meshes, hanging one on another, locking, hiding, copies, the plate
card."""

import math

import numpy as np
import trimesh
from django.core.files.uploadedfile import SimpleUploadedFile

from aperture.scene import handles
from demo.plates import truth
from tests.web.matched import MatchedShot
from tests.web.test_shots import NAME
from web.shows.history import create_shot
from web.stage.stand_ins import stand_in_from


class SetStep(MatchedShot):
    def test_one_stands_on_another_hangs_on_it_and_goes_along(self):
        crate = self.place((1.9, 0, 3.3), name="Crate", kind="box")
        lamp = self.place(
            (1.9, 0.6, 3.3), name="Lamp", kind="cylinder", width="0.2", depth="0.2", height="0.3"
        )
        self.assertAlmostEqual(lamp["base"][1], 0.6, delta=0.02)
        self.client.post(
            f"/shows/tide/LT901/set?item={lamp['id']}", {"parent": crate["id"], "name": "Lamp"}
        )
        before, across = self.items()[1]["base"], self.items()[0]["base"]
        self.client.post(
            f"/shows/tide/LT901/set?item={crate['id']}",
            {"turn": "90", "across": f"{across[0] + 0.5} m", "name": "Crate"},
        )
        crate, lamp = self.items()
        self.assertAlmostEqual(lamp["turn_deg"], 90)
        off = np.subtract(before, across)
        np.testing.assert_allclose(
            np.subtract(lamp["base"], crate["base"]), (off[2], off[1], -off[0]), atol=2e-5
        )
        answer = self.client.post(
            f"/shows/tide/LT901/set?item={crate['id']}", {"parent": lamp["id"], "name": "Crate"}
        )
        self.assertContains(answer, "hang on what hangs on it", status_code=422)
        self.client.post(f"/shows/tide/LT901/set/{crate['id']}/remove")
        self.assertIsNone(self.items()[0]["parent"])

    def test_a_drag_says_how_far_and_snaps_to_a_spot(self):
        crate = self.place((1.9, 0, 3.3), name="Crate", kind="box")
        tip = handles.places(stand_in_from(crate))["across"] + (0.5, 0, 0)
        answer = self.post(
            "drag", id=crate["id"], handle="across", at=truth(NAME).project([tip])[0].tolist()
        ).json()
        self.assertRegex(answer["moved"], r"^0\.(4[7-9]|5[0-3])\d m across$")
        near = truth(NAME).project([(0.02, 0, 0.03)])[0].tolist()
        self.post("drag", id=crate["id"], handle="move", at=near, snap=True, done=True)
        self.assertEqual(self.items()[0]["base"], [0, 0, 0])  # the doorway's foot

    def test_locked_hidden_copied(self):
        crate = self.place((1.9, 0, 3.3), name="Crate 7", kind="box")
        self.client.post(f"/shows/tide/LT901/set/{crate['id']}/duplicate")
        copy = self.items()[-1]
        self.assertEqual(copy["name"], "Crate 2")
        self.assertAlmostEqual(math.dist(copy["base"], crate["base"]), 1.0, places=4)
        self.client.post(f"/shows/tide/LT901/set/{crate['id']}/locked")
        self.assertEqual(
            self.post("drag", id=crate["id"], handle="move", at=[900, 800], done=True).status_code,
            422,
        )
        self.assertEqual(
            self.client.post(f"/shows/tide/LT901/set/{crate['id']}/remove").status_code, 422
        )
        self.client.post(f"/shows/tide/LT901/set/{copy['id']}/hidden")
        page = self.client.get("/shows/tide/LT901/set")
        self.assertEqual([item["id"] for item in page.context["page"]["items"]], [crate["id"]])
        self.assertEqual(
            self.client.post(f"/shows/tide/LT901/set/{copy['id']}/teapot").status_code, 422
        )

    def test_a_plan_is_pulled_up(self):
        corners = (
            truth(NAME)
            .project([(0.5, 0, 1), (2.5, 0, 1), (2.5, 0, 3), (1.5, 0, 3), (1.5, 0, 2), (0.5, 0, 2)])
            .tolist()
        )
        self.assertEqual(
            self.post("plan", corners=corners, kind="block", height="40 cm").status_code, 200
        )
        block = self.items()[0]
        np.testing.assert_allclose(block["size"], (2, 0.4, 2), atol=0.05)
        for wrong in (
            {"corners": corners[:2]},
            {"corners": [corners[i] for i in (0, 2, 1, 3)]},
            {"corners": [[1, 2], [3, 4], "x"]},
            {"height": "tall"},
        ):
            self.assertEqual(
                self.post("plan", **{"corners": corners, "height": "1"} | wrong).status_code,
                422,
                wrong,
            )

    def test_a_mesh_comes_in_and_a_broken_one_is_refused_in_its_place(self):
        def send(name, data):
            return self.client.post(
                "/shows/tide/LT901/set/mesh",
                {"file": SimpleUploadedFile(name, data), "unit": "cm", "up_axis": "Y"},
            )

        self.assertEqual(
            send("buoy.stl", trimesh.creation.icosphere(3, 25).export(file_type="stl")).status_code,
            302,
        )
        item = self.items()[0]
        np.testing.assert_allclose(item["size"], [0.5] * 3, atol=0.005)
        self.assertEqual(item["name"], "buoy")
        self.assertContains(
            self.client.get(f"/shows/tide/LT901/set?item={item['id']}"),
            "1,280 faces, brought in in",
        )
        holed = trimesh.creation.icosphere(3, 25)
        holed.update_faces(np.arange(1280) != 7)
        send("holed.stl", holed.export(file_type="stl"))
        self.assertContains(
            self.client.get(f"/shows/tide/LT901/set?item={self.items()[-1]['id']}"),
            "3 edges belong to one face only",
        )
        self.assertEqual(
            len(
                self.client.get("/shows/tide/LT901/set").context["page"]["world"]["solids"][
                    item["id"]
                ]["faces"]
            ),
            3 * 1280,
        )
        self.assertContains(send("buoy.stl", b"nothing"), "has no faces", status_code=422)
        self.assertContains(send("buoy.fbx", b"nothing"), "t be used here. Bring", status_code=422)

    def test_the_card_grows_with_its_distance_and_hides_what_is_behind_it(self):
        self.place((1.9, 0, 3.3), name="Crate", kind="box")
        self.client.post("/shows/tide/LT901/set/card", {"distance": "2 m"})
        self.assertContains(self.client.get("/shows/tide/LT901/set"), "Behind the plate card")
        row = self.client.get("/shows/tide/LT901/set?leaf=plate").context["card_rows"][0]
        self.assertAlmostEqual(
            float(row.value.split(" ")[0]), 2 * 36 / truth(NAME).lens.focal_mm, delta=0.02
        )
        self.assertEqual(
            self.client.post("/shows/tide/LT901/set/card", {"distance": "-3"}).status_code, 422
        )

    def test_the_cameras_of_a_shot_without_one(self):
        bare = create_shot(self.shot().show, "LT902")
        page = self.client.get(f"/shows/tide/{bare.code}/set?leaf=cameras")
        self.assertContains(page, "There is no camera yet")

    def test_a_gap_is_told_and_closed_by_its_button(self):
        self.place((1.0, 0, 2.4), name="Floor", kind="plane", width="3", depth="3", height="0")
        floor = self.items()[0]["base"]
        self.client.post(
            "/shows/tide/LT901/set?kind=box",
            {
                "name": "Wall",
                "kind": "box",
                "width": "3",
                "height": "2",
                "depth": "0.1",
                "across": f"{floor[0]} m",
                "up": "1.5 cm",
                "along": f"{floor[2] - 1.4} m",
            },
        )
        remark = next(
            one
            for one in self.client.get("/shows/tide/LT901/set?leaf=plate").context["remarks"]
            if one.title == "A gap"
        )
        self.assertIn("up to 0.015 m wide", remark.says)
        ((_, button),) = remark.remedies
        self.client.post(button["action"], button["fields"])
        self.assertAlmostEqual(self.items()[1]["base"][1], 0.0, places=5)
        self.assertNotIn(
            "A gap",
            [
                one.title
                for one in self.client.get("/shows/tide/LT901/set?leaf=plate").context["remarks"]
            ],
        )
        self.assertEqual(self.client.post(button["action"], {"shift": "1 2"}).status_code, 422)
