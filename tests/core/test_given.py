"""A move as evidence about a path: a rig that drifts, corrected by tracks."""

import unittest

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.match.document import InvalidDocument
from aperture.path.solve import solve
from tests import moving

PLACES_M, TURNS_DEG, FRAMES = 0.02, 0.2, 40


def drifting(random, sigma):
    """(F, 3) errors of a rig: an offset and slow waves, of variance sigma² together on each
    frame."""
    t = np.linspace(0, 1, FRAMES)
    waves = [random.normal(size=3) * np.cos(np.pi * k * t)[:, None] for k in range(3)]
    return sigma * sum(waves) / np.sqrt(2)


def told(kind, seed):
    """A scene, and its document with a drifting rig's move."""
    made = moving.scene(kind, FRAMES, 120, seed)
    random = np.random.default_rng(100 + seed)
    places, turns = drifting(random, PLACES_M), drifting(random, np.radians(TURNS_DEG))
    poses = []
    for camera, place, turn in zip(made.cameras, places, turns):
        pose = camera.world_from_camera.copy()
        pose[:3, :3] = pose[:3, :3] @ Rotation.from_rotvec(turn).as_matrix()
        pose[:3, 3] += place
        poses.append(pose)
    move = {
        "frames": [moving.FIRST + n for n in range(FRAMES)],
        "world_from_camera": [pose.ravel().tolist() for pose in poses],
        "plus_minus": PLACES_M,
        "plus_minus_deg": TURNS_DEG,
    }
    return made, np.array(poses), moving.document(made, noise=0.3, seed=seed, move=move)


class MoveAsEvidence(unittest.TestCase):
    def test_tracks_correct_its_drift_and_it_places_them(self):
        squares, focal = [], []
        for kind, seeds in (("sideways", 2), ("forward", 3), ("orbit", 1)):
            for seed in range(seeds):
                made, poses, document = told(kind, seed)
                fit = solve(document).document
                self.assertTrue(fit["ok"], fit)
                self.assertEqual(fit["determined"]["scale"], "solved")
                path = fit["path"]
                found = np.array(path["world_from_camera"])
                off = found[:, :3, 3] - made.positions
                # The shape is the tracks': far better than the rig's drift. Where it stands is the
                # rig's.
                shape = moving.path_error(fit, made)
                raw = moving.aligned(poses[:, :3, 3], made.positions) - made.positions
                long = np.linalg.norm(np.diff(made.positions, axis=0), axis=1).sum()
                self.assertLess(shape, 0.3 * np.sqrt((raw**2).sum(axis=1).mean()) / long)
                spread = np.array(path["position_plus_minus_m"])
                squares += ((off / spread) ** 2)[[0, 20, 39]].ravel().tolist()
                focal.append((fit["camera"]["focal_mm"] - 20) / fit["plus_minus"]["focal_mm"])
        self.assertTrue(0.6 < np.sqrt(np.mean(squares)) < 1.2, np.sqrt(np.mean(squares)))
        self.assertTrue(0.5 < np.sqrt(np.mean(np.square(focal))) < 1.6, focal)

    def test_what_is_no_move_gets_a_sentence(self):
        _, _, document = told("sideways", 0)
        for wrong in (
            {"frames": document["move"]["frames"][:-1]},
            {"frames": document["move"]["frames"][::-1]},
            {"world_from_camera": [[2.0] * 16] * FRAMES},
        ):
            with self.assertRaisesRegex(InvalidDocument, "move"):
                solve(document | {"move": document["move"] | wrong})
