"""Films of all around held steady: turns against SciPy's, a level horizon, the way of travel, and
the four cases of plate and render."""

import math
from dataclasses import replace
from unittest import TestCase

import cv2
import numpy as np
from scipy.spatial.transform import Rotation

from aperture.around.steady import headings, seen_steady, turns, values
from aperture.camera import Camera, CameraPath
from aperture.errors import Problem
from aperture.formats.straight import Straightener
from aperture.gates.chain import build
from aperture.gates.steps import at_frame
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.render import returned
from aperture.render.corrections import PLATE, corrections_of, targets_of
from aperture.render.passes import Wanted, render
from aperture.render.tracer import Look
from aperture.scene.stand_in import StandIn

SIZE = (512, 256)
GATE = {"width_mm": math.tau, "height_mm": math.pi, "photosites": list(SIZE)}
GRID, LENS = Grid.from_gate(*SIZE, math.tau, math.pi), Lens(1.0, projection="equirectangular")
ITEMS = [
    (StandIn((0.8, 1.2, 0.8), (1.5, 0, -2.5), 0.4), Look("Crate")),
    (StandIn((0.6, 0.6, 0.6), (-2.5, 0.6, 0.5), kind="sphere"), Look("Float")),
    (StandIn((0.5, 1.8, 0.5), (0.8, 0, 3.0), kind="cylinder"), Look("Bollard")),
]


def swaying(count=40):
    """A walk around a quarter of a circle of 6 m, the camera on a pole that sways and turns on its
    own."""
    at = np.linspace(0, math.pi / 2, count)
    places = np.stack([6 * np.sin(at), 1.7 + 0.02 * np.sin(9 * at), -6 * (1 - np.cos(at))], 1)
    sway = np.stack([0.9 + 2 * at, 0.12 * np.sin(5 * at), 0.1 * np.cos(4 * at)], 1)
    own = Rotation.from_euler("YXZ", sway).as_matrix()
    return CameraPath(GRID, LENS, np.arange(1, count + 1), own, places, np.ones(count)), at


def chain_of(step, plate_at):
    return build(GATE | {"steps": [step], "plate_at": plate_at}, SIZE, LENS)


class Turned(TestCase):
    def test_a_picture_is_turned_as_scipy_turns(self):
        """Where each pixel comes from, by SciPy's rotation and the plain formulas of an
        equirectangular picture."""
        step = {"id": "held", "do": "reorient", "pan_deg": 25.0, "tilt_deg": -8.0, "roll_deg": 12.0}
        chain = chain_of(step, 0)
        x, y = np.meshgrid(np.arange(SIZE[0]) + 0.5, np.arange(SIZE[1]) + 0.5)
        longitude = x / SIZE[0] * math.tau - math.pi
        latitude = math.pi / 2 - y / SIZE[1] * math.pi
        level = np.cos(latitude)
        seen = [level * np.sin(longitude), np.sin(latitude), -level * np.cos(longitude)]
        there = Rotation.from_euler("YXZ", [25, -8, 12], degrees=True).apply(
            np.stack(seen, -1).reshape(-1, 3)
        )
        theirs_x = (np.arctan2(there[:, 0], -there[:, 2]) + math.pi) / math.tau * SIZE[0]
        theirs_y = (math.pi / 2 - np.arcsin(there[:, 1])) / math.pi * SIZE[1]
        ours = chain.lead(np.stack([x.ravel(), y.ravel()], 1), len(chain.stages) - 1, chain.plate)
        off = (ours[:, 0] - theirs_x + SIZE[0] / 2) % SIZE[0] - SIZE[0] / 2
        self.assertLess(np.abs(off * level.ravel()).max(), 1e-6)
        self.assertLess(np.abs(ours[:, 1] - theirs_y).max(), 1e-6)

    def test_a_pan_by_whole_pixels_moves_them_around(self):
        """Also across the seam, where nothing is lost or mixed with black."""
        picture = np.random.default_rng(2).random((*SIZE[::-1], 3)).astype(np.float32)
        step = {"id": "held", "do": "reorient", "tilt_deg": 0.0, "roll_deg": 0.0}
        chain = chain_of(step | {"pan_deg": 360 * 100 / SIZE[0]}, 0)
        source, target = chain.camera(chain.plate), chain.camera(len(chain.stages) - 1)
        made = Straightener.between(source, target).straightened(picture)
        np.testing.assert_allclose(made, np.roll(picture, 100, axis=1), atol=2e-3)

    def test_the_horizon_is_level_and_the_view_faces_its_way(self):
        path, at = swaying()
        pans = headings(path, "travel")
        rows = values(path.frames, turns(path, pans))
        step = {"id": "held", "do": "reorient", "values": rows}
        level = np.stack([np.sin(at * 40), 0 * at, -np.cos(at * 40)], 1)
        for index in (0, 13, 39):
            chain = chain_of(at_frame([step], int(path.frames[index]))[0], 0)
            own = path.at(int(path.frames[index]))
            held = Camera(
                GRID, LENS, own.world_from_camera @ chain.camera(chain.plate + 1).world_from_camera
            )
            self.assertLess(np.abs(held.project_directions(level)[:, 1] - SIZE[1] / 2).max(), 1e-4)
            ahead = [[math.cos(at[index]), 0.0, -math.sin(at[index])]]  # the circle's tangent
            x, _ = held.project_directions(np.array(ahead))[0]
            # Differences over whole frames are one degree of the circle off at the ends.
            self.assertLess(abs(x - SIZE[0] / 2), 2.0 if index in (0, 39) else 0.05)
        smooth = headings(path, "own", smooth=6)
        self.assertLess(np.abs(np.diff(smooth, 2)).max(), np.abs(np.diff(pans, 2)).max() + 0.01)
        still = replace(path, positions=path.positions * 0)
        with self.assertRaisesRegex(Problem, "goes nowhere"):
            headings(still, "travel")


class PlateAndRender(TestCase):
    """Each of plate and render can be stabilised, and the render twice: told apart by the
    pictures."""

    def taken(self, turn_deg, plate_at, times):
        """How a render whose camera was turned so many `times` too often against the plate's is
        taken."""
        step = {"id": "held", "do": "reorient"} | dict(
            zip(("pan_deg", "tilt_deg", "roll_deg"), turn_deg)
        )
        chain = chain_of(step, plate_at)
        own = Rotation.from_euler("YXZ", turn_deg, degrees=True).as_matrix()
        camera = Camera.at(GRID, LENS, (0, 1.6, 0), 0.5, 0.02, 0.01)
        expected = render(camera, ITEMS, Wanted(samples=3)).rgba
        pose = np.eye(4)
        pose[:3, :3] = camera.rotation @ np.linalg.matrix_power(
            own if times > 0 else own.T, abs(times)
        )
        pose[:3, 3] = camera.position
        made = render(Camera(GRID, LENS, pose), ITEMS, Wanted(samples=3)).rgba
        found, findings, taken = returned.put_right(
            returned.Returned(made.astype(np.float32), True, True),
            expected[..., 3],
            corrections_of(chain, camera),
            targets_of(chain, *SIZE),
        )
        self.assertLess(np.abs(found.rgba[..., 3] - expected[..., 3]).mean(), 0.004)
        self.assertEqual(taken.geometry.grid, PLATE)
        return taken.geometry.ways.get("held", 0), " ".join(one.says for one in findings)

    def test_which_of_them_is_stabilised(self):
        for turn in ((32.0, 4.0, -3.0), (1.5, -2.0, 1.0)):  # told by what is covered; by outlines
            for plate_at, times, way, says in (
                (0, 0, 0, "isn’t stabilised, nor is this render"),
                (0, 1, -1, "isn’t stabilised, and this render was"),
                (0, 2, -2, "was so twice"),
                (1, 0, 0, "is stabilised, and so is this render"),
                (1, -1, 1, "is stabilised, and this render wasn’t"),
                (1, 1, -1, "was so twice"),
            ):
                with self.subTest(turn=turn, plate_at=plate_at, times=times):
                    found, said = self.taken(turn, plate_at, times)
                    self.assertEqual(found, way)
                    self.assertIn(says, said)
        found, said = self.taken((0.1, 0.0, 0.0), 0, 0)
        self.assertEqual(found, 0)
        self.assertIn("can’t be told", said)

    def test_the_pictures_show_whether_the_plate_is(self):
        """A picture of the world, by OpenCV's remap, as shot and turned, with the noise of a
        sensor."""
        random = np.random.default_rng(7)
        world = cv2.GaussianBlur(random.random(SIZE[::-1]).astype(np.float32), (0, 0), 3) * 20
        path, _ = swaying(12)
        turned = turns(path, headings(path, "own", smooth=4))
        cameras = [path.at(frame) for frame in (1, 4, 7, 10)]
        steady = [turned[frame - 1] for frame in (1, 4, 7, 10)]

        def pictures(poses):
            out = []
            for pose in poses:
                x, y = np.meshgrid(np.arange(SIZE[0]) + 0.5, np.arange(SIZE[1]) + 0.5)
                rays = LENS.rays(GRID.to_mm(np.stack([x.ravel(), y.ravel()], 1))) @ pose.T
                at = GRID.to_px(LENS.project(rays)).astype(np.float32).reshape(*SIZE[::-1], 2) - 0.5
                seen = cv2.remap(
                    world, at[..., 0], at[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT
                )
                out.append(seen + random.normal(0, 0.3, seen.shape))
            return out

        shot = [camera.rotation for camera in cameras]
        held = [pose @ turn for pose, turn in zip(shot, steady)]
        self.assertIs(seen_steady(pictures(shot), cameras, steady), False)
        self.assertIs(seen_steady(pictures(held), cameras, steady), True)
        same = [np.eye(3)] * 4
        self.assertIsNone(seen_steady(pictures(shot), cameras, same))
