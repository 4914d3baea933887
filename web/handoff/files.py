"""The files of a hand-off, written from the shot as it stands."""

import json
import tempfile
from dataclasses import dataclass
from pathlib import Path

from aperture.errors import Problem
from aperture.formats import (
    alembic,
    check,
    collada,
    gltf,
    lens_maps,
    obj,
    open_track,
    ply,
    table,
    usd,
)
from web.handoff.contents import cameras_going, extras_of, points_of, stand_ins_going
from web.match.fits import document_of, fit_of
from web.match.path_fits import camera_of_state, path_fit, placed_path
from web.plates.frames import span_of
from web.plates.models import frame_of, metadata_of, plate_of
from web.shows.steps import Standing
from web.stage.cameras import f_number


@dataclass(frozen=True)
class Kind:
    """One file of the hand-off."""

    ending: str
    name: str
    about: str
    content_type: str


KINDS = {
    kind.ending: kind
    for kind in (
        Kind(
            "usda",
            "OpenUSD",
            "the shot’s cameras, the matched one first, and stand-ins; apertures, offsets, focal length, focus, units and up axis declared",
            "model/vnd.usda",
        ),
        Kind("usdc", "OpenUSD, binary", "the same, for long moves", "model/vnd.usd"),
        Kind("usdz", "OpenUSD, package", "the same in one package", "model/vnd.usdz+zip"),
        Kind("gltf", "glTF 2.0", "camera and stand-ins, in metres, Y up", "model/gltf+json"),
        Kind("glb", "glTF 2.0, binary", "the same in one binary file", "model/gltf-binary"),
        Kind(
            "dae",
            "COLLADA",
            "camera and stand-ins, in the show’s unit and up axis, which the file declares",
            "model/vnd.collada+xml",
        ),
        Kind(
            "abc",
            "Alembic",
            "cameras, stand-ins and points, in the show’s unit and up axis, which the format can’t say itself",
            "application/octet-stream",
        ),
        Kind(
            "opentrackio.jsonl",
            "OpenTrackIO",
            "a sample a frame: place, angles, lens and sensor, with time code",
            "application/jsonl",
        ),
        Kind(
            "json",
            "Match and fit",
            "the evidence, every figure with its ±, solvable again from the command line",
            "application/json",
        ),
        Kind(
            "csv",
            "Camera table",
            "a row a frame: pose, focal length, gate, principal point, distortion",
            "text/csv",
        ),
        Kind(
            "obj",
            "Stand-ins",
            "the stand-ins as a mesh, in the show's unit and up axis",
            "model/obj",
        ),
        Kind(
            "ply",
            "Tracked points",
            "the points that the path was solved from, in the show's unit and up axis",
            "application/octet-stream",
        ),
        Kind(
            "undistort.exr",
            "UV map, undistort",
            "where on the plate each pixel of the straight picture lies; as large as the overscan that it needs",
            "image/x-exr",
        ),
        Kind(
            "redistort.exr",
            "UV map, redistort",
            "where on the straight picture each pixel of the plate lies",
            "image/x-exr",
        ),
        Kind(
            "yaml",
            "Lens for OpenCV",
            "camera matrix and distortion coefficients as OpenCV reads them",
            "application/yaml",
        ),
        Kind(
            "pdf",
            "Camera sheet",
            "this sheet to print: figures with their origins, plan, side view, evidence, notes",
            "application/pdf",
        ),
        Kind(
            "check.txt",
            "Check",
            "three points and the pixels where they must land at three frames",
            "text/plain; charset=utf-8",
        ),
    )
}


def kinds_for(shot) -> list[Kind]:
    """The files that there is something to write into."""
    camera = camera_of_state(shot.state)
    without = {
        "obj": not stand_ins_going(shot),
        "ply": not points_of(shot),
        "undistort.exr": camera is None or not camera.lens.bends,
        "redistort.exr": camera is None or not camera.lens.bends,
        "yaml": camera is None or camera.lens.projection.name != "rectilinear",
    }
    return [kind for kind in KINDS.values() if not without.get(kind.ending)]


def package(shot) -> dict[str, bytes]:
    """All files by their names, and a manifest of them, which also says what couldn't be written. Raises Problem without a camera."""
    grid = require_camera(shot).grid
    files, left_out = {}, []
    for kind in kinds_for(shot):
        name = f"{shot.code}_camera.{kind.ending}"
        try:
            files[name] = contents(shot, kind.ending)
        except Problem as problem:  # a fisheye, say, has no straight picture
            left_out.append({"name": name, "because": problem.sentence})
    show, (first, last) = shot.show, span_of(shot.state)
    manifest = {
        "show": show.name,
        "shot": shot.code,
        "revision": shot.head.number,
        "frames": {"first": first, "last": last, "rate": str(show.rate)},
        "conventions": {
            "unit": show.length_unit,
            "up_axis": show.up_axis,
            "handedness": "right",
            "picture": [grid.width, grid.height],
            "pixels": "from the outer top left corner, y down; the centre of the first is 0.5, 0.5",
        },
        "files": check.sums(files),
        "left_out": left_out,
    }
    return files | {"manifest.json": json.dumps(manifest, indent=2).encode()}


def require_camera(shot):
    """The camera to hand off. Raises Problem where there is none, or where its size is unknown."""
    camera, fit = camera_of_state(shot.state), fit_of(shot.state)
    if camera is None:
        raise Problem(
            "There is no camera to hand off yet: match the plate and place the origin first."
        )
    if placed_path(shot.state) is None and fit["determined"]["scale"] == "no":
        raise Problem(
            "The camera's size is unknown: give one length or the camera's height on the Match step, then hand it off."
        )
    if shot.state["gate"] is None:
        raise Problem(
            "The gate is unknown, and a camera file needs it in millimetres: choose it on the Gate step."
        )
    return camera


def over_frames(shot, camera) -> dict | None:
    """The camera of each frame of a film, those of the path that have one; the one camera for all without a path; None of a photograph."""
    if not shot.state["film"]:
        return None
    first, last = span_of(shot.state)
    frames = range(first, last + 1)
    if placed_path(shot.state) is None:
        return dict.fromkeys(frames, camera)
    found = {frame: camera_of_state(shot.state, frame) for frame in frames}
    return {frame: one for frame, one in found.items() if one is not None}


def cameras_by_frame(shot) -> dict:
    """The cameras that are handed off, by frame. Raises Problem."""
    camera = require_camera(shot)
    return over_frames(shot, camera) or {frame_of(shot): camera}


def _shown(shot) -> tuple[usd.Shown, dict[str, usd.Shown]]:
    """The matched camera and the others by name, with what is known of their focus and stop."""
    known = metadata_of(shot.state, plate_of(shot))
    matched, *others = cameras_going(shot)

    def shown(one):
        return usd.Shown(one.camera, one.looks["focus_m"], f_number(one, known))

    return shown(matched), {one.name: shown(one) for one in others}


def contents(shot, ending: str) -> bytes:
    """The bytes of one file. Raises Problem."""
    camera = require_camera(shot)
    stand_ins, show = stand_ins_going(shot), shot.show
    name, frame, rate = f"{shot.code}_camera", frame_of(shot), shot.show.rate
    first, last = span_of(shot.state)
    over = over_frames(shot, camera)
    if ending == "obj" and not stand_ins:
        raise Problem(
            "There are no stand-ins to write: place one on the Set step, or let one go into the files."
        )
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"file.{ending}"
        if ending in ("usda", "usdc", "usdz"):
            matched, others = _shown(shot)
            usd.write(
                path,
                matched,
                stand_ins,
                show.up_axis,
                frame,
                rate=rate,
                name=name,
                notes=f"{show.name}, {shot.code}, revision {shot.head.number}",
                others=others,
                path_of_camera=over,
                extras=extras_of(shot),
            )
        elif ending == "abc":
            matched, others = _shown(shot)
            alembic.write(
                path,
                matched,
                stand_ins,
                name,
                over or {frame: camera},
                rate,
                show.length_unit,
                show.up_axis,
                others,
                extras_of(shot),
            )
        elif ending in ("gltf", "glb"):
            gltf.write(path, camera, stand_ins, name, over, rate, extras_of(shot))
        elif ending == "dae":
            collada.write(
                path,
                camera,
                stand_ins,
                name,
                over,
                rate,
                show.length_unit,
                show.up_axis,
                extras_of(shot),
            )
        elif ending == "opentrackio.jsonl":
            cameras_at = over or {frame: camera}
            path.write_text(open_track.write(cameras_at, name, rate), encoding="utf-8")
        elif ending == "csv":
            table.write(path, over or {frame: camera})
        elif ending == "obj":
            obj.write(path, stand_ins, show.length_unit, show.up_axis)
        elif ending == "ply":
            points = points_of(shot)
            if not points:
                raise Problem("There are no tracked points in the world: solve and place the path.")
            ply.write(path, list(points.values()), show.length_unit, show.up_axis)
        elif ending in ("undistort.exr", "redistort.exr"):
            maps = lens_maps.lens_maps(camera)
            map_ = maps.undistort if ending.startswith("un") else maps.redistort
            says = {
                "comments": f"{show.name}, {shot.code}: R = u right, G = v up, at pixel centres"
            }
            lens_maps.write_map(path, map_, says)
        elif ending == "yaml":
            lens_maps.write_opencv(path, camera)
        elif ending == "pdf":
            from web.handoff.pdf import sheet_pdf  # it takes the sheet's data from here

            path.write_bytes(sheet_pdf(shot))
        elif ending == "check.txt":
            text = check.write_check(over or {frame: camera}, name, show.length_unit, show.up_axis)
            path.write_text(text, encoding="utf-8")
        else:
            path.write_text(
                json.dumps(
                    {
                        "show": show.name,
                        "shot": shot.code,
                        "revision": shot.head.number,
                        "frames": {"first": first, "last": last, "rate": str(rate)},
                        "match": document_of(shot.state),
                        "fit": fit_of(shot.state),
                        "path": path_fit(shot.state),
                    },
                    indent=2,
                )
            )
        return path.read_bytes()


def standing(shot) -> Standing:
    """Ready once there is a camera in real size."""
    try:
        require_camera(shot)
    except Problem:
        return Standing("nothing", "no camera yet")
    return Standing("settled", "ready to write")
