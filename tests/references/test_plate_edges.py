"""The offset between a plate's edges and the stand-ins', on pictures that OpenCV projected and
filled, moved by known parts of a pixel."""

from unittest import TestCase

import cv2
import numpy as np

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.render import plate_edges
from aperture.scene.stand_in import StandIn

CAMERA = Camera.at(
    Grid.from_gate(960, 540, 36, 20.25), Lens(28.0), (2.6, 1.9, 5.0), 0.42, -0.18, 0.02
)
CRATE, POST = (
    StandIn((1.2, 0.9, 0.8), (0.1, 0.0, 0.4), 0.3),
    StandIn((0.3, 1.6, 0.3), (1.1, 0.0, -0.6), -0.2),
)
FINE = 8


def picture(items, shift):
    """(540, 960, 3): the boxes' faces, the far ones first, each in a grey of its own, on grey;
    noise of a good camera."""
    canvas, turned = (
        np.full((540 * FINE, 960 * FINE), 120, np.uint8),
        np.diag([1.0, -1.0, -1.0]) @ CAMERA.rotation.T,
    )
    faces = [
        (item.vertices()[list(face)], shade)
        for item in items
        for face, shade in zip(item.solid.faces, (60, 220, 190, 90, 30, 160))
    ]
    for corners, shade in sorted(
        faces, key=lambda one: -np.linalg.norm(one[0].mean(axis=0) - CAMERA.position)
    ):
        normal = np.cross(corners[1] - corners[0], corners[2] - corners[0])
        if normal @ (CAMERA.position - corners[0]) <= 0:
            continue
        at = cv2.projectPoints(
            corners,
            cv2.Rodrigues(turned)[0],
            -turned @ CAMERA.position,
            CAMERA.intrinsic_matrix(),
            np.zeros(5),
        )[0][:, 0]
        cv2.fillConvexPoly(
            canvas,
            np.round(((at + shift) * FINE - 0.5) * 16).astype(np.int32),
            int(shade),
            cv2.LINE_8,
            4,
        )
    small = cv2.resize(canvas, (960, 540), interpolation=cv2.INTER_AREA).astype(float)
    return np.repeat(
        np.clip(small + np.random.default_rng(1).normal(size=small.shape), 0, 255).astype(np.uint8)[
            ..., None
        ],
        3,
        axis=2,
    )


class PlateEdges(TestCase):
    def test_known_shifts(self):
        for shift in ((0.0, 0.0), (0.7, -0.4), (-1.5, 2.0)):
            found, _ = plate_edges.measure(
                picture([POST, CRATE], shift), CAMERA, [CRATE, POST], [0, 1]
            )
            np.testing.assert_allclose(found.shift, shift, atol=0.08)
            self.assertLess(np.median(np.abs(found.rest)), 0.1)

    def test_a_stand_in_that_is_too_tall_is_told(self):
        low = StandIn(
            (1.2, 0.89, 0.8), CRATE.base, CRATE.turn
        )  # a centimetre: its top lies some 1.4 px lower on the plate
        found, _ = plate_edges.measure(picture([low], (0.0, 0.0)), CAMERA, [CRATE], [0])
        self.assertGreater(found.most, 1.2)
        self.assertLess(np.percentile(np.abs(found.off), 25), 0.3)

    def test_where_there_is_no_such_edge_nothing_is_said(self):
        found, refused = plate_edges.measure(picture([], (0.0, 0.0)), CAMERA, [CRATE], [0])
        self.assertIsNone(found)
        self.assertGreater(refused, 8)
