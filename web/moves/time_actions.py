"""Measuring by how many frames a move is late to its picture; what was measured stays with the
film."""

import hashlib
import json
from collections.abc import Callable
from dataclasses import asdict

import cv2
import numpy as np

from aperture.errors import Problem
from aperture.moves.timing import Corners, Lag, followed, lag
from web.blobs.folders import write
from web.moves.kept import Kept, move_called, on_plate
from web.plates.flash_actions import small_pictures
from web.plates.frames import frame_at, number_of, span_of, way_of
from web.plates.models import Film, require_film
from web.shows.models import Shot

KIND = "lag"  # of the job that measures


def measure(shot: Shot, id_: str, progress: Callable[[float], None]) -> Lag:
    """Measure a move's lag and keep it with the film. Raises Problem where it can't be told."""
    film, kept = require_film(shot), move_called(shot.state, id_)
    path = on_plate(shot.state, id_)
    corners = _corners(shot, film, lambda share: progress(0.9 * share))
    found = lag(corners, path)
    told = json.dumps(asdict(found))
    write(film.folder / _name(shot, kept), lambda file: file.write_text(told))
    return found


def measured(shot: Shot, kept: Kept) -> Lag | None:
    """What was measured last of this move, as it is now, over these frames."""
    if not shot.state["film"]:
        return None
    path = require_film(shot).folder / _name(shot, kept)
    return Lag(**json.loads(path.read_text())) if path.exists() else None


def _corners(shot: Shot, film: Film, progress: Callable[[float], None]) -> Corners:
    first, last = (number_of(shot.state, frame) for frame in span_of(shot.state))
    way = way_of(shot.state)
    name = f"corners-{first}-{last}-{way}.npz"
    kept = film.folder / name
    offset = frame_at(shot.state, first) - first
    if kept.exists():
        with np.load(kept, allow_pickle=False) as packed:
            stride = int(packed["stride"])
            return Corners(stride, packed["frames"] + offset, packed["first"], packed["second"])

    def pictures():
        count = max(last - first + 1, 1)
        for number, pixels in small_pictures(film, progress, first, last):
            grey = cv2.cvtColor(np.ascontiguousarray(way.apply(pixels)), cv2.COLOR_BGR2GRAY)
            progress((number - first) / count)
            yield number, grey

    found = followed(pictures())

    def save(file):
        with open(file, "wb") as out:
            np.savez(
                out,
                stride=found.stride,
                frames=found.frames,
                first=found.first,
                second=found.second,
            )

    write(kept, save)
    return Corners(found.stride, found.frames + offset, found.first, found.second)


def _name(shot: Shot, kept: Kept) -> str:
    item = next(item for item in shot.state["moves"] if item["id"] == kept.id)
    scale = float(np.cbrt(np.linalg.det(kept.stands[:3, :3])))
    told = [
        item["baked"]["blob"],
        kept.settings.fit,
        shot.state["shift"] - item["shift"],
        round(scale, 9),
        span_of(shot.state),
        str(way_of(shot.state)),
        shot.state["film"]["offset"],
    ]
    return f"lag-{hashlib.sha256(json.dumps(told).encode()).hexdigest()[:24]}.json"


def require_measurable(shot: Shot, id_: str) -> None:
    """Raise Problem where the plate isn't filmed, or the move can't be put on it."""
    require_film(shot)
    path = on_plate(shot.state, id_)
    if len(path.frames) < 4:
        raise Problem("A move of fewer than four frames can’t be compared with a picture.")
