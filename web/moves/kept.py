"""The moves that a shot keeps: out of its state, onto its plate."""

import functools
import json
from collections.abc import Mapping, MutableMapping
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

from aperture.camera import CameraPath
from aperture.errors import Problem
from aperture.formats.recipe import Recipe
from aperture.lens.lens import Lens
from aperture.match.document import read
from aperture.moves.authored import Authored
from aperture.moves.flight import Aircraft
from aperture.moves.move import Move
from aperture.moves.source import BroughtIn, Settings
from web.blobs import store
from web.match.fits import document_of, lens_of_match
from web.match.path_fits import Served, path_of_state
from web.plates.frames import span_of
from web.plates.models import film_of
from web.shows.models import Shot
from web.shows.state import once


@dataclass(frozen=True, eq=False)
class Kept:
    """One of them. `found`: the move where it stands, in the shot's frame numbers, and what its
    file said. `own`: the move in its own space; `stands`: where that is in the set, (4, 4);
    `shifted`: by how many frames the shot was shifted since it came. `authored`, `aircraft`: its
    keys where it was drawn here, in the shot's frame numbers, and what flies it.
    """

    id: str
    name: str
    file_name: str
    settings: Settings
    recipe: Recipe | None
    found: BroughtIn
    own: Move
    stands: np.ndarray
    shifted: int
    key: str
    authored: Authored | None = None
    aircraft: Aircraft | None = None

    @property
    def move(self) -> Move:
        """Where it stands, in the shot's frame numbers."""
        return self.found.move


@functools.lru_cache(maxsize=32)
def _baked(digest: str) -> Move:
    return Move.from_arrays(store.get_arrays(digest))


@functools.lru_cache(maxsize=32)
def _keys(digest: str) -> Authored:
    return Authored.from_json(json.loads(store.get(digest)))


@once
def moves_of(state: MutableMapping) -> list[Kept]:
    """All moves of a shot, in the order in which they came."""
    return [_kept(state, item) for item in state["moves"]]


def _kept(state: Mapping, item: Mapping) -> Kept:
    settings = Settings(**item["settings"])
    shifted = state["shift"] - item["shift"]
    own = _baked(item["baked"]["blob"]).shifted(shifted)
    if settings.rests:
        own = own.held(*span_of(state))
    stands = np.array(item["stands"]).reshape(4, 4) if item["stands"] else np.eye(4)
    move = own.stood(stands) if item["stands"] else own
    rests = list(span_of(state)) if settings.rests else None
    key = [item["baked"]["blob"], item["stands"], settings.fit, shifted, rests]
    return Kept(
        item["id"],
        item["name"],
        item["file_name"],
        settings,
        Recipe.from_json(item["recipe"]) if item["recipe"] else None,
        BroughtIn.of(move, item["says"]),
        own,
        stands,
        shifted,
        json.dumps(key),
        _keys(item["authored"]["blob"]).shifted(shifted) if "authored" in item else None,
        Aircraft(**item["aircraft"]) if item.get("aircraft") else None,
    )


def move_called(state: MutableMapping, id_: str | None) -> Kept:
    """One of them by its id. Raises Problem where it is gone."""
    found = next((one for one in moves_of(state) if one.id == id_), None)
    if found is None:
        raise Problem("That move is gone: somebody removed it.")
    return found


@once
def on_plate(state: MutableMapping, id_: str) -> CameraPath:
    """A move as cameras of the shot's plate. Raises Problem without a plate, or where nothing tells
    how wide it sees.
    """
    kept = move_called(state, id_)
    return cameras_of(state, kept, kept.move)


def cameras_of(state: MutableMapping, kept: Kept, move: Move) -> CameraPath:
    """A kept move, wherever it stands, as cameras of the shot's plate. Raises Problem as `on_plate`
    does.
    """
    document = document_of(state)
    if document is None:
        raise Problem("Bring in a plate first: a camera sees as many pixels as the plate has.")
    evidence = read(document, checked=True)
    lens = own_lens(state)
    typed = (state["lens"].get("focal_mm") or {}).get("value")
    if lens is not None and takes_distortion(move, lens):
        move = replace(move, distortion=lens.coefficients)
    focal = lens.focal_mm if lens is not None else typed
    return move.on(evidence.grid, evidence.squeeze, focal, kept.settings.fit)


@once
def own_lens(state: MutableMapping) -> Lens | None:
    """The lens of the shot's own path or match; None where neither is known."""
    path = path_of_state(state) if state["film"] else None
    if path is not None:
        return path.lens
    found = lens_of_match(state)
    return found.lens if found is not None else None


def takes_distortion(move: Move, lens: Lens) -> bool:
    """Whether a move gets its distortion from the shot's own lens: few files can carry one, and the
    plate is bent all the same.
    """
    return not any(move.distortion) and lens.projection.name == "rectilinear" and lens.distorts


def serving(state: MutableMapping) -> Served | None:
    """The move that is the shot's camera, without a path where it fits the plate no more; None
    where there is none.
    """
    if not state["serving"]:
        return None
    kept = move_called(state, state["serving"])
    try:
        path = on_plate(state, kept.id)
        return Served(kept.name, path, kept.key, *_focus_and_stop(kept))
    except Problem:
        return Served(kept.name, None, kept.key)


def _focus_and_stop(kept: Kept) -> tuple[dict[int, float], dict[int, float]]:
    """Metres and f-numbers by frame that a drawn move has keys for."""
    authored = kept.authored
    if authored is None:
        return {}, {}
    frames = authored.frames
    focus, stop = (
        dict(zip(frames.tolist(), authored.curve(name).at(frames.astype(float)).tolist()))
        if name in authored.curves
        else {}
        for name in ("focus", "stop")
    )
    return focus, stop


def as_evidence(state: MutableMapping) -> dict | None:
    """The move that is evidence about the path, on the frames of the marked range, as a match
    document has it.
    """
    wanted = state["move_evidence"]
    if not wanted:
        return None
    try:
        move = move_called(state, wanted["id"]).move
    except Problem:
        return None
    first, last = span_of(state)
    rows = np.flatnonzero((move.frames >= first) & (move.frames <= last))
    if not len(rows):
        return None
    poses = np.tile(np.eye(4), (len(rows), 1, 1))
    poses[:, :3, :3], poses[:, :3, 3] = move.rotations[rows], move.positions[rows]
    return {
        "frames": move.frames[rows].tolist(),
        "world_from_camera": poses.reshape(-1, 16).tolist(),
        "plus_minus": wanted["plus_minus"],
        "plus_minus_deg": wanted["plus_minus_deg"],
    }


def rate_of(shot: Shot) -> Fraction:
    """The plate's rate, or else the show's."""
    film = film_of(shot)
    return (film.rate if film is not None else None) or shot.show.rate


def follow_world(state: MutableMapping, turn: np.ndarray, shift: np.ndarray) -> None:
    """Turn (3, 3) and shift (3,) metres where the moves stand, in place."""
    moved = np.eye(4)
    moved[:3, :3], moved[:3, 3] = turn, shift
    out = []
    for item in state["moves"]:
        stands = np.array(item["stands"] or np.eye(4).ravel()).reshape(4, 4)
        out.append(item | {"stands": (moved @ stands).ravel().tolist()})
    state["moves"] = out
    state["alignments"] = {
        id_: own | {"references": [_followed(one, turn, shift) for one in own["references"]]}
        for id_, own in state["alignments"].items()
    }


def _followed(reference: Mapping, turn: np.ndarray, shift: np.ndarray) -> dict:
    """A reference whose point of the set was turned and shifted with its world."""
    world = reference["world"]
    if world is None:
        return dict(reference)
    return {**reference, "world": (turn @ world + shift).tolist()}
