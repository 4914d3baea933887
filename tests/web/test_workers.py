"""A worker in a process of its own: what is asked of it is done; killed in the middle, it leaves
nothing half-written, and the job is found."""

import os
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from unittest import TestCase

from tests.patience import wait_until

SCENE = """
import django; django.setup()
from demo.plates import truth
from demo.evidence import FACTS
from demo.show import marks_for
from tests.web.test_shots import FOLDER, NAME
from web.match.actions import add_fact, set_marks
from web.plates.actions import bring_in, take_plate
from web.shows.history import create_shot, edit
from web.shows.models import Show
from web.stage.actions import add_stand_in
show = Show.objects.create(name="The Lantern Tide", slug="tide")
shot = take_plate(create_shot(show, "LT903"), bring_in(FOLDER / f"{NAME}.jpg", f"{NAME}.jpg"))
gate = {"width_mm": 36.0, "height_mm": 20.25, "squeeze": 1.0, "origin": "typed", "name": ""}
shot = edit(shot, "gate", lambda state: state.update(gate=gate))
shot = add_fact(set_marks(shot, marks_for(truth(NAME)), "Marks", None), dict(FACTS[0]), None)
floor = {"name": "Floor", "kind": "plane", "base": [1, 0, 3], "size": [6, 0, 6], "turn_deg": 0}
add_stand_in(shot, floor, None)
"""
ASK = """
import django; django.setup()
from web.elements.actions import Order
from web.elements.starting import start_render
from web.shows.models import Shot
start_render(Shot.objects.with_head().get(), Order({passes}, samples={samples}, frames={frames}))
"""
LOOK = """
import django; django.setup()
from datetime import timedelta
from web.elements.actions import KIND
from web.jobs import runner
from web.shows.models import Shot
runner.ORPHANED = timedelta(0)
job = runner.latest(Shot.objects.get(code="LT903"), KIND)
print(job.state, job.says)
"""


class Workers(TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.environment = {
            **os.environ,
            "APERTURE_DATA": folder.name,
            "APERTURE_TASKS": "",
            "DJANGO_SETTINGS_MODULE": "web.config.settings",
        }
        self.run_python("manage.py", "migrate", "-v", "0")
        self.run_python("-c", SCENE)

    def run_python(self, *command):
        return subprocess.run(
            [sys.executable, *command],
            env=self.environment,
            check=True,
            capture_output=True,
            text=True,
        ).stdout

    def process(self, *command, **more):
        process = subprocess.Popen(command, env=self.environment, **more)
        self.addCleanup(process.wait)
        self.addCleanup(process.kill)
        return process

    def worker(self):
        return self.process(
            sys.executable,
            "manage.py",
            "db_worker",
            "--interval",
            "0.1",
            "--no-startup-delay",
            "-v",
            "0",
        )

    def row(self, words):
        with sqlite3.connect(self.folder / "aperture.sqlite3") as base:
            return base.execute(words).fetchone()

    def until(self, state):
        newest = "select state, says from jobs_job order by id desc"
        wait_until(
            lambda: self.row(newest)[0] == state,
            lambda: f"the job never was {state}: {self.row(newest)}",
        )

    def test_killed_in_the_middle_and_run_again(self):
        self.run_python("-c", ASK.format(passes=("occlusion",), samples=6, frames=None))
        self.assertEqual(self.row("select state from jobs_job")[0], "waiting")
        worker = self.worker()
        self.until("running")
        time.sleep(0.5)
        worker.send_signal(signal.SIGKILL)
        worker.wait()
        self.assertEqual(self.row("select count(*) from lineup_render")[0], 0)
        self.assertIn("failed The worker was stopped", self.run_python("-c", LOOK))
        self.run_python("-c", ASK.format(passes=(), samples=1, frames=None))
        self.worker()
        self.until("done")
        (number,) = self.row("select id from lineup_render")
        self.assertEqual(
            {path.name for path in (self.folder / "renders" / str(number)).iterdir()},
            {"render.png", "render.exr", "alpha.png"},
        )

    def test_on_redis_two_workers_share_a_range_of_frames(self):
        socket = self.folder / "redis.sock"
        self.process(
            "redis-server",
            "--port",
            "0",
            "--unixsocket",
            str(socket),
            "--save",
            "",
            "--dir",
            str(self.folder),
            stdout=subprocess.DEVNULL,
        )
        wait_until(socket.exists)
        self.environment["APERTURE_REDIS"] = f"unix://{socket}"
        self.run_python("-c", ASK.format(passes=("occlusion",), samples=2, frames=(1001, 1006)))
        self.assertEqual(
            self.row("select count(*) from jobs_job where state = 'waiting'")[0], 7
        )  # six frames, and the job of them all
        for _ in range(2):
            self.process(
                sys.executable,
                "manage.py",
                "rqworker",
                "--job-class",
                "django_tasks_rq.Job",
                "--burst",
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
        whole = "select state, says from jobs_job where parent_id is null"
        wait_until(lambda: self.row(whole)[0] not in ("waiting", "running"))
        self.assertEqual(self.row(whole), ("done", ""))
        number, first, last = self.row("select id, first, last from lineup_render")
        self.assertEqual((first, last), (1001, 1006))
        frames = {
            path.name: {file.name for file in path.iterdir()}
            for path in (self.folder / "renders" / str(number)).iterdir()
        }
        self.assertEqual(set(frames), {str(frame) for frame in range(1001, 1007)})
        self.assertTrue(
            all(
                {"render.png", "render.exr", "alpha.png", "occlusion.png"} <= files
                for files in frames.values()
            )
        )
        self.assertEqual(
            self.row("select count(distinct owner) from jobs_job where part is not null")[0], 2
        )  # not one after the other by the same
