"""Cameras that only turn, or nearly."""

import numpy as np
from django.test import SimpleTestCase

from aperture.path.solve import solve
from tests.moving import LENS, document, scene


class TurningTests(SimpleTestCase):
    def test_a_camera_that_only_turns_and_one_that_stands(self):
        fit = solve(document(scene("turning", frames=30, count=150), sliding=0.03)).document
        self.assertEqual(fit["motion"], "nodal")
        self.assertAlmostEqual(fit["camera"]["focal_mm"] / LENS.focal_mm, 1, delta=0.003)
        self.assertEqual(fit["path"]["position_m"], [None] * 30)
        pans = np.array(fit["path"]["pan_deg"])
        self.assertAlmostEqual(abs(pans[-1] - pans[0]), 30, delta=0.1)
        still = solve(document(scene("still", frames=10, count=60))).document
        self.assertFalse(still["ok"])
        self.assertIn("doesn't move", still["problem"])

    def test_a_lens_off_its_pivot_and_a_flat_wall_are_honest(self):
        for kind, seed in (("pivot", 0), ("pivot", 7), ("wall", 1)):
            made = scene(kind, frames=30, count=150, seed=seed)
            fit = solve(document(made, seed=seed)).document
            sigma = fit["plus_minus"]["focal_mm"]
            with self.subTest(kind=kind, seed=seed, sigma=sigma):
                self.assertLess(abs(fit["camera"]["focal_mm"] - LENS.focal_mm), 3 * sigma)
                self.assertLess(sigma, 0.5)
        made = scene("pivot", frames=30, count=150, seed=1)
        fit = solve(document(made, seed=1, known=4)).document
        off = np.array(fit["path"]["position_m"]) - made.positions
        sigmas = off / np.array(fit["path"]["position_plus_minus_m"])
        self.assertLess(np.sqrt(np.mean(sigmas**2)), 3)
        self.assertLess(np.abs(off).max(), 0.1)

    def test_errors_that_hang_together_are_no_parallax(self):
        """As of a film that went through a codec: a path explains more of them than of noise."""
        made = scene("turning", count=200)
        fit = solve(document(made, sliding=0.03, drift=(0.9, 0.9))).document
        self.assertEqual(fit["motion"], "nodal")

    def test_a_lens_a_little_off_its_pivot_is_allowed_for(self):
        """Five to ten millimetres: too little for a path, and yet a ± that knew nothing of them
        would be four to six times too small."""
        off = []
        for seed, arm in ((0, 0.005), (2, 0.005), (0, 0.01), (1, 0.01)):
            made = scene("pivot", count=200, seed=seed, arm=arm)
            data = document(made, seed=seed, sliding=0.03)
            fit = solve(data).document
            self.assertEqual(fit["motion"], "nodal")
            self.assertIn("off the pivot", [one["kind"] for one in fit["remarks"]])
            off.append((fit["camera"]["focal_mm"] - LENS.focal_mm) / fit["plus_minus"]["focal_mm"])
        self.assertLess(np.sqrt(np.mean(np.square(off))), 1.5)
        # Who says that it only turns is believed.
        told = solve(data | {"camera": {"motion": "nodal"}}).document
        self.assertLess(told["plus_minus"]["focal_mm"], 0.5 * fit["plus_minus"]["focal_mm"])

    def test_frames_without_tracks_are_left_out_and_told(self):
        data = document(scene("turning", frames=20, count=150))
        gone = {1001, 1002, 1011}  # two at the beginning, a black one in the middle
        for track in data["tracks"]:
            track["observations"] = [row for row in track["observations"] if row[0] not in gone]
        fit = solve(data).document
        self.assertEqual(fit["motion"], "nodal")
        missing = {one["quantity"]: one for one in fit["missing"]}["frames"]
        self.assertEqual(set(missing["frames"]), gone)
        self.assertIsNone(fit["path"]["pan_deg"][10])
        self.assertIsNotNone(fit["path"]["pan_deg"][11])

    def test_a_path_in_the_world_stays_there_while_it_is_compared_with_its_reversal(self):
        """Placed anew by the directions of four known points, this one was metres away."""
        made = scene("pivot", count=200, seed=7)
        fit = solve(document(made, seed=7, sliding=0.03, known=4)).document
        off = fit["camera"]["focal_mm"] - LENS.focal_mm
        self.assertLess(abs(off), 3 * fit["plus_minus"]["focal_mm"])
