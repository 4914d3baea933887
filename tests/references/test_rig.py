"""The simulated rig, its files read by the libraries that know the formats, and the demo's move."""

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import collada
import numpy as np
import pygltflib
from hypothesis import given, settings
from hypothesis import strategies as st
from pxr import Usd, UsdGeom
from scipy.spatial.transform import Rotation

from aperture.errors import Problem
from aperture.formats import moves_in, recipe, rig_files
from aperture.moves.rig import AXES, Program, play
from aperture.moves.source import Settings
from demo import films

RATE = Fraction(24)
PROGRAMS = (
    Program("rise", mount="hanging"),
    Program("line", (1, 1, 1.2), (0.5, 2, -0.5), (0, 1, -4), side=-1),
    Program("arc", (0.2, 1, 1.2), (0, 1.5, 0), (0, 1, -2), turn_deg=-20, profile="eased"),
)


class SimulatedRig(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_it_drives_the_demos_move(self):
        poses = films.rig_stands() @ play(films.rig_program(), RATE).poses()
        for frame, pose in enumerate(poses):
            camera = films.rise(films.FLASH + frame)
            np.testing.assert_allclose(pose[:3, 3], camera.position, atol=1e-9)
            # It hung upside down, which the rig doesn't know.
            half_a_turn = np.diag([-1.0, -1, 1])
            np.testing.assert_allclose(pose[:3, :3] @ half_a_turn, camera.rotation, atol=1e-9)

    def test_its_kinds_go_where_they_are_told(self):
        rise, line, arc = (play(program, RATE).poses()[:, :3, 3] for program in PROGRAMS)
        self.assertAlmostEqual(rise[-1, 1], PROGRAMS[0].end[1])
        np.testing.assert_allclose(line[[0, -1]], [PROGRAMS[1].start, PROGRAMS[1].end], atol=1e-12)
        along = (line - line[0]) @ (line[-1] - line[0])
        np.testing.assert_allclose(
            np.cross(line - line[0], line[-1] - line[0]), 0, atol=1e-12
        )  # straight
        self.assertTrue((np.diff(along) >= 0).all())
        beside = arc[:, [0, 2]] - np.array(PROGRAMS[2].target)[[0, 2]]
        np.testing.assert_allclose(np.linalg.norm(beside, axis=1), np.hypot(0.2, 3.2), atol=1e-12)
        for program in PROGRAMS:
            for pose in play(program, RATE).poses()[::9]:
                to_target = np.array(program.target) - pose[:3, 3]
                ahead = -pose[:3, 2]
                np.testing.assert_allclose(ahead, to_target / np.linalg.norm(to_target), atol=1e-12)
                self.assertEqual(pose[1, 1] < 0, program.mount == "hanging")
        # What it can't do is said, and what it can't reach refused.
        fast = play(Program("line", (0, 1, 1), (3, 1, 1), (0, 1, -5), seconds=1), RATE)
        self.assertIn(f"{AXES['rail'].fastest:g} m/s is the most", fast.exceeds[0])
        for wrong, says in (
            ({"start": (0, 1, 1.6)}, "beside the rails"),
            ({"seconds": 0}, "more than 0"),
            ({"kind": "loop"}, "not one of"),
            ({"start": (np.nan, 1, 1)}, "beyond any stage"),
        ):
            with self.assertRaisesRegex(Problem, says):
                play(Program(**{"kind": "rise", **wrong}), RATE)

    def test_its_files_in_the_libraries_that_know_them(self):
        played = play(PROGRAMS[1], RATE)
        poses = played.poses()
        rig_files.write(self.folder / "r.usda", played, "in", "Z", 5)
        stage = Usd.Stage.Open(str(self.folder / "r.usda"))
        self.assertEqual(UsdGeom.GetStageMetersPerUnit(stage), 0.0254)
        camera = next(prim for prim in stage.Traverse() if prim.IsA(UsdGeom.Camera))
        lens = UsdGeom.Camera(camera).GetCamera(5)
        self.assertAlmostEqual(lens.horizontalAperture / lens.focalLength, 36 / 27, places=6)
        for frame in (0, 40, played.count - 1):
            world = UsdGeom.Xformable(camera).ComputeLocalToWorldTransform(frame + 5)
            x, y, z = np.array(world).T[:3, 3] * 0.0254
            np.testing.assert_allclose([x, z, -y], poses[frame, :3, 3], atol=1e-9)
        rig_files.write(self.folder / "r.glb", played)
        scene = pygltflib.GLTF2().load(str(self.folder / "r.glb"))
        (animation,) = scene.animations
        world = np.tile(np.eye(4), (played.count, 1, 1))
        for index, node in enumerate(scene.nodes):  # each the child of the one before
            parts = {"translation": [node.translation], "rotation": [node.rotation]}
            for channel in animation.channels:
                if channel.target.node == index:
                    sampler = animation.samplers[channel.sampler]
                    view = scene.bufferViews[scene.accessors[sampler.output].bufferView]
                    ends = view.byteOffset, view.byteOffset + view.byteLength
                    values = np.frombuffer(scene.binary_blob()[slice(*ends)], "<f4")
                    parts[channel.target.path] = values.reshape(played.count, -1)
            local = np.tile(np.eye(4), (played.count, 1, 1))
            local[:, :3, :3] = Rotation.from_quat(parts["rotation"]).as_matrix()
            local[:, :3, 3] = parts["translation"]
            world = world @ local
        np.testing.assert_allclose(world, poses, atol=1e-6)
        rig_files.write(self.folder / "r.dae", played, "cm")
        file = collada.Collada(str(self.folder / "r.dae"))
        (found,) = file.scene.objects("camera")
        np.testing.assert_allclose(found.position / 100, poses[0, :3, 3], atol=1e-5)

    def test_every_file_comes_in_as_the_move_that_it_was(self):
        @settings(max_examples=12, deadline=None)
        @given(
            st.sampled_from(PROGRAMS),
            st.sampled_from(["mm", "cm", "m", "in", "ft"]),
            st.sampled_from(["Y", "Z"]),
            st.sampled_from([Fraction(24), Fraction(30000, 1001), Fraction(60)]),
        )
        def check(program, unit, up, rate):
            played = play(program, rate)
            poses = played.poses()
            for ending in rig_files.ENDINGS:
                path = self.folder / f"r{ending}"
                path.unlink(missing_ok=True)
                rig_files.write(path, played, unit, up, 12)
                own = recipe.Recipe(up, unit) if ending in (".csv", ".txt") else None
                found = moves_in.read(path, Settings(), rate, 12, own)
                move = found.move
                self.assertEqual(move.frames.tolist(), list(range(12, 12 + played.count)), ending)
                np.testing.assert_allclose(move.positions, poses[:, :3, 3], atol=2e-6)
                np.testing.assert_allclose(move.rotations, poses[:, :3, :3], atol=2e-6)
                np.testing.assert_allclose(move.half_view[0], [18 / 27, 10.125 / 27], atol=1e-6)
                if ending in rig_files.WITH_NODES:
                    self.assertEqual(found.rate, rate, ending)
                    self.assertTrue(any("counterweight" in one for one in found.done), ending)

        check()
        with self.assertRaisesRegex(Problem, "not as"):
            rig_files.write(self.folder / "r.mov", play(PROGRAMS[0], RATE))
