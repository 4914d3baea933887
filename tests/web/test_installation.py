"""What the installation tells browsers, supervisors and logs; what several processes do to the same
folder at once."""

import json
import logging
import os
import re
import shutil
import subprocess
import sys
from datetime import timedelta
from pathlib import Path
from tempfile import mkdtemp
from unittest import mock

from django.conf import settings
from django.test import TestCase, override_settings
from django.utils import timezone
from django_tasks import task_backends
from django_tasks.base import TaskResultStatus

from tests.web.test_shots import WithShot
from web.blobs import folders
from web.elements import tasks
from web.elements.actions import KIND
from web.jobs import runner
from web.jobs.models import Job
from web.ui.logs import JsonLines

IN_DATABASE = {"default": {"BACKEND": "django_tasks_db.DatabaseBackend"}}


class Headers(WithShot):
    def test_a_page_runs_only_our_files(self):
        self.upload()
        for page in ("/", "/shows/tide/", self.url("match"), self.url("set"), "/status"):
            answer = self.client.get(page)
            policy = answer["Content-Security-Policy"]
            self.assertNotIn("unsafe", policy)
            nonce = re.search(r"'nonce-([^']+)'", policy)[1]
            html = answer.content.decode()
            # No script and no style in the page itself, but for the import map.
            inline = re.findall(r"<script(?![^>]*\bsrc=)([^>]*)>", html)
            allowed = (f'nonce="{nonce}"', 'type="application/json"')
            self.assertTrue(all(any(one in tag for one in allowed) for tag in inline), inline)
            self.assertIsNone(re.search(r"<style|\sstyle=|\son\w+=", html))
            self.assertEqual(answer["Referrer-Policy"], "same-origin")
            self.assertIn("no-store", answer["Cache-Control"])

    def test_a_stranger_s_host_is_refused(self):
        self.assertEqual(self.client.get("/", headers={"host": "example.org"}).status_code, 400)

    def test_the_deployed_setting_is_clean(self):
        environment = dict(os.environ, APERTURE_HTTPS="1", APERTURE_DATA=mkdtemp())
        environment.pop("DJANGO_ALLOW_ASYNC_UNSAFE", None)
        self.addCleanup(shutil.rmtree, environment["APERTURE_DATA"])
        check = [sys.executable, "manage.py", "check", "--deploy", "--fail-level", "WARNING"]
        done = subprocess.run(check, env=environment, capture_output=True, text=True)
        self.assertEqual(done.returncode, 0, done.stderr)


class Health(TestCase):
    def test_it_says_whether_it_can_work(self):
        self.assertEqual(self.client.get("/healthz").json(), {"ok": True, "problems": []})
        self.assertContains(self.client.get("/status"), "All is well")
        full = shutil._ntuple_diskusage(10**9, 10**9 - 1, 1)
        with mock.patch("web.jobs.status.shutil.disk_usage", return_value=full):
            answer = self.client.get("/healthz")
            self.assertEqual(answer.status_code, 503)
            self.assertIn("nearly full", answer.json()["problems"][0])


class Logs(WithShot):
    def test_each_request_has_a_line_and_an_unforeseen_error_its_traceback(self):
        with self.assertLogs(level="INFO") as caught:
            answer = self.client.get(self.url("plate"))
            self.client.raise_request_exception = False
            with mock.patch("web.plates.views.plate_of", side_effect=KeyError("odd")):
                broken = self.client.get(self.url("plate"))
        self.assertEqual(broken.status_code, 500)
        lines = [json.loads(JsonLines().format(record)) for record in caught.records]
        first = next(line for line in lines if line.get("status") == 200)
        self.assertEqual((first["shot"], first["method"], first["who"]), ("LT900", "GET", "artist"))
        self.assertRegex(answer["X-Request-Id"], "^[0-9a-f]{12}$")
        self.assertTrue(any("KeyError: 'odd'" in line.get("traceback", "") for line in lines))

    def test_a_line_is_one_line(self):
        record = logging.makeLogRecord({"msg": "two\nlines \ud800", "levelname": "INFO"})
        self.assertEqual(len(JsonLines().format(record).splitlines()), 1)


class LostJobs(WithShot):
    """A worker or a server killed at any point between asking for work and doing it."""

    def waiting(self, **fields):
        job = Job.objects.create(shot=self.shot, kind=KIND, **fields)
        Job.objects.filter(pk=job.pk).update(created=timezone.now() - timedelta(hours=1))
        return job

    def state(self):
        found = runner.latest(self.shot, KIND)
        return found.state, found.says

    @override_settings(TASKS=IN_DATABASE)
    def test_what_nobody_will_do_is_said(self):
        self.waiting()  # its task was never enqueued
        self.assertEqual(self.state(), (Job.FAILED, runner.ORPHAN))
        self.waiting(task="00000000-0000-0000-0000-000000000000")  # or is gone
        self.assertEqual(self.state(), (Job.FAILED, runner.ORPHAN))
        job = self.waiting()
        result = tasks.render.enqueue(job.pk, self.shot.pk, 1, {})
        Job.objects.filter(pk=job.pk).update(task=str(result.id))
        self.assertEqual(self.state()[0], Job.WAITING)  # a worker may be busy
        row = task_backends["default"].get_result(result.id).db_result
        row.status, row.started_at = TaskResultStatus.RUNNING, timezone.now()
        row.save()
        self.assertEqual(self.state()[0], Job.WAITING)  # taken just now
        row.started_at = timezone.now() - timedelta(hours=1)
        row.save()  # taken, and its worker was killed before it began
        self.assertEqual(self.state(), (Job.FAILED, runner.ORPHAN))

    @override_settings(TASKS=IN_DATABASE)
    def test_a_job_is_there_with_its_task_or_not_at_all(self):
        with mock.patch.object(runner, "_enqueue", side_effect=OSError("killed")):
            with self.assertRaises(OSError):
                runner.start_parts(self.shot, KIND, tasks.render_frame, [1, 2], 1, 1, {})
        self.assertEqual(Job.objects.count(), 0)


class AtOnce(TestCase):
    def setUp(self):
        self.home = Path(mkdtemp(dir=settings.DATA))
        self.addCleanup(shutil.rmtree, self.home)

    def test_two_that_want_the_same_name_get_two(self):
        stem = Path("LT010/plate")
        names = {folders.reserve(self.home, stem, ".png") for _ in range(3)}
        self.assertEqual({one.name for one in names}, {"plate.png", "plate_2.png", "plate_3.png"})

    def test_whoever_settles_second_leaves_the_first(self):
        for content in ("first", "second"):
            with folders.incoming(self.home) as folder:
                (folder / "pixels").write_text(content)
                folders.settle(folder, self.home / "plate", instead=False)
        self.assertEqual((self.home / "plate" / "pixels").read_text(), "first")

    def test_what_was_left_long_ago_goes(self):
        for name in ("incoming-old", "incoming-new"):
            (self.home / name).mkdir()
        os.utime(self.home / "incoming-old", (1, 1))
        with folders.incoming(self.home):
            self.assertFalse((self.home / "incoming-old").exists())
            self.assertTrue((self.home / "incoming-new").exists())
        (self.home / "incoming-gone").symlink_to(
            self.home / "nowhere"
        )  # between listing and looking
        folders.clear(self.home)
