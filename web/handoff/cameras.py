"""The cameras that are handed off."""

from aperture.camera import Camera
from aperture.errors import Problem
from web.match.fits import fit_of
from web.match.path_fits import camera_of_state, placed_path, served
from web.plates.frames import span_of
from web.plates.models import frame_of
from web.shows.models import Shot
from web.shows.steps import Standing


def require_camera(shot: Shot) -> Camera:
    """The camera to hand off. Raises Problem where there is none, or where its size is unknown."""
    camera, fit, move = camera_of_state(shot.state), fit_of(shot.state), served(shot.state)
    if camera is None and move is not None:
        raise Problem(
            f"The shot’s camera is the move “{move.name}”, which has none on this frame, or "
            "can’t be put on "
            "the plate: see the page of moves."
        )
    if camera is None:
        raise Problem(
            "There is no camera to hand off yet: match the plate and place the origin first."
        )
    if placed_path(shot.state) is None and fit["determined"]["scale"] == "no":
        raise Problem(
            "The camera's size is unknown: give one length or the camera's height on the Match "
            "step, then hand it off."
        )
    if shot.state["gate"] is None:
        raise Problem(
            "The gate is unknown, and a camera file needs it in millimetres: choose it on the "
            "Gate step."
        )
    return camera


def over_frames(shot: Shot, camera: Camera) -> dict[int, Camera] | None:
    """The camera of each frame of a film, those of the path that have one; the one camera for all
    without a path; None of a photograph.
    """
    if not shot.state["film"]:
        return None
    first, last = span_of(shot.state)
    frames = range(first, last + 1)
    if placed_path(shot.state) is None:
        return dict.fromkeys(frames, camera)
    found = {frame: camera_of_state(shot.state, frame) for frame in frames}
    return {frame: one for frame, one in found.items() if one is not None}


def cameras_by_frame(shot: Shot) -> dict[int, Camera]:
    """The cameras that are handed off, by frame. Raises Problem."""
    camera = require_camera(shot)
    return over_frames(shot, camera) or {frame_of(shot): camera}


def standing(shot: Shot) -> Standing:
    """Ready once there is a camera in real size."""
    try:
        require_camera(shot)
    except Problem:
        return Standing("nothing", "no camera yet")
    return Standing("settled", "ready to write")
