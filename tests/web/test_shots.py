"""Shows, shots and their revisions: nothing is lost, nothing is overwritten."""

import hashlib
import io
import json
import shutil
import zipfile
from unittest import mock

import numpy as np
from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from PIL import Image

from aperture.match.document import AXES
from demo.evidence import FACTS
from demo.plates import FOLDER, PLATES, truth
from demo.show import marks_for
from tests.web.client import PageClient
from web.plates.models import Plate
from web.shows.history import create_shot, edit, redo, undo
from web.shows.models import Shot, Show

NAME = next(iter(PLATES))


class HasShot:
    """A show with one shot, for tests of any kind; `ready` gives it plate, gate, marks and a
    length."""

    client_class = PageClient

    def setUp(self):
        self.show = Show.objects.create(name="The Lantern Tide", slug="tide")
        self.shot = create_shot(self.show, "LT900")

    @classmethod
    def tearDownClass(cls):
        super().tearDownClass()
        for name in ("plates", "films", "renders"):
            shutil.rmtree(settings.DATA / name, ignore_errors=True)

    def url(self, rest):
        return f"/shows/tide/LT900/{rest}"

    def upload(self, name="plate.jpg", data=None):
        data = (FOLDER / f"{NAME}.jpg").read_bytes() if data is None else data
        return self.client.post(self.url("plate"), {"picture": SimpleUploadedFile(name, data)})

    def state(self):
        return Shot.objects.with_head().get(pk=self.shot.pk).state

    def head(self):
        return Shot.objects.with_head().get(pk=self.shot.pk).head.number

    def press(self, rest, **form):
        """A button of a page that shows the newest revision."""
        headers = {"Accept": "application/json"}
        return self.client.post(self.url(rest), {"base": self.head()} | form, headers=headers)

    def post_json(self, rest, **body):
        return self.client.post(
            self.url(rest),
            json.dumps(body),
            content_type="application/json",
            headers={"Accept": "application/json"},
        )

    def ready(self):
        self.upload()
        self.client.post(self.url("gate"), {"format": "full-frame-16-9", "squeeze": "1"})
        self.assertEqual(
            self.post_json(
                "match/save", marks=marks_for(truth(NAME)), base=None, label="Marks"
            ).status_code,
            200,
        )
        self.client.post(
            self.url("match/fact/length"),
            {
                "length-start": "s1",
                "length-end": "s2",
                "length-along": "up",
                "length-value": "203 cm",
                "length-plus_minus": "5 mm",
            },
        )
        self.assertEqual(self.state()["facts"][0]["metres"], FACTS[0]["metres"])


class WithShot(HasShot, TestCase):
    """HasShot within a transaction, as most tests want it."""


class Revisions(WithShot):
    def test_undo_and_redo_walk_the_edits(self):
        for number in range(3):
            edit(self.shot, f"edit {number}", lambda state, n=number: state.update(card_m=n + 1))
        self.assertEqual(undo(self.shot), "Undone: edit 2")
        undo(self.shot)
        self.assertEqual(self.state()["card_m"], 1)
        redo(self.shot)
        self.assertEqual(self.state()["card_m"], 2)
        edit(self.shot, "another way", lambda state: state.update(card_m=9))
        self.assertEqual(self.press("redo").status_code, 422)
        self.assertEqual(self.shot.revisions.count(), 5)  # the branch that was left is kept

    def test_a_save_is_answered_before_anything_is_worked_out_from_it(self):
        self.upload()
        spot = [{"id": "s1", "kind": "spot", "at": [10, 10]}]
        with mock.patch("web.match.fits.solve", side_effect=AssertionError):
            answer = self.post_json(
                "match/save", marks=spot, base=self.head(), label="Spot", later=True
            )
        self.assertEqual(answer.json(), {"revision": self.head(), "later": True})
        told = self.post_json("match/state", report=True).json()
        self.assertEqual((told["marks"], told["revision"]), (spot, self.head()))
        self.assertIn('id="figures"', told["report"])

    def test_a_stale_save_is_refused_and_both_are_kept(self):
        self.upload()
        base = Shot.objects.get(pk=self.shot.pk).head.number
        spot = [{"id": "s1", "kind": "spot", "at": [10, 10]}]
        self.assertEqual(
            self.post_json("match/save", marks=spot, base=base, label="first").status_code, 200
        )
        answer = self.post_json(
            "match/save", marks=[spot[0] | {"at": [99, 99]}], base=base, label="second"
        )
        self.assertEqual(answer.status_code, 409)
        self.assertIn("another window", answer.json()["problem"])
        self.assertEqual(self.state()["marks"], spot)
        self.assertEqual(
            self.shot.revisions.get(number=answer.json()["kept"]).state["marks"][0]["at"], [99, 99]
        )
        self.press(f"restore/{answer.json()['kept']}", base=answer.json()["newest"])
        self.assertEqual(self.state()["marks"][0]["at"], [99, 99])
        undo(self.shot)
        self.assertEqual(self.state()["marks"], spot)

    def test_nobody_undoes_what_they_have_not_seen(self):
        """A page of the first edit, and a second one made in another window."""
        edit(self.shot, "mine", lambda state: state.update(card_m=1))
        shown = self.head()
        edit(self.shot, "theirs", lambda state: state.update(card_m=2))
        for verb in ("undo", "redo", "restore/1", "lock"):
            answer = self.press(verb, base=shown, locked="1")
            self.assertEqual((answer.status_code, answer.json()["newest"]), (409, self.head()))
            for unsaid in ("", "newest"):
                self.assertEqual(self.press(verb, base=unsaid, locked="1").status_code, 422)
        self.assertEqual(self.post_json("match/save", marks=[], base=99).status_code, 409)
        self.assertEqual(self.state()["card_m"], 2)
        self.assertFalse(Shot.objects.get(pk=self.shot.pk).locked)
        self.assertEqual(self.press("undo").json()["says"], "Undone: theirs")

    def test_a_locked_camera_refuses_edits(self):
        self.ready()
        self.press("lock", locked="1")
        before = self.state()
        self.assertEqual(
            self.post_json("match/save", marks=[], base=None, label="x").status_code, 423
        )
        self.assertIn(
            "locked",
            self.client.post(
                self.url("gate"), {"format": "aps-c", "squeeze": "1"}
            ).content.decode(),
        )
        self.assertEqual(self.press("undo").status_code, 423)
        self.assertEqual(self.state(), before)
        self.client.post(self.url("set"), {"width": "1", "height": "1", "depth": "1"})
        self.assertEqual(len(self.state()["stand_ins"]), 1)  # the set may still be built

    def test_forms_of_shows_and_shots(self):
        self.assertContains(
            self.client.post(
                "/", {"name": "", "up_axis": "Y", "length_unit": "m", "rate": "quick"}
            ),
            "frame rate",
            status_code=422,
        )
        self.client.post(
            "/", {"name": "Ärger am Kai", "up_axis": "Z", "length_unit": "ft", "rate": "23.976"}
        )
        self.assertEqual(Show.objects.get(up_axis="Z").rate.denominator, 1001)
        self.assertContains(
            self.client.post("/shows/tide/", {"code": "lt900"}), "already", status_code=422
        )
        self.assertContains(
            self.client.post("/shows/tide/", {"code": "a b/c"}), "letters, digits", status_code=422
        )
        self.assertEqual(self.client.get("/shows/none/").status_code, 404)


class Steps(WithShot):
    def test_bad_pictures_change_nothing(self):
        self.upload()
        before, stored = self.state(), sorted((settings.DATA / "plates").iterdir())
        good = (FOLDER / f"{NAME}.jpg").read_bytes()
        for name, data, words in (
            ("a.jpg", b"", "empty"),
            ("a.jpg", good[:5000], "cut short"),
            ("a.png", good, "Rename it"),
            ("a.txt", b"hi", "not a picture"),
        ):
            self.assertContains(self.upload(name, data), words, status_code=422)
        self.assertEqual(self.state(), before)
        self.assertEqual(Plate.objects.count(), 1)
        self.assertEqual(sorted((settings.DATA / "plates").iterdir()), stored)

    def test_metadata_is_shown_with_its_origin(self):
        self.upload()
        page = self.client.get(self.url("plate")).content.decode()
        for text in (
            "Saltmarsh One",
            "Kittiwake 27 mm",
            "f/4",
            "1/60 s",
            "400",
            "2026-03-14 07:42:10",
            'class="tag file"',
        ):
            self.assertIn(text, page)

    def test_gate_remedies_and_bad_sizes(self):
        self.upload()
        self.client.post(self.url("gate"), {"format": "full-frame-still", "squeeze": "1"})
        self.assertContains(
            self.client.get(self.url("gate")), "leaves out top and bottom, 3.75 mm in all"
        )
        before = self.state()
        for width, height, squeeze in (
            ("0", "24", "1"),
            ("nan", "24", "1"),
            ("36", "-3 mm", "1"),
            ("36", "24", "0.5"),
            ("wide", "24", "1"),
        ):
            self.assertContains(
                self.client.post(
                    self.url("gate"), {"width": width, "height": height, "squeeze": squeeze}
                ),
                "error",
                status_code=422,
            )
        self.assertEqual(self.state(), before)
        self.client.post(self.url("gate"), {"width": "1.5 in", "height": "20,25", "squeeze": "1"})
        self.assertAlmostEqual(self.state()["gate"]["width_mm"], 38.1)

    def test_the_demo_marks_find_the_true_camera(self):
        self.ready()
        data = json.loads(self.client.get(self.url("hand-off/camera.json")).content)
        fit, true = data["fit"], truth(NAME)
        self.assertLess(
            abs(fit["camera"]["focal_mm"] - true.lens.focal_mm), 3 * fit["plus_minus"]["focal_mm"]
        )
        error = (np.array(fit["camera"]["position_m"]) - true.position) / fit["plus_minus"][
            "position_m"
        ]
        self.assertLess(np.abs(error).max(), 3)
        self.assertEqual(fit["conflicts"], [])

    def test_preview_shows_consequences_and_saves_nothing(self):
        self.ready()
        before, marks = self.shot.revisions.count(), marks_for(truth(NAME))
        marks[0]["points"][0][1] += 25
        answer = self.post_json("match/preview", marks=marks).json()
        self.assertGreater(answer["residuals"]["e1"], 3)
        self.assertIn("Evidence disagrees", answer["figures"])
        self.assertTrue(
            {"floor", "horizon", "arrows", "axis up"}
            <= {path["class"] for path in answer["overlay"]["paths"]}
        )
        self.assertEqual(self.shot.revisions.count(), before)
        self.assertEqual(self.post_json("match/preview", marks=[{"kind": "edge"}]).status_code, 422)
        self.assertEqual(
            self.post_json(
                "match/save",
                marks=marks[:1]
                + [{"id": "x", "kind": "edge", "axis": AXES[0], "points": [[0, 0]]}],
            ).status_code,
            422,
        )
        self.assertEqual(
            self.client.post(
                self.url("match/preview"),
                "no json",
                content_type="application/json",
                headers={"Accept": "application/json"},
            ).status_code,
            422,
        )

    def test_typed_evidence(self):
        self.ready()
        self.assertContains(
            self.client.post(self.url("match/fact/height"), {"height-value": "tall"}),
            "can&#x27;t be read",
            status_code=422,
        )
        self.assertContains(
            self.client.post(
                self.url("match/fact/length"),
                {"length-start": "s1", "length-end": "s1", "length-value": "1"},
            ),
            "two different",
            status_code=422,
        )
        self.client.post(
            self.url("match/mark/e1"),
            {
                "x0": "100.25",
                "y0": "200",
                "x1": "900",
                "y1": "220",
                "sigma_px": "0.8",
                "axis": "across",
                "name": "Top",
            },
        )
        mark = self.state()["marks"][0]
        self.assertEqual(
            (mark["points"], mark["sigma_px"], mark["name"]),
            ([[100.25, 200], [900, 220]], 0.8, "Top"),
        )
        self.client.post(
            self.url("match/mark/s2"),
            {"x0": "1", "y0": "2", "across": "0", "up": "6 ft", "along": ""},
        )
        self.assertEqual(self.state()["marks"][-1]["world"], [0, 1.8288, None])
        self.client.post(self.url("match/remove/s2"))
        self.assertEqual(self.state()["facts"], [])  # a length can't outlive its spot
        undo(self.shot)
        self.assertEqual(len(self.state()["facts"]), 1)
        self.client.post(
            self.url("match/focal"), {"focal-focal": "27", "focal-focal_plus_minus": "0"}
        )
        self.assertEqual(self.state()["lens"]["focal_mm"], {"value": 27.0, "plus_minus": 0.0})

    def test_set_and_hand_off(self):
        self.assertContains(
            self.client.get(self.url("hand-off/camera.usda")),
            "no camera to hand off",
            status_code=422,
        )
        self.ready()
        at = truth(NAME).project([[1.9, 0, 3.3]])[0].tolist()
        placed = self.post_json(
            "set/place",
            at=at,
            typed={
                "width": "80 cm",
                "height": "60 cm",
                "depth": "0.6",
                "name": "Crate",
                "turn": "24",
            },
        )
        self.assertEqual(placed.status_code, 200)
        box = self.state()["stand_ins"][0]
        np.testing.assert_allclose(box["base"], [1.9, 0, 3.3], atol=0.08)
        self.assertEqual((box["size"], box["turn_deg"]), ([0.8, 0.6, 0.6], 24.0))
        self.assertEqual(
            self.post_json(
                "set/place", at=[960, 5], typed={"width": "1", "height": "1", "depth": "1"}
            ).status_code,
            422,
        )
        self.assertEqual(
            self.post_json("set/drag", id="b1", handle="move", at=["x", 2]).status_code, 422
        )
        self.assertContains(
            self.client.post(
                self.url("set") + "?item=b1", {"width": "0", "height": "-1", "depth": "1"}
            ),
            "must be above",
            status_code=422,
        )
        for ending, word in (
            ("usda", b"horizontalAperture"),
            ("gltf", b"yfov"),
            ("csv", b"principal_x_px"),
            ("obj", b"o Crate"),
            ("glb", b"glTF"),
            ("usdz", b"PK"),
            ("yaml", b"camera_matrix"),
            ("check.txt", b"point 3:  plate"),
            ("zip", b"PK"),
        ):
            self.assertIn(word, self.client.get(self.url(f"hand-off/camera.{ending}")).content)
        # What the zip holds is what its manifest says.
        data = self.client.get(self.url("hand-off/camera.zip")).content
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            manifest = json.loads(archive.read("manifest.json"))
            self.assertEqual(len(manifest["files"]), len(archive.namelist()) - 1)
            for file in manifest["files"]:
                found = hashlib.sha256(archive.read(file["name"])).hexdigest()
                self.assertEqual(found, file["sha256"], file["name"])
        self.assertEqual(self.client.get(self.url("hand-off/camera.ply")).status_code, 422)

    def test_every_page_of_every_standing_opens(self):
        pages = ("plate", "gate", "match", "set", "line-up", "hand-off")
        for prepare in (lambda: None, self.upload, self.ready):
            prepare()
            for page in pages:
                self.assertEqual(self.client.get(self.url(page)).status_code, 200, page)
            self.assertEqual(self.client.get("/shows/tide/").status_code, 200)

    def test_a_second_picture_of_another_size_says_so(self):
        self.ready()
        buffer = io.BytesIO()
        Image.fromarray(np.zeros((90, 160, 3), np.uint8)).save(buffer, "PNG")
        answer = self.client.post(
            self.url("plate"),
            {"picture": SimpleUploadedFile("small.png", buffer.getvalue())},
            follow=True,
        )
        self.assertContains(answer, "another size")
