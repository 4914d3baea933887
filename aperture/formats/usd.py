"""OpenUSD (.usda, .usdc, .usdz): UsdGeomCameras and the stand-ins as meshes.

OpenUSD gives apertures and focal length in tenths of a scene unit (UsdGeomCamera). The stage is
therefore in centimetres (metersPerUnit 0.01): a tenth of a unit is then a millimetre, and programs
that take the numbers as plain millimetres agree. USD has no squeeze: the horizontal aperture is the
gate's width times the squeeze, which gives the same rays.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.formats.extras import CARD, CARD_UV, NOTHING, Extras
from aperture.formats.names import Names
from aperture.geometry.axes import from_y_up, pose_in
from aperture.scene.stand_in import StandIn

METRES_PER_UNIT = 0.01
POINT_WIDTH_M = 0.02  # how large a point is drawn
# Attributes of ours: USD has no distortion.
COEFFICIENTS = tuple(f"userProperties:brownConrady:{key}" for key in ("k1", "k2", "k3", "p1", "p2"))


@dataclass(frozen=True)
class Aperture:
    """What a file's camera says: all in mm. Offsets move the window of the picture to the right and
    up.
    """

    horizontal: float
    vertical: float
    horizontal_offset: float
    vertical_offset: float
    focal: float


def aperture_of(camera: Camera) -> Aperture:
    """The aperture that gives a distortion-free renderer the same rays as the camera, its
    distortion left aside.
    """
    fx, fy = camera.focal_px
    x, y = camera.principal_point_px
    width, height, focal = camera.grid.width, camera.grid.height, camera.lens.focal_mm
    return Aperture(
        width / fx * focal,
        height / fy * focal,
        (width / 2 - x) / fx * focal,
        (y - height / 2) / fy * focal,
        focal,
    )


@dataclass(frozen=True, eq=False)
class Shown:
    """A camera with its focus distance in metres and its f-number, each None where it isn't
    known."""

    camera: Camera
    focus_m: float | None = None
    f_number: float | None = None


@dataclass(frozen=True)
class Exposed:
    """How a camera's pictures are exposed: shutter, when it opens and closes, in frames from the
    frame's own moment; stops, by how much they are brighter; each None where it isn't known.
    """

    shutter: tuple[float, float] | None = None
    stops: float | None = None


def write(
    path: Path,
    camera: Camera | Shown,
    stand_ins: dict[str, StandIn],
    up_axis: str = "Y",
    frame: int = 1,
    rate: Fraction = Fraction(24),
    name: str = "Camera",
    notes: str = "",
    others: dict[str, Shown] | None = None,
    path_of_camera: Mapping[int, Camera] | None = None,
    extras: Extras = NOTHING,
    focus_m: Mapping[int, float] | None = None,
    f_number: Mapping[int, float] | None = None,
    exposed: Exposed = Exposed(),
) -> None:
    """Write a stage with the camera under /Shot, the shot's `others` after it, its stand-ins, and
    the `extras`.

    What is written follows from the ending: text, binary, or a package. They are named by their
    keys. `frame`: the stage's only time code, unless `path_of_camera` gives the camera of each
    frame, which become its time samples; `rate`: frames per second, which are its time codes per
    second. `focus_m`, `f_number`: by frame, where they are known over time. `exposed`: of the
    first camera.
    """
    from pxr import Tf, UsdGeom

    frames = sorted(path_of_camera or [frame])
    stage = _begun(up_axis, frames, rate, notes)
    names = Names(Tf.MakeValidIdentifier, "_")

    def place(label: str) -> str:
        return f"/Shot/{names.free(label)}"

    first, first_at = camera if isinstance(camera, Shown) else Shown(camera), place(name)
    _camera(stage, first_at, first, up_axis, path_of_camera)
    for attribute, values, unit in (
        ("focusDistance", focus_m, METRES_PER_UNIT),
        ("fStop", f_number, 1.0),
    ):
        for at, value in (values or {}).items():
            stage.GetPrimAtPath(first_at).GetAttribute(attribute).Set(value / unit, at)
    prim = UsdGeom.Camera(stage.GetPrimAtPath(first_at))
    if exposed.shutter is not None:
        prim.CreateShutterOpenAttr(exposed.shutter[0])
        prim.CreateShutterCloseAttr(exposed.shutter[1])
    if exposed.stops is not None:
        prim.CreateExposureAttr(exposed.stops)
    for label, shown in (others or {}).items():
        _camera(stage, place(label), shown, up_axis)
    for label, item in stand_ins.items():
        _mesh(UsdGeom.Mesh.Define(stage, place(label)), item, up_axis, frames)
    _extras(stage, extras, place, first_at, up_axis)
    _export(stage, path)


def _begun(up_axis: str, frames: list[int], rate: Fraction, notes: str) -> Any:
    """A stage with its unit, axis and time, and an empty /Shot."""
    from pxr import Usd, UsdGeom

    stage = Usd.Stage.CreateInMemory()
    stage.SetMetadata("comment", notes)
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z if up_axis == "Z" else UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, METRES_PER_UNIT)
    stage.SetTimeCodesPerSecond(float(rate))
    stage.SetFramesPerSecond(float(rate))
    stage.SetStartTimeCode(frames[0])
    stage.SetEndTimeCode(frames[-1])
    root = UsdGeom.Xform.Define(stage, "/Shot")
    stage.SetDefaultPrim(root.GetPrim())
    return stage


def _export(stage: Any, path: Path) -> None:
    """Write a stage as its ending says: text, binary, or a package."""
    from pxr import UsdUtils

    if path.suffix != ".usdz":
        stage.GetRootLayer().Export(str(path))
        return
    # A package holds a layer; its own name stays readable in it.
    with tempfile.TemporaryDirectory() as folder:
        layer = Path(folder) / path.with_suffix(".usdc").name
        stage.GetRootLayer().Export(str(layer))
        packed = UsdUtils.CreateNewUsdzPackage(str(layer), str(path))
    if not packed:
        raise OSError(f"{path.name} could not be packed")


def _camera(
    stage: Any,
    path: str,
    shown: Shown,
    up_axis: str,
    over: Mapping[int, Camera] | None = None,
) -> None:
    from pxr import Gf, Sdf, Usd, UsdGeom

    camera, prim, aperture = (
        shown.camera,
        UsdGeom.Camera.Define(stage, path),
        aperture_of(shown.camera),
    )
    prim.CreateProjectionAttr(UsdGeom.Tokens.perspective)
    prim.CreateHorizontalApertureAttr(aperture.horizontal)
    prim.CreateVerticalApertureAttr(aperture.vertical)
    prim.CreateHorizontalApertureOffsetAttr(aperture.horizontal_offset)
    prim.CreateVerticalApertureOffsetAttr(aperture.vertical_offset)
    prim.CreateFocalLengthAttr(aperture.focal)
    prim.CreateClippingRangeAttr(Gf.Vec2f(1.0, 1e6))
    if shown.focus_m:
        prim.CreateFocusDistanceAttr(shown.focus_m / METRES_PER_UNIT)
    if shown.f_number:
        prim.CreateFStopAttr(shown.f_number)

    def matrix(camera: Camera) -> Any:
        pose = pose_in(up_axis, camera.world_from_camera, METRES_PER_UNIT)
        return Gf.Matrix4d(*pose.T.ravel().tolist())  # USD's vectors are rows

    transform = prim.AddTransformOp()
    transform.Set(matrix(camera))
    for frame, at in (over or {}).items():
        transform.Set(matrix(at), Usd.TimeCode(frame))
    if len({at.lens.focal_mm for at in (over or {}).values()}) > 1:
        for frame, at in (over or {}).items():
            prim.GetFocalLengthAttr().Set(aperture_of(at).focal, Usd.TimeCode(frame))
    custom = prim.GetPrim()
    for name, value in zip(COEFFICIENTS, camera.lens.coefficients):
        custom.CreateAttribute(name, Sdf.ValueTypeNames.Double).Set(float(value))
    custom.CreateAttribute("userProperties:squeeze", Sdf.ValueTypeNames.Double).Set(
        camera.lens.squeeze
    )
    custom.CreateAttribute("userProperties:resolution", Sdf.ValueTypeNames.Int2).Set(
        Gf.Vec2i(camera.grid.width, camera.grid.height)
    )


def _extras(
    stage: Any, extras: Extras, place: Callable[[str], str], camera: str, up_axis: str
) -> None:
    """A cloud of the points, an empty transform for each named spot, and the plate card as a quad
    with `st`.
    """
    from pxr import Gf, Sdf, UsdGeom

    turn = from_y_up(up_axis)

    def vectors(points: Array, kind: Any) -> list[Any]:
        return [kind(*map(float, point)) for point in points / METRES_PER_UNIT]

    if len(extras.points):
        cloud = UsdGeom.Points.Define(stage, place("Points"))
        cloud.CreatePointsAttr(vectors(extras.points @ turn.T, Gf.Vec3f))
        cloud.CreateWidthsAttr([POINT_WIDTH_M / METRES_PER_UNIT])
        cloud.SetWidthsInterpolation(UsdGeom.Tokens.constant)
    for label, spot in extras.spots.items():
        at = UsdGeom.Xform.Define(stage, place(label))
        at.AddTranslateOp().Set(vectors((turn @ np.asarray(spot, float))[None], Gf.Vec3d)[0])
    if extras.card is None:
        return
    follows = extras.card_follows
    card = UsdGeom.Mesh.Define(stage, f"{camera}/{CARD}" if follows else place(CARD))
    corners = extras.card if follows else extras.card @ turn.T
    card.CreatePointsAttr(vectors(corners[::-1], Gf.Vec3f))  # seen from the camera anticlockwise
    card.CreateFaceVertexCountsAttr([4])
    card.CreateFaceVertexIndicesAttr([0, 1, 2, 3])
    card.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    st = UsdGeom.PrimvarsAPI(card).CreatePrimvar(
        "st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex
    )
    st.Set([Gf.Vec2f(*map(float, uv)) for uv in CARD_UV[::-1]])


def _mesh(mesh: Any, item: StandIn, up_axis: str, frames: Sequence[int]) -> None:
    """One that moves has its points in its own axes, and its place as time samples."""
    from pxr import Gf, Usd, UsdGeom

    if item.moves:
        points = item.own_vertices() / METRES_PER_UNIT
        transform = mesh.AddTransformOp()
        for frame in frames:
            pose = pose_in(up_axis, item.at(frame).pose, METRES_PER_UNIT)
            transform.Set(Gf.Matrix4d(*pose.T.ravel().tolist()), Usd.TimeCode(frame))
    else:
        points = item.vertices() @ from_y_up(up_axis).T / METRES_PER_UNIT
    mesh.CreatePointsAttr([Gf.Vec3f(*map(float, point)) for point in points])
    mesh.CreateFaceVertexCountsAttr([len(face) for face in item.solid.faces])
    mesh.CreateFaceVertexIndicesAttr([int(index) for face in item.solid.faces for index in face])
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    mesh.CreateExtentAttr(UsdGeom.PointBased.ComputeExtent(mesh.GetPointsAttr().Get()))
