"""The fit as JSON (match-document.md): every number with its ±, what is determined, what is
missing, what contradicts."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.lens.distortion import NAMES as COEFFICIENTS
from aperture.lens.lens import PARAMETERS
from aperture.match import checks, contradictions, diagnose, remarks
from aperture.match.facts import angle_slopes, view_slopes
from aperture.match.least_squares import Optimum, Spread, fix_gauge
from aperture.match.system import System

if TYPE_CHECKING:
    from aperture.match.diagnose import Leaving
    from aperture.match.evidence import Mistrusted
    from aperture.match.system import State

FIT_FORMAT = "accurate-aperture/fit"
# Of so many conflicts, the strongest, the report says what the rest of the evidence has to say;
# with more there is nothing to trust in anyway.
EXPLAINED = 5
UNIT_NAMES = {"m": "metres", "rad": "degrees", "mm": "mm", "px": "px", "value": "value"}
# An angle with a ± as large as this is not determined: looking straight down, pan alone is not.
LARGEST_ANGLE_DEG = 60.0
# Two cameras nearer to each other than this are told as one, metres.
SAME_PLACE_M = 0.005
SETTLES = {
    "focal": "edges of two axes that visibly converge in the picture, or the lens's focal length",
    "direction": "two or more edges of a second axis",
    "position": "an origin: one spot whose place in the world is known",
    "scale": "one known length, or the camera's height",
    "principal_point": "edges of all three axes, or the principal point set to the centre",
    "distortion": "bows near the picture's border, or the coefficient set to zero",
}


def refusal(problem: str, of: str = "") -> dict[str, Any]:
    """A fit that could not be made, with the sentence that says why and the mark or fact it is
    about."""
    out = {"format": FIT_FORMAT, "version": 1, "ok": False, "problem": problem}
    return out | {"of": [of]} if of else out


def undetermined(system: System, problem: str, focal: bool, direction: bool) -> dict[str, Any]:
    """A refusal that also says which quantities are open."""
    known = {"focal": focal, "direction": direction}
    determined = dict.fromkeys(("focal", "direction", "position", "scale"), "no")
    determined |= {name: "solved" for name, ok in known.items() if ok}
    if focal and 0 not in system.free_lens:
        determined["focal"] = "given"
    missing = [
        {"quantity": name, "would_settle": SETTLES[name]} for name, ok in known.items() if not ok
    ]
    return refusal(problem) | {"determined": determined, "missing": missing}


def lens_alone(system: System, optimum: Optimum, spread: Spread) -> dict[str, Any] | None:
    """What bows tell of the lens where nothing tells of the direction; None where they tell
    nothing."""
    rows = np.eye(system.size)[system.at["lens"]]
    if not system.evidence.bows or not len(rows) or not all(spread.determined(row) for row in rows):
        return None
    state, sd = optimum.state, np.zeros(len(PARAMETERS))
    sd[system.free_lens] = spread.plus_minus(rows)
    camera = Camera(system.grid, state.lens, np.eye(4))
    return {
        "focal_px": [_number(v) for v in camera.focal_px],
        "principal_point_px": [_number(v) for v in camera.principal_point_px],
        "distortion": dict(zip(COEFFICIENTS, map(_number, state.lens.coefficients))),
        "plus_minus": {
            "principal_point_px": [_number(v) for v in sd[1:3] / np.array(system.grid.mm_per_px)],
            "distortion": {
                COEFFICIENTS[index]: _number(sd[3 + index])
                for index in system.evidence.free_coefficients
            },
        },
        "residuals": _residuals(system, optimum, diagnose.leave_out(system, optimum, spread)),
    }


def write(
    system: System, optimum: Optimum, explain: bool = True, cut_short: bool = False
) -> tuple[dict[str, Any], Camera]:
    """The fit's document and its camera, for an optimum whose direction and focal length are known.

    `explain` False leaves out what costs another fit; `cut_short`: the search used up its effort.
    """
    state, spread, scale = _fixed_scale(system, optimum, optimum.wide_spread)
    pose = np.eye(4)
    pose[:3, :3], pose[:3, 3] = state.rotation, state.position
    camera = Camera(system.grid, state.lens, pose)
    known = _known(system, spread)
    placed = scale == "solved" and all(known.position)
    determined = {
        "focal": "solved" if 0 in system.free_lens else "given",
        "principal_point": _answer(system.evidence.principal_free, known.lens[1:3]),
        "distortion": _answer(bool(system.evidence.free_coefficients), known.lens[3:]),
        "direction": "solved",
        "position": "solved" if placed else "no",
        "scale": scale,
    }
    leavings = diagnose.leave_out(system, optimum, optimum.spread)
    conflicts = [
        contradictions.describe(system, optimum, members, sigmas, explain and number < EXPLAINED)
        for number, (members, sigmas) in enumerate(diagnose.conflicts(leavings, optimum))
    ]
    document = {
        "format": FIT_FORMAT,
        "version": 1,
        "ok": True,
        "camera": _camera_values(system, state, camera, known),
        "plus_minus": _camera_plus_minus(system, spread, state, camera, known),
        "determined": determined,
        "missing": _missing(system, determined, known),
        "residuals": _residuals(system, optimum, leavings),
        "conflicts": contradictions.with_one_height(system, conflicts),
        "spots": _spots(system, state, spread),
        "remarks": remarks.about(system, optimum, cut_short),
    }
    if optimum.variance_factor is not None:
        document["variance_factor"] = _number(optimum.variance_factor)
    document |= _left_aside(system, state)
    if optimum.rival is not None:
        gate = system.evidence.gate_mm is not None
        document["rival"] = _rival(system, state, optimum.rival, gate)
    if explain:
        document["evidence"] = _weights(system, optimum, leavings, placed)
        document |= _suggestion(system, optimum)
    return document, camera


def _suggestion(system: System, optimum: Optimum) -> dict[str, Any]:
    """A distortion coefficient that is worth freeing, where there is one."""
    found = remarks.suggest_distortion(system, optimum)
    if found is None:
        return {}
    rms = _number(found.rms_px)
    return {"suggestion": {"free": found.coefficient, "says": found.says, "rms_px": rms}}


@dataclass(frozen=True)
class _Known:
    """What the evidence determines of the position (3 coordinates) and of the lens (PARAMETERS),
    and the lens's 1σ."""

    position: list[bool]
    lens: Array
    lens_sd: Array


def _known(system: System, spread: Spread) -> _Known:
    identity = np.eye(system.size)
    position = [False] * 3
    if system.has_position:
        position = [spread.determined(row) for row in identity[system.at["position"]]]
    lens, lens_sd = np.ones(len(PARAMETERS), bool), np.zeros(len(PARAMETERS))
    for row, column in zip(identity[system.at["lens"]], system.free_lens):
        lens_sd[column], lens[column] = spread.plus_minus(row)[0], spread.determined(row)
    return _Known(position, lens, lens_sd)


def _camera_values(system: System, state: State, camera: Camera, known: _Known) -> dict[str, Any]:
    fx, fy = camera.focal_px
    pan, tilt, roll = np.degrees(camera.angles)
    view = camera.view
    matrix = [[_number(v) for v in row] for row in camera.world_from_camera]
    for row in range(3):
        if not known.position[row]:
            matrix[row][3] = None
    position = [_number(v) if ok else None for v, ok in zip(state.position, known.position)]
    return {
        "focal_px": [_number(fx), _number(fy)],
        "focal_mm": _number(state.lens.focal_mm) if system.evidence.gate_mm is not None else None,
        "field_of_view_deg": {
            "horizontal": _number(math.degrees(view.horizontal)),
            "vertical": _number(math.degrees(view.vertical)),
            "diagonal": _number(math.degrees(view.diagonal)),
        },
        "principal_point_px": [_number(v) for v in camera.principal_point_px],
        "distortion": dict(zip(COEFFICIENTS, map(_number, state.lens.coefficients))),
        "world_from_camera": matrix,
        "position_m": position,
        "pan_deg": _number(pan),
        "tilt_deg": _number(tilt),
        "roll_deg": _number(roll),
    }


def _camera_plus_minus(
    system: System, spread: Spread, state: State, camera: Camera, known: _Known
) -> dict[str, Any]:
    gate = system.evidence.gate_mm is not None
    focal_share = known.lens_sd[0]
    pan, tilt, roll = np.degrees(spread.plus_minus(_angle_rows(system, state)))
    horizontal, vertical, diagonal = np.degrees(spread.plus_minus(_view_rows(system, camera)))
    centre = known.lens_sd[1:3] / np.array(system.grid.mm_per_px)
    position: list[float | None] = [None] * 3
    if system.has_position:
        sigmas = spread.plus_minus(np.eye(system.size)[system.at["position"]])
        position = [_number(v) if ok else None for v, ok in zip(sigmas, known.position)]
    return {
        "focal_mm": _number(state.lens.focal_mm * focal_share) if gate else None,
        "focal_px": [_number(f * focal_share) for f in camera.focal_px],
        "horizontal_deg": _number(horizontal),
        "vertical_deg": _number(vertical),
        "diagonal_deg": _number(diagonal),
        "principal_point_px": [_number(v) for v in centre],
        "position_m": position,
        "pan_deg": _angle(pan),
        "tilt_deg": _angle(tilt),
        "roll_deg": _angle(roll),
        "distortion": {
            COEFFICIENTS[index]: _number(known.lens_sd[3 + index])
            for index in system.evidence.free_coefficients
        },
    }


def _missing(system: System, determined: dict[str, str], known: _Known) -> list[dict[str, str]]:
    """What isn't determined, and what would settle it."""
    missing = {
        name: {"quantity": name, "would_settle": SETTLES[name]}
        for name, answer in determined.items()
        if answer == "no"
    }
    if determined["scale"] == "no" and all(known.position) and "position" in missing:
        first = system.spots[system.placed[0]].name
        says = f"The position is in units of the distance from the camera to “{first}”."
        missing["position"] |= {"would_settle": SETTLES["scale"], "says": says}
    return list(missing.values())


def _answer(free: bool, known: Array) -> str:
    if not free:
        return "given"
    return "solved" if np.all(known) else "no"


def _angle(plus_minus_deg: float) -> float | None:
    """The ± of an angle in degrees; None where it says that the angle is not determined."""
    return _number(plus_minus_deg) if plus_minus_deg < LARGEST_ANGLE_DEG else None


def _left_aside(system: System, state: State) -> dict[str, Any]:
    """What isn't part of the fit and is compared with it: check marks, and mistrusted ones."""
    evidence = system.evidence
    out: dict[str, Any] = {}
    if evidence.checks:
        found = checks.errors(evidence, state, evidence.checks)
        square = sum(check.px**2 * check.count for check in found)
        count = sum(check.count for check in found)
        out["checks"] = {
            "rms_px": _number(math.sqrt(square / count)) if count else None,
            "marks": {check.id: _number(check.px) for check in found},
        }
    if evidence.robust:
        marks = tuple(item.mark for item in evidence.mistrusted)
        off = {check.id: check.px for check in checks.errors(evidence, state, marks)}
        out["mistrusted"] = [
            {
                "id": item.mark.id,
                "sigmas": _number(item.sigmas),
                "px": _number(off[item.mark.id]) if item.mark.id in off else None,
                "says": _mistrust(item, off.get(item.mark.id)),
            }
            for item in evidence.mistrusted
        ]
    return out


def _mistrust(item: Mistrusted, px: float | None) -> str:
    lies = "disagrees" if px is None else f"lies {px:.1f} px from where the others put it"
    return f"“{item.mark.name}” is left out: it {lies} ({item.sigmas:.1f} σ)."


def _rival(system: System, ours: State, state: State, gate: bool) -> dict[str, Any]:
    """Another camera that explains the evidence about as well, the spot that stands elsewhere for
    it, and what would tell the two apart."""
    names = " and ".join(
        f"“{length.name}”" for length in system.evidence.lengths if length.axis is None
    )
    unit = "mm" if gate else "px"
    focal = f", {state.lens.focal_mm:.2f} {unit}" if 0 in system.free_lens else ""
    points = system.points(state)
    moved = int(np.linalg.norm(points - system.points(ours), axis=1).argmax())

    def place(point: Array) -> str:
        return ", ".join(f"{value:.2f}" for value in point)

    spot = f"“{system.spots[moved].name}” at {place(points[moved])} m"
    if np.linalg.norm(state.position - ours.position) < SAME_PLACE_M:
        opening = f"{spot} explains this about as well"
    else:
        opening = (
            f"Another camera, at {place(state.position)} m{focal}, with {spot}, explains this "
            f"about as well"
        )
    return {
        "position_m": [_number(v) for v in state.position],
        "focal_mm": _number(state.lens.focal_mm) if gate else None,
        "says": f"{opening}: {names} can be met in two ways. Another known coordinate of its "
        f"spots, or another length, would show which is right.",
    }


def _number(value: float) -> float | None:
    value = float(value)
    return value + 0.0 if math.isfinite(value) else None


def _fixed_scale(system: System, optimum: Optimum, spread: Spread) -> tuple[Any, ...]:
    """Where the world's size is open, the state and spread in units of the distance to the first
    placed spot."""
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
        # A length to a spot of which nothing else is known has a size in metres, and yet the room
        # can grow: the spot's own place makes up for it.
        known = spread.determined(system.distance_row(state))
        return state, spread, "solved" if known else "no"
    distance = np.linalg.norm(state.position - origin)
    factor = 1 / distance
    grown = origin + (points - origin) * factor
    new_values = state.values.copy()
    for index, axis in zip(*np.nonzero(system.variable >= 0)):
        new_values[system.variable[index, axis]] = grown[index, axis]
    resized = type(state)(
        state.rotation,
        origin + (state.position - origin) * factor,
        state.lens,
        state.angles,
        state.bow_normals,
        new_values,
    )
    # Covariance in the new unit, with the distance to the first spot held at 1.
    unit = np.ones(system.size)
    unit[system.at["position"]] = unit[system.at["values"]] = factor
    gauge = np.zeros(system.size)
    gauge[system.at["position"]] = (state.position - origin) * factor
    for axis in range(3):
        if system.variable[system.placed[0], axis] >= 0:
            gauge[system.at["values"].start + system.variable[system.placed[0], axis]] -= gauge[
                system.at["position"]
            ][axis]
    fixed = fix_gauge(
        Spread(spread.covariance * unit * unit[:, None], spread.null * unit[:, None]),
        growth * unit,
        gauge,
    )
    return resized, fixed, "no"


def _angle_rows(system: System, state: State) -> Array:
    """(3, size) derivative of pan, tilt and roll by the parameters."""
    rows = np.zeros((3, system.size))
    rows[:, system.at["rotation"]] = angle_slopes(state.rotation)
    return rows


def _view_rows(system: System, camera: Camera) -> Array:
    """(3, size) derivative of the angles of view by the parameters."""
    rows = np.zeros((3, system.size))
    rows[:, system.at["lens"]] = view_slopes(camera.grid, camera.lens, system.free_lens)
    return rows


def _residuals(system: System, optimum: Optimum, leavings: list[Leaving]) -> dict[str, Any]:
    marks: dict[str, float] = {}
    facts: dict[str, dict[str, float]] = {}
    sigmas: dict[str, float] = {}
    r = optimum.r.tolist()  # a few numbers at a time: plain floats are quicker than arrays
    for leaving in leavings:
        block, item = leaving.block, leaving.block.item
        if block.is_fact:
            weighted = r[block.rows[0]]
            # Of a position, the coordinate that is furthest off.
            if item.id not in facts or abs(weighted) > abs(facts[item.id]["sigmas"]):
                off = weighted * item.plus_minus * (np.degrees(1) if item.unit == "rad" else 1)
                facts[item.id] = {UNIT_NAMES[item.unit]: off, "sigmas": weighted}
            continue
        is_spot = hasattr(item, "world")
        rows = block.rows[:2] if is_spot else block.rows
        square = sum(r[row] ** 2 for row in rows) * item.sigma_px**2
        marks[item.id] = math.sqrt(square if is_spot else square / len(rows))
        sigmas[item.id] = leaving.sigmas
    for fact in system.evidence.facts:
        if fact.of_lens:
            facts.pop(fact.id, None)
    return {
        "rms_px": remarks.rms_px(system, optimum.r),
        "marks": marks,
        "facts": facts,
        "mark_sigmas": sigmas,
    }


def _weights(
    system: System, optimum: Optimum, leavings: list[Leaving], placed: bool
) -> dict[str, Any]:
    """For each mark and fact: how strongly it disagrees, how much the camera leans on it, and what
    the camera would be without it, to first order."""
    out: dict[str, dict[str, Any]] = {}
    spread = optimum.spread
    for leaving, lean in zip(leavings, diagnose.leverages(system, optimum, leavings, spread)):
        own: dict[str, Any] = {
            "sigmas": leaving.sigmas,
            "leverage": _number(lean),
            "redundancy": _number(leaving.redundancy),
        }
        if lean < 1 - 1e-9:
            step = leaving.step(optimum, spread)
            if 0 in system.free_lens:
                change = np.clip(step[system.at["lens"].start], -3, 3)
                own["focal_mm" if system.evidence.gate_mm else "focal_px"] = _number(
                    optimum.state.lens.focal_mm * np.exp(change)
                )
            if placed:
                own["position_m"] = [
                    _number(v) for v in optimum.state.position + step[system.at["position"]]
                ]
        if leaving.block.id not in out or lean > out[leaving.block.id]["leverage"]:
            out[leaving.block.id] = own
    return out


def _spots(system: System, state: State, spread: Spread) -> dict[str, Any]:
    points, out, start = system.points(state), {}, system.at["values"].start
    deviation = np.sqrt(np.diag(spread.covariance).clip(0))
    # An unknown is open where it takes part in an undetermined direction.
    open_ = np.abs(spread.null).max(axis=1, initial=0.0) > 1e-5
    free, columns = system.variable >= 0, start + np.maximum(system.variable, 0)
    told = (
        free.any(axis=1) & ~(open_[columns] & free).any(axis=1)
        if system.value_count
        else np.zeros(len(system.spots), bool)
    )
    for index in np.flatnonzero(told):
        out[system.spots[index].id] = {
            "world_m": [_number(v) for v in points[index].tolist()],
            "plus_minus_m": np.where(free[index], deviation[columns[index]], 0.0).tolist(),
        }
    return out
