"""Projections against OpenCV and OpenUSD; angles against handbook figures."""

import math
import tempfile
from pathlib import Path
from unittest import TestCase

import cv2
import numpy as np
from pxr import Gf, Usd, UsdGeom

from aperture.camera import Camera
from aperture.formats import usd
from aperture.geometry.angles import view_of
from aperture.geometry.grid import Grid
from aperture.lens.distortion import opencv_order
from aperture.lens.lens import Lens
from aperture.match.solve import solve
from tests import chessboard

CV_FROM_OURS = np.diag([1.0, -1.0, -1.0])


def cameras():
    rng = np.random.default_rng(5)
    for squeeze, k in (
        (1.0, (0, 0, 0, 0, 0)),
        (1.0, (-0.21, 0.06, -0.004, 0.001, -0.0007)),
        (2.0, (0, 0, 0, 0, 0)),
    ):
        grid = Grid.from_gate(2048, 1152, 24.6, 13.8).window(30, -12, 1900, 1100)
        yield (
            Camera.at(
                grid,
                Lens(29.0, squeeze, centre_mm=(0.31, -0.17), coefficients=k),
                (1.5, 1.7, 5),
                0.3,
                -0.2,
                0.1,
            ),
            rng,
        )


class AgainstOpenCV(TestCase):
    def test_project_points(self):
        for camera, rng in cameras():
            local = rng.uniform([-1.5, -1, -9], [1.5, 1, -4], (200, 3))
            world = local @ camera.rotation.T + camera.position
            ours = camera.project(world)
            turn, _ = cv2.Rodrigues(CV_FROM_OURS @ camera.rotation.T)
            theirs, _ = cv2.projectPoints(
                world,
                turn,
                -cv2.Rodrigues(turn)[0] @ camera.position,
                camera.intrinsic_matrix(),
                opencv_order(camera.lens.coefficients),
            )
            np.testing.assert_allclose(ours, theirs[:, 0], atol=1e-9)
            rays = camera.rays(ours)
            np.testing.assert_allclose(np.cross(rays, world - camera.position), 0, atol=1e-8)

    def test_calibration_photographs(self):
        """OpenCV's chessboard photographs with their published intrinsics and their published
        average reprojection error as σ."""
        wanted = chessboard.intrinsics()[0][1, 1]
        shares, sigmas = [], []
        for name, size, corners in chessboard.photographs():
            fit = solve(chessboard.document(size, corners)).document
            self.assertTrue(fit["ok"], name)
            found = fit["camera"]["focal_px"][1]
            shares.append(abs(found / wanted - 1))
            sigmas.append(abs(found - wanted) / fit["plus_minus"]["focal_px"][1])
        self.assertGreaterEqual(len(shares), 12)
        self.assertLess(np.median(shares), 0.03)
        self.assertGreaterEqual(np.mean(np.array(sigmas) < 3), 0.9)

    def test_beyond_the_growth_radius_there_is_no_answer(self):
        camera = Camera.at(
            Grid.from_gate(1000, 1000, 36, 36),
            Lens(10, coefficients=(-0.25, 0, 0, 0, 0)),
            (0, 0, 0),
        )
        self.assertTrue(np.isnan(camera.project([[4.0, 0, -2.0]])).all())
        self.assertTrue(np.isnan(camera.rays([[0.0, 0.0]])).all())


class AgainstOpenUSD(TestCase):
    def test_frustum_of_the_written_camera(self):
        for camera, _ in cameras():
            if camera.lens.distorts:
                continue
            for up_axis in "YZ":
                with tempfile.TemporaryDirectory() as folder:
                    path = Path(folder) / "camera.usda"
                    usd.write(path, camera, {}, up_axis)
                    stage = Usd.Stage.Open(str(path))
                    self.assertEqual(UsdGeom.GetStageUpAxis(stage), up_axis)
                    metres = UsdGeom.GetStageMetersPerUnit(stage)
                    prim = next(p for p in stage.Traverse() if p.IsA(UsdGeom.Camera))
                    frustum = UsdGeom.Camera(prim).GetCamera(1).frustum
                window = frustum.ComputeViewMatrix() * frustum.ComputeProjectionMatrix()
                for local in ((0.2, 0.3, -5), (-1.4, -0.6, -6), (1.1, 0.8, -7)):
                    world = camera.rotation @ local + camera.position
                    x, y, z = world / metres
                    point = Gf.Vec3d(x, y, z) if up_axis == "Y" else Gf.Vec3d(x, -z, y)
                    ndc = window.Transform(point)
                    theirs = (
                        (ndc[0] + 1) / 2 * camera.grid.width,
                        (1 - ndc[1]) / 2 * camera.grid.height,
                    )
                    # USD keeps apertures in single precision: 7 digits of some thousand pixels.
                    np.testing.assert_allclose(camera.project([world])[0], theirs, atol=1e-3)


class AgainstHandbooks(TestCase):
    def test_angles_of_view_on_36_by_24(self):
        # The usual table of angles on 36 × 24 mm (focal: across, down, diagonal), as printed by
        # lens makers; from memory.
        for focal, angles in {
            20: (84.0, 61.9, 94.5),
            28: (65.5, 46.4, 75.4),
            35: (54.4, 37.8, 63.4),
            50: (39.6, 27.0, 46.8),
            85: (23.9, 16.1, 28.6),
        }.items():
            view = view_of((36, 24), focal)
            np.testing.assert_allclose(
                np.degrees([view.horizontal, view.vertical, view.diagonal]), angles, atol=0.06
            )

    def test_small_aerial_camera(self):
        # Common practice, no source: 14.66 mm full-frame equivalent is 101.7° across and 111.8° on
        # the diagonal, not the 150° quoted.
        view = view_of((36, 24), 14.66)
        self.assertAlmostEqual(math.degrees(view.horizontal), 101.7, delta=0.05)
        self.assertAlmostEqual(math.degrees(view.diagonal), 111.8, delta=0.05)
        wide = Camera.at(
            Grid.from_gate(3600, 2400, 36, 24), Lens(14.66, projection="equisolid"), (0, 0, 0)
        ).view
        self.assertAlmostEqual(math.degrees(wide.horizontal), 151.5, delta=0.1)
