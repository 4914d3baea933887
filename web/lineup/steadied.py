"""Whether a panorama's pictures are stabilised, as the gate chain says or against it, by what they
show."""

import numpy as np

from aperture.around.steady import seen_steady
from aperture.errors import Problem
from aperture.gates.chain import turn_between
from web.gates.gate import chain_on
from web.match.path_fits import camera_of_state, placed_path
from web.plates.frames import number_of
from web.plates.full_frames import frame_pixels

PICTURES = 7  # of the film, evenly over its path


def contradiction(shot) -> str:
    """A sentence where the plate's pictures contradict what the chain says of their stabilising;
    else empty."""
    step = next(
        (s for s in (shot.state["gate"] or {}).get("steps", []) if s["do"] == "reorient"), None
    )
    path = placed_path(shot.state)
    if step is None or path is None or not shot.state["film"]:
        return ""
    some = np.unique(np.linspace(0, len(path.frames) - 1, PICTURES).astype(int))
    pictures, cameras, steady = [], [], []
    of_plate = False
    for frame in path.frames[some].tolist():
        chain, camera = chain_on(shot, frame), camera_of_state(shot.state, frame)
        if chain is None or camera is None:
            continue
        at = next(i for i, stage in enumerate(chain.stages) if stage.key == step["id"])
        of_plate = at <= chain.plate
        turn = turn_between(chain.stages[at], chain.stages[at - 1])
        try:
            pixels = frame_pixels(shot, number_of(shot.state, frame))
        except Problem:  # a picture that can't be read tells nothing
            continue
        pictures.append(np.asarray(pixels, np.float32).mean(axis=2))
        cameras.append(camera)
        steady.append(turn.T if of_plate else turn)
    seen = seen_steady(pictures, cameras, steady) if len(pictures) > 1 else None
    if not seen:
        return ""
    if of_plate:
        return (
            "The gate chain says that the plate is stabilised, but its pictures move as they were"
            " shot: say so on the page of the panorama, or bring the stabilised pictures."
        )
    return (
        "The gate chain says that the plate isn’t stabilised, but its pictures hold still as if it"
        " were: say so on the page of the panorama, then follow and solve them anew."
    )
