"""The Line-up step: renders brought back are put right, measured and laid over; snapshots; what the
loupe says."""

import io

import numpy as np
import OpenImageIO
from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import call_command
from django.test import TransactionTestCase
from django.utils import timezone
from PIL import Image

from tests.web.matched import Matched
from tests.web.test_shots import FOLDER, NAME
from web.elements.actions import Order, render_now
from web.lineup.models import EdgesOverRange
from web.shows.history import edit
from web.shows.thrown import KEPT
from web.stage.actions import add_stand_in

URL = "/shows/tide/LT901/line-up"
CRATE = {
    "name": "Crate",
    "kind": "box",
    "base": [1.9, 0, 3.3],
    "size": [0.8, 0.6, 0.6],
    "turn_deg": 24,
}
LOW_CRATE = {
    "name": "Low crate",
    "kind": "box",
    "base": [-1.35, 0, 0.875],
    "size": [0.8, 0.55, 0.65],
    "turn_deg": 0,
    "part_of_plate": True,
}


class LineUp(Matched, TransactionTestCase):
    def rendered(self, **order):
        """Our own render of a crate, (H, W, 4) 8-bit."""
        add_stand_in(self.shot(), CRATE, None)
        render_now(self.shot(), Order(samples=3, **order))
        return np.asarray(Image.open(self.shot().renders.first().folder / "render.png"))

    def send(self, pictures):
        """Files by name, brought back; the page that answers."""
        files = []
        for name, pixels in pictures.items():
            data = io.BytesIO()
            Image.fromarray(np.ascontiguousarray(pixels)).save(data, "png")
            files.append(SimpleUploadedFile(name, data.getvalue()))
        return self.client.post(f"{URL}/return", {"files": files}, follow=True)

    def test_a_render_brought_back_is_put_right_measured_and_laid_over(self):
        picture = self.rendered()
        page = self.send(
            {"crate.png": np.roll(picture[::-1], 2, axis=1)}
        )  # upside down, and 2 px too far right
        self.assertContains(page, "It is upside down")
        self.assertContains(page, "px right")
        row = self.shot().returned.get()
        self.assertAlmostEqual(row.offsets["most"], 2, delta=0.1)
        for name, status in (("render.png", 200), ("alpha.png", 200), ("original.png", 404)):
            self.assertEqual(self.client.get(f"{URL}/returned/{row.pk}/{name}").status_code, status)
        self.assertContains(self.send({"crate.png": picture[:, 30:]}), "Render it at the plate")
        self.assertContains(
            self.send({"crate.bmp": picture}), "t be used here. Bring PNG", status_code=422
        )
        self.assertEqual(self.shot().returned.count(), 1)
        self.client.post(f"{URL}/returned/{row.pk}/remove")
        self.assertEqual((self.shot().returned.count(), row.folder.exists()), (0, True))
        self.client.post(f"{URL}/returned/{row.pk}/take-back")
        self.assertEqual(self.shot().returned.get(), row)
        self.client.post(f"{URL}/returned/{row.pk}/remove")
        call_command("collect_garbage", grace_hours=0, stdout=io.StringIO())
        self.assertTrue(row.folder.exists())  # it can be taken back for a month
        type(row).everything.update(thrown=timezone.now() - 2 * KEPT)
        call_command("collect_garbage", grace_hours=0, stdout=io.StringIO())
        self.assertEqual((type(row).everything.count(), row.folder.exists()), (0, False))

    def test_a_sequence_is_taken_alike_and_its_worst_frame_is_told(self):
        picture = self.rendered()
        page = self.send(
            {
                f"crate.{1000 + number}.png": np.roll(picture[:, ::-1], shift, axis=1)
                for number, shift in ((1, 0), (2, 0), (4, 3))
            }
        )
        row = self.shot().returned.get()
        self.assertEqual((row.frames, row.name), ([1001, 1002, 1004], "crate.png, 1001–1004"))
        self.assertContains(page, "1003 is missing")
        self.assertEqual(row.offsets["frame"], 1004)
        self.assertAlmostEqual(row.offsets["most"], 3, delta=0.1)
        shown = [
            np.asarray(Image.open(row.of_frame(frame) / "alpha.png")).astype(int)
            for frame in row.frames
        ]
        self.assertEqual(np.abs(shown[0] - picture[..., 3]).max(), 0)
        self.assertEqual(np.abs(np.roll(shown[2], 3, axis=1) - picture[..., 3]).max(), 0)
        self.assertContains(
            self.send({"a.1.png": picture, "b.01.png": picture}), "there twice", status_code=422
        )
        self.assertContains(
            self.send({"a.1.png": picture, "b.png": picture}), "no frame number", status_code=422
        )
        self.assertContains(
            self.send({"a.1.png": picture, "a.2.png": picture[::2, ::2]}),
            "they belong to different renders",
        )
        self.assertEqual(self.shot().returned.count(), 1)

    def test_too_many_files_are_refused_with_a_sentence(self):
        for count, status, says in (
            (2001, 422, "up to 2000 of a sequence"),
            (2002, 400, "At most"),
        ):
            files = [SimpleUploadedFile(f"crate.{number}.png", b"-") for number in range(count)]
            page = self.client.post(f"{URL}/return", {"files": files})
            self.assertContains(page, says, status_code=status)

    def test_the_stand_in_that_lies_off_is_told_by_its_name(self):
        add_stand_in(self.shot(), CRATE | {"name": "Far crate", "base": [3.2, 0, 2.0]}, None)
        picture = self.rendered().copy()
        empty = np.flatnonzero(~picture[..., 3].any(axis=0))
        between = int(
            empty[(empty > 1100) & (empty < 1250)].mean()
        )  # to its right stands the far one
        picture[:, between:] = np.roll(picture[:, between:], 4, axis=1)
        self.send({"crate.png": picture})
        told = {name: most for name, most, _ in self.shot().returned.get().offsets["items"]}
        self.assertLess(told["Crate"], 0.05)
        self.assertAlmostEqual(told["Far crate"], 4, delta=0.2)

    def test_what_was_flipped_twice_is_taken_back_unless_the_artist_wants_it(self):
        steps = [{"id": "mirrored", "do": "flip", "way": "sides"}]
        edit(
            self.shot(),
            "Chain",
            lambda state: state["gate"].update(photosites=[1920, 1080], steps=steps, plate_at=1),
        )
        picture = self.rendered()
        self.assertContains(
            self.send({"again.png": picture[:, ::-1]}),
            "must not be flipped again. This one had been",
        )
        row = self.shot().returned.get()
        self.assertEqual(row.taken["ways"], {"mirrored": -1})
        self.assertLess(row.offsets["most"], 0.05)
        form = {"grid": "plate", "encoding": "file", "multiplied": "no", "alpha": "as is"}
        self.client.post(
            f"{URL}/returned/{row.pk}/take", form | {"way_mirrored": "0", "way_upside-down": "0"}
        )
        row.refresh_from_db()
        np.testing.assert_array_equal(
            np.asarray(Image.open(row.folder / "alpha.png")), picture[:, ::-1, 3]
        )
        self.client.post(f"{URL}/returned/{row.pk}/take", {"verb": "recognise"})
        row.refresh_from_db()
        self.assertEqual(row.taken["ways"], {"mirrored": -1})
        self.assertEqual(
            self.client.post(
                f"{URL}/returned/{row.pk}/take", form | {"encoding": "best"}
            ).status_code,
            422,
        )

    def test_a_render_with_the_chain_s_overscan_is_cropped_by_the_chain(self):
        """Uneven sides, which no guess from its size could tell."""
        steps = [
            {"id": "wider", "do": "overscan", "left": 120, "right": 40, "top": 20, "bottom": 64}
        ]
        edit(
            self.shot(),
            "Chain",
            lambda state: state["gate"].update(photosites=[1920, 1080], steps=steps, plate_at=0),
        )
        plate = self.rendered()
        render_now(self.shot(), Order(samples=3, size="grid:wider"))
        wide = np.asarray(Image.open(self.shot().renders.first().folder / "render.png"))
        self.assertEqual(wide.shape[:2], (1164, 2080))
        self.assertContains(
            self.send({"wide.png": wide}), "another grid of the gate chain, “Overscan”"
        )
        row = self.shot().returned.get()
        self.assertEqual(row.taken["grid"], "wider")
        off = np.abs(np.asarray(Image.open(row.folder / "alpha.png")).astype(int) - plate[..., 3])
        self.assertLess((off > 1).mean(), 1e-4)

    def test_the_loupe_tells_what_both_files_hold(self):
        picture = self.rendered()
        row, column = np.argwhere(picture[..., 3] == 255)[500]
        says = self.client.get(
            f"{URL}/values", {"x": column + 0.3, "y": row + 0.6}
        ).content.decode()
        plate = OpenImageIO.ImageBufAlgo.colorconvert(
            OpenImageIO.ImageBuf(str(FOLDER / f"{NAME}.jpg")), "sRGB", "linear"
        )
        render = OpenImageIO.ImageBuf(str(self.shot().renders.get().folder / "render.exr"))
        wanted = [
            *plate.getpixel(int(column), int(row))[:3],
            *render.getpixel(int(column), int(row))[:4],
        ]
        found = [
            float(part) for part in says.replace(",", "").split() if part.replace(".", "").isdigit()
        ]
        np.testing.assert_allclose(found, wanted, atol=0.004)  # two JPEG readers differ by a step
        for x in (-3, "nan", "inf", "there"):
            self.assertEqual(self.client.get(f"{URL}/values", {"x": x, "y": 2}).content, b"")

    def test_the_plate_s_edges_are_found_where_a_true_stand_in_stands(self):
        """A crate of the boathouse that is in the picture: its edges lie there, to a pixel of the
        match's ±; a wrong one's don't."""
        add_stand_in(self.shot(), LOW_CRATE, None)
        self.assertRegex(
            self.client.get(f"{URL}/plate-edges").json()["says"],
            r"lie [01]\.\d\d px from the stand-ins",
        )

    def test_the_plate_s_edges_over_a_range_are_a_curve(self):
        with Image.open(FOLDER / f"{NAME}.jpg") as photo:
            pixels = np.asarray(photo)
        files = []
        for number in range(4):  # each a pixel farther to the right
            data = io.BytesIO()
            Image.fromarray(np.roll(pixels, number, axis=1)).save(data, "png")
            files.append(SimpleUploadedFile(f"still.{number + 1:04d}.png", data.getvalue()))
        self.client.post("/shows/tide/LT901/plate", {"picture": files})
        self.assertEqual(self.shot().state["film"]["last"], 4)
        refused = self.client.post(f"{URL}/plate-edges/range", follow=True)
        self.assertContains(refused, "place one first", status_code=422)
        add_stand_in(self.shot(), LOW_CRATE, None)
        self.client.post(f"{URL}/plate-edges/range")
        rows = EdgesOverRange.objects.get().rows
        right = [rows[str(number)][2] for number in range(1, 5)]
        np.testing.assert_allclose(np.diff(right), 1, atol=0.1)
        page = self.client.get(URL)
        self.assertContains(page, "On 4 frames, 1–4")
        self.assertContains(page, "To the right")
        self.assertNotContains(page, "Measured with an older set")
        one = self.client.get(f"{URL}/plate-edges?at=4").json()["says"]
        self.assertRegex(one, r"lie [1-4]\.\d\d px from the stand-ins")
        edit(self.shot(), "Moved", lambda state: state["stand_ins"][0].update(turn_deg=3))
        self.assertContains(self.client.get(URL), "Measured with an older set")

    def test_a_snapshot_is_the_plate_under_the_render_with_its_facts(self):
        self.assertEqual(
            self.client.post(f"{URL}/keep", {"kind": "over"}).status_code, 422
        )  # nothing is rendered yet
        alpha = self.rendered()[..., 3]
        for burn_in in ({}, {"burn_in": "on"}):
            self.client.post(f"{URL}/keep", {"kind": "over"} | burn_in)
        noted, plain = self.shot().snapshots.all()
        self.assertRegex(plain.path, r"^tide/LT901/LT901_camera_r\d+/over/\d{4}-")
        with (
            Image.open(plain.file) as bare,
            Image.open(noted.file) as burnt,
            Image.open(FOLDER / f"{NAME}.jpg") as plate,
        ):
            pictures = [np.asarray(one.convert("RGB")).astype(int) for one in (bare, burnt, plate)]
        self.assertLessEqual(np.abs(pictures[0] - pictures[2])[alpha == 0].max(), 1)
        self.assertGreater(np.abs(pictures[0] - pictures[2])[alpha == 255].mean(), 20)
        changed = np.flatnonzero((pictures[0] != pictures[1]).any(axis=(1, 2)))
        self.assertTrue(len(changed) > 20 and changed.min() > 900)  # the strip along the foot
        self.client.post(
            "/shows/tide/LT901/set/camera/looks",
            {"camera": "match", "focus_m": "4 m", "stop": "2.8", "facts": "none"},
        )
        self.assertContains(self.client.get(URL), "T 2.8 · 1/60 s · EV 7.9 · focus 4.000 m")
        self.client.post(f"{URL}/snapshots/{plain.pk}/remove")
        self.assertFalse(plain.file.exists())
