"""Cameras and their hierarchies of OpenUSD stages (.usda, .usdc, .usdz)."""

from __future__ import annotations

import math
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.formats.usd import COEFFICIENTS
from aperture.moves.move import NO_DISTORTION
from aperture.moves.source import Seen
from aperture.units import exact_rate

MOST_NODES = 100_000


class UsdSource:
    """A stage as a `Source`: its transformable prims, with what lies above them."""

    notes: tuple[str, ...] = ()

    def __init__(self, path: Path) -> None:
        from pxr import Usd, UsdGeom

        self._stage = stage = _opened(path)
        self._prims: list[Any] = []
        self.names: list[str] = []
        self.parents: list[int | None] = []
        self.cameras: list[int] = []
        index_of: dict[str, int] = {}
        for prim in stage.Traverse(Usd.TraverseInstanceProxies()):
            if len(self._prims) >= MOST_NODES:
                raise Problem(f"This stage has more than {MOST_NODES:,} prims.")
            above = index_of.get(str(prim.GetParent().GetPath()))
            movable = UsdGeom.Xformable(prim)
            if movable and movable.GetResetXformStack():
                above = None
            index = index_of[str(prim.GetPath())] = len(self._prims)
            self._prims.append(prim)
            self.names.append(str(prim.GetPath()))
            self.parents.append(above)
            if prim.IsA(UsdGeom.Camera):
                self.cameras.append(index)
        self.metres = float(UsdGeom.GetStageMetersPerUnit(stage))
        if not 1e-9 < self.metres < 1e9:
            raise Problem("This stage's unit is no length.")
        self.up_axis = "Z" if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z else "Y"
        declared = {
            name
            for name, metadatum in (("unit", "metersPerUnit"), ("up_axis", "upAxis"))
            if stage.HasAuthoredMetadata(metadatum)
        }
        if stage.HasAuthoredMetadata("timeCodesPerSecond"):
            declared.add("rate")
        self.declares = frozenset(declared)
        self._per_second = float(stage.GetTimeCodesPerSecond())
        if not 1e-3 < self._per_second < 1e6:
            raise Problem("This stage's time codes per second are no rate.")
        self.rate: Fraction | None = exact_rate(self._per_second)
        begins, ends = self._codes()
        self.span = (begins / self._per_second, ends / self._per_second)
        self.first: int | None = round(begins)

    def _codes(self) -> tuple[float, float]:
        """First and last time code: as the stage says, else of its first camera's keys."""
        stage = self._stage
        if stage.HasAuthoredTimeCodeRange():
            begins, ends = stage.GetStartTimeCode(), stage.GetEndTimeCode()
            if math.isfinite(begins) and math.isfinite(ends) and ends >= begins:
                return float(begins), float(ends)
        keys: list[float] = []
        at: int | None = self.cameras[0] if self.cameras else None
        while at is not None:
            prim = self._prims[at]
            for attribute in prim.GetAttributes():
                if attribute.GetName().startswith(("xformOp:", "focalLength")):
                    keys += attribute.GetTimeSamples()
            at = self.parents[at]
        return (min(keys), max(keys)) if keys else (1.0, 1.0)

    def local(self, node: int, seconds: Array) -> Array:
        """(T, 4, 4) parent from node."""
        from pxr import Usd, UsdGeom

        movable = UsdGeom.Xformable(self._prims[node])
        if not movable:
            return np.broadcast_to(np.eye(4), (len(seconds), 4, 4))
        codes = np.round(seconds * self._per_second, 9)
        if not movable.TransformMightBeTimeVarying():
            one = np.array(movable.GetLocalTransformation(Usd.TimeCode(codes[0]))).T
            return np.broadcast_to(one, (len(seconds), 4, 4))
        out = np.eye(4)[None]
        for op in movable.GetOrderedXformOps():
            out = out @ _op(op, codes)
        return np.broadcast_to(out, (len(codes), 4, 4))

    def seen(self, node: int, seconds: Array) -> Seen:
        """From the apertures and the focal length, tenths of a scene unit as UsdGeomCamera has
        them.
        """
        from pxr import Usd, UsdGeom

        camera = UsdGeom.Camera(self._prims[node])

        def values(attribute: Any) -> Array:
            codes = seconds * self._per_second
            if not attribute.ValueMightBeTimeVarying():
                return np.full(len(codes), float(attribute.Get()))
            return np.array([float(attribute.Get(Usd.TimeCode(code))) for code in codes])

        focal = values(camera.GetFocalLengthAttr())
        size = np.stack(
            [values(camera.GetHorizontalApertureAttr()), values(camera.GetVerticalApertureAttr())],
            axis=1,
        )
        if not (np.isfinite(focal).all() and np.isfinite(size).all()):
            raise Problem(f"“{self.names[node]}” has a focal length or aperture that isn't finite.")
        if not ((focal > 0).all() and (size > 0).all()):
            raise Problem(f"“{self.names[node]}” has no focal length, or no aperture.")
        moved = np.array(
            [
                float(camera.GetHorizontalApertureOffsetAttr().Get()),
                float(camera.GetVerticalApertureOffsetAttr().Get()),
            ]
        )
        return Seen(
            size / 2 / focal[:, None],
            focal * self.metres * 1000 / 10,
            moved / (size[0] / 2),
            self._distortion(node),
        )

    def _distortion(self, node: int) -> tuple[float, ...]:
        """Ours, where the file was written here; USD has none of its own."""
        found = [self._prims[node].GetAttribute(name) for name in COEFFICIENTS]
        if not all(attribute and attribute.HasAuthoredValue() for attribute in found):
            return NO_DISTORTION
        values = tuple(float(attribute.Get()) for attribute in found)
        return values if all(map(math.isfinite, values)) else NO_DISTORTION


def _op(op: Any, codes: Array) -> Array:
    """(T, 4, 4) what one of a prim's transform operations does; (1, 4, 4) of one that is still.

    Values come over as one array and become matrices here: usd-core's own matrices one by one are
    five times as slow.
    """
    from pxr import UsdGeom, Vt

    if not op.MightBeTimeVarying():
        return np.array(op.GetOpTransform(float(codes[0]))).T[None]
    kind, get = op.GetOpType(), op.GetAttr().Get
    arrays = {
        UsdGeom.XformOp.PrecisionDouble: (Vt.Vec3dArray, Vt.DoubleArray),
        UsdGeom.XformOp.PrecisionFloat: (Vt.Vec3fArray, Vt.FloatArray),
    }.get(op.GetPrecision())
    name = str(UsdGeom.XformOp.GetOpTypeToken(kind))
    plain = name in ("translate", "scale") or name.startswith("rotate")
    if kind == UsdGeom.XformOp.TypeTransform or op.IsInverseOp() or not plain or arrays is None:
        rows = Vt.Matrix4dArray([op.GetOpTransform(code) for code in codes.tolist()])
        return np.array(rows).transpose(0, 2, 1)  # USD's vectors are rows
    axes = name.removeprefix("rotate")
    single = len(axes) == 1
    values = np.array(arrays[1 if single else 0]([get(code) for code in codes.tolist()]), float)
    out = np.tile(np.eye(4), (len(codes), 1, 1))
    if name == "translate":
        out[:, :3, 3] = values
    elif name == "scale":
        out[:, (0, 1, 2), (0, 1, 2)] = values
    else:
        # rotateXYZ turns about X first, and holds the angles in the order of the axes' names.
        angles = values if single else values[:, ["XYZ".index(axis) for axis in axes]]
        turns = Rotation.from_euler(axes.lower(), angles.reshape(len(codes), -1), degrees=True)
        out[:, :3, :3] = turns.as_matrix()
    return out


def _opened(path: Path) -> Any:
    from pxr import Tf, Usd

    try:
        stage = Usd.Stage.Open(str(path), Usd.Stage.LoadAll)
    except Tf.ErrorException:
        stage = None
    if stage is None:
        raise Problem("This file can't be read as OpenUSD.")
    # A file from outside may name any file of this machine; what a package holds lies within it.
    root = stage.GetRootLayer()
    needs = [] if path.suffix.lower() == ".usdz" else list(root.GetCompositionAssetDependencies())
    session = stage.GetSessionLayer()
    own = (layer for layer in stage.GetUsedLayers() if layer != session)
    if needs or any(not layer.identifier.startswith(str(path)) for layer in own):
        named = f" (“{needs[0][:60]}”)" if needs else ""
        raise Problem(
            f"This file refers to others{named}, which aren't here: save it flattened, as one "
            "file or a package."
        )
    return stage
