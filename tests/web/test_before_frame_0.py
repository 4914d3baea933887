"""A shot whose frames begin below 0, as where a clapper is frame 0: each step that is told a frame
takes one with a minus."""

import json
from fractions import Fraction

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import SimpleTestCase

from aperture.camera import Camera
from aperture.cut.cut import Clip
from aperture.formats import recipe
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from tests.web.test_moving_stand_ins import OnFilm
from tests.web.test_stereo import TYPED
from tests.web.test_tracks import FRAMES
from web.cut import speeds
from web.elements.models import Render
from web.jobs.models import Job
from web.shows.reading import frame_range, integer, whole

FIRST = -5


class TypedFrames(SimpleTestCase):
    def test_a_frame_has_a_sign_and_a_count_has_none(self):
        for text, frame in (("-12", -12), ("−12", -12), (" 7 ", 7), ("0", 0), (-3, -3)):
            self.assertEqual(integer(text), frame, text)
        for text in ("--5", "- 5", "1.5", "", "-", "x", "1234567890", None, True, 2.0):
            self.assertIsNone(integer(text), text)
        self.assertIsNone(whole("-1"))
        self.assertEqual(whole("12"), 12)

    def test_a_range_is_two_frames_in_order_or_one(self):
        for text, frames in (
            ("1001–1010", (1001, 1010)),
            ("1001 1010", (1001, 1010)),
            (" 1001, 1010 ", (1001, 1010)),
            ("-12–-3", (-12, -3)),
            ("-12--3", (-12, -3)),
            ("−12 – 3", (-12, 3)),
            ("-5", (-5, -5)),
        ):
            self.assertEqual(frame_range(text), frames, text)
        for text in ("", "3–1", "-3–-12", "1–2–3", "a–b", "1001–", "–", "1,,2"):
            self.assertIsNone(frame_range(text), text)

    def test_a_curve_of_speeds_from_below_0_on(self):
        clip = Clip("c1", "LT900", -5, 6)
        self.assertEqual(speeds.read("-5: 100, 2: 50", clip), [(-5, 1.0), (2, 0.5)])


class BeforeFrame0(OnFilm):
    def setUp(self):
        super().setUp()
        self.press("plate/shift", first=FIRST, what="shot")

    def test_what_is_keyed_there_is_taken_out_again(self):
        self.go_to(FIRST)
        self.press("stereo", **TYPED)
        self.press("set/b1/key")
        self.press("stereo/key")
        self.go_to(FIRST + 6)
        self.press("set/b1/key")
        self.press("stereo/key")
        for path in ("set/b1/unkey", "stereo/key"):
            self.assertEqual(self.press(path, frame=FIRST, verb="remove").status_code, 302, path)
        state = self.now().state
        (way,) = [item["way"] for item in state["stand_ins"]]
        self.assertEqual([key[0] for key in way["keys"]], [7])  # pictures keep their numbers
        self.assertEqual([key[0] for key in state["stereo"]["keys"]], [7])

    def test_they_are_rendered_and_looked_at_and_lined_up(self):
        light = {"bearing": "45", "height": "50", "sun": "0.8", "ambient": "0.35"}
        frames = f"{FIRST}–{FIRST + 1}"
        self.press("elements/order", frames=frames, size="plate", samples="1", **light)
        row = Render.objects.get()
        self.assertEqual(row.frames, [FIRST, FIRST + 1])
        names = set()
        for frame in row.frames:
            answer = self.client.get(
                self.url(f"elements/{row.pk}/render.png"), {"frame": frame, "save": 1}
            )
            self.assertEqual(answer.status_code, 200)
            names.add(answer["Content-Disposition"])
        self.assertEqual(len(names), 2)
        self.assertEqual(self.client.get(self.url("line-up"), {"frame": FIRST}).status_code, 200)

    def test_a_mean_of_them(self):
        answer = self.press("plate/mean", frames=f"{FIRST} – {FIRST + 5}")
        self.assertEqual(answer.status_code, 302)
        self.assertEqual(Job.objects.latest("pk").kind, "mean")
        self.assertEqual(self.press("plate/mean", frames="-1 – -5").status_code, 422)

    def test_a_move_is_seen_there(self):
        grid = Grid.from_gate(384, 216, 36, 20.25)
        over = {
            number: Camera.at(grid, Lens(30), (0.1 * number, 1.5, 4))
            for number in range(FIRST, FIRST + FRAMES)
        }
        text = recipe.write(over, recipe.Recipe(), Fraction(24)).encode()
        self.press("moves/take", file=SimpleUploadedFile("rig.csv", text))
        seen = self.client.get(self.url("moves/m1/seen"), {"frame": FIRST})
        self.assertEqual(seen.status_code, 200)
        later = self.client.get(self.url("moves/m1/seen"), {"frame": FIRST + 9})
        self.assertNotEqual(json.loads(seen.content), json.loads(later.content))
        answer = self.press("moves/m1/into-set", frame=FIRST)
        self.assertEqual(answer.status_code, 302)
        (camera,) = self.now().state["cameras"]
        self.assertAlmostEqual(camera["position"][0], 0.1 * FIRST, places=5)

    def go_to(self, frame):
        self.assertEqual(self.press("plate/frame", frame=frame).status_code, 302)
