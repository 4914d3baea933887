"""Renders and long work: progress, cancelling, a server that is gone, an old render."""

import tempfile
import threading
import time
from datetime import timedelta

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.test import TransactionTestCase
from django.utils import timezone
from PIL import Image

from demo.plates import PLATES, truth
from demo.show import FACTS, marks_for
from tests.web.test_shots import FOLDER, NAME  # noqa: I001
from web.elements import actions
from web.jobs import runner
from web.jobs.models import Job
from web.match.actions import add_fact, set_marks
from web.plates.actions import bring_in, take_plate
from web.shows.actions import create_shot, edit
from web.shows.models import Shot, Show
from web.stage.actions import add_stand_in


def in_a_thread(pk, work):
    try:
        runner.run(pk, work)
    finally:
        connection.close()


class LineUp(TransactionTestCase):
    def setUp(self):
        show = Show.objects.create(name="The Lantern Tide", slug="tide")
        shot = take_plate(create_shot(show, "LT900"), bring_in(FOLDER / f"{NAME}.jpg", f"{NAME}.jpg"))
        self.assertIn(NAME, PLATES)
        self.bare = shot
        shot = edit(shot, "gate", lambda state: state.update(gate={"width_mm": 36.0, "height_mm": 20.25, "squeeze": 1.0, "origin": "typed", "name": ""}))
        shot = set_marks(shot, marks_for(truth(NAME)), "Marks", None)
        self.shot = add_fact(shot, dict(FACTS[0]), None)

    def get(self):
        return self.client.get("/shows/tide/LT900/line-up").content.decode()

    def wait(self):
        for _ in range(300):
            job = Job.objects.first()
            if not job.under_way:
                return job
            time.sleep(0.1)
        self.fail("the job did not end")

    def test_a_render_lines_up_and_grows_old(self):
        self.assertEqual(self.client.post("/shows/tide/LT900/elements/again").status_code, 422)  # nothing stands there yet
        add_stand_in(self.shot, {"name": "Crate", "base": [1.9, 0, 3.3], "size": [0.8, 0.6, 0.6], "turn_deg": 24}, None)
        self.client.post("/shows/tide/LT900/elements/again")
        self.assertEqual(self.wait().state, Job.DONE)
        shot = Shot.objects.with_head().get()
        render = shot.renders.get()
        with Image.open(render.folder / "alpha.png") as alpha:
            self.assertEqual(alpha.size, (1920, 1080))
            rows, columns = np.nonzero(np.asarray(alpha))
        # Where the true camera sees the box, to a few pixels of the match's ±.
        x, y = truth(NAME).project([[1.9, 0.3, 3.3]])[0]
        np.testing.assert_allclose([columns.mean(), rows.mean()], [x, y], atol=25)
        self.assertNotIn("is old", self.get())
        for name in ("render.png", "render.exr", "alpha.png"):
            self.assertEqual(self.client.get(f"/shows/tide/LT900/elements/{render.pk}/{name}").status_code, 200)
        self.assertEqual(self.client.get(f"/shows/tide/LT900/elements/{render.pk}/secret-key").status_code, 404)
        self.client.post("/shows/tide/LT900/match/remove/e1")
        self.assertIn("This render is old", self.get())

    def test_cancelled_failed_and_orphaned_work_is_told(self):
        def slow(progress):
            for step in range(200):
                progress(step / 200)
                time.sleep(0.05)

        job = Job.objects.create(shot=self.shot, kind=actions.KIND)
        self.assertIn("Waiting for a worker", self.get())
        worker = threading.Thread(target=in_a_thread, args=(job.pk, slow))
        worker.start()
        while Job.objects.get().state == Job.WAITING:
            time.sleep(0.02)
        self.assertIn("Stop the render", self.get())
        self.assertEqual(self.client.get("/shows/tide/LT900/elements/progress").json()["state"], "running")
        self.client.post("/shows/tide/LT900/elements/cancel")
        worker.join()
        self.assertEqual(self.wait().state, Job.CANCELLED)
        self.assertIn("Stopped. Nothing was kept", self.get())

        def full(progress):
            raise OSError(28, "No space left on device")

        runner.run(Job.objects.create(shot=self.shot, kind=actions.KIND).pk, full)
        self.assertEqual(self.wait().state, Job.FAILED)
        self.assertIn("No space left on device", self.get())
        waiting = Job.objects.create(shot=self.shot, kind=actions.KIND)
        self.client.post("/shows/tide/LT900/elements/cancel")
        runner.run(waiting.pk, full)  # a worker that comes too late leaves it alone
        self.assertIn("Stopped before it began", self.get())
        Job.objects.create(shot=self.shot, kind=actions.KIND, state=Job.RUNNING, beat=timezone.now() - timedelta(minutes=1))
        self.assertIn("The worker was stopped while this ran", self.get())
        self.assertEqual(self.shot.renders.count(), 0)

    def test_a_render_brought_back_is_put_right_measured_and_laid_over(self):
        shot = add_stand_in(self.shot, {"name": "Crate", "kind": "box", "base": [1.9, 0, 3.3], "size": [0.8, 0.6, 0.6], "turn_deg": 24}, None)
        actions.render_now(shot, actions.Order(samples=3))
        picture = np.asarray(Image.open(shot.renders.get().folder / "render.png"))
        moved = np.roll(picture[::-1], 2, axis=1)  # upside down, and 2 px too far right

        def send(pixels, name="crate.png"):
            with tempfile.SpooledTemporaryFile() as file:
                Image.fromarray(pixels).save(file, "png")
                file.seek(0)
                return self.client.post("/shows/tide/LT900/line-up/return", {"file": SimpleUploadedFile(name, file.read())}, follow=True)

        page = send(moved)
        self.assertContains(page, "It is upside down")
        self.assertContains(page, "px right")
        row = shot.returned.get()
        self.assertAlmostEqual(row.offsets["most"], 2, delta=0.1)
        for name, status in (("render.png", 200), ("alpha.png", 200), ("original.png", 404)):
            self.assertEqual(self.client.get(f"/shows/tide/LT900/line-up/returned/{row.pk}/{name}").status_code, status)
        self.assertContains(send(picture[:, 30:]), "Render it at the plate", status_code=422)
        self.assertContains(send(picture, "crate.bmp"), "comes back as PNG", status_code=422)
        self.client.post(f"/shows/tide/LT900/line-up/returned/{row.pk}/remove")
        self.assertFalse(row.folder.exists())

    def test_a_snapshot_is_the_plate_under_the_render_with_its_facts(self):
        shot = add_stand_in(self.shot, {"name": "Crate", "kind": "box", "base": [1.9, 0, 3.3], "size": [0.8, 0.6, 0.6], "turn_deg": 24}, None)
        self.assertEqual(self.client.post("/shows/tide/LT900/line-up/keep", {"kind": "over"}).status_code, 422)  # nothing is rendered yet
        actions.render_now(shot, actions.Order(samples=2))
        for burn_in in ({}, {"burn_in": "on"}):
            self.client.post("/shows/tide/LT900/line-up/keep", {"kind": "over"} | burn_in)
        noted, plain = shot.snapshots.all()
        self.assertRegex(plain.path, r"^tide/LT900/LT900_camera_r\d+/over/\d{4}-")
        with Image.open(plain.file) as bare, Image.open(noted.file) as burnt, Image.open(FOLDER / f"{NAME}.jpg") as plate:
            pictures = [np.asarray(one.convert("RGB")).astype(int) for one in (bare, burnt, plate)]
        alpha = np.asarray(Image.open(shot.renders.get().folder / "alpha.png"))
        self.assertLessEqual(np.abs(pictures[0] - pictures[2])[alpha == 0].max(), 1)
        self.assertGreater(np.abs(pictures[0] - pictures[2])[alpha == 255].mean(), 20)
        changed = np.flatnonzero((pictures[0] != pictures[1]).any(axis=(1, 2)))
        self.assertTrue(len(changed) > 20 and changed.min() > 900)  # the strip along the foot
        self.assertContains(self.client.get("/shows/tide/LT900/line-up"), "LT900 camera r")
        self.client.post(f"/shows/tide/LT900/line-up/snapshots/{plain.pk}/remove")
        self.assertFalse(plain.file.exists())
