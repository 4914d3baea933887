"""What a catalogue knows: camera bodies with their sensor modes, and lenses; and what choosing one
makes of a gate document.

Plain documents, as `aperture.formats.catalogue` reads and writes them (schema beside it).
"""

import copy
import math
from typing import Any

from aperture.errors import Problem
from aperture.gates.checks import new_id
from aperture.lens.distortion import NAMES

# An engraved focal length is the nearest round number: common practice, no source.
ENGRAVED_SHARE = 0.01


def whole_sensor_mm(body: dict[str, Any], mode: dict[str, Any]) -> tuple[float, float]:
    """(width, height) in mm of all of a body's photosites, at the pitch of one of its modes: its
    published size is then met exactly."""
    _, _, width, height = mode["window"]
    return mode["width_mm"] * body["photosites"][0] / width, mode["height_mm"] * body["photosites"][
        1
    ] / height


def with_mode(
    gate: dict[str, Any] | None, body: dict[str, Any], mode: dict[str, Any]
) -> dict[str, Any]:
    """The gate document with a body's sensor mode in place of the sensor it had; steps that didn't
    come from a mode stay.

    The window and the recorded size become steps marked `"from": "mode"`. Squeeze and rate stay
    where the mode allows them.
    """
    gate = copy.deepcopy(gate or {})
    steps, at = gate.get("steps", []), gate.get("plate_at", len(gate.get("steps", [])))
    kept_before = [step for step in steps[:at] if step.get("from") != "mode"]
    kept_after = [step for step in steps[at:] if step.get("from") != "mode"]
    own, taken = _steps_of_mode(body, mode), kept_before + kept_after
    for step in own:
        step["id"] = new_id(taken)
        taken.append(step)
    sensor = whole_sensor_mm(body, mode)
    out: dict[str, Any] = {key: gate[key] for key in ("render", "lens") if key in gate}
    out |= {
        "width_mm": round(sensor[0], 6),
        "height_mm": round(sensor[1], 6),
        "photosites": list(body["photosites"]),
        "origin": "catalogue",
        "name": f"{body['name']}, {mode['name']}",
        "body": body["name"],
        "mode": mode["name"],
        "squeeze": _allowed(gate.get("squeeze", 1.0), mode.get("squeezes") or [1.0]),
        "steps": own + kept_before + kept_after,
        "plate_at": len(own) + len(kept_before),
    }
    rate = _allowed(gate.get("rate"), mode.get("rates") or [])
    return out | ({"rate": rate} if rate else {})


def _allowed(value: Any, allowed: list[Any]) -> Any:
    """The value, or the first that is allowed where it isn't among them; where nothing is said, any
    is."""
    return value if not allowed or value in allowed else allowed[0]


def _steps_of_mode(body: dict[str, Any], mode: dict[str, Any]) -> list[dict[str, Any]]:
    """The window that a mode reads, and the size that it records, as steps of the chain, as far as
    they change anything."""
    own, (left, top, width, height) = [], mode["window"]
    if [left, top, width, height] != [0, 0, *body["photosites"]]:
        window = {"left": left, "top": top, "width": width, "height": height}
        own.append({"do": "window", **window, "from": "mode"})
    recorded = mode.get("recorded") or [width, height]
    if list(recorded) != [width, height]:
        own.append({"do": "resize", "width": recorded[0], "height": recorded[1], "from": "mode"})
    return own


def distortion_at(lens: dict[str, Any], focal_mm: float | None) -> dict[str, float]:
    """The lens's k1 … p2 at a focal length, between the catalogued ones along the logarithm of the
    focal length; empty where it has none."""
    known = sorted(lens.get("distortion") or [], key=lambda row: row["focal_mm"])
    if not known:
        return {}
    if focal_mm is None or len(known) == 1 or focal_mm <= known[0]["focal_mm"]:
        chosen = known[0]
        return {name: chosen.get(name, 0.0) for name in NAMES}
    for low, high in zip(known, known[1:]):
        if focal_mm <= high["focal_mm"]:
            share = math.log(focal_mm / low["focal_mm"]) / math.log(
                high["focal_mm"] / low["focal_mm"]
            )
            return {
                name: low.get(name, 0.0) * (1 - share) + high.get(name, 0.0) * share
                for name in NAMES
            }
    return {name: known[-1].get(name, 0.0) for name in NAMES}


def with_lens(
    gate: dict[str, Any] | None, lens_state: dict[str, Any], lens: dict[str, Any]
) -> tuple[dict[str, Any] | None, dict[str, Any], str]:
    """(gate, lens state, what changed in words) after choosing a catalogued lens.

    A prime's engraved focal length becomes evidence within ±1 %; a zoom keeps a focal length inside
    its range, and lets go of one outside.
    """
    low, high = lens["focal_mm"]
    gate = copy.deepcopy(gate)
    state = {
        key: value
        for key, value in copy.deepcopy(lens_state).items()
        if key not in ("projection", "distortion", "name")
    }
    focal, says = state.get("focal_mm"), []
    if low == high:
        state["focal_mm"] = {"value": low, "plus_minus": round(low * ENGRAVED_SHARE, 4)}
        says.append(f"focal length {low:g} ± {low * ENGRAVED_SHARE:g} mm")
    elif focal and not low <= focal["value"] <= high:
        state["focal_mm"] = None
        says.append(f"focal length {focal['value']:g} mm let go, it is outside {low:g}–{high:g} mm")
    state["name"] = lens["name"]
    if lens["projection"] != "rectilinear":
        state["projection"] = lens["projection"]
        says.append(lens["projection"])
    known = distortion_at(lens, state["focal_mm"]["value"] if state.get("focal_mm") else None)
    if any(known.values()):
        state["distortion"] = {name: value for name, value in known.items() if value}
        says.append("distortion")
    if gate is not None and gate.get("squeeze", 1.0) != lens["squeeze"]:
        says.append(f"squeeze {gate.get('squeeze', 1.0):g} → {lens['squeeze']:g}")
        gate["squeeze"] = lens["squeeze"]
    if state.get("focal_mm") and gate is None:
        raise Problem(
            "A focal length in millimetres means nothing without the gate: choose the sensor first."
        )
    return gate, state, ", ".join(says)
