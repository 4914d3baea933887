"""Long work in parts that several workers share: gathered once, told while it goes on, stopped, and
never left hanging."""

from datetime import timedelta

from django.test import TransactionTestCase
from django.utils import timezone

from web.jobs import runner
from web.jobs.models import Job
from web.shows.history import create_shot
from web.shows.models import Show

KIND = "render"


class Parts(TransactionTestCase):
    def setUp(self):
        self.shot = create_shot(Show.objects.create(name="The Lantern Tide", slug="tide"), "LT907")
        self.gathered = 0

    def job(self, *states, **more):
        """A job whose parts, from 1001 on, are as told; those that run gave a sign of life just
        now."""
        job = Job.objects.create(shot=self.shot, kind=KIND)
        for number, state in enumerate(states):
            beat = timezone.now() if state in (Job.RUNNING, Job.DONE) else None
            Job.objects.create(
                shot=self.shot,
                kind=KIND,
                parent=job,
                part=1001 + number,
                state=state,
                beat=beat,
                progress=float(state == Job.DONE),
                **more,
            )
        return job

    def gather(self):
        self.gathered += 1

    def latest(self):
        return runner.latest(self.shot, KIND)

    def test_whichever_ends_last_gathers_and_only_once(self):
        job = self.job(Job.DONE, Job.WAITING, Job.WAITING)
        self.assertEqual(
            (self.latest().state, round(self.latest().progress, 2), self.latest().says),
            (Job.RUNNING, 0.33, "1 of 3 are done."),
        )
        parts = list(job.parts.order_by("part"))
        for part in parts[1:]:
            runner.run(part.pk, lambda progress: progress(0.5))
            runner.close_part(part.pk, self.gather)
        self.assertEqual(
            (self.gathered, self.latest().state, self.latest().progress), (1, Job.DONE, 1.0)
        )
        runner.close_part(parts[0].pk, self.gather)  # a worker that comes late
        self.assertEqual(self.gathered, 1)

    def test_what_one_part_met_is_told_and_nothing_is_gathered(self):
        job = self.job(Job.DONE, Job.WAITING)

        def full(progress):
            with open("/dev/full", "wb", buffering=0) as disk:
                disk.write(b"picture")

        last = job.parts.get(part=1002)
        runner.run(last.pk, full)
        runner.close_part(last.pk, self.gather)
        self.assertEqual((self.latest().state, self.gathered), (Job.FAILED, 0))
        self.assertIn(
            "1002: The files could not be written: No space left on device.", self.latest().says
        )
        self.assertIn("start it again for the rest", self.latest().says)

    def test_gathering_itself_may_meet_a_full_disk(self):
        job = self.job(Job.DONE)

        def full():
            raise OSError(28, "No space left on device")

        runner.close_part(job.parts.get().pk, full)
        self.assertEqual(
            (self.latest().state, self.latest().says),
            (Job.FAILED, "The files could not be written: No space left on device."),
        )

    def test_a_worker_that_is_gone_leaves_nothing_hanging(self):
        job = self.job(Job.DONE, Job.RUNNING, Job.WAITING)
        long_ago = timezone.now() - timedelta(minutes=2)
        job.parts.filter(part=1002).update(beat=long_ago)
        self.assertEqual(self.latest().state, Job.RUNNING)  # the third still waits for a worker
        self.assertEqual(job.parts.get(part=1002).state, Job.FAILED)
        job.parts.filter(part=1003).update(state=Job.DONE, beat=long_ago)
        job.parts.filter(part=1001).update(beat=long_ago)
        self.assertEqual(self.latest().state, Job.FAILED)
        self.assertIn("1002: The worker was stopped", self.latest().says)

    def test_all_done_but_never_gathered(self):
        """The last worker was killed between its frame and the gathering; while it may still be at
        it, nothing is said."""
        job = self.job(Job.DONE, Job.DONE)
        self.assertEqual(self.latest().state, Job.RUNNING)
        job.parts.update(beat=timezone.now() - timedelta(minutes=2))
        self.assertEqual((self.latest().state, self.latest().says), (Job.FAILED, runner.ORPHAN))

    def test_stopping_reaches_every_part(self):
        job = self.job(Job.DONE, Job.RUNNING, Job.WAITING)
        self.latest()
        self.client.post("/shows/tide/LT907/jobs/render/cancel")
        self.assertTrue(job.parts.get(part=1002).cancel_asked)
        self.assertEqual(job.parts.get(part=1003).state, Job.CANCELLED)
        job.parts.filter(part=1002).update(
            state=Job.CANCELLED, says="Stopped. Nothing was kept of it."
        )
        self.assertEqual(self.latest().state, Job.CANCELLED)
        self.assertEqual(
            self.client.get("/shows/tide/LT907/jobs/render/progress").json()["state"], "cancelled"
        )
        self.assertEqual(
            self.client.get("/shows/tide/LT907/jobs/other/progress").json(), {"state": "none"}
        )
