"""The cut of a show: made of its shots, changed, undone, in two windows, taken from a file."""

import io
import json
import tempfile
import wave

import av
import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from PIL import Image

from demo.plates import FOLDER
from tests.web.client import PageClient
from tests.web.test_tracks import HasBoards
from web.cut.actions import cut_of, in_order
from web.shows.history import create_shot, edit
from web.shows.models import Shot, Show
from web.stage.cameras import type_camera


class Cutting(HasBoards):
    """A show with a film of twelve pictures and two photographs."""

    client_class = PageClient

    def setUp(self):
        super().setUp()
        self.other = create_shot(self.show, "LT950", "A still")
        create_shot(self.show, "LT960", "Nothing yet")
        picture = SimpleUploadedFile("a.jpg", (FOLDER / "LT010_boathouse_morning.jpg").read_bytes())
        self.client.post("/shows/tide/LT950/plate", {"picture": picture})

    def do(self, verb, status=200, base=None, **more):
        base = self.number() if base is None else base
        answer = self.client.post(
            "/shows/tide/cut/do",
            json.dumps({"verb": verb, "base": base, **more}),
            content_type="application/json",
            headers={"Accept": "application/json"},
        )
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def page(self):
        return self.client.get("/shows/tide/cut").context["page"]

    def number(self):
        return self.page()["revision"]

    def codes(self):
        return [clip["code"] for clip in self.page()["clips"]]

    def test_made_changed_and_undone(self):
        page = self.page()
        self.assertEqual((page["revision"], self.codes()), (0, ["LT900", "LT950", "LT960"]))
        film, still, _ = page["clips"]
        self.assertEqual((film["length"], still["length"]), (12, 48))
        self.assertEqual(still["begin"], 12)
        told = self.do("move", id=still["id"], to=0)
        self.assertEqual([clip["code"] for clip in told["clips"]], ["LT950", "LT900", "LT960"])
        told = self.do("first", id=film["id"], by=2)
        self.assertEqual((told["clips"][1]["first"], told["clips"][1]["handles"]), (3, [2, 0]))
        refused = self.do("last", 422, id=film["id"], by=1)
        self.assertIn("no frame after 12", refused["problem"])
        self.do("split", id=film["id"], frame=8)
        self.do("remove", id=page["clips"][2]["id"])
        self.assertEqual(self.codes(), ["LT950", "LT900", "LT900"])
        self.assertEqual([one["code"] for one in self.page()["left_out"]], ["LT960"])
        self.do("add", name="LT960")
        self.do("add", 422, name="LT999")
        self.do("length", id=still["id"], by=24)
        self.do("start", name="10:00:00:00")
        self.assertEqual(self.page()["clips"][1]["at"], "10:00:01:00")
        self.do("start", 422, name="noon")
        for wrong in (
            {"verb": "burn"},
            {"verb": "move"},
            {"verb": "slip", "base": 1, "by": 10**12},
        ):
            answer = self.client.post(
                "/shows/tide/cut/do",
                json.dumps(wrong),
                content_type="application/json",
                headers={"Accept": "application/json"},
            )
            self.assertEqual(answer.status_code, 422)
        before = self.codes()
        self.client.post("/shows/tide/cut/undo", {"base": self.number()})
        self.client.post("/shows/tide/cut/undo", {"base": self.number()})
        self.assertEqual(self.page()["clips"][0]["length"], 48)
        self.client.post("/shows/tide/cut/redo", {"base": self.number()})
        self.assertEqual((self.page()["clips"][0]["length"], self.codes()), (24, before))

    def test_another_window_shifts_and_losses(self):
        shown = self.number()
        clip = self.page()["clips"][0]
        self.do("slip", 422, id=clip["id"], by=1)
        self.do("first", id=clip["id"], by=4)
        answer = self.do("last", 409, base=shown, id=clip["id"], by=-1)
        self.assertIn("another window", answer["problem"])
        # The shot begins on 1001: its clip goes along. A deleted shot leaves the cut, and comes
        # back to it.
        self.press("plate/shift", first="1001", what="shot")
        self.assertEqual(self.page()["clips"][0]["first"], 1005)
        self.client.post("/shows/tide/LT950/keep/delete")
        self.assertEqual(self.codes(), ["LT900", "LT960"])
        self.client.post("/shows/tide/LT950/keep/restore")
        self.assertEqual(self.codes(), ["LT900", "LT950", "LT960"])

    def test_files_and_the_storyboard_s_order(self):
        clips = self.page()["clips"]
        self.do("move", id=clips[2]["id"], to=0)
        self.do("remove", id=clips[0]["id"])
        self.assertEqual([shot.code for shot in in_order(self.show)], ["LT960", "LT950", "LT900"])
        self.assertEqual(self.client.get("/shows/tide/storyboard.pdf").status_code, 200)
        written = {
            kind: self.client.get(f"/shows/tide/cut/cut.{kind}").content for kind in ("otio", "edl")
        }
        other = Show.objects.create(name="Elsewhere", slug="elsewhere")
        for kind, data in written.items():
            base = self.client.get("/shows/elsewhere/cut").context["page"]["revision"]
            form = {"file": SimpleUploadedFile(f"cut.{kind}", data), "base": base}
            answer = self.client.post("/shows/elsewhere/cut/take", form)
            self.assertEqual(answer.status_code, 302, answer.content[:300])
            self.assertEqual([clip.shot for clip in cut_of(other).clips], ["LT960", "LT950"])
        self.assertEqual(other.shots.count(), 2)
        headers = {"Accept": "application/json"}
        for name, data in (("a.edl", b"nothing"), ("a.otio", b"{")):
            form = {"file": SimpleUploadedFile(name, data), "base": 2}
            answer = self.client.post("/shows/elsewhere/cut/take", form, headers=headers)
            self.assertEqual(answer.status_code, 422)
        self.assertEqual(other.shots.count(), 2)

    def test_speeds_fades_sound_and_the_movie(self):
        film, still, empty = (clip["id"] for clip in self.page()["clips"])
        self.do("speed", id=film, name="50 %", between="blend")
        page = self.page()
        self.assertEqual((page["clips"][0]["length"], page["clips"][0]["speed"]), (24, "50 %"))
        self.assertEqual(page["clips"][0]["sources"][:3], [1.0, 1.5, 2.0])
        self.assertIn("12 frames of the shot over 24", page["clips"][0]["speed_says"])
        self.do("length", 422, id=film, by=9)
        for wrong in ("fast", "0", "1: 50, x: 3", "99999 %"):
            self.do("speed", 422, id=film, name=wrong)
        self.do("fade", id=film, fade_in=4)
        self.do("fade", id=still, dissolve=4)
        self.do("fade", 422, id=empty, dissolve=4)
        self.do("title", name="Tide", by=10, counter=True)
        self.do("title", 422, name="a\nb", by=10)
        self.do("length", id=still, by=10)
        self.do("length", id=empty, by=8)
        kept = cut_of(self.show)
        self.assertEqual((kept.title, kept.counter, kept.clips[1].dissolve), ("Tide", True, 4))
        for name, data, status in (("a.wav", _wav(2.0), 302), ("b.wav", b"RIFF no sound", 422)):
            answer = self.client.post(
                "/shows/tide/cut/sound", {"file": SimpleUploadedFile(name, data)}
            )
            self.assertEqual(answer.status_code, status)
        self.assertEqual(self.client.get("/shows/tide/cut/sound.wav")["Content-Type"], "audio/wav")
        self.assertEqual(self.client.get("/shows/tide/cut/cut.mp4").status_code, 404)
        self.client.post("/shows/tide/cut/movie", {"what": "over", "burn_in": "1"})
        self.assertContains(self.client.get("/shows/tide/cut"), "Save the movie")
        with tempfile.NamedTemporaryFile(suffix=".mp4") as file:
            file.write(b"".join(self.client.get("/shows/tide/cut/cut.mp4").streaming_content))
            file.flush()
            with av.open(file.name) as movie:
                sound = movie.streams.audio[0]
                self.assertAlmostEqual(float(sound.duration * sound.time_base), 42 / 24, delta=0.1)
                frames = [frame.to_ndarray(format="gray") for frame in movie.decode(video=0)]
        self.assertEqual(len(frames), 24 + 10 + 8)
        light = [float(frame[: frame.shape[0] // 2].mean()) for frame in frames]
        self.assertLess(light[0], 0.7 * light[12])  # from black
        self.assertLess(light[41], 5)  # a shot without a plate

    def test_drawings_and_other_cameras(self):
        still = self.page()["clips"][1]
        shot = type_camera(self.other, None)
        camera = shot.state["cameras"][0]["id"]
        crate = {"id": "b1", "name": "Crate", "size": [2, 2, 2], "base": [0, 0, 0], "turn_deg": 0}
        edit(shot, "Crate", lambda state: state.update(stand_ins=[crate]))
        self.assertEqual(
            [name for _, name in self.page()["clips"][1]["cameras"]][0], "the matched one"
        )
        self.do("camera", id=still["id"], name=camera)
        self.assertEqual(self.page()["clips"][1]["camera"], camera)
        self.do("camera", 422, id=still["id"], name="nobody")
        where = "/shows/tide/LT950/cut-pictures/1.jpg"
        for asked, light in (
            ({"what": "drawing", "camera": camera}, 200),
            ({"what": "over"}, 0),
            ({"what": "drawing"}, 240),
        ):
            answer = self.client.get(where, asked)
            grey = np.asarray(Image.open(io.BytesIO(answer.content)).convert("L"), float)
            self.assertGreater(grey.max(), light)
        drawn = self.client.get(where, {"what": "drawing", "camera": camera}).content
        self.assertLess(
            np.asarray(Image.open(io.BytesIO(drawn)).convert("L")).min(), 120
        )  # its edges
        # What stands behind it is hidden.
        behind = crate | {
            "id": "b2",
            "name": "Behind",
            "size": [0.5, 0.5, 0.5],
            "base": [0, 0.5, 0],
        }
        edit(
            Shot.objects.get(code="LT950"),
            "Inside",
            lambda state: state.update(stand_ins=[crate, behind]),
        )
        self.assertEqual(
            self.client.get(where, {"what": "drawing", "camera": camera}).content, drawn
        )
        self.assertEqual(self.client.get(where, {"what": "x"}).status_code, 422)
        self.do("camera", id=still["id"], name="match")

    def test_the_storyboard_s_page_and_the_board_s_filters(self):
        for kind in ("plate", "render", "drawing", "snapshot", "nothing"):
            self.assertContains(self.client.get("/shows/tide/storyboard", {"kind": kind}), "LT950")
        self.assertEqual(
            self.client.get("/shows/tide/LT950/hand-off/storyboard.jpg")["Content-Type"],
            "image/jpeg",
        )
        self.assertEqual(
            self.client.get("/shows/tide/LT960/hand-off/storyboard.jpg").status_code, 404
        )
        self.assertEqual(
            self.client.get("/shows/tide/storyboard.pdf", {"kind": "render"}).content[:4], b"%PDF"
        )

        def listed(**asked):
            rows = self.client.get("/shows/tide/", asked).context["rows"]
            return [shot.code for shot, _ in rows]

        self.assertEqual(listed(step="plate", state="settled"), ["LT900", "LT950"])
        self.assertEqual(listed(step="plate", state="nothing"), ["LT960"])
        self.assertEqual(listed(step="nonsense", state="nonsense"), ["LT900", "LT950", "LT960"])

    def test_what_is_seen_over_cuts(self):
        self.do("remove", id=self.page()["clips"][1]["id"])
        self.assertContains(self.client.get("/shows/tide/cut"), "LT950 isn’t in the cut")


def _wav(seconds):
    """A tone of 440 Hz."""
    with io.BytesIO() as file:
        with wave.open(file, "wb") as sound:
            sound.setparams((1, 2, 8000, 0, "NONE", ""))
            at = np.arange(int(8000 * seconds)) / 8000
            sound.writeframes((np.sin(2 * np.pi * 440 * at) * 12000).astype("<i2").tobytes())
        return file.getvalue()
