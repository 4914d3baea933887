"""What the Tracks leaf of the Match page shows: what was followed, what is said of it, the path and
its curves."""

from typing import Any

import numpy as np

from aperture.units import METRES, format_value
from web.jobs import runner
from web.match import by_hand, following, tracking
from web.match.curves import Curve, curve
from web.match.keep_out import covered
from web.match.path_fits import PLACED, determined, is_old, path_fit, require_path_fit
from web.match.track_relations import letter_of, planes_told
from web.match.tracking import FACTS, on_frame, tracks_of
from web.plates.frames import frame_at, span_of
from web.plates.models import film_of
from web.ui.rows import Row

SAYS = {
    "cut": "a cut: another place is shown from here on",
    "repeated": "the same picture as the one before",
    "unlike its neighbours": "unlike the frames around it: a flash, or black",
}
MOTIONS = {"free": "moves freely", "nodal": "only turns"}
NOT_SET = "not set"
LEAST_COST_PX = 0.001  # less isn't worth a figure


def context(shot) -> dict[str, Any]:
    """For the leaf's template; shot has a film."""
    state, film = shot.state, film_of(shot)
    tracks, jobs = (
        tracks_of(state),
        [
            job
            for kind in (following.FOLLOW, following.SOLVE)
            if (job := runner.latest(shot, kind)) is not None
        ],
    )
    under_way = next((job for job in jobs if job.under_way), None)
    failed = max((job for job in jobs if job.state == "failed"), key=lambda j: j.pk, default=None)
    newest = max(jobs, key=lambda j: j.pk, default=None)
    lengths = tracks.lengths()
    first, last = span_of(state)
    return {
        "film": film,
        "tracks": len(tracks),
        "places": len(tracks.frame),
        "off": sum(1 for told in tracks.about.values() if told.get("off")),
        "middle_length": int(np.median(lengths)) if len(lengths) else 0,
        "span": (first, last),
        "pictures": _of_pictures(shot, film),
        "following_job": under_way,
        "failed_job": failed if failed is not None and failed is newest else None,
        "wanted": 300,
        "spots": sum(
            1 for mark in state["marks"] if mark["kind"] == "spot" and not mark.get("off")
        ),
        "reaches": [(reach, 2 * reach + 1) for reach in following.REACHES],
        "reach": 10,
        "track_facts": _facts(shot),
        "here": frame_at(state),
        "zooms": bool(state["zoom"]),
        "shutter": _shutter(state["readout"]),
        "readout": _readout_typed(state["readout"]),
        "file_focals": len(tracking.focals_of_file(shot)) if state["zoom"] else 0,
        "waiting": len(by_hand.stale(tracks)),
        "keep_out": [
            {
                "id": area["id"],
                "frames": [frame_at(state, number) for number in sorted(map(int, area["keys"]))],
            }
            for area in state["keep_out"]
        ],
        "covered": int(covered(state).sum()),
        "path_old": is_old(state),
        "stands": state["stands"],
        "path": _path(shot),
    }


def _of_pictures(shot, film) -> list[dict[str, Any]]:
    """What following found to be wrong with the pictures themselves."""
    if not shot.state["tracks"]:
        return []
    found: dict[str, list[int]] = {}
    for number, kind in following.said_of_pictures(film):
        found.setdefault(kind, []).append(frame_at(shot.state, number))
    out: list[dict[str, Any]] = [
        {"says": SAYS[kind], "frames": frames, "kind": kind} for kind, frames in found.items()
    ]
    for one in out:
        if one["kind"] == "cut":
            one["ranges"] = _between_cuts(shot.state, one["frames"])
    return out


def _between_cuts(state, cuts: list[int]) -> list[tuple[int, int]]:
    """The ranges of two frames or more into which cuts divide the whole film."""
    film = state["film"]
    first, last = frame_at(state, film["first"]), frame_at(state, film["last"])
    edges = [first, *sorted(set(cuts)), last + 1]
    return [(a, b - 1) for a, b in zip(edges, edges[1:]) if b - a >= 2]


def _facts(shot) -> list[dict[str, Any]]:
    """What is known of tracks and of the camera on frames, in words."""
    state, show, out = shot.state, shot.show, []
    tracks = tracks_of(state)
    for id_, told in tracks.about.items():
        if "world" in told:
            out.append({"key": "track", "id": id_, "says": _place(told, id_, show)})
    out += planes_told(state)
    for kept in state[FACTS]:
        fact = on_frame(state, kept)
        if fact["kind"] == "direction":
            ends, axis = f"From {fact['from']} to {fact['to']}", letter_of(fact["along"])
            says = f"{ends}: along {axis} ± {fact['plus_minus']:g}°"
            out.append({"key": "fact", "id": fact["id"], "says": says})
            continue
        value, sigma = show.length(fact["metres"], fact["plus_minus"])
        if fact["kind"] == "length":
            says = f"From {fact['from']} to {fact['to']}: {value} {sigma}"
        elif fact["kind"] == "camera_distance":
            says = f"Both eyes are {value} {sigma} apart"
        else:
            says = f"Camera’s height on frame {fact['frame']}: {value} {sigma}"
        out.append({"key": "fact", "id": fact["id"], "says": says})
    return out + _known_focals(state)


def _shutter(readout) -> str:
    if not readout:
        return "global"
    return "solved" if readout["ms"] is None else "known"


def _readout_typed(readout) -> str:
    """A known readout as it is typed."""
    if not readout or readout["ms"] is None:
        return ""
    spread = f" ± {readout['plus_minus']:g}" if readout["plus_minus"] else ""
    return f"{readout['ms']:g}{spread}"


def _known_focals(state) -> list[dict[str, Any]]:
    """What is known of a zoom's focal length, in one row."""
    known = (state["zoom"] or {"known": []})["known"]
    if not known:
        return []
    frames = [frame_at(state, int(row[0])) for row in known]
    if len(known) == 1:
        says = f"Focal length on frame {frames[0]}: {known[0][1]:g} mm ± {known[0][2]:.2g}"
    else:
        values = [row[1] for row in known]
        says = (
            f"Focal length on {len(known)} frames, {min(frames)} to {max(frames)}: "
            f"{min(values):g} to {max(values):g} mm"
        )
    return [{"key": "focals", "id": "all", "says": says}]


def _place(told, id_, show) -> str:
    world = told["world"]
    if world == [None, 0, None]:
        return f"{id_} lies on the floor"
    if world == [0, 0, 0]:
        return f"{id_} is the origin"
    said = ", ".join("–" if v is None else show.length(v)[0] for v in world)
    return f"{id_} lies at {said}"


def figures(shot) -> list[Row]:
    """The rows of the shot's path: what it is, lens, how well it fits, and what of it is set. The
    path must be solved."""
    fit = require_path_fit(shot.state)
    camera, plus_minus, known = fit["camera"], fit["plus_minus"], determined(shot.state)
    pans = fit["path"]["pan_deg"]
    solved = sum(1 for pan in pans if pan is not None)
    rows = [
        Row("The camera", MOTIONS[fit["motion"]], origin="solved"),
        Row("Frames solved", f"{solved} of {len(pans)}", origin="solved"),
        _zoom(fit, "mm" if shot.state["gate"] else "px")
        if fit.get("zooms")
        else _focal(camera, plus_minus, known),
        *_distortion(camera, plus_minus),
        *_readout(fit),
        *_residuals(fit["residuals"]),
    ]
    rows += _bending(shot, fit)
    for name, word in (
        ("direction", "Level"),
        ("heading", "Heading"),
        ("position", "Position"),
        ("scale", "Size"),
    ):
        rows.append(Row(word, "set" if known[name] == "solved" else NOT_SET))
    return rows


def _bending(shot, fit) -> list[Row]:
    """By how much the facts bend the path, or would."""
    bent = fit.get("bending")
    if not bent:
        return []
    does = bent.get("bent", True)
    frame = bent["frame"] + shot.state["shift"] - shot.state["path"]["shift"]
    value = shot.show.length(bent["metres"], bent["metres"] / 10)[0]
    name = "Bent by facts" if does else "Facts would bend it"
    rows = [Row(name, value, f"on {frame}", origin="solved")]
    costs = bent["with_px"] - bent["without_px"]
    told = f"{costs:.3f} px" if costs > LEAST_COST_PX else f"under {LEAST_COST_PX} px"
    return [*rows, Row("That costs" if does else "That would cost", told, origin="solved")]


def _path(shot) -> dict[str, Any] | None:
    """The solved path in figures, remarks and curves."""
    fit = path_fit(shot.state)
    if not fit:
        return None
    frames = fit["path"]["frames"]
    return {
        "rows": figures(shot),
        "remarks": [one["says"] for one in fit["remarks"]],
        "conflicts": [one["says"] for one in fit["conflicts"]],
        "missing": [
            f"To set the {one['quantity']}: {one['would_settle']}."
            for one in fit["missing"]
            if one["quantity"] not in ("distances",)
        ],
        "floor": _floor(fit.get("floor")),
        "curves": _curves(shot, fit),
        "doubtful": _doubtful(shot, fit),
        "can_stand": bool(fit.get("bending")) or shot.state["stands"],
        "first": frames[0] + shot.state["shift"] - shot.state["path"]["shift"],
        "count": len(frames),
        "left_out": len(fit["left_out"]),
        "points": len(fit["points"]),
    }


def _floor(told) -> dict[str, str] | None:
    """How level the floor is, and what carries that, in words; None where nothing holds it."""
    if not told:
        return None
    carriers = [f"{one['name']} {one['share']:.0%}" for one in told["carried_by"]]
    return {"tilt": f"±{told['tilt_plus_minus_deg']:.2g}°", "carriers": ", ".join(carriers)}


# In a sentence about one track, and about several.
DOUBTS = {
    "jumps": ("jumps from one thing to another", "jump from one thing to another"),
    "moves": ("fits no point that stands still", "fit no points that stand still"),
    "slides": ("slides slowly away from its point", "slide slowly away from their points"),
    "edge": ("slides along an edge", "slide along edges"),
    "below": (
        "lies under the floor, as a reflection does",
        "lie under the floor, as reflections do",
    ),
}
# A residual beyond which a figure says nothing, px.
FAR_OFF = 100.0


def _doubtful(shot, fit) -> list[dict[str, Any]]:
    """The tracks that had better be dropped, by the reason, with what the fit would gain; those
    that are off aren't told."""
    tracks = tracks_of(shot.state)
    there = {id_ for id_ in tracks.ids if not tracks.about.get(id_, {}).get("off")}
    shift = shot.state["shift"] - shot.state["path"]["shift"]
    out = []
    for reason, says in DOUBTS.items():
        mine = [
            one for one in fit.get("doubtful", ()) if one["reason"] == reason and one["id"] in there
        ]
        if not mine:
            continue
        frames = {one["id"]: one["frame"] + shift for one in mine if one["frame"] is not None}
        named = [
            one["id"]
            + (f" at {frames[one['id']]}" if one["id"] in frames else "")
            + (f", {one['residual_px']:.1f} px" if one["residual_px"] < FAR_OFF else ", far off")
            for one in mine[:4]
        ]
        out.append(
            {
                "count": len(mine),
                "says": says[len(mine) > 1],
                "named": "; ".join(named) + (" …" if len(mine) > 4 else ""),
                "gain": _gain(fit, {one["id"] for one in mine}),
                "ids": " ".join(one["id"] for one in mine),
                "frames": " ".join(str(frames[one["id"]]) for one in mine) if frames else "",
            }
        )
    return out


def _gain(fit, without: set[str]) -> str:
    """What the residual would be without some tracks, all else as it is."""
    squares, count, rest, left = 0.0, 0, 0.0, 0
    for id_, point in fit["points"].items():
        own = (point["residual_px"] or 0.0) ** 2 * point["observations"]
        squares, count = squares + own, count + point["observations"]
        if id_ not in without:
            rest, left = rest + own, left + point["observations"]
    if left == count or not left:
        return "The path doesn’t use them."
    before, after = np.sqrt(squares / count), np.sqrt(rest / left)
    return f"Without them the residual would be {after:.3f} px, not {before:.3f}."


def _readout(fit) -> list[Row]:
    """The solved readout time of a rolling shutter."""
    if fit.get("readout_ms") is None:
        return []
    value, sigma = format_value(fit["readout_ms"], fit["readout_plus_minus_ms"], "ms")
    return [Row("Readout, first to last row", value, sigma, "solved")]


def _residuals(residuals) -> list[Row]:
    """Weighted by what each place tells; an edge slides along itself, which the plain figure counts
    in full."""
    rows = [Row("Residual, plain", f"{residuals['rms_px']:.3f} px", origin="solved")]
    if "weighted_px" in residuals:  # else solved before there was one
        rows.insert(0, Row("Residual", f"{residuals['weighted_px']:.3f} px", "", "solved"))
    return rows


def _zoom(fit, unit: str) -> Row:
    """From what focal length to what a zoom goes, with the usual ± of one frame."""
    path = fit["path"]
    values = [value for value in path["focal_mm"] if value is not None]
    sigmas = [value for value in path["focal_plus_minus_mm"] if value is not None]
    sigma = float(np.median(sigmas))
    low, plus_minus = format_value(min(values), sigma, unit)
    high, _ = format_value(max(values), sigma, unit)
    return Row("Focal length", f"{low.split(' ')[0]} to {high}", plus_minus, "solved")


def _focal(camera, plus_minus, known) -> Row:
    if camera["focal_mm"] is None:
        value, sigma = format_value(camera["focal_px"][1], plus_minus["focal_px"][1], "px")
    else:
        value, sigma = format_value(camera["focal_mm"], plus_minus["focal_mm"], "mm")
    origin = "solved" if known["focal"] == "solved" else "typed"
    return Row("Focal length", value, sigma, origin)


def _distortion(camera, plus_minus) -> list[Row]:
    return [
        Row(
            f"Distortion {name}",
            f"{camera['distortion'][name]:.5f}".replace("-", "−"),
            f"± {sigma:.5f}",
            "solved",
        )
        for name, sigma in plus_minus["distortion"].items()
    ]


def _curves(shot, fit) -> list[Curve]:
    """Position, direction and residual over the frames, lengths in the show's unit; of what isn't
    set the shape alone."""
    path, out, known = fit["path"], [], determined(shot.state)
    unit = shot.show.length_unit
    per_unit, places = 1 / METRES[unit], 3 if unit == "m" else 1
    has_place = all(known[name] != "no" for name in (*PLACED, "heading"))
    is_set = {
        "Across": has_place,
        "Up": all(known[name] != "no" for name in PLACED),
        "Along": has_place,
        "Pan": known["heading"] != "no",
        "Tilt": known["direction"] != "no",
        "Roll": known["direction"] != "no",
    }
    for axis, name in enumerate(("Across", "Up", "Along")):
        values = [None if row is None else row[axis] * per_unit for row in path["position_m"]]
        sigmas = [
            None if row is None else row[axis] * per_unit for row in path["position_plus_minus_m"]
        ]
        out.append(curve(name, unit, values, sigmas, places))
    for axis, (key, name) in enumerate((("pan", "Pan"), ("tilt", "Tilt"), ("roll", "Roll"))):
        sigmas = [None if row is None else row[axis] for row in path["direction_plus_minus_deg"]]
        out.append(curve(name, "°", _unwrapped(path[f"{key}_deg"]), sigmas, 3))
    if fit.get("zooms"):
        focals, sigmas = path["focal_mm"], path["focal_plus_minus_mm"]
        out.append(curve("Focal length", "mm" if shot.state["gate"] else "px", focals, sigmas, 2))
    out.append(curve("Residual", "px", path["residual_px"], None, 2, from_zero=True))
    out.append(curve("Tracks", "", path["tracks"], None, 0, from_zero=True))
    there = [one for one in out if one is not None]
    return [one if is_set.get(one.name, True) else one.without_numbers(NOT_SET) for one in there]


def _unwrapped(degrees: list[float | None]) -> list[float | None]:
    """Angles without jumps by a whole turn."""
    out, last = [], None
    for value in degrees:
        if value is not None and last is not None:
            value += 360 * round((last - value) / 360)
        last = value if value is not None else last
        out.append(value)
    return out
