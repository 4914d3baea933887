"""Files read back with somebody else's library."""

import base64
import csv
import itertools
import json
import re
import tempfile
from fractions import Fraction
from pathlib import Path
from unittest import TestCase

import collada as pycollada
import cv2
import numpy as np
import OpenImageIO
import trimesh
from alembic3d import Abc, AbcGeom
from PIL import Image
from pxr import Usd, UsdGeom

from aperture.camera import Camera
from aperture.formats import (
    alembic,
    check,
    collada,
    gltf,
    lens_maps,
    moves_in,
    obj,
    ply,
    prepared,
    recipe,
    straight,
    table,
    usd,
)
from aperture.formats.extras import Extras
from aperture.formats.tables_in import TableSource
from aperture.geometry.axes import from_y_up
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.moves.source import Settings, bring_in
from aperture.plates.colour import decode_srgb
from aperture.render.files import write_exr, write_png
from aperture.render.passes import render
from aperture.render.tracer import Look
from aperture.scene.frustum import across
from aperture.scene.stand_in import StandIn
from aperture.units import METRES

CAMERA = Camera.at(Grid.from_gate(320, 180, 36, 20.25), Lens(24), (3, 1.7, 6), 0.4, -0.12, 0.03)
BOXES = {
    "Crate": StandIn((1.2, 0.9, 0.7), (0.4, 0, 0.8), 0.3),
    "Bench": StandIn((2, 0.5, 0.6), (-1, 0, -0.5)),
}

UNMOVED = np.array([[1, 1, 1, 0]] * 3 + [[1, 1, 1, 1]])  # a pose without its place


def _low(vertices):
    return np.concatenate(vertices).min(axis=0)


def _high(vertices):
    return np.concatenate(vertices).max(axis=0)


def _exr(path):
    """(H, W, 3) by OpenImageIO."""
    return OpenImageIO.ImageBuf(str(path)).get_pixels(OpenImageIO.FLOAT)[..., :3]


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
        perspective = json.loads((self.folder / "a.gltf").read_text())["cameras"][0]["perspective"]
        np.testing.assert_allclose(scene.graph.get("Camera")[0], CAMERA.world_from_camera)
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
        """Every frame's pose: by USD's own time codes, and by glTF's animation as clause 3.11 has
        it (read by hand from the JSON)."""
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

    def test_points_spots_and_the_card_in_usd_gltf_and_collada(self):
        """Where each library puts them; the card goes along with the camera, and its picture stands
        upright on it."""
        over = {1: CAMERA, 2: Camera.at(CAMERA.grid, CAMERA.lens, (3.2, 1.9, 6), 0.7, 0.1, 0.2)}
        card = CAMERA.to_camera_space(across(CAMERA, 5.0))
        extras = Extras(np.array([[1.0, 2, 3], [4, 5, 6]]), {"Door, foot": [0.1, 0.2, 0.3]}, card)
        size = np.array([CAMERA.grid.width, CAMERA.grid.height])
        path = self.folder / "e.usda"
        usd.write(path, CAMERA, {}, "Z", path_of_camera=over, extras=extras)
        stage = Usd.Stage.Open(str(path))
        cloud = np.array(UsdGeom.Points(stage.GetPrimAtPath("/Shot/Points")).GetPointsAttr().Get())
        np.testing.assert_allclose(cloud / 100, [[1, -3, 2], [4, -6, 5]], atol=1e-6)
        spot = UsdGeom.Xformable(stage.GetPrimAtPath("/Shot/Door__foot"))
        at = spot.ComputeLocalToWorldTransform(1).ExtractTranslation()
        np.testing.assert_allclose(np.array(at) / 100, [0.1, -0.3, 0.2], atol=1e-9)
        mesh = UsdGeom.Mesh(stage.GetPrimAtPath("/Shot/Camera/PlateCard"))
        uv = np.array(UsdGeom.PrimvarsAPI(mesh).GetPrimvar("st").Get())
        for frame, camera in over.items():
            world = np.array(mesh.ComputeLocalToWorldTransform(frame))
            corners = np.array(mesh.GetPointsAttr().Get()) @ world[:3, :3] + world[3, :3]
            px = camera.project(corners[:, [0, 2, 1]] * [1, 1, -1] / 100)
            np.testing.assert_allclose(px, np.stack([uv[:, 0], 1 - uv[:, 1]], 1) * size, atol=1e-3)
        path = self.folder / "e.glb"
        gltf.write(path, CAMERA, {}, "Camera", extras=extras)
        scene = trimesh.load(path)
        np.testing.assert_allclose(scene.geometry["Points"].vertices, extras.points)
        quad = scene.geometry["PlateCard"]
        pose = scene.graph.get("PlateCard")[0]
        px = CAMERA.project(quad.vertices @ pose[:3, :3].T + pose[:3, 3])
        # trimesh counts v upwards, as OpenGL does.
        theirs = np.stack([quad.visual.uv[:, 0], 1 - quad.visual.uv[:, 1]], 1) * size
        np.testing.assert_allclose(px, theirs, atol=1e-3)
        path = self.folder / "e.dae"
        collada.write(path, CAMERA, {}, "Camera", None, unit="ft", up_axis="Z", extras=extras)
        file = pycollada.Collada(str(path))
        nodes = {node.name or node.id: node for node in file.scene.nodes}
        np.testing.assert_allclose(nodes["point 2"].matrix[:3, 3] * 0.3048, [4, -6, 5], atol=1e-5)
        (shape,) = file.scene.objects("geometry")
        corners = np.concatenate([part.vertex for part in shape.primitives()]) * 0.3048
        px = CAMERA.project(corners[:, [0, 2, 1]] * [1, 1, -1])
        np.testing.assert_allclose(
            sorted(px.round().tolist()), sorted([[0, 0], [320, 0], [320, 180], [0, 180]]), atol=1
        )

    def test_binary_forms_say_the_same(self):
        over = {1: CAMERA, 2: Camera.at(CAMERA.grid, CAMERA.lens, (3.2, 1.7, 6), 0.42, -0.12, 0.03)}
        for ending in ("usdc", "usdz"):
            path = self.folder / f"file.{ending}"
            usd.write(path, CAMERA, BOXES, path_of_camera=over)
            stage = Usd.Stage.Open(str(path))
            camera = UsdGeom.Camera(stage.GetPrimAtPath("/Shot/Camera"))
            place = camera.ComputeLocalToWorldTransform(2).ExtractTranslation()
            np.testing.assert_allclose(np.array(place) / 100, over[2].position, atol=1e-6)
            self.assertTrue(stage.GetPrimAtPath("/Shot/Bench"))
        path = self.folder / "file.glb"
        gltf.write(path, CAMERA, BOXES, path_of_camera=over)
        scene = trimesh.load(path)
        self.assertEqual(set(scene.geometry), set(BOXES))
        np.testing.assert_allclose(
            scene.bounds,
            [f([box.vertices() for box in BOXES.values()]) for f in (_low, _high)],
            atol=1e-6,
        )

    def test_uv_maps_and_coefficients_in_opencv(self):
        """Against OpenCV 4's own undistortion, its pixels counted from the first one's centre."""
        lens = Lens(24, centre_mm=(0.4, -0.2), coefficients=(-0.18, 0.03, 0, 0.002, -0.001))
        camera = Camera.at(CAMERA.grid, lens, CAMERA.position, 0.4, -0.12, 0.03)
        path = self.folder / "lens.yaml"
        lens_maps.write_opencv(path, camera)
        storage = cv2.FileStorage(str(path), cv2.FILE_STORAGE_READ)
        matrix, k = (
            storage.getNode(name).mat() for name in ("camera_matrix", "distortion_coefficients")
        )
        world = np.random.default_rng(1).uniform((-1, 0, -1), (1, 1, 1), (20, 3))
        turn = np.diag([1.0, -1, -1]) @ camera.rotation.T
        theirs, _ = cv2.projectPoints(
            world, cv2.Rodrigues(turn)[0], -turn @ camera.position, matrix, k
        )
        np.testing.assert_allclose(theirs[:, 0] + 0.5, camera.project(world), atol=1e-6)
        maps = lens_maps.lens_maps(camera)
        left = round(camera.grid.to_px([[0, 0]])[0, 0] * -1 + maps.grid.to_px([[0, 0]])[0, 0])
        top = round(camera.grid.to_px([[0, 0]])[0, 1] * -1 + maps.grid.to_px([[0, 0]])[0, 1])
        plain = matrix + [[0, 0, left], [0, 0, top], [0, 0, 0]]
        size = maps.grid.width, maps.grid.height
        x, y = cv2.initUndistortRectifyMap(matrix, k, np.eye(3), plain, size, cv2.CV_32FC1)
        for name, map_ in (("u", maps.undistort), ("r", maps.redistort)):
            lens_maps.write_map(self.folder / f"{name}.exr", map_, {})
        uv = _exr(self.folder / "u.exr")
        np.testing.assert_allclose(uv[..., 0] * 320 - 0.5, x, atol=2e-3)
        np.testing.assert_allclose((1 - uv[..., 1]) * 180 - 0.5, y, atol=2e-3)
        # There and back again is the plate: its whole edge has found room.
        back = _exr(self.folder / "r.exr")
        xy = np.stack([back[..., 0] * size[0] - 0.5, (1 - back[..., 1]) * size[1] - 0.5], axis=-1)
        self.assertTrue(((xy > -0.51) & (xy < np.array(size) - 0.49)).all())
        there = cv2.remap(x, *np.moveaxis(xy.astype(np.float32), 2, 0), cv2.INTER_LINEAR)
        inner = np.s_[2:-2, 2:-2]
        np.testing.assert_allclose(there[inner], np.indices((180, 320))[1][inner], atol=0.02)

    def test_alembic_in_its_own_library(self):
        """A frame is missing in between: each sample has its own time."""
        over = {
            frame: Camera.at(CAMERA.grid, Lens(24 + n, centre_mm=(0.5, -0.2)), (3, 1.7, 6 - n), 0.4)
            for n, frame in enumerate((1001, 1002, 1004))
        }
        path, spots = (
            self.folder / "a.abc",
            Extras(np.array([[1.0, 2, 3]]), {"Door/foot": [4, 5, 6]}),
        )
        shown = usd.Shown(over[1001], 2.5, 4.0)
        alembic.write(
            path, shown, BOXES, "m", over, Fraction(24), "cm", "Z", {"Witness": shown}, spots
        )
        top = Abc.IArchive(str(path)).getTop()
        names = {top.getChild(index).getName() for index in range(top.getNumChildren())}
        self.assertEqual(names, {"m", "Witness", *BOXES, "Door_foot", "point 1"})
        node = AbcGeom.IXform(top, "m")
        lens = AbcGeom.ICamera(node, "mShape").getSchema()
        for frame, camera in over.items():
            at = Abc.ISampleSelector(frame / 24)
            matrix = np.array(
                [[row[i] for i in range(4)] for row in node.getSchema().getValue(at).getMatrix()]
            )
            sample = lens.getValue(at)
            # Through the window that PyAlembic itself makes of apertures and film offsets.
            point = camera.position + camera.rotation @ [0.6, -0.4, -3]
            local = np.array([*(point[[0, 2, 1]] * [100, -100, 100]), 1]) @ np.linalg.inv(matrix)
            # The window is in half widths of the aperture.
            half = sample.getHorizontalAperture() / 2
            x, y = sample.getFocalLength() / 10 * local[:2] / -local[2] / half
            window = sample.getScreenWindow()
            x = (x - window["left"]) / (window["right"] - window["left"])
            y = (window["top"] - y) / (window["top"] - window["bottom"])
            size = [CAMERA.grid.width, CAMERA.grid.height]
            np.testing.assert_allclose(
                np.array([x, y]) * size, camera.project([point])[0], atol=1e-3
            )
            self.assertEqual((sample.getFocusDistance(), sample.getFStop()), (250, 4))
        # And it comes in again, with the frame that is missing.
        move = moves_in.read(path, Settings(camera="/m/mShape"), Fraction(24)).move
        self.assertEqual(move.frames.tolist(), [1001, 1002, 1003, 1004])
        for row, frame in ((0, 1001), (1, 1002), (3, 1004)):
            np.testing.assert_allclose(move.positions[row], over[frame].position, atol=1e-9)
            np.testing.assert_allclose(move.rotations[row], over[frame].rotation, atol=1e-9)
        np.testing.assert_allclose(move.focal_mm, [24, 25, 25.5, 26], atol=1e-6)
        np.testing.assert_allclose(
            move.on(CAMERA.grid).at(1002).project([[0.2, 1, 1]]),
            over[1002].project([[0.2, 1, 1]]),
            atol=1e-3,
        )
        mesh = AbcGeom.IPolyMesh(top, "Crate").getSchema().getValue()
        corners = np.array([[point[i] for i in range(3)] for point in mesh.getPositions()]) / 100
        wanted = BOXES["Crate"].vertices() @ from_y_up("Z").T
        np.testing.assert_allclose(corners, wanted, atol=1e-6)

    def test_straight_pictures_are_opencvs(self):
        """Against OpenCV's own undistortion of the same linear light, read back by OpenImageIO and
        OpenCV."""
        lens = Lens(24, coefficients=(-0.18, 0.03, 0, 0.002, -0.001))
        camera = Camera.at(CAMERA.grid, lens, CAMERA.position)
        y, x = np.mgrid[0:180, 0:320].astype(np.float32)
        plate = np.stack([0.5 + 0.4 * np.sin(x / 9), 0.5 + 0.4 * np.cos(y / 7), x / 400], axis=-1)
        fx, fy = camera.focal_px
        matrix = np.array([[fx, 0, 159.5], [0, fy, 89.5], [0, 0, 1]])
        k = np.array([-0.18, 0.03, 0.002, -0.001, 0])
        maps = cv2.initUndistortRectifyMap(matrix, k, np.eye(3), matrix, (320, 180), cv2.CV_32FC1)
        theirs = cv2.remap(plate, *maps, cv2.INTER_CUBIC)
        inner = np.s_[4:-4, 4:-4]
        small = straight.Straightener.of(camera, "plate").straightened(plate)
        np.testing.assert_allclose(small[inner], theirs[inner], atol=5e-3)
        made = straight.Straightener.of(camera)
        large, (left, top) = (
            made.straightened(plate),
            made.grid.to_px(camera.grid.to_mm([[0, 0]]))[0].round().astype(int),
        )
        np.testing.assert_allclose(large[top : top + 180, left : left + 320], small, atol=1e-6)
        for kind, (ending, _) in straight.KINDS.items():
            path = self.folder / f"straight-{kind}{ending}"
            path.write_bytes(straight.encoded(small, kind))
            if kind.startswith("exr"):
                np.testing.assert_allclose(
                    _exr(path), small, atol=1e-3 if kind == "exr-half" else 0
                )
            else:
                read = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)[..., ::-1]
                most = np.iinfo(read.dtype).max
                self.assertEqual(most, 65535 if kind.endswith("16") else 255)
                np.testing.assert_allclose(
                    decode_srgb(read / most), np.clip(small, 0, 1), atol=3 / most
                )

    def test_what_a_recipe_bakes(self):
        """A bent, shifted lens baked into overscan, ten times as large: USD's own projection lands
        where OpenCV undistorts to."""
        lens = Lens(24, coefficients=(-0.12, 0.02, 0, 0.001, 0), centre_mm=(1.3, -0.7))
        grid = Grid.from_gate(320, 180, 36, 20.25)
        camera = Camera.at(grid, lens, CAMERA.position, 0.4, -0.12, 0.03)
        world = (
            CAMERA.position + CAMERA.rays(np.random.default_rng(5).uniform(20, 160, (30, 2))) * 5
        )
        own = recipe.Recipe(scale=10, distortion="baked", offsets="baked")
        made = prepared.prepared(camera, own)
        more = prepared.added(camera, made)
        self.assertGreater(min(more.left, more.right, more.top, more.bottom), 0)
        middle = np.array(made.principal_point_px) - [made.grid.width / 2, made.grid.height / 2]
        self.assertLess(np.abs(middle).max(), 0.26)
        usd.write(self.folder / "baked.usda", made, {}, "Z")
        stage = Usd.Stage.Open(str(self.folder / "baked.usda"))
        seen = UsdGeom.Camera(stage.GetPrimAtPath("/Shot/Camera")).GetCamera(Usd.TimeCode(1))
        turned = world * 10 * 100 @ from_y_up("Z").T  # ten times as large, centimetres
        view = np.array(seen.frustum.ComputeViewMatrix() * seen.frustum.ComputeProjectionMatrix())
        clip = np.concatenate([turned, np.ones((30, 1))], axis=1) @ view
        there = clip[:, :2] / clip[:, 3:]
        size = np.array([made.grid.width, made.grid.height])
        theirs = (there * [1, -1] + 1) / 2 * size
        fx, fy = camera.focal_px
        cx, cy = camera.principal_point_px
        matrix = np.array([[fx, 0, cx], [0, fy, cy], [0, 0, 1]])
        k = np.array([-0.12, 0.02, 0.001, 0, 0])
        bent = camera.project(world)[:, None]
        straightened = cv2.undistortPoints(bent, matrix, k, P=matrix)[:, 0]
        np.testing.assert_allclose(theirs, straightened + [more.left, more.top], atol=0.02)
        # Of an anamorphic gate one side is fitted: what is seen across stays, down it is as the
        # picture's aspect has it.
        odd = Camera.at(Grid.from_gate(320, 180, 36, 21), Lens(24), CAMERA.position)
        fitted = prepared.prepared(odd, recipe.Recipe(fit="width"))
        self.assertAlmostEqual(fitted.view.horizontal, odd.view.horizontal)
        wanted = 2 * np.arctan(np.tan(odd.view.horizontal / 2) * 180 / 320)
        self.assertAlmostEqual(fitted.view.vertical, wanted)
        px = prepared.off_by_fit(odd, recipe.Recipe(fit="width"))
        edge = fitted.project(odd.position + odd.rays([[160.0, 0.0]]))[0, 1]
        self.assertAlmostEqual(abs(edge), px, places=6)
        higher = prepared.prepared(odd, recipe.Recipe(fit="height"))
        self.assertAlmostEqual(higher.view.vertical, odd.view.vertical)

    def test_every_convention_of_a_table_comes_back(self):
        """Six rotation orders, two hands, two up axes, five units; the angles multiplied out by
        hand."""
        grid, lens = CAMERA.grid, CAMERA.lens
        over = {
            frame: Camera.at(grid, lens, (3 - 0.1 * frame, 1.7, 6), 3.0 + 0.05 * frame, -0.3, 0.2)
            for frame in range(1001, 1011)
        }
        about = {
            "X": lambda c, s: [[1, 0, 0], [0, c, -s], [0, s, c]],
            "Y": lambda c, s: [[c, 0, s], [0, 1, 0], [-s, 0, c]],
            "Z": lambda c, s: [[c, -s, 0], [s, c, 0], [0, 0, 1]],
        }
        for order, hand, up, unit in itertools.product(
            recipe.ORDERS, ("right", "left"), "YZ", ("mm", "cm", "m", "ft", "in")
        ):
            own = recipe.Recipe(
                up, unit, hand, order, frame_offset=-1000, separator="tab", digits=9
            )
            text = recipe.write(over, own, Fraction(24))
            names, first, *_ = [line.split("\t") for line in text.splitlines()]
            cells = dict(zip(names, map(float, first)))
            matrix = np.eye(3)
            for axis in order:
                angle = np.radians(cells[f"r{axis.lower()}"])
                matrix = matrix @ about[axis](np.cos(angle), np.sin(angle))
            # What is 2 m before the camera lies where the file's own axes say.
            ahead = np.array([0, 0, -2 if hand == "right" else 2]) / METRES[unit]
            there = [cells["tx"], cells["ty"], cells["tz"]] + matrix @ ahead
            x, y, z = CAMERA.position * 0 + over[1001].position + over[1001].rotation @ [0, 0, -2]
            far = -z if hand == "right" else z
            wanted = {"Y": [x, y, -far], "Z": [x, far, y]}[up]
            np.testing.assert_allclose(there * METRES[unit], wanted, atol=1e-6)
            back = bring_in(TableSource(text.encode(), own), Settings(), Fraction(24)).move
            self.assertEqual(back.frames.tolist(), sorted(over))
            for camera, position, rotation in zip(over.values(), back.positions, back.rotations):
                np.testing.assert_allclose(position, camera.position, atol=1e-8)
                np.testing.assert_allclose(rotation, camera.rotation, atol=1e-8)
        # Angles go on over half a turn, as curves are edited.
        turns = [
            float(row[1])
            for row in recipe.rows(over, recipe.Recipe(columns=("frame", "ry")), Fraction(24))
        ]
        self.assertLess(np.abs(np.diff(turns)).max(), 10)

    def test_points_and_the_check(self):
        points = np.random.default_rng(2).uniform(-3, 3, (30, 3))
        ply.write(self.folder / "points.ply", points, "cm", "Z")
        cloud = trimesh.load(self.folder / "points.ply")
        np.testing.assert_allclose(cloud.vertices, points[:, [0, 2, 1]] * [100, -100, 100])
        says = check.write_check({7: CAMERA}, "LT900", "cm", "Z")
        shown = np.array(re.findall(r"point \d:  (\S+)  (\S+)  (\S+)\n", says), float)
        landed = np.array(re.findall(r"plate ([\d.]+), ([\d.]+)", says), float)
        self.assertEqual(len(shown), len(landed))
        world = shown[:, [0, 2, 1]] * [0.01, 0.01, -0.01]
        turn = np.diag([1.0, -1, -1]) @ CAMERA.rotation.T
        theirs, _ = cv2.projectPoints(
            world,
            cv2.Rodrigues(turn)[0],
            -turn @ CAMERA.position,
            CAMERA.intrinsic_matrix(),
            None,
        )
        np.testing.assert_allclose(theirs[:, 0], landed, atol=0.01)

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
