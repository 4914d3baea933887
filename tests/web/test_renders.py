"""Renders and long work: progress, cancelling, a server that is gone, an old render."""

import threading
import time
from datetime import timedelta

import numpy as np
from django.db import connection
from django.test import TransactionTestCase
from django.utils import timezone
from PIL import Image

from aperture.render.files import write_exr
from aperture.render.passes import Render
from demo.plates import truth
from tests.patience import wait_until
from tests.web.matched import Matched
from tests.web.test_shots import NAME
from web.elements import actions
from web.jobs import runner
from web.jobs.models import Job
from web.stage.actions import add_stand_in


def in_a_thread(pk, work):
    try:
        runner.run(pk, work)
    finally:
        connection.close()


class LongWork(Matched, TransactionTestCase):
    def get(self):
        return self.client.get("/shows/tide/LT901/line-up").content.decode()

    def wait(self):
        wait_until(lambda: not Job.objects.first().under_way, "the job did not end")
        return Job.objects.first()

    def test_a_render_lines_up_and_grows_old(self):
        self.assertEqual(
            self.client.post("/shows/tide/LT901/elements/again").status_code, 422
        )  # nothing stands there yet
        add_stand_in(
            self.shot(),
            {"name": "Crate", "base": [1.9, 0, 3.3], "size": [0.8, 0.6, 0.6], "turn_deg": 24},
            None,
        )
        self.client.post("/shows/tide/LT901/elements/again")
        self.assertEqual(self.wait().state, Job.DONE)
        render = self.shot().renders.get()
        with Image.open(render.folder / "alpha.png") as alpha:
            self.assertEqual(alpha.size, (1920, 1080))
            rows, columns = np.nonzero(np.asarray(alpha))
        # Where the true camera sees the box, to a few pixels of the match's ±.
        x, y = truth(NAME).project([[1.9, 0.3, 3.3]])[0]
        np.testing.assert_allclose([columns.mean(), rows.mean()], [x, y], atol=25)
        self.assertNotIn("is old", self.get())
        for name in ("render.png", "render.exr", "alpha.png"):
            self.assertEqual(
                self.client.get(f"/shows/tide/LT901/elements/{render.pk}/{name}").status_code, 200
            )
        self.assertEqual(
            self.client.get(f"/shows/tide/LT901/elements/{render.pk}/secret-key").status_code, 404
        )
        self.client.post("/shows/tide/LT901/match/remove/e1")
        self.assertIn("This render is old", self.get())

    def test_cancelled_failed_and_orphaned_work_is_told(self):
        def slow(progress):
            while True:  # until it is cancelled
                progress(0.5)
                time.sleep(0.05)

        job = Job.objects.create(shot=self.shot(), kind=actions.KIND)
        self.assertIn("Waiting for a worker", self.get())
        worker = threading.Thread(target=in_a_thread, args=(job.pk, slow))
        worker.start()
        wait_until(lambda: Job.objects.get().state != Job.WAITING)
        self.assertIn("Stop it", self.get())
        self.assertEqual(
            self.client.get("/shows/tide/LT901/jobs/render/progress").json()["state"], "running"
        )
        self.client.post("/shows/tide/LT901/jobs/render/cancel")
        worker.join()
        self.assertEqual(self.wait().state, Job.CANCELLED)
        self.assertIn("Stopped. Nothing was kept", self.get())

        def full(progress):
            write_exr(
                "/dev/full",
                Render({"beauty": np.random.default_rng(1).random((400, 400, 4), np.float32)}, []),
            )  # a disk that always is

        runner.run(Job.objects.create(shot=self.shot(), kind=actions.KIND).pk, full)
        self.assertEqual(self.wait().state, Job.FAILED)
        self.assertIn("No space left on device", self.get())
        waiting = Job.objects.create(shot=self.shot(), kind=actions.KIND)
        self.client.post("/shows/tide/LT901/jobs/render/cancel")
        runner.run(waiting.pk, full)  # a worker that comes too late leaves it alone
        self.assertIn("Stopped before it began", self.get())
        Job.objects.create(
            shot=self.shot(),
            kind=actions.KIND,
            state=Job.RUNNING,
            beat=timezone.now() - timedelta(minutes=1),
        )
        self.assertIn("The worker was stopped while this ran", self.get())
        self.assertEqual(self.shot().renders.count(), 0)
