"""Boxes, their handles, what is drawn over the plate, and the renderer."""

import math
from unittest import TestCase

import numpy as np

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.render.passes import Wanted, render
from aperture.render.tracer import Look
from aperture.scene import handles, overlay
from aperture.scene.stand_in import StandIn, mesh_of


def camera(lens=None):
    return Camera.at(
        Grid.from_gate(320, 180, 36, 20.25), lens or Lens(24), (3, 1.7, 6), 0.4, -0.12, 0.03
    )


class Boxes(TestCase):
    def test_mesh_is_closed_and_of_the_typed_size(self):
        mesh = mesh_of([StandIn((2, 1, 0.5), (1, 0, -2), 0.7)])
        self.assertTrue(mesh.is_watertight)
        self.assertAlmostEqual(mesh.volume, 1.0)
        for size in ((0, 1, 1), (1, -1, 1), (math.nan, 1, 1), (1, 1, 1e9)):
            with self.assertRaises(Problem):
                StandIn(size)

    def test_dragging_a_handle_takes_it_to_the_pointer(self):
        seen, box = camera(), StandIn((0.8, 0.6, 0.5), (0.6, 0, 1.0), 0.4)
        for handle in handles.HANDLES:
            at = seen.project([handles.places(box)[handle]])[0] + (
                [0, -9] if handle in ("top", "up") else [14, 6]
            )
            moved = handles.drag(seen, box, handle, at)
            now = seen.project([handles.places(moved)[handle]])[0]
            if handle == "turn":  # only its direction follows
                wanted, got = (
                    p - np.array(box.base)
                    for p in (handles.on_floor(seen, at), handles.places(moved)["turn"])
                )
                self.assertAlmostEqual(
                    math.atan2(wanted[0], wanted[2]), math.atan2(got[0], got[2]), places=6
                )
            elif handle in (
                "across",
                "along",
            ):  # along its axis alone, to where the pointer is nearest
                off = np.subtract(moved.base, box.base)
                self.assertEqual(np.count_nonzero(np.abs(off) > 1e-9), 1)
                ray, axis = seen.rays([at])[0], off / np.linalg.norm(off)
                normal = np.cross(
                    ray, axis
                )  # the tip is the axis's nearest point to the ray: what joins them stands on both
                gap = handles.places(moved)[handle] - seen.position
                np.testing.assert_allclose(
                    gap - (gap @ ray) * ray, (gap @ normal) * normal / (normal @ normal), atol=1e-9
                )
            elif handle in ("top", "up"):
                self.assertAlmostEqual(now[1], at[1], delta=0.3)
            else:
                np.testing.assert_allclose(now, at, atol=1e-6, err_msg=handle)
        np.testing.assert_allclose(
            handles.drag(seen, box, "corner", seen.project([[1.5, 0, 1.6]])[0]).bounds()[3],
            box.bounds()[3],
            atol=1e-9,
        )
        with self.assertRaises(Problem):
            handles.drag(seen, box, "move", (10, 5))  # the sky

    def test_lines_are_cut_at_the_camera_and_never_folded(self):
        for lens in (
            Lens(24),
            Lens(24, coefficients=(-0.3, 0, 0, 0, 0)),
            Lens(12, projection="equidistant"),
        ):
            seen = camera(lens)
            for piece in overlay.floor_grid(seen, 1.0, 12) + overlay.horizon(seen):
                self.assertTrue(np.isfinite(piece).all())
            behind = seen.position + np.array([[0, 0, 3.0], [0.1, 0, 30.0]]) @ seen.rotation.T
            self.assertEqual(
                overlay.polyline(seen, *behind) if lens.projection.straight else [], []
            )

    def test_render_covers_what_the_box_covers(self):
        seen, box = camera(), StandIn((1.2, 0.9, 0.7), (0.4, 0, 0.8), 0.3)
        rgba = render(seen, [(box, Look())]).rgba
        alpha = rgba[..., 3]
        self.assertEqual(alpha.shape, (180, 320))
        import cv2

        outline = cv2.convexHull((seen.project(box.bounds())).astype(np.float32))
        self.assertAlmostEqual(float(alpha.sum()) / cv2.contourArea(outline), 1.0, delta=0.002)
        self.assertTrue((rgba[alpha == 0] == 0).all())
        self.assertEqual(alpha.max(), 1.0)
        self.assertTrue((rgba[..., :3] <= alpha[..., None] + 1e-6).all())  # premultiplied
        inside = Camera.at(seen.grid, seen.lens, (0.4, 0.4, 0.8))
        self.assertEqual(render(inside, [(box, Look())], Wanted(samples=1)).rgba[..., 3].min(), 1.0)
