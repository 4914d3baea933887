"""The plate's own edges against the stand-ins': measured when the artist asks."""

import json
import tempfile
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import numpy as np
from django.conf import settings

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.plates.film import Film as Filmed
from aperture.plates.way_in import WayIn
from aperture.render import offsets, plate_edges
from aperture.scene.frustum import from_json, to_json
from web.elements.actions import source_digest
from web.lineup.actions import arrows_of
from web.lineup.models import EdgesOverRange
from web.match.curves import curve
from web.match.path_fits import camera_of_state
from web.plates.frames import frame_at, number_of, span_of, way_of
from web.plates.full_frames import full_pixels
from web.plates.models import (
    Film,
    Plate,
    require_film,
    require_plate,
    transfer_of,
    working_pixels,
)
from web.plates.referred import require_reachable
from web.plates.watched import counted, run_watched
from web.stage.stand_ins import extra, shapes, shown, stand_in_from
from web.stage.ways import ways_of

VAGUE_PX = 2.0  # a shift of a frame whose ± is larger isn't told
# A shift, scale and rotation are told where they leave no more than this share of what is off.
EXPLAINS = 0.6


def measured(shot, number: int | None = None) -> dict:
    """{"says", "arrows", "names"} of a picture of the film, or of the plate that is worked on.
    Raises Problem without a camera or stand-ins."""
    frame = None if number is None else frame_at(shot.state, number)
    camera, items, which = _measurable(shot.state, frame)
    text = json.dumps([to_json(camera), shapes(items), which])
    names = [items[index]["name"] for index in which]
    digest = require_plate(shot).digest if number is None else require_film(shot).digest
    found = _measured(digest, number, way_of(shot.state), transfer_of(shot.state), text)
    return {"names": names} | found


def _measurable(state, frame: int | None = None) -> tuple[Camera, list[dict], list[int]]:
    """The camera on a frame, the stand-ins that are shown, and which of them are measured: the
    solids that are part of the plate, or all where none is.

    Raises Problem without a camera or stand-ins.
    """
    camera, items = camera_of_state(state, frame), shown(state)
    if camera is None or not items:
        raise Problem(
            "The plate's edges are compared with the stand-ins', through a matched camera: match"
            " the plate and place one first."
        )
    # A plane stands for a surface, and ends anywhere on it: its borders are measured only where
    # nothing else can be.
    solid = [index for index, item in enumerate(items) if item.get("kind") != "plane"]
    own = [index for index in solid if extra(items[index], "part_of_plate")]
    return camera, items, own or solid or list(range(len(items)))


@lru_cache(32)
def _measured(digest: str, number: int | None, way: WayIn, transfer: str, text: str) -> dict:
    """Of a plate, or of a picture of a film, with such a digest."""
    camera, items, which = json.loads(text)
    if number is None:
        pixels = working_pixels(Plate.objects.get(digest=digest))
    else:
        pixels = full_pixels(Film.objects.get(digest=digest), number, way)
    found, refused = plate_edges.measure(
        pixels, from_json(camera), [stand_in_from(item) for item in items], which, transfer
    )
    none = f" At {refused} more the picture has no edge there." if refused else ""
    if found is None:
        return {
            "says": (
                "Too few of the stand-ins' edges are seen as edges of the plate to say how far they"
                " are off." + none
            ),
            "arrows": [],
        }
    says = [
        f"The plate's edges lie {found.median:.2f} px from the stand-ins' (median), 95 % within"
        f" {found.most:.2f} px, at {len(found.at)} places.{none}"
    ]
    if np.percentile(np.abs(found.rest), 95) < EXPLAINS * found.most:
        says += offsets.in_words(found)
    return {"says": " ".join(says), "arrows": arrows_of(found)}


# Over the range
# ---------------------------------------------------------------------------------------------

KIND = "edges"  # of the job


def to_measure(shot) -> tuple[dict[int, dict], list[dict], list[int]]:
    """The cameras of the marked range's pictures by number, the stand-ins that are shown, and which
    are measured. Raises Problem."""
    state, film = shot.state, require_film(shot)
    first, last = (number_of(state, frame) for frame in span_of(state))
    cameras = {}
    for number in Filmed.read(film.folder).numbers:
        camera = (
            camera_of_state(state, frame_at(state, number)) if first <= number <= last else None
        )
        if camera is not None:
            cameras[number] = to_json(camera)
    _, items, which = _measurable(state)
    if len(cameras) < 2:
        raise Problem(
            "A range has two frames or more that there is a camera of: mark a longer one."
        )
    return cameras, items, which


def measure_range(shot, progress) -> EdgesOverRange:
    """Measure the plate's edges on every frame of the marked range, and keep what was found. Raises
    Problem."""
    cameras, items, which = to_measure(shot)
    film, state = require_film(shot), shot.state
    require_reachable(film)
    ways = ways_of(state["stand_ins"])
    stand_ins = [replace(stand_in_from(item), way=ways.get(item["id"])) for item in shapes(items)]
    with tempfile.TemporaryDirectory(dir=settings.FILE_UPLOAD_TEMP_DIR) as folder:
        count = Path(folder) / "count"
        found = run_watched(
            counted(count, len(cameras), progress),
            plate_edges.measure_film,
            film.folder,
            way_of(state),
            cameras,
            stand_ins,
            which,
            transfer_of(state),
            count,
        )
    rows = {str(number): _row(one) for number, one in found.items()}
    if not any(rows.values()):
        raise Problem(
            "Too few of the stand-ins' edges are seen as edges of the plate, on any frame, to say"
            " how far they are off."
        )
    names = [items[index]["name"] for index in which]
    row, _ = EdgesOverRange.objects.update_or_create(
        shot=shot, defaults={"digest": source_digest(state), "names": names, "rows": rows}
    )
    return row


def _row(found) -> list[float | None] | None:
    if found is None:
        return None
    shift, sigma = offsets.shift_alone(found)
    told = [found.median, found.most, shift[0], sigma[0], shift[1], sigma[1]]
    told = [round(float(v), 4) for v in told]
    for at in (2, 4):
        if told[at + 1] > VAGUE_PX:
            told[at : at + 2] = None, None
    return told


def over_range(shot) -> dict | None:
    """What was measured over the range, for the page: sentences and curves; None where nothing
    was."""
    row = EdgesOverRange.objects.filter(shot=shot).first()
    if row is None or not shot.state["film"]:
        return None
    by_frame = {
        frame_at(shot.state, int(number)): values for number, values in row.rows.items() if values
    }
    frames = list(range(min(by_frame), max(by_frame) + 1))
    known = [by_frame.get(frame) for frame in frames]
    medians = [values and values[0] for values in known]
    right, down = (_known(known, at) for at in (2, 4))
    curves = [
        curve("Off, median", "px", medians, None, 2, from_zero=True),
        curve("To the right", "px", *right, 2),
        curve("Down", "px", *down, 2),
    ]
    worst = max(by_frame, key=lambda frame: by_frame[frame][0])
    middle = float(np.median([values[0] for values in by_frame.values()]))
    return {
        "says": (
            f"On {len(by_frame)} frames, {min(by_frame)}–{max(by_frame)}, the plate’s edges lie"
            f" {middle:.2f} px from the stand-ins’ (median); most on {worst},"
            f" {by_frame[worst][0]:.2f} px."
        ),
        "missing": sum(1 for values in row.rows.values() if not values),
        "names": ", ".join(row.names),
        "worst": worst,
        "old": row.digest != source_digest(shot.state),
        "first": frames[0],
        "count": len(frames),
        "curves": [one for one in curves if one is not None],
    }


def _known(rows: list, at: int) -> tuple[list, list]:
    """Values and their ± where both are known."""
    has = [values is not None and None not in values[at : at + 2] for values in rows]
    return (
        [values[at] if known else None for values, known in zip(rows, has)],
        [values[at + 1] if known else None for values, known in zip(rows, has)],
    )
