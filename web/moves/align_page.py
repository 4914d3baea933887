"""What the page shows that lays a move into the set: its references, and where they say it
stands."""

import math
from dataclasses import dataclass, field

import numpy as np

from aperture.camera import CameraPath
from aperture.errors import Problem
from aperture.geometry.rotation import angles_from_rotation
from aperture.moves.align import Alignment
from web.moves.alignment import UNITS, Known, aligned, alignment_of, references_of
from web.moves.kept import Kept, cameras_of, on_plate
from web.shows.models import Shot
from web.stage.places import places_of
from web.ui.rows import Remark, Row

SAME_M, SAME_DEG = 5e-4, 0.005  # so far apart a move stands where its references say


@dataclass(frozen=True)
class Shown:
    """A reference as a row of the page."""

    id: str
    name: str
    kind: str
    about: str
    place: str
    plus_minus: float
    unit: str
    on: bool
    left: str
    sigmas: str
    problem: str


@dataclass(frozen=True)
class Laid:
    """All that the page shows of where a move stands."""

    references: list[Shown]
    found: Alignment | None
    problem: str
    rows: list[Row] = field(default_factory=list)
    remarks: list[Remark] = field(default_factory=list)

    @property
    def may_stand(self) -> bool:
        """Whether the references determine a place."""
        return self.found is not None and self.found.determined


def laid(shot: Shot, kept: Kept) -> Laid:
    """What the page shows."""
    references = references_of(shot, kept)
    found, problem = None, ""
    try:
        found = aligned(shot, kept, references)
    except Problem as error:
        problem = error.sentence
    shown = _shown(shot, kept, references, found)
    if found is None:
        return Laid(shown, None, problem)
    return Laid(shown, found, "", _rows(shot, kept, found), _remarks(shot, kept, found))


def _shown(shot: Shot, kept: Kept, references: list[Known], found: Alignment | None) -> list[Shown]:
    left = iter(found.residuals if found is not None else ())
    names = {item["id"]: item["name"] for item in shot.state["moves"]}
    out = []
    for one in references:
        item, residual = one.item, None
        if one.counts and found is not None:
            residual = next(left)
        size, sigmas = "", ""
        if residual is not None and found is not None and found.determined:
            sigmas = f"{residual.sigmas:.1f} σ"
            if item["kind"] == "point":
                size = shot.show.length(residual.size)[0]
            elif item["kind"] == "axis":
                size = f"{math.degrees(math.atan(residual.size)):.2f}°"
            else:
                size = f"{residual.size * _focal_px(shot, kept, one):.2f} px"
        frame = item.get("frame")
        about = "both known"
        if frame is not None:
            about = f"frame {frame + shot.state['shift']}"
            if item.get("of"):
                about += f" of {names.get(item['of'], 'a move that is gone')}"
            about += ", on the lens axis" if item["kind"] == "axis" else ", on the plate"
        out.append(
            Shown(
                item["id"],
                item["name"],
                item["kind"],
                about,
                item["place"],
                item["plus_minus"],
                UNITS[item["kind"]],
                item["on"],
                size,
                sigmas,
                one.problem,
            )
        )
    return out


def _focal_px(shot: Shot, kept: Kept, one: Known) -> float:
    frame = one.item["frame"] + shot.state["shift"]
    return float(np.mean(cameras_of(shot.state, kept, kept.own.only(frame)).at(frame).focal_px))


def stand_rows(shot: Shot, matrix: np.ndarray) -> dict[str, str]:
    """Where a space stands, as it is typed: the origin as a length, the turn in degrees, the
    scale.
    """
    scale = float(np.cbrt(np.linalg.det(matrix[:3, :3])))
    angles = np.degrees(angles_from_rotation(matrix[:3, :3] / scale))
    names = ("x", "y", "z", "heading", "tilt", "roll", "scale")
    places = [shot.show.length(float(value), places=4)[0] for value in matrix[:3, 3]]
    plain = [f"{float(value) + 0.0:.6g}" for value in (*np.round(angles, 6), scale)]
    return dict(zip(names, [*places, *plain]))


def _rows(shot: Shot, kept: Kept, found: Alignment) -> list[Row]:
    if not found.determined:
        return []
    show, spread = shot.show, found.plus_minus
    rows = []
    for index, name in enumerate(("across", "in height", "along")):
        said, plus_minus = show.length(float(found.middle[index]), float(spread[index]))
        rows.append(
            Row(f"Its middle, {name}", said, plus_minus, "solved", "The middle of the move’s path")
        )
    angles = np.degrees(angles_from_rotation(found.world_from_move[:3, :3] / found.scale))
    turns = np.degrees(spread[3:6])
    for name, value, wide in zip(
        ("Heading", "Tilt", "Roll"), angles, (turns[1], turns[0], turns[2])
    ):
        rows.append(Row(name, f"{value:z.3f}°", f"± {wide:.3f}", "solved", "Of the move’s space"))
    if spread[6] > 0:
        wide = found.scale * float(spread[6])
        rows.append(Row("Size", f"{found.scale:.5f}", f"± {wide:.5f}", "solved"))
    if spread[7] > 0:
        mm, wide = 1000 * found.pupil_m, 1000 * float(spread[7])
        rows.append(Row("Entrance pupil", f"{mm:z.1f} mm", f"± {wide:.1f}", "solved"))
    if found.freedom:
        factor = math.sqrt(found.chi2 / found.freedom)
        rows.append(
            Row("Residuals", f"{factor:.2f} ×", "", "solved", "Their size against what the ± say")
        )
    return rows


def _remarks(shot: Shot, kept: Kept, found: Alignment) -> list[Remark]:
    out = [Remark("Not determined", says, "doubt") for says in found.open]
    worst = max(found.residuals, key=lambda one: one.sigmas)
    if found.determined and worst.sigmas > 3:
        out.append(
            Remark(
                "One reference disagrees",
                f"“{worst.name}” is {worst.sigmas:.1f} σ off. Is it the right point? Turn it off "
                "and look at the others.",
                "doubt",
            )
        )
    if not found.determined:
        return out
    apart = _apart(kept, found.world_from_move)
    fields = {"base": shot.head.number}
    to = {"action": shot.url("moves-stand-referred", kept.id), "fields": fields}
    if apart:
        out.append(Remark("It stands elsewhere", apart, "note", (("Stand it here", to),)))
    if alignment_of(shot.state, kept.id)["pupil"]:
        out += _pupil(shot, kept, found)
    return out


def _apart(kept: Kept, matrix: np.ndarray) -> str:
    """How far the move would go, in a sentence; empty where it stands there already."""
    now, then = kept.move, kept.own.stood(matrix)
    far = float(np.linalg.norm(now.positions - then.positions, axis=1).max())
    turn = now.rotations[0].T @ then.rotations[0]
    angle = math.degrees(math.acos(float(np.clip((np.trace(turn) - 1) / 2, -1, 1))))
    if far < SAME_M and angle < SAME_DEG:
        return ""
    return (
        f"By its references the move belongs {far:.3g} m away from where it stands, turned by "
        f"{angle:.3g}°."
    )


def _pupil(shot: Shot, kept: Kept, found: Alignment) -> list[Remark]:
    mm = 1000 * found.pupil_m + kept.settings.pupil_mm
    px = pupil_px(shot, kept, found.pupil_m)
    says = f"From the picture the entrance pupil lies {mm:z.0f} mm before the rig’s axis."
    if px is not None:
        says += f" That matters by up to {px:.2f} px at the near end of the set."
    return [Remark("Entrance pupil", says, "note")]


def pupil_px(shot: Shot, kept: Kept, metres: float) -> float | None:
    """By how many px the entrance pupil's place matters at most, on the named points of the set,
    once the move was stood as well as can be without it; None where nothing is seen.
    """
    points = list(places_of(shot).values())
    try:
        path = on_plate(shot.state, kept.id)
    except Problem:
        return None
    if not points:
        return None
    moved = path.positions - metres * path.rotations[:, :, 2]
    # What all frames have in common goes into where the move stands.
    moved = moved - (moved - path.positions).mean(axis=0)
    other = CameraPath(path.grid, path.lens, path.frames, path.rotations, moved, path.focal_mm)
    each = [
        np.linalg.norm(path.at(frame).project(points) - other.at(frame).project(points), axis=1)
        for frame in path.frames[:: max(1, len(path.frames) // 50)].tolist()
    ]
    far = np.concatenate(each)
    far = far[np.isfinite(far)]
    return float(far.max()) if len(far) else None
