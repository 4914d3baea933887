"""The mean of chosen frames as the picture that is worked on, for shots whose camera stands
still."""

import tempfile
from collections.abc import Callable
from pathlib import Path

from django.conf import settings

from aperture.errors import Problem
from aperture.plates.film import Film as Filmed
from aperture.plates.mean import MOVED_PX, write_mean
from web.plates.actions import as_part, bring_in
from web.plates.frames import frame_at, number_of, way_of
from web.plates.models import Film, Plate
from web.plates.referred import require_unchanged
from web.plates.watched import counted, run_watched
from web.shows.history import edit
from web.shows.models import Shot

MEAN = "_mean_"  # in the name of such a plate
KIND = "mean"  # of the job that averages
MOST = 500  # frames: by then noise is a twentieth


def is_mean(name: str) -> bool:
    """Whether a plate of this name is the mean of several frames."""
    return MEAN in name


def numbers_between(shot: Shot, film: Film, first: int, last: int) -> list[int]:
    """The pictures of some frames of the shot. Raises Problem where there are fewer than two, or
    too many."""
    low, high = sorted((number_of(shot.state, first), number_of(shot.state, last)))
    numbers = [number for number in Filmed.read(film.folder).numbers if low <= number <= high]
    if len(numbers) < 2:
        raise Problem("A mean needs two frames or more that there are pictures of.", "frames")
    if len(numbers) > MOST:
        raise Problem(f"At most {MOST} frames are averaged.", "frames")
    return numbers


def work_on_mean(
    shot: Shot, film: Film, numbers: list[int], progress: Callable[[float], None]
) -> Shot:
    """Average pictures, and make that the picture to work on, in place of the frame that is worked
    on. Raises Problem."""
    plate, moves = _mean(shot, film, numbers, progress)
    first, last = (frame_at(shot.state, number) for number in (numbers[0], numbers[-1]))

    def change(state):
        if not state["film"] or state["film"]["digest"] != film.digest:
            raise Problem("The plate has been replaced meanwhile.")
        state["plate"] = as_part(plate)

    if moves > MOVED_PX:
        raise Problem(
            f"The picture moves by {moves:.2f} px between these frames, so their mean would be"
            " blurred. Choose frames in which the camera stands still."
        )
    return edit(shot, f"Mean of frames {first}–{last}", change)


def _mean(
    shot: Shot, film: Film, numbers: list[int], progress: Callable[[float], None]
) -> tuple[Plate, float]:
    """The plate of the mean, and by how many px its pictures move."""
    for number in numbers:
        require_unchanged(film, number)
    with tempfile.TemporaryDirectory(dir=settings.FILE_UPLOAD_TEMP_DIR) as folder:
        count, stem = Path(folder) / "count", Path(folder) / "mean"
        look = counted(count, len(numbers), progress)
        moves = run_watched(look, write_mean, film.folder, numbers, stem, count)
        file = next(Path(folder).glob("mean.*"))
        called = Path(film.name.split("#")[0].rstrip("._-")).stem or "film"
        name = f"{called}{MEAN}{numbers[0]}-{numbers[-1]}{file.suffix}"
        return bring_in(file, name, way_of(shot.state)), moves
