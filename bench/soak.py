"""`python -m bench.soak`: ten minutes of mixed use, while server and worker are killed every 20
seconds and the disk is full once.

At the end: is every edit that was answered still there, is the database sound, does anything wait
for ever, is anything left over, and is memory as it was? The exit status says whether all of it
holds.
"""

import atexit
import os
import random
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
import uuid
from http.client import HTTPException
from pathlib import Path

from bench.load import CODES, SHOW, Person
from bench.server import Server

SECONDS = 600
SECONDS_BETWEEN_KILLS = 20
PEOPLE = 6
FULL_SECONDS = 15
REST_SECONDS = 180  # after which work that is still under way is stuck


class Soaking(Person):
    """Somebody who remembers which of their saves were answered, and bears with a server that is
    gone for a while."""

    def __init__(self, address, seed):
        super().__init__(address, seed)
        self.answered = []

    def work(self, until):
        """Save, look, render, until then."""
        while time.perf_counter() < until:
            try:
                what = self.random.random()
                label = f"Soak {uuid.uuid4().hex}"
                if what < 0.4 and self.save(label) == 200:
                    self.answered.append(label)
                elif what < 0.5:
                    self.post(f"{SHOW}/{self.code}/elements/again", {})
                else:
                    self.open(f"{SHOW}/{self.code}/{self.random.choice(('match', 'set', 'gate'))}")
            except (OSError, HTTPException, ValueError, KeyError, TypeError):
                self.connection.close()  # killed meanwhile, or half an answer
                time.sleep(0.5)
            time.sleep(self.random.uniform(0.1, 0.5))


class Worker:
    """The process that does the long work; `queue`: of tasks that go through Redis."""

    def __init__(self, environment, queue=False, manage="manage.py"):
        self.environment, self.manage = environment, manage
        command = ["rqworker", "--job-class", "django_tasks_rq.Job"]
        self.command = command if queue else ["db_worker", "--interval", "0.2", "-v", "0"]
        self.start()

    def start(self):
        """Begin to work."""
        self.process = subprocess.Popen(
            [sys.executable, *self.manage.split(), *self.command],
            env=self.environment,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )

    def mind(self):
        """Start it again where it ended, as a supervisor does."""
        if self.process.poll() is not None:
            self.start()

    def kill(self):
        """SIGKILL."""
        self.process.kill()
        self.process.wait()


def memory_mb(pid: int) -> float:
    """Resident memory of a process and its children."""
    rows = subprocess.run(["ps", "-eo", "pid,ppid,rss"], capture_output=True, text=True).stdout
    table = [tuple(map(int, row.split())) for row in rows.splitlines()[1:]]
    return sum(rss for own, parent, rss in table if pid in (own, parent)) / 1024


def fill(folder: Path) -> Path:
    """A file that takes what room is left."""
    path = folder / "filler"
    with open(path, "wb", buffering=0) as file:
        for size in (2**20, 2**12):  # what is left after that is less than a page
            try:
                while True:
                    file.write(b"x" * size)
            except OSError:
                continue
    return path


def small_disk(folder: str) -> bool:
    """Put a file system of 400 MB at `folder`; False where that isn't allowed."""
    done = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=400m", "tmpfs", folder], capture_output=True
    )
    return done.returncode == 0


def problems(folder: Path, answered: list[str], restarted_mb: list[float]) -> list[str]:
    """What isn't as it should be."""
    out = []
    database = sqlite3.connect(folder / "aperture.sqlite3")
    ((sound,),) = database.execute("PRAGMA integrity_check").fetchall()
    if sound != "ok":
        out.append(f"the database: {sound}")
    labels = {row[0] for row in database.execute("SELECT label FROM shows_revision")}
    if lost := [label for label in answered if label not in labels]:
        out.append(f"{len(lost)} answered edits are lost")
    states = dict(database.execute("SELECT state, count(*) FROM jobs_job GROUP BY state"))
    print(f"  jobs: {states}")
    if under_way := states.get("running", 0) + states.get("waiting", 0):
        out.append(f"{under_way} jobs still wait or run")
    left = [path for path in (folder / "incoming").rglob("*") if path.is_file()]
    left += [path for path in folder.rglob("*.part")]
    if left:
        out.append(f"{len(left)} temporary files are left, such as {left[0].name}")
    if restarted_mb and restarted_mb[-1] > 1.5 * max(restarted_mb[0], 1):
        out.append(f"memory grew from {restarted_mb[0]:.0f} to {restarted_mb[-1]:.0f} MB")
    return out


def soak(seconds=SECONDS) -> bool:
    """Whether all held."""
    with tempfile.TemporaryDirectory() as folder:
        full = small_disk(folder)
        try:
            return _soak(Path(folder), seconds, full)
        finally:
            if full:
                subprocess.run(["umount", "-l", folder], check=False)


def _soak(folder: Path, seconds: float, can_fill: bool) -> bool:
    before_kill = []
    with Server(str(folder)) as server:
        worker = Worker(server.environment)
        atexit.register(worker.kill)
        people = [Soaking(server.address, seed) for seed in range(PEOPLE)]
        until = time.perf_counter() + seconds
        threads = [threading.Thread(target=one.work, args=(until,)) for one in people]
        for thread in threads:
            thread.start()
        filled_at = time.perf_counter() + seconds / 2 if can_fill else until + 1
        kills = 0
        while time.perf_counter() < until - 5:
            time.sleep(min(SECONDS_BETWEEN_KILLS, max(until - 5 - time.perf_counter(), 0.1)))
            if time.perf_counter() > filled_at:
                filler = fill(folder)
                time.sleep(FULL_SECONDS)
                filler.unlink()
                filled_at = until + 1
            before_kill.append(memory_mb(server.process.pid))
            random.choice((server.kill, worker.kill))()
            kills += 1
            if server.process.poll() is not None:
                server.start()
            if worker.process.poll() is not None:
                worker.start()
        for thread in threads:
            thread.join()
        _come_to_rest(people[0])
        worker.kill()
        server.kill()
        answered = sum((one.answered for one in people), [])
        pages = sum(len(one.took["page"]) for one in people)
        print(
            f"\nSoak of {seconds:.0f} s: {pages} pages, {len(answered)} answered edits, {kills}"
            " kills"
        )
        if not can_fill:
            print("  the full disk was left out: mounting a small one isn't allowed here")
        found = problems(folder, answered, before_kill)
    for problem in found:
        print(f"  NOT HELD: {problem}")
    if not found:
        print(
            "  all held: no answered edit lost, database sound, no job stuck, nothing left over,"
            " memory flat"
        )
    return not found


def _come_to_rest(person: Soaking) -> None:
    """Look at the pages until no work is under way: what a killed worker left behind is seen when
    somebody looks, once its sign of life is old enough.
    """
    for _ in range(REST_SECONDS // 2):
        time.sleep(2)
        pages = [person.open(f"{SHOW}/{code}/elements") for code in CODES]
        if not any('id="job"' in page for page in pages):
            return


if __name__ == "__main__":
    sys.exit(0 if soak(float(os.environ.get("SOAK_SECONDS", SECONDS))) else 1)
