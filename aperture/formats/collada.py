"""COLLADA 1.4.1 (ISO/PAS 17506): the camera with its animation, and the stand-ins.

The file declares its unit and up axis. A camera is an angle and an aspect there: it knows neither a
principal point beside the middle nor distortion. The animation's times are seconds from the first
frame; its number and the rate stand in an `extra` of the camera, as COLLADA counts no frames.
"""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.formats.extras import CARD, NOTHING, Extras
from aperture.formats.names import Names
from aperture.formats.usd import aperture_of
from aperture.geometry.axes import from_y_up, pose_in
from aperture.scene.stand_in import StandIn
from aperture.units import LENGTH_UNITS, METRES

OWN_PROFILE = "accurate-aperture"
MOST_POINTS = 5000


def _declared(unit: str, up_axis: str) -> Any:
    """An empty document that says its unit and its upward axis."""
    import collada
    from collada import asset

    document = collada.Collada()
    document.assetInfo.unitname = LENGTH_UNITS[unit]
    document.assetInfo.unitmeter = METRES[unit]
    document.assetInfo.upaxis = asset.UP_AXIS.Z_UP if up_axis == "Z" else asset.UP_AXIS.Y_UP
    return document


def _bodies(
    document: Any,
    stand_ins: Mapping[str, StandIn],
    frames: list[int],
    ids: Names,
    unit: str,
    up_axis: str,
) -> tuple[list[Any], dict[str, Array]]:
    """The nodes of stand-ins, and by id the poses (F, 16) of those that move over the frames."""
    from collada import scene

    nodes, moved = [], {}
    for label, item in stand_ins.items():
        id_ = ids.free(label)
        goes = item.moves and len(frames) > 1
        shape = _geometry(document, id_, label, item, unit, up_axis, goes)
        document.geometries.append(shape)
        node = scene.Node(id_, name=label, children=[scene.GeometryNode(shape)])
        if goes:
            poses = [pose_in(up_axis, item.at(frame).pose, METRES[unit]) for frame in frames]
            moved[id_] = np.array(poses).reshape(len(frames), 16)
            node.transforms.append(scene.MatrixTransform(moved[id_][0]))
        nodes.append(node)
    return nodes, moved


def _card(document: Any, extras: Extras, ids: Names, unit: str, up_axis: str) -> Any:
    """The node of the plate card: in the camera's own space where it follows it, else in the
    world."""
    from collada import scene

    assert extras.card is not None
    corners = extras.card if extras.card_follows else extras.card @ from_y_up(up_axis).T
    card = _surface(
        document, ids.free(CARD), CARD, corners / METRES[unit], np.array([0, 3, 2, 0, 2, 1])
    )
    document.geometries.append(card)
    return scene.Node(f"{CARD}-node", name=CARD, children=[scene.GeometryNode(card)])


def write(
    path: Path,
    camera: Camera,
    stand_ins: Mapping[str, StandIn],
    name: str = "Camera",
    path_of_camera: Mapping[int, Camera] | None = None,
    rate: Fraction = Fraction(24),
    unit: str = "m",
    up_axis: str = "Y",
    extras: Extras = NOTHING,
) -> None:
    """Write one .dae file.

    Parameters
    ----------
    path : Path
    camera : Camera
        Of the frame that is worked on.
    stand_ins : mapping of str to StandIn
        By their names.
    name : str
        Of the camera.
    path_of_camera : mapping of int to Camera, optional
        The camera of each frame.
    rate : Fraction
        Frames per second.
    unit, up_axis : str
        In which the file is written; it declares both.
    extras : Extras
        Of its points, only MOST_POINTS: each is a node here.
    """
    import collada
    from collada import scene

    document = _declared(unit, up_axis)
    ids, pose = Names(_plain, "_"), pose_in(up_axis, camera.world_from_camera, METRES[unit])
    own = ids.free(name)
    lens = collada.camera.PerspectiveCamera(f"{own}-lens", 0.01, 1e6, *_angles(camera))
    document.cameras.append(lens)
    nodes = [
        scene.Node(
            own,
            name=name,
            children=[scene.CameraNode(lens)],
            transforms=[scene.MatrixTransform(pose.ravel())],
        )
    ]
    frames = sorted(path_of_camera or {})
    bodies, moved = _bodies(document, stand_ins, frames, ids, unit, up_axis)
    nodes += bodies
    nodes += _points(extras, ids, unit, up_axis)
    if extras.card is not None:
        beside = nodes[0].children if extras.card_follows else nodes
        beside.append(_card(document, extras, ids, unit, up_axis))
    shot = scene.Scene("Shot", nodes)
    document.scenes.append(shot)
    document.scene = shot
    document.save()
    for node in nodes:
        if node.id == own or node.id in moved:
            node.transforms[0].xmlnode.set("sid", "transform")
    if path_of_camera:
        _animate(document, own, f"{own}-lens", path_of_camera, moved, rate, unit, up_axis)
    with open(path, "wb") as file:
        document.xmlnode.write(file, encoding="utf-8", xml_declaration=True)


def _angles(camera: Camera) -> tuple[float, float]:
    """Horizontal and vertical angle of view, degrees, without distortion and shift."""
    aperture = aperture_of(camera)
    wide, high = (
        float(np.degrees(2 * np.arctan(size / 2 / aperture.focal)))
        for size in (aperture.horizontal, aperture.vertical)
    )
    return wide, high


def _geometry(
    document: Any, id_: str, label: str, item: StandIn, unit: str, up_axis: str, own: bool
) -> Any:
    """The surface of a stand-in where it stands; `own`: in its own axes."""
    if own:
        vertices = item.own_vertices() / METRES[unit]
    else:
        vertices = item.vertices() @ from_y_up(up_axis).T / METRES[unit]
    return _surface(document, id_, label, vertices, item.solid.triangles.ravel())


def _points(extras: Extras, ids: Names, unit: str, up_axis: str) -> list[Any]:
    """A node for each spot and point."""
    from collada import scene

    named = extras.named(MOST_POINTS)
    turn = from_y_up(up_axis) / METRES[unit]
    return [
        scene.Node(
            ids.free(label),
            name=label,
            transforms=[scene.TranslateTransform(*(turn @ np.asarray(at, float)).tolist())],
        )
        for label, at in named.items()
    ]


def _surface(document: Any, id_: str, label: str, vertices: Array, triangles: Array) -> Any:
    from collada import geometry, source

    places = source.FloatSource(f"{id_}-places", vertices.ravel(), ("X", "Y", "Z"))
    shape = geometry.Geometry(document, f"{id_}-shape", label, [places])
    inputs = source.InputList()
    inputs.addInput(0, "VERTEX", f"#{id_}-places")
    triangles = shape.createTriangleSet(triangles, inputs, "surface")
    shape.primitives.append(triangles)
    return shape


def _animate(
    document: Any,
    node: str,
    lens: str,
    path: Mapping[int, Camera],
    others: Mapping[str, Array],
    rate: Fraction,
    unit: str,
    up_axis: str,
) -> None:
    """Add the animations of the camera's matrix and of `others`, (T, 16) by their nodes' ids, and
    of its angles where the lens zooms: pycollada reads such, but writes none.
    """
    frames = sorted(path)
    times = [float((frame - frames[0]) / rate) for frame in frames]
    metres = METRES[unit]
    matrices = np.array(
        [pose_in(up_axis, path[frame].world_from_camera, metres) for frame in frames]
    )
    moved = {node: matrices.reshape(len(frames), 16), **others}
    library = add_animations(document, moved, times, frames[0], rate)
    make = _maker()
    angles = np.array([_angles(path[frame]) for frame in frames])
    if np.ptp(angles, axis=0).max() > 1e-9:
        for index, what in enumerate(("xfov", "yfov")):
            library.append(
                _animation(
                    make, f"{node}-{what}", times, angles[:, index : index + 1], f"{lens}/{what}"
                )
            )
    root = document.xmlnode.getroot()
    for what in ("xfov", "yfov"):
        root.find(f".//{document.tag('camera')}//{document.tag(what)}").set("sid", what)


def add_animations(
    document: Any,
    matrices: Mapping[str, Array],
    times: list[float],
    first: int,
    rate: Fraction,
) -> Any:
    """Add animations of nodes' matrices to a saved document, and say which frames they are.

    Parameters
    ----------
    document : collada.Collada
    matrices : mapping of str to ndarray, shape (T, 16)
        Row by row, by the node's id; its transform has the sid "transform".
    times : list of float
        Seconds.
    first : int
        The frame of the first moment.
    rate : Fraction
        Frames per second.

    Returns
    -------
    lxml element
        The library of animations.
    """
    make, root = _maker(), document.xmlnode.getroot()
    library = make.library_animations()
    for node, values in matrices.items():
        library.append(_animation(make, f"{node}-move", times, values, f"{node}/transform"))
    extra = make.extra(
        make.technique(make.first_frame(str(first)), make.rate(str(rate)), profile=OWN_PROFILE)
    )
    root.find(f".//{document.tag('camera')}").append(extra)
    root.insert(1, library)  # after the asset
    return library


def _maker() -> Any:
    from collada.xmlutil import COLLADA_NS, ElementMaker

    return ElementMaker(namespace=COLLADA_NS, nsmap={None: COLLADA_NS})


def _animation(make: Any, id_: str, times: list[float], values: Array, target: str) -> Any:
    """One `animation`: a sampler of values (T, N) at times, straight from key to key."""
    count, width = values.shape
    kind = "float4x4" if width == 16 else "float"
    says = "TRANSFORM" if width == 16 else "ANGLE"

    def floats(what: str, data: list[float], name: str, type_: str, stride: int) -> Any:
        text = " ".join(repr(float(value)) for value in data)
        return make.source(
            make.float_array(text, id=f"{id_}-{what}-array", count=str(len(data))),
            make.technique_common(
                make.accessor(
                    make.param(name=name, type=type_),
                    source=f"#{id_}-{what}-array",
                    count=str(count),
                    stride=str(stride),
                )
            ),
            id=f"{id_}-{what}",
        )

    straight = make.source(
        make.Name_array(" ".join(["LINEAR"] * count), id=f"{id_}-how-array", count=str(count)),
        make.technique_common(
            make.accessor(
                make.param(name="INTERPOLATION", type="name"),
                source=f"#{id_}-how-array",
                count=str(count),
                stride="1",
            )
        ),
        id=f"{id_}-how",
    )
    return make.animation(
        floats("times", times, "TIME", "float", 1),
        floats("values", values.ravel().tolist(), says, kind, width),
        straight,
        make.sampler(
            make.input(semantic="INPUT", source=f"#{id_}-times"),
            make.input(semantic="OUTPUT", source=f"#{id_}-values"),
            make.input(semantic="INTERPOLATION", source=f"#{id_}-how"),
            id=f"{id_}-sampler",
        ),
        make.channel(source=f"#{id_}-sampler", target=target),
        id=id_,
    )


def _plain(label: str) -> str:
    """A label as an XML id."""
    plain = "".join(letter if letter.isascii() and letter.isalnum() else "_" for letter in label)
    return plain if plain[:1].isalpha() else f"n{plain}"
