"""The files of a hand-off, written from the shot as it stands."""

import json
import tempfile
from dataclasses import asdict, dataclass
from pathlib import Path

from aperture.errors import Problem
from aperture.formats import check
from aperture.formats.prepared import added
from aperture.formats.recipe import Recipe
from web.handoff.contents import stand_ins_going
from web.handoff.writers import WRITERS, Source
from web.match.path_fits import camera_of_state
from web.plates.frames import span_of
from web.stage.places import points_of


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
            "the shot’s cameras, the matched one first, and stand-ins; apertures, offsets, focal "
            "length, focus, units and up axis declared",
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
            "cameras, stand-ins and points, in the show’s unit and up axis, which the format "
            "can’t say itself",
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
            "where on the plate each pixel of the straight picture lies; as large as the "
            "overscan that it needs",
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


def package(shot, recipe: Recipe | None = None) -> dict[str, bytes]:
    """All files by their names, by a recipe where one is chosen, and a manifest of them, which also
    says what couldn't be written. Raises Problem without a camera.
    """
    source = Source(shot, recipe)
    grid = source.camera.grid
    files, left_out = {}, []
    for kind in kinds_for(shot):
        name = f"{shot.code}_camera.{kind.ending}"
        try:
            files[name] = contents(source, kind.ending)
        except Problem as problem:  # a fisheye, say, has no straight picture
            left_out.append({"name": name, "because": problem.sentence})
    show, (first, last) = shot.show, span_of(shot.state)
    first, last = (frame + source.recipe.frame_offset for frame in (first, last))
    manifest = {
        "show": show.name,
        "shot": shot.code,
        "revision": shot.head.number,
        "frames": {"first": first, "last": last, "rate": str(show.rate)},
        "conventions": {
            "unit": source.recipe.unit,
            "up_axis": source.recipe.up_axis,
            "handedness": "right",
            "frame_offset": source.recipe.frame_offset,
            "scale": source.recipe.scale,
            "gate_fitted_to": source.recipe.fit,
            "lens_offsets": source.recipe.offsets,
            "distortion": source.recipe.distortion,
            "picture": [grid.width, grid.height],
            "px_more_than_the_plate": asdict(added(source.plate_camera, source.camera)),
            "pixels": "from the outer top left corner, y down; the centre of the first is 0.5, 0.5",
        },
        "files": check.sums(files),
        "left_out": left_out,
    }
    return files | {"manifest.json": json.dumps(manifest, indent=2).encode()}


def contents(source: Source, ending: str) -> bytes:
    """The bytes of one file. Raises Problem."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"file.{ending}"
        WRITERS[ending](path, source)
        return path.read_bytes()
