"""`python -m bench.faults`: what the application does while something that it stands on is gone,
and afterwards.

- 200 kills of server and worker at random moments while 50 people work;
- the database locked for 30 seconds, as by a copy or somebody's tool;
- Redis gone for 30 seconds, where tasks go through it;
- the clock set back by an hour while people work.

Each time: no edit that was answered is lost, everything that can't be done is said in a sentence,
and all goes on by itself. `python -m bench.faults lock clock` does only those. The exit status says
whether all held.
"""

import os
import random
import re
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

from bench import soak
from bench.load import SHOW
from bench.server import Server

GONE_SECONDS, KILLS, KILL_EVERY = 30, 200, 2.5
PEOPLE = 6


class Watching(soak.Soaking):
    """Somebody who works, and notes what was answered while something was gone."""

    def __init__(self, address, seed):
        super().__init__(address, seed)
        self.statuses: dict[int, int] = {}
        self.unsaid = 0

    def ask(self, method, path, body=None, headers=None):
        """(status, text); what failed without a sentence is counted."""
        status, text = super().ask(method, path, body, headers)
        self.statuses[status] = self.statuses.get(status, 0) + 1
        self.unsaid += status >= 500 and len(text) < 20
        return status, text


def kills() -> list[str]:
    """200 kills under the load of 50 people."""
    soak.PEOPLE, soak.SECONDS_BETWEEN_KILLS = 50, KILL_EVERY
    held = soak.soak(KILLS * (KILL_EVERY + 2.3))
    return [] if held else ["see above"]


def locked() -> list[str]:
    """Somebody holds the database."""

    def hold(folder: Path, _server) -> None:
        other = sqlite3.connect(folder / "aperture.sqlite3", isolation_level=None, timeout=60)
        other.execute("BEGIN EXCLUSIVE")
        time.sleep(GONE_SECONDS)
        other.execute("ROLLBACK")

    return _while_people_work({}, hold)


def clock_set_back() -> list[str]:
    """The clock is set back by an hour."""
    with tempfile.TemporaryDirectory() as folder:
        clock = Path(folder) / "clock"
        clock.write_text("0")

        def set_back(_folder, _server) -> None:
            clock.write_text("3600")
            time.sleep(GONE_SECONDS)

        return _while_people_work({"BENCH_CLOCK": str(clock)}, set_back)


def redis_gone() -> list[str]:
    """Redis, through which tasks go, is killed and comes back."""
    if not shutil.which("redis-server"):
        print("  left out: Redis isn't installed")
        return []
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
        socket = Path(folder) / "redis.sock"
        command = ["redis-server", "--port", "0", "--unixsocket", str(socket), "--dir", folder]
        running = [subprocess.Popen(command, stdout=subprocess.DEVNULL)]

        def lose(_folder, _server) -> None:
            running[
                -1
            ].terminate()  # it writes down what it holds, as the system's own service does
            running[-1].wait()
            time.sleep(GONE_SECONDS)
            running.append(subprocess.Popen(command, stdout=subprocess.DEVNULL))

        try:
            return _while_people_work({"APERTURE_REDIS": f"unix://{socket}"}, lose)
        finally:
            running[-1].kill()
            running[-1].wait()


def _while_people_work(more: dict[str, str], fault) -> list[str]:
    """What didn't hold, while `fault(folder, server)` goes on among people at work."""
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
        server = Server(folder)
        server.environment |= more
        manage = "manage.py"
        if "BENCH_CLOCK" in more:
            server.app, manage = "bench.set_back:application", "-m bench.set_back"
        with server:
            worker = soak.Worker(server.environment, "APERTURE_REDIS" in more, manage)
            people = [Watching(server.address, seed) for seed in range(PEOPLE)]
            until = time.perf_counter() + GONE_SECONDS + 40
            threads = [threading.Thread(target=one.work, args=(until,)) for one in people]
            for thread in threads:
                thread.start()
            time.sleep(10)
            before = sum(len(one.answered) for one in people)
            fault(Path(folder), server)
            worker.mind()
            after = sum(len(one.answered) for one in people)
            for thread in threads:
                thread.join()
            answered = sum((one.answered for one in people), [])
            out = [] if len(answered) > after else ["no edit was taken afterwards"]
            out += _order_and_wait(people[0])
            worker.kill()
            server.kill()
            statuses = {}
            for one in people:
                for status, count in one.statuses.items():
                    statuses[status] = statuses.get(status, 0) + count
            print(
                f"  answers by status: {dict(sorted(statuses.items()))}; "
                f"edits answered before, meanwhile, after: {before}, {after - before}, "
                f"{len(answered) - after}"
            )
            if unsaid := sum(one.unsaid for one in people):
                out.append(f"{unsaid} failures came without a sentence")
            return out + soak.problems(Path(folder), answered, [])


def _order_and_wait(person: Watching) -> list[str]:
    """Order a render, and see that it gets done."""
    status = person.post(f"{SHOW}/{person.code}/elements/again", {})
    for _ in range(120):
        text = person.open(f"{SHOW}/{person.code}/elements")
        if 'id="job"' not in text:
            return []
        time.sleep(1)
    job = re.search(r'id="job-says">([^<]*)', text)
    print(f"  the render’s job says: {job and job[1]}")
    return [f"a render that was ordered afterwards ({status}) isn't done after two minutes"]


ALL = {"kills": kills, "lock": locked, "redis": redis_gone, "clock": clock_set_back}


def faults(names: list[str]) -> bool:
    """Whether all held."""
    held = True
    for name in names or ALL:
        print(f"\n{ALL[name].__doc__}")
        found = ALL[name]()
        for problem in found:
            print(f"  NOT HELD: {problem}")
        held = held and not found
        if not found:
            print("  held")
    return held


if __name__ == "__main__":
    random.seed()
    os.environ.setdefault("APERTURE_LOCAL", "1")
    sys.exit(0 if faults(sys.argv[1:]) else 1)
