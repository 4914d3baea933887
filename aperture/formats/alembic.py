"""Alembic (.abc, Ogawa): the camera with a sample a frame, the stand-ins, and points as empty
transforms.

Alembic says neither unit nor up axis: both stand in the archive's description, and are the show's.
A camera's focal length is in millimetres there, its apertures and film offsets in centimetres; a
frame's time is its number over the rate. Written by PyAlembic, the format's own library.
"""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.formats.extras import NOTHING, Extras
from aperture.formats.names import Names
from aperture.formats.usd import Shown, aperture_of
from aperture.geometry.axes import from_y_up, pose_in
from aperture.scene.stand_in import StandIn
from aperture.units import METRES

CM_PER_MM = 0.1
MOST_POINTS = 5000


def write(
    path: Path,
    camera: Shown,
    stand_ins: Mapping[str, StandIn],
    name: str,
    path_of_camera: Mapping[int, Camera],
    rate: Fraction,
    unit: str = "m",
    up_axis: str = "Y",
    others: Mapping[str, Shown] | None = None,
    extras: Extras = NOTHING,
) -> None:
    """Write one .abc file.

    Parameters
    ----------
    path : Path
    camera : Shown
        With its focus and stop.
    stand_ins : mapping of str to StandIn
        By their names.
    name : str
        Of the camera.
    path_of_camera : mapping of int to Camera
        The camera of each frame, at least one.
    rate : Fraction
        Frames per second.
    unit, up_axis : str
        Of the lengths in the file.
    others : mapping of str to Shown, optional
        Cameras that stand still.
    extras : Extras
        Of the points, MOST_POINTS.
    """
    from alembic3d import Abc

    says = f"Lengths in {unit}, {up_axis} up"
    archive = Abc.CreateArchiveWithInfo(str(path), float(rate), "Accurate Aperture", says)
    frames, names = sorted(path_of_camera), Names(_plain)
    sampling = archive.addTimeSampling(_sampling(frames, rate))
    top = archive.getTop()
    own = [path_of_camera[frame] for frame in frames]
    _camera(top, names.free(name), camera, own, unit, up_axis, sampling)
    for label, shown in (others or {}).items():
        _camera(top, names.free(label), shown, [shown.camera], unit, up_axis, 0)
    for label, item in stand_ins.items():
        own_name, parent = names.free(label), top
        if item.moves:
            poses = [pose_in(up_axis, item.at(frame).pose, METRES[unit]) for frame in frames]
            parent = _transform(top, own_name, poses, sampling)
            own_name = f"{own_name}Shape"
        _mesh(parent, own_name, item, unit, up_axis)
    for label, at in extras.named(MOST_POINTS).items():
        matrix = np.eye(4)
        matrix[:3, 3] = from_y_up(up_axis) @ np.asarray(at, float) / METRES[unit]
        _transform(top, names.free(label), [matrix], 0)


def _sampling(frames: list[int], rate: Fraction) -> Any:
    """A sample a frame; at their own times where frames are missing between."""
    from alembic3d import AbcCoreAbstract

    if frames[-1] - frames[0] == len(frames) - 1:
        return AbcCoreAbstract.TimeSampling(float(1 / rate), float(frames[0] / rate))
    times = AbcCoreAbstract.TimeVector()
    for frame in frames:
        times.append(float(frame / rate))
    kind = AbcCoreAbstract.TimeSamplingType(AbcCoreAbstract.AcyclicFlag.kAcyclic)
    return AbcCoreAbstract.TimeSampling(kind, times)


def _transform(parent: Any, name: str, matrices: list[Array], sampling: int) -> Any:
    import imath
    from alembic3d import AbcGeom

    node = AbcGeom.OXform(parent, name, sampling)
    for matrix in matrices:
        sample = AbcGeom.XformSample()
        sample.setMatrix(imath.M44d(*matrix.T.ravel().tolist()))  # its vectors are rows
        node.getSchema().set(sample)
    return node


def _camera(
    parent: Any,
    name: str,
    shown: Shown,
    cameras: list[Camera],
    unit: str,
    up_axis: str,
    sampling: int,
) -> None:
    from alembic3d import AbcGeom

    metres = METRES[unit]
    matrices = [pose_in(up_axis, camera.world_from_camera, metres) for camera in cameras]
    node = _transform(parent, name, matrices, sampling)
    schema = AbcGeom.OCamera(node, f"{name}Shape", sampling).getSchema()
    for camera in cameras:
        aperture, sample = aperture_of(camera), AbcGeom.CameraSample()
        sample.setFocalLength(aperture.focal)
        sample.setHorizontalAperture(aperture.horizontal * CM_PER_MM)
        sample.setVerticalAperture(aperture.vertical * CM_PER_MM)
        sample.setHorizontalFilmOffset(aperture.horizontal_offset * CM_PER_MM)
        sample.setVerticalFilmOffset(aperture.vertical_offset * CM_PER_MM)
        if shown.focus_m:
            sample.setFocusDistance(shown.focus_m / METRES[unit])
        if shown.f_number:
            sample.setFStop(shown.f_number)
        schema.set(sample)


def _mesh(parent: Any, name: str, item: StandIn, unit: str, up_axis: str) -> None:
    """Triangles, wound the other way round than elsewhere: Alembic's faces go clockwise as seen
    from outside (from memory).
    """
    import imath
    from alembic3d import AbcGeom

    if item.moves:  # in its own axes: its transform has its place
        vertices = item.own_vertices() / METRES[unit]
    else:
        vertices = item.vertices() @ from_y_up(up_axis).T / METRES[unit]
    triangles = item.solid.triangles[:, ::-1]
    points = imath.V3fArray(len(vertices))
    for index, vertex in enumerate(vertices.tolist()):
        points[index] = imath.V3f(*vertex)
    corners, counts = imath.IntArray(triangles.size), imath.IntArray(len(triangles))
    for index, corner in enumerate(triangles.ravel().tolist()):
        corners[index] = corner
    for index in range(len(triangles)):
        counts[index] = 3
    schema = AbcGeom.OPolyMesh(parent, name).getSchema()
    schema.set(AbcGeom.OPolyMeshSchemaSample(points, corners, counts))


def _plain(label: str) -> str:
    """A name without what Alembic's paths are made of."""
    return label.replace("/", "_") or "unnamed"
