"""What changes where a move stands: its references, and the transform of its space."""

import copy
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from aperture.errors import Problem
from aperture.geometry.rotation import rotation_from_angles
from aperture.moves.align import MOST_REFERENCES
from web.moves.actions import change_move
from web.moves.alignment import USUAL, aligned, alignment_of, references_of
from web.moves.kept import move_called
from web.shows.history import edit
from web.shows.models import Shot
from web.stage.places import places_of

SMALLEST, LARGEST = 1e-4, 1e4  # of a move's scale


@dataclass(frozen=True)
class Stand:
    """Where a move's space stands in the set: its origin in metres, its turn in degrees, its
    scale."""

    position: tuple[float, float, float]
    heading_deg: float = 0.0
    tilt_deg: float = 0.0
    roll_deg: float = 0.0
    scale: float = 1.0

    def matrix(self) -> np.ndarray:
        """(4, 4) set from move. Raises Problem where a number can't be."""
        numbers = (*self.position, self.heading_deg, self.tilt_deg, self.roll_deg, self.scale)
        if not np.isfinite(numbers).all() or max(map(abs, self.position)) > 1e7:
            raise Problem("A move stands within 10,000 km.")
        if not SMALLEST <= self.scale <= LARGEST:
            raise Problem(f"The scale is a number from {SMALLEST} to {LARGEST:g}.", "scale")
        angles = (math.radians(v) for v in (self.heading_deg, self.tilt_deg, self.roll_deg))
        out = np.eye(4)
        out[:3, :3] = self.scale * rotation_from_angles(*angles)
        out[:3, 3] = self.position
        return out


def stand(shot: Shot, id_: str, matrix: np.ndarray, label: str, base: int | None) -> Shot:
    """Stand a move somewhere else."""
    is_none = np.abs(matrix - np.eye(4)).max() < 1e-12
    stands = None if is_none else [float(value) for value in matrix.ravel()]
    return change_move(shot, id_, label, {"stands": stands}, base)


def stand_as_referred(shot: Shot, id_: str, base: int | None) -> Shot:
    """Stand a move where its references say."""
    kept = move_called(shot.state, id_)
    found = aligned(shot, kept, references_of(shot, kept))
    if found is None or not found.determined:
        raise Problem("The references don’t determine where the move stands yet.")
    return stand(shot, id_, found.world_from_move, f"Stood {kept.name} by its references", base)


def change_alignment(
    shot: Shot, id_: str, label: str, change: Callable[[dict], None], base: int | None
) -> Shot:
    """Change what is kept of a move's references."""
    move_called(shot.state, id_)

    def changed(state):
        own = copy.deepcopy(alignment_of(state, id_))
        change(own)
        if len(own["references"]) > MOST_REFERENCES:
            raise Problem(f"A move has at most {MOST_REFERENCES} references.")
        state["alignments"] = {**state["alignments"], id_: own}

    return edit(shot, label, changed, base)


def add_points(shot: Shot, id_: str, points: Sequence[Mapping], base: int | None) -> Shot:
    """Points known in a move's space; those that the set knows by the same name are paired."""
    places = places_of(shot)

    def change(own):
        for point in points:
            name = point["name"][:80]
            own["references"] = [
                one
                for one in own["references"]
                if not (one["kind"] == "point" and one["name"] == name)
            ]
            own["references"].append(
                {
                    "id": _free(own),
                    "kind": "point",
                    "name": name,
                    "place": name if name in places else "",
                    "world": places.get(name),
                    "moves": point["world"],
                    "plus_minus": point["plus_minus"] or USUAL["point"],
                    "on": True,
                }
            )

    return change_alignment(shot, id_, f"{len(points)} reference points", change, base)


def add_sighting(
    shot: Shot,
    id_: str,
    place: str,
    frame: int,
    base: int | None,
    px: list[float] | None = None,
    of: str | None = None,
) -> Shot:
    """That a camera of the move saw a point of the set: at px of the plate, or on its lens axis."""
    places = places_of(shot)
    if place not in places:
        raise Problem("Choose a point of the set.", "place")
    if of is not None:
        move_called(shot.state, of)
    kind = "axis" if px is None else "spot"

    def change(own):
        own["references"].append(
            {
                "id": _free(own),
                "kind": kind,
                "name": place[:80],
                "place": place[:200],
                "world": places[place],
                "frame": frame - shot.state["shift"],
                "of": of,
                "plus_minus": USUAL[kind],
                "on": True,
            }
            | ({} if px is None else {"px": [float(value) for value in px]})
        )

    return change_alignment(shot, id_, f"Sighted {place[:60]}", change, base)


def set_references(
    shot: Shot, id_: str, given: Mapping[str, Mapping], options: Mapping, base: int | None
) -> Shot:
    """What is typed of the references, by their ids: place, ±, on, whether it goes; and what is
    solved.
    """
    places = places_of(shot)

    def change(own):
        kept = []
        for one in own["references"]:
            typed = given.get(one["id"], {})
            if typed.get("gone"):
                continue
            if "place" in typed and typed["place"] != one["place"]:
                one |= {"place": typed["place"], "world": places.get(typed["place"])}
            kept.append(one | {key: typed[key] for key in ("plus_minus", "on") if key in typed})
        own |= {**options, "references": kept}

    return change_alignment(shot, id_, "References of a move", change, base)


def _free(own: Mapping) -> str:
    taken = {one["id"] for one in own["references"]}
    return next(name for number in range(1, 1000) if (name := f"r{number}") not in taken)
