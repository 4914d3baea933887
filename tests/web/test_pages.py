"""The pages' edges: other addresses, other methods, forged posts, units and axes of the show."""

import io
import json
import re
import tempfile
import zipfile
from fractions import Fraction
from pathlib import Path

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from pxr import Usd, UsdGeom

from aperture.formats import moves_in, recipe
from aperture.moves.source import Settings
from demo.plates import truth
from demo.show import marks_for
from tests.web.test_shots import NAME, WithShot
from web.match.fits import fit_of
from web.match.models import StoredFit
from web.match.path_fits import camera_of_state
from web.shows.history import edit
from web.shows.models import Shot


class Pages(WithShot):
    def test_addresses_that_are_none(self):
        for address in (
            "/shows/tide/NONE/match",
            "/shows/none/LT900/plate",
            "/plates/" + "0" * 64 + "/proxy.jpg",
            self.url("hand-off/camera.exe"),
            self.url("line-up/9/render.png"),
            "/plates/" + "0" * 64 + "/tile/0/0.png",
        ):
            self.assertEqual(self.client.get(address).status_code, 404, address)
        for address in (
            "undo",
            "lock",
            "match/save",
            "match/preview",
            "set/drag",
            "elements/again",
            "match/remove/e1",
        ):
            self.assertEqual(self.client.get(self.url(address)).status_code, 405, address)

    def test_forged_posts_are_refused(self):
        strict = Client(enforce_csrf_checks=True)
        self.assertEqual(strict.post(self.url("undo")).status_code, 403)
        self.assertEqual(
            strict.post(self.url("match/save"), "{}", content_type="application/json").status_code,
            403,
        )

    def test_without_a_plate_nothing_can_be_marked(self):
        answer = self.post_json(
            "match/save", marks=[{"id": "s1", "kind": "spot", "at": [1, 1]}], base=None
        )
        self.assertEqual(answer.status_code, 422)
        self.assertIn("plate", answer.json()["problem"])
        self.assertEqual(self.state()["marks"], [])

    def test_tiles_are_the_pictures_pixels(self):
        self.upload()
        digest = self.state()["plate"]["digest"]
        self.assertEqual(self.client.get(f"/plates/{digest}/tile/7/4.png").status_code, 200)
        self.assertEqual(self.client.get(f"/plates/{digest}/tile/8/0.png").status_code, 404)
        self.assertIn("immutable", self.client.get(f"/plates/{digest}/thumb.jpg")["Cache-Control"])

    def test_the_shows_unit_and_up_axis_reach_page_and_file(self):
        self.show.length_unit, self.show.up_axis = "ft", "Z"
        self.show.save()
        self.ready()
        height = camera_of_state(self.state()).position[1]
        self.assertContains(self.client.get(self.url("match")), f"{height / 0.3048:.2f} ft")
        path = self.enterContext(__import__("tempfile").TemporaryDirectory()) + "/camera.usda"
        with open(path, "wb") as file:
            file.write(self.client.get(self.url("hand-off/camera.usda")).content)
        found = moves_in.read(Path(path), Settings(), Fraction(24))
        camera = camera_of_state(self.state())
        np.testing.assert_allclose(found.move.positions[0], camera.position, atol=1e-9)
        np.testing.assert_allclose(found.move.rotations[0], camera.rotation, atol=1e-9)
        self.assertAlmostEqual(2 * found.move.half_view[0, 0] * found.move.focal_mm[0], 36.0, 4)
        with open(path) as file:
            self.assertIn('upAxis = "Z"', file.read())

    def test_what_can_t_be_written_is_left_out_of_the_zip_and_said(self):
        self.ready()
        # A fisheye of this width sees more than a straight picture can show.
        lens = {"projection": "equidistant", "focal_mm": {"value": 8.0, "plus_minus": 0.0}}
        edit(
            Shot.objects.with_head().get(pk=self.shot.pk),
            "Lens",
            lambda state: state.update(lens=lens),
        )
        self.assertEqual(
            self.client.get(self.url("hand-off/camera.undistort.exr")).status_code, 422
        )
        data = self.client.get(self.url("hand-off/camera.zip")).content
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            manifest = json.loads(archive.read("manifest.json"))
        self.assertIn("straight picture", manifest["left_out"][0]["because"])
        self.assertIn("LT900_camera.usda", [file["name"] for file in manifest["files"]])

    def test_what_goes_into_the_files_is_chosen(self):
        self.ready()
        crate = {"id": "b1", "name": "Crate", "size": [1, 1, 1], "base": [0, 0, 0], "turn_deg": 0}
        edit(
            self.shot,
            "Crates",
            lambda state: state.update(stand_ins=[crate, crate | {"id": "b2", "name": "Bench"}]),
        )

        def prims():
            path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "a.usda"
            path.write_bytes(self.client.get(self.url("hand-off/camera.usda")).content)
            stage = Usd.Stage.Open(str(path))
            return {prim.GetName() for prim in stage.Traverse()}

        spot = "Doorway__foot"
        self.assertEqual(prims() & {"Crate", "Bench", spot, "PlateCard"}, {"Crate", "Bench", spot})
        self.press("hand-off/contents", goes=["stand-ins", "stand-in:b2", "card"])
        self.assertEqual(prims() & {"Crate", "Bench", spot, "PlateCard"}, {"Bench", "PlateCard"})
        # What comes later goes by its group; what was left out stays so while it is hidden.
        edit(
            self.shot,
            "More",
            lambda state: state.update(stand_ins=[crate, crate | {"id": "b3", "name": "Post"}]),
        )
        self.assertEqual(prims() & {"Crate", "Post"}, {"Post"})
        self.press("hand-off/contents", goes=["stand-in:b3"])
        self.assertEqual(self.client.get(self.url("hand-off/camera.obj")).status_code, 422)

    def test_what_was_handed_off_is_remembered_and_told_once_it_is_old(self):
        self.ready()
        self.client.get(self.url("hand-off/camera.usda"))
        page = self.client.get(self.url("hand-off"))
        self.assertContains(page, "OpenUSD, of revision")
        self.assertNotContains(page, "What was handed off is of revision")
        number = Shot.objects.with_head().get(pk=self.shot.pk).head.number

        def nudge(state):
            corner = next(mark for mark in state["marks"] if mark["kind"] == "edge")
            corner["points"][0][1] += 6

        edit(Shot.objects.with_head().get(pk=self.shot.pk), "Moved an edge", nudge)
        page = self.client.get(self.url("hand-off")).content.decode()
        self.assertIn(f"What was handed off is of revision {number}", page)
        found = re.search(r"by up to ([\d.]+) px, on frame", page)
        self.assertGreater(float(found[1]), 0.05)

    def test_a_table_by_a_recipe_that_is_kept_and_taken_elsewhere(self):
        self.ready()
        typed = {
            "up_axis": "Z",
            "unit": "cm",
            "handedness": "left",
            "rotation_order": "XYZ",
            "frame_offset": "-1000",
            "scale": "1",
            "separator": "semicolon",
            "digits": "4",
            "columns": "frame tx ty tz rx ry rz view_h_deg",
            "header": "on",
        }
        text = self.client.post(self.url("hand-off/table"), typed).content.decode()
        shown = self.client.get(self.url("hand-off/table/preview"), typed).content.decode()
        self.assertIn(text.splitlines()[1], shown)
        path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "camera.txt"
        path.write_text(text)
        own = recipe.Recipe("Z", "cm", "left", "XYZ", -1000)
        move = moves_in.read(path, Settings(), Fraction(24), recipe=own).move
        camera = camera_of_state(self.state())
        np.testing.assert_allclose(move.positions[0], camera.position, atol=1e-5)
        np.testing.assert_allclose(move.rotations[0], camera.rotation, atol=1e-5)
        kept = self.client.post(
            self.url("hand-off/recipes/keep"), typed | {"name": "Harbour"}, follow=True
        )
        self.assertContains(kept, "view_h_deg</b>")
        self.assertContains(kept, '<option value="left" selected>')
        saved = self.client.get(self.url("hand-off/recipes")).content
        self.show.recipes.all().delete()
        taken = SimpleUploadedFile("recipes.json", saved)
        self.client.post(self.url("hand-off/recipes/take"), {"file": taken})
        row = self.show.recipes.get()
        self.assertEqual(row.conventions.rotation_order, "XYZ")
        # The scene files follow it: scale, frames, up axis; what is baked is said before.
        row.settings |= {"scale": 10.0, "distortion": "baked", "handedness": "right"}
        row.save()
        bend = {"distortion": {"k1": -0.08}}
        edit(self.shot, "bent", lambda state: state["lens"].update(bend))
        page = self.client.get(self.url("hand-off"), {"recipe": row.pk})
        self.assertContains(page, "Baked into overscan")
        self.assertContains(page, f"usda?recipe={row.pk}")
        answer = self.client.get(self.url("hand-off/camera.usda"), {"recipe": row.pk})
        path.with_suffix(".usda").write_bytes(answer.content)
        stage = Usd.Stage.Open(str(path.with_suffix(".usda")))
        prim = next(UsdGeom.Camera(p) for p in stage.Traverse() if p.IsA(UsdGeom.Camera))
        own = camera_of_state(self.state())
        at = prim.ComputeLocalToWorldTransform(Usd.TimeCode.Default()).ExtractTranslation()
        x, y, z = own.position * 1000
        np.testing.assert_allclose(at, [x, -z, y], rtol=1e-6)
        self.assertEqual(UsdGeom.GetStageUpAxis(stage), "Z")
        self.assertEqual(stage.GetStartTimeCode(), 1 - 1000)
        wide = self.client.get(self.url("hand-off/camera.usda")).content
        self.assertNotEqual(wide, answer.content)
        with zipfile.ZipFile(
            io.BytesIO(self.client.get(self.url("hand-off/camera.zip"), {"recipe": row.pk}).content)
        ) as archive:
            told = json.loads(archive.read("manifest.json"))["conventions"]
        self.assertEqual(
            (told["scale"], told["distortion"], told["frame_offset"]), (10, "baked", -1000)
        )
        self.assertGreater(told["px_more_than_the_plate"]["left"], 0)
        self.assertEqual(self.shot.handed_off.first().recipe, "Harbour")
        edit(self.shot, "straight", lambda state: state["lens"].pop("distortion"))
        for bad in (b"[]", b"{", saved.replace(b"XYZ", b"XXZ"), saved.replace(b"1.0", b'"1"')):
            refused = self.client.post(
                self.url("hand-off/recipes/take"), {"file": SimpleUploadedFile("r.json", bad)}
            )
            self.assertEqual(refused.status_code, 422, bad)
        for field, value in (("columns", "frame tx tx"), ("columns", "heading"), ("scale", "0")):
            wrong = self.client.get(self.url("hand-off/table/preview"), typed | {field: value})
            self.assertContains(wrong, 'class="error"')
            self.assertEqual(
                self.client.post(self.url("hand-off/table"), typed | {field: value}).status_code,
                422,
            )

    def test_a_fit_is_solved_once_for_each_document(self):
        self.ready()
        before = StoredFit.objects.count()
        fit_of(self.state())
        edit(
            self.shot,
            "box",
            lambda state: state["stand_ins"].append(
                {"id": "b1", "name": "x", "size": [1, 1, 1], "base": [0, 0, 0], "turn_deg": 0}
            ),
        )
        fit_of(self.state())
        self.assertEqual(StoredFit.objects.count(), before)

    def test_a_match_document_can_be_saved_and_loaded(self):
        from django.core.files.uploadedfile import SimpleUploadedFile

        self.ready()
        saved = self.client.get(self.url("match/document.json")).content
        self.client.post(self.url("match/remove/e3"))
        changed = self.state()
        self.client.post(self.url("match/load"), {"document": SimpleUploadedFile("m.json", saved)})
        self.assertEqual(
            [mark["id"] for mark in self.state()["marks"]],
            [mark["id"] for mark in marks_for(truth(NAME))],
        )
        for bad in (
            b"{",
            b"{}",
            json.dumps(json.loads(saved) | {"image": {"width": 64, "height": 48}}).encode(),
        ):
            before = self.state()
            self.assertEqual(
                self.client.post(
                    self.url("match/load"), {"document": SimpleUploadedFile("m.json", bad)}
                ).status_code,
                422,
            )
            self.assertEqual(self.state(), before)
        self.assertNotEqual(changed, before)

    def test_conflicts_come_with_remedies_that_work(self):
        self.ready()
        self.client.post(
            self.url("match/fact/height"), {"height-value": "1.2 m", "height-plus_minus": "1 cm"}
        )
        page = self.client.get(self.url("match")).content.decode()
        self.assertIn("Evidence disagrees", page)
        height = next(
            fact["id"] for fact in self.state()["facts"] if fact["kind"] == "camera_height"
        )
        self.assertIn(f"match/switch/{height}", page)
        self.client.post(self.url(f"match/widen/{height}"))
        self.assertAlmostEqual(self.state()["facts"][-1]["plus_minus"], 0.03)
        self.client.post(self.url(f"match/switch/{height}"), {"off": "1"})
        self.assertNotIn("Evidence disagrees", self.client.get(self.url("match")).content.decode())
        self.client.post(self.url(f"match/switch/{height}"), {"off": "0"})
        self.assertNotIn("off", self.state()["facts"][-1])

    def test_the_file_hints_at_the_sensor_and_its_hint_can_be_taken(self):
        self.upload()
        self.assertContains(self.client.get(self.url("gate")), "Take 36.00 × 20.25 mm")
        self.client.post(
            self.url("gate"), {"width": "36.0", "height": "20.25", "squeeze": "1", "origin": "file"}
        )
        self.assertEqual(self.state()["gate"]["origin"], "file")
        self.assertContains(
            self.client.get(self.url("gate")), "67.38°"
        )  # 27 mm on 36 mm, from the file's focal length

    def test_numbers_left_as_shown_keep_their_exact_value(self):
        self.ready()
        exact = self.state()["marks"][0]["points"]
        mark = self.client.get(self.url("match/mark/e1")).content.decode()
        self.assertIn(f"{exact[0][0]:.2f}", mark)
        fields = {
            f"{axis}{i}": f"{exact[i]['xy'.index(axis)]:.2f}" for i in range(2) for axis in "xy"
        }
        self.client.post(self.url("match/mark/e1"), fields | {"sigma_px": "0.7", "axis": "across"})
        self.assertEqual(self.state()["marks"][0]["points"], exact)
        self.assertContains(
            self.client.post(self.url("match/mark/e1"), fields | {"x0": "left"}),
            "can&#x27;t be read",
            status_code=422,
        )
        self.assertContains(
            self.client.post(self.url("match/mark/e1"), fields | {"sigma_px": "0"}),
            "above 0 px",
            status_code=422,
        )
        before, point = self.state(), {"x0": "5", "y0": "5", "x1": "5", "y1": "5"}
        self.assertContains(
            self.client.post(self.url("match/mark/e1"), point), "has no length", status_code=422
        )
        self.assertEqual(self.state(), before)
