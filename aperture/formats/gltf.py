"""glTF 2.0 (ISO/IEC 12113:2022): the camera (clause 3.10) and the stand-ins, in metres and Y-up as
glTF requires.

glTF knows neither an off-centre principal point nor distortion; both are written into `extras`, and
`losses` says so.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.formats.extras import CARD, CARD_UV, NOTHING, Extras
from aperture.formats.lens_maps import bends_px
from aperture.scene.stand_in import StandIn


def window_shift(camera: Camera) -> tuple[float, float]:
    """By how much the picture's window is shifted to the right and up from the lens's axis, in half
    widths and half heights.
    """
    x, y = camera.principal_point_px
    width, height = camera.grid.width, camera.grid.height
    return 1 - 2 * x / width, 2 * y / height - 1


def losses(camera: Camera, name: str = "glTF", kept: str = "is in the extras only") -> list[str]:
    """What the camera of a format that knows an angle and an aspect can't carry of this one, in
    sentences.

    kept : what becomes of it in that format's files.
    """
    out = []
    x, y = camera.principal_point_px
    off = float(np.hypot(x - camera.grid.width / 2, y - camera.grid.height / 2))
    if off > 0.01:
        out.append(
            f"{name} has no off-centre lens: the shift {kept}, and everything lies {off:.2f} px "
            "beside. "
            "Render with overscan about the lens’s axis, and cut it."
        )
    if camera.lens.distorts:
        out.append(f"{name} has no distortion: it {kept}. {without_distortion(camera)}")
    return out


def without_distortion(camera: Camera) -> str:
    """What is off in a renderer without distortion, and what helps, in a sentence."""
    return (
        f"The plate’s corner is off by up to {bends_px(camera):.1f} px: straighten the plate "
        "with the UV map, "
        "or bend the render with the other one."
    )


def write(
    path: Path,
    camera: Camera,
    stand_ins: dict[str, StandIn],
    name: str = "Camera",
    path_of_camera: Mapping[int, Camera] | None = None,
    rate: Fraction = Fraction(24),
    extras: Extras = NOTHING,
) -> None:
    """Write one self-contained .gltf, or .glb, with the camera, the stand-ins and the `extras`.

    Where `path_of_camera` gives the camera of each frame, it is an animation that begins at 0 s
    with the first of them; glTF counts no frames, so their numbers are in the extras. `rate`:
    frames per second.
    """
    import pygltflib as g

    document = g.GLTF2(
        asset=g.Asset(version="2.0", generator="Accurate Aperture"),
        scene=0,
        scenes=[g.Scene(nodes=[0])],
    )
    document.cameras = [_camera(camera, name)]
    pose = camera.world_from_camera.T.ravel().tolist()
    blob = bytearray()
    frames = sorted(path_of_camera or {})
    if path_of_camera:
        poses = [path_of_camera[frame].world_from_camera for frame in frames]
        document.nodes = [g.Node(name=name, camera=0)]
        _animate(document, blob, 0, poses, frames, rate)
    else:
        document.nodes = [g.Node(name=name, camera=0, matrix=pose)]
    for label, item in stand_ins.items():
        goes = item.moves and len(frames) > 1
        vertices = item.own_vertices() if goes else item.vertices()
        node = _add_mesh(document, blob, label, vertices, item.solid.triangles)
        if goes:
            poses = [item.at(frame).pose for frame in frames]
            _animate(document, blob, node, poses, frames, rate)
    _extras(document, blob, extras)
    if blob:
        document.buffers = [g.Buffer(byteLength=len(blob))]
        document.set_binary_blob(bytes(blob))
        if path.suffix != ".glb":
            document.convert_buffers(g.BufferFormat.DATAURI)
    if path.suffix == ".glb":
        document.save_binary(str(path))
    else:
        document.save_json(str(path))


def _camera(camera: Camera, name: str) -> Any:
    """The camera with glTF's angle and aspect; what glTF has no word for as extras."""
    import pygltflib as g

    fx, fy = camera.focal_px
    width, height = camera.grid.width, camera.grid.height
    perspective = g.Perspective(
        yfov=2 * float(np.arctan(height / (2 * fy))),
        aspectRatio=(width / fx) / (height / fy),
        znear=0.01,
    )
    extras = {
        "focal_mm": camera.lens.focal_mm,
        "squeeze": camera.lens.squeeze,
        "gate_mm": list(camera.grid.gate_mm),
        "principal_point_px": list(camera.principal_point_px),
        "window_shift": list(window_shift(camera)),
        "brown_conrady": list(camera.lens.coefficients),
    }
    return g.Camera(type="perspective", name=name, perspective=perspective, extras=extras)


def _animate(
    document: Any,
    blob: bytearray,
    index: int,
    poses: Sequence[Array],
    frames: Sequence[int],
    rate: Fraction,
) -> None:
    """An animation of a node's place and turn (clause 3.11), from its pose on each frame."""
    import pygltflib as g

    node = document.nodes[index]
    places = np.array([pose[:3, 3] for pose in poses], np.float32)
    quaternions = Rotation.from_matrix([pose[:3, :3] for pose in poses]).as_quat()
    # A quaternion and its negative are the same turn; neighbours have to be of one sign to be
    # blended the short way.
    for at in range(1, len(frames)):
        if quaternions[at] @ quaternions[at - 1] < 0:
            quaternions[at] *= -1
    times = np.array([float((frame - frames[0]) / rate) for frame in frames], np.float32)
    inputs = _accessor(document, blob, times, g.SCALAR, (float(times[0]), float(times[-1])))
    samplers = [
        g.AnimationSampler(input=inputs, output=_accessor(document, blob, values, kind))
        for values, kind in ((places, g.VEC3), (quaternions.astype(np.float32), g.VEC4))
    ]
    channels = [
        g.AnimationChannel(sampler=at, target=g.AnimationChannelTarget(node=index, path=what))
        for at, what in enumerate(("translation", "rotation"))
    ]
    extras = {"first_frame": frames[0], "last_frame": frames[-1], "rate": str(rate)}
    document.animations.append(
        g.Animation(name=node.name, samplers=samplers, channels=channels, extras=extras)
    )
    node.translation, node.rotation = places[0].tolist(), quaternions[0].tolist()


def _accessor(
    document: Any,
    blob: bytearray,
    values: Array,
    kind: str,
    bounds: tuple[float, float] | None = None,
) -> int:
    """The index of a new accessor of float32 values, which are appended to `blob`."""
    import pygltflib as g

    data = values.tobytes()
    document.bufferViews.append(g.BufferView(buffer=0, byteOffset=len(blob), byteLength=len(data)))
    blob += data
    limits = {"min": [bounds[0]], "max": [bounds[1]]} if bounds else {}
    document.accessors.append(
        g.Accessor(
            bufferView=len(document.bufferViews) - 1,
            componentType=g.FLOAT,
            count=len(values),
            type=kind,
            **limits,
        )
    )
    return len(document.accessors) - 1


def _extras(document: Any, blob: bytearray, extras: Extras) -> None:
    """The points as a cloud, an empty node for each named spot, the plate card as a quad with
    texture coordinates.
    """
    import pygltflib as g

    def add(node: Any, to: list[int]) -> None:
        to.append(len(document.nodes))
        document.nodes.append(node)

    def vectors(values: Array) -> int:
        values = values.astype(np.float32)
        index = _accessor(document, blob, values, g.VEC3)
        document.accessors[index].min = values.min(axis=0).tolist()
        document.accessors[index].max = values.max(axis=0).tolist()
        return index

    def mesh(label: str, primitive: Any) -> Any:
        document.meshes.append(g.Mesh(name=label, primitives=[primitive]))
        return g.Node(name=label, mesh=len(document.meshes) - 1)

    roots = document.scenes[0].nodes
    if len(extras.points):
        cloud = g.Primitive(attributes=g.Attributes(POSITION=vectors(extras.points)), mode=g.POINTS)
        add(mesh("Points", cloud), roots)
    for label, spot in extras.spots.items():
        add(g.Node(name=label, translation=np.asarray(spot, float).tolist()), roots)
    if extras.card is None:
        return
    corners = vectors(extras.card)
    # glTF counts texture coordinates from the upper left (clause 3.9.3).
    coordinates = np.stack([CARD_UV[:, 0], 1 - CARD_UV[:, 1]], axis=1).astype(np.float32)
    attributes = g.Attributes(
        POSITION=corners, TEXCOORD_0=_accessor(document, blob, coordinates, g.VEC2)
    )
    faces = _accessor(document, blob, np.array([0, 3, 2, 0, 2, 1], np.uint32), g.SCALAR)
    document.accessors[faces].componentType = g.UNSIGNED_INT
    # Without a material some programs leave the coordinates out; the plate itself isn't in the
    # file.
    document.materials.append(g.Material(name="Plate", doubleSided=True))
    material = len(document.materials) - 1
    card = mesh(CARD, g.Primitive(attributes=attributes, indices=faces, material=material))
    if extras.card_follows and document.nodes[0].children is None:
        document.nodes[0].children = []
    add(card, document.nodes[0].children if extras.card_follows else roots)


def _add_mesh(document: Any, blob: bytearray, label: str, vertices: Array, triangles: Array) -> int:
    """The index of a node with a mesh, its corners and faces appended to `blob`."""
    import pygltflib as g

    vertices, triangles = vertices.astype(np.float32), triangles.astype(np.uint32)
    for values, target in ((vertices, g.ARRAY_BUFFER), (triangles, g.ELEMENT_ARRAY_BUFFER)):
        data = values.tobytes()
        view = g.BufferView(buffer=0, byteOffset=len(blob), byteLength=len(data), target=target)
        document.bufferViews.append(view)
        blob += data
    first = len(document.accessors)
    view = len(document.bufferViews) - 2
    positions = g.Accessor(
        bufferView=view,
        componentType=g.FLOAT,
        count=len(vertices),
        type=g.VEC3,
        min=vertices.min(0).tolist(),
        max=vertices.max(0).tolist(),
    )
    indices = g.Accessor(
        bufferView=view + 1,
        componentType=g.UNSIGNED_INT,
        count=triangles.size,
        type=g.SCALAR,
    )
    document.accessors += [positions, indices]
    primitive = g.Primitive(attributes=g.Attributes(POSITION=first), indices=first + 1)
    document.meshes.append(g.Mesh(name=label, primitives=[primitive]))
    node = len(document.nodes)
    document.scenes[0].nodes.append(node)
    document.nodes.append(g.Node(name=label, mesh=len(document.meshes) - 1))
    return node
