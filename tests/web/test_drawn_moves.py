"""Moves that are drawn in the application, and the rig's: begun, keyed, thinned, recorded, flown,
undone."""

import tempfile
from pathlib import Path

import numpy as np
from pxr import Usd, UsdGeom

from aperture.moves.flight import PRESETS
from aperture.moves.rig import Program, play
from tests.web.test_shots import WithShot
from web.match.path_fits import camera_of_state, matched_camera
from web.moves.authoring import made
from web.moves.kept import move_called, on_plate, rate_of
from web.moves.models import MoveLimits
from web.shows.history import edit

CRATE = {"id": "b1", "name": "Crate", "size": [1, 1, 1], "base": [0, 0, -3], "turn_deg": 0}


class Drawn(WithShot):
    def setUp(self):
        super().setUp()
        self.ready()
        edit(self.shot, "Crate", lambda state: state.update(stand_ins=[CRATE]))

    def kept(self, id_="m1"):
        return move_called(self.state(), id_)

    def keys(self, id_="m1"):
        return self.kept(id_).authored.to_json()

    def save(self, id_="m1", status=200, **more):
        body = {"base": self.head(), "authored": self.keys(id_), **more}
        answer = self.post_json(f"moves/{id_}/save-keys", **body)
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def test_begun_keyed_used_and_undone(self):
        self.press("moves/begin")
        # It begins where the shot's camera is.
        camera = matched_camera(self.state())
        begun = on_plate(self.state(), "m1").at(1)
        np.testing.assert_allclose(begun.world_from_camera, camera.world_from_camera, atol=1e-9)
        self.assertAlmostEqual(begun.lens.focal_mm, camera.lens.focal_mm, places=6)
        self.assertContains(self.client.get(self.url("moves/m1/keys")), "Key here")
        self.assertContains(self.client.get(self.url("moves")), "Drawn here")
        pose = camera.world_from_camera.copy()
        pose[:3, 3] += [1, 0.5, -2]
        told = self.save(key_here=pose.ravel().tolist(), frame=49, label="key on frame 49")
        self.assertEqual(len(told["authored"]["curves"]["x"]), 2)
        path = on_plate(self.state(), "m1")
        np.testing.assert_allclose(path.at(49).world_from_camera, pose, atol=1e-6)
        self.press("moves/m1/serve")
        np.testing.assert_allclose(camera_of_state(self.state(), 49).position, pose[:3, 3])
        # Focus and stop by keys go into the files.
        keys = self.keys()
        keys["curves"] |= {
            "focus": [[1, 4.0, "linear"], [49, 2.0, "linear"]],
            "stop": [[1, 2.8, "flat"]],
        }
        self.save(authored=keys, label="focus")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "camera.usda"
            path.write_bytes(self.client.get(self.url("hand-off/camera.usda")).content)
            stage = Usd.Stage.Open(str(path))
            camera = next(prim for prim in stage.Traverse() if prim.IsA(UsdGeom.Camera))
            self.assertAlmostEqual(camera.GetAttribute("focusDistance").Get(1), 400, places=3)
            self.assertAlmostEqual(camera.GetAttribute("fStop").Get(1), 2.8, places=5)
        self.client.post(self.url("undo"), {"base": self.head()})
        # Not by what was read out of a file.
        self.assertEqual(self.press("moves/m1/understand", camera="").status_code, 422)
        self.client.post(self.url("undo"), {"base": self.head()})
        self.client.post(self.url("undo"), {"base": self.head()})
        self.assertEqual(len(self.keys()["curves"]["x"]), 1)

    def test_looked_at_flown_and_read_out(self):
        self.press("moves/begin")
        keys = self.keys()
        keys["curves"]["z"] = [[1, 6.0, "smooth"], [96, -6.0, "smooth"]]
        keys["curves"] |= {"x": [[1, 0.2, "smooth"]], "y": [[1, 0.5, "smooth"]]}
        answer = self.post_json("moves/m1/try", authored=keys).json()
        says = [one["says"] for one in answer["remarks"]]
        self.assertTrue(any("touches a stand-in" in one for one in says), says)
        self.assertEqual(answer["nearest"][40], "Crate")
        fast = int(np.argmax(answer["readings"]["speed"]))
        self.assertIn(f"Speed {answer['readings']['speed'][fast]:.2f} m/s", " ".join(says))
        self.press(
            "moves/m1/limits",
            speed="9",
            acceleration="99",
            pan="99",
            tilt="99",
            roll="99",
            low="0",
            high="9",
        )
        self.assertEqual(MoveLimits.of(self.shot.show).speed, 9)
        answer = self.post_json("moves/m1/try", authored=keys).json()
        self.assertEqual(len(answer["remarks"]), 1)
        self.assertEqual(self.press("moves/m1/limits", speed="0").status_code, 422)
        keys["looks_at"] = [0.0, 1.0, -9.0]
        aircraft = PRESETS["helicopter"][1].to_json()
        answer = self.post_json("moves/m1/try", authored=keys, aircraft=aircraft).json()
        self.assertEqual(len(answer["readings"]["off"]), 96)
        self.save(authored=keys, aircraft=aircraft, label="flown")
        kept = self.kept()
        flown = made(kept.authored, kept.aircraft, rate_of(self.shot)).move
        np.testing.assert_allclose(kept.move.positions, flown.positions, atol=1e-12)
        told = self.save(flying_lens=True, aircraft=aircraft)
        focal = told["authored"]["curves"]["focal"][0][1]
        self.assertAlmostEqual(np.degrees(2 * np.arctan(18 / focal)), 110, places=6)
        # The link beside it lays that out on the Gate step's claims: a straight-line lens, across.
        link = self.client.get(self.url("moves/m1/keys")).context["claim"]
        self.assertContains(self.client.get(link), "for: rectilinear across (110.0°)")
        for wrong, says in (
            ({"curves": {"warp": [[1, 1, "smooth"]]}}, "no channel"),
            ({"curves": {"x": [[1, 1, "bouncy"]]}}, "not one of"),
            ({"curves": {"focal": [[1, -5, "smooth"]]}}, "focal length"),
            ({"first": 5, "last": 1}, "frames"),
            ({"curves": 7}, "keys of a move"),
            ({"looks_at": ["a"]}, "keys of a move"),
        ):
            answer = self.post_json("moves/m1/try", authored=keys | wrong)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(says, answer.json()["problem"])
        wrong = aircraft | {"thrust_n": 1}
        self.save(status=422, aircraft=wrong)
        self.save(status=422, aircraft={"wings": 2})

    def test_recorded_by_hand_and_thinned(self):
        self.press("moves/begin")
        seconds = np.arange(0, 3, 1 / 60) + 0.004 * np.sin(
            np.arange(180)
        )  # a browser's uneven frames
        seconds -= seconds[0]
        poses = np.tile(np.eye(4), (180, 1, 1))
        poses[:, :3, 3] = np.stack([np.sin(seconds), 1.5 + 0 * seconds, 5 - seconds**2 / 4], axis=1)
        body = {
            "base": self.head(),
            "authored": self.keys(),
            "frame": 11,
            "seconds": seconds.tolist(),
            "poses": poses.reshape(-1, 16).tolist(),
            "px": 1.0,
        }
        answer = self.post_json("moves/m1/record", **body)
        self.assertEqual(answer.status_code, 200, answer.content)
        keys = answer.json()["authored"]["curves"]["x"]
        self.assertLess(len(keys), 30)
        move = self.kept().move
        at = (np.arange(11, 80) - 11) / float(rate_of(self.shot))
        found = move.positions[(move.frames >= 11) & (move.frames < 80)]
        np.testing.assert_allclose(found[:, 0], np.sin(at), atol=5e-3)
        back = body | {"base": self.head(), "seconds": seconds[::-1].tolist()}
        self.assertEqual(self.post_json("moves/m1/record", **back).status_code, 422)

    def test_from_the_rig_to_few_keys(self):
        page = self.client.get(self.url("moves/rig"))
        self.assertContains(page, "Send it to the shot")
        program = {
            "kind": "line",
            "start_x": "0",
            "start_y": "1",
            "start_z": "1.2",
            "end_x": "1.5",
            "end_y": "1.6",
            "end_z": "0.8",
            "stand_x": "2",
            "stand_z": "4",
            "stand_turn": "25",
            "ending": ".csv",
            "unit": "in",
            "up_axis": "Z",
        }
        told = self.client.get(self.url("moves/rig/play"), program).json()
        rig = Program("line", (0, 1, 1.2), (1.5, 1.6, 0.8), seconds=3.5, gate_mm=(36.0, 20.25))
        poses = play(rig, self.shot.show.rate).poses()
        np.testing.assert_allclose(told["camera"][-1], poses[-1, :3, 3], atol=1e-3)
        far = self.client.get(
            self.url("moves/rig/play"),
            program | {"start_z": "3"},
            headers={"Accept": "application/json"},
        )
        self.assertEqual(far.status_code, 422)
        self.assertIn("the arm reaches", far.json()["problem"])
        self.assertIn(b"Crate", self.client.get(self.url("moves/rig/points"), program).content)
        self.press("moves/rig/send", **program)
        kept = self.kept()
        np.testing.assert_allclose(kept.move.positions[-1], poses[-1, :3, 3], atol=1e-5)
        self.press("moves/m1/stand-referred")
        turn = self.kept().stands
        np.testing.assert_allclose(turn[:3, 3], [2, 0, 4], atol=0.05)
        self.press("moves/m1/thin", tolerance="1")
        thin = self.kept("m2")
        self.assertLess(len(thin.authored.curve("x").keys), 15)
        np.testing.assert_allclose(thin.move.positions, self.kept().move.positions, atol=0.02)
        self.assertEqual(self.press("moves/m1/thin", tolerance="0").status_code, 422)
        self.assertEqual(self.press("moves/m1/save-keys").status_code, 422)
        edit(self.shot, "Shifted", lambda state: state.update(shift=state["shift"] + 100))
        self.assertEqual(self.kept("m2").authored.first - thin.authored.first, 100)
