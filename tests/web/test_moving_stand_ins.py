"""Stand-ins that move over the frames of a film: keyed, hung on, turned with the world, seen,
focused on, rendered, written."""

import tempfile
from pathlib import Path

import cv2
import numpy as np
import pygltflib
from pxr import Usd, UsdGeom

from aperture.geometry.rotation import rotation_from_angles
from tests.moving import scene
from tests.web.test_tracks import FRAMES, HasBoards
from web.elements.actions import Order, render_now, source_digest
from web.expose.focusing import focus_at
from web.match.path_fits import camera_of_state
from web.stage.follow import follow_world
from web.stage.places import points_of
from web.stage.stand_ins import stand_ins_of, standing_now

BOX = {
    "kind": "box",
    "name": "Skiff",
    "across": "-1 m",
    "along": "-6 m",
    "up": "0",
    "turn": "0",
    "width": "1 m",
    "height": "0.6 m",
    "depth": "0.4 m",
}


class OnFilm(HasBoards):
    """A film with a solved path, and a stand-in in its set."""

    def setUp(self):
        super().setUp()
        self.client.post(self.url("gate"), {"format": "full-frame-16-9", "squeeze": "1"})
        made = scene("sideways", frames=FRAMES, count=90)
        from tests.web.test_tracks import TracksOfAFilm

        TracksOfAFilm.put_scene(self, made, world=(0, 3, 8, 12))
        self.client.post(self.url("match/tracks/solve"))
        self.client.post(self.url("set"), BOX | {"base": self.base()})

    def go(self, frame):
        self.client.post(
            self.url("plate/frame"), {"frame": frame, "back": "set", "base": self.base()}
        )
        self.assertEqual(self.now().state["film"]["shown"], frame)

    def change(self, id_, **more):
        item = next(one for one in standing_now(self.now().state) if one["id"] == id_)
        answer = self.client.post(
            self.url(f"set?item={id_}"), {"name": item["name"], "base": self.base()} | more
        )
        self.assertEqual(answer.status_code, 302)

    def at(self, name, frame):
        return stand_ins_of(self.now().state)[name].at(frame)

    def skiff(self):
        """Keyed on the first frame, moved on the ninth: two metres to the right, and turned."""
        self.go(1)
        self.press("set/b1/key")
        self.go(9)
        self.change("b1", across="1 m", turn="90")


class Going(OnFilm):
    def test_keys_come_from_moving_it_and_go_again(self):
        self.skiff()
        self.assertEqual(
            [key[0] for key in self.now().state["stand_ins"][0]["way"]["keys"]], [1, 9]
        )
        np.testing.assert_allclose(self.at("Skiff", 5).base, (0, 0, -6), atol=1e-6)
        self.assertAlmostEqual(np.degrees(self.at("Skiff", 5).turn), 45, places=3)
        self.go(12)  # it rests after the last key
        self.assertEqual(standing_now(self.now().state)[0]["base"], [1.0, 0.0, -6.0])
        self.change("b1", up="0.5 m")
        self.assertEqual(len(self.now().state["stand_ins"][0]["way"]["keys"]), 3)
        self.change("b1", material="checker")  # no place, no key
        self.assertEqual(len(self.now().state["stand_ins"][0]["way"]["keys"]), 3)
        page = self.client.get(self.url("set?item=b1"))
        self.assertContains(page, "Take out the key of frame 9")
        self.press("set/b1/smooth")
        self.assertTrue(self.now().state["stand_ins"][0]["way"]["smooth"])
        self.press("set/b1/unkey", frame=12)
        self.assertEqual(self.press("set/b1/unkey", frame=12).status_code, 422)
        self.assertEqual(self.press("set/b1/unkey", frame="x").status_code, 422)
        self.go(5)
        there = standing_now(self.now().state)[0]["base"]
        self.press("set/b1/rest")
        self.assertNotIn("way", self.now().state["stand_ins"][0])
        np.testing.assert_allclose(self.now().state["stand_ins"][0]["base"], there, atol=1e-5)
        self.press("undo")
        self.press("set/b1/locked")
        self.assertEqual(self.press("set/b1/key").status_code, 422)

    def test_what_hangs_on_it_goes_along_and_the_world_may_turn(self):
        self.client.post(
            self.url("set"), BOX | {"name": "Lamp", "up": "0.6 m", "base": self.base()}
        )
        self.change("b2", parent="b1")
        self.skiff()
        lamp = self.at("Lamp", 9)
        np.testing.assert_allclose(lamp.base, (1, 0.6, -6), atol=1e-5)
        self.assertAlmostEqual(np.degrees(lamp.turn), 90, places=3)
        # Moved where it is now, it still goes along; so does it from elsewhere in the way.
        self.change("b2", up="0.8 m")
        np.testing.assert_allclose(self.at("Lamp", 1).base, (-1, 0.8, -6), atol=1e-5)
        state = self.now().state
        turn, shift = rotation_from_angles(0.7, 0.1, 0.0), np.array([3.0, 0.2, 1.0])
        turned = {**state, "stand_ins": list(state["stand_ins"])}
        self.press("set/b1/smooth")
        follow_world(turned, turn, shift)
        for frame in (1, 4, 9):
            for name in ("Skiff", "Lamp"):
                before = stand_ins_of(state)[name].at(frame).vertices()
                after = stand_ins_of(turned)[name].at(frame).vertices()
                np.testing.assert_allclose(after, before @ turn.T + shift, atol=1e-4)
        # What it hangs on taken away, it stays where it is on the frame that is worked on.
        self.go(5)
        before = self.at("Lamp", 5).vertices()
        self.press("set/b1/remove")
        np.testing.assert_allclose(self.at("Lamp", 5).vertices(), before, atol=1e-4)

    def test_every_step_sees_it_where_it_is(self):
        self.skiff()
        digest = source_digest(self.now().state)
        seen = self.client.get(self.url("set/seen.json?first=1&last=12")).json()
        for frame in (2, 9):
            points = np.reshape(seen[str(frame)]["moved"]["b1"]["points"], (-1, 3))
            np.testing.assert_allclose(points, self.at("Skiff", frame).vertices(), atol=1e-4)
        # The focus that follows it is keyed by it.
        self.press(
            "expose/focus", follow="Skiff, upper back right", metres="", basis="frame", circle=""
        )
        for frame in (1, 9):
            corner = self.at("Skiff", frame).bounds()[6]
            camera = camera_of_state(self.now().state, frame)
            away = -camera.to_camera_space(corner[None])[0, 2]
            self.assertAlmostEqual(focus_at(self.now(), frame).metres, away, places=5)
        # A click follows the tracked point that is seen there, with or without a name.
        camera = camera_of_state(self.now().state)
        named, world = next(iter(points_of(self.now()).items()))
        near = (camera.project([world])[0] + 0.4).tolist()
        answer = self.post_json("expose/focus/follow", at=near, base=self.base())
        self.assertEqual(answer.json()["name"], f"track {named}")
        away = -camera.to_camera_space(np.array([world]))[0, 2]
        self.assertAlmostEqual(focus_at(self.now()).metres, away, places=5)
        self.assertEqual(
            self.post_json("expose/focus/follow", at=[5, 2], base=self.base()).status_code, 422
        )
        # It is smeared though the camera stood still, and a render of each frame shows it there.
        self.client.post(self.url("expose"), {"shutter": "1/48", "base": self.base()})
        row = self.client.get(self.url("expose/blur")).content.decode()
        self.assertRegex(row, r"Longest streak")
        self.assertEqual(self.client.get(self.url("expose/map/smeared.png")).status_code, 200)
        order = Order(("masks",), samples=4, frames=(3, 4), motion=True)
        from web.elements.actions import gather, render_frame

        for frame in (3, 4):
            render_frame(self.now(), order, frame)
        gather(self.now(), order)
        made = self.now().renders.first()
        for frame in (3, 4):
            alpha = cv2.imread(str(made.of_frame(frame) / "alpha.png"), cv2.IMREAD_GRAYSCALE) / 255
            columns = np.flatnonzero(alpha.sum(axis=0) > 0.5)
            camera, item = camera_of_state(self.now().state, frame), self.at("Skiff", frame)
            px = camera.project(item.bounds())[:, 0]
            self.assertAlmostEqual(columns.mean(), px.min() / 2 + px.max() / 2, delta=8)
        # Another frame that is worked on makes no render old.
        self.go(2)
        self.assertEqual(source_digest(self.now().state), digest)
        render_now(self.now(), Order(samples=1, size="quarter"))

    def test_the_files_have_its_way(self):
        self.skiff()
        state = self.now().state
        with tempfile.TemporaryDirectory() as folder:
            for ending in ("usda", "gltf"):
                path = Path(folder) / f"scene.{ending}"
                path.write_bytes(self.client.get(self.url(f"hand-off/camera.{ending}")).content)
            stage = Usd.Stage.Open(str(Path(folder) / "scene.usda"))
            mesh = UsdGeom.Mesh(next(p for p in stage.Traverse() if p.GetName() == "Skiff"))
            for frame in (1, 6, 12):
                own = np.array(mesh.GetPointsAttr().Get())
                matrix = np.array(mesh.ComputeLocalToWorldTransform(frame))
                world = (np.c_[own, np.ones(len(own))] @ matrix)[:, :3]
                metres = world * UsdGeom.GetStageMetersPerUnit(stage)
                wanted = stand_ins_of(state)["Skiff"].at(frame).vertices()
                np.testing.assert_allclose(metres, wanted, atol=1e-5)
            document = pygltflib.GLTF2().load(str(Path(folder) / "scene.gltf"))
            node = next(i for i, one in enumerate(document.nodes) if one.name == "Skiff")
            targets = [c.target.node for a in document.animations for c in a.channels]
            self.assertEqual(targets.count(node), 2)
