"""What the page shows on which a move is drawn: the set about it, what its keys make, what that
does."""

from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from urllib.parse import urlencode

import numpy as np
from django.urls import reverse

from aperture.moves.authored import ANGLES, CHANNELS, Authored, route_lengths
from aperture.moves.flight import PRESETS, Aircraft, Flown
from aperture.moves.readings import CAMERA_M, NAMES, Limits, Readings
from web.moves.authoring import FLYING_VIEW_DEG, flying_focal_mm, made, read_outs, things_of
from web.moves.kept import Kept, rate_of
from web.moves.models import MoveLimits
from web.plates.film_views import strip
from web.plates.models import plate_of
from web.shows.models import Shot
from web.stage.places import places_of
from web.stage.stand_ins import shown
from web.stage.world import solid_lines

TITLES = {
    "x": "Across",
    "y": "Height",
    "z": "Along",
    "pan": "Pan",
    "tilt": "Tilt",
    "roll": "Roll",
    "focal": "Focal length",
    "focus": "Focus",
    "stop": "Stop",
    "look": "Weight of looking",
    "distance": "Distance kept",
    "speed": "Speed",
}
AIRCRAFT = {
    "mass_kg": "Mass (kg)",
    "thrust_n": "Thrust (N)",
    "drag": "Drag at 1 m/s (N)",
    "tilt_deg": "Most tilt (°)",
    "response_s": "Response (s)",
    "pan_lag": "Pan behind (frames)",
    "tilt_lag": "Tilt behind (frames)",
    "roll_lead": "Roll ahead (frames)",
    "bank_per_g": "Roll per g sideways (°)",
    "nose_share": "Share of the nose",
}
# Title and unit of what a move does.
READ_OUTS = {
    "speed": ("Speed", "m/s"),
    "acceleration": ("Acceleration", "m/s²"),
    "pan": ("Pan rate", "°/s"),
    "tilt": ("Tilt rate", "°/s"),
    "roll": ("Roll rate", "°/s"),
    "height": ("Height", "m"),
    "near": ("Nearest", "m"),
    "off": ("Off the route", "m"),
    "bank": ("Bank", "°"),
}
PLACES = 4  # decimals of what is drawn


@dataclass(frozen=True)
class Said:
    """A range of frames and what is said of it."""

    frame: int
    says: str


def set_in_move(kept: Kept) -> np.ndarray:
    """(4, 4) the move's own space from the set's."""
    return np.linalg.inv(kept.stands)


def page_data(shot: Shot, kept: Kept, authored: Authored) -> dict:
    """What the page's script begins with."""
    here = set_in_move(kept)
    places = {
        name: (here[:3, :3] @ at + here[:3, 3]).round(4).tolist()
        for name, at in places_of(shot).items()
    }
    aircraft = kept.aircraft.to_json() if kept.aircraft else None
    plate = plate_of(shot)
    return {
        "authored": authored.to_json(),
        "aircraft": aircraft,
        "rate": float(rate_of(shot)),
        "channels": {
            name: {"title": TITLES[name], "unit": unit, "usual": usual}
            for name, (unit, usual) in CHANNELS.items()
        },
        "readings": {
            name: {"title": title, "unit": unit} for name, (title, unit) in READ_OUTS.items()
        },
        "presets": {name: one.to_json() for name, (_, one) in PRESETS.items()},
        "places": places,
        "solids": solids(shot, here),
        "try": shot.url("moves-try", kept.id),
        "save": shot.url("moves-save-keys", kept.id),
        "record": shot.url("moves-record", kept.id),
        "made": sampled(shot, kept, authored, kept.aircraft),
        "strip": strip(shot),
        "photograph": reverse("picture", args=[plate.digest, "proxy"]) if plate else None,
    }


def claim_of_flying_lens(shot: Shot, authored: Authored) -> str:
    """Where the Gate step lays out what kinds of lenses the very wide lens of a flight would be."""
    width, height = authored.gate_mm
    focal = flying_focal_mm(authored)
    quoted = {
        "angle": f"{FLYING_VIEW_DEG:g}",
        "basis": "horizontal",
        "focal": f"{focal:.2f}",
        "sensor": f"{width:.3f} × {height:.3f} mm",
    }
    return f"{shot.url('gate-claims')}?{urlencode(quoted)}"


def solids(shot: Shot, here: np.ndarray) -> list[dict]:
    """The stand-ins in the move's own space: names, points and drawn lines."""
    out = []
    for item in shown(shot.state):
        points, lines = solid_lines(item)
        points = points @ here[:3, :3].T + here[:3, 3]
        out.append(
            {
                "name": item["name"],
                "points": points.round(PLACES).tolist(),
                "lines": lines.tolist(),
            }
        )
    return out


def sampled(shot: Shot, kept: Kept, authored: Authored, aircraft: Aircraft | None) -> dict:
    """What keys make, for drawing. Raises Problem where they make no move."""
    rate = rate_of(shot)
    result = made(authored, aircraft, rate)
    limits = MoveLimits.of(shot.show)
    things = list(things_of(shot))
    found, exceeded = read_outs(shot, result.move.stood(kept.stands), limits)
    frames = authored.frames.astype(float)
    out = {
        "first": authored.first,
        "eyes": result.move.positions.round(PLACES).tolist(),
        "turns": result.move.rotations.reshape(-1, 9).round(6).tolist(),
        "half": result.move.half_view.round(6).tolist(),
        "curves": {
            name: authored.curve(name).at(frames).round(PLACES).tolist()
            for name in authored.curves
            if name != "speed"
        },
        "slopes": {
            name: np.stack(curve.slopes(), axis=1).round(6).tolist()
            for name, curve in authored.curves.items()
        },
        "readings": _readings(found, result.flown),
        "exceeded": _exceeded(exceeded, found),
        "nearest": [things[index] if index >= 0 else "" for index in found.nearest.tolist()],
        "remarks": [
            {"frame": one.frame, "says": one.says}
            for one in remarks(authored, limits, exceeded, found)
        ],
    }
    if "speed" in authored.curves:
        curve = authored.curve("speed")
        span = np.linspace(0, max(curve.frames[-1], _whole(authored, rate)), 200)
        out["curves"]["speed"] = curve.at(span).round(PLACES).tolist()
        out["speed_over"] = span.round(PLACES).tolist()
    if result.flown is not None:
        flown = result.flown
        out["keyed"] = result.keyed.positions.round(PLACES).tolist()
        out["remarks"] += [
            {"frame": frame, "says": f"On frame {frame} the route {says}"}
            for frame, says in flown.remarks
        ]
    return out


def _readings(found: Readings, flown: Flown | None) -> dict[str, list]:
    """What a move does, per frame, by the names of READ_OUTS; nothing is near where nothing is
    there."""
    near = [round(far, 3) if np.isfinite(far) else None for far in found.near.tolist()]
    out = {
        "speed": found.speed.round(3).tolist(),
        "acceleration": found.acceleration.round(3).tolist(),
        "pan": found.rates[:, 0].round(2).tolist(),
        "tilt": found.rates[:, 1].round(2).tolist(),
        "roll": found.rates[:, 2].round(2).tolist(),
        "height": found.height.round(3).tolist(),
    } | ({"near": near} if None not in near else {})
    if flown is not None:
        out |= {"off": flown.off.round(3).tolist(), "bank": flown.bank.round(2).tolist()}
    return out


def _exceeded(exceeded: Mapping[str, np.ndarray], found: Readings) -> dict[str, list]:
    """First and last index of the ranges in which a reading is beyond a limit, by its name."""
    where = dict(exceeded)
    where["height"] = where.pop("low") | where.pop("high")
    where["near"] = found.near < CAMERA_M
    return {name: runs for name, each in where.items() if (runs := _runs(each))}


def _whole(authored: Authored, rate: Fraction) -> float:
    """How far a curve of speeds goes: the seconds of the move, or the metres of its route."""
    if authored.by != "distance":
        return (authored.last - authored.first) / float(rate)
    return float(route_lengths(authored.route(authored.frames.astype(float)))[-1])


def remarks(authored: Authored, limits: Limits, exceeded, found) -> list[Said]:
    """Where the move exceeds what the show's dolly and head can do, or touches something."""
    out = []
    values = {
        "speed": found.speed,
        "acceleration": found.acceleration,
        **{name: np.abs(found.rates[:, index]) for index, name in enumerate(ANGLES)},
        "low": found.height,
        "high": found.height,
    }
    for name, where in exceeded.items():
        title, unit = NAMES[name]
        for start, end in _runs(where):
            own = values[name][start : end + 1]
            worst = own.min() if name == "low" else own.max()
            most = getattr(limits, name)
            space = "" if unit.startswith("°") else " "
            out.append(
                Said(
                    authored.first + start,
                    f"{title.split(',')[0]} {worst:.2f}{space}{unit} on "
                    f"{_frames(authored, start, end)}; the limit is {most:g}{space}{unit}",
                )
            )
    for start, end in _runs(found.near < CAMERA_M):
        out.append(
            Said(
                authored.first + start,
                f"The camera touches a stand-in on {_frames(authored, start, end)}",
            )
        )
    return sorted(out, key=lambda one: one.frame)


def _frames(authored: Authored, start: int, end: int) -> str:
    first, last = authored.first + start, authored.first + end
    return f"frame {first}" if first == last else f"frames {first}–{last}"


def _runs(where: np.ndarray) -> list[tuple[int, int]]:
    """First and last index of each run that is true."""
    padded = np.concatenate([[False], np.asarray(where, bool), [False]])
    edges = np.flatnonzero(np.diff(padded.astype(int)))
    return [(int(a), int(b) - 1) for a, b in zip(edges[::2], edges[1::2])]
