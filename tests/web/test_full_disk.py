"""While nothing can be written, pages and edits answer with a sentence, and a job's end waits;
afterwards all goes on."""

import errno
import json
from unittest import mock

from django.db import OperationalError, connection
from django.test import TransactionTestCase

from tests.web.matched import Matched
from web.jobs import runner
from web.jobs.models import Job
from web.match.models import StoredFit
from web.shows.models import StoredStanding

MOST_PAGES = 1_073_741_823  # SQLite's own limit


def execute(text, *values):
    with connection.cursor() as cursor:
        cursor.execute(text, values)
        return cursor.fetchone() if cursor.description else None


class FullDisk(Matched, TransactionTestCase):
    def setUp(self):
        super().setUp()
        execute("CREATE TABLE filler (text)")
        self.addCleanup(execute, "DROP TABLE filler")
        self.addCleanup(self.make_room)

    def fill(self):
        """From now on SQLite refuses every further page, as it does on a full disk."""
        execute(f"PRAGMA max_page_count = {execute('PRAGMA page_count')[0]}")
        for size in (2000, 200, 20):  # what is free inside the file is filled too
            with self.assertRaises(OperationalError):
                while True:
                    execute("INSERT INTO filler VALUES (%s)", "x" * size)

    def make_room(self):
        execute(f"PRAGMA max_page_count = {MOST_PAGES}")
        execute("DELETE FROM filler")

    def save(self, message):
        return self.client.post(
            self.shot().url("match-save"),
            json.dumps(message),
            content_type="application/json",
            headers={"Accept": "application/json"},
        )

    def test_pages_and_edits_answer_and_all_goes_on_afterwards(self):
        shot = self.shot()
        marks = [mark | {"name": "x" * 50} for mark in shot.state["marks"]]
        message = {"marks": marks, "label": "Named", "base": shot.head.number}
        StoredFit.objects.all().delete()
        StoredStanding.objects.all().delete()
        self.fill()
        with self.assertLogs("web", "ERROR"):
            self.assertContains(self.client.get(shot.url("match")), "px rms")
            self.assertContains(self.client.get("/"), "The Lantern Tide")
            answer = self.save(message)
        self.assertEqual(answer.status_code, 507)
        self.assertIn("Nothing was saved and nothing was lost", answer.json()["problem"])
        self.assertEqual(self.shot().head.number, message["base"])
        self.make_room()
        self.assertEqual(self.save(message).status_code, 200)
        self.assertEqual(self.shot().state["marks"][0]["name"], "x" * 50)

    def test_a_file_that_can_not_be_written(self):
        full = OSError(errno.ENOSPC, "No space left on device")
        with (
            mock.patch("web.shows.history._keep_large", side_effect=full),
            self.assertLogs("web", "ERROR"),
        ):
            answer = self.save({"marks": [], "base": self.shot().head.number})
        self.assertEqual(answer.status_code, 507)

    def test_a_job_ends_as_soon_as_that_can_be_written(self):
        job = Job.objects.create(shot=self.shot(), kind="render")
        refused = [OperationalError("database or disk is full")] * 2
        update = type(Job.objects.all()).update

        def sometimes(rows, **values):
            if values.get("state") == Job.DONE and refused:
                raise refused.pop()
            return update(rows, **values)

        with (
            mock.patch.object(type(Job.objects.all()), "update", sometimes),
            mock.patch.object(runner.time, "sleep") as wait,
            self.assertLogs("web.jobs.runner", "ERROR"),
        ):
            runner.run(job.pk, lambda progress: progress(0.5))
        job.refresh_from_db()
        self.assertEqual((job.state, wait.call_count), (Job.DONE, 2))
