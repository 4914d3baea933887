"""The fit as JSON (match-document.md): every number with its ±, what is determined, what is missing, what contradicts."""

from dataclasses import replace

import numpy as np

from aperture.camera import Camera, angles_from_rotation
from aperture.lens.distortion import NAMES as COEFFICIENTS
from aperture.match import diagnose
from aperture.match.document import AXES
from aperture.match.least_squares import Optimum, Spread, fix_gauge, minimise
from aperture.match.system import System, exponential

FIT_FORMAT = "accurate-aperture/fit"
SETTLES = {
    "focal": "edges of two axes that visibly converge in the picture, or the lens's focal length",
    "direction": "two or more edges of a second axis",
    "position": "an origin: one spot whose place in the world is known",
    "scale": "one known length, or the camera's height",
    "principal_point": "edges of all three axes, or the principal point set to the centre",
    "distortion": "bows near the picture's border, or the coefficient set to zero",
}


def refusal(problem: str, of: str = "") -> dict:
    """A fit that could not be made, with the sentence that says why and the mark or fact it is about."""
    out = {"format": FIT_FORMAT, "version": 1, "ok": False, "problem": problem}
    return out | {"of": [of]} if of else out


def undetermined(system: System, problem: str, focal: bool, direction: bool) -> dict:
    """A refusal that also says which quantities are open."""
    known = {"focal": focal, "direction": direction}
    determined = {name: ("given" if name == "focal" and 0 not in system.free_lens else "solved") if known.get(name) else "no"
                  for name in ("focal", "direction", "position", "scale")}
    missing = [{"quantity": name, "would_settle": SETTLES[name]} for name, ok in known.items() if not ok]
    return refusal(problem) | {"determined": determined, "missing": missing}


def write(system: System, optimum: Optimum, spread: Spread, explain: bool = True) -> tuple[dict, Camera]:
    """The fit's document and its camera, for an optimum whose direction and focal length are known."""
    evidence, at = system.evidence, system.at
    state, spread, scale = _fixed_scale(system, optimum, spread)
    identity = np.eye(system.size)
    position_rows = identity[at["position"]]
    position_known = [system.has_position and spread.determined(row) for row in position_rows] if system.has_position else [False] * 3
    pose = np.eye(4)
    pose[:3, :3], pose[:3, 3] = state.rotation, state.position
    camera = Camera(system.grid, state.lens, pose)
    gate = evidence.gate_mm is not None
    lens_sd = np.zeros(8)
    lens_known = np.ones(8, bool)
    for row, column in zip(identity[at["lens"]], system.free_lens):
        lens_sd[column], lens_known[column] = spread.plus_minus(row)[0], spread.determined(row)
    angle_sd = spread.plus_minus(_angle_rows(system, state))
    view_sd = spread.plus_minus(_view_rows(system, camera))
    centre_sd = lens_sd[1:3] / np.array(system.grid.mm_per_px)
    fx, fy = camera.focal_px
    pan, tilt, roll = np.degrees(camera.angles)
    view = camera.view
    position = [_number(v) if ok else None for v, ok in zip(state.position, position_known)]
    matrix = [[_number(v) for v in row] for row in pose]
    for row in range(3):
        if not position_known[row]:
            matrix[row][3] = None
    determined = {
        "focal": "solved" if 0 in system.free_lens else "given",
        "principal_point": ("solved" if lens_known[1:3].all() else "no") if evidence.principal_point is None else "given",
        "distortion": ("solved" if lens_known[3:].all() else "no") if evidence.free_coefficients else "given",
        "direction": "solved",
        "position": "solved" if all(position_known) and scale == "solved" else "no",
        "scale": scale,
    }
    missing = [{"quantity": name, "would_settle": SETTLES[name]} for name, answer in determined.items() if answer == "no"]
    if scale == "no" and all(position_known):
        first = system.spots[system.placed[0]].name
        for item in missing:
            if item["quantity"] == "position":
                item["would_settle"] = SETTLES["scale"]
                item["says"] = f"The position is in units of the distance from the camera to “{first}”."
    leavings = diagnose.leave_out(system, optimum, spread)
    document = {
        "format": FIT_FORMAT, "version": 1, "ok": True,
        "camera": {
            "focal_px": [_number(fx), _number(fy)], "focal_mm": _number(state.lens.focal_mm) if gate else None,
            "field_of_view_deg": dict(zip(("horizontal", "vertical", "diagonal"), map(_number, np.degrees([view.horizontal, view.vertical, view.diagonal])))),
            "principal_point_px": [_number(v) for v in camera.principal_point_px],
            "distortion": dict(zip(COEFFICIENTS, map(_number, state.lens.coefficients))),
            "world_from_camera": matrix, "position_m": position,
            "pan_deg": _number(pan), "tilt_deg": _number(tilt), "roll_deg": _number(roll),
        },
        "plus_minus": {
            "focal_mm": _number(state.lens.focal_mm * lens_sd[0]) if gate else None, "focal_px": [_number(f * lens_sd[0]) for f in (fx, fy)],
            **dict(zip(("horizontal_deg", "vertical_deg", "diagonal_deg"), map(_number, np.degrees(view_sd)))),
            "principal_point_px": [_number(v) for v in centre_sd],
            "position_m": [_number(v) if ok else None for v, ok in zip(spread.plus_minus(position_rows), position_known)]
            if system.has_position else [None] * 3,
            **dict(zip(("pan_deg", "tilt_deg", "roll_deg"), map(_number, np.degrees(angle_sd)))),
            "distortion": {COEFFICIENTS[index]: _number(lens_sd[3 + index]) for index in evidence.free_coefficients},
        },
        "determined": determined, "missing": missing,
        "residuals": _residuals(system, optimum, leavings),
        "conflicts": [_conflict(system, optimum, members, sigmas, gate, explain)
                      for members, sigmas in diagnose.conflicts(leavings, optimum, spread)],
        "spots": _spots(system, state, spread),
    }
    return document, camera


def _number(value) -> float | None:
    value = float(value)
    return value + 0.0 if np.isfinite(value) else None


def _fixed_scale(system, optimum, spread):
    """Where the world's size is open, the state and spread in units of the distance to the first placed spot."""
    state = optimum.state
    if not system.has_position or not system.placed:
        return state, spread, "no" if not system.evidence.coordinates else "solved"
    points = system.points(state)
    origin = points[system.placed[0]]
    growth = np.zeros(system.size)
    growth[system.at["position"]] = state.position - origin
    values = np.zeros(system.value_count)
    for index, axis in zip(*np.nonzero(system.variable >= 0)):
        values[system.variable[index, axis]] = points[index, axis] - origin[axis]
    growth[system.at["values"]] = values
    effect = np.linalg.norm(optimum.jacobian @ growth)
    strength = np.linalg.norm(np.abs(optimum.jacobian) @ np.abs(growth))
    if effect > 1e-7 * strength:
        return state, spread, "solved"
    distance = np.linalg.norm(state.position - origin)
    factor = 1 / distance
    grown = origin + (points - origin) * factor
    new_values = state.values.copy()
    for index, axis in zip(*np.nonzero(system.variable >= 0)):
        new_values[system.variable[index, axis]] = grown[index, axis]
    resized = type(state)(state.rotation, origin + (state.position - origin) * factor, state.lens, state.angles, state.bow_normals, new_values)
    # Covariance in the new unit, with the distance to the first spot held at 1.
    unit = np.ones(system.size)
    unit[system.at["position"]] = unit[system.at["values"]] = factor
    gauge = np.zeros(system.size)
    gauge[system.at["position"]] = (state.position - origin) * factor
    for axis in range(3):
        if system.variable[system.placed[0], axis] >= 0:
            gauge[system.at["values"].start + system.variable[system.placed[0], axis]] -= gauge[system.at["position"]][axis]
    fixed = fix_gauge(Spread(spread.covariance * unit * unit[:, None], spread.null * unit[:, None]), growth * unit, gauge)
    return resized, fixed, "no"


def _angle_rows(system, state) -> np.ndarray:
    """(3, size) derivative of pan, tilt and roll by the parameters."""
    rows, h = np.zeros((3, system.size)), 1e-6
    for axis in range(3):
        turn = np.eye(3)[axis] * h
        difference = np.subtract(angles_from_rotation(state.rotation @ exponential(turn)), angles_from_rotation(state.rotation @ exponential(-turn)))
        rows[:, axis] = ((difference + np.pi) % (2 * np.pi) - np.pi) / (2 * h)
    return rows


def _view_rows(system, camera) -> np.ndarray:
    """(3, size) derivative of the angles of view by the parameters."""
    rows, h = np.zeros((3, system.size)), 1e-6
    for offset, column in enumerate(system.free_lens):
        sides = []
        for sign in (1, -1):
            values = camera.lens.parameters
            values[column] += sign * h
            view = Camera(camera.grid, camera.lens.with_parameters(values), camera.world_from_camera).view
            sides.append(np.array([view.horizontal, view.vertical, view.diagonal]))
        rows[:, system.at["lens"].start + offset] = np.nan_to_num((sides[0] - sides[1]) / (2 * h))
    return rows


def _residuals(system, optimum, leavings) -> dict:
    evidence, marks, facts, squares, count = system.evidence, {}, {}, 0.0, 0
    sigma_px = {mark.id: mark.sigma_px for mark in evidence.edges + evidence.bows + evidence.spots}
    sigmas = {}
    for item in leavings:
        block, r = item.block, optimum.r[item.block.rows]
        if block.kind in ("edge", "bow", "spot"):
            px = r * sigma_px[block.id]
            off = float(np.linalg.norm(px)) if block.kind == "spot" else float(np.sqrt(np.mean(px**2)))
            marks[block.id], sigmas[block.id] = off, item.sigmas
            squares, count = squares + float(px @ px), count + (1 if block.kind == "spot" else len(px))
    values = {fact.id: fact for fact in evidence.lengths}
    for item in leavings:
        if item.block.kind == "length":
            weighted = float(optimum.r[item.block.rows][0])
            facts[item.block.id] = {"metres": weighted * values[item.block.id].plus_minus, "sigmas": weighted}
    own = {}
    for item in (item for item in leavings if item.block.kind == "coordinate"):
        own.setdefault(item.block.id, []).append(item)
    for id_, items in own.items():
        weighted = [float(optimum.r[item.block.rows][0]) for item in items]
        worst = weighted[int(np.argmax(np.abs(weighted)))]
        plus_minus = next(fact.plus_minus for fact in evidence.coordinates if fact.id == id_)
        facts[id_] = {"metres": worst * plus_minus, "sigmas": worst}
    return {"rms_px": float(np.sqrt(squares / max(count, 1))), "marks": marks, "facts": facts, "mark_sigmas": sigmas}


def _spots(system, state, spread) -> dict:
    points, out, identity = system.points(state), {}, np.eye(system.size)
    for index, spot in enumerate(system.spots):
        free = [axis for axis in range(3) if system.variable[index, axis] >= 0]
        if not free:
            continue
        rows = np.zeros((3, system.size))
        for axis in free:
            rows[axis] = identity[system.at["values"].start + system.variable[index, axis]]
        if spread.determined(rows[free]):
            out[spot.id] = {"world_m": [_number(v) for v in points[index]], "plus_minus_m": [_number(v) for v in spread.plus_minus(rows)]}
    return out


# Conflicts, in sentences ----------------------------------------------------------------------------------------------


def _conflict(system, optimum, members, sigmas, gate, explain) -> dict:
    evidence = system.evidence
    members = sorted(members, key=lambda item: item.block.kind in ("edge", "bow", "spot"))  # facts first: they can be looked up
    told = [text for item in (members[:3] if explain else ()) if (text := _without(system, optimum, item, gate))]
    names = [f"“{evidence.names.get(item.block.id, item.block.id)}”" if item.block.kind != "lens" else "the given focal length" for item in members]
    if len(names) > 4:
        names = [*names[:3], f"{len(names) - 3} others"]
    if len(members) == 1:
        opening, remedy = f"{names[0]} disagrees with the rest by {sigmas:.1f} σ", "Check it, leave it out or widen its ±."
    else:
        opening, remedy = f"{', '.join(names[:-1])} and {names[-1]} disagree with each other by {sigmas:.1f} σ", "Turn one off or widen its ±."
    opening = opening[0].upper() + opening[1:]
    return {"of": [item.block.id for item in members], "sigmas": sigmas,
            "says": f"{opening}{': ' if told else ''}{'; '.join(told)}. {remedy}"}


def _without(system, optimum, item, gate) -> str:
    """What the other evidence says about one piece of it, from a fit in which that piece weighs next to nothing."""
    evidence, block = system.evidence, item.block
    lighter = minimise(System(_lightened(evidence, block)), optimum.state, most=40)
    if lighter is None or not lighter.converged:
        return ""
    state, points = lighter.state, system.points(lighter.state)
    name = evidence.names.get(block.id, block.id)
    if block.kind == "length":
        fact = next(fact for fact in evidence.lengths if fact.id == block.id)
        apart = points[system.spot_index[fact.end]] - points[system.spot_index[fact.start]]
        implied = abs(apart[fact.axis]) if fact.axis is not None else np.linalg.norm(apart)
        return f"by the rest “{name}” would be {implied:.3f} m long, not {fact.metres:.3f}"
    if block.kind == "coordinate":
        fact = next(fact for fact in evidence.coordinates if fact.id == block.id and fact.axis == block.axis)
        what = "the camera's height" if block.axis == 1 else f"the camera's place {AXES[block.axis]}"
        return f"without “{name}” {what} would be {state.position[fact.axis]:.3f} m, not {fact.metres:.3f}"
    if block.kind == "lens":
        return f"without it the focal length would be {state.lens.focal_mm:.2f} mm, not {evidence.focal[0]:.2f}"
    r = lighter.r[block.rows] * LIGHTER
    sigma = next(mark.sigma_px for mark in evidence.edges + evidence.bows + evidence.spots if mark.id == block.id)
    off = (np.linalg.norm(r) if block.kind == "spot" else np.abs(r).max()) * sigma
    text = f"“{name}” lies {off:.1f} px from where the rest puts it"
    ratio = state.lens.focal_mm / optimum.state.lens.focal_mm
    if 0 in system.free_lens and 0.2 < ratio < 5 and abs(ratio - 1) > 0.001:
        text += f", and without it the focal length is {state.lens.focal_mm:.2f} {'mm' if gate else 'px'}"
    return text


# By how much the ± of a piece of evidence is widened to see what the rest says of it.
LIGHTER = 1e4


def _lightened(evidence, block):
    if block.kind == "lens":
        return replace(evidence, focal=(evidence.focal[0], evidence.focal[1] * LIGHTER))
    field = {"edge": "edges", "bow": "bows", "spot": "spots", "length": "lengths", "coordinate": "coordinates"}[block.kind]
    weight = "sigma_px" if block.kind in ("edge", "bow", "spot") else "plus_minus"
    return replace(evidence, **{field: tuple(
        replace(item, **{weight: getattr(item, weight) * LIGHTER}) if item.id == block.id and getattr(item, "axis", None) == block.axis else item
        for item in getattr(evidence, field))})
