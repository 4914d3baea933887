"""Moves that are drawn here: begun, changed, thinned out of others, flown."""

import json
import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

import numpy as np

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.match.document import read
from aperture.moves.authored import CHANNELS, Authored, keyed_move, keys_from
from aperture.moves.curves import Curve, Key
from aperture.moves.flight import Aircraft, Flown, fly
from aperture.moves.keys import between
from aperture.moves.move import Move
from aperture.moves.readings import Limits, Readings, readings
from aperture.moves.source import Settings, says_of_own
from aperture.moves.thinning import thinned
from aperture.scene.solids import Solid
from aperture.scene.stand_in import StandIn
from web.blobs import store
from web.match.fits import document_of
from web.match.path_fits import camera_of_state
from web.moves.actions import change_move, new_item
from web.moves.kept import Kept, cameras_of, move_called, rate_of
from web.plates.frames import span_of
from web.shows.history import edit
from web.shows.models import Shot
from web.stage.stand_ins import shown, stand_in_from

USUAL_FRAMES = 96
# A flying camera's lens (common practice, no source): its horizontal angle of view, its stop, and
# the diagonal over the circle that still counts as sharp.
FLYING_VIEW_DEG, FLYING_STOP, SHARP_SHARE = 110.0, 8.0, 1500.0
MOST_TRIANGLES = 1000  # of a stand-in, whose box is looked at else
INSIDE = ("room",)  # of which a camera is inside as a matter of course
MOST_RECORDED = 20_000
# Of a picture to measure pixels on where there is no plate, and its gate's width where that isn't
# known.
GRID_PX, USUAL_MM = 1920, 36.0


@dataclass(frozen=True, eq=False)
class Made:
    """What keys and an aircraft make: the move, and the flight where one was flown."""

    move: Move
    keyed: Move
    flown: Flown | None


def made(authored: Authored, aircraft: Aircraft | None, rate: Fraction) -> Made:
    """The move of some keys. Raises Problem where there is none."""
    keyed = keyed_move(authored, rate)
    if aircraft is None:
        return Made(keyed, keyed, None)
    flown = fly(keyed, aircraft, rate)
    return Made(flown.move, keyed, flown)


def grid_of(shot: Shot) -> Grid:
    """The plate's, or else one of a usual gate."""
    document = document_of(shot.state)
    if document is None:
        return Grid.from_gate(GRID_PX, GRID_PX * 9 // 16, USUAL_MM, USUAL_MM * 9 / 16)
    if not document.get("gate"):
        width, height = document["image"]["width"], document["image"]["height"]
        return Grid.from_gate(width, height, USUAL_MM, USUAL_MM * height / width)
    return read(document, checked=True).grid


def begin(shot: Shot, base: int | None) -> Shot:
    """A new move with one key: where the shot's camera stands on its first frame, or before the
    set."""
    first, last = span_of(shot.state)
    last = last if last > first else first + USUAL_FRAMES - 1
    camera = camera_of_state(shot.state, first) or camera_of_state(shot.state)
    curves = {name: Curve((Key(first, value),)) for name, (_, value) in CHANNELS.items()}
    kept = {name: curves[name] for name in ("x", "y", "z", "pan", "tilt", "roll", "focal")}
    if camera is not None:
        kept |= _keys_of(camera, first)
    authored = Authored(kept, first, last, gate_mm=grid_of(shot).gate_mm)
    return _add(shot, authored, "Drawn move", "Began a move", base)


def _keys_of(camera: Camera, frame: int) -> dict[str, Curve]:
    angles = np.degrees(camera.angles)
    values = [*camera.position, *angles, camera.lens.focal_mm]
    names = ("x", "y", "z", "pan", "tilt", "roll", "focal")
    return {name: Curve((Key(frame, float(value)),)) for name, value in zip(names, values)}


def _add(shot: Shot, authored: Authored, name: str, label: str, base: int | None) -> Shot:
    rate = rate_of(shot)
    parts = _parts(shot, authored, None)

    def change(state):
        says = says_of_own(authored.last - authored.first + 1, rate)
        item = new_item(state, name) | {
            "file": None,
            "file_name": "",
            "settings": Settings().to_json(),
            "recipe": None,
            "says": says,
        }
        state["moves"] = [*state["moves"], item | parts | {"shift": state["shift"]}]

    return edit(shot, label, change, base)


def _parts(shot: Shot, authored: Authored, aircraft: Aircraft | None) -> dict[str, Any]:
    """What the state holds of keys and of what they make."""
    move = made(authored, aircraft, rate_of(shot)).move
    keys = json.dumps(authored.to_json(), separators=(",", ":")).encode()
    return {
        "authored": {"blob": store.put(keys)},
        "aircraft": aircraft.to_json() if aircraft else None,
        "baked": {"blob": store.put_arrays(**move.to_arrays())},
    }


def require_authored(kept: Kept) -> Authored:
    """A move's keys. Raises Problem where it came out of a file."""
    if kept.authored is None:
        raise Problem("This move came out of a file: thin it out first, and change its keys then.")
    return kept.authored


def set_keys(
    shot: Shot,
    id_: str,
    authored: Authored,
    aircraft: Aircraft | None,
    label: str,
    base: int | None,
    run: str = "",
) -> Shot:
    """Change a drawn move."""
    kept = move_called(shot.state, id_)
    require_authored(kept)
    changes = _parts(shot, authored, aircraft) | {"shift": shot.state["shift"]}
    return change_move(shot, id_, f"{kept.name}: {label}", changes, base, run=run)


def thin_out(shot: Shot, id_: str, tolerance_px: float, base: int | None) -> Shot:
    """A move of few keys out of one that has a key on every frame; it stays where that stands."""
    kept = move_called(shot.state, id_)
    grid = grid_of(shot)
    path = cameras_of(shot.state, kept, kept.move) if document_of(shot.state) else None
    move = kept.move
    if not move.knows_view:
        if path is None:
            raise Problem("The file doesn’t say how wide its camera sees: bring in a plate first.")
        half = np.array(grid.gate_mm) / 2 / path.focal_mm[:, None]
        move = replace(move, half_view=half, focal_mm=path.focal_mm)
    elif np.isfinite(move.half_view).all():
        # The focal length on this plate's gate, whatever the file's was.
        focal = grid.gate_mm[0] / 2 / move.half_view[:, 0]
        move = replace(move, focal_mm=focal)
    authored = thinned(move, grid, rate_of(shot), tolerance_px)
    count = len(authored.curve("x").keys)
    label = f"Thinned {kept.name} out to {count} keys"
    return _add(shot, authored, f"{kept.name}, {count} keys"[:70], label, base)


@dataclass(frozen=True, eq=False)
class Recorded:
    """A flight by hand: poses (T, 4, 4) at seconds (T,) after a frame."""

    frame: int
    seconds: np.ndarray
    poses: np.ndarray

    def on_frames(self, rate: Fraction) -> tuple[np.ndarray, np.ndarray]:
        """Frames (F,) and poses (F, 4, 4). Raises Problem where there are too few, or time goes
        back."""
        if len(self.seconds) != len(self.poses) or len(self.seconds) < 2:
            raise Problem("A recording has two moments or more.")
        if not (np.diff(self.seconds) > 0).all() or self.seconds[-1] > MOST_RECORDED:
            raise Problem("The moments of a recording follow each other.")
        count = int(self.seconds[-1] * float(rate)) + 1
        if count < 2:
            raise Problem("A recording has two frames or more.")
        moments = np.arange(count) / float(rate)
        return self.frame + np.arange(count), between(self.seconds, self.poses, moments)


def recorded(
    authored: Authored, flight: Recorded, grid: Grid, rate: Fraction, px: float
) -> Authored:
    """Keys with a flight by hand put in their place, thinned out. Raises Problem as `on_frames`."""
    frames, poses = flight.on_frames(rate)
    focal = authored.curve("focal").at(frames.astype(float))
    half = np.array(authored.gate_mm) / 2 / focal[:, None]
    move = Move(frames, poses[:, :3, :3], poses[:, :3, 3], half, focal, np.zeros(2))
    found = thinned(move, grid, rate, px)
    curves = dict(authored.curves)
    first, last = int(frames[0]), int(frames[-1])
    for name, curve in found.curves.items():
        if name == "focal":
            continue
        before = curves[name].keys if name in curves else ()
        outside = [key for key in before if not first <= key.frame <= last]
        curves[name] = Curve.of([*outside, *_held_ends(curve, outside)])
    return replace(authored, curves=curves, last=max(authored.last, last))


def _held_ends(curve: Curve, outside: list[Key]) -> list[Key]:
    """The keys of a curve that others come to stand beside: at its ends it keeps its own slopes."""
    keys, (before, after) = list(curve.keys), curve.slopes()
    for index, there in (
        (0, [key for key in outside if key.frame < keys[0].frame]),
        (-1, [key for key in outside if key.frame > keys[-1].frame]),
    ):
        if there:
            slopes = {"before": float(before[index]), "after": float(after[index])}
            keys[index] = replace(keys[index], kind="free", **slopes)
    return keys


def key_here(authored: Authored, frame: int, pose: np.ndarray) -> Authored:
    """Keys with the position and direction of a camera (4, 4) on a frame."""
    grid = Grid.from_gate(GRID_PX, GRID_PX * 9 // 16, *authored.gate_mm)
    half = np.array([[1.0, grid.height / grid.width]])
    focal = np.array([authored.gate_mm[0] / 2])
    move = Move(np.array([frame]), pose[None, :3, :3], pose[None, :3, 3], half, focal, np.zeros(2))
    curves = dict(authored.curves)
    for name, curve in keys_from(move, [frame]).items():
        if name == "focal":
            continue
        (key,) = curve.keys
        if name in ("pan", "tilt", "roll") and name in curves:
            # Of the turns that are alike the one that is nearest to where the curve is.
            now = float(curves[name].at(np.array([float(frame)]))[0])
            key = replace(key, value=key.value + 360 * round((now - key.value) / 360))
        curves[name] = curves[name].with_key(key) if name in curves else Curve((key,))
    return replace(authored, curves=curves)


def flying_focal_mm(authored: Authored) -> float:
    """The focal length of a straight-line lens that sees FLYING_VIEW_DEG across the move's gate."""
    return authored.gate_mm[0] / 2 / math.tan(math.radians(FLYING_VIEW_DEG) / 2)


def for_flying(authored: Authored) -> Authored:
    """With the lens that is usual on a flying camera: very wide, and sharp from near to far."""
    focal = flying_focal_mm(authored)
    # The hyperfocal distance: focused there, all from half of it to infinity is sharp.
    circle = float(np.hypot(*authored.gate_mm)) / SHARP_SHARE
    focus = (focal**2 / (FLYING_STOP * circle) + focal) / 1000
    lens = {"focal": focal, "stop": FLYING_STOP, "focus": focus}
    curves = {name: Curve((Key(authored.first, value),)) for name, value in lens.items()}
    return replace(authored, curves={**authored.curves, **curves})


def things_of(shot: Shot) -> dict[str, np.ndarray]:
    """The triangles (T, 3, 3) of the stand-ins by name, metres; of fine meshes those of their
    box."""
    out = {}
    for item in shown(shot.state):
        placed = stand_in_from(item)
        if item.get("kind") in INSIDE:
            continue
        out[item["name"]] = _triangles(placed, placed.solid)
    return out


def _triangles(placed: StandIn, solid: Solid) -> np.ndarray:
    if len(solid.triangles) > MOST_TRIANGLES:
        from aperture.scene.solids import box

        return placed.bounds()[box().triangles]
    return placed.vertices()[solid.triangles]


def read_outs(shot: Shot, move: Move, limits: Limits) -> tuple[Readings, dict[str, np.ndarray]]:
    """What a move does, and where it exceeds the show's limits."""
    found = readings(move, rate_of(shot), list(things_of(shot).values()))
    return found, found.exceeded(limits)


def from_message(data: Mapping[str, Any]) -> tuple[Authored, Aircraft | None]:
    """Keys and aircraft as a page sends them. Raises Problem where they aren't."""
    authored = Authored.from_json(data.get("authored") or {})
    flies = data.get("aircraft")
    if not flies:
        return authored, None
    try:
        return authored, Aircraft(**flies)
    except TypeError:
        raise Problem("That isn’t an aircraft.") from None
