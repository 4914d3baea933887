"""A clip at another speed as a shot of its own: pictures, camera, keys and shutter as they are at
that speed.

What was filmed stays as it was: the new shot remembers what it was made from, and can be made anew.
"""

import hashlib
from collections.abc import Callable, MutableMapping
from dataclasses import replace
from pathlib import Path

import numpy as np
from django.db import transaction

from aperture.cut.between import between
from aperture.cut.cut import BETWEEN, Clip
from aperture.errors import Problem
from aperture.formats.straight import KINDS, encoded
from aperture.moves.move import MOST_FRAMES, Move
from aperture.moves.retime import keys_at, moments, path_at, slowed
from aperture.moves.source import Settings, says_of_own
from aperture.plates.film import Film as Filmed
from aperture.stereo.pair import keyed
from aperture.units import format_number
from web.blobs import store
from web.blobs.folders import incoming
from web.cut import actions
from web.cut.speeds import in_words
from web.expose.blurring import slowed_by
from web.expose.focusing import between_keys
from web.jobs import runner
from web.jobs.models import Job
from web.match.path_fits import placed_path
from web.plates import film_actions
from web.plates.actions import as_part
from web.plates.forms import PlateFactsForm
from web.plates.frames import film_replaced, number_of
from web.plates.full_frames import linear_frame
from web.plates.models import Film, metadata_of, plate_of, require_film, require_plate, transfer_of
from web.shows.history import begin, edit
from web.shows.models import Shot, Show
from web.shows.organise import free_code
from web.shows.state import State
from web.stage.ways import retimed as items_retimed
from web.ui.rows import Remark

KIND = "retime"
STEPS = (
    "Its pictures are the nearest frames, and its camera rests with each. Renders here are blurred"
    " as those frames were when they were filmed; a program that is handed the camera sees it leap,"
    " and would smear the leaps."
)
NO_MOVE = (
    "A move’s camera has an ordinary lens: follow and solve these pictures, or work at the speed"
    " that was filmed."
)
TIMED = ("slow", "held")  # of the shutter: what comes of the speed
TOLD = (*PlateFactsForm.TEXTS, *PlateFactsForm.NUMBERS)
# Of the shot that it is made from; whether that has changed since is told by these.
FOLLOWED = ("film", "way_in", "gate", "lens", "stand_ins", "focus", "stereo", "exposure", "shutter")
# What is made of it anew; the rest is as it was worked on at the new speed.
MADE = (
    *FOLLOWED,
    "plate",
    "plate_facts",
    "range",
    "shift",
    "moves",
    "serving",
    "alignments",
    "move_evidence",
    "retimed",
)


def start(show: Show, clip_id: str) -> Job:
    """Begin to make the shot of a clip. Raises Problem where there is nothing to make."""
    from web.cut import tasks

    shot, _ = _found(show, clip_id)
    running = runner.latest(shot, KIND)
    if running and running.under_way:
        raise Problem(f"{shot.code} is being made into a shot at another speed already.")
    return runner.start(shot, KIND, tasks.retime, clip_id)


def start_anew(shot: Shot) -> Job:
    """Begin to make a shot at another speed anew. Raises Problem where it is none, or is being
    made."""
    from web.cut import tasks

    if not shot.state["retimed"]:
        raise Problem("This shot goes as it was filmed.")
    source_of(shot)
    running = runner.latest(shot, KIND)
    if running and running.under_way:
        raise Problem("It is being made already.")
    return runner.start(shot, KIND, tasks.retime_anew)


def latest(show: Show) -> Job | None:
    """The newest job of a show that makes such a shot."""
    row = Job.objects.filter(shot__show=show, kind=KIND, parent=None).select_related("shot").first()
    return runner.latest(row.shot, KIND) if row else None


def _found(show: Show, clip_id: str) -> tuple[Shot, Clip]:
    shots = actions.shots_of(show)
    cut = actions.cut_of(show, shots)
    clip = cut.clips[cut.index(clip_id)]
    shot = next(one for one in shots.values() if one.code == clip.shot)
    _require(shot, clip)
    return shot, clip


def _require(shot: Shot, clip: Clip) -> None:
    if not clip.speeds:
        raise Problem("That clip goes as it was filmed: give it another speed first.", "speed")
    if not shot.state["film"]:
        raise Problem("A photograph has no speed.", "speed")
    if clip.first < 0:
        raise Problem(
            f"{shot.code} has frames below zero: shift it first, as files can’t be called so."
        )
    if clip.length > MOST_FRAMES:
        raise Problem(f"A shot of more than {MOST_FRAMES:,} frames isn’t made.", "speed")


def make(shot: Shot, clip_id: str, progress: Callable[[float], None]) -> Shot:
    """Make the shot of a clip, and put it into the cut in the clip's place. Raises Problem."""
    found, clip = _found(shot.show, clip_id)
    if found.pk != shot.pk:
        raise Problem("That clip shows another shot now.")
    film = _written(shot, clip, progress)
    state = _state(shot, clip, film)
    label = f"{shot.code}, revision {shot.head.number}, {in_words(clip)}"
    with transaction.atomic():
        made = Shot.objects.create(
            show=shot.show, code=free_code(shot.show, f"{shot.code[:36]}-R"), **shot.written
        )
        made = begin(made, label, state)
        _put_in_place(shot.show, clip, made)
    return made


def _put_in_place(show: Show, clip: Clip, made: Shot) -> None:
    """The new shot where the clip was; nowhere, if that was changed meanwhile."""
    shots = actions.shots_of(show)
    cut = actions.cut_of(show, shots)
    if clip not in cut.clips:
        return
    whole = actions.whole_clip(made, clip.id)
    kept = replace(
        clip,
        shot=made.code,
        speeds=(),
        between="repeat",
        camera="",
        **{name: getattr(whole, name) for name in ("first", "last", "least", "most")},
    )
    clips = tuple(kept if one.id == clip.id else one for one in cut.clips)
    head = actions.head_of(show)
    label = f"{made.code} in the place of {clip.shot}"
    actions.save(show, replace(cut, clips=clips), label, head.number if head else 0)


def make_anew(shot: Shot, progress: Callable[[float], None]) -> Shot:
    """Make it again from the shot that it was made from, as that is now. Raises Problem where it is
    gone."""
    source, clip = source_of(shot)
    film = _written(source, clip, progress)
    made = _state(source, clip, film)

    def change(state):
        if not state["retimed"]:
            raise Problem("This shot is at its own speed now.")
        film_replaced(state)
        for key in MADE:
            state[key] = made[key]

    return edit(shot, f"Made anew from {source.code}, revision {source.head.number}", change)


def source_of(shot: Shot) -> tuple[Shot, Clip]:
    """The shot that one was made from, and the clip of it. Raises Problem where it is gone."""
    told = shot.state["retimed"]
    source = Shot.objects.with_head().kept().filter(pk=told["shot"], show=shot.show).first()
    reach = None if source is None else actions.reach_of(source)
    if source is None or reach is None:
        raise Problem("The shot that this one was made from is gone.")
    shift, (least, most) = source.state["shift"], reach
    speeds = tuple((frame + shift, speed) for frame, speed in told["speeds"])
    first, last = max(told["first"] + shift, least), min(told["last"] + shift, most)
    return source, Clip("k1", source.code, first, last, least, most, speeds, told["between"])


def told(shot: Shot) -> tuple[list[Remark], Job | None]:
    """What the Plate step says of a shot that was made from another one."""
    kept = shot.state["retimed"]
    if not kept:
        return [], None
    job = runner.latest(shot, KIND)
    try:
        source, clip = source_of(shot)
    except Problem as problem:
        return [Remark("At another speed", problem.sentence, "note")], job
    says = (
        f"{source.code} {in_words(clip)}; between two frames is shown {BETWEEN[clip.between]}: "
        f"{clip.last - clip.first + 1} frames over {clip.length}."
    )
    if clip.between != "repeat":
        slow = _times([by for _, by in slowed(clip)])
        says += f" Its shutter is open {slow} as long as that of {source.code}, as its blur shows."
    out = [Remark("At another speed", says, "note")]
    if clip.between == "repeat":
        out.append(Remark("Its camera goes in steps", STEPS, "doubt"))
    if shot.state["serving"] is None and placed_path(source.state) is not None:
        out.append(Remark("Its camera isn’t carried over", NO_MOVE, "doubt"))
    if source.head.number != kept["revision"] and _followed(source) != kept["of"]:
        anew = (
            ()
            if job and job.under_way
            else (("Make it anew", {"action": shot.url("cut-retime-anew")}),)
        )
        says = f"Its camera, pictures or set are others since revision {kept['revision']}."
        out.append(Remark(f"{source.code} has changed", says, "doubt", anew))
    return out, job


def _times(slow: list[float]) -> str:
    low, high = (format_number(by, 2) for by in (min(slow), max(slow)))
    return f"{low} times" if low == high else f"{low} to {high} times"


def _followed(shot: Shot) -> str:
    """Tells whether what a retimed shot is made from has changed."""
    digests = shot.state.digests()
    told = [digests.get(key, "") for key in FOLLOWED]
    path = placed_path(shot.state)
    if path is not None:
        told += [path.rotations.tobytes().hex(), path.positions.tobytes().hex()]
        told.append(path.focal_mm.tobytes().hex())
    return hashlib.sha256("\n".join(told).encode()).hexdigest()


# Pictures
# --------------------------------------------------------------------------------------------------


def _written(shot: Shot, clip: Clip, progress: Callable[[float], None]) -> Film:
    """The film of the clip's pictures, at full size."""
    film = require_film(shot)
    at, first = moments(clip), clip.first
    state = shot.state
    brighter = require_plate(shot).depth in ("half", "float")  # than white can be
    kind = "exr-half" if brighter else "png-16"
    numbers = [number_of(state, int(frame)) for frame in np.unique(np.floor(at))]
    told: list[object] = [film.digest, str(state["way_in"]), transfer_of(state), clip.between, kind]
    told += [at.tolist(), numbers]
    digest = hashlib.sha256(str(told).encode()).hexdigest()
    files = {first + k: f"pictures/{first + k}{KINDS[kind][0]}" for k in range(clip.length)}
    with incoming(film_actions.home()) as folder:
        (folder / "pictures").mkdir()
        for k, moment in enumerate(at):
            progress(k / clip.length)
            (folder / files[first + k]).write_bytes(encoded(_picture(shot, clip, moment), kind))
        height, width = linear_frame(shot, number_of(state, int(at[0]))).shape[:2]
        name = f"{Path(film.name.split('#')[0].rstrip('._-')).stem}-retimed.####{KINDS[kind][0]}"
        lossy = Filmed.read(film.folder).lossy
        filmed = Filmed(name, width, height, tuple(files), files, was_lossy=lossy)
        made = film_actions.kept(folder, digest, filmed, [f"Of {film.name}, {in_words(clip)}."])
    for part in film_actions.parts_of(made):
        film_actions.make_part(made, part, lambda done: None)
    film_actions.gather(made)
    return made


def _picture(shot: Shot, clip: Clip, moment: float) -> np.ndarray:
    """(H, W, 3) linear light of the shot at a moment."""
    whole = int(moment)
    first = linear_frame(shot, number_of(shot.state, whole))
    if moment - whole < 1e-6:
        return first
    second = linear_frame(shot, number_of(shot.state, whole + 1))
    return between(first, second, moment - whole, clip.between)


# What follows
# --------------------------------------------------------------------------------------------------


def _state(shot: Shot, clip: Clip, film: Film) -> State:
    """The state of the new shot: as the other one is, at its own speed."""
    state, first, shift = shot.state.copy(), clip.first, shot.state["shift"]
    offset = shot.state["film"]["offset"]
    plate = film_actions.picture_of(film, film.first)
    state["plate"], state["way_in"], state["range"], state["shift"] = as_part(plate), {}, None, 0
    state["marks"], state["aside"], state["facts"], state["drafts"] = [], {}, [], {}
    # The pictures that are written say nothing of how they were taken.
    known = metadata_of(shot.state, plate_of(shot))
    state["plate_facts"] = {key: known[key] for key in TOLD if key in known}
    film_replaced(state)
    state["film"] = film_actions.as_film(film, film.first)
    state["stand_ins"] = items_retimed(
        shot.state["stand_ins"],
        lambda numbers, value: keys_at(
            clip, [number + offset for number in numbers], lambda at: value(at - offset), first
        ),
    )
    for key, shown_by, value in (("focus", shift, between_keys), ("stereo", offset, keyed)):
        if keys := shot.state[key].get("keys"):
            state[key] = shot.state[key] | {"keys": _keys(clip, keys, shown_by, value)}
    if shot.state["gate"]:
        state["gate"] = _gate(shot.state["gate"], clip, offset)
    state["shutter"] = _shutter(shot, clip)
    _carry_camera(shot, clip, state)
    state["retimed"] = {
        "shot": shot.pk,
        "revision": shot.head.number,
        "of": _followed(shot),
        "first": clip.first - shift,
        "last": clip.last - shift,
        "speeds": [[frame - shift, speed] for frame, speed in clip.speeds],
        "between": clip.between,
    }
    return state


def _keys(clip: Clip, keys: list, shown_by: int, value: Callable) -> list:
    """Keys of plain numbers on the new frames; `shown_by`: by how much the shot's frames are more
    than theirs."""
    keys = sorted(keys)
    frames = [key[0] + shown_by for key in keys]

    def at_speed(at: float) -> list[float]:
        return np.atleast_1d(value(keys, at - shown_by)).tolist()

    return keys_at(clip, frames, at_speed, clip.first)


def _gate(gate: dict, clip: Clip, offset: int) -> dict:
    """The gate chain, with what it has by picture number on the new ones."""

    def at_speed(step: dict) -> dict:
        rows = step.get("values")
        if not rows:
            return step
        table = np.array(sorted(rows), float)
        at = moments(clip) - offset
        columns = [np.interp(at, table[:, 0], column) for column in table[:, 1:].T]
        rows = np.column_stack([clip.first + np.arange(clip.length), *columns])
        return step | {"values": [[int(row[0]), *row[1:]] for row in rows.tolist()]}

    return gate | {"steps": [at_speed(step) for step in gate.get("steps", [])]}


def _shutter(shot: Shot, clip: Clip) -> dict:
    """The shutter at the new speed; of a shot that is at another speed itself, at both. A held
    frame shows the blur that it has."""
    own = {key: value for key, value in shot.state["shutter"].items() if key not in TIMED}
    at, holds = moments(clip), clip.between == "repeat"
    by = {0: 1.0} if holds else dict(slowed(clip))
    if "slow" in shot.state["shutter"]:
        by = {k: by.get(k, by[0]) * slowed_by(shot, round(at[k])) for k in range(clip.length)}
    own["slow"] = [[clip.first + frame, times] for frame, times in by.items()]
    if holds:
        held = (at - shot.state["shift"]).astype(int).tolist()
        own["held"] = {"first": clip.first, "at": held}
    return own


def let_go(state: MutableMapping) -> None:
    """Forget that it was made from another shot: its pictures are others now."""
    state["retimed"] = None
    state["shutter"] = {key: value for key, value in state["shutter"].items() if key not in TIMED}


def _carry_camera(shot: Shot, clip: Clip, state: State) -> None:
    """The path at the new speed, as the move that is the new shot's camera; without one nothing."""
    state["moves"], state["alignments"], state["move_evidence"] = [], {}, None
    state["serving"] = None
    path = placed_path(shot.state)
    if path is None or path.lens.projection.name != "rectilinear":
        return
    frames = clip.first + np.arange(clip.length)
    move = Move.of(path_at(path, moments(clip), frames))
    item = {
        "id": "m1",
        "name": f"{shot.code} {in_words(clip)}",
        "stands": None,
        "file": None,
        "file_name": "",
        "settings": Settings().to_json(),
        "recipe": None,
        "says": says_of_own(clip.length, None, (f"taken from {shot.code} {in_words(clip)}",)),
        "baked": {"blob": store.put_arrays(**move.to_arrays())},
        "shift": 0,
    }
    state["moves"], state["serving"] = [item], "m1"
