"""Begin what takes a while: the one module here that knows the tasks, which know how it is done."""

import shutil
import tempfile
from pathlib import Path

from django.conf import settings

from aperture.errors import Problem
from aperture.render import returned
from web.around import cutting, tasks
from web.elements.actions import Order, ready
from web.jobs import runner
from web.jobs.models import Job
from web.lineup.starting import frame_in_name
from web.shows.models import Shot


def start_join(shot: Shot, files) -> Job:
    """Begin to join uploaded renders of the views. Raises Problem where one is missing, or of
    another kind."""
    cutting.panorama_of(shot)
    ready(shot, Order())
    _free(shot)
    for file in files:
        if Path(file.name).suffix.lower().lstrip(".") not in returned.ENDINGS:
            raise Problem(
                f"“{file.name[:60]}” can’t be used here. Bring PNG, TIFF or EXR.", "files"
            )
    views = cutting.views_of(shot)
    frames: dict[str, list] = {"still": list(files)}
    if len(files) > len(views):
        frames = {}
        for file in files:
            number = frame_in_name(file.name)
            if number is None:
                raise Problem(
                    f"“{file.name[:60]}” has no frame number before its ending, such as"
                    " front.1001.exr.",
                    "files",
                )
            frames.setdefault(str(number), []).append(file)
    named = {frame: _sorted_out(frame, own, views) for frame, own in frames.items()}
    home = settings.DATA / "returned"
    home.mkdir(parents=True, exist_ok=True)
    folder = Path(tempfile.mkdtemp(prefix="incoming-", dir=home))
    try:
        for frame, own in named.items():
            for index, view in enumerate(views):
                file = own[view.name]
                ending = Path(file.name).suffix.lower()
                with open(folder / f"{frame}_{index}{ending}", "wb") as out:
                    for chunk in file.chunks():
                        out.write(chunk)
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    return runner.start(
        shot, cutting.KIND, tasks.join_views, shot.pk, shot.head.number, folder.name
    )


def _sorted_out(frame: str, files, views) -> dict:
    """The files of a frame by their views' names. Raises Problem where one is missing."""
    try:
        names = cutting.sorted_out([file.name for file in files], views)
    except Problem as problem:
        if frame == "still":
            raise
        raise Problem(f"Frame {frame}: {problem.sentence}", "files") from None
    by_name = {file.name: file for file in files}
    return {view: by_name[name] for view, name in names.items()}


def start_render(shot: Shot) -> Job:
    """Begin to render through the views and to join them. Raises Problem without a panorama or
    stand-ins."""
    cutting.panorama_of(shot)
    ready(shot, Order())
    _free(shot)
    return runner.start(shot, cutting.KIND, tasks.render_and_join, shot.pk, shot.head.number)


def _free(shot: Shot) -> None:
    running = runner.latest(shot, cutting.KIND)
    if running and running.under_way:
        raise Problem("Views of this shot are being joined already.")
