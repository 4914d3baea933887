"""Tracks and the path in the application: followed and solved by a worker, told of, taken back,
kept through what else changes."""

import csv
import json
import re
from unittest.mock import patch

import cv2
import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TransactionTestCase
from django.utils import timezone
from pxr import Usd, UsdGeom

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.match.document import validate
from aperture.plates.way_in import WayIn
from aperture.track.detect import corners
from aperture.track.tracks import Tracks
from tests.moving import GRID, LENS, scene, zooming
from tests.web.test_shots import HasShot
from web.elements.actions import Order
from web.elements.starting import start_render
from web.jobs import runner
from web.jobs.models import Job
from web.match import following, path_fits, tracking
from web.plates import film_actions, time_actions, way_actions
from web.shows.history import edit, undo
from web.shows.models import Shot

FRAMES, SIZE = 12, (384, 216)


def pictures():
    """Pictures of textured boards at three distances, past which a camera moves."""
    rng = np.random.default_rng(7)
    soft = cv2.GaussianBlur(rng.normal(0, 1, (600, 1000)).astype(np.float32), (0, 0), 3)
    boards = np.clip(128 + 50 * soft / soft.std(), 0, 255).astype(np.uint8)
    small = GRID.resize(*SIZE)
    for number in range(FRAMES):
        camera = Camera.at(small, LENS, (0.25 * number - 1.4, 1.5, 0), 0.03 * np.sin(number / 3))
        picture = np.zeros(SIZE[::-1], np.uint8)
        for left, bottom, width, height, away in (
            (-9, -4, 18, 12, 11),
            (-4, -0.5, 3.5, 3, 6),
            (0.6, -0.2, 3, 2.6, 5),
        ):
            ends = [
                (left, bottom + height),
                (left + width, bottom + height),
                (left + width, bottom),
                (left, bottom),
            ]
            world = np.array([[x, y, -away] for x, y in ends])
            # Straight lines through the lens's middle only: its distortion is left out here.
            plain = Camera(small, type(LENS)(LENS.focal_mm), camera.world_from_camera)
            onto = plain.project(world).astype(np.float32) - 0.5
            own = np.array([[0, 0], [999, 0], [999, 599], [0, 599]], np.float32)
            turn = cv2.getPerspectiveTransform(own, onto)
            drawn = cv2.warpPerspective(boards, turn, SIZE, flags=cv2.INTER_AREA)
            inside = cv2.warpPerspective(np.ones_like(boards), turn, SIZE)
            picture = np.where(inside > 0, drawn, picture)
        yield number + 1, picture


class HasBoards(HasShot, TransactionTestCase):
    """A shot whose plate is a short film of boards."""

    def setUp(self):
        super().setUp()
        files = []
        for number, picture in pictures():
            data = cv2.imencode(".png", picture)[1].tobytes()
            files.append(SimpleUploadedFile(f"board.{number:04d}.png", data))
        self.client.post(self.url("plate"), {"picture": files, "base": self.base()})
        self.shot = self.now()
        self.assertEqual(self.shot.state["film"]["last"], FRAMES)

    def now(self):
        return Shot.objects.with_head().get(pk=self.shot.pk)

    def base(self):
        return self.now().head.number

    def ask(self, **wish):
        return self.client.post(
            self.url("match/tracks/change"),
            json.dumps({"base": self.base(), **wish}),
            "application/json",
            headers={"accept": "application/json"},
        )

    def put_tracks(self, count=6):
        """Tracks that nobody has followed."""
        frames = np.tile(np.arange(1, FRAMES + 1), count)
        track = np.repeat(np.arange(count), FRAMES)
        xy = np.stack([20 + 30 * track + frames, 40 + 20 * track], axis=1)
        ids = [f"t{n + 1}" for n in range(count)]
        made = Tracks.build(ids, track, frames, xy, np.full((len(track), 1), 0.1))
        tracking.change_tracks(self.now(), "Tracks", lambda before: made)


class TracksOfAFilm(HasBoards):
    def test_followed_and_solved_by_a_worker_and_undone(self):
        answer = self.client.post(self.url("match/tracks/follow"), {"wanted": "120", "reach": "7"})
        self.assertEqual(answer.status_code, 302)
        tracks = tracking.tracks_of(self.now().state)
        self.assertGreater(len(tracks), 60)
        self.assertGreater(np.median(tracks.lengths()), 6)
        self.client.post(self.url("match/tracks/solve"))
        job = Job.objects.filter(kind="path").first()
        self.assertEqual(job.state, Job.DONE, job.says)
        state = self.now().state
        fit = path_fits.path_fit(state)
        self.assertEqual(fit["motion"], "free")
        self.assertAlmostEqual(fit["camera"]["focal_px"][1] / SIZE[0], 20 / 24, delta=0.06)
        path = path_fits.path_of_state(state)
        self.assertEqual(path.frames.tolist(), list(range(1, FRAMES + 1)))
        # Of a camera that went straight to the right, past what it sees.
        walked = path.positions[-1] - path.positions[0]
        to_the_right = path.rotations[:, :, 0].mean(axis=0)
        self.assertGreater(walked @ to_the_right / np.linalg.norm(walked), 0.98)
        page = self.client.get(self.url("match/leaf/tracks")).content.decode()
        for words in ("moves freely", "Focal length", "not set", "path-curve", "not set|not set"):
            self.assertIn(words, page)
        self.assertNotIn("earlier evidence", page)
        self.ask(verb="remove", ids=[tracks.ids[0]])
        self.assertContains(self.client.get(self.url("match/leaf/tracks")), "earlier evidence")
        undo(self.now(), self.base())
        self.assertFalse(path_fits.is_old(self.now().state))
        time_actions.begin_shot_at(self.now(), 1001)
        state = self.now().state
        self.assertFalse(path_fits.is_old(state))
        self.assertEqual(path_fits.path_of_state(state).frames[0], 1001)

    def told(self, path, message):
        """The answer to a script's message."""
        return self.client.post(self.url(path), json.dumps(message), "application/json").json()

    def test_a_placed_path_is_the_camera_of_every_later_step(self):
        self.client.post(self.url("gate"), {"format": "full-frame-16-9", "squeeze": "1"})
        made = scene("sideways", frames=FRAMES, count=90)
        self.put_scene(made, world=(0, 3, 8, 12))
        self.client.post(self.url("match/tracks/solve"))
        self.assertEqual(runner.latest(self.now(), "path").says, "")
        time_actions.begin_shot_at(self.now(), 1001)
        state = self.now().state
        for index in (0, 5, 11):
            camera = path_fits.camera_of_state(state, 1001 + index)
            self.assertLess(np.abs(camera.position - made.positions[index]).max(), 0.1)
        self.assertIsNone(path_fits.camera_of_state(state, 2000))
        rows = list(
            csv.DictReader(
                self.client.get(self.url("hand-off/camera.csv")).content.decode().splitlines()
            )
        )
        self.assertEqual([int(row["frame"]) for row in rows], list(range(1001, 1013)))
        self.assertAlmostEqual(float(rows[11]["m03"]), made.positions[11][0], delta=0.1)
        stage = Usd.Stage.CreateInMemory()
        stage.GetRootLayer().ImportFromString(
            self.client.get(self.url("hand-off/camera.usda")).content.decode()
        )
        camera = UsdGeom.Camera(stage.GetPrimAtPath("/Shot/LT900_camera"))
        place = camera.ComputeLocalToWorldTransform(1006).ExtractTranslation()
        metres = np.array(place) * UsdGeom.GetStageMetersPerUnit(stage)
        np.testing.assert_allclose(metres, made.positions[5], atol=0.1)
        self.assertNotContains(self.client.get(self.url("hand-off")), "One camera for all")
        for step in ("plate", "gate", "match", "set", "expose", "elements", "line-up"):
            self.assertEqual(self.client.get(self.url(step)).status_code, 200, step)
        first, last = (
            self.told("match/path/guides", {"frame": number, "aids": {"map": True}})
            for number in (1001, 1012)
        )
        self.assertNotEqual(first["paths"], last["paths"])
        trusted = [label["text"] for label in first["labels"] if "trust" in label["class"]]
        self.assertTrue(any(text.endswith(" cm") for text in trusted), trusted)
        self.assertEqual(self.told("match/path/guides", {"frame": 7})["paths"], [])
        # How far the step is follows from the path; no mark is needed.
        self.assertContains(self.client.get(self.url("match")), "path, 0.03 px rms")
        # Facts that would bend it may be told to lay it down only.
        self.assertContains(self.client.get(self.url("match/leaf/tracks")), 'data-track="stand"')
        self.ask(verb="stand")
        self.assertEqual(path_fits.film_document(self.now().state)["placing"], "stand")
        self.assertContains(self.client.get(self.url("match/leaf/tracks")), "earlier evidence")
        self.assertContains(self.client.get(self.url("match")), "path to solve again")
        undo(self.now(), self.base())
        # What would make it more exact, in the frames as they are counted now.
        advice = self.client.get(self.url("match/path/advice?quantity=worst")).content.decode()
        self.assertRegex(advice, "That is frame <b[^>]*>10(01|12)</b>")
        self.assertRegex(
            advice, r"the distance from t\d+ to t\d+\s+<button[^>]* data-choose=\"t\d+ t\d+\""
        )
        # The Set step: each frame's camera sees the stand-in where it is, and outside stands the
        # way.
        box = {"kind": "box", "name": "Crate", "across": "0", "along": "-6 m", "up": "0"}
        size = {"width": "1 m", "height": "1 m", "depth": "1 m", "turn": "0", "base": self.base()}
        self.client.post(self.url("set"), box | size)
        seen = self.client.get(self.url("set/seen.json?first=1&last=12")).json()
        self.assertEqual(len(seen), 12)
        for number in (1, 12):
            [crate] = seen[str(number)]["lens"]
            across = [float(x) for x, _ in re.findall(r"(-?[\d.]+)[ ,](-?[\d.]+)", crate["d"])]
            corners = np.array(
                [[x, y, z] for x in (-0.5, 0.5) for y in (0, 1) for z in (-6.5, -5.5)]
            )
            wanted = made.cameras[number - 1].project(corners)[:, 0] * SIZE[0] / GRID.width
            self.assertAlmostEqual(min(across), wanted.min(), delta=2)
            self.assertAlmostEqual(max(across), wanted.max(), delta=2)
        way = self.client.get(self.url("set/path.json")).json()
        self.assertEqual(way["numbers"], list(range(1, 13)))
        np.testing.assert_allclose(way["eyes"], made.positions, atol=0.1)
        self.assertGreater(len(way["points"]), 3 * 20)
        # A sequence that comes back is compared with what each frame's own camera sees of the
        # stand-in.
        with self.assertRaisesMessage(Problem, "Frame 1013 has no camera"):
            start_render(self.now(), Order(samples=2, frames=(1003, 1013)))
        start_render(self.now(), Order(samples=2, frames=(1003, 1005)))
        render = self.now().renders.first()
        files = []
        for frame in (1003, 1005):
            data = (render.of_frame(frame) / "render.png").read_bytes()
            files.append(SimpleUploadedFile(f"crate.{frame}.png", data))
        self.client.post(self.url("line-up/return"), {"files": files})
        measured = self.now().returned.get().offsets["frames"]
        self.assertEqual([frame for frame, _, _ in measured], [1003, 1005])
        self.assertLess(max(most for _, _, most in measured), 0.3)
        self.ask(verb="remove", ids=["t20"])
        self.assertContains(self.client.get(self.url("hand-off")), "earlier evidence")

    def put_scene(self, made, world=()):
        """The tracks of a scene in this plate's size, some of them with their places."""
        seen = made.seen * SIZE[0] / GRID.width
        frame, track = np.nonzero(np.isfinite(seen[:, :, 0]))
        noise = np.random.default_rng(5).normal(0, 0.03, (len(frame), 2))
        ids = [f"t{n}" for n in range(seen.shape[1])]
        about = {f"t{n}": {"world": made.points[n].tolist()} for n in world}
        xy = seen[frame, track] + noise
        tracks = Tracks.build(ids, track, frame + 1, xy, [[0.03, 0.03]], about=about)
        tracking.change_tracks(self.now(), "Tracks", lambda before: tracks)
        lens = {"focal_mm": None, "distortion": {"free": ["k1"]}}
        edit(self.now(), "Lens", lambda state: state.update(lens=lens))
        return seen

    def test_a_camera_that_only_turns_stands_where_a_matched_frame_says(self):
        self.client.post(self.url("gate"), {"format": "full-frame-16-9", "squeeze": "1"})
        made = scene("turning", frames=FRAMES, count=160)
        seen = self.put_scene(made)
        self.client.post(self.url("match/tracks/solve"))
        self.assertEqual(path_fits.path_fit(self.now().state)["motion"], "nodal")
        self.assertIsNone(path_fits.placed_path(self.now().state))

        def drawn():
            data = {"frame": 1, "aids": {}}
            answer = self.client.post(self.url("match/path/guides"), data, "application/json")
            return {path["class"] for path in answer.json()["paths"]}

        self.assertNotIn("horizon", drawn())  # nothing tells yet what is level
        marks = [
            {"id": f"s{n}", "kind": "spot", "at": seen[0, n].tolist(), "sigma_px": 0.05}
            | {"world": made.points[n].tolist()}
            for n in np.flatnonzero(np.isfinite(seen[0, :, 0]))[:12]
        ]
        edit(self.now(), "Spots", lambda state: state.update(marks=marks))
        self.client.post(self.url("match/tracks/solve"))
        self.client.post(self.url("plate/frame"), {"frame": "7", "base": self.base()})
        path = path_fits.placed_path(self.now().state)
        for index, camera in enumerate(made.cameras):
            found = path.at(index + 1)
            self.assertLess(np.abs(found.position - camera.position).max(), 0.05)
            self.assertLess(np.abs(found.rotation - camera.rotation).max(), 0.01)
        self.assertEqual(path_fits.determined(self.now().state)["scale"], "solved")
        self.assertIn("horizon", drawn())

    def test_a_lens_that_zooms(self):
        self.client.post(self.url("gate"), {"format": "full-frame-16-9", "squeeze": "1"})
        made = zooming("orbit", FRAMES, 160, seed=3)
        self.put_scene(made, world=(0, 3, 8, 12))
        self.assertEqual(self.ask(verb="focal", frame=2, length="24 mm").status_code, 422)
        self.ask(verb="zoom")
        for frame in (1, FRAMES):
            mm = 1.5 * made.cameras[frame - 1].lens.focal_mm
            self.ask(verb="focal", frame=frame, length=f"{mm:.3f} mm", plus_minus="0.05 mm")
        self.assertEqual(self.ask(verb="focal", frame=2, length="24 m").status_code, 422)
        self.assertEqual(self.ask(verb="file_focals").status_code, 422)
        self.client.post(self.url("match/tracks/solve"))
        self.assertEqual(runner.latest(self.now(), "path").says, "")
        time_actions.begin_shot_at(self.now(), 1001)
        state = self.now().state
        self.assertFalse(path_fits.is_old(state))
        document = path_fits.film_document(state)
        validate(document, 2)
        self.assertEqual([row[0] for row in document["lens"]["focal_mm"]["frames"]], [1001, 1012])
        for index in (0, 6, 11):
            mm = path_fits.camera_of_state(state, 1001 + index).lens.focal_mm
            self.assertAlmostEqual(mm / 1.5 / made.cameras[index].lens.focal_mm, 1, delta=0.01)
        page = self.client.get(self.url("match/leaf/tracks")).content.decode()
        for words in ("Focal length on 2 frames", "Focal length over the frames"):
            self.assertIn(words, page)
        self.assertRegex(page, r"2[34]\.\d+ to (69|70)\.\d+ mm")
        rows = list(
            csv.DictReader(
                self.client.get(self.url("hand-off/camera.csv")).content.decode().splitlines()
            )
        )
        self.assertAlmostEqual(float(rows[11]["focal_mm"]), 70, delta=0.5)
        self.client.post(self.url("match/tracks/drop"), {"focals": "1", "base": self.base()})
        self.assertEqual(self.now().state["zoom"], {"known": []})
        self.assertTrue(path_fits.is_old(self.now().state))
        self.ask(verb="constant")
        self.assertIsNone(self.now().state["zoom"])

    def test_spots_are_followed_both_ways_with_what_is_known_of_them(self):
        # Texture of the nearest board, away from its rim, behind which others come out.
        rim = np.ones(SIZE[::-1], bool)
        rim[70:130, 110:170] = False
        inner = corners(dict(pictures())[6].astype(np.float32), 2, 30, np.zeros((0, 2)), rim)
        marks = [
            {"id": "s1", "kind": "spot", "at": inner[0].tolist(), "world": [0, 0, 0]},
            {"id": "s2", "kind": "spot", "at": inner[1].tolist(), "name": "Nail"},
        ]
        length = {"id": "f1", "kind": "length", "from": "s1", "to": "s2", "metres": 2.0}
        self.client.post(self.url("plate/frame"), {"frame": "6", "base": self.base()})
        edit(
            self.now(),
            "Spots",
            lambda state: state.update(marks=marks, facts=[length | {"plus_minus": 0.01}]),
        )
        self.client.post(self.url("match/tracks/follow"), {"what": "spots", "reach": "10"})
        self.assertEqual(runner.latest(self.now(), "follow").says, "")
        tracks = tracking.tracks_of(self.now().state)
        self.assertEqual(set(tracks.ids), {"s1", "s2"})
        self.assertTrue((tracks.lengths() >= 8).all(), tracks.lengths())
        for index, id_ in enumerate(tracks.ids):
            own = tracks.track == index
            self.assertLess(tracks.frame[own].min(), 6)
            self.assertGreater(tracks.frame[own].max(), 6)
            spot = next(mark for mark in marks if mark["id"] == id_)
            at = tracks.xy[own & (tracks.frame == 6)][0]
            np.testing.assert_allclose(at, spot["at"], atol=0.01)
        document = path_fits.film_document(self.now().state)
        self.assertEqual(document["marks"], [])
        self.assertEqual((document["facts"][0]["from"], document["facts"][0]["to"]), ("s1", "s2"))
        self.assertEqual(document["tracks"][0]["world"], [0, 0, 0])
        validate(document, 2)

    def test_what_is_told_of_tracks(self):
        self.put_tracks()
        self.assertEqual(self.ask(verb="floor", ids=["t1", "t2"]).status_code, 200)
        self.ask(verb="origin", ids=["t3"])
        self.ask(verb="distance", ids=["t1", "t4"], length="2.4 m", plus_minus="1 cm")
        self.ask(verb="height", frame=3, length="1.5 m")
        self.ask(verb="off", ids=["t6"])
        document = self.client.get(self.url("match/tracks/document.json")).json()
        by_id = {track["id"]: track for track in document["tracks"]}
        self.assertEqual(by_id["t1"]["world"], [None, 0, None])
        self.assertEqual(by_id["t3"]["world"], [0, 0, 0])
        self.assertTrue(by_id["t6"]["off"])
        length, height = document["facts"]
        self.assertEqual((length["from"], length["to"], length["metres"]), ("t1", "t4", 2.4))
        self.assertEqual((height["frame"], height["plus_minus"]), (3, 0.005))
        for verb, ids, says in (
            ("origin", ["t1", "t2"], "one track"),
            ("distance", ["t1"], "two tracks"),
            ("floor", [], "Choose a track"),
            ("remove", ["t99"], "any more"),
        ):
            answer = self.ask(verb=verb, ids=ids, length="1 m")
            self.assertEqual(answer.status_code, 422, verb)
            self.assertIn(says, answer.json()["problem"])
        self.assertEqual(self.ask(verb="height", frame=99, length="1 m").status_code, 422)
        self.assertEqual(self.ask(verb="height", frame=2, length="tall").status_code, 422)
        for shutter, typed, told in (
            ("known", "16 ± 1", {"value": 16, "plus_minus": 1}),
            ("known", "12.5", {"value": 12.5, "plus_minus": 0}),
            ("solved", "", "free"),
            ("global", "", None),
        ):
            self.assertEqual(
                self.ask(verb="readout", shutter=shutter, readout=typed).status_code, 200
            )
            lens = path_fits.film_document(self.now().state)["lens"]
            self.assertEqual(lens.get("readout_ms"), told)
        for typed in ("", "fast", "-3", "1e9"):
            wrong = self.ask(verb="readout", shutter="known", readout=typed)
            self.assertEqual(wrong.status_code, 422, typed)
        self.ask(verb="end", ids=["t2"], frame=5)
        ended = tracking.tracks_of(self.now().state)
        self.assertEqual(ended.lengths().tolist(), [12, 5, 12, 12, 12, 12])
        self.ask(verb="remove", ids=["t4"])
        self.assertEqual([f["kind"] for f in self.now().state["path_facts"]], ["camera_height"])
        self.client.post(self.url("match/tracks/drop"), {"fact": "p2", "base": self.base()})
        self.client.post(self.url("match/tracks/drop"), {"track": "t3", "base": self.base()})
        self.assertEqual(self.now().state["path_facts"], [])
        self.assertNotIn("world", tracking.tracks_of(self.now().state).about.get("t3", {}))

    def test_a_page_that_is_behind_undoes_nobody_s_tracks(self):
        self.put_tracks()
        old = self.base()
        self.ask(verb="floor", ids=["t1"])
        answer = self.ask(base=old, verb="floor", ids=["t2"])
        self.assertEqual(answer.status_code, 409)
        self.assertEqual(list(tracking.tracks_of(self.now().state).about), ["t1"])
        # What was kept is what that page showed, without the other one's change.
        kept = self.now().revisions.get(number=answer.json()["kept"])
        self.assertEqual(list(tracking.tracks_of(kept.state).about), ["t2"])

    def test_they_go_along_where_the_picture_is_turned_and_go_where_it_is_replaced(self):
        self.put_tracks()
        before = tracking.tracks_of(self.now().state)
        shot = way_actions.set_way_in(self.now(), WayIn(False, 1, 0))
        turned = tracking.tracks_of(shot.state)
        np.testing.assert_allclose(turned.xy[:, 0], SIZE[1] - before.xy[:, 1], atol=0.01)
        np.testing.assert_allclose(turned.xy[:, 1], before.xy[:, 0], atol=0.01)
        film = film_actions.require_film(shot)
        replaced = film_actions.take_film(shot, film)
        self.assertIsNone(replaced.state["tracks"])

    def test_refused_with_the_next_step(self):
        self.assertContains(
            self.client.post(self.url("match/tracks/solve")), "follow points", status_code=422
        )
        for wanted in ("3", "x", "1e9", ""):
            wish = {"wanted": wanted, "reach": "7"}
            self.assertEqual(
                self.client.post(self.url("match/tracks/follow"), wish).status_code, 422
            )
        self.put_tracks(3)
        self.client.post(self.url("match/tracks/solve"))
        job = runner.latest(self.now(), "path")
        self.assertEqual(job.state, Job.FAILED)
        self.assertIn("Only 3 tracks", job.says)
        self.assertIsNone(self.now().state["path"])

    def test_a_stopped_job_keeps_nothing(self):
        self.put_tracks(12)

        def stopped(document, warm, watch):
            Job.objects.update(cancel_asked=True)
            watch("Looking", 0.1)

        with (
            patch.object(following, "solve", stopped),
            patch.object(runner, "SECONDS_BETWEEN_NOTES", 0),
        ):
            self.client.post(self.url("match/tracks/solve"))
        self.assertEqual(Job.objects.get(kind="path").state, Job.CANCELLED)
        self.assertIsNone(self.now().state["path"])

    def test_a_locked_camera_is_not_solved_anew(self):
        self.put_tracks(12)
        Shot.objects.filter(pk=self.shot.pk).update(locked=True)
        answer = self.client.post(self.url("match/tracks/solve"))
        self.assertContains(answer, "locked", status_code=423)
        self.assertEqual(self.ask(verb="floor", ids=["t1"]).status_code, 423)
        self.assertFalse(Job.objects.filter(kind="path").exists())

    def test_one_at_a_time(self):
        self.put_tracks(12)
        Job.objects.create(shot=self.shot, kind="path", state=Job.RUNNING, beat=timezone.now())
        for rest, form in (("solve", {}), ("follow", {"wanted": "80", "reach": "7"})):
            answer = self.client.post(self.url(f"match/tracks/{rest}"), form)
            self.assertContains(answer, "already", status_code=422)
