"""Focus by its leaf's buttons: followed by name or by a click, keyed over frames, kept where it is;
and what can't be done, in a sentence that changes nothing."""

import numpy as np

from tests.web.test_shots import WithShot
from web.expose.focusing import between_keys, circle_of, focus_at
from web.match.path_fits import camera_of_state
from web.shows.history import edit
from web.shows.models import Shot
from web.stage.stand_ins import stand_ins_of

CRATE = {"id": "b1", "name": "Crate", "size": [1, 1, 1], "base": [0.5, 0, -0.5], "turn_deg": 0}


class Buttons(WithShot):
    def setUp(self):
        super().setUp()
        self.ready()
        edit(self.shot, "Crate", lambda state: state.update(stand_ins=[dict(CRATE)]))

    def now(self):
        return Shot.objects.with_head().get(pk=self.shot.pk)

    def set(self, verb, says=None, **more):
        """Press a button; `says`: it is refused with that, and nothing is another."""
        before = self.state()["focus"]
        answer = self.press("expose/focus/set", verb=verb, **more)
        if says is None:
            self.assertEqual(answer.status_code, 302, answer.content[-400:])
        else:
            self.assertEqual(answer.status_code, 422)
            self.assertIn(says, answer.content.decode())
            self.assertEqual(self.state()["focus"], before)
        return self.state()["focus"]

    def test_something_of_the_set_is_followed_until_it_isn_t(self):
        self.assertEqual(self.set("follow", name="Crate"), {"follow": "Crate"})
        self.assertEqual(focus_at(self.now()).used.says, "follows Crate")
        self.assertEqual(self.set("stop"), {})
        self.set("follow", "no such point", name="Lighthouse")
        self.set("burn", "no such button")

    def test_a_key_has_what_is_typed_or_what_is_in_use(self):
        self.set("key", "no focus on this frame to keep")
        focus = self.set("key", at="2.5 m")
        ((number, metres),) = focus["keys"]
        self.assertEqual(metres, 2.5)
        self.assertEqual(focus_at(self.now()).used.kind, "keys")
        self.assertIn("1 key", focus_at(self.now()).used.says)
        # Another one on the same frame takes its place; nothing typed keeps what there is.
        self.assertEqual(self.set("key", at="3 m")["keys"], [[number, 3.0]])
        self.assertEqual(self.set("key")["keys"], [[number, 3.0]])
        self.set("key", "nearer than", at="3 cm")
        self.set("key", "read", at="far")
        self.assertNotIn("keys", self.set("unkey"))

    def test_all_keys_go_at_once_and_come_back_by_undo(self):
        self.set("key", at="2 m")
        edit(self.shot, "more", lambda state: state["focus"]["keys"].append([24, 8.0]))
        self.assertNotIn("keys", self.set("unkey all"))
        self.press("undo")
        self.assertEqual(len(self.state()["focus"]["keys"]), 2)

    def test_a_click_keys_where_there_are_keys(self):
        self.set("key", at="9 m")
        camera = camera_of_state(self.now().state)
        middle = stand_ins_of(self.now().state)["Crate"].bounds().mean(axis=0)
        at = camera.project(middle[None])[0].tolist()
        metres = self.post_json("expose/focus/at", at=at, base=self.head()).json()["metres"]
        ((_, keyed),) = self.state()["focus"]["keys"]
        self.assertEqual(keyed, metres)
        self.assertLess(metres, 9)

    def test_a_click_follows_what_is_seen_there(self):
        camera = camera_of_state(self.now().state)
        middle = stand_ins_of(self.now().state)["Crate"].bounds().mean(axis=0)
        at = camera.project(middle[None])[0].tolist()
        answer = self.post_json("expose/focus/follow", at=at, base=self.head())
        self.assertEqual(answer.json()["name"], "Crate")
        self.assertEqual(self.state()["focus"], {"follow": "Crate"})
        answer = self.post_json("expose/focus/follow", at=[3, 3], base=self.head())
        self.assertEqual(answer.status_code, 422)

    def test_all_sharp_where_it_can_t_be(self):
        def refused(says, **crate):
            edit(self.shot, "c", lambda state: state.update(stand_ins=[{**CRATE, **crate}]))
            answer = self.press("expose/focus/depth", by="seconds")
            self.assertEqual(answer.status_code, 422)
            self.assertIn(says, answer.content.decode())

        camera = camera_of_state(self.now().state)
        refused("reaches behind the camera", base=camera.position.tolist(), size=[4, 4, 4])
        ahead = camera.position - 0.11 * camera.rotation[:, 2]
        tiny = [ahead[0], ahead[1] - 0.005, ahead[2]]
        far = {"id": "b2", "name": "Tower", "size": [9, 9, 9], "base": [0, 0, -90], "turn_deg": 0}
        bolt = {**CRATE, "base": tiny, "size": [0.01, 0.01, 0.01]}
        small = {"circle": {"basis": "typed", "mm": 0.005}}
        edit(self.shot, "both", lambda state: state.update(stand_ins=[far, bolt], focus=small))
        answer = self.press("expose/focus/depth", by="iso")
        self.assertEqual(answer.status_code, 422)
        self.assertIn("no lens has it", answer.content.decode())
        edit(self.shot, "none", lambda state: state.update(stand_ins=[]))
        answer = self.press("expose/focus/depth", by="iso")
        self.assertIn("needs a camera, a gate and stand-ins", answer.content.decode())

    def test_a_circle_that_is_typed_is_in_use_and_its_limits_are_told(self):
        def typed(circle):
            fields = {"metres": "3 m", "follow": "", "basis": "typed", "circle": circle}
            return self.press("expose/focus", **fields)

        for circle in ("0 mm", "11 mm", "-1 mm"):
            answer = typed(circle)
            self.assertEqual(answer.status_code, 422, circle)
            self.assertContains(answer, "between 0 and 10 mm", status_code=422)
        self.assertEqual(typed("0.02 mm").status_code, 302)
        self.assertEqual(self.state()["focus"]["circle"], {"basis": "typed", "mm": 0.02})
        camera = camera_of_state(self.now().state)
        self.assertEqual(circle_of(self.now(), camera)[0], 0.02)

    def test_between_keys_it_turns_as_a_ring_does(self):
        """By 1 / distance: half-way from 1 m to far away it stands at 2 m, not at 50."""
        self.assertAlmostEqual(between_keys([[10, 1.0], [20, 1e9]], 15), 2.0, places=6)
        keys = [[20, 4.0], [10, 1.0]]  # in any order
        self.assertEqual([between_keys(keys, at) for at in (0, 10, 20, 99)], [1, 1, 4, 4])
        falls = [between_keys(keys, at) for at in np.linspace(10, 20, 30)]
        self.assertTrue((np.diff(falls) > 0).all())
