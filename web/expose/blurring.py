"""The blur of the shot's camera: the shape of the opening, the shutter, and how far things go while
it is open."""

import io
from dataclasses import replace

import numpy as np
from PIL import Image, UnidentifiedImageError

from aperture.camera import Camera, CameraPath
from aperture.errors import Problem
from aperture.light.motion import Points, Shutter, Streaks, streaks
from aperture.light.pupil import Pupil
from aperture.render.exposed import Blur
from aperture.scene.held import Steps
from aperture.scene.stand_in import StandIn
from web.blobs import store
from web.expose.exposure import brighter, of_camera
from web.expose.focusing import lens_at
from web.match.path_fits import camera_of_state, path_fit, placed_path
from web.plates.models import frame_of
from web.shows.history import edit
from web.shows.models import Shot
from web.shows.state import State
from web.stage.stand_ins import stand_ins_of

STILL = "Neither the camera nor a stand-in moves, as far as is known: nothing is smeared."
MOST_PICTURE = 512  # px of a side that is kept of a picture of an opening
MOST_BYTES = 20_000_000


def pupil_of(shot: Shot) -> Pupil:
    """The shape of the opening: as typed; as an anamorphic lens stretches it where that isn't."""
    own = dict(shot.state["pupil"])
    gate = shot.state["gate"] or {}
    if "squeeze" not in own:
        own["squeeze"] = float(gate.get("squeeze", 1.0))
    picture = None
    if "picture" in own:
        picture = store.get_arrays(own["picture"]["blob"])["light"]
    return Pupil.from_json(own, picture)


def set_pupil(shot: Shot, pupil: Pupil, base: int | None) -> Shot:
    """Keep the shape of the opening; its picture stays as it is."""

    def change(state):
        kept = {
            key: state["pupil"][key] for key in ("picture", "picture_name") if key in state["pupil"]
        }
        state["pupil"] = pupil.to_json() | kept

    return edit(shot, "Shape of the blur", change, base)


def set_picture(shot: Shot, data: bytes | None, name: str, base: int | None) -> Shot:
    """Take a picture of an opening as its shape, or forget it. Raises Problem where it can't be
    one."""
    kept: dict = {}
    if data is not None:
        light = _light_of(data)
        Pupil(picture=light)
        kept = {"picture": {"blob": store.put_arrays(light=light)}, "picture_name": name[:200]}

    def change(state):
        rest = {k: v for k, v in state["pupil"].items() if k not in ("picture", "picture_name")}
        state["pupil"] = rest | kept

    label = "Picture of the opening" if data is not None else "Opening without its picture"
    return edit(shot, label, change, base)


def _light_of(data: bytes) -> np.ndarray:
    if len(data) > MOST_BYTES:
        raise Problem("A picture of an opening of more than 20 MB isn’t taken.")
    try:
        with Image.open(io.BytesIO(data)) as picture:
            if picture.width * picture.height > 100_000_000:
                raise Problem("That picture of an opening is too large.")
            grey = picture.convert("L")
    except (UnidentifiedImageError, OSError, ValueError, Image.DecompressionBombError):
        raise Problem("That file isn’t a picture that can be read.") from None
    side = min(MOST_PICTURE, max(grey.size))
    square = Image.new("L", (max(grey.size),) * 2)
    wide, high = grey.size
    square.paste(grey, ((max(wide, high) - wide) // 2, (max(wide, high) - high) // 2))
    return np.asarray(square.resize((side, side), Image.Resampling.BOX), np.float32) / 255


def shutter_of(shot: Shot, frame: int | None = None) -> Shutter:
    """When the sensor is exposed on a frame; a readout that isn't typed is as the Match step knows
    it."""
    own, rate = shot.state["shutter"], float(shot.show.rate)
    seconds, slow = of_camera(shot)["seconds"].value, slowed_by(shot, frame)
    open_frames = min(1e3, seconds * rate * slow) if seconds else 0.0
    ms = own.get("readout_ms")
    if ms is None:
        ms = known_readout_ms(shot)
    readout = float(np.clip(ms * rate * slow / 1000, -1, 1))
    return Shutter(open_frames, own.get("phase", "centre"), readout)


def slowed_by(shot: Shot, frame: int | None = None) -> float:
    """By how much longer than it was the shutter seems to be open on a frame: 1 of a shot at its
    own speed."""
    slow = shot.state["shutter"].get("slow")
    if not slow:
        return 1.0
    frames, by = np.array(sorted(slow)).T
    at = frame_of(shot) if frame is None else frame
    return float(np.interp(at - shot.state["shift"], frames, by))


def known_readout_ms(shot: Shot) -> float:
    """What the Match step knows of the rolling shutter: typed or solved; 0 where nothing."""
    given = shot.state["readout"]
    if not given:
        return 0.0
    if given["ms"] is not None:
        return float(given["ms"])
    fit = path_fit(shot.state)
    return float((fit or {}).get("readout_ms") or 0.0)


def set_shutter(shot: Shot, phase: str, readout_ms: float | None, base: int | None) -> Shot:
    """Keep the shutter's phase and readout; a readout of None is as the Match step knows it."""
    own: dict = {
        key: shot.state["shutter"][key] for key in ("slow", "held") if key in shot.state["shutter"]
    }
    own["phase"] = phase
    if readout_ms is not None:
        own["readout_ms"] = readout_ms
        Shutter(0.0, phase, readout_ms * float(shot.show.rate) / 1000)
    return edit(shot, "Shutter", lambda state: state.update(shutter=own), base)


# What moves while a frame is exposed
# ----------------------------------------------------------------------------------


def steps_of(state: State) -> Steps | None:
    """In which steps the shot goes, where its pictures are the nearest frames of another speed;
    None of all others."""
    held = state["shutter"].get("held")
    return Steps(held["first"] + state["shift"], np.array(held["at"])) if held else None


def moment_of(shot: Shot, frame: int | None = None) -> int:
    """When a frame was exposed, by the frames of what was filmed."""
    at, steps = frame_of(shot) if frame is None else frame, steps_of(shot.state)
    return steps.moment(at) if steps else at


def exposed_path(state: State) -> CameraPath | None:
    """The path of the shot's camera by the frames of what was filmed; None without one."""
    path, steps = placed_path(state), steps_of(state)
    return steps.path(path) if steps and path is not None else path


def exposed_item(state: State, item: StandIn) -> StandIn:
    """A stand-in that goes by the frames of what was filmed; it stands where it stood."""
    steps = steps_of(state)
    return replace(item, way=steps.way(item.way)) if steps and item.way is not None else item


def exposed_items(state: State) -> dict[str, StandIn]:
    """The stand-ins by name, as they go by the frames of what was filmed."""
    return {name: exposed_item(state, item) for name, item in stand_ins_of(state).items()}


def blur_of(shot: Shot, frame: int | None = None, depth: bool = True, motion: bool = True) -> Blur:
    """The shot's lens and shutter on a frame, for a render of `exposed_item`s; without what isn't
    known or wanted."""
    at = moment_of(shot, frame)
    path = exposed_path(shot.state) if motion else None
    if path is not None and at not in path:
        path = None
    return Blur(
        lens_at(shot, frame) if depth else None,
        pupil_of(shot),
        path,
        at,
        shutter_of(shot, frame) if motion else Shutter(0.0),
        brighter(shot),
    )


def streaks_of(shot: Shot, points: Points, frame: int | None = None) -> Streaks | None:
    """How far points of `exposed_items` go while the shutter is open; None where neither the camera
    nor a stand-in moves.
    """
    at, path = moment_of(shot, frame), exposed_path(shot.state)
    camera = camera_of_state(shot.state, frame)
    moves = path is not None and len(path.frames) > 1 and at in path
    if camera is None or not (
        moves or any(item.moves for item in stand_ins_of(shot.state).values())
    ):
        return None
    used = path if moves and path is not None else CameraPath.still(camera, at)
    return streaks(used, at, points, shutter_of(shot, frame))


def small(camera: Camera, width: int) -> Camera:
    """The same camera with fewer pixels, for maps over the plate."""
    grid = camera.grid
    if grid.width <= width:
        return camera
    return replace(camera, grid=grid.resize(width, max(1, round(grid.height * width / grid.width))))
