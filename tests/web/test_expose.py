"""The Expose step: the plate's exposure with its origins, the virtual camera's, typed."""

import io
import math
import tempfile
from pathlib import Path

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.utils import timezone
from PIL import Image
from pxr import Usd, UsdGeom

from aperture.errors import Problem
from aperture.plates.colour import LUMINANCE_BT709
from aperture.render import returned
from tests.web.test_organise import picture
from tests.web.test_shots import WithShot
from web.catalogue.models import CatalogueLens
from web.elements.actions import Order, render_now
from web.expose.blurring import pupil_of, shutter_of
from web.expose.exposure import camera_exposure
from web.expose.focusing import circle_of, focus_at, lens_at
from web.expose.looks import look_of, names_of
from web.expose.rendered import matched
from web.handoff.writers import WRITERS, Source
from web.lineup.snapshots import facts
from web.match.path_fits import camera_of_state
from web.plates.models import linear_plate
from web.shows.history import edit, set_locked, undo
from web.shows.models import Shot
from web.stage.stand_ins import stand_ins_of


def png(pixels):
    """A grey picture as a file."""
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "PNG")
    return out.getvalue()


class Expose(WithShot):
    def page(self):
        return self.client.get(self.url("expose"))

    def type(self, **fields):
        fields = {"f_number": "", "shutter": "", "iso": "", "base": self.head()} | fields
        return self.client.post(self.url("expose"), fields)

    def test_the_plate_s_exposure_is_the_camera_s_until_another_is_typed(self):
        self.assertContains(self.page(), "There is no plate yet")
        self.upload()
        page = self.page()
        self.assertContains(page, "f/4")
        self.assertContains(page, "exposed as the plate was")
        self.assertContains(self.client.get("/shows/tide/"), "EV 7.9")
        self.assertEqual(self.type(f_number="f/2.8", shutter="172.8°").status_code, 302)
        typed = self.state()["exposure"]
        self.assertEqual(set(typed), {"f_number", "angle"})
        self.assertAlmostEqual(typed["angle"], math.radians(172.8))
        page = self.page()
        self.assertContains(page, "172.8° (1/50 s)")
        # log2((4 / 2.8)²) + log2(60 / 50): a stop more of one, a quarter of a stop of the other.
        self.assertContains(page, "1.29 stops brighter")
        self.show.rate_numerator = 48  # an angle follows the rate
        self.show.save()
        self.assertContains(self.page(), "172.8° (1/100 s)")
        # A camera's lock is about where it stands and what it sees, not how bright it is.
        set_locked(Shot.objects.with_head().get(), True)
        self.assertEqual(self.type().status_code, 302)
        self.assertEqual(self.state()["exposure"], {})

    def test_what_cannot_be_used_stays_typed(self):
        self.upload()
        answer = self.type(f_number="f/0", shutter="400°", iso="<b>")
        self.assertEqual(answer.status_code, 422)
        self.assertContains(answer, "at most 360°", status_code=422)
        self.assertContains(answer, 'value="400°"', status_code=422)
        self.assertEqual(self.state()["exposure"], {})

    def test_a_plate_whose_file_says_nothing(self):
        self.upload()
        edit(self.shot, "another", lambda state: state.update(plate_facts={"iso": 800.0}))
        self.client.post(self.url("plate"), {"picture": picture("plain.jpg"), "base": self.head()})
        page = self.page()
        self.assertContains(page, "The plate&#x27;s file doesn&#x27;t say: Stop, Shutter, ISO")
        self.assertContains(self.client.get("/shows/tide/"), "no exposure")

    def test_another_window(self):
        """Exposure and marks don't touch each other; two exposures do, and mine can be taken."""
        self.upload()
        base = self.head()
        edit(self.shot, "marks", lambda state: state.update(card_m=2))
        self.assertEqual(self.type(iso="800", base=base).status_code, 302)
        self.assertEqual((self.state()["card_m"], self.state()["exposure"]), (2, {"iso": 800}))
        page = {"referer": f"http://testserver{self.url('expose')}"}
        fields = {"f_number": "", "shutter": "", "iso": "1600", "base": base}
        answer = self.client.post(self.url("expose"), fields, headers=page)
        self.assertContains(answer, "Take mine instead", status_code=409)
        self.assertContains(answer, f'name="back" value="{self.url("expose")}"', status_code=409)
        kept, newest = answer.context["kept"], answer.context["newest"]
        taken = self.client.post(
            self.url(f"restore/{kept}"), {"base": newest, "back": self.url("expose")}
        )
        self.assertEqual(taken["Location"], self.url("expose"))
        self.assertEqual(self.state()["exposure"], {"iso": 1600})
        undo(self.shot)
        self.assertEqual(self.state()["exposure"], {"iso": 800})


class Light(WithShot):
    """Filters, what holds the exposure, steps, EV, a patch that is known, and a render against the
    plate."""

    def page(self, rest="expose"):
        return self.client.get(self.url(rest))

    def type(self, **fields):
        fields = {"f_number": "", "shutter": "", "iso": "", "base": self.head()} | fields
        return self.client.post(self.url("expose"), fields)

    def own(self):
        return camera_exposure(Shot.objects.with_head().get(pk=self.shot.pk))

    def test_another_figure_holds_the_exposure(self):
        self.upload()
        before = self.own()
        self.assertEqual(self.type(f_number="f/2", holder="seconds").status_code, 302)
        self.assertAlmostEqual(self.own().brighter_than(before), 0, places=9)
        self.assertAlmostEqual(self.own().seconds, 1 / 240)
        self.assertEqual(
            self.type(
                f_number="f/2", shutter="1/240 s", nd="ND 0.9", through="T 2.2", holder="iso"
            ).status_code,
            302,
        )
        own = self.own()
        self.assertAlmostEqual(own.brighter_than(before), 0, places=9)
        self.assertAlmostEqual(own.t_number, 2.2)
        page = self.page()
        self.assertContains(page, "T 2.2")
        self.assertContains(page, "D 0.90")
        self.assertContains(page, "as the plate was")
        answer = self.type(f_number="f/2", iso="100", holder="iso")
        self.assertContains(answer, "typed at the same time", status_code=422)
        self.assertContains(
            self.type(through="T 1", f_number="2"), "below its stop", status_code=422
        )
        self.assertContains(self.type(nd="thick"), "ND 0.9", status_code=422)
        # One mark on, by the page's buttons; three thirds are one stop.
        self.type()
        for _ in range(3):
            self.press("expose", step="f_number 1", size="third", holder="iso")
        self.assertAlmostEqual(self.own().f_number, math.sqrt(32))
        self.assertAlmostEqual(self.own().brighter_than(before), 0, places=6)
        self.assertContains(self.page(), "f/5.6")
        self.assertContains(self.page(), "f/5.657")
        for _ in range(2):
            self.press("expose", step="f_number -1", size="third", holder="iso")
        self.assertAlmostEqual(self.own().f_number, 4 * 2 ** (1 / 6))
        self.press("expose", step="f_number 2", size="third", holder="iso")
        self.assertEqual(self.press("expose", step="iso 1", holder="iso").status_code, 422)
        self.assertEqual(self.press("expose/ev", ev="12", by="seconds").status_code, 302)
        self.assertAlmostEqual(self.own().light_ev100, 12)
        self.assertEqual(self.press("expose/ev", ev="99", by="iso").status_code, 422)
        self.press("expose/brighter", stops="1.5", by="iso")
        self.assertAlmostEqual(self.own().light_ev100, 10.5)

    def test_a_patch_that_is_known(self):
        self.upload()
        box = {"box": [400, 700, 300, 600], "surface": "grey", "base": self.head()}
        self.assertEqual(self.post_json("expose/meter", **box).status_code, 200)
        kept = self.state()["metered"]
        self.assertEqual(kept["box"], [300, 600, 400, 700])
        pixels = linear_plate(Shot.objects.with_head().get(pk=self.shot.pk))[600:700, 300:400]
        mean = float((pixels @ LUMINANCE_BT709).mean())
        stops = math.log2(0.18 / mean)
        said = f"{stops:+.2f} stops".replace("-", "−")
        self.assertContains(self.page(), said)
        self.press("expose/brighter", stops=said.removesuffix(" stops"), by="iso")
        self.assertAlmostEqual(self.own().light_ev100, 7.91 - stops, delta=0.02)
        small = {"box": [3, 3, 3.5, 3.5], "surface": "grey", "base": self.head()}
        self.assertEqual(self.post_json("expose/meter", **small).status_code, 422)
        self.press("expose/meter")
        self.assertIsNone(self.state()["metered"])

    def test_white(self):
        self.upload()
        page = self.page("expose/white")
        self.assertContains(page, "doesn’t say which white")
        self.press("expose/white", by="grey world")
        self.assertEqual(self.state()["white"]["by"], "grey world")
        self.assertEqual(self.press("expose/white", by="file").status_code, 422)
        answer = self.client.post(
            self.url("expose/white"), {"white": "312.5 mired", "tint": "2", "base": self.head()}
        )
        self.assertEqual(answer.status_code, 302)
        self.assertAlmostEqual(self.state()["white"]["kelvin"], 3200)
        picture = self.page("expose/map/white.png")
        self.assertEqual(picture["Content-Type"], "image/png")
        for white, says in (("10 K", "between 1000"), ("-3 mired", "above zero"), ("warm", "read")):
            form = {"white": white, "base": self.head()}
            answer = self.client.post(self.url("expose/white"), form)
            self.assertContains(answer, says, status_code=422)
        box = {"box": [300, 600, 400, 700], "base": self.head()}
        self.assertEqual(self.post_json("expose/white/patch", **box).status_code, 200)
        self.press("expose/white/show", white="5600 K", tint="0")
        self.assertContains(self.page("expose/white"), "5600 K")


class Lens(WithShot):
    """Focus, depth, blur and look on a matched photograph."""

    def setUp(self):
        super().setUp()
        self.ready()
        crate = {
            "id": "b1",
            "name": "Crate",
            "size": [1, 1, 1],
            "base": [0.5, 0, -0.5],
            "turn_deg": 0,
        }
        edit(self.shot, "Crate", lambda state: state.update(stand_ins=[crate]))

    def fresh(self):
        return Shot.objects.with_head().get(pk=self.shot.pk)

    def page(self, rest):
        return self.client.get(self.url(rest))

    def focus(self, status=302, **fields):
        fields = {"metres": "", "follow": "", "basis": "frame", "circle": ""} | fields
        answer = self.client.post(self.url("expose/focus"), fields | {"base": self.head()})
        self.assertEqual(answer.status_code, status, answer.content[-600:])
        return answer

    def test_focus_typed_followed_clicked(self):
        self.assertContains(self.page("expose/focus"), "Depth of field needs a focus")
        self.focus(metres="3 m")
        shot = self.fresh()
        lens = lens_at(shot)
        self.assertEqual(lens.focus_m, 3)
        near, far = lens.limits(circle_of(shot, camera_of_state(shot.state))[0])
        page = self.page("expose/focus")
        self.assertContains(page, shot.show.length(near)[0])
        self.assertContains(page, shot.show.length(far)[0])
        self.focus(metres="3 m", follow="Crate")
        self.assertContains(self.page("expose/focus"), "typed here: 3.000 m, not in use")
        camera = camera_of_state(self.fresh().state)
        corners = stand_ins_of(self.fresh().state)["Crate"].bounds()
        nearest = float((-camera.to_camera_space(corners)[:, 2]).min())
        self.assertAlmostEqual(focus_at(self.fresh()).metres, nearest)
        # The files have it; a click on the crate takes over.
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "a.usda"
            WRITERS["usda"](path, Source(self.fresh()))
            stage = Usd.Stage.Open(str(path))
            prim = next(UsdGeom.Camera(p) for p in stage.Traverse() if p.IsA(UsdGeom.Camera))
            self.assertAlmostEqual(prim.GetFocusDistanceAttr().Get(), 100 * nearest, places=3)
            self.assertAlmostEqual(prim.GetFStopAttr().Get(), 4.0)
            self.assertAlmostEqual(prim.GetExposureAttr().Get(), 0.0)
            opened, closed = prim.GetShutterOpenAttr().Get(), prim.GetShutterCloseAttr().Get()
            self.assertAlmostEqual(closed - opened, 24 / 60)
        at = camera.project(corners.mean(axis=0)[None])[0].tolist()
        answer = self.post_json("expose/focus/at", at=at, base=self.head())
        self.assertEqual(answer.json()["name"], "Crate")
        self.assertNotIn("follow", self.state()["focus"])
        self.assertEqual(
            self.post_json("expose/focus/at", at=[5, 5], base=self.head()).status_code, 422
        )
        edit(self.shot, "none", lambda state: state.update(focus={"follow": "Crate"}, stand_ins=[]))
        self.assertContains(self.page("expose/focus"), "it is gone from the set")

    def test_odd_focus(self):
        for metres, says in (
            ("-2 m", "above zero"),
            ("0", "above zero"),
            ("3 cm", "nearer than"),
            ("x", "read"),
        ):
            self.assertContains(self.focus(422, metres=metres), says, status_code=422)
        self.assertContains(self.focus(422, basis="typed"), "circle’s diameter", status_code=422)
        self.assertEqual(self.state()["focus"], {})
        row = CatalogueLens.objects.create(
            name="Fog 35", data={"name": "Fog 35", "close_focus_m": 0.6}
        )
        edit(self.shot, "lens", lambda state: state["lens"].update(name=row.name))
        self.assertContains(self.focus(422, metres="0.5 m"), "close focus", status_code=422)

    def test_all_sharp(self):
        """Stopped down as far as it takes, and no further; the shutter holds the exposure."""
        camera = camera_of_state(self.fresh().state)
        ahead = camera.position - 1.2 * camera.rotation[:, 2]
        near_by = {"id": "b2", "name": "Bollard", "size": [0.2, 0.3, 0.2], "turn_deg": 0}
        near_by["base"] = [ahead[0], ahead[1] - 0.15, ahead[2]]
        edit(self.shot, "near", lambda state: state["stand_ins"].append(near_by))
        before = camera_exposure(self.fresh())
        self.press("expose/focus/depth", by="seconds")
        shot = self.fresh()
        self.assertAlmostEqual(camera_exposure(shot).brighter_than(before), 0, places=9)
        near, far = lens_at(shot).limits(circle_of(shot, camera)[0])
        corners = np.concatenate([item.bounds() for item in stand_ins_of(shot.state).values()])
        away = -camera.to_camera_space(corners)[:, 2]
        self.assertAlmostEqual(near, float(away.min()), delta=0.02)
        self.assertAlmostEqual(far, float(away.max()), delta=0.2)
        self.assertEqual(self.press("expose/focus/depth", by="luck").status_code, 422)
        stop = lens_at(shot).f_number
        edit(self.shot, "stop", lambda state: state["exposure"].update(f_number=2 * stop))
        self.press("expose/focus/depth", by="seconds")
        self.assertAlmostEqual(lens_at(self.fresh()).f_number, 2 * stop)

    def test_the_blur_has_a_shape(self):
        pupil = {
            "blades": "7",
            "turn_deg": "10",
            "curvature": "0.2",
            "spherical": "0",
            "squeeze": "1",
            "cats_eye": "0.4",
            "onset": "0.3",
            "swirl": "0",
        }
        self.assertEqual(self.press("expose/blur", **pupil).status_code, 302)
        self.assertEqual(pupil_of(self.fresh()).blades, 7)
        self.assertEqual(self.press("expose/blur", **pupil | {"blades": "2"}).status_code, 422)
        self.assertEqual(self.press("expose/blur", **pupil | {"swirl": "lots"}).status_code, 422)
        self.assertEqual(self.page("expose/blur/spots?blades=5").status_code, 200)
        self.assertEqual(self.page("expose/blur/spots?blades=2").status_code, 422)

        def upload(data):
            form = {"picture": SimpleUploadedFile("opening.png", data), "base": self.head()}
            headers = {"Accept": "application/json"}
            return self.client.post(self.url("expose/blur/picture"), form, headers=headers)

        for wrong in (b"", b"GIF89a", png(np.zeros((9, 9), np.uint8))):
            self.assertEqual(upload(wrong).status_code, 422)
        star = np.zeros((40, 40), np.uint8)
        star[18:22] = star[:, 18:22] = 255
        self.assertEqual(upload(png(star)).status_code, 302)
        self.assertIsNotNone(pupil_of(self.fresh()).picture)
        self.press("expose/blur/picture", forget="1")
        self.assertIsNone(pupil_of(self.fresh()).picture)
        self.assertEqual(
            self.press("expose/blur/shutter", phase="start", readout="8 ms").status_code, 302
        )
        self.assertAlmostEqual(shutter_of(self.fresh()).readout_frames, 8 * 24 / 1000)
        self.assertEqual(
            self.press("expose/blur/shutter", phase="start", readout="900").status_code, 422
        )
        answer = self.post_json("expose/blur/streak", at=[960, 1000], base=self.head())
        self.assertContains(answer, "Neither the camera nor a stand-in moves", status_code=422)

    def test_renders_have_the_lens(self):
        """With depth of field the crate's edge is soft, by the lens; without, as sharp as ever; a
        new focus makes it old."""
        self.focus(metres="0.5 m")
        self.type_stop("f/1")
        render_now(self.fresh(), Order(size="quarter"))
        render_now(self.fresh(), Order(size="quarter", depth=True, exposed=True))
        soft, sharp = self.shot.renders.all()[:2]
        soft_alpha, sharp_alpha = (
            returned.read(one.folder / "render.exr").rgba[..., 3] for one in (soft, sharp)
        )
        partly = [((alpha > 0.02) & (alpha < 0.98)).mean() for alpha in (soft_alpha, sharp_alpha)]
        self.assertGreater(partly[0], 2 * partly[1])
        self.assertNotContains(self.page("elements"), "exposure or blur is old")
        self.focus(metres="4 m")
        self.assertContains(self.page("elements"), "exposure or blur is old")
        edit(self.shot, "no focus", lambda state: state.update(focus={}))
        with self.assertRaisesRegex(Problem, "needs a gate, a stop and a focus"):
            render_now(self.fresh(), Order(size="quarter", depth=True))

    def type_stop(self, stop):
        form = {"f_number": stop, "shutter": "", "iso": "", "base": self.head()}
        self.assertEqual(self.client.post(self.url("expose"), form).status_code, 302)

    def test_a_look_is_previewed_kept_and_taken(self):
        form = {
            "bloom": "0.4",
            "threshold": "0.6",
            "response": "film",
            "grain": "0.05",
            "cos4": "on",
        }
        self.assertEqual(self.press("expose/look", **form).status_code, 302)
        self.assertEqual(look_of(self.fresh()).bloom, 0.4)
        for wrong in (
            {"gamma": "0"},
            {"bloom": "x"},
            {"fall_off": "1 2 3 4"},
            {"stray": "0.5"},
            {"response": "own", "points": "1 2 3"},
            {"seed": "1.5"},
        ):
            self.assertEqual(self.press("expose/look", **form | wrong).status_code, 422, wrong)
        self.assertEqual(self.page("expose/map/look.png").status_code, 200)
        self.press("expose/look/keep", name="Fog at dawn")
        kept = self.fresh().show.looks.get()
        self.press("expose/look", response="straight")
        self.assertTrue(look_of(self.fresh()).plain)
        self.press("expose/look/take", look=kept.pk)
        self.assertEqual(look_of(self.fresh()).grain, 0.05)
        written = self.page("expose/look/file").content
        self.press("expose/look", response="straight")
        file = SimpleUploadedFile("dawn.json", written)
        self.client.post(self.url("expose/look/take"), {"file": file, "base": self.head()})
        self.assertEqual(look_of(self.fresh()), kept.look)
        # Not in what is delivered until it is asked for; the burn-in says so then.
        now = timezone.localtime()
        self.assertNotIn("look:", " ".join(facts(self.fresh(), now)))
        self.press("expose/look/switch", on="1")
        self.assertIn("look: fall-off, bloom, grain, response", " ".join(facts(self.fresh(), now)))
        # A table of the look is read again; odd ones are refused with a sentence.
        cube = self.page("expose/look/cube").content
        table = {"table": SimpleUploadedFile("a.cube", cube), "base": self.head()}
        self.assertEqual(self.client.post(self.url("expose/look/table"), table).status_code, 302)
        self.assertIn("lookup table", names_of(self.fresh()))
        headers = {"Accept": "application/json"}
        table = {"table": SimpleUploadedFile("a.cube", b"LUT_3D_SIZE 4\n"), "base": self.head()}
        answer = self.client.post(self.url("expose/look/table"), table, headers=headers)
        self.assertContains(answer, "64 lines of numbers", status_code=422)
        self.press("expose/look", response="straight", perspective="on", compression="1")
        self.assertContains(self.page("expose/look"), "lost")
        self.assertEqual(self.page("expose/map/look.png").status_code, 200)
        self.assertEqual(self.page("expose/map/nothing.png").status_code, 422)

    def test_a_render_is_brought_to_the_plate(self):
        """The same surface in both, by patches: the gain that the sheet says brings them
        together."""
        render_now(self.fresh(), Order(samples=1))
        shot = self.fresh()
        corners = stand_ins_of(shot.state)["Crate"].bounds()
        x, y = camera_of_state(shot.state).project(corners.mean(axis=0)[None])[0]
        box = [x - 12, y - 12, x + 12, y + 12]
        self.assertEqual(self.post_json("expose/pair", box=box, base=self.head()).status_code, 200)
        self.assertContains(self.page("expose"), "Render needs")
        result = matched(self.fresh())
        plate = linear_plate(shot)
        rows, columns = slice(int(y) - 12, int(y) + 12), slice(int(x) - 12, int(x) + 12)
        seen = plate[rows, columns].reshape(-1, 3).mean(axis=0)
        made = returned.read(shot.renders.first().folder / "render.exr").rgba[rows, columns, :3]
        wanted = np.log2(seen / made.reshape(-1, 3).mean(axis=0)).mean()
        self.assertAlmostEqual(result.stops, float(wanted), delta=0.1)
        id_ = self.state()["pairs"][0]["id"]
        away = {"box": [2, 2, 30, 30], "id": id_, "base": self.head()}
        self.assertEqual(self.post_json("expose/pair", **away).status_code, 200)
        self.assertContains(self.page("expose"), "shows nothing")
        self.press("expose/pair", id=id_)
        self.assertEqual(self.state()["pairs"], [])
        self.assertEqual(self.page("expose/map/render.png").status_code, 200)
