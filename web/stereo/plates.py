"""A stereo plate: the pictures of both eyes, in two files or packed into one, as a plate of two
frames, left and right."""

import re
import shutil
import tempfile
from pathlib import Path

from django.conf import settings

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.fence import run_fenced
from aperture.stereo.packing import part_file
from aperture.stereo.solved import Solved
from web.match.path_fits import camera_of_state, path_of_state, placed_path
from web.match.tracking import baseline_of
from web.plates.film_actions import bring_in_film, picture_of, take_film
from web.plates.frames import frame_at, is_pair
from web.plates.starting import start_small_pictures
from web.shows.models import Shot

ENDINGS = (".png", ".tif", ".tiff", ".jpg", ".jpeg")
TWO_FILES_TOO = (*ENDINGS, ".exr", ".dpx")
MOST_BYTES = 400_000_000
EYES = {"left": ("left", "l"), "right": ("right", "r")}


def _eye_of(name: str) -> str | None:
    """The eye that a file's name tells as a word."""
    words = re.split(r"[^a-z]+", Path(name).stem.lower())
    found = [eye for eye, own in EYES.items() if set(own) & set(words)]
    return found[0] if len(found) == 1 else None


def _in_order(files: list) -> list:
    """Left and right: by their names, else as they were chosen. Raises Problem where both are of
    one eye."""
    told = [_eye_of(file.name) for file in files]
    if None not in told and told[0] == told[1]:
        raise Problem(f"Both files say that they are the {told[0]} eye’s.", "files")
    return files[::-1] if told[0] == "right" or told[1] == "left" else files


def take_pair(shot: Shot, files: list, kind: str, base: int | None) -> Shot:
    """Make two files, or one that is packed in a way `kind` of KINDS, the shot's plate. Raises
    Problem."""
    if len(files) not in (1, 2):
        raise Problem("Choose two files, one for each eye, or one packed picture.", "files")
    allowed = TWO_FILES_TOO if len(files) == 2 else ENDINGS
    endings = [Path(file.name).suffix.lower() for file in files]
    for file, ending in zip(files, endings):
        if ending not in allowed:
            wanted = ", ".join(one.lstrip(".").upper() for one in allowed)
            raise Problem(f"“{file.name[:60]}” can’t be used here. Bring {wanted}.", "files")
        if file.size > MOST_BYTES:
            raise Problem(f"“{file.name[:60]}” is larger than {MOST_BYTES / 1e6:.0f} MB.", "files")
    if len(set(endings)) > 1:
        raise Problem("Both eyes come in files of one kind.", "files")
    stem = re.sub(r"[^\w-]+|\d+$", "_", Path(files[0].name).stem).strip("_")[:60] or "pair"
    with tempfile.TemporaryDirectory(dir=settings.FILE_UPLOAD_TEMP_DIR) as folder:
        ending = endings[0] if len(files) == 2 else ".png"
        paths = [Path(folder) / f"{stem}.{number}{ending}" for number in (1, 2)]
        if len(files) == 2:
            for file, path in zip(_in_order(files), paths):
                with open(path, "wb") as out:
                    shutil.copyfileobj(file, out)
        else:
            packed = Path(folder) / f"packed{endings[0]}"
            with open(packed, "wb") as out:
                shutil.copyfileobj(files[0], out)
            run_fenced(part_file, packed, kind, *paths)
        film = bring_in_film([(path, path.name) for path in paths])
    for number in film.first, film.last:
        picture_of(film, number)  # raises where one can't be read, or they are of two sizes
    shot = take_film(shot, film, base, pair=True, label="Stereo plate, left and right")
    start_small_pictures(shot, film)
    return shot


def frames_of(shot: Shot) -> tuple[int, int]:
    """The frames of the left and the right eye of a stereo plate."""
    film = shot.state["film"]
    return frame_at(shot.state, film["first"]), frame_at(shot.state, film["last"])


def solved_eyes(shot: Shot) -> tuple[Camera, Camera] | None:
    """Both eyes' cameras of a stereo plate that is matched; None of others."""
    if not is_pair(shot.state) or placed_path(shot.state) is None:
        return None
    left, right = (camera_of_state(shot.state, frame) for frame in frames_of(shot))
    return None if left is None or right is None else (left, right)


def solved(shot: Shot) -> Solved | None:
    """How both eyes of a solved stereo plate stand to each other, which the baseline tells before
    they stand anywhere in the world."""
    path = path_of_state(shot.state) if is_pair(shot.state) and baseline_of(shot.state) else None
    frames = frames_of(shot) if path is not None else ()
    if path is None or not all(frame in path for frame in frames):
        return None
    return Solved.of(*(path.at(frame) for frame in frames))
