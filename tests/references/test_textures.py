"""The plate on stand-ins as files, read back with trimesh, against where OpenCV projects the same
places."""

import io
import tempfile
import zipfile
from pathlib import Path
from unittest import TestCase

import cv2
import numpy as np
import trimesh

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.render import worn
from aperture.scene.stand_in import StandIn
from tests.chessboard import FOLDER, intrinsics, photographs
from tests.web.matched import MatchedShot
from web.match.path_fits import camera_of_state
from web.plates.models import plate_of


class Textures(MatchedShot):
    def test_each_place_wears_the_plate_s_colour(self):
        self.place((1.9, 0, 3.3), name="New crate", kind="box")
        self.place((0.6, 0, 2.4), name="Floor", kind="plane", width="3", depth="3", height="0")
        for item in self.items():
            self.client.post(f"/shows/tide/LT901/set/{item['id']}/wear")
        shot = self.shot()
        camera, pixels = camera_of_state(shot.state), np.load(plate_of(shot).folder / "pixels.npy")
        answer = self.client.get("/shows/tide/LT901/set/textures.zip")
        with tempfile.TemporaryDirectory() as folder:
            zipfile.ZipFile(io.BytesIO(answer.content)).extractall(folder)
            for name, least in (("New_crate", 3000), ("Floor", 20000)):
                mesh = trimesh.load(Path(folder) / f"{name}.obj", process=False)
                texture = np.asarray(mesh.visual.material.image)
                self.assertEqual(texture.shape[2], 4)
                rng = np.random.default_rng(3)
                which = rng.choice(len(mesh.faces), 40000, p=mesh.area_faces / mesh.area)
                weights = rng.dirichlet([1, 1, 1], len(which))[:, :, None]
                points = (mesh.vertices[mesh.faces[which]] * weights).sum(axis=1)
                uv = (mesh.visual.uv[mesh.faces[which]] * weights).sum(axis=1)
                row = np.clip(
                    ((1 - uv[:, 1]) * texture.shape[0]).astype(int), 0, texture.shape[0] - 1
                )
                column = np.clip((uv[:, 0] * texture.shape[1]).astype(int), 0, texture.shape[1] - 1)
                worn = texture[row, column].astype(int)
                # OpenCV: y down, z ahead; its pixels count from their middles, here their outer
                # corner is taken.
                turned = np.diag([1.0, -1.0, -1.0]) @ camera.rotation.T
                at = cv2.projectPoints(
                    points,
                    cv2.Rodrigues(turned)[0],
                    -turned @ camera.position,
                    camera.intrinsic_matrix(),
                    np.zeros(5),
                )[0][:, 0]
                inside = (
                    (at > 1).all(axis=1)
                    & (at < np.array(pixels.shape[1::-1]) - 1).all(axis=1)
                    & (worn[:, 3] == 255)
                )
                column, row = at[inside].astype(int).T
                # Within half a pixel a neighbour may be met; so the colour is compared with the
                # lowest and highest of those around.
                near = np.stack(
                    [pixels[row + y, column + x, :3] for y in (-1, 0, 1) for x in (-1, 0, 1)]
                ).astype(int)
                fits = (
                    (worn[inside, :3] >= near.min(axis=0)) & (worn[inside, :3] <= near.max(axis=0))
                ).all(axis=1)
                self.assertGreater(inside.sum(), least)
                self.assertGreater(fits.mean(), 0.995)


class BoardUnwrapped(TestCase):
    def test_the_squares_of_a_photographed_board_are_squares_on_its_stand_in(self):
        """Photographs of opencv-doc with their published lens; the pose is OpenCV's. The board's
        texture, laid flat by its coordinates alone, shows corners that OpenCV finds evenly
        spaced."""
        matrix, coefficients = intrinsics()
        k1, k2, p1, p2, k3 = coefficients
        world = (
            np.stack([np.tile(np.arange(9.0), 6), np.zeros(54), np.repeat(np.arange(6.0), 9)], -1)
            * 0.1
        )
        checked = 0
        for name, size, corners in list(photographs())[:5]:
            pixels = cv2.imread(str(FOLDER / name))[..., ::-1]
            # One millimetre a pixel; both count from pixel middles here, so half a pixel goes to
            # the centre of ours.
            lens = Lens(
                float(matrix[1, 1]),
                1.0,
                "rectilinear",
                (matrix[0, 2] + 0.5 - size[0] / 2, matrix[1, 2] + 0.5 - size[1] / 2),
                tuple(map(float, (k1, k2, k3, p1, p2))),
            )
            found = cv2.solvePnP(world, corners.reshape(-1, 2) - 0.5, matrix, coefficients)
            turn = cv2.Rodrigues(found[1])[0]
            pose = np.eye(4)
            pose[:3, :3], pose[:3, 3] = (
                turn.T @ np.diag([1.0, -1.0, -1.0]),
                (-turn.T @ found[2]).ravel(),
            )
            camera = Camera(Grid.from_gate(*size, *map(float, size)), lens, pose)
            board = StandIn((1.0, 0.0, 0.7), base=(0.4, 0.0, 0.25), kind="plane")
            made = worn.wear(camera, [board], 0)
            texture, at = worn.texture(made, pixels, np.ones(pixels.shape[:2], bool))
            flat = unwrapped(made, at, texture, board, 700)
            there = np.stack([(world[:, 0] + 0.1) * 700, (world[:, 2] + 0.1) * 700], -1).astype(
                np.float32
            )
            refined = (
                cv2.cornerSubPix(
                    cv2.cvtColor(flat, cv2.COLOR_RGB2GRAY),
                    (there - 0.5)[:, None].copy(),
                    (9, 9),
                    (-1, -1),
                    (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_MAX_ITER, 50, 1e-3),
                )[:, 0]
                + 0.5
            )
            # 70 px a square; a pixel of the photograph is two or three of these.
            self.assertLess(
                np.sqrt((np.linalg.norm(refined - there, axis=1) ** 2).mean()), 1.5, name
            )
            checked += 1
        self.assertEqual(checked, 5)


def unwrapped(made, at, texture, board, px_per_m):
    """The board seen straight from above, from points, texture coordinates and texture alone."""
    size = np.array(board.size)[[0, 2]]
    low = np.array(board.base)[[0, 2]] - size / 2
    flat, high, wide = (
        np.zeros((round(size[1] * px_per_m), round(size[0] * px_per_m), 3), np.uint8),
        *texture.shape[:2],
    )
    for triangle in made.triangles:
        corners = ((made.points[triangle][:, [0, 2]] - low) * px_per_m).astype(np.float32)
        left, top = np.floor(corners.min(axis=0)).astype(int)
        right, bottom = np.ceil(corners.max(axis=0)).astype(int) + 1
        source = (at[triangle] * (1, -1) + (0, 1)) * (wide, high)
        to = cv2.getAffineTransform(
            (corners - (left, top) - 0.5).astype(np.float32), (source - 0.5).astype(np.float32)
        )
        patch = cv2.warpAffine(
            texture[..., :3],
            to,
            (right - left, bottom - top),
            flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP,
            borderMode=cv2.BORDER_REPLICATE,
        )
        mask = np.zeros(patch.shape[:2], np.uint8)
        cv2.fillConvexPoly(mask, np.round(corners - (left, top)).astype(np.int32), 1)
        here = flat[top:bottom, left:right]
        inside = mask[: here.shape[0], : here.shape[1]].astype(bool)
        here[inside] = patch[: here.shape[0], : here.shape[1]][inside]
    return flat
