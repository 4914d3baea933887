"""What the page of moves shows: the chosen one, what is odd about it, how far it is from the shot's
own camera.
"""

from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.camera import Camera, CameraPath
from aperture.errors import Problem
from aperture.moves.compare import apart, offsets
from aperture.moves.doubts import Doubt, doubts
from aperture.moves.timing import Lag
from aperture.scene import overlay
from aperture.units import METRES, format_rate
from web.match.curves import Curve, curve
from web.match.overlay import path_of, spacing_for
from web.match.path_fits import matched_camera, solved_path
from web.moves.align_page import pupil_px
from web.moves.alignment import references_of
from web.moves.forms import UNIT_NAMES
from web.moves.kept import (
    Kept,
    cameras_of,
    move_called,
    on_plate,
    own_lens,
    rate_of,
    takes_distortion,
)
from web.moves.time_actions import measured
from web.plates.flash_actions import found as flashes_of
from web.plates.frames import frame_at, span_of, way_of
from web.plates.models import require_film
from web.shows.models import Shot
from web.shows.state import once
from web.stage.stand_ins import shown, stand_in_from
from web.ui.rows import Remark, Row

AXES_SAID, TURNS_SAID = ("across", "up", "along"), ("pan", "tilt", "roll")
WORST = 3  # frames that are named
DRAWN_PX = 0.05  # less is no arrow
ODD_PX = 0.5  # by which the sides of two gates may disagree


@dataclass(frozen=True)
class Compared:
    """A move against the shot's own camera: px at most over the picture, per frame."""

    each: dict[int, float]

    @property
    def worst(self) -> list[tuple[int, str]]:
        """The frames that differ most, largest first."""
        order = sorted(self.each, key=lambda frame: -self.each[frame])
        return [(frame, said(self.each[frame])) for frame in order[:WORST]]

    def curve(self, first: int, last: int) -> Curve | None:
        """Over the plate's frames."""
        known = {frame: px for frame, px in self.each.items() if np.isfinite(px)}
        values = [known.get(frame) for frame in range(first, last + 1)]
        return curve("Difference", "px", values, places=2, from_zero=True)


def said(px: float) -> str:
    """A difference in words."""
    return f"{px:.2f} px" if np.isfinite(px) else "another direction"


@once
def own_cameras(state) -> dict[int, Camera]:
    """The shot's own camera by frame: the solved path's, or the matched one on the frame that it
    was matched on.
    """
    path = solved_path(state)
    if path is not None:
        return {frame: path.at(frame) for frame in path.frames.tolist()}
    camera = matched_camera(state)
    if camera is None:
        return {}
    return {frame_at(state) if state["film"] else span_of(state)[0]: camera}


def cameras_in(path: CameraPath, first: int, last: int) -> dict[int, Camera]:
    """Those of a path within a range of frames."""
    return {frame: path.at(frame) for frame in path.frames.tolist() if first <= frame <= last}


@once
def compared(state, id_: str) -> Compared | None:
    """A move against the shot's own camera; None where one of them is missing, or they share no
    frame.
    """
    own = own_cameras(state)
    try:
        path = on_plate(state, id_)
    except Problem:
        return None
    each = apart(own, cameras_in(path, *span_of(state)))
    return Compared(each) if each else None


def drift(shot: Shot, kept: Kept) -> list[Curve]:
    """How far the solved path is from a move, along each axis and about each, over the frames."""
    path = solved_path(shot.state)
    if path is None or len(path.frames) < 2:
        return []
    first, last = span_of(shot.state)
    place: list[list[float | None]] = [[None] * (last - first + 1) for _ in range(3)]
    turn: list[list[float | None]] = [[None] * (last - first + 1) for _ in range(3)]
    rows_ = {int(frame): row for row, frame in enumerate(kept.move.frames)}
    for index, frame in enumerate(path.frames.tolist()):
        row = rows_.get(frame)
        if row is None or not first <= frame <= last:
            continue
        off = path.positions[index] - kept.move.positions[row]
        about = Rotation.from_matrix(kept.move.rotations[row].T @ path.rotations[index]).as_rotvec()
        for axis in range(3):
            place[axis][frame - first] = float(1000 * off[axis])
            turn[axis][frame - first] = float(np.degrees(about[(1, 0, 2)[axis]]))
    names = [(f"Path less move, {name}", "mm", each, 1) for name, each in zip(AXES_SAID, place)]
    names += [(f"Path less move, {name}", "°", each, 3) for name, each in zip(TURNS_SAID, turn)]
    return [
        drawn
        for name, unit, each, places in names
        if (drawn := curve(name, unit, each, places=places)) is not None
    ]


def rows(shot: Shot, kept: Kept) -> list[Row]:
    """What the move is, as it is understood."""
    found, move, show = kept.found, kept.move, shot.show
    begins, ends = int(move.frames[0]), int(move.frames[-1])
    first, last = span_of(shot.state)
    rate = f"{format_rate(found.rate)} fps" if found.rate else "says no rate"
    unit = UNIT_NAMES.get(found.metres, f"{found.metres:g} m")

    def origin(what: str, typed: object) -> str:
        if typed:
            return "typed"
        return "file" if what in found.declares else "assumed"

    low, high = (
        show.length(float(bound))[0]
        for bound in (move.positions[:, 1].min(), move.positions[:, 1].max())
    )
    travel = np.linalg.norm(np.diff(move.positions, axis=0), axis=1).sum()
    settings = kept.settings
    return [
        *_from(kept),
        Row(
            "Frames",
            f"{begins}–{ends}" if ends > begins else str(begins),
            origin=origin("frames", settings.offset),
        ),
        Row("Plate’s frames", f"{first}–{last}" if last > first else str(first)),
        Row("Rate", rate, origin="file" if "rate" in found.declares else "assumed"),
        Row("Plate’s rate", f"{format_rate(rate_of(shot))} fps"),
        Row("Unit", unit, origin=origin("unit", settings.unit)),
        Row("Up axis", found.up_axis, origin=origin("up_axis", settings.up_axis)),
        Row("Height", low if low == high else f"{low} to {high}"),
        *_pupil(shot, kept),
        *([Row("Travels", show.length(float(travel))[0])] if ends > begins else []),
        *_lens(kept),
        *_distortion(shot, kept),
    ]


def _pupil(shot: Shot, kept: Kept) -> list[Row]:
    """The entrance pupil before the axis that the file's places are of, and what it matters."""
    mm = kept.settings.pupil_mm
    if not mm:
        return []
    px = pupil_px(shot, kept, mm / 1000)
    says = "" if px is None else f"matters by up to {px:.2f} px on the set’s named points"
    return [Row("Entrance pupil", f"{mm:g} mm before", origin="typed", title=says)]


def _from(kept: Kept) -> list[Row]:
    """Where the move comes from."""
    if kept.authored is not None:
        keys = sum(len(curve.keys) for curve in kept.authored.curves.values())
        flies = [Row("Flown", "by an aircraft")] if kept.aircraft else []
        return [Row("Drawn here", f"{keys} keys", origin="typed"), *flies]
    camera = kept.found.camera
    return [
        Row("File", kept.file_name, origin="file"),
        Row("Camera", camera.rpartition("/")[2] or camera, title=camera),
    ]


def _lens(kept: Kept) -> list[Row]:
    move = kept.move
    if not move.knows_view:
        return [Row("Angle of view", "not in the file")]
    wide = np.degrees(2 * np.arctan(move.half_view[:, 0]))
    out = [Row("Angle of view, across", _range(wide, "°"), origin="file")]
    if np.isfinite(move.focal_mm).all():
        out.append(Row("Focal length", _range(move.focal_mm, "mm"), origin="file"))
    return out


def _distortion(shot: Shot, kept: Kept) -> list[Row]:
    """Whose distortion the move has."""
    lens = own_lens(shot.state)
    if any(kept.move.distortion):
        return [Row("Distortion", "as in the file", origin="file")]
    if lens is not None and takes_distortion(kept.move, lens):
        return [
            Row(
                "Distortion",
                "of the shot’s lens",
                title="The file has none, and the plate is bent all the same",
            )
        ]
    return []


def _range(values: np.ndarray, unit: str) -> str:
    low, high = f"{values.min():.2f}", f"{values.max():.2f}"
    between = "" if unit == "°" else " "
    return f"{low}{between}{unit}" if low == high else f"{low}–{high}{between}{unit}"


def remarks(shot: Shot, kept: Kept) -> list[Remark]:
    """What is odd about a move, each with its remedy."""
    plate = span_of(shot.state)
    rate = rate_of(shot)
    if kept.found.rate == shot.show.rate:  # our own files count as the show does
        rate = shot.show.rate
    drawn = kept.authored is not None  # what is drawn here is as it was meant
    asked = [] if drawn else doubts(kept.found, kept.settings, rate, plate)
    out = [_asked(shot, kept, doubt) for doubt in asked]
    out += in_time(shot, kept)
    try:
        path = on_plate(shot.state, kept.id)
    except Problem as problem:
        return [*out, Remark("It can’t be put on the plate", problem.sentence)]
    return out if drawn else out + _sides(shot, kept, path)


def _asked(shot: Shot, kept: Kept, doubt: Doubt) -> Remark:
    if not doubt.setting:
        return Remark("Is this right?", doubt.says, "note")
    value: str | int = doubt.value
    if doubt.setting == "offset":  # on top of what is added already
        value = kept.settings.offset + int(doubt.value)
    remedy = _read_again(shot, kept, doubt.remedy, **{doubt.setting: value})
    return Remark("Is this right?", doubt.says, "doubt", (remedy,))


def _read_again(shot: Shot, kept: Kept, label: str, **changed: object) -> tuple[str, dict]:
    """A button that reads a move's file again with some of its settings changed."""
    settings = kept.settings.to_json() | {"camera": kept.found.camera} | changed
    fields = {name: "" if value is None else value for name, value in settings.items()}
    if not fields["rests"]:  # a box that isn't ticked isn't sent
        del fields["rests"]
    to = {"action": shot.url("moves-understand", kept.id), "fields": fields}
    return label, to | {"fields": fields | {"base": shot.head.number}}


def in_time(shot: Shot, kept: Kept) -> list[Remark]:
    """What was measured of when the move happens, and lamps that light up."""
    found = measured(shot, kept)
    out = [] if found is None else _late(shot, kept, found)
    # Where a camera rests before its move, only a file that counts frames tells where that begins.
    silent = kept.settings.rests and "frames" not in kept.found.declares
    placed = kept.authored is not None or silent
    if found is None and shot.state["film"] and not placed:
        out += _flashes(shot, kept)
    return out


def _late(shot: Shot, kept: Kept, found: Lag) -> list[Remark]:
    out = []
    says = f"{found.frames:+.2f} ± {found.plus_minus:.2f} frames".replace("-", "−")
    share = f"The move explains {100 * found.explained:.0f} % of the picture’s motion."
    whole = round(found.frames)
    part = found.frames - whole if abs(found.frames - whole) > 2 * found.plus_minus else 0.0
    if whole or part:
        slip = kept.settings.slip + part
        moved = whole + int(slip)  # what is a whole frame goes into the numbers
        changed = {"offset": kept.settings.offset - moved, "slip": round(slip - int(slip), 3)}
        label = f"Shift it by {-found.frames:+.2f} frames".replace("-", "−")
        if not part:
            changed = {"offset": kept.settings.offset - whole}
            label = f"Shift it by {-whole:+d} frames".replace("-", "−")
        remedy = _read_again(shot, kept, label, **changed)
        late = "late" if found.frames > 0 else "early"
        remedies = (remedy,) if kept.authored is None else ()
        out.append(Remark(f"The move is {late}", f"{says}. {share}", "doubt", remedies))
    else:
        out.append(Remark("The move is in time", f"{says}. {share}", "good"))
    if found.turned:
        way = way_of(shot.state)
        fields = {
            "quarters": (way.quarters + 2) % 4,
            "width": way.width or "",
            "base": shot.head.number,
        } | ({"flip": "on"} if way.flip else {})
        to = {"action": shot.url("way-in"), "fields": fields}
        says = (
            "The picture moves as this move does, but half a turn about the lens axis away: the "
            "camera hung upside down. Turn the picture, not the move."
        )
        out.append(Remark("Upside down", says, "doubt", (("Turn the picture by 180°", to),)))
    return out


def _flashes(shot: Shot, kept: Kept) -> list[Remark]:
    """A lamp that lights up when the move begins: where one was found, and not on its frame
    zero."""
    looked = flashes_of(require_film(shot))
    settings, found = kept.settings, kept.found
    # A file that counts frames flashes on its frame zero, another one on its first.
    zero = int(kept.move.frames[0])
    if "frames" in found.declares:
        zero = settings.offset + kept.shifted
    lit = [
        frame_at(shot.state, one.number) for one in (looked[0] if looked else []) if not one.wide
    ]
    if not lit or zero in lit:
        return []
    remedies = tuple(
        _read_again(shot, kept, f"Begin it on frame {frame}", offset=settings.offset + frame - zero)
        for frame in lit[:3]
    )
    says = (
        f"A lamp lights up on frame {lit[0]}, and the move begins on frame {zero}. A rig’s lamp "
        "flashes when its move begins."
    )
    return [Remark("A flash", says, "note", remedies)]


def _sides(shot: Shot, kept: Kept, path: CameraPath) -> list[Remark]:
    """That the file's picture has other sides than the plate, by how many px at its edge."""
    if not kept.move.knows_view:
        return []
    half = kept.move.half_view[0]
    camera = path.at(int(path.frames[0]))
    fx, fy = camera.focal_px
    own = np.array([camera.grid.width / 2 / fx, camera.grid.height / 2 / fy])
    other = 1 if kept.settings.fit == "width" else 0
    size = (camera.grid.width, camera.grid.height)[other]
    off = abs(half[other] / own[other] - 1) * size / 2
    if off < ODD_PX:
        return []
    side = ("width", "height")[other]
    says = (
        "The file’s picture has other sides than the plate: fitted to the plate’s "
        f"{kept.settings.fit}, its edges are "
        f"{off:.1f} px away across the other."
    )
    remedy = _read_again(shot, kept, f"Fit the {side}", fit=side)
    return [Remark("Another shape of picture", says, "doubt", (remedy,))]


def referred(shot: Shot, kept: Kept, frame: int, camera: Camera) -> list[dict]:
    """Where a camera sees the points of a move's references, and where those of this frame were
    sighted.
    """
    out = []
    for one in references_of(shot, kept):
        if one.world is None:
            continue
        (at,) = camera.project([one.world])
        item = one.item
        here = item["kind"] == "spot" and item["frame"] + shot.state["shift"] == frame
        out.append(
            {
                "name": item["name"],
                "seen": np.round(at, 2).tolist() if np.isfinite(at).all() else None,
                "sighted": item["px"] if here and not item.get("of") else None,
            }
        )
    return out


def camera_at(shot: Shot, id_: str, frame: int, stands: np.ndarray | None = None) -> Camera | None:
    """The camera of a move on a frame, where it stands or would stand; None where it has none."""
    kept = move_called(shot.state, id_)
    if frame not in kept.own.frames:
        return None
    move = kept.own.only(frame).stood(kept.stands if stands is None else stands)
    return cameras_of(shot.state, kept, move).at(frame)


def seen(shot: Shot, id_: str, frame: int, stands: np.ndarray | None = None) -> dict:
    """What is drawn over the plate on a frame: the set as the move sees it and as the shot's own
    camera does, and what is between. `stands`: where the move would stand.
    """
    camera, own = camera_at(shot, id_, frame, stands), own_cameras(shot.state).get(frame)
    out: dict = {"theirs": [], "ours": [], "arrows": []}
    if camera is None:
        return out
    placed = [stand_in_from(item) for item in shown(shot.state)]
    spacing = spacing_for(camera, METRES[shot.show.length_unit])
    out["references"] = referred(shot, move_called(shot.state, id_), frame, camera)
    out["floor"] = path_of(overlay.floor_grid(camera, spacing, 12))
    out["theirs"] = [path_of(overlay.wire(camera, item)) for item in placed]
    if own is not None:
        out["ours"] = [path_of(overlay.wire(own, item)) for item in placed]
        mine, theirs = offsets(own, camera)
        good = np.linalg.norm(theirs - mine, axis=1) > DRAWN_PX
        off = theirs[good] - mine[good]
        out["arrows"] = np.round(np.concatenate([mine[good], off], axis=1), 2).tolist()
    return out
