"""Runs long work on django-tasks, in a worker of its own, so that it goes on when the page is
closed and the server restarts.

The `Job` row is what pages see: how far it is, whether it shall stop. A worker gives a sign of life
while it works; a job without one is an orphan, and is marked failed when somebody looks. A job in
parts is as far as its parts are; whichever of them ends last gathers what they made.
"""

import gc
import logging
import threading
import time
import uuid
from contextlib import contextmanager, nullcontext
from datetime import timedelta
from typing import Any

from django.db import DatabaseError, close_old_connections, connection, transaction
from django.db.models import Q
from django.utils import timezone
from django_tasks import task_backends
from django_tasks.base import TaskResultStatus
from django_tasks.exceptions import TaskResultDoesNotExist
from django_tasks_db import DatabaseBackend

from aperture.errors import Problem
from web.blobs.in_use import referred
from web.jobs.models import Job
from web.ui import who
from web.ui.prepared import Prepared

logger = logging.getLogger(__name__)

OWNER = uuid.uuid4().hex
SECONDS_BETWEEN_NOTES = 0.3
SECONDS_BETWEEN_BEATS = 2.0
SECONDS_BETWEEN_TRIES = 2.0
# Of `gc.set_threshold`, while work is done: tracks are tens of thousands of short lists, which the
# usual collector looks through so often that it takes several times as long as making them.
SELDOM = (50_000, 20, 20)
ORPHANED = timedelta(seconds=15)
LONG_WAIT = timedelta(seconds=10)
ORPHAN = "The worker was stopped while this ran. Start it again."


def blobs_in_use():
    """The blobs that were given to work which hasn't ended."""
    from django_tasks_db.models import DBTaskResult

    ended = (TaskResultStatus.SUCCESSFUL, TaskResultStatus.FAILED)
    for given in DBTaskResult.objects.exclude(status__in=ended).values_list(
        "args_kwargs", flat=True
    ):
        yield from referred(given)


class Cancelled(Exception):
    """The artist asked to stop."""


def start(shot, kind: str, task, *args) -> Job:
    """Enqueue `task(job_pk, *args)`, a django-tasks task that hands its work to `run`; the job that
    tells of it."""
    with _together():
        job = Job.objects.create(shot=shot, kind=kind)
        _enqueue(job, task, *args)
    job.refresh_from_db()
    return job


def start_parts(shot, kind: str, task, parts, *args) -> Job:
    """Enqueue `task(job_pk, *args, part)` for each of `parts`, whole numbers: pieces that any
    number of workers share; the job of them all."""
    with _together():
        job = Job.objects.create(shot=shot, kind=kind)
        rows = Job.objects.bulk_create(
            [Job(shot=shot, kind=kind, parent=job, part=part) for part in parts]
        )
        for row in rows:
            _enqueue(row, task, *args, row.part)
    job.refresh_from_db()
    return job


def _together():
    """Jobs and their tasks are there together or not at all, where both lie in the database.

    Elsewhere a worker could look for the job before it is there.
    """
    in_database = isinstance(task_backends["default"], DatabaseBackend)
    return transaction.atomic() if in_database else nullcontext()


def _enqueue(job, task, *args):
    result = task.enqueue(job.pk, *args)
    Job.objects.filter(pk=job.pk).update(task=str(result.id))


_newest = Prepared(
    lambda shot, kind: Job.objects.filter(shot=shot, kind=kind, parent=None).order_by("-pk")[:1]
)


def latest(shot, kind: str) -> Job | None:
    """The newest job of a kind; one left behind by a worker that is gone is marked failed, one that
    waits in vain says so."""
    job = _newest.first(shot.pk, kind)
    if job is None or not job.under_way:
        return job
    parts = job.parts.all()
    old = timezone.now() - ORPHANED
    orphans = Q(beat=None) | Q(beat__lt=old)
    parts.filter(orphans, state=Job.RUNNING).update(state=Job.FAILED, says=ORPHAN)
    if parts:
        _as_far_as_its_parts(job, parts)
        # All ended, and nobody gathers what they made: it was stopped, or the worker that should
        # have is gone.
        beats = [one.beat for one in (job, *parts) if one.beat]
        if not any(part.under_way for part in parts) and (
            job.cancel_asked or not beats or max(beats) < old
        ):
            _end_parts(job, job.parts.all())
    else:
        Job.objects.filter(orphans, pk=job.pk, state=Job.RUNNING).update(
            state=Job.FAILED, says=ORPHAN
        )
    # Whoever works gives signs of life; only in silence each waiting part is looked up.
    if not any(one.beat and one.beat >= old for one in (job, *parts)):
        for lost in [one for one in (job, *parts) if _lost(one)]:
            Job.objects.filter(pk=lost.pk, state=Job.WAITING).update(state=Job.FAILED, says=ORPHAN)
    job.refresh_from_db()
    if job.state == Job.WAITING and timezone.now() - job.created > LONG_WAIT:
        job.says = (
            "No worker has taken it yet: one may be busy, or none is running (`make demo` starts"
            " one)."
        )
    return job


def _lost(job) -> bool:
    """Whether a job waits for a task that nobody will do: it was never enqueued, or its worker went
    before it began."""
    if job.state != Job.WAITING or timezone.now() - job.created < ORPHANED:
        return False
    if not job.task:
        return not job.parts.exists()
    try:
        task = task_backends["default"].get_result(job.task)
    except TaskResultDoesNotExist:
        return True
    if task.status == TaskResultStatus.READY:
        return False
    began = task.started_at
    return began is None or timezone.now() - began > ORPHANED


def _as_far_as_its_parts(job, parts):
    states = [part.state for part in parts]
    if set(states) != {Job.WAITING}:
        done = states.count(Job.DONE)
        Job.objects.filter(pk=job.pk, state__in=(Job.WAITING, Job.RUNNING)).update(
            state=Job.RUNNING,
            progress=sum(part.progress for part in parts) / len(states),
            says=f"{done} of {len(states)} are done.",
        )


def _end_parts(job, parts):
    bad = parts.exclude(state=Job.DONE).order_by("part").first()
    end = (
        {
            "state": bad.state,
            "says": f"{bad.part}: {bad.says} What is done is kept: start it again for the rest."[
                :300
            ],
        }
        if bad
        else {"state": Job.FAILED, "says": ORPHAN}
    )
    Job.objects.filter(pk=job.pk, state__in=(Job.WAITING, Job.RUNNING)).update(**end)


def close_part(pk: int, gather) -> None:
    """After a part has run: if it was the last one, `gather()` what they made, and end the job of
    them all."""
    job = Job.objects.get(pk=pk).parent
    assert job is not None, "only a part has been run so"
    if any(part.under_way for part in job.parts.all()):
        return
    if not Job.objects.filter(pk=job.pk, owner="", state__in=(Job.WAITING, Job.RUNNING)).update(
        owner=OWNER, beat=timezone.now(), state=Job.RUNNING
    ):
        return  # another part's worker came first
    if job.parts.exclude(state=Job.DONE).exists():
        _end_parts(job, job.parts.all())
        return
    with _ending(job.pk):
        gather()


def cancel(shot, kind: str) -> None:
    """Ask what is under way to stop; what only waits is stopped at once."""
    jobs = Job.objects.filter(shot=shot, kind=kind)
    jobs.filter(state=Job.RUNNING).update(cancel_asked=True)
    jobs.filter(state=Job.WAITING).update(state=Job.CANCELLED, says="Stopped before it began.")


@contextmanager
def _ending(pk: int):
    """However the work within ends, the job says it; what wasn't foreseen is raised again."""
    end: dict[str, Any] = {"state": Job.FAILED}
    try:
        yield
        end = {"state": Job.DONE, "progress": 1.0, "says": ""}
    except Cancelled:
        end = {"state": Job.CANCELLED, "says": "Stopped. Nothing was kept of it."}
    except Problem as problem:
        end["says"] = problem.sentence[:300]
    except OSError as error:
        end["says"] = f"The files could not be written: {error.strerror or error}."[:300]
    except Exception as error:  # whatever it was, the artist must not wait for ever
        end["says"] = f"Something went wrong that was not foreseen: {type(error).__name__}."
        logger.exception("Job %s failed", pk)
        raise
    finally:
        _write_end(pk, end)


@contextmanager
def _collecting_seldom():
    usual = gc.get_threshold()
    gc.set_threshold(*SELDOM)
    try:
        yield
    finally:
        gc.set_threshold(*usual)


def _write_end(pk: int, end: dict[str, Any]) -> None:
    """Write how a job ended; where the disk is full, say, as soon as it can be written."""
    while True:
        try:
            Job.objects.filter(pk=pk).update(**end)
            return
        except DatabaseError:
            logger.exception("The end of job %s can't be written; trying again", pk)
            connection.close()
            time.sleep(SECONDS_BETWEEN_TRIES)


def _note(pk: int, **values) -> None:
    """Write how a job stands. What can't be written now is written with the next note."""
    try:
        Job.objects.filter(pk=pk).update(**values)
    except DatabaseError:
        logger.warning("How job %s stands can't be written", pk)


def run(pk: int, work) -> None:
    """Do a job's `work(progress)` here and now.

    progress(0 … 1), with what is being done in words where the work has stages, notes how far it
    is, and stops the work when it was cancelled.
    """
    close_old_connections()
    if not Job.objects.filter(pk=pk, state=Job.WAITING).update(
        state=Job.RUNNING, owner=OWNER, beat=timezone.now()
    ):
        return  # stopped while it waited
    noted, ended = [0.0], threading.Event()

    def live():
        try:
            while not ended.wait(SECONDS_BETWEEN_BEATS):
                _note(pk, beat=timezone.now())
        finally:
            connection.close()

    def progress(done, says=None):
        now = time.monotonic()
        if now - noted[0] < SECONDS_BETWEEN_NOTES:
            return
        noted[0] = now
        _note(pk, progress=done, **({} if says is None else {"says": says[:300]}))
        if Job.objects.filter(pk=pk, cancel_asked=True).exists():
            raise Cancelled

    heart = threading.Thread(target=live, daemon=True, name=f"job-{pk}")
    heart.start()
    by = Job.objects.values_list("by", flat=True).get(pk=pk)
    with _ending(pk), who.acting(by), _collecting_seldom():
        try:
            work(progress)
        finally:
            ended.set()
            heart.join()
