"""Begin to take renders in: the one module of this step that knows the tasks, which know how it is
done."""

import re
import shutil
import tempfile
from collections import Counter
from pathlib import Path

from django.conf import settings

from aperture.errors import Problem
from aperture.render import returned
from web.jobs import runner
from web.jobs.models import Job
from web.lineup import plate_edges, tasks
from web.lineup.actions import KIND, comparable
from web.lineup.models import Returned

MOST_FILES = 2000
NUMBER = re.compile(r"[._-]?(\d{1,9})(\.[^.]+)$")


def frame_in_name(name: str) -> int | None:
    """The frame's number in a file's name: the last digits before its ending."""
    found = NUMBER.search(name)
    return int(found.group(1)) if found else None


def start_return(shot, files) -> Job:
    """Begin to bring uploaded files back: one picture, or a sequence by the numbers in their names.
    Raises Problem."""
    names = [file.name for file in files]
    if not files or len(files) > MOST_FILES:
        raise Problem(f"Choose one picture, or up to {MOST_FILES} of a sequence.", "file")
    if wrong := [
        name for name in names if Path(name).suffix.lower().lstrip(".") not in returned.ENDINGS
    ]:
        raise Problem(f"“{wrong[0][:60]}” can't be used here. Bring PNG, TIFF or EXR.", "file")
    frames: list[int | None] = [None]
    numbers = []
    if len(files) > 1:
        for name in names:
            number = frame_in_name(name)
            if number is None:
                raise Problem(
                    f"“{name[:60]}” has no frame number before its ending, such as"
                    " render.1001.exr.",
                    "file",
                )
            numbers.append(number)
        frames = [*numbers]
        if twice := [frame for frame, count in Counter(frames).items() if count > 1]:
            raise Problem(f"Frame {twice[0]} is there twice.", "file")
    comparable(shot)
    home = settings.DATA / "returned"
    home.mkdir(parents=True, exist_ok=True)
    folder = Path(tempfile.mkdtemp(prefix="incoming-", dir=home))
    try:
        for file, frame in zip(files, frames):
            with open(
                folder / f"{'still' if frame is None else frame}{Path(file.name).suffix.lower()}",
                "wb",
            ) as out:
                for chunk in file.chunks():
                    out.write(chunk)
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    name = (
        names[0]
        if len(files) == 1
        else NUMBER.sub(r"\2", names[0]) + f", {min(numbers)}–{max(numbers)}"
    )
    return runner.start(
        shot, KIND, tasks.bring_back, shot.pk, shot.head.number, folder.name, name[:255]
    )


def start_again(shot, row: Returned, taken: dict | None) -> Job:
    """Begin to put one right in another way: as `taken_from` reads, or, with None, as is
    recognised."""
    return runner.start(shot, KIND, tasks.take_again, shot.pk, shot.head.number, row.pk, taken)


def start_edges(shot) -> Job:
    """Begin to measure the plate's own edges over the marked range. Raises Problem where there is
    nothing to measure."""
    plate_edges.to_measure(shot)
    running = runner.latest(shot, plate_edges.KIND)
    if running and running.under_way:
        return running
    return runner.start(shot, plate_edges.KIND, tasks.measure_edges, shot.pk, shot.head.number)
