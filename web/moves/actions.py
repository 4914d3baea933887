"""What changes a shot's moves."""

import tempfile
from pathlib import Path

from aperture.errors import Problem
from aperture.fence import run_fenced
from aperture.formats import moves_in
from aperture.formats.recipe import Recipe
from aperture.moves.source import BroughtIn, Settings
from web.blobs import store
from web.moves.kept import move_called, on_plate, rate_of
from web.moves.parts import MOST_MOVES
from web.plates.frames import span_of
from web.plates.models import require_film
from web.shows.history import LOCKED, Locked, edit
from web.shows.models import Shot
from web.stage.cameras import add_camera
from web.stage.stand_ins import counted

MOST_NODES = 1000  # of a file that are offered as targets


def take(shot: Shot, name: str, data: bytes, recipe: Recipe | None, base: int | None) -> Shot:
    """Bring a move in out of a file. Raises Problem where the file has none."""
    found = understood(shot, name, data, Settings(), recipe)
    file, baked = store.put(data), store.put_arrays(**found.move.to_arrays())

    def change(state):
        item = new_item(state, Path(name).stem[:60] or "Move") | {
            "file": {"blob": file},
            "file_name": name[:200],
            "settings": Settings().to_json(),
            "recipe": recipe.to_json() if recipe else None,
            "says": _says(found),
            "baked": {"blob": baked},
            "shift": state["shift"],
        }
        state["moves"] = [*state["moves"], item]

    return edit(shot, f"Brought in {name[:80]}", change, base)


def new_item(state, name: str) -> dict:
    """The id and the name of one more move, which stands where its own space is. Raises Problem
    where a shot holds no more.
    """
    if len(state["moves"]) >= MOST_MOVES:
        raise Problem(f"A shot holds {MOST_MOVES} moves. Remove one first.")
    taken = {item["id"] for item in state["moves"]}
    id_ = next(id_ for number in range(1, 1000) if (id_ := f"m{number}") not in taken)
    called = counted(name, {item["name"] for item in state["moves"]})
    return {"id": id_, "name": called, "stands": None}


def understood(
    shot: Shot, name: str, data: bytes, settings: Settings, recipe: Recipe | None
) -> BroughtIn:
    """A file's camera, read behind the fence. Raises Problem."""
    moves_in.format_of(name)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"move{Path(name).suffix.lower()}"
        path.write_bytes(data)
        first = span_of(shot.state)[0]
        return run_fenced(moves_in.read, path, settings, rate_of(shot), first, recipe)


def understand(
    shot: Shot, id_: str, settings: Settings, recipe: Recipe | None, base: int | None
) -> Shot:
    """Read a move's file again in another way. Raises Problem where it can't be read so; what was
    there stays then.
    """
    kept = move_called(shot.state, id_)
    item = next(item for item in shot.state["moves"] if item["id"] == id_)
    if item["file"] is None:
        raise Problem("This move was drawn here: it has no file that could be read another way.")
    found = understood(shot, kept.file_name, store.get(item["file"]["blob"]), settings, recipe)
    changes = {
        "settings": settings.to_json(),
        "recipe": recipe.to_json() if recipe else None,
        "says": _says(found),
        "baked": {"blob": store.put_arrays(**found.move.to_arrays())},
        "shift": shot.state["shift"],
    }
    return change_move(shot, id_, f"Understood {kept.name} otherwise", changes, base)


def rename(shot: Shot, id_: str, name: str, base: int | None) -> Shot:
    """Give a move another name."""
    move_called(shot.state, id_)
    return change_move(shot, id_, f"Named a move {name}", {"name": name}, base, moves=False)


def change_move(
    shot: Shot,
    id_: str,
    label: str,
    changes: dict,
    base: int | None,
    moves: bool = True,
    run: str = "",
) -> Shot:
    """Change what is kept of a move. `moves`: whether the camera moves by it, which a lock forbids
    where it is the shot's.
    """

    def change(state):
        move_called(state, id_)
        if moves:
            _refuse_locked(shot, state, id_)
        state["moves"] = [item | changes if item["id"] == id_ else item for item in state["moves"]]

    return edit(shot, label, change, base, run)


def remove(shot: Shot, id_: str, base: int | None) -> Shot:
    """Take a move out; the shot's own match is its camera again where this was."""
    name = move_called(shot.state, id_).name

    def change(state):
        _refuse_locked(shot, state, id_)
        state["moves"] = [item for item in state["moves"] if item["id"] != id_]
        state["alignments"] = {
            key: value for key, value in state["alignments"].items() if key != id_
        }
        if state["serving"] == id_:
            state["serving"] = None
        if state["move_evidence"] and state["move_evidence"]["id"] == id_:
            state["move_evidence"] = None

    return edit(shot, f"Removed the move {name}", change, base)


def serve(shot: Shot, id_: str | None, base: int | None) -> Shot:
    """Make a move the shot's camera, or, without one, the shot's own match again."""
    label = "The match is the shot’s camera again"
    if id_ is not None:
        on_plate(shot.state, id_)
        label = f"{move_called(shot.state, id_).name} is the shot’s camera"

    def change(state):
        if id_ is not None:
            move_called(state, id_)
        state["serving"] = id_

    return edit(shot, label, change, base)


def make_evidence(
    shot: Shot, id_: str, plus_minus: float | None, plus_minus_deg: float, base: int | None
) -> Shot:
    """Make a move evidence about the path, with its ± in metres and degrees; None: no longer."""
    name = move_called(shot.state, id_).name
    require_film(shot)
    if plus_minus is not None and not (0 < plus_minus <= 1e4 and 0 < plus_minus_deg <= 180):
        raise Problem("The ± of a move’s places and turns are above zero.", "plus_minus")
    given = {"id": id_, "plus_minus": plus_minus, "plus_minus_deg": plus_minus_deg}

    def change(state):
        state["move_evidence"] = given if plus_minus is not None else None

    label = f"{name} is evidence about the path"
    return edit(shot, label if plus_minus is not None else f"{name} is no evidence", change, base)


def put_into_set(shot: Shot, id_: str, frame: int, base: int | None) -> Shot:
    """A camera of the Set step that stands as the move does on one frame."""
    kept, path = move_called(shot.state, id_), on_plate(shot.state, id_)
    label = f"Put {kept.name} on frame {frame} into the set"
    name = f"{kept.name}, frame {frame}"[:60]
    return add_camera(shot, path.at(frame), name, "copied", base, label)


def _refuse_locked(shot: Shot, state, id_: str) -> None:
    """What serves as a locked camera stays as it is."""
    if shot.locked and state["serving"] == id_:
        raise Locked(LOCKED)


def _says(found: BroughtIn) -> dict:
    says = found.says()
    lists = ("cameras", "nodes", "done")
    return says | {key: [text[:500] for text in says[key][:MOST_NODES]] for key in lists}
