"""Order among shows and shots, facts about a plate, and what can be thrown away and taken back."""

import io
import json
from unittest import mock

import numpy as np
from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from PIL import Image

from demo.plates import FOLDER
from tests.web.matched import MatchedShot
from tests.web.test_shots import NAME, WithShot
from web.elements.models import Render
from web.lineup.models import Returned
from web.plates.frames import frame_of_photograph
from web.plates.models import metadata_of, plate_of, transfer_of, working_pixels
from web.shows.history import edit
from web.shows.models import Shot, Show
from web.shows.state import Part
from web.stage.cameras import copy_camera


def picture(name, colour=90):
    out = io.BytesIO()
    Image.new("RGB", (64, 48), (colour, 80, 70)).save(out, "JPEG")
    return SimpleUploadedFile(name, out.getvalue())


class Shots(WithShot):
    def codes(self, query=""):
        page = self.client.get(f"/shows/tide/{query}").content.decode()
        return [code for code in ("LT900", "LT900-2", "LT910", "wharf") if f"<b>{code}</b>" in page]

    def test_rename_move_copy(self):
        other = Show.objects.create(name="Harbour Lights", slug="lights")
        url = "/shows/tide/LT900/settings"
        settings = {"show_slug": "tide", "code": "LT910", "description": "Slipway"}
        self.assertEqual(self.client.post(url, settings).status_code, 302)
        self.assertEqual(self.codes(), ["LT910"])
        self.client.post("/shows/tide/LT910/keep/copy")
        self.assertEqual(Shot.objects.filter(show=self.show).count(), 2)
        copy = Shot.objects.with_head().get(code="LT910-2")
        self.assertEqual((copy.state, copy.head.number), (self.state(), 1))
        taken = self.client.post("/shows/tide/LT910-2/settings", settings)
        self.assertContains(taken, "There is a shot LT910 in this show already", status_code=422)
        self.client.post(
            "/shows/tide/LT910-2/settings", settings | {"show_slug": "lights", "code": "HL1"}
        )
        self.assertEqual(list(other.shots.values_list("code", flat=True)), ["HL1"])

    def test_search_order_archive_delete_and_back(self):
        self.client.post("/shows/tide/", {"code": "wharf", "description": "Low water"})
        self.assertEqual(self.codes("?q=low"), ["wharf"])
        self.assertEqual(self.codes("?q=nothing"), [])
        self.assertEqual(self.codes("?sort=newest&archived=0"), ["LT900", "wharf"])
        self.client.post("/shows/tide/wharf/keep/archive")
        self.assertEqual((self.codes(), self.codes("?archived=1")), (["LT900"], ["wharf"]))
        self.client.post("/shows/tide/wharf/keep/unarchive")
        self.client.post("/shows/tide/wharf/keep/delete")
        self.assertEqual(self.client.get("/shows/tide/wharf/plate").status_code, 404)
        self.assertContains(self.client.get("/shows/tide/"), "Deleted shots (1)")
        again = self.client.post("/shows/tide/", {"code": "wharf"})
        self.assertContains(again, "among the deleted ones", status_code=422)
        self.client.post("/shows/tide/wharf/keep/restore")
        self.assertEqual(self.codes(), ["LT900", "wharf"])
        odd = self.client.post("/shows/tide/wharf/keep/burn")
        self.assertEqual(odd.status_code, 422)

    def test_a_show_s_settings_copies_and_deletion(self):
        url = "/shows/tide/settings"
        page = self.client.get(url)
        self.assertContains(page, 'value="24"')
        wrong = self.client.post(url, {"name": "", "up_axis": "Z", "length_unit": "ft", "rate": ""})
        self.assertEqual(wrong.status_code, 422)
        settings = {"name": "Tide, part 2", "up_axis": "Z", "length_unit": "ft", "rate": "23.976"}
        self.client.post(url, settings)
        show = Show.objects.get(slug="tide")
        self.assertEqual((show.name, show.up_axis, show.length_unit), ("Tide, part 2", "Z", "ft"))
        self.assertEqual((show.rate_numerator, show.rate_denominator), (24000, 1001))
        self.client.post("/shows/tide/keep/copy")
        copy = Show.objects.get(slug="tide-2")
        self.assertEqual(copy.shots.get().code, "LT900")
        self.client.post("/shows/tide/keep/delete")
        self.assertEqual(self.client.get("/shows/tide/").status_code, 404)
        self.assertEqual(self.client.get("/shows/tide/LT900/plate").status_code, 404)
        self.assertContains(self.client.get("/"), "Deleted shows (1)")
        self.client.post("/shows/tide/keep/restore")
        self.assertEqual(self.client.get("/shows/tide/").status_code, 200)
        self.assertContains(self.client.get("/?q=LT900"), "Tide, part 2 2")

    def test_photographs_become_shots(self):
        pictures = [picture("Net loft 3.jpg"), picture("lt900.jpg", 40), picture("KM_11.jpg", 20)]
        self.client.post("/shows/tide/photographs", {"pictures": pictures})
        codes = set(self.show.shots.values_list("code", flat=True))
        self.assertEqual(codes, {"LT900", "Net-loft-3", "lt900-2", "KM_11"})
        made = Shot.objects.with_head().get(code="KM_11")
        self.assertEqual((made.state["plate"]["width"], made.state["marks"]), (64, []))
        broken = [picture("good.jpg", 10), SimpleUploadedFile("bad.jpg", b"nothing")]
        answer = self.client.post("/shows/tide/photographs", {"pictures": broken})
        self.assertContains(answer, "1 of 2 shots were made", status_code=422)

    def test_back_leads_nowhere_else(self):
        for back in ("https://example.org/", "//example.org", "nowhere", '"><script>', ""):
            answer = self.client.post(self.url("lock"), {"locked": "1", "back": back, "base": "1"})
            self.assertEqual(answer["Location"], "/shows/tide/LT900/match")


class Isolation(WithShot):
    def test_a_shot_that_cannot_be_computed_takes_no_other_page_down(self):
        """A state from elsewhere, with a gate that no chain can be made of."""
        self.upload()

        def spoil(state):
            state["gate"] = {"width_mm": "wide"}

        with mock.patch.object(Part, "check"):  # as an older release let it through
            edit(Shot.objects.get(), "Spoilt", spoil)
        with self.assertLogs("web.shows.standings", "ERROR"):
            for page in ("/", "/shows/tide/"):
                answer = self.client.get(page)
                self.assertContains(answer, "needs you")
        # Its own pages say so, with Undo and the revisions to go back to.
        self.client.raise_request_exception = False
        for page in ("gate", "match", "set"):
            with self.assertLogs("web.shows.middleware", "ERROR"):
                answer = self.client.get(self.url(page))
            self.assertContains(answer, "This page can't be shown", status_code=500)
            self.assertContains(answer, 'data-history="undo"', status_code=500)
            self.assertContains(answer, "Take revision 2", status_code=500)
        self.assertEqual(self.press("undo").status_code, 200)
        self.assertNotContains(self.client.get("/shows/tide/"), "can&#x27;t be computed")

    def test_numbers_beyond_computing_are_a_sentence(self):
        self.upload()
        for error in (OverflowError("34"), np.linalg.LinAlgError("singular")):
            with (
                mock.patch("web.match.page.fit_of", side_effect=error),
                self.assertLogs("web.shows.middleware", "ERROR"),
            ):
                answer = self.client.get(self.url("match"))
                self.assertContains(answer, "beyond what can be computed", status_code=422)
                self.assertContains(answer, 'data-history="undo"', status_code=422)
                told = self.client.post(
                    self.url("match/refine"),
                    {"ids": []},
                    content_type="application/json",
                    headers={"Accept": "application/json"},
                )
                self.assertIn("problem", told.json())


class PlateFacts(WithShot):
    def test_finer_samples_are_kept_and_looked_at(self):
        """A step of a quarter of an 8-bit value: refined all the same; a float plate is linear by
        itself."""
        import OpenEXR

        ramp = np.full((120, 160, 3), 0.2, np.float32)
        ramp[:, 70:] += 0.001
        path = settings.DATA / "dim.exr"
        header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
        OpenEXR.File(header, {"RGB": OpenEXR.Channel(ramp)}).write(str(path))
        self.addCleanup(path.unlink)
        self.upload("dim.exr", path.read_bytes())
        self.assertContains(self.client.get(self.url("plate")), "linear")
        drawn = {"id": "e1", "kind": "edge", "axis": "up", "points": [[71.5, 20], [71.0, 100]]}
        self.post_json("match/save", marks=[drawn], label="Drew e1")
        self.assertEqual(self.post_json("match/refine", ids=["e1"]).status_code, 200)
        np.testing.assert_allclose(
            np.array(self.state()["marks"][0]["points"])[:, 0], 70, atol=0.05
        )
        # One that an older release brought in, 8 bits of it, is read from its original again.
        plate = plate_of(Shot.objects.with_head().get())
        (plate.folder / "working.npy").unlink()
        np.testing.assert_array_equal(working_pixels(plate), ramp)
        shown = self.client.get(self.url("plate")).context["facts_form"].initial["transfer"]
        self.client.post(self.url("plate/facts"), {"facts-transfer": shown})
        self.assertEqual(self.state()["plate_facts"], {})
        self.client.post(self.url("plate/facts"), {"facts-transfer": "srgb"})
        self.assertEqual(transfer_of(self.state()), "srgb")

    def test_what_the_file_says_is_corrected_and_its_curve_chosen(self):
        self.upload()
        shot = Shot.objects.with_head().get()
        plate = plate_of(shot)
        facts = {"facts-focal_mm": "28 mm", "facts-f_number": "f/4", "facts-iso": "400"}
        facts |= {"facts-exposure_time": "1/60 s", "facts-transfer": "linear"}
        facts |= {f"facts-{key}": plate.metadata.get(key, "") for key in ("maker", "model", "lens")}
        self.client.post(self.url("plate/facts"), facts)
        self.assertEqual(self.state()["plate_facts"], {"focal_mm": 28.0, "transfer": "linear"})
        page = self.client.get(self.url("plate")).content.decode()
        self.assertIn("28 mm", page)
        self.assertIn("typed", page)
        self.assertEqual(metadata_of(self.state(), plate)["f_number"], 4)
        wrong = self.client.post(self.url("plate/facts"), facts | {"facts-iso": "fast"})
        self.assertContains(wrong, "The ISO can", status_code=422)
        self.upload("other.jpg", picture("x.jpg").read())
        self.assertEqual(self.state()["plate_facts"], {})

    def test_a_resized_picture_is_told(self):
        out = io.BytesIO()
        exif = Image.Exif()
        exif.get_ifd(0x8769).update({0xA002: 3264, 0xA003: 2448})
        Image.new("RGB", (751, 563), (9, 80, 70)).save(out, "JPEG", exif=exif)
        self.upload("small.jpg", out.getvalue())
        page = self.client.get(self.url("plate"))
        self.assertContains(page, "file was 3264 × 2448, this picture is 751 × 563")

    def test_the_number_in_a_file_s_name_is_its_frame(self):
        for name, frame in (
            ("a.1001.exr", 1001),
            ("b_0101.tif", 101),
            ("c-12.jpg", 12),
            ("d.jpg", 1),
        ):
            self.assertEqual(frame_of_photograph({"plate": {"name": name}, "shift": 0}), frame)


class MatchPage(MatchedShot):
    url = "/shows/tide/LT901/"

    def test_the_file_s_focal_length_is_compared_and_taken(self):
        facts = {"facts-focal_mm": "50 mm", "facts-transfer": "srgb"}
        self.client.post(self.url + "plate/facts", facts)
        page = self.client.get(self.url + "match").content.decode()
        self.assertIn("The file says 50 mm", page)
        self.client.post(self.url + "match/file-focal")
        self.assertEqual(self.shot().state["lens"]["focal_mm"], {"value": 50, "plus_minus": 1.0})

    def test_axes_world_and_floor(self):
        post = self.client.post
        before = [mark.get("axis") for mark in self.shot().state["marks"]]
        post(self.url + "match/swap", {"axes": "across along"})
        post(self.url + "match/swap", {"axes": "across along"})
        self.assertEqual([mark.get("axis") for mark in self.shot().state["marks"]], before)
        post(
            self.url + "match/plane",
            {"plane-name": "Bench", "plane-axis": "up", "plane-metres": "0.9 m"},
        )
        self.place([2, 0, 1])
        post(self.url + "match/floor-plane", {"plane": "p1"})
        state = self.shot().state
        self.assertEqual(state["planes"][0]["metres"], 0)
        self.assertAlmostEqual(state["stand_ins"][0]["base"][1], -0.9, places=4)
        self.assertEqual(state["marks"][-2]["world"], [0, -0.9, 0])
        base = np.array(state["stand_ins"][0]["base"])
        copied = copy_camera(self.shot(), "match", None).state["cameras"][0]
        post(self.url + "match/turn", {"axis": "up"})
        turned = self.shot().state["stand_ins"][0]
        np.testing.assert_allclose(turned["base"], [base[2], base[1], -base[0]], atol=1e-4)
        self.assertAlmostEqual(turned["turn_deg"], 90, places=3)
        camera = self.shot().state["cameras"][0]
        across, up, along = copied["position"]
        np.testing.assert_allclose(camera["position"], [along, up, -across], atol=1e-6)
        self.assertAlmostEqual((camera["pan_deg"] - copied["pan_deg"]) % 360, 90, places=6)
        self.assertEqual(post(self.url + "match/turn", {"axis": "sideways"}).status_code, 422)

    def test_check_marks_mistrust_and_lens_with_plus_minus(self):
        shot = self.shot()
        mark = shot.state["marks"][0]
        form = {"sigma_px": "0.5", "axis": mark["axis"], "check": "on", "name": "Lintel"}
        for index, (x, y) in enumerate(mark["points"]):
            form |= {f"x{index}": f"{x:.2f}", f"y{index}": f"{y:.2f}"}
        self.client.post(
            self.url + f"match/mark/{mark['id']}", form, headers={"HX-Request": "true"}
        )
        self.assertTrue(self.shot().state["marks"][0]["check"])
        page = self.client.get(self.url + "match").content.decode()
        self.assertIn("1 compared", page)
        self.client.post(self.url + "match/mistrust", {"robust": "1"})
        self.assertTrue(self.shot().state["robust"])
        lens = {"lens-projection": "rectilinear", "lens-centre": "given"}
        lens |= {"lens-centre_at": "962 541 ± 4", "lens-k1": "0.001 ± 0.002"}
        self.client.post(self.url + "match/lens", lens)
        stored = self.shot().state["lens"]
        self.assertEqual(stored["principal_point"], {"value": [962, 541], "plus_minus": 4})
        self.assertEqual(stored["distortion"], {"k1": {"value": 0.001, "plus_minus": 0.002}})
        page = self.client.get(self.url + "match").content.decode()
        self.assertIn("962 541 ± 4", page)  # as it was typed
        self.client.post(self.url + "match/free/k2")
        self.assertEqual(self.shot().state["lens"]["distortion"]["free"], ["k2"])

    def test_heights_and_plus_minus_as_typed(self):
        answer = self.client.post(self.url + "match/fact/height", {"height-value": "0"})
        self.assertContains(answer, "A height of 0 tells nothing", status_code=422)
        self.client.post(
            self.url + "match/fact/height",
            {"height-value": "5' 3 1/2\"", "height-plus_minus": "2 %"},
        )
        fact = self.shot().state["facts"][-1]
        self.assertAlmostEqual(fact["metres"], 1.6129)
        self.assertAlmostEqual(fact["plus_minus"], 0.032258)
        self.client.post(self.url + "match/fact/height", {"height-value": "1.6 m"})
        self.assertTrue(self.shot().state["facts"][-1]["assumed"])
        self.assertContains(self.client.get(self.url + "match"), "± assumed")

    def test_drafts_are_renamed(self):
        self.client.post(self.url + "match/draft/keep", {"name": "Second"})
        self.client.post(self.url + "match/draft/rename", {"name": "First", "new": "Wide"})
        self.client.post(self.url + "match/draft/rename", {"name": "Second", "new": "Long"})
        state = self.shot().state
        self.assertEqual((state["draft"], list(state["drafts"])), ("Long", ["Wide"]))
        taken = self.client.post(self.url + "match/draft/rename", {"name": "Wide", "new": "Long"})
        self.assertEqual(taken.status_code, 422)

    def test_next_says_what_is_open(self):
        shot = self.shot()
        self.client.post(self.url + f"match/remove/{shot.state['facts'][0]['id']}")
        answer = self.client.get(self.url + "match/advice?quantity=size").content.decode()
        self.assertNotIn("small already", answer)

    def test_the_hand_off_s_json_comes_in_again(self):
        handed = self.client.get(self.url + "hand-off/camera.json").content
        document = json.loads(handed)["match"]
        self.client.post(self.url + "match/save", "{}", content_type="application/json")
        upload = SimpleUploadedFile("handed.json", handed)
        answer = self.client.post(self.url + "match/load", {"document": upload})
        self.assertEqual(answer.status_code, 302, answer.content[:300])
        self.assertEqual(self.shot().state["marks"], document["marks"])


class ThrownAway(MatchedShot):
    def test_renders_come_back_and_have_names(self):
        shot = self.shot()
        kept = [
            Render.objects.create(
                shot=shot, digest="0" * 64, revision=1, width=64, height=36, seconds=1
            )
            for _ in range(2)
        ]
        row = Returned.objects.create(shot=shot, name="came.exr", digest="0" * 64)
        for kind, item in (("elements/", kept[1]), ("line-up/returned/", row)):
            url = f"/shows/tide/LT901/{kind}{item.pk}/"
            self.client.post(url + "rename", {"name": " Night  version "})
            item.refresh_from_db()
            self.assertEqual(item.name, "Night version")
            self.client.post(url + "remove")
            self.assertFalse(type(item).objects.filter(pk=item.pk).exists())
            self.client.post(url + "take-back")
            self.assertTrue(type(item).objects.filter(pk=item.pk).exists())
            self.assertEqual(self.client.post(url + "rename", {"name": " "}).status_code, 422)


class Demo(WithShot):
    def test_pages_are_never_shown_stale(self):
        self.assertIn("no-store", self.client.get("/")["Cache-Control"])
        self.upload()
        digest = self.state()["plate"]["digest"]
        self.assertIn("immutable", self.client.get(f"/plates/{digest}/thumb.jpg")["Cache-Control"])
        self.assertTrue((FOLDER / f"{NAME}.jpg").exists())
