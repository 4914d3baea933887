"""What is laid over the plate on the Expose step, pixel by pixel: what is clipped, stray pixels,
how blurred the plate's edges are, and how blurred lens and focus would make the set."""

import io

import cv2
import numpy as np
from PIL import Image

from tests.web.test_shots import WithShot
from web.expose.maps import QUIET, SHARP
from web.match.path_fits import camera_of_state
from web.shows.history import edit
from web.stage.stand_ins import stand_ins_of

WIDE, HIGH = 640, 360
CRATE = {"id": "b1", "name": "Crate", "size": [1, 1, 1], "base": [0.5, 0, -0.5], "turn_deg": 0}


def png(pixels):
    out = io.BytesIO()
    Image.fromarray(pixels.astype(np.uint8)).save(out, "PNG")
    return out.getvalue()


def grey(value=110):
    return np.full((HIGH, WIDE, 3), value, np.uint8)


class OverThePlate(WithShot):
    def map(self, kind):
        """(h, w, 4) of a map; or the sentence with which it is refused."""
        answer = self.client.get(
            self.url(f"expose/map/{kind}.png"), headers={"Accept": "application/json"}
        )
        if answer.status_code != 200:
            self.assertEqual(answer.status_code, 422)
            return answer.json()["problem"]
        return np.asarray(Image.open(io.BytesIO(answer.content)).convert("RGBA"))

    def at(self, laid, x, y):
        """The map's value at a place of the plate."""
        high, wide = laid.shape[:2]
        return laid[int(y * high / HIGH), int(x * wide / WIDE)]

    def test_what_is_clipped_and_what_is_black(self):
        picture = grey()
        picture[40:80, 40:80], picture[200:240, 400:440] = 255, 0
        self.upload("a.png", png(picture))
        laid = self.map("clip")
        self.assertEqual(self.at(laid, 60, 60).tolist(), [255, 40, 140, 255])
        self.assertEqual(self.at(laid, 420, 220).tolist(), [40, 90, 255, 255])
        self.assertEqual(self.at(laid, 300, 100)[3], 0)

    def test_a_pixel_that_is_much_brighter_than_those_around_it_is_stray(self):
        picture = grey(20)
        picture[100, 200] = 255
        picture[250:300, 300:400] = 255  # a lamp isn't
        self.upload("a.png", png(picture))
        self.assertIn("type a threshold first", self.map("stray"))
        edit(self.shot, "look", lambda state: state.update(look={"look": {"stray": 8.0}}))
        laid = self.map("stray")
        self.assertEqual(self.at(laid, 200, 100)[3], 255)
        self.assertEqual(self.at(laid, 350, 275)[3], 0)
        self.assertLess((laid[..., 3] > 0).mean(), 0.001)

    def test_a_stray_pixel_of_a_very_wide_plate_is_seen_too(self):
        """Ten of its pixels are one of the map's."""
        picture = np.full((40, 12800, 3), 20, np.uint8)
        for x in range(7, 12800, 337):
            picture[20, x] = 255
        self.upload("a.png", png(picture))
        edit(self.shot, "look", lambda state: state.update(look={"look": {"stray": 8.0}}))
        row = self.map("stray")[..., 3].max(axis=0) > 0
        self.assertEqual(int((np.diff(row.astype(int)) > 0).sum()), len(range(7, 12800, 337)))

    def test_edges_that_are_more_blurred_are_louder(self):
        picture = grey(60).astype(np.float32)
        picture[:, 150:320] = picture[:, 500:] = 190
        soft = cv2.GaussianBlur(picture, (0, 0), 5.0)
        picture[:, 400:] = soft[:, 400:]
        picture[:, :400] = cv2.GaussianBlur(picture, (0, 0), 0.7)[:, :400]
        self.upload("a.png", png(picture + np.random.default_rng(1).normal(0, 1, picture.shape)))
        laid = self.map("measured")
        there = laid[..., 3] > 0
        columns = np.arange(laid.shape[1]) * WIDE / laid.shape[1]
        near = {x: there & (np.abs(columns - x) < 24)[None, :] for x in (150, 500)}
        sharp, blurred = (laid[near[x]][:, :3].astype(float).mean(axis=0) for x in (150, 500))
        ways = np.abs(sharp - SHARP).sum(), np.abs(blurred - SHARP).sum()
        self.assertLess(ways[0], ways[1])

    def test_a_plate_without_edges_has_no_blur_to_measure(self):
        self.upload("a.png", png(grey()))
        self.assertIn("No edge of the plate stands out", self.map("measured"))

    def test_what_is_known_of_nothing_is_said(self):
        self.upload("a.png", png(grey()))
        for kind, says in (
            ("white", "No white balance is chosen"),
            ("sharp", "a camera, a gate, a stop and a focus"),
            ("fog", "no such"),
        ):
            self.assertIn(says, self.map(kind))


class OverTheSet(WithShot):
    def test_what_lies_in_the_focus_is_sharp_and_what_is_far_from_it_isn_t(self):
        self.ready()
        edit(self.shot, "Crate", lambda state: state.update(stand_ins=[dict(CRATE)]))
        edit(self.shot, "f", lambda state: state.update(exposure={"f_number": 1.4}))
        self.press("expose/focus/set", verb="follow", name="Crate")
        camera = camera_of_state(self.state())
        answer = self.client.get(self.url("expose/map/sharp.png"))
        laid = np.asarray(Image.open(io.BytesIO(answer.content)).convert("RGBA")).astype(int)
        scale = laid.shape[1] / camera.grid.width

        def at(point):
            x, y = camera.project(np.array([point]))[0] * scale
            return laid[int(y), int(x)]

        corners = stand_ins_of(self.state())["Crate"].bounds()
        away = -camera.to_camera_space(corners)[:, 2]
        front = corners[away.argsort()[:4]].mean(axis=0)
        self.assertEqual(at(front)[:3].tolist(), list(map(int, SHARP)))
        ahead = camera.position - 0.9 * away.min() * camera.rotation[:, 2]
        floor = np.array([ahead[0], 0.0, ahead[2]])
        self.assertGreater(at(floor)[3], 0)
        self.assertNotEqual(list(map(int, QUIET)), list(map(int, SHARP)))
