"""Moves that come in, against the libraries that know the formats: usd-core, trimesh, pycollada,
SciPy.
"""

import base64
import itertools
import json
import struct
import tempfile
from fractions import Fraction
from pathlib import Path
from unittest import TestCase

import collada as pycollada
import numpy as np
import trimesh
from hypothesis import given
from hypothesis import strategies as st
from pxr import Gf, Usd, UsdGeom
from scipy.interpolate import BPoly, CubicHermiteSpline
from scipy.spatial.transform import Rotation

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.formats import collada, gltf, moves_in, open_track, recipe, table, usd
from aperture.formats.gltf_in import GltfSource
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.moves.doubts import doubts
from aperture.moves.hierarchy import Node, bake, look_at
from aperture.moves.source import Settings
from aperture.scene.stand_in import StandIn
from tests import examples

GRID, RATE = Grid.from_gate(1920, 1080, 36, 20.25), Fraction(24000, 1001)
FRAMES = range(1001, 1021)
EVERY = (*recipe.USUAL, "gate_width_mm", "gate_height_mm", "centre_x_mm", "centre_y_mm")


def moving(lens, zooms=False):
    """20 frames of a camera that goes along, up and round."""
    return {
        frame: Camera.at(
            GRID,
            Lens(lens.focal_mm + (0.2 * n if zooms else 0), centre_mm=lens.centre_mm),
            (0.1 * n, 1.6 + 0.02 * n, 6 - 0.1 * n),
            2.9 + 0.05 * n,
            -0.1 + 0.01 * n,
            0.02 * n,
        )
        for n, frame in enumerate(FRAMES)
    }


class MovesIn(TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def read(self, name, settings=None, first=1001, **named):
        return moves_in.read(self.folder / name, settings or Settings(), RATE, first, **named)

    def test_fifty_points_over_twenty_frames_through_every_format(self):
        """Within 0.01 px; a table of six digits in metres and degrees is as good."""
        off, plain = Lens(28, centre_mm=(0.4, -0.3)), Lens(28)
        for lens, zooms, up in itertools.product((off, plain), (False, True), "YZ"):
            over = moving(lens, zooms)
            own = recipe.Recipe(up, "cm", "left", "XZY", 7, 2.0, "tab", True, 6, EVERY)
            files = ["m.usda", "m.usdc", "m.usdz", "m.jsonl", "m.csv", "m.txt"]
            for name in files[:3]:
                usd.write(self.folder / name, over[1001], {}, up, rate=RATE, path_of_camera=over)
            (self.folder / "m.jsonl").write_text(open_track.write(over, "m", RATE))
            table.write(self.folder / "m.csv", over)
            (self.folder / "m.txt").write_text(recipe.write(over, own, RATE))
            if lens is plain:  # these have no lens beside its middle
                collada.write(self.folder / "m.dae", over[1001], {}, "m", over, RATE, "in", up)
                files.append("m.dae")
                if not zooms:  # nor this one a zoom
                    for name in ("m.gltf", "m.glb"):
                        gltf.write(self.folder / name, over[1001], {}, "m", over, RATE)
                        files.append(name)
            local = np.random.default_rng(4).uniform((-1.5, -0.8, -9), (1.5, 0.8, -3), (50, 3))
            for name in files:
                with self.subTest(name, up=up, lens=lens, zooms=zooms):
                    found = self.read(name, recipe=own if name == "m.txt" else None)
                    path = found.move.on(GRID)
                    self.assertEqual(path.frames.tolist(), list(FRAMES))
                    for frame, camera in over.items():
                        points = camera.position + local @ camera.rotation.T
                        off_px = path.at(frame).project(points) - camera.project(points)
                        self.assertLess(np.linalg.norm(off_px, axis=1).max(), 0.01)

    def test_hierarchies_in_usd(self):
        """Places, lens axes and, without shear, turns are those of usd-core, for any parents."""
        scales = st.sampled_from([1.0, 0.5, 3.0])
        angle, length = st.floats(-400, 400), st.floats(-30, 30)
        triple = st.tuples(length, length, length)
        step = st.tuples(triple, st.tuples(angle, angle, angle), st.tuples(scales, scales, scales))
        order = st.sampled_from(["XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX", "X", "Y", "Z", "pivot"])

        @examples(60)
        @given(
            st.lists(st.tuples(step, step, order), min_size=1, max_size=5), st.sampled_from("YZ")
        )
        def check(parents, up):
            stage = Usd.Stage.CreateInMemory()
            UsdGeom.SetStageUpAxis(stage, up)
            UsdGeom.SetStageMetersPerUnit(stage, 0.01)
            stage.SetStartTimeCode(5)
            stage.SetEndTimeCode(9)
            at = ""
            for index, (*ends, order) in enumerate(parents):
                at += f"/n{index}"
                node = UsdGeom.Xform.Define(stage, at)
                move, axes = node.AddTranslateOp(), "XYZ" if order == "pivot" else order
                pivot = node.AddTranslateOp(opSuffix="pivot") if order == "pivot" else None
                turn, scale = getattr(node, f"AddRotate{axes}Op")(), node.AddScaleOp()
                if pivot:  # a turn about a moving place: that is shifted back, by its inverse
                    node.AddTranslateOp(opSuffix="pivot", isInverseOp=True)
                for code, (place, angles, size) in zip((5, 9), ends):
                    move.Set(Gf.Vec3d(*place), code)
                    turn.Set(angles[0] if len(axes) == 1 else Gf.Vec3f(*angles), code)
                    scale.Set(Gf.Vec3f(*size), code)
                    if pivot:
                        pivot.Set(Gf.Vec3d(*place[::-1]), code)
            camera = UsdGeom.Camera.Define(stage, at + "/eye")
            camera.AddTranslateOp().Set(Gf.Vec3d(1, 2, 3))
            stage.GetRootLayer().Export(str(self.folder / "h.usda"))
            move = self.read("h.usda", Settings(by="frame")).move
            self.assertEqual(move.frames.tolist(), [5, 6, 7, 8, 9])
            to_y = np.eye(3) if up == "Y" else np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0]])
            for row, code in enumerate(range(5, 10)):
                world = np.array(camera.ComputeLocalToWorldTransform(code)).T
                scale = max(1, np.abs(world[:3, 3]).max())
                theirs = to_y @ world[:3, 3] / 100
                np.testing.assert_allclose(move.positions[row], theirs, atol=1e-6 * scale)
                axis = to_y @ world[:3, 2] / np.linalg.norm(world[:3, 2])
                np.testing.assert_allclose(move.rotations[row][:, 2], axis, atol=1e-6)
                axes = to_y @ (world[:3, :3] / np.linalg.norm(world[:3, :3], axis=0))
                if np.abs(axes.T @ axes - np.eye(3)).max() < 1e-9:
                    np.testing.assert_allclose(move.rotations[row], axes, atol=1e-6)

        check()

    def test_hierarchies_in_gltf_and_collada(self):
        """The world transforms of trimesh's and pycollada's own scene graphs."""
        turn = Rotation.from_euler("XYZ", [0.3, -1.1, 0.7])
        nodes = [
            {
                "name": "rail",
                "translation": [1, 2, 3],
                "rotation": turn.as_quat().tolist(),
                "scale": [2, 2, 2],
                "children": [1],
            },
            {"name": "empty", "children": [2]},
            {
                "name": "arm",
                "matrix": np.diag([0.5, 3, 0.5, 1]).T.ravel().tolist(),
                "children": [3],
            },
            {"name": "eye", "translation": [0, 1, -2], "camera": 0},
        ]
        cameras = [{"type": "perspective", "perspective": {"yfov": 0.6, "aspectRatio": 1.5}}]
        document = {"asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}]}
        (self.folder / "h.gltf").write_text(
            json.dumps(document | {"nodes": nodes, "cameras": cameras})
        )
        graph = trimesh.scene.transforms.SceneGraph()
        rail = trimesh.transformations.quaternion_matrix(turn.as_quat()[[3, 0, 1, 2]])
        rail[:3, :3] *= 2
        rail[:3, 3] = 1, 2, 3
        graph.update("rail", matrix=rail)
        graph.update("arm", "rail", matrix=np.diag([0.5, 3, 0.5, 1]))
        graph.update("eye", "arm", translation=[0, 1, -2])
        theirs = graph.get("eye")[0]
        found = self.read("h.gltf")
        np.testing.assert_allclose(found.move.positions[0], theirs[:3, 3], atol=1e-6)
        axis = theirs[:3, 2] / np.linalg.norm(theirs[:3, 2])
        np.testing.assert_allclose(found.move.rotations[0][:, 2], axis, atol=1e-6)
        np.testing.assert_allclose(
            found.move.half_view[0], np.tan(0.3) * np.array([1.5, 1]), atol=1e-12
        )
        self.assertTrue(any("“empty” carries nothing" in says for says in found.done))
        self.assertTrue(any("“rail”, 2 × 2 × 2" in says for says in found.done))

        scene, lens = (
            pycollada.scene,
            pycollada.camera.PerspectiveCamera("lens", 0.1, 9, yfov=40.0, aspect_ratio=1.6),
        )
        file = pycollada.Collada()
        file.cameras.append(lens)
        aim = scene.LookAtTransform(*map(np.array, ([1.0, 2, 3], [4.0, 1, -2], [0.0, 1, 0])))
        eye = scene.Node("eye", [scene.CameraNode(lens)], [aim])
        turns = [
            scene.TranslateTransform(1, 2, 3),
            scene.RotateTransform(0.6, 0, 0.8, 70),
            scene.ScaleTransform(2, 3, 0.5),
        ]
        rail = scene.Node("rail", [eye], turns)
        file.scenes.append(scene.Scene("s", [rail]))
        file.scene = file.scenes[0]
        file.write(str(self.folder / "h.dae"))
        # pycollada's look-at is a view's, of row vectors here and columns there: only what stands
        # above it is taken from it.
        own = np.eye(4)
        own[:3, :3] = look_at(np.array([[1.0, 2, 3]]), np.array([[4.0, 1, -2]]))[0]
        own[:3, 3] = 1, 2, 3
        theirs = rail.matrix @ own
        move = self.read("h.dae").move
        np.testing.assert_allclose(
            move.positions[0], theirs[:3, 3], atol=1e-5
        )  # it holds floats of 32 bits
        axis = theirs[:3, 2] / np.linalg.norm(theirs[:3, 2])
        np.testing.assert_allclose(move.rotations[0][:, 2], axis, atol=1e-6)
        view = Gf.Matrix4d().SetLookAt(Gf.Vec3d(1, 2, 3), Gf.Vec3d(4, 1, -2), Gf.Vec3d(0, 1, 0))
        np.testing.assert_allclose(np.array(view.GetInverse()).T, own, atol=1e-12)

    def test_curves_between_keys(self):
        """glTF's cubic splines against SciPy's Hermite ones, COLLADA's Bézier curves against
        SciPy's.
        """
        random = np.random.default_rng(3)
        keys, values = np.array([0.0, 0.5, 1.25]), random.normal(size=(3, 3, 3))
        data = keys.astype("<f4").tobytes() + values.astype("<f4").tobytes()
        uri = "data:application/octet-stream;base64," + base64.b64encode(data).decode()
        document = {
            "asset": {"version": "2.0"},
            "nodes": [{"name": "eye", "camera": 0}],
            "cameras": [{"perspective": {"yfov": 0.6, "aspectRatio": 1.5}}],
            "buffers": [{"uri": uri, "byteLength": len(data)}],
            "bufferViews": [
                {"buffer": 0, "byteLength": 12},
                {"buffer": 0, "byteOffset": 12, "byteLength": 108},
            ],
            "accessors": [
                {"bufferView": 0, "componentType": 5126, "count": 3, "type": "SCALAR"},
                {"bufferView": 1, "componentType": 5126, "count": 9, "type": "VEC3"},
            ],
            "animations": [
                {
                    "samplers": [{"input": 0, "output": 1, "interpolation": "CUBICSPLINE"}],
                    "channels": [{"sampler": 0, "target": {"node": 0, "path": "translation"}}],
                }
            ],
        }
        (self.folder / "c.gltf").write_text(json.dumps(document))
        seconds = np.linspace(0, 1.25, 31)
        found = GltfSource(self.folder / "c.gltf").local(0, seconds)[:, :3, 3]
        for first in (0, 1):  # the tangents of a key differ before and after it
            pair = keys[first : first + 2]
            ends = np.stack([values[first, 1], values[first + 1, 1]])
            slopes = np.stack([values[first, 2], values[first + 1, 0]])
            inside = (seconds >= pair[0]) & (seconds <= pair[1])
            theirs = CubicHermiteSpline(pair, ends, slopes)(seconds[inside])
            np.testing.assert_allclose(found[inside], theirs, atol=1e-5)

        own = moving(Lens(28))
        collada.write(self.folder / "b.dae", own[1001], {}, "m", own, RATE)
        text = (self.folder / "b.dae").read_text()
        # A height by one Bézier segment of 2 s, its control points a third of the time apart,
        # instead of the matrices.
        heights, begin = [1.0, 4.0, -2.0, 3.0], text.index("<library_animations")
        end = text.index("</library_animations>")
        library = (
            '<library_animations><animation><source id="t"><float_array>0 2</float_array></source>'
            '<source id="v"><float_array>1 3</float_array></source>'
            '<source id="o"><float_array>0.6666666667 4 9 9</float_array></source>'
            '<source id="i"><float_array>0 0 1.3333333333 -2</float_array></source>'
            '<source id="h"><Name_array>BEZIER BEZIER</Name_array></source><sampler id="s">'
            '<input semantic="INPUT" source="#t"/><input semantic="OUTPUT" source="#v"/>'
            '<input semantic="OUT_TANGENT" source="#o"/><input semantic="IN_TANGENT" source="#i"/>'
            '<input semantic="INTERPOLATION" source="#h"/></sampler>'
            '<channel source="#s" target="m/transform(3)(1)"/></animation>'
        )
        (self.folder / "b.dae").write_text(text[:begin] + library + text[end:])
        move = self.read("b.dae", Settings(by="time")).move
        moments = np.arange(len(move.frames)) / float(RATE)
        theirs = BPoly(np.array(heights)[:, None], [0, 2])(moments)
        np.testing.assert_allclose(move.positions[:, 1], theirs, atol=1e-6)

    def test_collada_in_pycollada(self):
        boxes = {"Crate 1": StandIn((1.2, 0.9, 0.7), (0.4, 0, 0.8), 0.3)}
        over = moving(Lens(28))
        collada.write(self.folder / "m.dae", over[1001], boxes, "LT900", over, RATE, "cm", "Z")
        file = pycollada.Collada(str(self.folder / "m.dae"))
        self.assertEqual((file.assetInfo.unitmeter, file.assetInfo.upaxis), (0.01, "Z_UP"))
        lens = file.cameras[0]
        np.testing.assert_allclose(
            np.tan(np.radians([lens.xfov, lens.yfov]) / 2), [18 / 28, 10.125 / 28]
        )
        (shape,) = file.scene.objects("geometry")
        x, y, z = np.concatenate([part.vertex for part in shape.primitives()]).T / 100
        np.testing.assert_allclose(
            sorted(zip(x, z, -y)), sorted(map(tuple, boxes["Crate 1"].vertices())), atol=1e-5
        )
        (animation,) = file.animations
        source = next(one for id_, one in animation.sourceById.items() if id_.endswith("values"))
        theirs = np.array(source.data).reshape(-1, 4, 4)
        x, y, z = theirs[:, :3, 3].T / 100
        places = [camera.position for camera in over.values()]
        np.testing.assert_allclose(np.stack([x, z, -y], axis=1), places, atol=1e-6)

    def test_a_table_with_targets_and_between_rates(self):
        """A camera that looks at a point, at 30 frames a second, sampled at the plate's rate; roll
        is Gf's.
        """
        rows = ["time;tx;ty;tz;aim_x;aim_y;aim_z;roll"]
        rows += [f"{n / 30};{n / 10};150;600;0;120;0;15" for n in range(61)]
        (self.folder / "t.txt").write_text("\n".join(rows))
        own = recipe.Recipe(unit="cm")
        found = self.read("t.txt", Settings(by="time"), recipe=own)
        self.assertEqual(found.rate, 30)
        self.assertEqual(len(found.move.frames), 48)  # of two seconds
        moment = 24 * 1001 / 24000
        np.testing.assert_allclose(found.move.positions[24], [0.03 * moment, 1.5, 6], atol=1e-3)
        for eye, rotation in zip(found.move.positions, found.move.rotations):
            view = Gf.Matrix4d().SetLookAt(
                Gf.Vec3d(*eye.tolist()), Gf.Vec3d(0, 1.2, 0), Gf.Vec3d(0, 1, 0)
            )
            rolled = (
                Gf.Matrix4d(Gf.Rotation(Gf.Vec3d(0, 0, 1), 15), Gf.Vec3d(0)) * view.GetInverse()
            )
            np.testing.assert_allclose(rotation, np.array(rolled).T[:3, :3], atol=1e-4)
        # Written with targets, the same poses come back.
        aimed = recipe.Recipe("Z", "ft", "left", columns=("frame", *recipe.POSE[:3], *recipe.AIMED))
        over = moving(Lens(28))
        (self.folder / "a.txt").write_text(recipe.write(over, aimed, RATE))
        back = self.read("a.txt", recipe=aimed).move
        turns = np.array([camera.rotation for camera in over.values()])
        np.testing.assert_allclose(back.rotations, turns, atol=1e-5)
        as_frames = self.read("t.txt", recipe=own)
        self.assertEqual(len(as_frames.move.frames), 61)

    def test_a_camera_with_a_target_in_usd(self):
        """Camera and target hang on rigs of their own, in a world with Z up; Gf's look-at, and a
        roll beside it.
        """
        stage = Usd.Stage.CreateNew(str(self.folder / "aim.usda"))
        UsdGeom.SetStageUpAxis(stage, "Z")
        UsdGeom.SetStageMetersPerUnit(stage, 1)
        stage.SetStartTimeCode(1)
        stage.SetEndTimeCode(4)
        rail = UsdGeom.Xform.Define(stage, "/rail").AddTranslateOp()
        UsdGeom.Camera.Define(stage, "/rail/eye").AddRotateXYZOp().Set(Gf.Vec3f(10, 20, 30))
        aim = UsdGeom.Xform.Define(stage, "/aim").AddTranslateOp()
        for code in range(1, 5):
            rail.Set(Gf.Vec3d(code, -6, 1.5), code)
            aim.Set(Gf.Vec3d(0, code, 1), code)
        stage.GetRootLayer().Save()
        settings = Settings(target="/aim", roll_deg=20)
        move = self.read("aim.usda", settings).move
        to_y = np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0]])
        for row, code in enumerate(range(1, 5)):
            view = Gf.Matrix4d().SetLookAt(
                Gf.Vec3d(code, -6, 1.5), Gf.Vec3d(0, code, 1), Gf.Vec3d(0, 0, 1)
            )
            world = Gf.Matrix4d(Gf.Rotation(Gf.Vec3d(0, 0, 1), 20), Gf.Vec3d(0)) * view.GetInverse()
            theirs = to_y @ np.array(world).T[:3, :3]
            np.testing.assert_allclose(move.rotations[row], theirs, atol=1e-9)
            np.testing.assert_allclose(move.positions[row], to_y @ [code, -6, 1.5], atol=1e-9)
        with self.assertRaisesRegex(Problem, "no target"):
            self.read("aim.usda", Settings(target="/elsewhere"))

    def test_what_looks_wrong_is_asked(self):
        over = moving(Lens(28))
        cases = (
            (recipe.Recipe(unit="cm"), recipe.Recipe(), "unit", "cm"),
            (recipe.Recipe("Z"), recipe.Recipe("Y"), "up_axis", "Z"),
            (recipe.Recipe("Y"), recipe.Recipe("Z"), "up_axis", "Y"),
            (recipe.Recipe(frame_offset=-1000), recipe.Recipe(), "offset", "1000"),
            (recipe.Recipe(unit="in"), recipe.Recipe(unit="in"), None, None),
        )
        for written, understood, setting, value in cases:
            (self.folder / "m.txt").write_text(recipe.write(over, written, RATE))
            found = self.read("m.txt", recipe=understood)
            asked = doubts(found, Settings(), RATE, (1001, 1020))
            self.assertEqual(
                [(one.setting, one.value) for one in asked],
                [(setting, value)] if setting else [],
                (written, understood),
            )
        usd.write(self.folder / "m.usda", over[1001], {}, rate=Fraction(30), path_of_camera=over)
        asked = doubts(self.read("m.usda"), Settings(), RATE, (1001, 1020))
        self.assertEqual([(one.setting, one.value) for one in asked], [("by", "time")])
        turned = {
            frame: Camera.at(GRID, Lens(28), camera.position, 0.2, 0, np.pi)
            for frame, camera in over.items()
        }
        (self.folder / "m.txt").write_text(recipe.write(turned, recipe.Recipe(), RATE))
        (asked,) = doubts(self.read("m.txt"), Settings(), RATE, (1001, 1020))
        self.assertIn("upside down", asked.says)

    def test_what_can_t_be_a_camera_gets_a_sentence(self):
        still = np.eye(4)[None]
        mirrored, flat, odd = (still.copy() for _ in range(3))
        mirrored[0, 0, 0], flat[0, 1, 1], odd[0, 0, 3] = -1, 0, np.nan
        for local, says in ((mirrored, "mirrored"), (flat, "scale of zero"), (odd, "finite")):
            with self.assertRaisesRegex(Problem, says):
                bake([Node("arm", None, local), Node("eye", 0, still)])
        with self.assertRaisesRegex(Problem, "where the camera is"):
            bake([Node("eye", None, still)], [Node("aim", None, still)])
        head = "frame,tx,ty,tz,rx,ry,rz\n"
        for text, says in (
            (head, "no frames"),
            (head + "1,0,0,0,0,0,0\n1,0,0,0,0,0,0", "Frame 1 comes twice"),
            (head + "1,0,0,0,0,0,nan", "Line 2 hasn't a number"),
            ("frame,tx,ty,tz,heading\n1,2,3,4,5", "a column “heading”"),
            (head + "1.5,0,0,0,0,0,0", "isn't a whole number"),
        ):
            (self.folder / "x.csv").write_text(text)
            with self.assertRaisesRegex(Problem, says):
                self.read("x.csv")
        nodes = [{"camera": 0, "children": [1]}, {"children": [0]}]
        ring = {"asset": {"version": "2.0"}, "nodes": nodes, "cameras": [{"perspective": {}}]}
        (self.folder / "x.gltf").write_text(json.dumps(ring))
        with self.assertRaisesRegex(Problem, "ring"):
            self.read("x.gltf")
        chunk = struct.pack("<4sII", b"glTF", 2, 1 << 31) + struct.pack("<I4s", 1 << 30, b"JSON")
        (self.folder / "x.glb").write_bytes(chunk + b"{}")
        with self.assertRaises(Problem):
            self.read("x.glb")
        outside = Usd.Stage.CreateNew(str(self.folder / "outside.usda"))
        UsdGeom.Camera.Define(outside, "/eye")
        outside.GetRootLayer().Save()
        layer = f"#usda 1.0\n( subLayers = [@{self.folder / 'outside.usda'}@] )\n"
        (self.folder / "x.usda").write_text(layer)
        with self.assertRaisesRegex(Problem, "refers to others"):
            self.read("x.usda")
        laugh = '<!DOCTYPE a [<!ENTITY b "ha">]><COLLADA><asset>&b;</asset></COLLADA>'
        (self.folder / "x.dae").write_text(laugh)
        with self.assertRaisesRegex(Problem, "DTD or entities"):
            self.read("x.dae")
