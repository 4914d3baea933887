"""Bring a render back, check it, put it right and measure it."""

import shutil
from dataclasses import dataclass
from typing import Any

import numpy as np
from django.conf import settings
from django.db import transaction

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.fence import Fence
from aperture.gates.steps import PER_FRAME, at_frame
from aperture.render import correction_words, corrections, offsets, returned
from aperture.render.alpha import alpha_report
from web.blobs.folders import incoming, settle
from web.elements.actions import source_digest
from web.gates.gate import chain_on
from web.lineup import steadied
from web.lineup.models import Returned
from web.match.path_fits import camera_of_state, placed_path
from web.plates.frames import number_of, shifted_since
from web.plates.models import frame_of
from web.stage.stand_ins import extra, named, shown, with_way

KIND = "return"
ARROWS = 160  # at most so many are drawn


def expected_alpha(shot) -> np.ndarray:
    """(H, W) the alpha that a render of the shot should have: of its newest render where that is
    current, or made now. Raises Problem."""
    from PIL import Image

    from aperture.render.passes import coverage

    digest = source_digest(shot.state)
    newest = next((one for one in shot.renders.filter(digest=digest)[:20] if one.whole), None)
    if newest is not None:
        with Image.open(newest.of_frame(None) / "alpha.png") as picture:
            return np.asarray(picture, np.float32) / 255
    return coverage(comparable(shot), _scene(shot))


def _scene(shot, frame: int | None = None):
    """The stand-ins with their looks, on a frame; on the one that is worked on where none is
    told."""
    from aperture.render.tracer import Look

    now = frame_of(shot) if frame is None else frame
    return [
        (with_way(shot.state, item).at(now), Look(name, part_of_plate=extra(item, "part_of_plate")))
        for name, item in named(shot.state).items()
    ]


def comparable(shot):
    """The camera, where there is something to compare a render with. Raises Problem."""
    camera = camera_of_state(shot.state)
    if camera is None:
        raise Problem(
            "There is no camera to compare with yet: match the plate and place the origin first."
        )
    if all(extra(item, "part_of_plate") for item in shown(shot.state)):
        raise Problem(
            "There is nothing to compare a render with: place the stand-ins that it shows on the"
            " Set step."
        )
    return camera


# In
# --------------------------------------------------------------------------------------------------


def take_in(shot, folder: str, name: str, progress=lambda done: None) -> Returned:
    """A render from the files that wait in a folder. Raises Problem where nothing can be made of
    it; the folder is gone either way."""
    place = settings.DATA / "returned" / folder
    try:
        files = {None if path.stem == "still" else int(path.stem): path for path in place.iterdir()}
        row = Returned(
            shot=shot,
            name=name,
            frames=sorted(frame for frame in files if frame is not None),
            shift=shot.state["shift"],
        )
        return _put_right(shot, row, files, None, progress)
    finally:
        shutil.rmtree(place, ignore_errors=True)


def put_right_again(shot, number: int, taken: dict | None, progress=lambda done: None) -> Returned:
    """Put one right in another way, from the files as they came."""
    row = Returned.objects.get(pk=number, shot=shot)
    files = {frame: next(row.of_frame(frame).glob("original.*")) for frame in row.frames or [None]}
    return _put_right(shot, row, files, taken, progress)


def taken_from(kept: dict | None) -> returned.Taken | None:
    """How a render is to be taken, from {"grid", "ways", "encoding", "multiplied", "alpha"}; None:
    all as is recognised."""
    if kept is None:
        return None
    return returned.Taken(
        corrections.Geometry(kept["grid"], {key: int(way) for key, way in kept["ways"].items()}),
        kept["encoding"],
        kept["multiplied"],
        kept["alpha"],
    )


@dataclass(frozen=True)
class _Wanted:
    """What a render should be on a frame: its camera, the alpha (H, W) that is expected, what the
    plate got, and the grids that a render can be for."""

    camera: Camera
    alpha: np.ndarray
    known: Any
    targets: Any

    @classmethod
    def of(cls, camera, alpha: np.ndarray, chain) -> "_Wanted":
        """With what the chain says."""
        known = corrections.corrections_of(chain, camera)
        return cls(camera, alpha, known, corrections.targets_of(chain, *alpha.shape[::-1]))


def _require_size(frame, size, first) -> None:
    """Raise Problem where a frame isn't as large as the first one; `first` is None for that."""
    if first not in (None, size):
        raise Problem(
            f"Frame {frame} has {size[1]} × {size[0]} px, the first"
            f" {first[1]} × {first[0]}: they belong to different renders."
        )


def _wanted_on(shot, now, path, wanted) -> "_Wanted":
    """What is wanted of the picture of a frame: it has its own camera, and what the plate's
    pictures got is another thing on each."""
    from aperture.render.passes import coverage

    camera, alpha = wanted.camera, wanted.alpha
    if path is not None and now in path:
        camera = path.at(now)
        alpha = coverage(camera, _scene(shot, now))
    return _Wanted.of(camera, alpha, chain_on(shot, now))


def _put_right(shot, row, files, kept, progress) -> Returned:
    """Put the files right, measure them, and keep them in the row's folder."""
    wanted = _Wanted.of(
        camera_of_state(shot.state), expected_alpha(shot), chain_on(shot, frame_of(shot))
    )
    path = placed_path(shot.state)
    taken, measured, cameras, size, hard = taken_from(kept), {}, {}, None, False
    with incoming(settings.DATA / "returned") as folder, Fence() as fence:
        for number, frame in enumerate(_telling_first(shot, row, files)):
            progress(number / len(files))
            came = fence.run(returned.read, files[frame])
            hard = hard or not came.has_shape
            _require_size(frame, came.rgba.shape[:2], size)
            if frame is not None and shot.state["film"]:
                wanted = _wanted_on(shot, frame + shifted_since(shot.state, row), path, wanted)
            found, findings, done = returned.put_right(
                came, wanted.alpha, wanted.known, wanted.targets, taken
            )
            if size is None:  # the first one says how all of them are taken
                size, taken, its_findings, its_alpha = (
                    came.rgba.shape[:2],
                    done,
                    findings,
                    alpha_report(found.rgba[..., 3]),
                )
            inner = folder / str(frame) if frame is not None else folder
            inner.mkdir(exist_ok=True)
            shutil.copyfile(files[frame], inner / f"original{files[frame].suffix.lower()}")
            returned.write_shown(inner, found.rgba)
            measured[frame] = offsets.measure(found.rgba[..., 3], wanted.alpha)
            cameras[frame] = wanted.camera
        row.digest, row.offsets, row.alpha_says = (
            source_digest(shot.state),
            _told(measured, cameras, _scene(shot), list(named(shot.state)), hard),
            its_alpha,
        )
        row.findings = [
            *([finding.says, finding.mended] for finding in its_findings),
            *([says, False] for says in _missing(row.frames)),
            *([says, False] for says in [steadied.contradiction(shot)] if says),
        ]
        row.taken = _choices(taken, wanted.known, wanted.targets, size, kept is not None)
        with transaction.atomic():
            row.save()
            settle(folder, row.folder)
    return row


def _telling_first(shot, row, files) -> list:
    """The frames in the order in which they are looked at: first the one on which a panorama was
    turned most, as it tells best whether the render was too.
    """
    if None in files:  # a still is of the frame that is worked on
        return [None]
    frames, turns = sorted(files), {}
    for step in (shot.state["gate"] or {}).get("steps", []):
        if step["do"] == "reorient" and step.get("values") and shot.state["film"]:
            for frame in frames:
                now = number_of(shot.state, frame + shifted_since(shot.state, row))
                [own] = at_frame([step], now)
                turns[frame] = max(abs(own[key]) for key in PER_FRAME["reorient"])
    if turns:
        frames.sort(key=lambda frame: -turns[frame])
    return frames


def _choices(taken, known, targets, size, by_hand) -> dict:
    """How a render was taken, and what could be chosen instead: grids of its size, [key, name];
    corrections, [key, name, ways, sentence]."""
    ways, target = (
        taken.geometry.ways,
        next(one for one in targets if one.key == taken.geometry.grid),
    )
    fitting = [
        one
        for one in targets
        if one.key in (taken.geometry.grid, corrections.PLATE) or (one.height, one.width) == size
    ]
    return {
        "grid": taken.geometry.grid,
        "ways": ways,
        "encoding": taken.encoding,
        "multiplied": taken.multiplied,
        "alpha": taken.alpha,
        "by_hand": by_hand,
        "grids": [[one.key, one.name] for one in fitting],
        "corrections": [
            [
                one.key,
                one.name,
                list(one.ways),
                correction_words.in_words(one, ways.get(one.key, 0), by_hand, target),
            ]
            for one in known
        ],
    }


def _missing(frames) -> list[str]:
    lost = sorted(set(range(min(frames), max(frames) + 1)) - set(frames)) if frames else []
    if not lost:
        return []
    told = ", ".join(map(str, lost[:5])) + (f" and {len(lost) - 5} more" if len(lost) > 5 else "")
    return [f"The sequence has gaps: {told} {'is' if len(lost) == 1 else 'are'} missing."]


def _told(measured, cameras, scene, names, hard: bool) -> dict:
    """The offsets of the frame that lies worst, of each stand-in of the scene there, and every
    frame's figures."""
    from aperture.render.passes import first_met

    known = {frame: found for frame, found in measured.items() if found is not None}
    if not known:
        return {}
    worst = max(known, key=lambda frame: known[frame].most)
    found, met = known[worst], first_met(cameras[worst], scene)
    column, row = np.clip(
        (found.at - 1.5 * found.normal).astype(int), 0, np.array(met.shape[::-1]) - 1
    ).T
    own = {name: np.abs(found.off[met[row, column] == index]) for index, name in enumerate(names)}
    return {
        "items": [
            [name, float(np.percentile(off, 95)), len(off)] for name, off in own.items() if len(off)
        ],
        "median": found.median,
        "most": found.most,
        "points": len(found.at),
        "says": offsets.in_words(found, hard),
        "arrows": arrows_of(found),
        "frame": worst,
        "frames": (
            [[frame, one.median, one.most] for frame, one in sorted(known.items())]
            if len(measured) > 1
            else []
        ),
    }


def arrows_of(found: offsets.Offsets) -> list:
    """Some of the offsets as [x, y, right, down] px."""
    some = np.unique(np.linspace(0, len(found.at) - 1, ARROWS).astype(int))
    return np.round(
        np.concatenate([found.at[some], found.normal[some] * found.off[some, None]], axis=1), 3
    ).tolist()
