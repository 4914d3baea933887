"""The verbs of the Gate step. Each is one revision of the shot."""

import copy
import math

from aperture.errors import Problem
from aperture.gates.catalogue import with_lens, with_mode
from aperture.gates.chain import build
from aperture.gates.checks import new_id, without
from aperture.gates.steps import KINDS
from aperture.lens.projections import Pieces, named
from web.gates.gate import lens_of
from web.shows.history import edit
from web.shows.models import Shot


def _size(plate):
    return (plate["width"], plate["height"]) if plate else None


def _settled(gate: dict, plate: dict | None) -> tuple[dict, list[str]]:
    """The gate without the steps that can't be made any more, and their names."""
    dropped = []
    while True:
        try:
            build(gate, _size(plate), strict=True)
            return gate, dropped
        except Problem as problem:
            step = next(
                (step for step in gate.get("steps", []) if step["id"] == problem.place), None
            )
            if step is None:
                raise
            dropped.append(KINDS.get(step["do"], step["do"]))
            gate = without(gate, step["id"])


def _words(before: dict | None, after: dict, plate: dict | None, dropped=()) -> str:
    """What a change of sensor did, in a few words."""

    def size(gate):
        chain = build(gate, _size(plate))
        return "{:.2f} × {:.2f} mm".format(*chain.plate_grid.gate_mm)

    says = (
        f"gate {size(before)} → {size(after)}"
        if before and size(before) != size(after)
        else f"gate {size(after)}"
    )
    for key, name in (("squeeze", "squeeze"), ("rate", "rate")):
        if before and before.get(key) != after.get(key) and (before.get(key) or after.get(key)):
            says += f", {name} {before.get(key) or 'none'} → {after.get(key) or 'none'}"
    return says + "".join(f", {name.lower()} let go" for name in dropped)


NEAR_ASPECT = 0.01  # a panorama's picture may be so much wider or higher than its layout says
RADIAN_MM = 1e-6  # the ± of a panorama's focal length, one radian by definition


def set_gate(
    shot: Shot,
    width_mm: float,
    height_mm: float,
    squeeze: float,
    origin: str,
    name: str = "",
    base: int | None = None,
    photosites: list[int] | None = None,
    rate: str = "",
) -> Shot:
    """A sensor by its size. `origin`: catalogue, typed, file or assumed, as the report shows it.
    Steps that can still be made stay."""

    def change(state):
        old = state["gate"] or {}
        gate = {
            "width_mm": width_mm,
            "height_mm": height_mm,
            "squeeze": squeeze,
            "origin": origin,
            "name": name,
        }
        steps, at = old.get("steps", []), old.get("plate_at", len(old.get("steps", [])))
        kept = [step for step in steps if step.get("from") != "mode"]
        if kept:
            gate |= {
                "steps": kept,
                "plate_at": sum(step.get("from") != "mode" for step in steps[:at]),
            }
        gate |= {key: old[key] for key in ("render",) if key in old}
        gate |= ({"photosites": photosites} if photosites else {}) | (
            {"rate": rate} if rate else {}
        )
        state["gate"], dropped = _settled(gate, state["plate"])
        return _words(old or None, state["gate"], state["plate"], dropped)

    label = change(shot.state.copy())
    return edit(shot, label[0].upper() + label[1:], change, base)


def take_around(
    shot: Shot,
    base: int | None = None,
    layout: str = "equirectangular",
    across_deg: float = 360.0,
) -> Shot:
    """The plate is a panorama: its gate is an angle, a millimetre a radian; of one in pieces, half
    a face is a millimetre wide.

    across_deg: how much of a whole turn an equirectangular or cylindrical one shows; its height
    follows, as its pixels are square, and the horizon lies in its middle. Raises Problem where
    there is no such layout, or the picture has another shape.
    """
    projection, plate = named(layout), shot.state["plate"]
    if isinstance(projection, Pieces):
        width, height = projection.size
        if plate and abs(plate["width"] / plate["height"] / (width / height) - 1) > NEAR_ASPECT:
            raise Problem(
                f"Such a picture is {width / height:.3g} times as wide as high, {layout}: this one "
                f"has {plate['width']} × {plate['height']} px."
            )
        says = layout
    elif projection.wraps:
        width, height, says = _of_a_turn(plate, layout, across_deg)
    else:
        raise Problem("A panorama is equirectangular, cylindrical, or laid out in pieces.")

    def change(state):
        state["gate"] = {
            "width_mm": round(width, 9),
            "height_mm": round(height, 9),
            "squeeze": 1.0,
            "origin": "typed",
            "name": "All around" if across_deg == 360 else "Panorama",
        }
        rest = {k: v for k, v in state["lens"].items() if k not in ("distortion", "projection")}
        exact = {"value": 1.0, "plus_minus": RADIAN_MM}
        state["lens"] = rest | {"projection": layout, "focal_mm": exact}

    return edit(shot, f"Taken as a panorama, {says}", change, base)


def _of_a_turn(plate: dict | None, layout: str, across_deg: float) -> tuple[float, float, str]:
    """Width and height of a panorama's gate in radians, and what they are in words. Raises
    Problem."""
    if not 1 <= across_deg <= 360:
        raise Problem("A panorama shows from 1° to 360° across.")
    width = math.radians(across_deg)
    aspect = plate["width"] / plate["height"] if plate else 2.0
    if layout == "equirectangular" and abs(across_deg - 360) < 1e-9:
        if abs(aspect / 2 - 1) > NEAR_ASPECT:
            raise Problem(
                "An equirectangular picture of 360° × 180° is twice as wide as high. Say how many "
                "degrees this one shows across."
            )
        return math.tau, math.pi, "360° × 180°"
    height = width / aspect
    if layout == "equirectangular" and height > math.pi + 1e-9:
        raise Problem(
            f"{across_deg:g}° across would make it {math.degrees(height):.0f}° high, and from pole"
            " to pole there are 180°."
        )
    down = height if layout == "equirectangular" else 2 * math.atan(height / 2)
    return width, height, f"{across_deg:g}° × {math.degrees(down):.1f}°, {layout}"


def set_document(shot: Shot, gate: dict, label: str, base: int | None = None) -> Shot:
    """The whole gate document. Raises Problem where a step before the plate can't be made."""
    build(gate, _size(shot.state["plate"]), strict=True)

    def change(state):
        state["gate"] = gate

    return edit(shot, label, change, base)


def _gate(shot: Shot) -> dict:
    if not shot.state["gate"]:
        raise Problem("Choose the sensor first: the chain begins with it.")
    return copy.deepcopy({"steps": [], "plate_at": 0} | shot.state["gate"])


def put_step(
    shot: Shot, step: dict, after: int | None, before_plate: bool, base: int | None = None
) -> Shot:
    """Change the step of `step["id"]`, or put a new one in at index `after` (None: at the end).
    Raises Problem where it can't be made."""
    gate = _gate(shot)
    index = next((i for i, old in enumerate(gate["steps"]) if old["id"] == step.get("id")), None)
    if index is None:
        step = {"id": new_id(gate["steps"]), **step}
        gate["steps"].insert(len(gate["steps"]) if after is None else after, step)
        gate["plate_at"] += before_plate
        label = f"Added {KINDS[step['do']].lower()}"
    else:
        gate["steps"][index] = step
        label = f"Changed {KINDS[step['do']].lower()}"
    found = lens_of(shot.state)
    chain = build(gate, _size(shot.state["plate"]), found.lens if found else None, strict=True)
    made = next(stage for stage in chain.stages if stage.key == step["id"])
    return set_document(shot, gate, f"{label}: {made.says}", base)


def remove_step(shot: Shot, step_id: str, base: int | None = None) -> Shot:
    """Take a step out."""
    gate = _gate(shot)
    step = _find(gate, step_id)
    gate, dropped = _settled(without(gate, step_id), shot.state["plate"])
    return set_document(
        shot,
        gate,
        f"Removed {KINDS[step['do']].lower()}"
        + "".join(f", {name.lower()} let go" for name in dropped),
        base,
    )


def _find(gate, step_id):
    step = next((step for step in gate["steps"] if step["id"] == step_id), None)
    if step is None:
        raise Problem("That step is gone already.")
    return step


def move_step(shot: Shot, step_id: str, by: int, base: int | None = None) -> Shot:
    """Move a step up (−1) or down (+1) by one; past the plate's row it changes sides. Raises
    Problem where it can't be made there."""
    gate = _gate(shot)
    steps, at = gate["steps"], gate["plate_at"]
    step = _find(gate, step_id)
    index = steps.index(step)
    if by > 0 and index == at - 1:
        gate["plate_at"] -= 1
    elif by < 0 and index == at:
        gate["plate_at"] += 1
    elif 0 <= index + by < len(steps):
        steps[index], steps[index + by] = steps[index + by], steps[index]
    else:
        raise Problem("The step is at the end of the chain already.")
    return set_document(
        shot, gate, f"Moved {KINDS[step['do']].lower()} {'down' if by > 0 else 'up'}", base
    )


def take_mode(shot: Shot, body: dict, mode: dict, base: int | None = None) -> Shot:
    """A catalogued body's sensor mode becomes the shot's sensor."""
    old = shot.state["gate"]
    gate, dropped = _settled(with_mode(old, body, mode), shot.state["plate"])
    label = f"{gate['name']}: {_words(old, gate, shot.state['plate'], dropped)}"

    def change(state):
        state["gate"] = gate

    return edit(shot, label, change, base)


def take_lens(shot: Shot, lens: dict, base: int | None = None) -> Shot:
    """A catalogued lens becomes the shot's lens."""
    gate, lens_state, says = with_lens(shot.state["gate"], shot.state["lens"], lens)

    def change(state):
        state["gate"], state["lens"] = gate, lens_state

    return edit(shot, f"{lens['name']}" + (f": {says}" if says else ""), change, base)


def take_profile(
    shot: Shot, name: str, projection: str, coefficients: dict, base: int | None = None
) -> Shot:
    """A lens of the open database: its name, projection, and its distortion as a start."""

    def change(state):
        lens = {
            key: value
            for key, value in state["lens"].items()
            if key not in ("projection", "distortion")
        }
        state["lens"] = (
            lens
            | {"name": name}
            | ({"projection": projection} if projection != "rectilinear" else {})
            | ({"distortion": coefficients} if coefficients else {})
        )

    return edit(shot, f"{name}: {'distortion' if coefficients else projection}", change, base)


def set_render(shot: Shot, size: list[int] | None, base: int | None = None) -> Shot:
    """The size of the renders that are to be checked; None forgets it."""
    gate = _gate(shot)
    gate = {key: value for key, value in gate.items() if key != "render"} | (
        {"render": size} if size else {}
    )
    return set_document(
        shot, gate, f"Render size {size[0]} × {size[1]}" if size else "No render size", base
    )


def set_guides(shot: Shot, guides: dict, base: int | None = None) -> Shot:
    """The guides over the plate. They are not part of the camera: a locked shot takes them too."""

    def change(state):
        state["guides"] = guides

    return edit(shot, "Guides", change, base)


def take_claim(shot: Shot, projection: str, focal_mm: float, base: int | None = None) -> Shot:
    """A reading of a claim: the lens's projection and focal length, ± 2 %, as quotes are
    rounded."""
    if not shot.state["gate"]:
        raise Problem(
            "A focal length in millimetres means nothing without the gate: choose the sensor first."
        )

    def change(state):
        gone = (
            ("projection", "name")
            if projection == "rectilinear"
            else ("projection", "name", "distortion")
        )
        lens = {key: value for key, value in state["lens"].items() if key not in gone}
        state["lens"] = (
            lens
            | {"focal_mm": {"value": round(focal_mm, 4), "plus_minus": round(focal_mm * 0.02, 4)}}
            | ({"projection": projection} if projection != "rectilinear" else {})
        )

    return edit(
        shot, f"{projection.capitalize()} lens of {focal_mm:.2f} mm, as quoted", change, base
    )
