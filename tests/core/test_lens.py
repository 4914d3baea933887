"""What a lens does: forward and back, its derivatives, and where it has no answer."""

import math
from unittest import TestCase

import cv2
import numpy as np
from hypothesis import assume, given
from hypothesis import strategies as st

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.geometry.rotation import angles_from_rotation, rotation_from_angles
from aperture.lens import distortion, projections
from aperture.lens.lens import PARAMETERS, Lens

ANGLE = st.floats(-math.pi + 1e-3, math.pi - 1e-3)
BENT = (-0.1, 0.03, -0.002, 0.001, -0.002)


def lenses():
    for projection in projections.NAMES:
        yield Lens(
            20, 1.3, projection, (0.4, -0.3), BENT if projection == "rectilinear" else (0.0,) * 5
        )


def points(seed=0):
    rng = np.random.default_rng(seed)
    local = rng.normal(size=(30, 3))
    local[:, 2] = -3 - np.abs(local[:, 2])
    return local


class Lenses(TestCase):
    def test_a_ray_goes_back_through_its_point(self):
        for lens in lenses():
            local = points()
            np.testing.assert_allclose(
                np.cross(lens.rays(lens.project(local)), local),
                0,
                atol=1e-9,
                err_msg=lens.projection.name,
            )

    def test_derivatives_of_the_projection(self):
        for lens in lenses():
            local, h = points(), 1e-6
            _, by_point, by_lens = lens.project(local, derivatives=True)
            numeric = np.stack(
                [
                    (lens.project(local + h * e) - lens.project(local - h * e)) / (2 * h)
                    for e in np.eye(3)
                ],
                -1,
            )
            np.testing.assert_allclose(by_point, numeric, atol=1e-7, err_msg=lens.projection.name)
            free = range(len(PARAMETERS) if lens.projection.straight else 3)
            for index in free:
                step = np.eye(8)[index] * h
                sides = [
                    lens.with_parameters(lens.parameters + sign * step).project(local)
                    for sign in (1, -1)
                ]
                np.testing.assert_allclose(
                    by_lens[:, :, index],
                    (sides[0] - sides[1]) / (2 * h),
                    atol=1e-7,
                    err_msg=f"{lens.projection.name} {PARAMETERS[index]}",
                )

    def test_derivatives_of_the_rays(self):
        for lens in lenses():
            mm, h = lens.project(points()), 1e-6
            free = list(range(len(PARAMETERS) if lens.projection.straight else 3))
            rays, by_mm, by_lens, by_both = lens.ray_derivatives(mm, free)
            np.testing.assert_allclose(rays, lens.rays(mm), atol=1e-12)
            numeric = np.stack(
                [(lens.rays(mm + h * e) - lens.rays(mm - h * e)) / (2 * h) for e in np.eye(2)], -1
            )
            np.testing.assert_allclose(by_mm, numeric, atol=1e-8, err_msg=lens.projection.name)
            for index in free:
                sides = [
                    lens.with_parameters(lens.parameters + sign * h * np.eye(8)[index])
                    for sign in (1, -1)
                ]
                np.testing.assert_allclose(
                    by_lens[:, :, index],
                    (sides[0].rays(mm) - sides[1].rays(mm)) / (2 * h),
                    atol=1e-8,
                )
                slopes = [side.ray_derivatives(mm)[1] for side in sides]
                np.testing.assert_allclose(
                    by_both[:, :, :, index], (slopes[0] - slopes[1]) / (2 * h), atol=1e-8
                )

    def test_what_cannot_be_a_lens(self):
        for arguments in (
            {"focal_mm": 0},
            {"focal_mm": math.nan},
            {"focal_mm": 20, "squeeze": 0.5},
            {"focal_mm": 20, "projection": "flat"},
            {"focal_mm": 20, "projection": "equisolid", "coefficients": BENT},
        ):
            with self.assertRaises(Problem, msg=str(arguments)):
                Lens(**arguments)

    def test_projections_know_their_edge(self):
        behind = np.array([[0.3, 0.2, 1.0]])
        self.assertTrue(np.isnan(projections.RECTILINEAR.project(behind)).all())
        self.assertTrue(np.isfinite(projections.named("equidistant").project(behind)).all())
        self.assertTrue(np.isnan(projections.named("orthographic").project(behind)).all())
        self.assertTrue(
            np.isnan(projections.named("equidistant").rays(np.array([[3.3, 0.0]]))[:, 0]).all()
        )
        self.assertTrue(
            np.isnan(projections.named("equisolid").rays(np.array([[2.1, 0.0]]))[:, 0]).all()
        )
        # Up to its limit a direction is imaged, and comes back; beyond, nothing is.
        for name in projections.NAMES:
            one = projections.named(name)
            theta = one.limit - np.array([1e-3, -1e-3])
            at = one.project(np.stack([np.sin(theta), 0 * theta, -np.cos(theta)], -1))
            ray = one.rays(at[:1])[0]
            self.assertAlmostEqual(np.arctan2(ray[0], -ray[2]), theta[0], places=9, msg=name)
            self.assertEqual(np.isnan(at[1]).all(), one.limit < np.pi, name)
        # On the axis itself there is a picture, and its scale is one focal length.
        for name in projections.NAMES:
            one = projections.named(name)
            at, slope = one.project(np.array([[0.0, 0.0, -2.0]]), derivatives=True)
            middle = [0.0, 0.0]
            if isinstance(one, projections.Pieces):  # of the piece that looks ahead
                ways = [way for way, _, _ in one.cells]
                middle = one.told()["pieces"][ways.index("front")]["middle"]
            np.testing.assert_allclose(at, [middle])
            np.testing.assert_allclose(
                slope[0], [[0.5, 0, 0], [0, -0.5, 0]], atol=1e-12, err_msg=name
            )


class Distortion(TestCase):
    @given(
        st.floats(-0.3, 0.3),
        st.floats(-0.1, 0.1),
        st.floats(-0.02, 0.02),
        st.floats(-0.005, 0.005),
        st.floats(-0.005, 0.005),
        st.floats(0, 1),
        ANGLE,
    )
    def test_undistorting_undoes_it_or_says_it_cannot(self, k1, k2, k3, p1, p2, share, angle):
        k = np.array([k1, k2, k3, p1, p2])
        radius = share * min(1.2, 0.85 * distortion.growth_radius(k))
        x = np.array([[radius * math.cos(angle), radius * math.sin(angle)]])
        assume(np.linalg.det(distortion.jacobian(x, k)[0]) > 0.1)
        np.testing.assert_allclose(distortion.undistort(distortion.distort(x, k), k), x, atol=1e-8)

    def test_it_is_opencv_s_and_so_is_the_way_back(self):
        """Of points by the hundred, and with every coefficient."""
        rng = np.random.default_rng(5)
        for _ in range(20):
            k = rng.normal(0, [0.1, 0.03, 0.01, 0.003, 0.003])
            reach = min(0.6, 0.6 * distortion.growth_radius(k))
            x = rng.uniform(-reach, reach, (200, 2)) / math.sqrt(2)
            theirs = cv2.projectPoints(
                np.column_stack([x, np.ones(200)]),
                np.zeros(3),
                np.zeros(3),
                np.eye(3),
                distortion.opencv_order(k),
            )[0][:, 0]
            np.testing.assert_allclose(distortion.distort(x, k), theirs, atol=1e-12)
            back = cv2.undistortPoints(
                theirs[:, None],
                np.eye(3),
                distortion.opencv_order(k),
                criteria=(cv2.TERM_CRITERIA_COUNT | cv2.TERM_CRITERIA_EPS, 200, 1e-13),
            )[:, 0]
            np.testing.assert_allclose(distortion.undistort(theirs, k), back, atol=1e-9)

    def test_where_there_is_nothing_to_undistort_it_says_so(self):
        k = np.array([-0.25, 0.02, 0, 0.001, 0])
        x = np.array([[0.2, 0.1], [np.nan, 0.1], [50.0, 50.0], [np.inf, 0.0], [0.0, 0.0]])
        told = np.isfinite(distortion.undistort(x, k)).all(axis=1)
        self.assertEqual(told.tolist(), [True, False, False, False, True])
        plain = distortion.undistort(x, np.zeros(5))
        np.testing.assert_array_equal(plain, x)
        self.assertIsNot(plain, x)

    def test_derivatives_of_rays_are_those_of_differences(self):
        """By the place on the sensor and by each parameter, in any order, of every projection that
        is matched; and of the first ones by the second."""
        rng = np.random.default_rng(6)
        mm = rng.uniform(-8, 8, (30, 2))
        for name in ("rectilinear", "equidistant", "equisolid", "stereographic"):
            bent = (-0.08, 0.02, -0.004, 0.002, -0.001) if name == "rectilinear" else (0.0,) * 5
            lens = Lens(24.0, 1.4, name, (0.3, -0.2), bent)
            free = rng.permutation(8 if name == "rectilinear" else 3)
            rays, by_mm, by_lens, by_both = lens.ray_derivatives(mm, free)
            np.testing.assert_allclose(rays, lens.rays(mm), atol=1e-12)
            step = 1e-5
            for axis in range(2):
                aside = np.eye(2)[axis] * step
                slope = (lens.rays(mm + aside) - lens.rays(mm - aside)) / (2 * step)
                np.testing.assert_allclose(by_mm[:, :, axis], slope, atol=1e-8)
            for column, index in enumerate(free):
                ends = [
                    lens.with_parameters(lens.parameters + sign * step * np.eye(8)[index])
                    for sign in (1, -1)
                ]
                first = [end.ray_derivatives(mm) for end in ends]
                for place, whole in ((0, by_lens), (1, by_both)):
                    slope = (first[0][place] - first[1][place]) / (2 * step)
                    np.testing.assert_allclose(
                        whole[..., column], slope, atol=1e-7, err_msg=f"{name}, {index}"
                    )

    def test_growth_radius_is_where_the_radius_stops_growing(self):
        for k in ((-0.25, 0, 0, 0, 0), (-0.3, 0.02, 0, 0, 0), (0.1, -0.2, 0, 0, 0)):
            limit = distortion.growth_radius(k)
            r = np.array([limit * 0.999, limit * 0.9999])
            bent = distortion.distort(np.stack([r, 0 * r], -1), k)[:, 0]
            self.assertGreater(bent[1], bent[0])
            self.assertLess((bent[1] - bent[0]) / (r[1] - r[0]), 0.01)
            self.assertTrue(np.isnan(distortion.distort(np.array([[limit * 1.001, 0]]), k)).all())
            self.assertTrue(
                np.isnan(distortion.undistort(np.array([[bent[1] * 1.01, 0]]), k)).all()
            )
        self.assertEqual(distortion.growth_radius((0.2, 0.1, 0, 0, 0)), math.inf)


class Cameras(TestCase):
    @given(ANGLE, st.floats(-1.55, 1.55), ANGLE)
    def test_angles_and_rotation_are_the_same_thing(self, pan, tilt, roll):
        rotation = rotation_from_angles(pan, tilt, roll)
        np.testing.assert_allclose(rotation @ rotation.T, np.eye(3), atol=1e-12)
        np.testing.assert_allclose(
            rotation_from_angles(*angles_from_rotation(rotation)), rotation, atol=1e-7
        )

    def test_signs_of_pan_tilt_and_roll(self):
        """Positive pan turns left, positive tilt looks up, positive roll turns the camera
        anticlockwise as seen from behind it."""
        grid, lens = Grid.from_gate(200, 100, 36, 18), Lens(30)
        ahead = [[0, 0, -10.0]]
        left, up, rolled = (
            Camera.at(grid, lens, (0, 0, 0), *angles)
            for angles in ((0.1, 0, 0), (0, 0.1, 0), (0, 0, 0.1))
        )
        self.assertGreater(
            left.project(ahead)[0][0], 100
        )  # the camera turned left: what was ahead is now to the right
        self.assertGreater(
            up.project(ahead)[0][1], 50
        )  # it looks up: what was ahead is now lower, y being down
        x, y = rolled.project([[0, 1, -10.0]])[0]
        self.assertGreater(x, 100)  # the world turns clockwise in the picture
        self.assertLess(y, 50)
        np.testing.assert_allclose(
            angles_from_rotation(rotation_from_angles(0.3, math.pi / 2, 0)),
            (0.3, math.pi / 2, 0),
            atol=1e-9,
        )

    def test_overscan_and_crop_change_neither_lens_nor_sensor(self):
        grid = Grid.from_gate(400, 300, 24, 18)
        lens, world = Lens(28, centre_mm=(0.2, 0.1)), [[0.4, 0.3, -5.0]]
        plain = Camera.at(grid, lens, (0, 0, 0)).project(world)[0]
        for changed, moved in (
            (grid.overscan(30, 50, 20, 10), (30, 20)),
            (grid.window(40, 25, 100, 100), (-40, -25)),
        ):
            camera = Camera.at(changed, lens, (0, 0, 0))
            np.testing.assert_allclose(camera.project(world)[0], plain + moved, atol=1e-9)
            self.assertAlmostEqual(camera.focal_px[0], Camera.at(grid, lens, (0, 0, 0)).focal_px[0])

    def test_a_pose_that_is_none(self):
        grid, lens = Grid.from_gate(400, 300, 24, 18), Lens(28)
        for pose in (np.eye(3), np.diag([2.0, 1, 1, 1]), np.full((4, 4), np.nan)):
            with self.assertRaises(Problem):
                Camera(grid, lens, pose)
        points = Camera.at(grid, lens, (0, 2, 0), tilt=-0.1).on_plane([[200, 290], [200, 10]])
        self.assertAlmostEqual(points[0][1], 0)
        self.assertTrue(np.isnan(points[1]).all())  # above the horizon
