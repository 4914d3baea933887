"""Runs long work on django-tasks, in a worker of its own, so that it goes on when the page is closed and the server restarts.

The `Job` row is what pages see: how far it is, whether it shall stop. A worker gives a sign of life while it works; a job without one
is an orphan, and is marked failed when somebody looks.
"""

import threading
import time
import uuid
from datetime import timedelta

from django.db import close_old_connections, connection
from django.utils import timezone

from aperture.errors import Problem
from web.jobs.models import Job

OWNER = uuid.uuid4().hex
SECONDS_BETWEEN_NOTES = 0.3
SECONDS_BETWEEN_BEATS = 2.0
ORPHANED = timedelta(seconds=15)
LONG_WAIT = timedelta(seconds=10)


class Cancelled(Exception):
    """The artist asked to stop."""


def start(shot, kind: str, task, *args) -> Job:
    """Enqueue `task(job_pk, *args)`, a django-tasks task that hands its work to `run`; the job that tells of it."""
    job = Job.objects.create(shot=shot, kind=kind)
    task.enqueue(job.pk, *args)
    job.refresh_from_db()
    return job


def latest(shot, kind: str) -> Job | None:
    """The newest job of a kind; one left behind by a worker that is gone is marked failed, one that waits in vain says so."""
    job = Job.objects.filter(shot=shot, kind=kind).first()
    if job and job.state == Job.RUNNING and (job.beat is None or timezone.now() - job.beat > ORPHANED):
        Job.objects.filter(pk=job.pk, state=Job.RUNNING).update(state=Job.FAILED, says="The worker was stopped while this ran. Start it again.")
        job.refresh_from_db()
    if job and job.state == Job.WAITING and timezone.now() - job.created > LONG_WAIT:
        job.says = "No worker has taken it yet: one may be busy, or none is running (`make demo` starts one)."
    return job


def cancel(shot, kind: str) -> None:
    """Ask what is under way to stop; what only waits is stopped at once."""
    jobs = Job.objects.filter(shot=shot, kind=kind)
    jobs.filter(state=Job.WAITING).update(state=Job.CANCELLED, says="Stopped before it began.")
    jobs.filter(state=Job.RUNNING).update(cancel_asked=True)


def run(pk: int, work) -> None:
    """Do a job's `work(progress)` here and now; progress(0 … 1) notes how far it is and stops the work when it was cancelled."""
    close_old_connections()
    if not Job.objects.filter(pk=pk, state=Job.WAITING).update(state=Job.RUNNING, owner=OWNER, beat=timezone.now()):
        return  # stopped while it waited
    noted, ended = [0.0], threading.Event()

    def live():
        try:
            while not ended.wait(SECONDS_BETWEEN_BEATS):
                Job.objects.filter(pk=pk).update(beat=timezone.now())
        finally:
            connection.close()

    def progress(done):
        now = time.monotonic()
        if now - noted[0] < SECONDS_BETWEEN_NOTES:
            return
        noted[0] = now
        Job.objects.filter(pk=pk).update(progress=done)
        if Job.objects.filter(pk=pk, cancel_asked=True).exists():
            raise Cancelled

    heart = threading.Thread(target=live, daemon=True, name=f"job-{pk}")
    heart.start()
    end = {"state": Job.FAILED}
    try:
        work(progress)
        end = {"state": Job.DONE, "progress": 1.0}
    except Cancelled:
        end = {"state": Job.CANCELLED, "says": "Stopped. Nothing was kept of it."}
    except Problem as problem:
        end["says"] = problem.sentence[:300]
    except OSError as error:
        end["says"] = f"The files could not be written: {error.strerror or error}."[:300]
    except Exception as error:  # whatever it was, the artist must not wait for ever
        end["says"] = f"Something went wrong that was not foreseen: {type(error).__name__}."
        raise
    finally:
        ended.set()
        heart.join()
        Job.objects.filter(pk=pk).update(**end)
