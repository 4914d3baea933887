"""The tracks of a filmed plate in the shot's state: reading them, and the verbs that change them.

The part `tracks` holds the digest of their arrays in the blob store, which count by picture number,
so that a shot that is shifted need not write them anew.
"""

import functools
from collections.abc import Callable, Iterable, Mapping, MutableMapping
from dataclasses import replace

import numpy as np

from aperture.errors import Problem
from aperture.match.document import BETWEEN_POINTS
from aperture.track.tracks import Tracks
from web.blobs import store
from web.plates.frames import is_pair, number_of
from web.plates.models import film_of
from web.shows.history import edit
from web.shows.models import Shot

# Facts that name tracks or frames, beside those of the still matcher.
FACTS = "path_facts"
NAMES = {"length": "distance", "direction": "direction"}  # of facts, in sentences
MOST_CHOSEN = 20_000
MOST_READOUT_MS = 1000.0


@functools.lru_cache(maxsize=8)
def _read(digest: str) -> Tracks:
    return Tracks.from_arrays(store.get_arrays(digest))


def tracks_of(state: Mapping) -> Tracks:
    """The tracks, by picture number; none where nothing has been followed."""
    part = state["tracks"]
    return _read(part["blob"]) if part else Tracks.none()


def as_part(tracks: Tracks) -> dict | None:
    """What the state holds of tracks, whose arrays are stored; None of no tracks."""
    if not len(tracks):
        return None
    return {
        "blob": store.put_arrays(**tracks.to_arrays()),
        "count": len(tracks),
        "places": len(tracks.frame),
    }


def change_tracks(
    shot: Shot,
    label: str,
    change: Callable[[Tracks], Tracks],
    base: int | None = None,
    beside: Callable[[MutableMapping], None] | None = None,
) -> Shot:
    """Change the tracks as one edit; `beside` changes other parts of the state with them.

    With a base, those of that revision are changed, which the page shows: what is kept where
    somebody else changed them too is the page's own version.
    """
    before = shot.state["tracks"]

    def put(state):
        if base is None and state["tracks"] != before:
            raise Problem("The tracks were changed meanwhile: look at them, and try again.")
        state["tracks"] = as_part(change(tracks_of(state)))
        if beside:
            beside(state)
        _drop_loose_facts(state, tracks_of(state))

    return edit(shot, label, put, base)


def _drop_loose_facts(state, tracks: Tracks) -> None:
    """Facts about tracks that are gone go with them."""
    there = set(tracks.ids)
    state[FACTS] = [
        fact
        for fact in state[FACTS]
        if fact["kind"] not in BETWEEN_POINTS or {fact["from"], fact["to"]} <= there
    ]


def require_chosen(tracks: Tracks, ids: Iterable[str]) -> set[str]:
    """The ids as a set. Raises Problem where there are none, or one of them is no track's."""
    wanted = set(ids)
    missing = wanted - set(tracks.ids)
    if not wanted:
        raise Problem("Choose a track first: click on one, or drag over several with Shift.")
    if missing:
        raise Problem(f"There is no track “{sorted(missing)[0][:40]}” any more.")
    return wanted


def take_imported(shot: Shot, found: Tracks, name: str, base: int | None) -> Shot:
    """Add tracks of a table, whose frames are the shot's; one of the same name is replaced.

    Raises Problem where none of them lies on the shot's frames.
    """
    film = shot.state["film"]
    numbered = found.shifted(-film["offset"])
    inside = (numbered.frame >= film["first"]) & (numbered.frame <= film["last"])
    numbered = numbered.only(np.ones(len(numbered), bool), inside)
    numbered = numbered.only(numbered.lengths() > 0)
    if not len(numbered):
        first, last = film["first"] + film["offset"], film["last"] + film["offset"]
        raise Problem(
            f"None of the table's points lies on a frame of this shot, {first} to {last}: its"
            " numbers may count from another first frame.",
            "table",
        )
    told = {id_: {"source": "imported"} for id_ in numbered.ids}
    numbered = replace(numbered, about=told)
    again = set(numbered.ids)

    def change(tracks: Tracks) -> Tracks:
        others = tracks.only(_array([id_ not in again for id_ in tracks.ids]))
        return others.joined(numbered)

    return change_tracks(shot, f"Took {len(numbered)} tracks from {name}", change, base)


def remove(shot: Shot, ids: list[str], base: int | None) -> Shot:
    """Remove tracks."""

    def change(tracks: Tracks) -> Tracks:
        wanted = require_chosen(tracks, ids)
        keep = [id_ not in wanted for id_ in tracks.ids]
        return tracks.only(_array(keep))

    return change_tracks(shot, f"Removed {_count(ids)}", change, base)


def tell(shot: Shot, ids: list[str], label: str, base: int | None, **told) -> Shot:
    """Say something of tracks: `world`, `world_plus_minus`, `off`, `name`; None takes it back."""

    def change(tracks: Tracks) -> Tracks:
        for id_ in sorted(require_chosen(tracks, ids)):
            tracks = tracks.telling(id_, **told)
        return tracks

    return change_tracks(shot, f"{label}: {_count(ids)}", change, base)


def free_id(state: Mapping) -> str:
    """An id for a new fact about the path, or a new plane: a document holds both, and each once."""
    taken = {item["id"] for part in (FACTS, "planes") for item in state[part]}
    return next(id_ for n in range(1, 100_000) if (id_ := f"p{n}") not in taken)


def leave_plane(state: MutableMapping, plane: str) -> None:
    """Tracks lie on a plane no more."""
    tracks = tracks_of(state)
    on_it = [id_ for id_, told in tracks.about.items() if told.get("on") == plane]
    for id_ in on_it:
        tracks = tracks.telling(id_, on=None)
    if on_it:
        state["tracks"] = as_part(tracks)


def add_fact(shot: Shot, fact: dict, base: int | None) -> Shot:
    """A fact about tracks, or about the camera on one frame; it gets an id."""
    tracks = tracks_of(shot.state)
    if fact["kind"] in BETWEEN_POINTS:
        require_chosen(tracks, {fact["from"], fact["to"]})
        if fact["from"] == fact["to"]:
            raise Problem(f"A {NAMES[fact['kind']]} needs two tracks.")

    def change(state):
        state[FACTS] = [*state[FACTS], {"id": free_id(state), **fact}]

    return edit(shot, "New fact about the path", change, base)


BASELINE = "baseline"


def set_baseline(shot: Shot, metres: float | None, plus_minus: float, base: int | None) -> Shot:
    """How far apart the two eyes of a stereo plate stand, metres; None forgets it."""
    if not is_pair(shot.state):
        raise Problem("Only a stereo plate has a baseline: bring in both eyes first.")
    film = shot.state["film"]
    own: dict = {"id": BASELINE, "kind": "camera_distance", "name": "Baseline"}
    own = own | {
        "from": film["first"],
        "to": film["last"],
        "metres": metres,
        "plus_minus": plus_minus,
    }

    def change(state):
        rest = [fact for fact in state[FACTS] if fact["id"] != BASELINE]
        state[FACTS] = rest if metres is None else [*rest, own]

    return edit(shot, "Baseline of both eyes", change, base)


def baseline_of(state: Mapping) -> dict | None:
    """The fact of the baseline; None where it isn't typed."""
    return next((fact for fact in state[FACTS] if fact["id"] == BASELINE), None)


def remove_fact(shot: Shot, id_: str, base: int | None) -> Shot:
    """Take a fact about tracks or frames back."""

    def change(state):
        kept = [fact for fact in state[FACTS] if fact["id"] != id_]
        if len(kept) == len(state[FACTS]):
            raise Problem("There is no such fact any more.")
        state[FACTS] = kept

    return edit(shot, "Removed a fact about the path", change, base)


def set_readout(
    shot: Shot, solved: bool, ms: float | None, plus_minus: float, base: int | None
) -> Shot:
    """How long a frame is read from its first row to its last; None, and not to be solved for: all
    at once."""
    if ms is not None and not 0 < ms <= MOST_READOUT_MS:
        raise Problem(f"A readout time lies between 0 and {MOST_READOUT_MS:.0f} ms.", "readout")

    def change(state):
        state["readout"] = None
        if solved or ms is not None:
            state["readout"] = {"ms": None if solved else ms, "plus_minus": plus_minus}

    return edit(shot, "Readout time", change, base)


def set_stands(shot: Shot, stands: bool, base: int | None) -> Shot:
    """Whether facts only lay the path down, and don't bend it."""

    def change(state):
        state["stands"] = stands

    return edit(
        shot, "Facts only lay the path down" if stands else "Facts bend the path", change, base
    )


def set_zoom(shot: Shot, zooms: bool, base: int | None) -> Shot:
    """Whether the lens zooms: then every frame has a focal length of its own."""

    def change(state):
        state["zoom"] = (state["zoom"] or {"known": []}) if zooms else None

    label = "The lens zooms" if zooms else "One focal length for all frames"
    return edit(shot, label, change, base)


def add_focals(shot: Shot, rows: list[tuple[int, float, float]], base: int | None) -> Shot:
    """What is known of a zoom's focal length: (picture, mm, ±); what was known of the same picture
    is replaced."""

    def change(state):
        if not state["zoom"]:
            raise Problem("Say first that the lens zooms.")
        if not state["gate"]:
            raise Problem(
                "A focal length in millimetres means nothing without the gate: set the gate first.",
                "length",
            )
        known = {int(row[0]): list(row) for row in state["zoom"]["known"]}
        known |= {number: [number, mm, plus_minus] for number, mm, plus_minus in rows}
        state["zoom"] = {"known": [known[number] for number in sorted(known)]}

    return edit(shot, "Focal lengths of the zoom", change, base)


def focals_of_file(shot: Shot) -> list[tuple[int, float]]:
    """(picture, mm) of the marked range, as the files say it; none where it stays the same."""
    film = film_of(shot)
    told = film.told.get("curves", {}).get("focal_mm", []) if film else []
    return [(int(number), float(mm)) for number, mm in told if mm]


def forget_focals(shot: Shot, base: int | None) -> Shot:
    """Take back what was said of a zoom's focal lengths."""

    def change(state):
        state["zoom"] = state["zoom"] and {"known": []}

    return edit(shot, "Forgot the zoom’s focal lengths", change, base)


def on_frame(state: Mapping, fact: dict) -> dict:
    """A fact as a document has it: the picture that it is about as a frame of the shot."""
    offset = state["film"]["offset"]
    if fact["kind"] == "camera_distance":
        return fact | {end: fact[end] + offset for end in ("from", "to")}
    if "frame" not in fact:
        return fact
    return fact | {"frame": fact["frame"] + offset}


def picture_of(state: MutableMapping, frame: int) -> int:
    """The picture number by which a fact about a frame is kept. Raises Problem where there is
    none."""
    number = number_of(state, frame)
    film = state["film"]
    if not film["first"] <= number <= film["last"]:
        raise Problem(f"Frame {frame} isn’t one of this shot.", "frame")
    return number


def turned(state: MutableMapping, move: Callable[[np.ndarray], np.ndarray], factor: float) -> None:
    """Take tracks and keep-out areas along where the picture below them is turned; a path from
    before isn't one any more."""
    tracks = tracks_of(state)
    if len(tracks):
        moved = _moved(tracks, move, factor)
        state["tracks"] = as_part(moved)
    state["keep_out"] = [
        area
        | {"keys": {n: move(np.array(corners)).tolist() for n, corners in area["keys"].items()}}
        for area in state["keep_out"]
    ]
    state["path"] = None


def _moved(tracks: Tracks, move: Callable[[np.ndarray], np.ndarray], factor: float) -> Tracks:
    """Places and the ellipses of their errors, taken along."""
    corner, across, down = move(np.array([[0.0, 0.0], [1.0, 0.0], [0.0, 1.0]]))
    turn = np.stack([across - corner, down - corner], axis=1)
    turn /= np.sqrt(abs(np.linalg.det(turn)))
    sigma = tracks.sigma * factor
    mixed = tracks.cross * sigma[:, 0] * sigma[:, 1]
    spread = np.stack([sigma[:, 0] ** 2, mixed, mixed, sigma[:, 1] ** 2], axis=1)
    spread = turn @ spread.reshape(-1, 2, 2) @ turn.T
    sigma = np.sqrt(np.einsum("nii->ni", spread))
    cross = spread[:, 0, 1] / (sigma[:, 0] * sigma[:, 1])
    return replace(tracks, xy=move(tracks.xy), sigma=sigma, cross=cross)


def let_go(state: MutableMapping) -> None:
    """Another film has other tracks, and another path."""
    state["tracks"], state["path"], state[FACTS], state["keep_out"] = None, None, [], []
    state["zoom"], state["readout"], state["stands"] = None, None, False


def _count(ids: list[str]) -> str:
    return "1 track" if len(set(ids)) == 1 else f"{len(set(ids))} tracks"


def _array(values: list[bool]) -> np.ndarray:
    return np.array(values, bool)
