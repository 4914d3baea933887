"""glTF 2.0 (ISO/IEC 12113:2022): the camera (clause 3.10) and the stand-ins, in metres and Y-up as glTF requires.

glTF knows neither an off-centre principal point nor distortion; both are written into `extras`, and `losses` says so.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.scene.stand_in import StandIn


def losses(camera: Camera) -> list[str]:
    """What a glTF camera can't carry of this one, in sentences."""
    out = []
    x, y = camera.principal_point_px
    if max(abs(x - camera.grid.width / 2), abs(y - camera.grid.height / 2)) > 0.01:
        out.append("glTF has no off-centre lens: the shift is in the extras only.")
    if camera.lens.distorts:
        out.append("glTF has no distortion: the coefficients are in the extras only.")
    return out


def write(path: Path, camera: Camera, stand_ins: dict[str, StandIn], name: str = "Camera") -> None:
    """Write one self-contained .gltf with the camera and the stand-ins."""
    import pygltflib as g

    document = g.GLTF2(
        asset=g.Asset(version="2.0", generator="Accurate Aperture"),
        scene=0,
        scenes=[g.Scene(nodes=[0])],
    )
    document.cameras = [_camera(camera, name)]
    pose = camera.world_from_camera.T.ravel().tolist()
    document.nodes = [g.Node(name=name, camera=0, matrix=pose)]
    blob = bytearray()
    for label, item in stand_ins.items():
        _add_mesh(document, blob, label, item)
    if blob:
        document.buffers = [g.Buffer(byteLength=len(blob))]
        document.set_binary_blob(bytes(blob))
        document.convert_buffers(g.BufferFormat.DATAURI)
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
        "brown_conrady": list(camera.lens.coefficients),
    }
    return g.Camera(type="perspective", name=name, perspective=perspective, extras=extras)


def _add_mesh(document: Any, blob: bytearray, label: str, item: StandIn) -> None:
    """A node with a mesh, its corners and faces appended to `blob`."""
    import pygltflib as g

    vertices = item.vertices().astype(np.float32)
    triangles = item.solid.triangles.astype(np.uint32)
    for values, target in ((vertices, g.ARRAY_BUFFER), (triangles, g.ELEMENT_ARRAY_BUFFER)):
        data = values.tobytes()
        view = g.BufferView(buffer=0, byteOffset=len(blob), byteLength=len(data), target=target)
        document.bufferViews.append(view)
        blob += data
    first = len(document.accessors)
    positions = g.Accessor(
        bufferView=first,
        componentType=g.FLOAT,
        count=len(vertices),
        type=g.VEC3,
        min=vertices.min(0).tolist(),
        max=vertices.max(0).tolist(),
    )
    indices = g.Accessor(
        bufferView=first + 1,
        componentType=g.UNSIGNED_INT,
        count=triangles.size,
        type=g.SCALAR,
    )
    document.accessors += [positions, indices]
    primitive = g.Primitive(attributes=g.Attributes(POSITION=first), indices=first + 1)
    document.meshes.append(g.Mesh(name=label, primitives=[primitive]))
    document.scenes[0].nodes.append(len(document.nodes))
    document.nodes.append(g.Node(name=label, mesh=len(document.meshes) - 1))


def read(path: Path) -> tuple[dict[str, Any], Array]:
    """The first camera node: its perspective as a dict, and world_from_camera (4, 4) metres. Raises ValueError."""
    import pygltflib as g

    document = g.GLTF2().load_json(str(path))
    node = next((node for node in document.nodes if node.camera is not None), None)
    if node is None:
        raise ValueError("the file has no camera")
    camera = document.cameras[node.camera]
    matrix = np.array(node.matrix or np.eye(4).ravel(), float).reshape(4, 4).T
    return json.loads(camera.perspective.to_json()), matrix
