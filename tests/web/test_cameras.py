"""The Set step's cameras and its plate card: copies, typed ones, looking through them, locking; the
card left in space."""

import tempfile
from pathlib import Path

import numpy as np
from pxr import Gf, Usd, UsdGeom

from demo.plates import truth
from tests.web.matched import MatchedShot
from tests.web.test_shots import NAME
from web.shows.history import edit
from web.stage.stand_ins import stand_in_from


class Cameras(MatchedShot):
    URL = "/shows/tide/LT901/set"

    def verb(self, verb, camera="match", **more):
        return self.client.post(f"{self.URL}/camera", {"verb": verb, "camera": camera} | more)

    def typed(self, camera, **fields):
        return self.client.post(f"{self.URL}/camera/typed", {"camera": camera} | fields)

    def page(self, **query):
        return self.client.get(self.URL, query).context["page"]

    def test_a_copy_sees_what_its_original_sees_until_it_is_moved(self):
        crate = stand_in_from(self.place((1.9, 0, 3.3), name="Crate", kind="box"))
        self.verb("copy")
        self.assertEqual(self.page(through="c1")["lens"], self.page()["lens"])
        self.assertIs(self.page()["card"], True)
        self.typed("c1", across="1 m", tilt="-12", focal="40 mm")
        seen = self.page(through="c1")["handles"]["b1"]["move"]
        fit = truth(NAME)  # within what the match knows of it
        self.assertEqual(self.shot().state["cameras"][0]["name"], "Camera 1")
        ray = self.camera("c1").rays([seen])[0]
        np.testing.assert_allclose(
            np.cross(np.array(crate.base) - self.camera("c1").position, ray), 0, atol=1e-6
        )
        self.assertAlmostEqual(self.camera("c1").position[1], fit.position[1], delta=0.05)
        self.verb("copy", "c1")
        self.assertEqual(
            [one["name"] for one in self.shot().state["cameras"]], ["Camera 1", "Camera 2"]
        )

    def test_placing_goes_through_the_camera_that_is_looked_through(self):
        self.verb("type")
        self.typed("c1", across="0", up="2 m", along="6 m", tilt="-25")
        at = self.camera("c1").project([(0.4, 0, 2.0)])[0].tolist()
        answer = self.post(
            "place",
            at=at,
            through="c1",
            typed={"width": "1", "height": "1", "depth": "1", "name": "Crate", "kind": "box"},
        )
        self.assertIn("through=c1", answer.json()["url"])
        np.testing.assert_allclose(self.items()[0]["base"], (0.4, 0, 2.0), atol=1e-4)

    def test_a_locked_one_refuses_and_what_is_wrong_is_said_beside_its_field(self):
        self.verb("copy")
        self.assertContains(self.typed("c1", focal="long"), "focal length", status_code=422)
        self.verb("lock", "c1")
        self.assertContains(self.typed("c1", focal="40"), "is locked", status_code=422)
        self.assertEqual(self.verb("remove", "c1").status_code, 422)
        self.verb("lock", "c1")
        self.verb("remove", "c1")
        self.assertEqual(self.shot().state["cameras"], [])
        self.client.post("/shows/tide/LT901/undo", {"base": self.shot().head.number})
        self.assertEqual(len(self.shot().state["cameras"]), 1)

    def test_focus_and_frustum_as_they_were_typed(self):
        self.client.post(
            f"{self.URL}/camera/looks",
            {
                "camera": "match",
                "length_m": "3 m",
                "focus_m": "250 cm",
                "facts": "front",
                "opacity": "30",
                "stop": "2.8",
            },
        )
        one, camera = self.page()["world"]["cameras"][0], self.camera("match")
        for corners, distance in ((one["end"], 3.0), (one["focus"], 2.5)):
            np.testing.assert_allclose(-camera.to_camera_space(corners)[:, 2], distance, atol=1e-6)
        self.assertIn("focus 2.5", " ".join(one["facts"]))
        self.assertIn("T 2.8", " ".join(one["facts"]))

    def test_a_card_left_in_space_stays_when_the_camera_moves(self):
        self.client.post(f"{self.URL}/card", {"verb": "leave"})
        corners, card = (
            np.array(self.page()["world"]["card"]),
            np.array(self.page()["card"]).reshape(3, 3),
        )
        at = (
            np.array([[0, 0, 1], [1920, 1080, 1]]) @ card.T
        )  # nothing has moved: each px of the plate lies where it is
        np.testing.assert_allclose(at[:, :2] / at[:, 2:], [[0, 0], [1920, 1080]], atol=0.01)
        edit(self.shot(), "Another door", lambda state: state["facts"][0].update(metres=2.30))
        moved = self.page()
        np.testing.assert_allclose(moved["world"]["card"], corners, atol=1e-6)
        self.assertGreater(
            np.abs(np.array(moved["card"]).reshape(3, 3) / moved["card"][8] - np.eye(3)).max(), 1.0
        )
        self.client.post(f"{self.URL}/card", {"verb": "show", "in": "lens"})
        self.assertIsNone(self.page()["world"]["card"])

    def test_the_hand_off_takes_all_of_them_along(self):
        """Read with OpenUSD: where its own frustum puts a point is where the page's camera sees
        it."""
        self.verb("type")
        self.typed(
            "c1",
            name="Side camera",
            across="-1 m",
            up="2 m",
            along="5 m",
            pan="-40",
            tilt="-15",
            focal="32 mm",
        )
        self.client.post(
            f"{self.URL}/camera/looks", {"camera": "c1", "focus_m": "2.5 m", "facts": "none"}
        )
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "shot.usda"
            path.write_bytes(self.client.get("/shows/tide/LT901/hand-off/camera.usda").content)
            stage = Usd.Stage.Open(str(path))
            found = {
                prim.GetName(): UsdGeom.Camera(prim)
                for prim in stage.Traverse()
                if prim.IsA(UsdGeom.Camera)
            }
            self.assertEqual(list(found), ["LT901_camera", "Side_camera"])
            for name, id_ in (("LT901_camera", "match"), ("Side_camera", "c1")):
                camera, usd = self.camera(id_), found[name].GetCamera(Usd.TimeCode.Default())
                local = usd.frustum.ComputeViewMatrix().Transform(Gf.Vec3d(120, 50, 150))
                seen = usd.frustum.ComputeProjectionMatrix().Transform(local)
                wanted = camera.project([(1.2, 0.5, 1.5)])[0]
                np.testing.assert_allclose(
                    [(seen[0] + 1) / 2 * camera.grid.width, (1 - seen[1]) / 2 * camera.grid.height],
                    wanted,
                    atol=0.01,
                )
            self.assertAlmostEqual(
                found["Side_camera"].GetFocusDistanceAttr().Get(), 250.0, places=3
            )
            self.assertAlmostEqual(
                found["LT901_camera"].GetFStopAttr().Get(), 4.0, places=5
            )  # as the plate's file has it
