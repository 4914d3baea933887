"""The Elements step: what is asked for is what is rendered and kept."""

import numpy as np
import OpenImageIO
from django.conf import settings
from django.test import TransactionTestCase

from tests.web.matched import Matched
from tests.web.test_shots import FOLDER, NAME
from web.elements.actions import Order, render_frame, render_now
from web.jobs.models import Job
from web.shows.history import edit
from web.shows.models import Show
from web.stage.actions import add_stand_in, flag


class Elements(Matched, TransactionTestCase):
    def setUp(self):
        super().setUp()
        Show.objects.update(length_unit="cm")
        add_stand_in(
            self.shot(),
            {
                "name": "Floor",
                "kind": "plane",
                "base": [1, 0, 3],
                "size": [5, 0, 5],
                "turn_deg": 0,
                "part_of_plate": True,
            },
            None,
        )
        add_stand_in(
            self.shot(),
            {
                "name": "Crate",
                "kind": "box",
                "base": [1.9, 0, 3.3],
                "size": [0.8, 0.6, 0.6],
                "turn_deg": 24,
                "material": "plate",
            },
            None,
        )

    def test_overscan_and_layers_are_in_the_file_and_the_plate_lies_on_what_wears_it(self):
        render_now(self.shot(), Order(samples=1, size="quarter", region=(240, 140, 300, 200)))
        row = self.shot().renders.get()
        rows, columns = np.nonzero(
            OpenImageIO.ImageBuf(str(row.folder / "alpha.png")).get_pixels(OpenImageIO.FLOAT)[
                ..., 0
            ]
        )
        self.assertTrue(
            len(rows)
            and rows.min() >= 140
            and rows.max() < 200
            and columns.min() >= 240
            and columns.max() < 300
            and not row.whole
        )
        render_now(
            self.shot(), Order(("depth", "shadow", "masks"), samples=1, size="quarter", overscan=10)
        )
        row = self.shot().renders.first()
        self.assertEqual(
            (row.width, row.height), (576, 324)
        )  # 1920 × 1080, a tenth more on every side, a quarter of that
        spec = OpenImageIO.ImageBuf(str(row.folder / "render.exr")).spec()
        self.assertTrue(
            {"depth.Z", "shadow.Y", "mask.Crate", "CryptoObject00.R", "A"} <= set(spec.channelnames)
        )
        render_now(self.shot(), Order(samples=2))
        whole = OpenImageIO.ImageBuf(
            str(self.shot().renders.first().folder / "render.exr")
        ).get_pixels(OpenImageIO.FLOAT)
        plate = OpenImageIO.ImageBufAlgo.colorconvert(
            OpenImageIO.ImageBuf(str(FOLDER / f"{NAME}.jpg")), "sRGB", "linear"
        ).get_pixels(OpenImageIO.FLOAT)
        inside = whole[..., 3] > 0.999
        self.assertGreater(inside.sum(), 10_000)
        self.assertLess(abs(whole[..., :3] - plate)[inside].mean(), 0.004)

    def test_a_grid_of_the_chain_shows_what_its_step_does_to_the_plate_s(self):
        """The sensor's picture, cut and flipped by hand as the chain says, is the plate's."""
        steps = [
            {"id": "cut", "do": "window", "left": 250, "top": 100, "width": 1920, "height": 1080},
            {"id": "mirrored", "do": "flip", "way": "sides"},
        ]
        gate = {
            "width_mm": 36.0,
            "height_mm": 22.5,
            "squeeze": 1.0,
            "origin": "typed",
            "name": "",
            "photosites": [2304, 1440],
            "plate_at": 2,
            "steps": steps,
        }
        shot = edit(self.shot(), "Chain", lambda state: state.update(gate=gate))
        render_now(shot, Order(samples=2))
        render_now(shot, Order(samples=2, size="grid:sensor"))
        grid, plate = (
            OpenImageIO.ImageBuf(str(row.folder / "render.exr")).get_pixels(OpenImageIO.FLOAT)
            for row in shot.renders.all()[:2]
        )
        self.assertEqual(grid.shape, (1440, 2304, 4))
        self.assertFalse(shot.renders.first().whole)
        self.assertGreater(plate[..., 3].sum(), 10_000)
        self.assertGreater(
            (np.abs(grid[100:1180, 250:2170][:, ::-1] - plate).max(axis=2) < 0.004).mean(), 0.9999
        )  # but for rounding at an edge
        self.assertContains(self.client.get("/shows/tide/LT901/elements"), "Sensor, 2304 × 1440")

    def test_a_range_of_frames_goes_on_where_it_was_stopped(self):
        order = Order(samples=1, size="quarter", frames=(1001, 1003))
        render_frame(self.shot(), order, 1002)  # from an earlier try
        before = (
            next((settings.DATA / "renders").glob("incoming-*/1002/render.exr")).stat().st_mtime_ns
        )
        answer = self.client.post(
            "/shows/tide/LT901/elements/order",
            {
                "size": "quarter",
                "samples": "1",
                "bearing": "45",
                "height": "50",
                "sun": "0.8",
                "ambient": "0.35",
                "occlusion": "100",
                "frames": "1001–1003",
            },
        )
        self.assertEqual(answer.status_code, 302, answer.content)
        row = self.shot().renders.get()
        self.assertEqual(row.frames, [1001, 1002, 1003])
        self.assertEqual((row.of_frame(1002) / "render.exr").stat().st_mtime_ns, before)
        named = self.client.get(
            f"/shows/tide/LT901/elements/{row.pk}/render.png?frame=1003&save=1"
        )["Content-Disposition"]
        self.assertIn("LT901_render.1003.png", named)
        self.assertEqual({job.state for job in Job.objects.all()}, {"done"})

    def test_the_page_keeps_what_was_typed_and_says_what_is_wrong(self):
        answer = self.client.post(
            "/shows/tide/LT901/elements/order",
            {
                "size": "plate",
                "samples": "3",
                "bearing": "10",
                "height": "95",
                "sun": "1",
                "ambient": "0.2",
                "occlusion": "soon",
                "overscan": "150",
                "region": "9 9 1 1",
                "frames": "10-9",
            },
        )
        self.assertContains(answer, "from −90 to 90", status_code=422)
        self.assertContains(answer, "from 0 to 100", status_code=422)
        self.assertContains(answer, "four whole numbers", status_code=422)
        self.assertContains(answer, "Frames are two whole numbers", status_code=422)
        self.assertContains(answer, 'value="soon"', status_code=422)
        self.assertEqual(self.shot().renders.count(), 0)
        order = Order(("depth",), 2, "half", 5.0, 0.4, (100, 50, 300, 200))
        self.assertEqual(Order.from_json(order.json()), order)

    def test_a_render_is_old_once_what_is_seen_has_changed_and_not_before(self):
        render_now(self.shot(), Order(samples=1, size="quarter"))
        crate = self.shot().state["stand_ins"][1]["id"]
        flag(self.shot(), crate, "locked", None)
        self.assertNotContains(self.client.get("/shows/tide/LT901/elements"), "This render is old")
        flag(self.shot(), crate, "hidden", None)
        self.assertContains(self.client.get("/shows/tide/LT901/elements"), "This render is old")
        self.assertContains(
            self.client.get("/shows/tide/LT901/line-up"), "Nothing rendered yet"
        )  # a quarter can't be laid over the plate
