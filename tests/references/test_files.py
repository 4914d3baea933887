"""Files read back with somebody else's library."""

import base64
import csv
import json
import tempfile
from fractions import Fraction
from pathlib import Path
from unittest import TestCase

import numpy as np
import OpenImageIO
import trimesh
from PIL import Image
from pxr import Usd, UsdGeom

from aperture.camera import Camera
from aperture.formats import gltf, obj, table, usd
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.plates.colour import decode_srgb
from aperture.render.files import write_exr, write_png
from aperture.render.passes import render
from aperture.render.tracer import Look
from aperture.scene.stand_in import StandIn

CAMERA = Camera.at(Grid.from_gate(320, 180, 36, 20.25), Lens(24), (3, 1.7, 6), 0.4, -0.12, 0.03)
BOXES = {
    "Crate": StandIn((1.2, 0.9, 0.7), (0.4, 0, 0.8), 0.3),
    "Bench": StandIn((2, 0.5, 0.6), (-1, 0, -0.5)),
}

UNMOVED = np.array([[1, 1, 1, 0]] * 3 + [[1, 1, 1, 1]])  # a pose without its place


class Files(TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_gltf_in_trimesh(self):
        gltf.write(self.folder / "a.gltf", CAMERA, BOXES)
        scene = trimesh.load(self.folder / "a.gltf")
        for name, box in BOXES.items():
            np.testing.assert_allclose(
                sorted(scene.geometry[name].vertices.tolist()),
                sorted(box.bounds().tolist()),
                atol=1e-6,
            )
            self.assertGreater(scene.geometry[name].volume, 0)  # faces look outward
        perspective, pose = gltf.read(self.folder / "a.gltf")
        np.testing.assert_allclose(pose, CAMERA.world_from_camera)
        # glTF 2.0, clause 3.10.3.1: the projection matrix of a perspective camera.
        tangent = np.tan(perspective["yfov"] / 2)
        local = CAMERA.to_camera_space([[0.5, 0.4, 0.3]])[0]
        ndc = (
            np.array([local[0] / (tangent * perspective["aspectRatio"]), local[1] / tangent])
            / -local[2]
        )
        np.testing.assert_allclose(
            CAMERA.project([[0.5, 0.4, 0.3]])[0], [(ndc[0] + 1) * 160, (1 - ndc[1]) * 90], atol=1e-9
        )

    def test_obj_in_trimesh(self):
        obj.write(self.folder / "a.obj", BOXES, "cm", "Z")
        mesh = trimesh.load(self.folder / "a.obj", force="mesh")
        self.assertAlmostEqual(mesh.volume, (1.2 * 0.9 * 0.7 + 2 * 0.5 * 0.6) * 1e6, delta=1)
        self.assertAlmostEqual(mesh.bounds[1][2], 90)  # the higher box's 0.9 m, up along Z

    def test_a_path_in_usd_and_gltf(self):
        """Every frame's pose: by USD's own time codes, and by glTF's animation as clause 3.11 has it (read by hand from the JSON)."""
        path = {
            frame: Camera.at(CAMERA.grid, Lens(24), (0.1 * n, 1.7, 6 - 0.3 * n), 3 + 0.09 * n, 0.2)
            for n, frame in enumerate(range(1001, 1013))
        }
        rate = Fraction(24000, 1001)
        usd.write(self.folder / "a.usda", CAMERA, BOXES, "Y", rate=rate, path_of_camera=path)
        stage = Usd.Stage.Open(str(self.folder / "a.usda"))
        self.assertEqual((stage.GetStartTimeCode(), stage.GetEndTimeCode()), (1001, 1012))
        prim = UsdGeom.Camera(stage.GetPrimAtPath("/Shot/Camera"))
        for frame, camera in path.items():
            pose = np.array(prim.ComputeLocalToWorldTransform(Usd.TimeCode(frame))).T
            pose[:3, 3] /= 100  # its stage is in centimetres
            np.testing.assert_allclose(pose, camera.world_from_camera, atol=1e-9)
        gltf.write(self.folder / "a.gltf", CAMERA, BOXES, "Camera", path, rate)
        data = json.loads((self.folder / "a.gltf").read_text())
        blob = base64.b64decode(data["buffers"][0]["uri"].split(",")[1])

        def values(index):
            accessor = data["accessors"][index]
            view = data["bufferViews"][accessor["bufferView"]]
            at = view.get("byteOffset", 0)
            raw = np.frombuffer(blob[at : at + view["byteLength"]], "<f4")
            return raw.reshape(accessor["count"], -1)

        animation = data["animations"][0]
        self.assertNotIn("matrix", data["nodes"][0])  # an animated node has none
        for channel in animation["channels"]:
            sampler = animation["samplers"][channel["sampler"]]
            times, out = values(sampler["input"])[:, 0], values(sampler["output"])
            np.testing.assert_allclose(times * float(rate), np.arange(12), atol=1e-4)
            for camera, value in zip(path.values(), out):
                if channel["target"]["path"] == "translation":
                    np.testing.assert_allclose(value, camera.position, atol=1e-6)
                else:
                    x, y, z, w = value
                    turn = trimesh.transformations.quaternion_matrix([w, x, y, z])
                    np.testing.assert_allclose(turn, camera.world_from_camera * UNMOVED, atol=1e-6)
            if channel["target"]["path"] == "rotation":
                self.assertGreater((out[1:] * out[:-1]).sum(axis=1).min(), 0.9)  # one sign
        scene = trimesh.load(self.folder / "a.gltf")
        self.assertEqual(set(scene.geometry), set(BOXES))

    def test_a_name_with_line_breaks_breaks_no_file(self):
        odd = {f"{name}\nf 1 2 3\r\nv 9 9 9": item for name, item in BOXES.items()}
        obj.write(self.folder / "odd.obj", odd)
        obj.write(self.folder / "plain.obj", BOXES)
        meshes = [
            trimesh.load(self.folder / name, force="mesh") for name in ("odd.obj", "plain.obj")
        ]
        np.testing.assert_array_equal(meshes[0].vertices, meshes[1].vertices)
        self.assertEqual(len(meshes[0].faces), len(meshes[1].faces))

    def test_csv_with_the_standard_library(self):
        table.write(self.folder / "a.csv", {1001: CAMERA})
        with open(self.folder / "a.csv", newline="") as file:
            row = next(csv.DictReader(file))
        matrix = np.array([[float(row[f"m{r}{c}"]) for c in range(4)] for r in range(4)])
        np.testing.assert_array_equal(matrix, CAMERA.world_from_camera)
        self.assertEqual(
            (row["frame"], float(row["focal_mm"]), float(row["principal_x_px"])),
            ("1001", 24.0, 160.0),
        )
        np.testing.assert_array_equal(
            table.read(self.folder / "a.csv")[1001]["world_from_camera"], matrix
        )
        (self.folder / "b.csv").write_text(
            (self.folder / "a.csv").read_text().replace("24.0", "wide")
        )
        with self.assertRaisesRegex(ValueError, "line 2"):
            table.read(self.folder / "b.csv")

    def test_pictures_in_openimageio_and_pillow(self):
        rendered = render(CAMERA, [(item, Look(name)) for name, item in BOXES.items()])
        write_exr(self.folder / "a.exr", rendered)
        write_png(self.folder / "a.png", rendered)
        read = OpenImageIO.ImageBuf(str(self.folder / "a.exr"))
        self.assertEqual(read.spec().channelnames, ("R", "G", "B", "A"))
        self.assertEqual(read.spec().format, OpenImageIO.HALF)
        np.testing.assert_allclose(read.get_pixels(OpenImageIO.FLOAT), rendered.rgba, atol=1e-3)
        png = np.asarray(Image.open(self.folder / "a.png")) / 255
        self.assertEqual(png.shape, (180, 320, 4))
        np.testing.assert_allclose(
            decode_srgb(png[..., :3]) * png[..., 3:], rendered.rgba[..., :3], atol=0.006
        )
