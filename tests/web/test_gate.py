"""The Gate step's verbs, the catalogue and the table of cameras, through their pages."""

import csv
import io
import json

from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.test.utils import CaptureQueriesContext
from PIL import Image

from aperture.formats import catalogue as files
from demo.show import catalogue as demo_catalogue
from tests.web.test_shots import WithShot
from web.catalogue.models import Body, CatalogueLens
from web.gates.gate import chain_of, for_match
from web.shows import shared_states
from web.shows.history import create_shot, edit, undo
from web.shows.models import Shot

GATE = {
    "width_mm": 36.0,
    "height_mm": 20.25,
    "squeeze": 1.0,
    "origin": "typed",
    "name": "",
    "photosites": [3840, 2160],
    "steps": [],
    "plate_at": 0,
}


class Chain(WithShot):
    def setUp(self):
        super().setUp()
        self.upload()
        edit(self.shot, "gate", lambda state: state.update(gate=dict(GATE)))

    def step(self, do, **fields):
        return self.client.post(self.url("gate/step"), {"do": do, "before_plate": "0"} | fields)

    def steps(self):
        return [step["do"] for step in self.state()["gate"]["steps"]]

    def test_steps_are_added_changed_moved_and_removed_and_each_can_be_undone(self):
        self.assertEqual(self.step("overscan", how="percent", percent="10").status_code, 302)
        self.step("extract", aspect="2.39", size="2048 wide", multiple="2")
        self.assertEqual(self.steps(), ["overscan", "extract"])
        overscan = self.state()["gate"]["steps"][0]["id"]
        self.step("overscan", id=overscan, how="sides", left="10", right="20")
        chain = chain_of(self.state())
        self.assertEqual((chain.stages[-2].grid.width, chain.stages[-1].grid.width), (1950, 2048))
        self.client.post(self.url(f"gate/step/{overscan}/down"))
        self.assertEqual(self.steps(), ["extract", "overscan"])
        self.client.post(self.url(f"gate/step/{overscan}/remove"))
        self.assertEqual(self.steps(), ["extract"])
        for wanted in (["extract", "overscan"], ["overscan", "extract"]):
            undo(self.shot)
            self.assertEqual(self.steps(), wanted)

    def test_a_step_that_cannot_be_is_told_beside_its_field_and_nothing_is_saved(self):
        before = self.state()
        for do, fields, says in (
            ("window", {"size": "9000 × 10"}, "larger than"),
            ("window", {"size": "wide"}, "can&#x27;t be read"),
            ("bin", {"by": "1"}, "at least 2"),
            ("overscan", {"how": "percent", "percent": "lots"}, "can&#x27;t be read"),
            ("extract", {"aspect": "0"}, "between"),
            ("window", {"size": "2.39", "left": "4"}, "size in px"),
        ):
            self.assertContains(self.step(do, **fields), says, status_code=422)
        self.assertEqual(self.client.post(self.url("gate/step"), {"do": "melt"}).status_code, 422)
        self.assertEqual(
            self.client.post(self.url("gate/step"), {"do": "flip", "id": "gone"}).status_code, 422
        )
        self.assertEqual(self.state(), before)

    def test_a_pixel_is_followed_through_all_grids(self):
        self.step("overscan", how="sides", left="10", right="20", top="30", bottom="40")
        answer = self.client.get(self.url("gate/follow"), {"x": "960", "y": "540"}).json()
        self.assertEqual(answer["places"], ["1920.0, 1080.0", "960.0, 540.0", "970.0, 570.0"])
        self.assertEqual(answer["says"], "+0.0000, +0.0000 mm")
        self.assertEqual(
            self.client.get(
                self.url("gate/follow"),
                {"x": "a", "y": "1"},
                headers={"Accept": "application/json"},
            ).status_code,
            422,
        )
        rows = list(
            csv.DictReader(
                io.StringIO(self.client.get(self.url("gate/ledger.csv")).content.decode())
            )
        )
        self.assertEqual(
            [(row["width_px"], row["gate_width_mm"][:6]) for row in rows],
            [("3840", "36.0"), ("1920", "36.0"), ("1950", "36.562")],
        )

    def test_a_crop_off_the_middle_reaches_the_match(self):
        corner = {"id": "g1", "do": "window", "left": 0, "top": 0, "width": 1920, "height": 1080}
        edit(self.shot, "crop", lambda state: state["gate"].update(steps=[corner], plate_at=1))
        told = for_match(self.state())
        self.assertEqual(told["gate"], {"width_mm": 18.0, "height_mm": 10.125, "squeeze": 1.0})
        self.assertEqual(told["lens"]["principal_point"], [1920.0, 1080.0])
        self.assertContains(self.client.get(self.url("match")), "18.00 × 10.12")

    def test_remedies_and_render_sizes_and_guides(self):
        edit(self.shot, "gate", lambda state: state["gate"].update(height_mm=24.0, photosites=None))
        self.assertContains(self.client.get(self.url("gate")), "can’t both be true")
        self.client.post(self.url("gate/remedy"), {"key": "crop-top-bottom"})
        self.assertContains(self.client.get(self.url("gate")), "Gate and picture agree")
        self.assertEqual(
            self.client.post(self.url("gate/remedy"), {"key": "crop-top-bottom"}).status_code, 422
        )
        self.client.post(self.url("gate/render"), {"size": "1920 × 800"})
        self.assertContains(self.client.get(self.url("gate")), "hasn’t the plate’s shape")
        self.assertEqual(
            self.client.post(self.url("gate/render"), {"size": "big"}).status_code, 422
        )
        frames = [{"aspect": 2.39, "opacity": 0.5, "colour": "#102030"}]
        shapes = self.post_json(
            "gate/guides", frames=frames, centre=True, areas=True, thirds=True
        ).json()["shapes"]
        self.assertEqual(
            [shape["kind"] for shape in shapes], ["mask", "frame", "area", "area", "line", "line"]
        )
        for wrong in (
            {"frames": [{"aspect": "x"}]},
            {"frames": [{"aspect": 2, "colour": "red"}]},
            {"frames": 3},
        ):
            self.assertEqual(self.post_json("gate/guides", **wrong).status_code, 422)

    def test_a_locked_camera_keeps_its_gate(self):
        self.press("lock", locked="1")
        self.assertEqual(self.step("overscan", how="percent", percent="10").status_code, 423)
        self.assertEqual(self.steps(), [])


class Catalogue(WithShot):
    def setUp(self):
        super().setUp()
        demo_catalogue()
        self.upload()

    def test_a_mode_and_a_lens_are_taken_with_a_line_that_can_be_undone(self):
        dory = Body.objects.get(name="Dory Four")
        self.client.post(self.url("gate/mode"), {"mode": f"{dory.pk}:0"})
        self.assertContains(
            self.client.get(self.url("gate")), "Dory Four, Open gate: gate 36.70 × 25.54 mm"
        )
        lugsail = CatalogueLens.objects.get(name="Lugsail 50 ×2")
        self.client.post(self.url("gate/lens"), {"lens": str(lugsail.pk)})
        page = self.client.get(self.url("gate"))
        self.assertContains(page, "squeeze 1 → 2")
        self.assertContains(page, "72.56°")  # 50 mm with squeeze 2 on 36.70 mm
        self.assertEqual(self.state()["lens"]["focal_mm"]["value"], 50)
        undo(self.shot)
        self.assertEqual(
            (self.state()["gate"]["squeeze"], self.state()["lens"]["focal_mm"]), (1.0, None)
        )
        self.assertEqual(self.client.post(self.url("gate/mode"), {"mode": "99:0"}).status_code, 422)

    def test_the_files_camera_and_lens_are_offered(self):
        page = self.client.get(self.url("gate")).content.decode()
        self.assertIn("The file names its camera", page)
        self.assertIn("16:9, recorded at 1920: 36.0 × 20.25 mm", page)

    def test_a_camera_that_the_open_database_knows_is_offered(self):
        """A file whose metadata names a body of the database: its sensor, approximate, in one
        click; on its side where the picture is."""
        from aperture.lens.database import search_cameras

        known, data, exif = search_cameras("d300s")[0], io.BytesIO(), Image.Exif()
        exif[0x010F], exif[0x0110] = known.maker, known.model
        Image.new("RGB", (240, 360), (90, 90, 90)).save(data, "JPEG", exif=exif)
        self.upload("upright.jpg", data.getvalue())
        page = self.client.get(self.url("gate")).content.decode()
        self.assertIn("The file’s camera is known, approximately", page)
        self.client.post(
            self.url("gate/database-camera"),
            {"maker": known.maker, "model": known.model, "native": "1.5"},
        )
        self.assertEqual(self.steps(), ["turn"])
        self.assertContains(self.client.get(self.url("gate")), "Gate and picture agree")

    def steps(self):
        return [step["do"] for step in self.state()["gate"]["steps"]]

    def test_the_lens_databases_camera_and_distortion(self):
        self.client.post(self.url("gate"), {"format": "aps-c", "squeeze": "1"})
        from aperture.lens.database import search_cameras, search_lenses

        camera = search_cameras("d300s")[0]
        lens = next(lens for lens in search_lenses("18-55") if "ptlens" in lens.models)
        page = self.client.get(self.url("gate"), {"q": camera.model})
        self.assertContains(page, f"crop factor {camera.crop_factor}")
        self.client.post(self.url("gate/database-lens"), {"key": lens.key})
        self.assertIn("k1", self.state()["lens"]["distortion"])
        self.assertIn("largest error", self.state()["lens"]["name"])
        self.client.post(
            self.url("gate/database-camera"),
            {"maker": camera.maker, "model": camera.model, "native": "1.5"},
        )
        self.assertContains(self.client.get(self.url("gate")), "± ")
        width = self.state()["gate"]["width_mm"]
        self.assertAlmostEqual(width, 36 / camera.crop_factor, delta=0.01)
        self.assertEqual(
            self.client.post(self.url("gate/database-lens"), {"key": "999999"}).status_code, 422
        )

    def test_files_go_out_and_come_in_again(self):
        written = {
            name: self.client.get(f"/catalogue/files/{name}").content
            for name in ("catalogue.json", "modes.csv", "lenses.csv")
        }
        before = json.loads(written["catalogue.json"])
        rows = list(
            csv.DictReader(io.StringIO(written["modes.csv"].decode()))
        )  # somebody else's reader
        self.assertEqual([row["body"] for row in rows].count("Saltmarsh One"), 4)
        from_tables = files.read(written["modes.csv"])["bodies"]
        self.assertEqual(
            [{**body, "notes": ""} for body in before["bodies"]],
            [{**body, "notes": ""} for body in from_tables],
        )
        Body.objects.all().delete()
        CatalogueLens.objects.all().delete()
        for data in (written["catalogue.json"], written["lenses.csv"]):
            self.assertContains(
                self.client.post("/catalogue/import", {"file": SimpleUploadedFile("c", data)}),
                "came in new",
            )
        self.assertEqual(
            json.loads(self.client.get("/catalogue/files/catalogue.json").content)["bodies"],
            before["bodies"],
        )
        count = Body.objects.count()
        for bad in (
            b"{}",
            b"a,b\n1,2",
            b"\xff\xfe",
            written["modes.csv"].replace(b"8192,5464,Open", b"81,5464,Open"),
            json.dumps(before | {"lenses": [{"name": "x", "focal_mm": [5, 2]}]}).encode(),
        ):
            self.assertContains(
                self.client.post("/catalogue/import", {"file": SimpleUploadedFile("c", bad)}),
                "Nothing was taken in",
                status_code=422,
            )
        self.assertEqual(Body.objects.count(), count)

    def test_entries_are_made_changed_duplicated_and_put_back(self):
        body = {
            "name": "Gannet",
            "photosites_width": "4000",
            "photosites_height": "3000",
            "width_mm": "20 mm",
            "height_mm": "15",
        }
        self.client.post("/catalogue/body/new", body)
        gannet = Body.objects.get(name="Gannet")
        self.assertEqual(gannet.data["modes"][0]["width_mm"], 20)
        self.assertContains(
            self.client.post("/catalogue/body/new", body), "already", status_code=422
        )
        mode = {
            "mode": "Crop",
            "width": "2000",
            "height": "1000",
            "width_mm": "10",
            "height_mm": "5",
            "rates": "23.976; 25",
            "squeezes": "1; 2",
        }
        self.client.post(f"/catalogue/body/{gannet.pk}/mode/1", mode)
        gannet.refresh_from_db()
        self.assertEqual(
            (gannet.data["modes"][1]["window"], gannet.data["modes"][1]["rates"]),
            ([1000, 1000, 2000, 1000], ["24000/1001", "25"]),
        )
        self.assertContains(
            self.client.post(
                f"/catalogue/body/{gannet.pk}/mode/2", mode | {"mode": "Far", "left": "3000"}
            ),
            "outside",
            status_code=422,
        )
        self.client.post(
            "/catalogue/lens/new",
            {
                "name": "Gull",
                "focal": "18–35 mm",
                "stops": "2.8–22",
                "projection": "rectilinear",
                "close_focus": "0.4 m",
                "distortion": "18: -0.05 0.01\n35 mm: 0.02",
            },
        )
        gull = CatalogueLens.objects.get(name="Gull")
        self.assertEqual(
            (gull.data["focal_mm"], gull.data["distortion"][0]["k2"]), ([18, 35], 0.01)
        )
        self.client.post(f"/catalogue/lens/{gull.pk}/duplicate")
        self.assertTrue(CatalogueLens.objects.filter(name="Gull, copy").exists())
        for verb, left in (("remove", 0), ("put-back", 1)):
            self.client.post(f"/catalogue/lens/{gull.pk}/{verb}")
            self.assertEqual(CatalogueLens.objects.offered().filter(name="Gull").count(), left)


class AcrossTheShow(WithShot):
    def test_the_one_that_differs_stands_out_and_is_brought_into_line(self):
        shots = [self.shot, *(create_shot(self.show, f"LT90{number}") for number in range(1, 4))]
        for shot in shots:
            edit(shot, "gate", lambda state: state.update(gate=dict(GATE)))
        odd = edit(
            shots[2],
            "gate",
            lambda state: state["gate"].update(
                width_mm=36.7, height_mm=25.54, squeeze=2.0, name="Dory Four"
            ),
        )
        page = self.client.get("/shows/tide/cameras")
        self.assertContains(page, "1 shot differs")
        self.assertContains(page, "! Dory Four")
        self.client.post(f"/shows/tide/cameras/align/{odd.code}")
        self.assertContains(self.client.get("/shows/tide/cameras"), "nothing stands out")
        undo(odd)
        self.assertEqual(Shot.objects.with_head().get(pk=odd.pk).state["gate"]["squeeze"], 2.0)

    def test_queries_do_not_grow_with_the_show(self):
        self.upload()
        self.client.get(self.url("gate"))  # the first time fits the match and keeps it
        counts = []
        for wanted in (2, 12):
            while self.show.shots.count() < wanted:
                shot = create_shot(self.show, f"LT8{self.show.shots.count():02}")
                edit(shot, "gate", lambda state: state.update(gate=dict(GATE)))
            shared_states.forget()
            for address in (self.url("gate"), "/shows/tide/cameras"):
                with CaptureQueriesContext(connection) as queries:
                    self.client.get(address)
                counts.append(len(queries))
        self.assertEqual(counts[:2], counts[2:])
