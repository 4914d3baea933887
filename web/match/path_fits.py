"""From the state of a filmed shot to the document of its path, the path's fit, and one camera per
frame.
"""

import functools
import hashlib
import json
from collections.abc import Callable, Mapping, MutableMapping
from dataclasses import dataclass, field, replace

import numpy as np

from aperture.camera import Camera, CameraPath
from aperture.errors import Problem
from aperture.lens.lens import Lens
from aperture.match.document import BETWEEN_POINTS, DEFAULT_SIGMA_PX, read
from aperture.path.reach import FrameReach
from aperture.track.tracks import Tracks
from web.blobs import store
from web.gates.gate import FoundLens
from web.match.fits import document_of, fit_of, lens_of_match, still_camera_of
from web.match.tracking import FACTS, NAMES, on_frame, tracks_of
from web.plates.frames import frame_at, span_of
from web.plates.models import Film
from web.shows.state import once

# Bumped when the answers change, so that a path that was solved before is called old.
SOLVER = "5"
# What a document says of a track; the rest is about how it is followed.
OF_DOCUMENT = ("name", "source", "world", "world_plus_minus", "on", "off")

# What must be solved of a camera that something in the world is drawn or rendered with.
PLACED = ("scale", "position", "direction")


@once
def _without_tracks(state: MutableMapping) -> dict | None:
    """The version 2 document of a shot's state less its tracks; None where there is no film."""
    still = document_of(state)
    if still is None or not state["film"]:
        return None
    first, last = span_of(state)
    film = state["film"]
    drawn = {film["shown"]: {"marks": state["marks"], "facts": state["facts"]}}
    drawn |= {int(number): aside for number, aside in state["aside"].items()}
    followed = {
        (told["picture"], id_) for id_, told in tracks_of(state).about.items() if "picture" in told
    }
    marks, facts = [], []
    for number, held in sorted(drawn.items()):
        frame = frame_at(state, number)
        if first <= frame <= last:
            marks += [
                _on_picture(mark, number, frame)
                for mark in held.get("marks", ())
                if (number, mark["id"]) not in followed  # it is a track, and counts once
            ]
            facts += [_of_still(fact, number, frame, followed) for fact in held.get("facts", ())]
    document = {
        key: value for key, value in still.items() if key in ("format", "image", "gate", "planes")
    }
    return (
        document
        | {
            "version": 2,
            "frames": {"first": first, "last": last} | _rate(state),
            "lens": _lens(state, still["lens"]),
            "marks": marks,
            "facts": facts + [on_frame(state, fact) for fact in state[FACTS]],
        }
        | ({"placing": "stand"} if state["stands"] else {})
        | ({"move": move} if (move := given_move(state)) else {})
    )


def _called(fact: dict) -> dict:
    """A fact with a name that says what it is about, where it has none."""
    if "name" in fact:
        return fact
    if fact["kind"] in BETWEEN_POINTS:
        ends = f"{fact['from']} to {fact['to']}"
        return {"name": f"{NAMES[fact['kind']]} from {ends}"} | fact
    if fact["kind"] == "camera_height" and "frame" in fact:
        return {"name": f"camera’s height on {fact['frame']}"} | fact
    return fact


def _rate(state: Mapping) -> dict:
    """The rate of a filmed plate, where it is known."""
    film = Film.objects.filter(digest=state["film"]["digest"]).first()
    if film is None or not film.rate:
        return {}
    return {"rate": "{}/{}".format(*film.rate.as_integer_ratio())}


def _lens(state: Mapping, lens: dict) -> dict:
    """The lens of all frames with its shutter; of a zoom with what is known of its focal length on
    some.
    """
    if readout := state["readout"]:
        given = {"value": readout["ms"], "plus_minus": readout["plus_minus"]}
        lens = lens | {"readout_ms": "free" if readout["ms"] is None else given}
    if not state["zoom"]:
        return lens | {"focal_over_time": "constant"}
    known = [
        [frame_at(state, int(number)), mm, plus_minus]
        for number, mm, plus_minus in state["zoom"]["known"]
        if state["gate"]
    ]
    return lens | {
        "focal_over_time": "free",
        "focal_mm": {"frames": known} if known else None,
    }


def _apart(id_: str, number: int) -> str:
    """An id of a mark, of which pictures have their own ones that may be alike."""
    return f"{id_}@{number}"[:64]


def _on_picture(mark: dict, number: int, frame: int) -> dict:
    """A mark as the document of all frames has it."""
    return mark | {"id": _apart(mark["id"], number), "frame": frame}


def _of_still(fact: dict, number: int, frame: int, followed: set[tuple[int, str]]) -> dict:
    """A fact of the still match, about the frame that it was measured on; between tracks where its
    spots are followed.
    """
    out = fact | {"id": _apart(fact["id"], number), "frame": frame}
    ends = [fact[end] for end in ("from", "to") if end in fact]
    if ends and all((number, end) in followed for end in ends):
        del out["frame"]
        return out
    for end in ("from", "to"):
        if end in fact:
            out[end] = _apart(fact[end], number)
    return out


def _places(tracks: Tracks, offset: int) -> list[list[float]]:
    """All observations as a document has them, of one track after the other, in the shot's frames;
    σ is one number where it is the same all around."""
    around = (tracks.sigma[:, 0] == tracks.sigma[:, 1]) & (tracks.cross == 0)
    # Rounded all at once: there are tens of thousands, and somebody waits for them.
    rows = zip(
        around.tolist(),
        (tracks.frame + offset).tolist(),
        np.round(tracks.xy, 4).tolist(),
        np.round(tracks.sigma, 5).tolist(),
        np.round(tracks.cross, 4).tolist(),
    )
    return [
        [frame, *at, sigma[0]] if one else [frame, *at, *sigma, cross]
        for one, frame, at, sigma, cross in rows
    ]


def film_document(state: MutableMapping) -> dict | None:
    """The match document, version 2, with the tracks on the frames of the marked range."""
    document = _without_tracks(state)
    if document is None:
        return None
    tracks, offset = tracks_of(state), state["film"]["offset"]
    rows, drawn, places = [], _drawn_px(state), _places(tracks, offset)
    for id_, begin, end in zip(tracks.ids, tracks.starts[:-1], tracks.starts[1:]):
        about = tracks.about.get(id_, {})
        told = {key: value for key, value in about.items() if key in OF_DOCUMENT}
        px = drawn.get((about["picture"], id_)) if "picture" in about else None
        if px is not None:
            told |= {"drawn_px": px, "drawn_on": about["picture"] + offset}
        rows.append({"id": id_, **told, "observations": places[begin:end]})
    # Names are for sentences: what a path depends on is the same without them.
    return document | {"facts": [_called(fact) for fact in document["facts"]], "tracks": rows}


def _drawn_px(state: Mapping) -> dict[tuple[int, str], float]:
    """How well the spots of each picture stand for what is meant, px, by picture number and id."""
    film = state["film"]
    held = {film["shown"]: state["marks"]}
    held |= {int(number): aside.get("marks", ()) for number, aside in state["aside"].items()}
    return {
        (number, mark["id"]): float(mark.get("sigma_px", DEFAULT_SIGMA_PX))
        for number, marks in held.items()
        for mark in marks
        if mark["kind"] == "spot"
    }


@once
def evidence_digest(state: MutableMapping) -> str:
    """What the path depends on, as one digest; two states with the same one have the same path."""
    document = _without_tracks(state)
    tracks = state["tracks"]["blob"] if state["tracks"] else None
    if document:  # by picture number, so that a shot that is shifted keeps its path
        offset = state["film"]["offset"]
        frames = document["frames"]
        span = frames | {key: frames[key] - offset for key in ("first", "last")}
        numbered = {
            part: [_by_number(item, offset) for item in document[part]]
            for part in ("marks", "facts")
        }
        if "move" in document:
            move = document["move"]
            numbered["move"] = move | {"frames": [frame - offset for frame in move["frames"]]}
        lens = document["lens"] | {"zoom": state["zoom"]} if state["zoom"] else document["lens"]
        lens = lens | {"focal_mm": None} if state["zoom"] else lens
        document = document | numbered | {"frames": span, "lens": lens}
    told = json.dumps([SOLVER, document, tracks], sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(told.encode()).hexdigest()


def _by_number(item: dict, offset: int) -> dict:
    """A mark or fact as it is kept, by picture number."""
    if item["kind"] == "camera_distance":
        return item | {end: item[end] - offset for end in ("from", "to")}
    return item | {"frame": item["frame"] - offset} if "frame" in item else item


@functools.lru_cache(maxsize=8)
def _read(digest: str) -> dict:
    return json.loads(store.get(digest))


def path_fit(state: Mapping) -> dict | None:
    """The fit of the shot's path as it was solved last; None where it wasn't."""
    return _read(state["path"]["blob"]) if state["path"] else None


def require_path_fit(state: Mapping) -> dict:
    """The fit of the shot's path as it was solved last. Raises Problem where it wasn't."""
    fit = path_fit(state)
    if fit is None:
        raise Problem("The path isn’t solved yet.")
    return fit


def is_old(state: MutableMapping) -> bool:
    """Whether tracks, marks, facts or the lens have changed since the path was solved."""
    return bool(state["path"]) and state["path"]["of"] != evidence_digest(state)


def as_part(fit: dict, of: str, shift: int) -> dict:
    """What the state holds of a path, whose fit is stored; `shift`: by how much the shot was
    shifted when it was solved.
    """
    return {
        "blob": store.put(json.dumps(fit, separators=(",", ":"), allow_nan=False).encode()),
        "of": of,
        "motion": fit["motion"],
        "shift": shift,
    }


@once
def path_of_state(state: MutableMapping) -> CameraPath | None:
    """One camera per frame, in the shot's numbering as it is now; None without a path.

    Of a camera that only turns without a place, unless a matched frame gives it one.
    """
    fit = path_fit(state)
    if not fit or not fit["ok"]:
        return None
    path, camera = fit["path"], fit["camera"]
    solved = [i for i, place in enumerate(path["pan_deg"]) if place is not None]
    if not solved:
        return None
    document = document_of(state)
    evidence = read(document, checked=True)
    each = np.array([path["focal_mm"][i] for i in solved])
    # Without a gate a millimetre is a pixel, and the numbers of a path are pixels already.
    focal = float(np.median(each))
    centre = evidence.grid.to_mm([camera["principal_point_px"]])[0]
    lens = Lens(
        focal,
        evidence.squeeze,
        evidence.projection,
        (float(centre[0]), float(centre[1])),
        tuple(camera["distortion"][name] for name in ("k1", "k2", "k3", "p1", "p2")),
    )
    poses = np.array([path["world_from_camera"][i] for i in solved])
    shift = state["shift"] - state["path"]["shift"]
    frames = np.array([path["frames"][i] for i in solved]) + shift
    found = CameraPath(evidence.grid, lens, frames, poses[:, :3, :3], poses[:, :3, 3], each)
    stands = _stand(state) if fit["motion"] == "nodal" else None
    if stands is None or stands[0] not in found:
        return found
    # It turns about the place, and from the direction, that the matched frame has.
    frame, still = stands
    turn = still.rotation @ found.at(frame).rotation.T
    places = np.tile(still.position, (len(frames), 1))
    return replace(found, rotations=turn @ found.rotations, positions=places)


@once
def _stand(state: MutableMapping) -> tuple[int, Camera] | None:
    """A frame whose marks alone give a camera with its place and size, and that camera: the one
    that is worked on first.
    """
    film, none = state["film"], {"marks": [], "facts": []}
    held = {film["shown"]: state}
    for number, aside in state["aside"].items():
        held[int(number)] = {**state, **none, **aside}
    for number, own in held.items():
        if not own["marks"] or not film["first"] <= number <= film["last"]:
            continue
        fit = fit_of(own)
        if fit and fit["ok"] and all(fit["determined"][name] == "solved" for name in PLACED):
            camera = still_camera_of(own)
            if camera is not None:
                return frame_at(state, number), camera
    return None


@once
def lens_of_shot(state: MutableMapping, number: int | None = None) -> FoundLens | None:
    """The shot's lens as the path has it on a picture, the one that is worked on if none is given;
    else as the marks of that one have it.
    """
    path = path_of_state(state) if state["film"] and state["gate"] else None
    frame = frame_at(state, number) if path is not None else None
    if path is None or frame not in path:
        return lens_of_match(state)
    given = require_path_fit(state)["determined"]["focal"] == "given"
    named = "catalogue" if state["lens"].get("name") else "typed"
    return FoundLens(path.at(frame).lens, named if given else "solved")


def reach_at(state: MutableMapping, frame: int) -> FrameReach | None:
    """How far the path's camera on a frame can be trusted; None where it isn't placed by the path
    alone, or wasn't told.
    """
    fit, path = path_fit(state), solved_path(state)
    if not fit or path is None or frame not in path or fit["motion"] == "nodal":
        return None
    index = frame - fit["path"]["frames"][0] - (state["shift"] - state["path"]["shift"])
    lower = (fit["path"].get("covariance") or {index: None})[index]
    return FrameReach.of(path.at(frame), fit["path"]["covariance_of"], lower) if lower else None


# What gives the move that serves as the shot's camera, of a state; registered by the app that keeps
# moves.
_served: list[Callable[[MutableMapping], "Served | None"]] = []


@dataclass(frozen=True, eq=False)
class Served:
    """A move from elsewhere that is the shot's camera.

    path : None where the move can't be put on the plate as it is now. Nothing else stands in for it
    then.
    key : another move, or another place of it, has another key.
    focus_m, f_number : by frame, where the move says them.
    """

    name: str
    path: CameraPath | None
    key: str
    focus_m: Mapping[int, float] = field(default_factory=dict)
    f_number: Mapping[int, float] = field(default_factory=dict)


# What gives a move that is evidence about the path, as a document has it; registered likewise.
_given: list[Callable[[MutableMapping], dict | None]] = []


def register_given(find: Callable[[MutableMapping], dict | None]) -> None:
    """Add what finds the move that is evidence about a shot's path; called by its app."""
    _given[:] = [find]


def given_move(state: MutableMapping) -> dict | None:
    """The move that is evidence about the path, as a document has it; None where none is."""
    return _given[0](state) if _given else None


def register_served(find: Callable[[MutableMapping], Served | None]) -> None:
    """Add what finds the move that serves as a shot's camera; called by its app."""
    _served[:] = [find]


@once
def served(state: MutableMapping) -> Served | None:
    """The move that serves as the shot's camera; None where its own match does."""
    return _served[0](state) if _served else None


def placed_path(state: MutableMapping) -> CameraPath | None:
    """One camera per frame with a place in the world: of the move that serves, or else of the
    solved path.
    """
    move = served(state)
    return solved_path(state) if move is None else move.path


@once
def solved_path(state: MutableMapping) -> CameraPath | None:
    """The solved path, if it stands in the world at its true size; else it can't carry anything
    that is placed there.
    """
    fit = path_fit(state)
    if not fit or not state["film"]:
        return None
    if fit["motion"] == "nodal":
        path, stands = path_of_state(state), _stand(state)
        return path if path is not None and stands and stands[0] in path else None
    if any(fit["determined"][name] != "solved" for name in PLACED):
        return None
    return path_of_state(state)


def determined(state: MutableMapping) -> dict[str, str]:
    """What of the path is solved, given or open; a matched frame gives a camera that only turns its
    place.
    """
    fit = path_fit(state)
    known = fit["determined"] if fit else {}
    if fit and fit["motion"] == "nodal" and solved_path(state) is not None:
        known = known | dict.fromkeys(("heading", *PLACED), "solved")
    return known


def camera_of_state(state: MutableMapping, frame: int | None = None) -> Camera | None:
    """The shot's camera on a frame, with its place in the world; on the one that is worked on, if
    none is given.

    That of the move that serves, where one does; a photograph has the first frame's. Else as
    `matched_camera`.
    """
    move = served(state)
    if move is None:
        return matched_camera(state, frame)
    if move.path is None:
        return None
    at = frame
    if at is None:
        at = frame_at(state) if state["film"] else int(move.path.frames[0])
    return move.path.at(at) if at in move.path else None


def require_camera(state: MutableMapping, frame: int | None = None) -> Camera:
    """As `camera_of_state`. Raises Problem where the shot has none there."""
    camera = camera_of_state(state, frame)
    if camera is None:
        raise Problem("There is no camera yet: match the plate and place the origin first.")
    return camera


def matched_camera(state: MutableMapping, frame: int | None = None) -> Camera | None:
    """The shot's own camera on a frame.

    That of the solved path where there is one. Else the one that the marks of one picture give, for
    all frames. None where there is neither.
    """
    path = solved_path(state)
    if path is None:
        return still_camera_of(state)
    at = frame_at(state) if frame is None else frame
    if at in path:
        return path.at(at)
    return still_camera_of(state) if frame is None else None
