"""Where a move stands, by its references: out of a shot's state."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from aperture.camera import CameraPath
from aperture.errors import Problem
from aperture.moves.align import Alignment, Pair, Reference, Sighting, Wanted, align
from web.moves.kept import Kept, cameras_of, move_called
from web.shows.models import Shot
from web.stage.places import places_of, spreads_of

NONE: dict = {"references": [], "scale": False, "level_deg": None, "pupil": False}
# What a reference is known to where nothing is typed: a tape on a rig's stage; how well an operator
# aims; a click.
USUAL = {"point": 0.01, "axis": 0.3, "spot": 1.0}
UNITS = {"point": "m", "axis": "°", "spot": "px"}


@dataclass(frozen=True)
class Known:
    """A reference with its place in the set, where it has one. `problem`: why it can't count."""

    item: Mapping
    world: list[float] | None
    reference: Reference | None
    problem: str = ""

    @property
    def counts(self) -> bool:
        """Whether the alignment rests on it."""
        return self.item["on"] and self.reference is not None


def alignment_of(state: Mapping, id_: str) -> dict:
    """What is kept of a move's references and of what is solved."""
    return state["alignments"].get(id_, NONE)


def references_of(shot: Shot, kept: Kept) -> list[Known]:
    """A move's references, as the set is now."""
    places, spreads = places_of(shot), spreads_of(shot.state)
    paths: dict[str, CameraPath] = {}
    out = []
    for item in alignment_of(shot.state, kept.id)["references"]:
        world = places.get(item["place"], item["world"])
        if world is None:
            out.append(Known(item, None, None, "Choose which point of the set it is."))
            continue
        try:
            made = _reference(shot, kept, item, world, spreads.get(item["place"], 0.0), paths)
            out.append(Known(item, world, made))
        except Problem as problem:
            out.append(Known(item, world, None, problem.sentence))
    return out


def _reference(
    shot: Shot,
    kept: Kept,
    item: Mapping,
    world: list[float],
    spread: float,
    paths: dict[str, CameraPath],
) -> Reference:
    name, plus_minus = item["name"], item["plus_minus"]
    if item["kind"] == "point":
        return Pair(name, item["moves"], world, plus_minus, spread)
    seen_by = kept if item.get("of") is None else move_called(shot.state, item["of"])
    frame = item["frame"] + shot.state["shift"]
    move = seen_by.own
    rows = np.flatnonzero(move.frames == frame)
    if not len(rows):
        raise Problem(f"{seen_by.name} has no frame {frame}.")
    rotation, position = move.rotations[rows[0]], move.positions[rows[0]]
    if item["kind"] == "axis":
        sigma = math.radians(plus_minus)
        return Sighting(name, rotation, position, (0.0, 0.0), world, sigma, spread)
    if seen_by.id not in paths:
        paths[seen_by.id] = cameras_of(shot.state, seen_by, move)
    camera = paths[seen_by.id].at(frame)
    ray = camera.lens.rays(camera.grid.to_mm([item["px"]]))[0]
    if not np.isfinite(ray).all():
        raise Problem("The lens forms no picture there.")
    sigma = plus_minus / float(np.mean(camera.focal_px))
    return Sighting(name, rotation, position, ray[:2] / -ray[2], world, sigma, spread)


def wanted_of(kept_alignment: Mapping) -> Wanted:
    """What is solved, and whether the move's floor is level."""
    level = kept_alignment["level_deg"]
    return Wanted(
        kept_alignment["scale"],
        math.radians(level) if level else None,
        kept_alignment["pupil"],
    )


def aligned(shot: Shot, kept: Kept, references: list[Known]) -> Alignment | None:
    """Where the references say that a move stands; None without any. Raises Problem where they
    can't.
    """
    counting = [one.reference for one in references if one.counts and one.reference is not None]
    if not counting:
        return None
    centre = kept.own.positions.mean(axis=0)
    return align(counting, wanted_of(alignment_of(shot.state, kept.id)), centre)
