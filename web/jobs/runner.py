"""Runs long work in a thread of the server, so that it goes on when the page is closed."""

import threading
import time
import uuid

from django.db import close_old_connections, connection

from aperture.errors import Problem
from web.jobs.models import Job

OWNER = uuid.uuid4().hex
SECONDS_BETWEEN_NOTES = 0.3


class Cancelled(Exception):
    """The artist asked to stop."""


def start(shot, kind: str, work) -> Job:
    """Run `work(progress)` in the background; progress(0 … 1) notes how far it is and stops the work when it was cancelled."""
    job = Job.objects.create(shot=shot, kind=kind, owner=OWNER)
    threading.Thread(target=_run, args=(job.pk, work), daemon=True, name=f"job-{job.pk}").start()
    return job


def latest(shot, kind: str) -> Job | None:
    """The newest job of a kind; one left behind by a server that is gone is marked failed."""
    job = Job.objects.filter(shot=shot, kind=kind).first()
    if job and job.state == Job.RUNNING and job.owner != OWNER:
        job.state, job.says = Job.FAILED, "The server was stopped while this ran. Start it again."
        job.save(update_fields=["state", "says"])
    return job


def _run(pk, work):
    close_old_connections()
    noted = [0.0]

    def progress(done):
        now = time.monotonic()
        if now - noted[0] < SECONDS_BETWEEN_NOTES:
            return
        noted[0] = now
        Job.objects.filter(pk=pk).update(progress=done)
        if Job.objects.filter(pk=pk, cancel_asked=True).exists():
            raise Cancelled

    try:
        work(progress)
        ended = {"state": Job.DONE, "progress": 1.0}
    except Cancelled:
        ended = {"state": Job.CANCELLED, "says": "Stopped. Nothing was kept of it."}
    except Problem as problem:
        ended = {"state": Job.FAILED, "says": problem.sentence[:300]}
    except OSError as error:
        ended = {"state": Job.FAILED, "says": f"The files could not be written: {error.strerror or error}."[:300]}
    except Exception as error:  # whatever it was, the artist must not wait for ever
        ended = {"state": Job.FAILED, "says": f"Something went wrong that was not foreseen: {type(error).__name__}."}
        Job.objects.filter(pk=pk).update(**ended)
        connection.close()
        raise
    Job.objects.filter(pk=pk).update(**ended)
    connection.close()
