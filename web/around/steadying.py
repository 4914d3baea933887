"""A film of all around held steady along its path: the step of the gate chain that turns each
frame, and how it looks."""

import io
import math
from dataclasses import replace

import numpy as np
from PIL import Image

from aperture.around.steady import WAYS, headings, off_level, turns, values
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.formats.straight import Straightener
from aperture.gates.checks import new_id
from aperture.gates.steps import PER_FRAME
from aperture.plates.colour import encode_srgb
from web.around.cutting import panorama_of
from web.elements.actions import GRID, Order
from web.gates.actions import set_document
from web.gates.gate import chain_on
from web.match.path_fits import PLACED, camera_of_state, determined, placed_path
from web.plates.frames import frame_at, number_of
from web.plates.full_frames import linear_frame
from web.shows.history import edit
from web.shows.models import Shot

USUAL_SMOOTH = 12.0
MISSING = {"scale": "its size", "position": "its place", "direction": "its level"}
ACROSS = 640  # px of the picture that is shown


def step_of(state) -> dict | None:
    """The step that turns the panorama; None where there is none."""
    steps = (state["gate"] or {}).get("steps", [])
    return next((step for step in steps if step["do"] == "reorient"), None)


def before_plate(state) -> bool:
    """Whether the plate's pictures themselves are turned so."""
    gate, step = state["gate"], step_of(state)
    return step is not None and gate["steps"].index(step) < gate.get("plate_at", 0)


def path_of(shot: Shot):
    """The solved path of a film of all around. Raises Problem where there is none."""
    panorama_of(shot)
    path = placed_path(shot.state) if shot.state["film"] else None
    if path is not None:
        return path
    known = determined(shot.state)
    missing = [MISSING[name] for name in PLACED if known and known[name] != "solved"]
    if not missing:
        raise Problem(
            "A film of all around is held steady along its path: solve the path on the Match step"
            " first."
        )
    raise Problem(
        f"The path is solved, but {' and '.join(missing)} isn’t set yet. On the Match step, Tracks,"
        " “What isn’t set yet” says what would set it."
    )


def hold_steady(
    shot: Shot, way: str, heading_deg: float, smooth: float, base: int | None = None
) -> Shot:
    """Turn each frame so that its horizon is level and it faces a way, one of WAYS. Raises
    Problem."""
    path = path_of(shot)
    if before_plate(shot.state):
        raise Problem(
            "The gate chain says that the plate’s pictures are stabilised already. If they aren’t,"
            " say so below first."
        )
    turned = turns(path, headings(path, way, math.radians(heading_deg), smooth))
    rows = values([number_of(shot.state, int(frame)) for frame in path.frames], turned)
    old, gate = step_of(shot.state), shot.state["gate"]
    steps = [step for step in gate.get("steps", []) if step is not old]
    at = gate.get("plate_at", len(steps))
    step = {
        "id": old["id"] if old else new_id(steps),
        "do": "reorient",
        **dict(zip(PER_FRAME["reorient"], rows[0][1:])),
        "values": rows,
        "way": way,
        "heading_deg": heading_deg,
        "smooth": smooth,
        "of": shot.state["path"]["blob"],
    }
    made = gate | {"steps": [*steps[:at], step, *steps[at:]], "plate_at": at}
    return set_document(shot, made, f"Stabilised: faces {WAYS[way]}", base)


def put_where(shot: Shot, *, plate: bool, base: int | None = None) -> Shot:
    """Say whether the plate's pictures are turned so already (`plate`), or are as they were
    shot."""
    step, gate = step_of(shot.state), shot.state["gate"]
    if step is None:
        raise Problem("The gate chain turns nothing.")
    steps = [one for one in gate["steps"] if one is not step]
    at = gate.get("plate_at", len(gate["steps"])) - before_plate(shot.state)
    where = at if plate else min(at, len(steps))
    made = gate | {"steps": [*steps[:where], step, *steps[where:]], "plate_at": at + plate}
    says = "The plate’s pictures are stabilised" if plate else "The plate’s pictures are as shot"
    return edit(shot, says, lambda state: state.update(gate=made), base)


def told(shot: Shot) -> dict | None:
    """What the page says about the step; None where there is none."""
    step = step_of(shot.state)
    if step is None:
        return None
    rows = np.array(step.get("values") or [[0, *(step[key] for key in PER_FRAME["reorient"])]])
    angles = np.abs((rows[:, 1:] + 180) % 360 - 180).max(axis=1)
    worst = int(np.argmax(angles))
    frames = f"on frame {frame_at(shot.state, int(rows[worst, 0]))}"
    path = placed_path(shot.state)
    return {
        "way": WAYS.get(step.get("way", ""), "as typed"),
        "says": (
            f"Frames turn by up to {angles.max():.1f}° ({frames}), {np.median(angles):.1f}° in the"
            " middle."
        ),
        "level": (
            ""
            if path is None or before_plate(shot.state)
            else f"The horizon was off level by up to {off_level(path).max():.1f}°."
        ),
        "old": (
            bool(step.get("of"))
            and bool(shot.state["path"])
            and step["of"] != shot.state["path"]["blob"]
        ),
        "before_plate": before_plate(shot.state),
        "id": step["id"],
        "grid": GRID + step["id"],
    }


def picture(shot: Shot, frame: int) -> bytes:
    """A JPEG of a frame as it is turned. Raises Problem where the step comes before the plate, or
    nothing is solved there."""
    step = step_of(shot.state)
    if step is None or before_plate(shot.state):
        raise Problem("There is no picture to turn.")
    camera = camera_of_state(shot.state, frame)
    if camera is None:
        raise Problem(f"Frame {frame} has no camera: the path wasn't solved there.")
    target = Order(size=GRID + step["id"]).camera(camera, chain_on(shot, frame))
    small = Straightener.between(camera, _across(target))
    linear = small.straightened(linear_frame(shot, number_of(shot.state, frame)))
    display = (encode_srgb(np.clip(linear, 0, 1)) * 255 + 0.5).astype(np.uint8)
    out = io.BytesIO()
    Image.fromarray(display).save(out, "JPEG", quality=85)
    return out.getvalue()


def _across(camera: Camera) -> Camera:
    """The same camera with the picture that is shown."""
    grid = camera.grid
    return replace(
        camera, grid=grid.resize(ACROSS, max(1, round(grid.height * ACROSS / grid.width)))
    )
