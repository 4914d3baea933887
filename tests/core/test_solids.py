"""Stand-ins of every kind against trimesh's own figures of their meshes; meshes from files written
by trimesh; places on faces and in corners."""

import io
import math
from unittest import TestCase

import numpy as np
import trimesh

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.formats import meshes
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.scene import handles, overlay
from aperture.scene.stand_in import StandIn, mesh_of

ELL = (
    (-0.5, -0.5),
    (0.5, -0.5),
    (0.5, 0.0),
    (0.0, 0.0),
    (0.0, 0.5),
    (-0.5, 0.5),
)  # three quarters of the square
CAMERA = Camera.at(Grid.from_gate(640, 360, 36, 20.25), Lens(24), (3, 1.7, 6), 0.4, -0.12, 0.03)


def ply(corners, face) -> bytes:
    """An ASCII PLY of one face."""
    head = "ply\nformat ascii 1.0\nelement vertex 3\n"
    head += "".join(f"property float {axis}\n" for axis in "xyz")
    head += "element face 1\nproperty list uchar int vertex_indices\nend_header\n"
    rows = [" ".join(f"{value:g}" for value in corner) for corner in corners]
    return (head + "\n".join([*rows, " ".join(map(str, [3, *face]))]) + "\n").encode()


class Solids(TestCase):
    def test_every_kind_is_closed_faces_outward_and_has_its_volume(self):
        round_ = 24 * math.sin(2 * math.pi / 48) / math.pi  # a 48-sided ring's share of the circle
        for kind, share, more in (
            ("box", 1, {}),
            ("cylinder", math.pi / 4 * round_, {}),
            ("cone", math.pi / 12 * round_, {}),
            ("stairs", 0.6, {"steps": 5}),
            ("block", 0.75, {"corners": ELL}),
            ("block", 0.75, {"corners": ELL[::-1]}),
        ):
            mesh = mesh_of([StandIn((2, 1.5, 0.5), (1, 0, -2), 0.7, 0.2, -0.1, kind=kind, **more)])
            self.assertTrue(mesh.is_watertight and mesh.is_winding_consistent, kind)
            self.assertAlmostEqual(mesh.volume, share * 1.5, places=9, msg=kind)
        sphere = mesh_of([StandIn((1, 1, 1), kind="sphere")])
        self.assertTrue(sphere.is_watertight and abs(sphere.volume - math.pi / 6) < 0.004)
        room = mesh_of([StandIn((4, 2.5, 3), kind="room", corners=ELL)])
        self.assertLess(
            (room.face_normals * (room.triangles_center - (-1, 1.25, -0.75))).sum(axis=1).max(), 0
        )  # seen from within
        self.assertEqual(room.face_normals[:, 1].min(), 0)  # no ceiling
        self.assertAlmostEqual(mesh_of([StandIn((0.5, 1.75, 0.3), kind="figure")]).extents[1], 1.75)

    def test_what_cannot_be_is_refused(self):
        for wrong in (
            lambda: StandIn((1, 1, 1), kind="block", corners=((0, 0), (1, 1), (1, 0), (0, 1))),
            lambda: StandIn((1, 1, 1), kind="block"),
            lambda: StandIn((1, 1, 1), kind="stairs", steps=900),
            lambda: StandIn((1, 1, 1), kind="teapot"),
            lambda: StandIn((1, 0, 1)),
        ):
            self.assertRaises(Problem, wrong)
        self.assertIn("another unit", StandIn((2500, 1, 1)).oddity())

    def test_a_sphere_is_drawn_as_its_silhouette(self):
        ball = StandIn((1, 1, 1), (0.5, 0, 1), kind="sphere")
        ends = overlay.drawn_edges(CAMERA.position, ball).reshape(-1, 3) - (0.5, 0.5, 1)
        away = CAMERA.position - (0.5, 0.5, 1)
        distance = np.linalg.norm(away)
        # Where tangents from the eye touch a sphere: its points are r² / d along the line to the
        # eye.
        np.testing.assert_allclose(ends @ away / distance, 0.25 / distance, atol=0.05)

    def test_places_on_a_face_and_in_a_corner(self):
        box = StandIn((1, 0.8, 1), (0.5, 0, 1), 0.3)
        top = np.array([0.6, 0.8, 1.1])
        np.testing.assert_allclose(
            handles.on_surface(CAMERA, CAMERA.project([top])[0], [box]), top, atol=1e-9
        )
        foot = np.array([2.2, 0, 2.0])
        np.testing.assert_allclose(
            handles.on_surface(CAMERA, CAMERA.project([foot])[0], [box]), foot, atol=1e-9
        )
        corner = box.bounds()[1]
        near = CAMERA.project([corner])[0] + (5, 4)
        self.assertEqual(
            handles.drag(CAMERA, StandIn((1, 1, 1)), "move", near, [box]).base, tuple(corner)
        )
        self.assertNotEqual(
            handles.drag(CAMERA, StandIn((1, 1, 1)), "move", near).base, tuple(corner)
        )


def as_bytes(thing, ending):
    data = thing.export(file_type=ending)
    return data.encode() if isinstance(data, str) else data


class Meshes(TestCase):
    def test_files_of_every_kind_in_their_unit(self):
        thing = trimesh.creation.cylinder(50, 120, sections=24)  # millimetres, Z up
        thing.apply_translation([300, 40, 60])
        for ending in ("obj", "ply", "stl", "glb"):
            mesh = meshes.read(as_bytes(thing, ending), ending, "mm", "Z")
            scale = 1000 if ending == "glb" else 1  # glTF is in metres and Y up whatever one says
            size = (0.1, 0.1, 0.12) if ending == "glb" else (0.1, 0.12, 0.1)
            np.testing.assert_allclose(np.array(mesh.size) / scale, size, rtol=1e-3, err_msg=ending)
            self.assertEqual((len(mesh.triangles), mesh.remarks), (len(thing.faces), ()), ending)
        np.testing.assert_allclose(
            meshes.read(thing.export(file_type="stl"), "stl", "mm", "Z").base,
            (0.3, 0, -0.04),
            atol=1e-6,
        )

    def test_what_is_wrong_with_a_file_is_said(self):
        holed = trimesh.creation.box()
        holed.update_faces(np.arange(12) > 1)
        self.assertIn(
            "holes", meshes.read(holed.export(file_type="obj").encode(), "obj").remarks[0]
        )
        broken = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nv nan 0 0\nf 1 2 3\nf 1 2 4\n"
        self.assertIn("1 faces", meshes.read(broken, "obj").remarks[0])
        cloud = io.BytesIO()
        trimesh.PointCloud(np.random.default_rng(1).normal(size=(9, 3))).export(
            cloud, file_type="ply"
        )
        corners = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
        for data, ending, says in (
            (ply(corners, [0, 1, 9]), "ply", "corners that the file doesn't have"),
            (ply(corners, [0, 1, -1]), "ply", "corners that the file doesn't have"),
            (b"v 0 0 0\n", "obj", "no faces|can't be read"),
            (cloud.getvalue(), "ply", "no faces"),
            (b"\0\1garbage", "glb", "can't be read"),
            (b"v 0 0 0\nv 0 0 0\nv 0 0 0\nf 1 2 3\n", "obj", "have no area"),
            (b"", "fbx", "files can.t be used here"),
        ):
            with self.assertRaisesRegex(Problem, says):
                meshes.read(data, ending)
