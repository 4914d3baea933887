"""The camera sheet of a shot as the camera department would like it: everything that is known,
ready for page and PDF.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.formats import check
from aperture.light.motion import PHASES
from aperture.scene.plan import Drawing, drawings
from web.expose import blurring, exposure, focusing, looks, whites
from web.handoff.cameras import cameras_by_frame, require_camera
from web.match import sheet, track_page
from web.match.fits import fit_of
from web.match.path_fits import path_fit, placed_path, served
from web.plates.models import plate_of
from web.shows.models import Shot
from web.stage.stand_ins import stand_ins_of
from web.ui.rows import Row

FIGURES = (("f_number", "Stop"), ("seconds", "Shutter"), ("iso", "ISO"))


@dataclass(frozen=True)
class Pose:
    """One frame of a moving camera, and why it is named."""

    why: str
    frame: int
    camera: Camera


@dataclass(frozen=True)
class Series:
    """A quantity over frames, for a curve."""

    name: str
    unit: str
    frames: list[int]
    values: list[float]


@dataclass(frozen=True)
class CameraSheet:
    """What is on it.

    figures : headed groups of rows. camera : of the frame that is worked on, None where there is
    none, and `missing` says why.
    drawings : plan and side view. poses, series : of a moving camera. check : lines of the check.
    """

    shot: Shot
    slate: list[Row]
    figures: list[tuple[str, list[Row]]]
    evidence: list[dict]
    camera: Camera | None = None
    drawings: list[Drawing] = field(default_factory=list)
    poses: list[Pose] = field(default_factory=list)
    series: list[Series] = field(default_factory=list)
    check: list[str] = field(default_factory=list)
    missing: str = ""


def slate_of(shot: Shot) -> list[Row]:
    """Scene, slate and take, those that are written."""
    words = (("Scene", shot.scene), ("Slate", shot.slate), ("Take", shot.take))
    return [Row(name, text, origin="typed") for name, text in words if text]


def camera_sheet(shot: Shot) -> CameraSheet:
    """The sheet of a shot as it stands."""
    move, fit = served(shot.state), fit_of(shot.state)
    figures, evidence = _figures(shot, fit, move)
    figures.append(("Exposure", _exposure(shot)))
    try:
        cameras = cameras_by_frame(shot)
    except Problem as problem:
        return CameraSheet(shot, slate_of(shot), figures, evidence, missing=problem.sentence)
    show, poses = shot.show, named_poses(cameras)
    plan = drawings(cameras, stand_ins_of(shot.state), [poses[0].frame, poses[-1].frame])
    text = check.write_check(cameras, f"{shot.code}_camera", show.length_unit, show.up_axis)
    moves = len(poses) > 1
    return CameraSheet(
        shot,
        slate_of(shot),
        figures,
        evidence,
        require_camera(shot),
        plan,
        poses if moves else [],
        series_of(shot, cameras) if moves else [],
        text.splitlines(),
    )


def _figures(shot: Shot, fit: dict | None, move) -> tuple[list, list]:
    """The figures and the evidence of what the shot's camera is: a move, a solved path, or one
    match.
    """
    if move is not None:
        return [("Camera", [Row("Move", move.name, origin="file")])], []
    evidence = sheet.evidence(shot, fit) if fit and fit["ok"] else []
    if placed_path(shot.state) is not None and path_fit(shot.state):
        return [("Path", track_page.figures(shot))], evidence
    return list(sheet.figures(shot, fit)), evidence


def _exposure(shot: Shot) -> list[Row]:
    """How the virtual camera is exposed and focused, and its white and look: what a renderer
    sets."""
    given, own = exposure.of_camera(shot), exposure.camera_exposure(shot)
    rows = [
        Row(name, exposure.written(shot, key, given[key]), origin=given[key].origin)
        for key, name in FIGURES
    ]
    if own is not None:
        if own.transmittance < 1:
            rows.append(Row("T-stop", f"T {own.t_number:.3g}", origin="typed"))
        if own.nd_stops:
            rows.append(Row("Filters", f"−{own.nd_stops:.3g} stops", origin="typed"))
        rows.append(Row("EV", f"{own.light_ev100:.2f}", title="Of the light, at ISO 100"))
    focus = focusing.focus_at(shot)
    said = shot.show.length(focus.metres)[0] if focus.metres else "–"
    rows.append(Row("Focus", said, origin=focus.origin))
    if focus.used and focus.used.kind == "follow":
        rows.append(Row("Focus", focus.used.says))
    shutter = blurring.shutter_of(shot)
    if shutter.open_frames and shot.state["film"]:
        words = f"{360 * shutter.open_frames:.1f}°, {PHASES[shutter.phase]}"
        rows.append(Row("Shutter’s angle", words))
    if shutter.readout_frames:
        rows.append(Row("Readout", f"{shutter.readout_frames:.3f} frames"))
    white = whites.chosen(shot)
    if white is not None:
        tint = f"tint {white.white.tint:+.1f}".replace("-", "−")
        rows.append(Row("White", f"{white.white.kelvin:.0f} K", tint))
    if names := looks.names_of(shot):
        delivered = "delivered" if looks.is_on(shot) else "previewed only"
        rows.append(Row("Look", ", ".join(names), delivered))
    return rows


def named_poses(cameras: Mapping[int, Camera]) -> list[Pose]:
    """Start and end, and between them where a moving camera is highest, lowest and widest; one pose
    of a camera that stands still.
    """
    frames = sorted(cameras)
    every = np.array([cameras[frame].world_from_camera for frame in frames])
    focal = np.array([cameras[frame].lens.focal_mm for frame in frames])
    if np.ptp(every, axis=0).max() < 1e-6 and np.ptp(focal) < 1e-6:
        return [Pose("Start", frames[0], cameras[frames[0]])]
    heights = every[:, 1, 3]
    extremes = {"Start": 0, "Highest": int(np.argmax(heights)), "Lowest": int(np.argmin(heights))}
    if np.ptp(focal) > 1e-3:
        extremes |= {"Longest lens": int(np.argmax(focal)), "Shortest lens": int(np.argmin(focal))}
    extremes["End"] = len(frames) - 1
    why: dict[int, list[str]] = {}
    for name, index in extremes.items():  # what coincides is one pose with both names
        first = index not in why
        why.setdefault(index, []).append(name if first else name.lower())
    return [
        Pose(", ".join(names), frames[index], cameras[frames[index]])
        for index, names in sorted(why.items())
    ]


def series_of(shot: Shot, cameras: Mapping[int, Camera]) -> list[Series]:
    """Height, speed and focal length over the frames."""
    from aperture.units import METRES

    frames, show = sorted(cameras), shot.show
    unit = METRES[show.length_unit]
    places = np.array([cameras[frame].position for frame in frames]) / unit
    focal = [cameras[frame].lens.focal_mm for frame in frames]
    steps = np.linalg.norm(np.diff(places, axis=0), axis=1) / np.diff(frames)
    speed = (steps * float(show.rate)).tolist()
    out = [
        Series("Height", show.length_unit, frames, places[:, 1].tolist()),
        Series("Speed", f"{show.length_unit}/s", frames[1:], speed),
    ]
    if np.ptp(focal) > 1e-3:
        out.append(Series("Focal length", "mm", frames, focal))
    return out


def drawn(drawing: Drawing, wide: float = 352.0, high: float = 170.0) -> dict:
    """A drawing for the page: SVG paths in a box of wide × high, and how long a metre is in it."""
    left, bottom, right, top = drawing.box
    scale = min((wide - 16) / max(right - left, 0.1), (high - 24) / max(top - bottom, 0.1))
    strokes = []
    for stroke in drawing.strokes:
        points = (stroke.points - [left, bottom]) * scale * [1, -1] + [8, high - 16]
        path = "M" + "L".join(f"{x:.1f} {y:.1f}" for x, y in points) + "Z" * stroke.closed
        x, y = points[0].round(1).tolist()
        strokes.append({"kind": stroke.kind, "d": path, "x": x, "y": y, "name": stroke.name})
    metre = {"x": 8 + scale, "says": 12 + scale}
    return {"name": drawing.name, "wide": wide, "high": high, "strokes": strokes, "metre": metre}


def picture_of(shot: Shot):
    """The proxy of the frame that is worked on; None without a plate."""
    plate = plate_of(shot)
    return plate.folder / "proxy.jpg" if plate is not None else None
