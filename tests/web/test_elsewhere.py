"""Beyond one machine: PostgreSQL and Redis in place of files, two servers and two workers, and
somebody who walks from one to the other."""

import http.cookiejar
import os
import re
import shutil
import socket
import subprocess
import sys
import urllib.error
import urllib.parse
import urllib.request
from pathlib import Path

from tests.patience import wait_until
from tests.web import test_workers

BASE = Path(__file__).parents[2]
PASSWORD = "Slipway-at-low-tide-7"
AS_POSTGRES = ["runuser", "-u", "postgres", "--"] if os.getuid() == 0 else []


def programs() -> Path:
    """The folder of PostgreSQL's own programs."""
    return max(Path("/usr/lib/postgresql").glob("*/bin"))


class Elsewhere(test_workers.Workers):
    # Of what the class before it tests, nothing again: only its ways of starting things.
    test_killed_in_the_middle_and_run_again = None
    test_on_redis_two_workers_share_a_range_of_frames = None

    def setUp(self):
        super(test_workers.Workers, self).setUp()
        self.folder = Path(self.enterContext(_folder()))
        base = self.folder / "postgres"
        base.mkdir()
        if AS_POSTGRES:
            shutil.chown(base, "postgres")
            for folder in (self.folder, self.folder.parent):
                folder.chmod(folder.stat().st_mode | 0o711)

        def run(*command):
            whole = [*AS_POSTGRES, *map(str, command)]
            subprocess.run(whole, check=True, capture_output=True, cwd="/")

        run(programs() / "initdb", "-D", base / "db", "-A", "trust", "-U", "aperture")
        self.process(
            *AS_POSTGRES,
            str(programs() / "postgres"),
            "-D",
            str(base / "db"),
            "-c",
            "listen_addresses=",
            "-c",
            f"unix_socket_directories={base}",
            "-c",
            "fsync=off",
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            cwd="/",
        )
        ready = [*AS_POSTGRES, str(programs() / "pg_isready"), "-h", str(base), "-U", "aperture"]
        wait_until(lambda: subprocess.run(ready, capture_output=True, cwd="/").returncode == 0)
        run(programs() / "createdb", "-h", base, "-U", "aperture", "aperture")
        redis = self.folder / "redis.sock"
        self.process(
            "redis-server",
            "--port",
            "0",
            "--unixsocket",
            str(redis),
            "--save",
            "",
            "--dir",
            str(self.folder),
            stdout=subprocess.DEVNULL,
        )
        wait_until(redis.exists)
        data = self.folder / "data"
        self.environment = {
            **os.environ,
            "APERTURE_DATA": str(data),
            "APERTURE_TASKS": "",
            "APERTURE_LOCAL": "",
            "APERTURE_HOSTS": "127.0.0.1",
            "APERTURE_DATABASE": f"postgres://aperture@/aperture?host={base}",
            "APERTURE_REDIS": f"unix://{redis}",
            "APERTURE_PASSWORD": PASSWORD,
            "APERTURE_ACCEL": "/data/",
            "DJANGO_SETTINGS_MODULE": "web.config.settings",
        }
        for command in (("make_secret",), ("migrate", "-v", "0"), ("create_artist", "keeper")):
            self.run_python("manage.py", *command)
        self.run_python("-c", test_workers.SCENE)

    environment: dict = {}

    def process(self, *command, **more):
        more = {"env": self.environment or os.environ} | more
        process = subprocess.Popen(command, **more)
        self.addCleanup(process.wait)
        self.addCleanup(process.kill)
        return process

    def server(self) -> str:
        port = _free_port()
        self.process(
            sys.executable,
            "-m",
            "gunicorn",
            "web.config.wsgi",
            "--bind",
            f"127.0.0.1:{port}",
            "--threads",
            "8",
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        wait_until(lambda: self.ask(f"http://127.0.0.1:{port}/healthz")[0] == 200)
        return f"http://127.0.0.1:{port}"

    def proxy(self, server: str) -> str:
        """nginx before a server, by the sample of the documentation but for what belongs to its
        place."""
        written = (BASE / "docs/deployment.md").read_text()
        sample = re.search(r"\n((?:    |\n)+server \{.*?\n    \})", written, re.S)[1]
        port = _free_port()
        for old, new in (
            (r"listen 443 ssl", f"listen 127.0.0.1:{port}"),
            (r"ssl_certificate.*", ""),
            (r"server_name .*", ""),
            (r"http://127.0.0.1:8000", server),
            (r"proxy_set_header Host \$http_host", f"proxy_set_header Host {server[7:]}"),
            (r"X-Forwarded-Proto https", "X-Forwarded-Proto http"),
            (r"/srv/aperture/", f"{self.folder}/data/"),
        ):
            sample = re.sub(old, new, sample)
        home = self.folder / "nginx"
        home.mkdir()
        kept = " ".join(
            f"{what}_temp_path {home}/{what};"
            for what in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
        )
        (home / "nginx.conf").write_text(
            f"daemon off; master_process off; pid {home}/pid; error_log stderr crit;"
            f" {'user root;' if os.getuid() == 0 else ''}\nevents {{}} http {{ access_log off;"
            f" {kept}\n{sample}\n}}"
        )
        nginx = shutil.which("nginx") or "/usr/sbin/nginx"
        self.process(nginx, "-p", str(home), "-c", str(home / "nginx.conf"))
        wait_until(lambda: self.ask(f"http://127.0.0.1:{port}/healthz")[0] == 200)
        return f"http://127.0.0.1:{port}"

    def ask(self, address):
        """(status, body) of a page."""
        request = urllib.request.Request(address)
        try:
            with self.browser.open(request) as answer:
                return answer.status, answer.read()
        except urllib.error.HTTPError as error:
            return error.code, error.read()
        except OSError:
            return 0, b""

    def test_the_walk_over_two_servers_and_two_workers(self):
        self.cookies = http.cookiejar.CookieJar()
        self.browser = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.cookies))
        one, two = self.server(), self.server()
        for _ in range(2):
            self.process(
                sys.executable,
                "manage.py",
                "rqworker",
                "--job-class",
                "django_tasks_rq.Job",
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
        shot = "/shows/tide/LT903/"
        _, page = self.ask(one + shot + "match")
        self.assertIn(b"Sign in", page)
        form = {"username": "keeper", "password": PASSWORD, "next": shot + "elements"}
        token = re.search(rb'name="csrfmiddlewaretoken" value="([^"]+)"', page)[1].decode()
        self.browser.addheaders = [("Referer", one)]
        body = urllib.parse.urlencode({"csrfmiddlewaretoken": token, **form}).encode()
        with self.browser.open(urllib.request.Request(one + "/sign-in", body)) as answer:
            self.assertTrue(answer.url.endswith(shot + "elements"))
            page = answer.read()
        # Signed in on one server, known on the other; ordered on one, done by a worker, seen on the
        # other.
        self.assertEqual(self.ask(two + shot + "match")[0], 200)
        token = re.search(rb'name="csrfmiddlewaretoken" value="([^"]+)"', page)[1].decode()
        order = {
            "csrfmiddlewaretoken": token,
            "size": "quarter",
            "samples": "1",
            "frames": "1001–1004",
            "bearing": "45",
            "height": "50",
            "sun": "0.8",
            "ambient": "0.35",
            "occlusion": "100",
        }
        with self.browser.open(
            one + shot + "elements/order", urllib.parse.urlencode(order).encode()
        ) as answer:
            self.assertEqual(answer.status, 200)
        proxy = self.proxy(two)
        picture = "elements/1/render.png?frame=1003"
        wait_until(lambda: self.ask(proxy + shot + picture)[0] == 200)
        status, sent = self.ask(proxy + shot + picture)  # by nginx, from the data folder
        self.assertEqual((status, sent[:4]), (200, b"\x89PNG"))
        self.assertEqual(self.ask(two + shot + picture), (200, b""))
        self.assertEqual(self.ask(proxy + "/data/secret-key")[0], 404)
        told = self.run_python("-c", TOLD)
        self.assertIn("done 4 keeper", told)
        self.assertEqual(self.ask(two + "/accounts")[0], 200)
        self.assertEqual(self.ask(two + shot + "history")[0], 200)
        # Edits of four processes at once: each is a revision, and none of them was seen half.
        at_once = [
            self.process(sys.executable, "-c", NUDGE.format(who=number)) for number in range(4)
        ]
        self.assertEqual([one.wait() for one in at_once], [0] * 4)
        self.assertIn("40 of 40", self.run_python("-c", COUNT))
        # A copy of it, by PostgreSQL's own programs.
        said = self.run_python("manage.py", "backup", str(self.folder / "copy"))
        self.assertIn("files are in the copy", said)


NUDGE = """
import django; django.setup()
from web.shows.history import edit
from web.shows.models import Shot
for step in range(10):
    iso = 100 * ({who} + 1) + step
    shot = Shot.objects.get(code="LT903")
    edit(shot, "by {who}", lambda state: state["plate_facts"].update(iso=iso))
"""
COUNT = """
import django; django.setup()
from web.shows.models import Revision
rows = Revision.objects.filter(label__startswith="by ")
chained = sum(1 for row in rows if row.parent is not None)
print(rows.values("number").distinct().count(), "of", chained)
"""
TOLD = """
import django; django.setup()
from web.jobs.models import Job
whole = Job.objects.filter(parent=None, kind="render").first()
print(whole.state, whole.parts.filter(state="done").count(), whole.by.username)
"""


def _free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return free.getsockname()[1]


def _folder():
    import tempfile

    return tempfile.TemporaryDirectory(dir="/tmp")
