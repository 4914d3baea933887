"""A clip at another speed as a shot of its own: pictures, camera, keys and shutter follow, and
follow again."""

import json

import cv2
import numpy as np

from tests.web.test_moving_stand_ins import OnFilm
from web.cut.actions import cut_of
from web.elements.actions import Order, gather, render_frame
from web.expose.blurring import shutter_of, steps_of
from web.expose.focusing import focus_at
from web.expose.page import longest_streak
from web.jobs.models import Job
from web.match.path_fits import camera_of_state
from web.plates.film_actions import take_film, work_on
from web.plates.full_frames import linear_frame
from web.plates.models import film_of
from web.shows.history import edit, undo
from web.shows.models import Shot
from web.shows.organise import set_deleted
from web.stage.stand_ins import stand_ins_of


class Retimed(OnFilm):
    def retimed(self, speed, between):
        """The clip at a speed, made a shot; the shot, fresh."""
        [clip] = cut_of(self.show).clips
        said = {"verb": "speed", "base": self.head_of_cut(), "id": clip.id, "name": speed}
        answer = self.client.post(
            "/shows/tide/cut/do",
            json.dumps(said | {"between": between}),
            content_type="application/json",
        )
        self.assertEqual(answer.status_code, 200, answer.content)
        self.client.post("/shows/tide/cut/retime", {"clip": clip.id})
        job = Job.objects.filter(kind="retime").first()
        self.assertEqual((job.state, job.says), ("done", ""))
        return Shot.objects.with_head().get(code=cut_of(self.show).clips[0].shot)

    def head_of_cut(self):
        return self.client.get("/shows/tide/cut").context["page"]["revision"]

    def test_at_half_its_speed_all_follows(self):
        self.skiff()
        keys = [[1, 4.0], [9, 8.0]]
        edit(
            self.now(),
            "Focus and shutter",
            lambda state: state.update(focus={"keys": keys}, exposure={"seconds": 1 / 48}),
        )
        slow, own = self.retimed("50 %", "blend"), self.now()
        [clip] = cut_of(self.show).clips
        self.assertEqual((clip.shot, clip.first, clip.length), (slow.code, 1, 24))
        self.assertEqual((clip.speeds, slow.code), ((), "LT900-R"))
        # Frame 6 lies half-way between the other shot's third and fourth.
        mixed = (linear_frame(own, 3) + linear_frame(own, 4)) / 2
        self.assertLess(np.abs(linear_frame(slow, 6) - mixed).max(), 1e-3)
        at, before, after = (
            camera_of_state(shot.state, frame) for shot, frame in ((slow, 6), (own, 3), (own, 4))
        )
        middle = (before.position + after.position) / 2
        np.testing.assert_allclose(at.position, middle, atol=1e-9)
        point = np.array([[0.3, 0.4, -7.0]])
        same = camera_of_state(slow.state, 5).project(point) - before.project(point)
        self.assertLess(np.abs(same).max(), 1e-6)
        np.testing.assert_allclose(
            stand_ins_of(slow.state)["Skiff"].at(9).base,
            stand_ins_of(own.state)["Skiff"].at(5).base,
            atol=1e-6,
        )
        self.assertAlmostEqual(focus_at(slow, 9).metres, focus_at(own, 5).metres, places=9)
        self.assertAlmostEqual(
            shutter_of(slow, 9).open_frames, 2 * shutter_of(own, 5).open_frames, places=9
        )
        for step in ("plate", "gate", "match", "set", "expose/blur", "elements", "line-up"):
            self.assertEqual(self.client.get(f"/shows/tide/{slow.code}/{step}").status_code, 200)
        plate = f"/shows/tide/{slow.code}/plate"
        self.assertContains(self.client.get(plate), "LT900 at 50 %")
        self.assertNotContains(self.client.get(plate), "has changed")
        self.go(9)
        self.change("b1", across="3 m", turn="90")
        self.assertContains(self.client.get(plate), "LT900 has changed")
        self.client.post(f"/shows/tide/{slow.code}/retime")
        slow = Shot.objects.with_head().get(pk=slow.pk)
        self.assertEqual(slow.head.number, 2)
        np.testing.assert_allclose(
            stand_ins_of(slow.state)["Skiff"].at(17).base,
            stand_ins_of(self.now().state)["Skiff"].at(9).base,
            atol=1e-6,
        )
        self.assertNotContains(self.client.get(plate), "has changed")

    def smeared_as_filmed(self, made):
        """The camera and the skiff rest with a held picture; what is rendered there is smeared as
        its frame was."""
        shows = steps_of(made.state)
        held = [frame for frame in range(1, 24) if shows.moment(frame) == 6]
        self.assertGreater(len(held), 1)
        streak, own = longest_streak(work_on(self.now(), 6)), self.rendered(self.now(), 6)
        self.assertGreater(streak, 2)
        self.assertEqual(shutter_of(made, held[0]), shutter_of(self.now(), 6))
        for frame in held:
            self.assertAlmostEqual(longest_streak(work_on(made, frame)), streak, places=5)
            np.testing.assert_allclose(self.rendered(made, frame), own, atol=1 / 254)

    def rendered(self, shot, frame):
        order = Order(("masks",), samples=4, size="quarter", frames=(frame, frame), motion=True)
        render_frame(shot, order, frame)
        gather(shot, order)
        path = shot.renders.first().of_frame(frame) / "alpha.png"
        return cv2.imread(str(path), cv2.IMREAD_GRAYSCALE) / 255

    def test_in_steps_with_a_curve_and_what_can_t_be(self):
        for clip, says in (("nobody", "gone"), (cut_of(self.show).clips[0].id, "as it was filmed")):
            answer = self.client.post("/shows/tide/cut/retime", {"clip": clip})
            self.assertContains(answer, says, status_code=422)
        self.assertEqual(self.client.post(self.url("retime")).status_code, 422)
        self.skiff()
        edit(self.now(), "Shutter", lambda state: state.update(exposure={"seconds": 1 / 30}))
        made = self.retimed("1: 100, 6: 25", "repeat")
        length = cut_of(self.show).clips[0].length
        self.assertGreater(length, 24)
        # It rests with its picture.
        cameras = [camera_of_state(made.state, frame) for frame in (length - 1, length)]
        np.testing.assert_array_equal(cameras[0].position, cameras[1].position)
        page = self.client.get(f"/shows/tide/{made.code}/plate")
        self.assertContains(page, "Its camera goes in steps")
        self.smeared_as_filmed(made)
        # Another film in its place goes as it was filmed.
        replaced = take_film(made, film_of(self.now()))
        self.assertEqual((replaced.state["retimed"], replaced.state["shutter"]), (None, {}))
        undo(replaced)
        set_deleted(self.shot, True)
        page = self.client.get(f"/shows/tide/{made.code}/plate")
        self.assertContains(page, "made from is gone")
        self.assertEqual(self.client.post(f"/shows/tide/{made.code}/retime").status_code, 422)
