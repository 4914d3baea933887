"""Begin a render: the one module of this step that knows the tasks, which know how to render."""

from aperture.errors import Problem
from web.elements import tasks
from web.elements.actions import KIND, Order, ready
from web.jobs import runner
from web.jobs.models import Job


def start_eyes(shot, orders: list[Order]) -> list[Job]:
    """Begin the renders of both eyes, one after the other. Raises Problem as `start_render`
    does."""
    for order in orders:
        _require_cameras(shot, order)
    running = runner.latest(shot, KIND)
    if running and running.under_way:
        raise Problem("A render of this shot is running already.")
    return [_start(shot, order) for order in orders]


def start_render(shot, order: Order | None = None) -> Job:
    """Begin a render of the shot as it stands. Raises Problem without a camera or stand-ins, or
    while one runs."""
    order = order or Order()
    _require_cameras(shot, order)
    running = runner.latest(shot, KIND)
    if running and running.under_way:
        raise Problem("A render of this shot is running already.")
    return _start(shot, order)


def _require_cameras(shot, order: Order) -> None:
    """Raises Problem where a range begins or ends beyond the frames that have a camera: that is
    known before minutes of work."""
    ready(shot, order)
    for frame in order.frames or ():
        ready(shot, order, frame)


def _start(shot, order: Order) -> Job:
    told = (shot.pk, shot.head.number, order.json())
    if order.frames is None:
        return runner.start(shot, KIND, tasks.render, *told)
    first, last = order.frames
    return runner.start_parts(shot, KIND, tasks.render_frame, range(first, last + 1), *told)
