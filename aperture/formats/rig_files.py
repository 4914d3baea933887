"""The move of a rig as files: with its helper parents where the format has nodes, and flat where
not.

What a file says of itself (unit, up axis, rate, frames) is what its format lets it say.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.formats import collada, open_track, recipe
from aperture.geometry.axes import from_y_up
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.moves.rig import Played
from aperture.units import METRES

WITH_NODES = (".usda", ".usdc", ".glb", ".gltf", ".dae")
FLAT = (".csv", ".txt", ".jsonl")
ENDINGS = (*WITH_NODES, *FLAT)
# A table of a rig: the camera, what it looks at, and its roll beside that.
COLUMNS = ("frame", *recipe.POSE[:3], *recipe.AIMED, "view_h_deg", "view_v_deg")
PIXELS = 1920  # of the picture that a flat file's camera is said to have


def write(path: Path, played: Played, unit: str = "cm", up_axis: str = "Y", first: int = 0) -> None:
    """Write a rig's move.

    Parameters
    ----------
    path : Path
        Its ending says the format, one of ENDINGS.
    played : Played
    unit, up_axis : str
        In which it is written; glTF is in metres and Y-up whatever they are.
    first : int
        The frame that the move begins on.

    Raises
    ------
    Problem
        If there is no such format.
    """
    ending = path.suffix.lower()
    if ending in (".usda", ".usdc"):
        return _usd(path, played, METRES[unit], up_axis, first)
    if ending in (".glb", ".gltf"):
        return _gltf(path, played, first)
    if ending == ".dae":
        return _collada(path, played, unit, up_axis, first)
    if ending in (".csv", ".txt"):
        separator = "comma" if ending == ".csv" else "tab"
        own = recipe.Recipe(up_axis, unit, separator=separator, columns=COLUMNS)
        path.write_text(recipe.write(cameras(played, first), own, played.rate))
        return None
    if ending == ".jsonl":
        path.write_text(open_track.write(cameras(played, first), "Rig", played.rate))
        return None
    raise Problem(f"A rig’s move is written as {', '.join(ENDINGS)}, not as “{ending}”.")


def cameras(played: Played, first: int = 0) -> dict[int, Camera]:
    """The rig's camera per frame, with a picture of PIXELS across."""
    program = played.program
    wide, high = program.gate_mm
    grid = Grid.from_gate(PIXELS, round(PIXELS * high / wide), wide, high)
    lens = Lens(program.focal_mm)
    return {first + index: Camera(grid, lens, pose) for index, pose in enumerate(played.poses())}


def _is_still(local: Array) -> bool:
    return bool(np.abs(local - local[0]).max() == 0)


def _usd(path: Path, played: Played, metres: float, up_axis: str, first: int) -> None:
    from pxr import Gf, Usd, UsdGeom

    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z if up_axis == "Z" else UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, metres)
    stage.SetTimeCodesPerSecond(float(played.rate))
    stage.SetFramesPerSecond(float(played.rate))
    stage.SetStartTimeCode(first)
    stage.SetEndTimeCode(first + played.count - 1)
    at = "/rig"
    top = UsdGeom.Xform.Define(stage, at)
    stage.SetDefaultPrim(top.GetPrim())
    above = np.eye(4)
    above[:3, :3] = from_y_up(up_axis)
    top.AddTransformOp().Set(Gf.Matrix4d(*above.T.ravel().tolist()))
    nodes = played.nodes()
    for index, node in enumerate(nodes):
        at = f"{at}/{node.name}"
        is_camera = index == len(nodes) - 1
        kind = UsdGeom.Camera if is_camera else UsdGeom.Xform
        prim = kind.Define(stage, at)
        op = prim.AddTransformOp()
        local = node.local.copy()
        local[:, :3, 3] /= metres
        for number, matrix in enumerate(local[:1] if _is_still(local) else local):
            value = Gf.Matrix4d(*matrix.T.ravel().tolist())
            op.Set(value) if _is_still(local) else op.Set(value, Usd.TimeCode(first + number))
        if is_camera:
            # Tenths of a unit, whatever that is: the angle of view is their ratio.
            program = played.program
            tenth = metres * 100  # mm
            for attribute, mm in (
                (prim.CreateHorizontalApertureAttr, program.gate_mm[0]),
                (prim.CreateVerticalApertureAttr, program.gate_mm[1]),
                (prim.CreateFocalLengthAttr, program.focal_mm),
            ):
                attribute(mm / tenth)
    stage.GetRootLayer().Save()


class _Packed:
    """The numbers of a glTF document, one after the other."""

    def __init__(self, document: Any) -> None:
        self.document = document
        self.blob = bytearray()

    def accessor(self, values: Array, kind: str) -> int:
        """Append float values, one element a row; the accessor's number."""
        import pygltflib as g

        document, count = self.document, len(values)
        data = np.ascontiguousarray(values, "<f4").tobytes()
        document.bufferViews.append(
            g.BufferView(buffer=0, byteOffset=len(self.blob), byteLength=len(data))
        )
        self.blob.extend(data)
        flat = values.reshape(count, -1)
        limits = {"min": flat.min(axis=0).tolist(), "max": flat.max(axis=0).tolist()}
        view = len(document.bufferViews) - 1
        document.accessors.append(
            g.Accessor(bufferView=view, componentType=g.FLOAT, count=count, type=kind, **limits)
        )
        return len(document.accessors) - 1


def _gltf(path: Path, played: Played, first: int) -> None:
    import pygltflib as g

    program, nodes, count = played.program, played.nodes(), played.count
    document = g.GLTF2(asset=g.Asset(version="2.0"), scene=0, scenes=[g.Scene(nodes=[0])])
    wide, high = program.gate_mm
    perspective = g.Perspective(
        yfov=2 * float(np.arctan(high / 2 / program.focal_mm)), aspectRatio=wide / high, znear=0.01
    )
    document.cameras = [g.Camera(type="perspective", perspective=perspective)]
    animation = g.Animation(name="rig", extras={"first_frame": first, "rate": str(played.rate)})

    packed = _Packed(document)
    times = packed.accessor(
        np.arange(count, dtype="<f4") / np.float32(float(played.rate)), "SCALAR"
    )
    for index, node in enumerate(nodes):
        places = node.local[:, :3, 3]
        turns = Rotation.from_matrix(node.local[:, :3, :3]).as_quat()
        flips = np.cumprod(np.where((turns[1:] * turns[:-1]).sum(axis=1) < 0, -1, 1))
        turns[1:] *= flips[:, None]
        made = g.Node(
            name=node.name, translation=places[0].tolist(), rotation=turns[0].tolist(), children=[]
        )
        if index + 1 < len(nodes):
            made.children = [index + 1]
        else:
            made.camera = 0
        document.nodes.append(made)
        for values, kind, what in ((places, "VEC3", "translation"), (turns, "VEC4", "rotation")):
            if np.ptp(values, axis=0).max() == 0:
                continue
            sampler = g.AnimationSampler(
                input=times, output=packed.accessor(values, kind), interpolation="LINEAR"
            )
            animation.samplers.append(sampler)
            target = g.AnimationChannelTarget(node=index, path=what)
            channel = g.AnimationChannel(sampler=len(animation.samplers) - 1, target=target)
            animation.channels.append(channel)
    document.animations = [animation]
    document.buffers = [g.Buffer(byteLength=len(packed.blob))]
    document.set_binary_blob(bytes(packed.blob))
    if path.suffix == ".glb":
        document.save_binary(str(path))
    else:
        document.convert_buffers(g.BufferFormat.DATAURI)
        document.save_json(str(path))


def _collada(path: Path, played: Played, unit: str, up_axis: str, first: int) -> None:
    from collada import Collada, asset, camera, scene

    program, nodes = played.program, played.nodes()
    document = Collada()
    document.assetInfo.unitname, document.assetInfo.unitmeter = unit, METRES[unit]
    document.assetInfo.upaxis = asset.UP_AXIS.Z_UP if up_axis == "Z" else asset.UP_AXIS.Y_UP
    angles = [float(np.degrees(2 * np.arctan(mm / 2 / program.focal_mm))) for mm in program.gate_mm]
    lens = camera.PerspectiveCamera("rig-lens", 0.01, 1e6, *angles)
    document.cameras.append(lens)
    locals_: dict[str, Any] = {}
    child: Any = scene.CameraNode(lens)
    chain = []
    for node in nodes[::-1]:
        local = node.local.copy()
        local[:, :3, 3] /= METRES[unit]
        locals_[node.name] = local
        transforms = [scene.MatrixTransform(local[0].ravel())]
        child = scene.Node(node.name, name=node.name, children=[child], transforms=transforms)
        chain.append(child)
    above = np.eye(4)
    above[:3, :3] = from_y_up(up_axis)
    top = scene.Node("rig", children=[child], transforms=[scene.MatrixTransform(above.ravel())])
    document.scenes.append(scene.Scene("stage", [top]))
    document.scene = document.scenes[0]
    document.save()
    times = (np.arange(played.count) / float(played.rate)).tolist()
    moving = {
        node.id: locals_[node.id].reshape(played.count, 16)
        for node in chain
        if not _is_still(locals_[node.id])
    }
    for node in chain:
        node.transforms[0].xmlnode.set("sid", "transform")
    collada.add_animations(document, moving, times, first, played.rate)
    with open(path, "wb") as file:
        document.xmlnode.write(file, encoding="utf-8", xml_declaration=True)


def references(places: dict[str, Array], plus_minus: float) -> str:
    """Points in the rig's space as a table in metres: name, x, y, z, ±."""
    lines = ["name,x,y,z,±"]
    for name, at in places.items():
        plain = name.replace('"', "”")
        quoted = f'"{plain}"' if "," in plain else plain
        lines.append(",".join([quoted, *(f"{float(v):.5f}" for v in at), f"{plus_minus:g}"]))
    return "\n".join(lines) + "\n"
