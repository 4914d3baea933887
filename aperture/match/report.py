"""The fit as JSON (match-document.md): every number with its ±, what is determined, what is missing, what contradicts."""

import math
from dataclasses import replace

import numpy as np

from aperture.camera import Camera
from aperture.lens.distortion import NAMES as COEFFICIENTS
from aperture.match import diagnose
from aperture.match.facts import angle_slopes, view_slopes
from aperture.match.least_squares import Optimum, Spread, fix_gauge, minimise
from aperture.match.system import System

FIT_FORMAT = "accurate-aperture/fit"
# Of so many conflicts, the strongest, the report says what the rest of the evidence has to say; with more there is nothing to trust in anyway.
EXPLAINED = 5
UNIT_NAMES = {"m": "metres", "rad": "degrees", "mm": "mm"}
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


def lens_alone(system: System, optimum: Optimum, spread: Spread) -> dict | None:
    """What bows tell of the lens where nothing tells of the direction; None where they tell nothing."""
    rows = np.eye(system.size)[system.at["lens"]]
    if not system.evidence.bows or not len(rows) or not all(spread.determined(row) for row in rows):
        return None
    state, sd = optimum.state, np.zeros(8)
    sd[system.free_lens] = spread.plus_minus(rows)
    camera = Camera(system.grid, state.lens, np.eye(4))
    return {"focal_px": [_number(v) for v in camera.focal_px], "principal_point_px": [_number(v) for v in camera.principal_point_px],
            "distortion": dict(zip(COEFFICIENTS, map(_number, state.lens.coefficients))),
            "plus_minus": {"principal_point_px": [_number(v) for v in sd[1:3] / np.array(system.grid.mm_per_px)],
                           "distortion": {COEFFICIENTS[index]: _number(sd[3 + index]) for index in system.evidence.free_coefficients}},
            "residuals": _residuals(system, optimum, diagnose.leave_out(system, optimum, spread))}


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
        "conflicts": [_conflict(system, optimum, members, sigmas, gate, explain and number < EXPLAINED)
                      for number, (members, sigmas) in enumerate(diagnose.conflicts(leavings, optimum, spread))],
        "spots": _spots(system, state, spread),
    }
    if optimum.rival is not None:
        document["rival"] = _rival(system, state, optimum.rival, gate)
    if explain:
        document["evidence"] = _weights(system, optimum, leavings, spread, placed=scale == "solved" and all(position_known))
    return document, camera


def _rival(system, ours, state, gate) -> dict:
    """Another camera that explains the evidence about as well, the spot that stands elsewhere for it, and what would tell the two apart."""
    names = " and ".join(f"“{length.name}”" for length in system.evidence.lengths if length.axis is None)
    focal = f", {state.lens.focal_mm:.2f} {'mm' if gate else 'px'}" if 0 in system.free_lens else ""
    points = system.points(state)
    moved = int(np.linalg.norm(points - system.points(ours), axis=1).argmax())

    def place(point):
        return ", ".join(f"{value:.2f}" for value in point)
    return {"position_m": [_number(v) for v in state.position], "focal_mm": _number(state.lens.focal_mm) if gate else None,
            "says": f"Another camera, at {place(state.position)} m{focal}, with “{system.spots[moved].name}” at {place(points[moved])} m, explains this about "
                    f"as well: {names} can be met in two ways. Another known coordinate of its spots, or another length, would tell them apart."}


def _number(value) -> float | None:
    value = float(value)
    return value + 0.0 if math.isfinite(value) else None


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
    rows = np.zeros((3, system.size))
    rows[:, system.at["rotation"]] = angle_slopes(state.rotation)
    return rows


def _view_rows(system, camera) -> np.ndarray:
    """(3, size) derivative of the angles of view by the parameters."""
    rows = np.zeros((3, system.size))
    rows[:, system.at["lens"]] = view_slopes(camera.grid, camera.lens, system.free_lens)
    return rows


def _residuals(system, optimum, leavings) -> dict:
    marks, facts, squares, count, sigmas = {}, {}, 0.0, 0, {}
    r = optimum.r.tolist()  # a few numbers at a time: plain floats are quicker than arrays
    for leaving in leavings:
        block, item = leaving.block, leaving.block.item
        if block.is_fact:
            weighted = r[block.rows[0]]
            if item.id not in facts or abs(weighted) > abs(facts[item.id]["sigmas"]):  # of a position, the coordinate that is furthest off
                facts[item.id] = {UNIT_NAMES[item.unit]: weighted * item.plus_minus * (np.degrees(1) if item.unit == "rad" else 1), "sigmas": weighted}
            continue
        spot = hasattr(item, "world")
        rows = block.rows[:2] if spot else block.rows
        square = sum(r[row] ** 2 for row in rows) * item.sigma_px**2
        marks[item.id], sigmas[item.id] = math.sqrt(square if spot else square / len(rows)), leaving.sigmas
        squares, count = squares + square, count + (1 if spot else len(rows))
    facts.pop("focal length", None)
    return {"rms_px": float(np.sqrt(squares / max(count, 1))), "marks": marks, "facts": facts, "mark_sigmas": sigmas}


def _weights(system, optimum, leavings, spread, placed) -> dict:
    """For each mark and fact: how strongly it disagrees, how much the camera leans on it, and what the camera would be without it, to first order."""
    out = {}
    for leaving, lean in zip(leavings, diagnose.leverages(system, optimum, leavings, spread)):
        own = {"sigmas": leaving.sigmas, "leverage": _number(lean), "redundancy": _number(leaving.redundancy)}
        if lean < 1 - 1e-9:
            step = leaving.step(optimum, spread)
            if 0 in system.free_lens:
                change = np.clip(step[system.at["lens"].start], -3, 3)
                own["focal_mm" if system.evidence.gate_mm else "focal_px"] = _number(optimum.state.lens.focal_mm * np.exp(change))
            if placed:
                own["position_m"] = [_number(v) for v in optimum.state.position + step[system.at["position"]]]
        if leaving.block.id not in out or lean > out[leaving.block.id]["leverage"]:
            out[leaving.block.id] = own
    return out


def _spots(system, state, spread) -> dict:
    points, out, start = system.points(state), {}, system.at["values"].start
    deviation = np.sqrt(np.diag(spread.covariance).clip(0))
    # An unknown is open where it takes part in an undetermined direction.
    open_ = np.abs(spread.null).max(axis=1, initial=0.0) > 1e-5
    free, columns = system.variable >= 0, start + np.maximum(system.variable, 0)
    told = free.any(axis=1) & ~(open_[columns] & free).any(axis=1) if system.value_count else np.zeros(len(system.spots), bool)
    for index in np.flatnonzero(told):
        out[system.spots[index].id] = {"world_m": [_number(v) for v in points[index].tolist()],
                                       "plus_minus_m": np.where(free[index], deviation[columns[index]], 0.0).tolist()}
    return out


# Conflicts, in sentences ----------------------------------------------------------------------------------------------


def _conflict(system, optimum, members, sigmas, gate, explain) -> dict:
    members = sorted(members, key=lambda item: not item.block.is_fact)  # facts first: they can be looked up
    facts = [item for item in members if item.block.is_fact]
    # Where facts contradict each other, the marks that they hang on would settle it as well, but are hardly meant.
    named = facts if len(facts) > 1 else members
    told = [text for item in (named[:3] if explain else ()) if (text := _without(system, optimum, item.block, gate))]
    names = [item.block.item.name if item.block.id == "focal length" else f"“{item.block.item.name}”" for item in named]
    if len(names) > 4:
        names = [*names[:3], f"{len(names) - 3} others"]
    if len(named) == 1:
        opening, remedy = f"{names[0]} disagrees with the rest by {sigmas:.1f} σ", "Check it, leave it out or widen its ±."
    else:
        opening, remedy = f"{', '.join(names[:-1])} and {names[-1]} disagree with each other by {sigmas:.1f} σ", "Turn one off or widen its ±."
    if hang := len(members) - len(named):
        remedy = remedy[:-1] + f", or check the {'mark' if hang == 1 else f'{hang} marks'} they hang on."
    opening = opening[0].upper() + opening[1:]
    return {"of": [item.block.id for item in members], "sigmas": sigmas,
            "says": f"{opening}{': ' if told else ''}{'; '.join(told)}. {remedy}"}


def _without(system, optimum, block, gate) -> str:
    """What the other evidence says about one piece of it, from a fit in which that piece weighs next to nothing."""
    item = block.item
    lighter = minimise(System(_lightened(system.evidence, item)), optimum.state, most=40)
    if lighter is None or not lighter.converged:
        return ""
    state = lighter.state
    if block.is_fact:
        return item.says(item.value(system, state, system.points(state)))
    spot = hasattr(item, "world")
    r = lighter.r[block.rows[:2] if spot else block.rows] * LIGHTER * item.sigma_px
    off = np.linalg.norm(r) if spot else np.abs(r).max()
    text = f"“{item.name}” lies {off:.1f} px from where the rest puts it"
    ratio = state.lens.focal_mm / optimum.state.lens.focal_mm
    if 0 in system.free_lens and 0.2 < ratio < 5 and abs(ratio - 1) > 0.001:
        text += f", and without it the focal length is {state.lens.focal_mm:.2f} {'mm' if gate else 'px'}"
    return text


# By how much the ± of a piece of evidence is widened to see what the rest says of it.
LIGHTER = 1e4


def _lightened(evidence, item):
    weight = "sigma_px" if hasattr(item, "sigma_px") else "plus_minus"
    lighter = replace(item, **{weight: getattr(item, weight) * LIGHTER})
    return replace(evidence, **{field: tuple(lighter if other is item else other for other in getattr(evidence, field))
                                for field in ("edges", "bows", "spots", "facts")})
