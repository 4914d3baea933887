"""`python -m bench.load`: 50 people at once, each with a second of thought between two actions,
against the application as it is served.

Wanted on two cores: saves within 300 ms and pages within 500 ms at the 95th percentile. The people
run on the same machine, and take their share of it. Reference: one person alone, in the same run.
On SQLite, and beside it on PostgreSQL where that is installed.
"""

import http.client
import json
import random
import re
import tempfile
import threading
import time
from urllib.parse import urlencode, urlsplit

import numpy as np

from bench.postgres import database
from bench.server import Server

PEOPLE = 50
SECONDS = 60
THOUGHT = 1.0
# Milliseconds that are wanted; figures: what follows from a save, once it is answered.
KINDS = {"page": 500, "drag": 300, "save": 300, "figures": 500}
SHOW = "/shows/the-lantern-tide"
CODES = ("LT010", "LT020", "LT030", "LT040", "LT060")
PAGES = ("plate", "gate", "match", "set", "elements", "line-up", "hand-off", "expose")


class Person:
    """Opens pages and saves marks of one shot, as a browser would: one kept connection, the page's
    own token and revision."""

    def __init__(self, address: str, seed: int):
        self.host = urlsplit(address).netloc
        self.random = random.Random(seed)
        self.code = CODES[seed % len(CODES)]
        self.connection = http.client.HTTPConnection(self.host, timeout=120)
        self.cookie = "match_leaf=fit"  # as the page's script sets it
        self.took: dict[str, list[float]] = {kind: [] for kind in KINDS}
        self.failed = 0

    def ask(self, method, path, body=None, headers=None):
        """(status, text) of one request."""
        headers = {"Cookie": self.cookie} | (headers or {})
        try:
            self.connection.request(method, path, body, headers)
            answer = self.connection.getresponse()
        except (http.client.HTTPException, OSError):
            self.connection.close()
            self.connection.request(method, path, body, headers)
            answer = self.connection.getresponse()
        text = answer.read().decode("utf8", "replace")
        for value in answer.headers.get_all("Set-Cookie") or ():
            self.cookie = f"match_leaf=fit; {value.split(';')[0]}"
        return answer.status, text

    def open(self, path):
        """A page, timed; its text."""
        began = time.perf_counter()
        status, text = self.ask("GET", path)
        self.took["page"].append(time.perf_counter() - began)
        self.failed += status != 200
        return text

    def post(self, path, fields, token=None):
        """Post a form; the status."""
        text = "" if token else self.open(f"{SHOW}/{self.code}/match")
        token = token or re.search(r'name="csrf" content="([^"]+)"', text)[1]
        headers = {"Content-Type": "application/x-www-form-urlencoded", "X-CSRFToken": token}
        return self.ask("POST", path, urlencode(fields), headers)[0]

    def save(self, label="Nudged", drags=0):
        """Drag a mark of the shot, over so many previews, and save it; the status, None where it
        has none.

        Somebody else may have saved in between, which is no failure.
        """
        path = f"{SHOW}/{self.code}/match"
        text = self.open(path)
        data = json.loads(re.search(r'<script id="page-data"[^>]*>(.*?)</script>', text, re.S)[1])
        token = re.search(r'name="csrf" content="([^"]+)"', text)[1]
        if not data["marks"]:
            return None
        mark = self.random.choice(data["marks"])
        at = mark["points"][0] if "points" in mark else mark["at"]
        for _ in range(drags):
            at[0] += self.random.uniform(-0.2, 0.2)
            self._timed("drag", f"{path}/preview", {"marks": data["marks"]}, token)
        at[0] += self.random.uniform(-0.2, 0.2)
        told = {"marks": data["marks"], "label": label, "base": data["revision"], "later": True}
        status = self._timed("save", f"{path}/save", told, token)
        if status == 200:  # as the page's script does, which shows the figures then
            self._timed("figures", f"{path}/state", {"report": True}, token)
        return status

    def _timed(self, kind, path, message, token):
        headers = {"Content-Type": "application/json", "Accept": "application/json"}
        began = time.perf_counter()
        status, _ = self.ask("POST", path, json.dumps(message), headers | {"X-CSRFToken": token})
        self.took[kind].append(time.perf_counter() - began)
        self.failed += status not in (200, 409)
        return status

    def work(self, until: float):
        """Until then: pages mostly, some with their picture, drags that end in a save, a poll now
        and then; and a second of thought after each.
        """
        while time.perf_counter() < until:
            what = self.random.random()
            if what < 0.2:
                self.save(drags=3)
            elif what < 0.3:
                self.open(self.random.choice(("/", f"{SHOW}/", f"{SHOW}/cameras")))
            elif what < 0.4:
                self.open(f"{SHOW}/{self.code}/jobs/render/progress")
            else:
                text = self.open(f"{SHOW}/{self.code}/{self.random.choice(PAGES)}")
                picture = re.search(r'data-proxy="([^"]+)"', text)
                if picture and self.random.random() < 0.3:  # it stays in the browser then
                    self.open(picture[1])
            time.sleep(THOUGHT * self.random.uniform(0.5, 1.5))


def crowd(address: str, count: int, seconds: float) -> dict:
    """Seconds that pages and saves took, and how many requests failed."""
    people = [Person(address, seed) for seed in range(count)]
    until = time.perf_counter() + seconds
    threads = [threading.Thread(target=person.work, args=(until,)) for person in people]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    took = {kind: np.array(sum((p.took[kind] for p in people), [])) for kind in KINDS}
    return took | {"failed": sum(person.failed for person in people)}


def load(seconds=SECONDS):
    """Print the percentiles, on either database."""
    _load("SQLite", {}, seconds)
    with tempfile.TemporaryDirectory() as folder, database(folder) as address:
        if address is None:
            print("\nPostgreSQL isn't installed here.")
        else:
            _load("PostgreSQL", {"APERTURE_DATABASE": address}, seconds)


def _load(name, more, seconds):
    with tempfile.TemporaryDirectory() as folder, Server(folder, more) as server:
        for (
            code
        ) in CODES:  # fits and standings of the demo are computed once, as on any installation
            Person(server.address, 0).open(f"{SHOW}/{code}/match")
        alone = crowd(server.address, 1, seconds / 2)
        many = crowd(server.address, PEOPLE, seconds)
    print(
        f"\n{name}: {PEOPLE} people, a second of thought between actions, {len(many['page'])}"
        " pages:"
    )
    for kind, wanted in KINDS.items():
        median, high = np.percentile(many[kind], [50, 95]) * 1e3
        one = np.percentile(alone[kind], 50) * 1e3
        print(
            f"  {kind}: {median:.0f} ms median, {high:.0f} ms at the 95th percentile (wanted"
            f" {wanted}); one person alone {one:.0f} ms median, the 95th percentile is"
            f" {high / one:.1f} of it"
        )
    print(f"  failed: {many['failed']}")


if __name__ == "__main__":
    load()
