"""The plate on stand-ins as files, read back with trimesh, against where OpenCV projects the same places."""

import io
import tempfile
import zipfile
from pathlib import Path

import cv2
import numpy as np
import trimesh

from tests.web.matched import MatchedShot
from web.match.fits import camera_of_state
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
                row = np.clip(((1 - uv[:, 1]) * texture.shape[0]).astype(int), 0, texture.shape[0] - 1)
                column = np.clip((uv[:, 0] * texture.shape[1]).astype(int), 0, texture.shape[1] - 1)
                worn = texture[row, column].astype(int)
                # OpenCV: y down, z ahead; its pixels count from their middles, here their outer corner is taken.
                turned = np.diag([1.0, -1.0, -1.0]) @ camera.rotation.T
                at = cv2.projectPoints(points, cv2.Rodrigues(turned)[0], -turned @ camera.position, camera.intrinsic_matrix(), np.zeros(5))[0][:, 0]
                inside = (at > 1).all(axis=1) & (at < np.array(pixels.shape[1::-1]) - 1).all(axis=1) & (worn[:, 3] == 255)
                column, row = at[inside].astype(int).T
                # Within half a pixel a neighbour may be met; so the colour is compared with the lowest and highest of those around.
                near = np.stack([pixels[row + y, column + x, :3] for y in (-1, 0, 1) for x in (-1, 0, 1)]).astype(int)
                fits = ((worn[inside, :3] >= near.min(axis=0)) & (worn[inside, :3] <= near.max(axis=0))).all(axis=1)
                self.assertGreater(inside.sum(), least)
                self.assertGreater(fits.mean(), 0.995)
