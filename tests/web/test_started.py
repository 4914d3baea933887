"""When the server starts, and what is kept of an installation: set up, copied, brought back, on one
machine."""

import os
import subprocess
import sys
import tempfile
import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from django.conf import settings
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import call_command
from django.core.management.base import SystemCheckError
from django.test import TestCase, TransactionTestCase, override_settings

from tests.web.client import PageClient
from web.people.machine import check_machine, serves_here
from web.people.models import Member
from web.shows.history import create_shot
from web.shows.models import Show

ROOT = Path(__file__).parents[2]
PASSWORD = "Slipway-at-low-tide-7"


class Start(TestCase):
    def start(self, folder, **more):
        """What the server says as it starts, with nothing but these settings."""
        kept = {key: value for key, value in os.environ.items() if not key.startswith("APERTURE_")}
        told = kept | {
            "APERTURE_DATA": str(folder),
            "DJANGO_SETTINGS_MODULE": "web.config.settings",
        }
        done = subprocess.run(
            [sys.executable, "-c", "import web.config.wsgi"],
            cwd=ROOT,
            env=told | more,
            capture_output=True,
            text=True,
        )
        return done.returncode, done.stderr

    def test_it_refuses_until_all_is_set_up(self):
        def manage(*arguments, **more):
            told = os.environ | {"APERTURE_DATA": folder, "APERTURE_LOCAL": "", **more}
            told.pop("DJANGO_ALLOW_ASYNC_UNSAFE", None)
            done = subprocess.run(
                [sys.executable, "manage.py", *arguments],
                cwd=ROOT,
                env=told,
                capture_output=True,
                text=True,
            )
            self.assertEqual(done.returncode, 0, done.stderr)

        with tempfile.TemporaryDirectory() as folder:
            status, said = self.start(folder)
            self.assertNotEqual(status, 0)
            for missing in ("secret key", "APERTURE_HOSTS", "migrate"):
                self.assertIn(missing, said)
            both = "call_command('make_secret'); call_command('migrate', verbosity=0)"
            manage("shell", "-c", f"from django.core.management import call_command; {both}")
            status, said = self.start(folder, APERTURE_HOSTS="aperture.example")
            self.assertNotEqual(status, 0)
            self.assertIn("create_artist", said)
            self.assertNotIn("make_secret", said)
            manage("create_artist", "keeper", APERTURE_PASSWORD=PASSWORD)
            status, said = self.start(folder, APERTURE_HOSTS="aperture.example")
            self.assertEqual(status, 0, said)
            manage(
                "check",
                "--deploy",
                "--fail-level",
                "WARNING",
                APERTURE_HTTPS="1",
                APERTURE_HOSTS="aperture.example",
            )

    def test_the_first_account_keeps_the_installation(self):
        os.environ["APERTURE_PASSWORD"] = PASSWORD
        self.addCleanup(os.environ.pop, "APERTURE_PASSWORD")
        call_command("create_artist", "one", verbosity=0)
        call_command("create_artist", "two", verbosity=0)
        self.assertEqual(
            [
                user.is_superuser
                for user in User.objects.filter(username__in=("one", "two")).order_by("username")
            ],
            [True, False],
        )


class Kept(TransactionTestCase):
    """A running installation is copied, and comes back from the copy."""

    def test_backup_and_restore(self):
        with tempfile.TemporaryDirectory() as folder:
            data, copy, fresh = (Path(folder) / name for name in ("data", "copy", "fresh"))

            def manage(*arguments, where=data):
                told = os.environ | {"APERTURE_DATA": str(where), "APERTURE_LOCAL": "1"}
                return subprocess.run(
                    [sys.executable, "manage.py", *arguments],
                    cwd=ROOT,
                    env=told,
                    capture_output=True,
                    text=True,
                )

            manage("migrate", "--verbosity", "0")
            code = (
                "from web.shows.models import Show; from web.shows.history import create_shot,"
                " edit; from web.blobs import store;s ="
                " create_shot(Show.objects.create(name='Tide', slug='tide'), 'LT1');marks = [{'id':"
                " f's{n}', 'kind': 'spot', 'at': [n, n]} for n in range(900)];edit(s, 'Marks',"
                " lambda state: state.update(marks=marks))"
            )
            self.assertEqual(manage("shell", "-c", code).returncode, 0)
            done = manage("backup", str(copy))
            self.assertIn("files are in the copy", done.stdout, done.stderr)
            self.assertIn("isn’t empty", manage("restore", str(copy)).stderr)
            self.assertIn("is no copy", manage("backup", str(data / "inside")).stderr)
            done = manage("restore", str(copy), where=fresh)
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertEqual(manage("migrate", "--verbosity", "0", where=fresh).returncode, 0)
            done = manage("collect_garbage", "--verify", where=fresh)
            self.assertIn("as it was written", done.stdout, done.stderr)
            asked = (
                "from web.shows.models import Shot;"
                " print(len(Shot.objects.with_head().get().state['marks']))"
            )
            self.assertIn("900", manage("shell", "-c", asked, where=fresh).stdout)
            (copy / "backup.json").unlink()  # as if it had been stopped on its way
            self.assertIn(
                "no whole copy", manage("restore", str(copy), where=Path(folder) / "other").stderr
            )

    def test_its_processes_start_all_at_once(self):
        at_once = threading.Barrier(8)

        def start(_):
            at_once.wait()
            for _ in range(20):
                serves_here()

        with ThreadPoolExecutor(8) as pool:
            list(pool.map(start, range(8)))
        self.assertEqual(check_machine(), [])

    def test_a_worker_elsewhere_is_refused(self):
        (settings.DATA / "locks").mkdir(exist_ok=True)
        path = settings.DATA / "locks" / "served-by"
        self.addCleanup(path.unlink, missing_ok=True)
        serves_here()
        self.assertEqual(check_machine(), [])
        path.write_text("another\nslipway")
        [error] = check_machine()
        self.assertIn("slipway", error.msg)
        self.assertIn("PostgreSQL", error.msg)
        with self.assertRaisesRegex(SystemCheckError, "slipway"):
            call_command("check")

    @override_settings(UPLOADS_A_DAY=300_000, LOCAL=False)
    def test_what_one_brings_in_a_day_is_limited(self):
        show = Show.objects.create(name="Tide", slug="tide")
        user = User.objects.create_user("mate")
        Member.objects.create(show=show, user=user, role="works")
        create_shot(show, "LT1")
        one = PageClient()
        one.force_login(user, "django.contrib.auth.backends.ModelBackend")
        big = {"picture": SimpleUploadedFile("a.jpg", b"0" * 200_000)}
        self.assertEqual(one.post("/shows/tide/LT1/plate", big).status_code, 422)  # no picture
        big["picture"].seek(0)
        self.assertContains(one.post("/shows/tide/LT1/plate", big), "in a day", status_code=403)
        self.assertEqual(one.post("/shows/tide/LT1/notes/pin", {"text": "small"}).status_code, 302)
