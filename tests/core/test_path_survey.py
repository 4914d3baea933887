"""Paths that tracks with known places hold: few of them, and near a pivot."""

import numpy as np
from django.test import SimpleTestCase

from aperture.path.solve import solve
from tests.moving import GRID, LENS, document, scene

FOCAL_PX = LENS.focal_mm / GRID.mm_per_px[0]


def only_surveyed(kind, known, seed=0, frames=20, **more):
    """A document with no other tracks, and its scene."""
    made = scene(kind, frames=frames, count=200, seed=seed)
    data = document(made, seed=seed, known=known, **more)
    return data | {"tracks": [track for track in data["tracks"] if "world" in track]}, made


class Surveyed(SimpleTestCase):
    def test_a_survey_poses_frames_without_parallax_and_with_few_tracks(self):
        for kind, count in (("turning", 100), ("orbit", 14)):
            with self.subTest(kind):
                made = scene(kind, frames=16, count=count, seed=2)
                fit = solve(document(made, known=min(25, made.seen.shape[1]))).document
                self.assertEqual(fit["motion"], "free", fit.get("problem"))
                away = np.array(fit["path"]["position_m"]) - made.positions
                sigmas = away / np.array(fit["path"]["position_plus_minus_m"])
                self.assertLess(np.abs(away).max(), 0.1)
                self.assertLess(np.sqrt((sigmas**2).mean()), 2.5)
                off = fit["camera"]["focal_px"][1] - FOCAL_PX
                self.assertLess(abs(off), 4 * fit["plus_minus"]["focal_px"][1])

    def test_six_are_enough_and_five_are_told(self):
        """Whether the ± of so few are true over repetitions: `bench.moving_cameras`."""
        sigmas = []
        for kind in ("orbit", "sideways", "forward"):
            data, made = only_surveyed(kind, 6, seed=1)
            fit = solve(data).document
            self.assertEqual(fit["motion"], "free", fit.get("problem"))
            away = np.array(fit["path"]["position_m"]) - made.positions
            sigmas.append(away / np.array(fit["path"]["position_plus_minus_m"]))
            off = fit["camera"]["focal_px"][1] - FOCAL_PX
            self.assertLess(abs(off), 4 * fit["plus_minus"]["focal_px"][1])
        self.assertLess(np.sqrt(np.mean(np.square(sigmas))), 2)
        # One fewer is refused, also where an earlier path is known; so are six that disagree.
        fewer = data | {"tracks": data["tracks"][:5]}
        for warm in (None, fit):
            problem = solve(fewer, warm).document["problem"]
            self.assertIn("Only 5 tracks", problem)
            self.assertIn("6 whose places are known", problem)
        wrong = data["tracks"][2] | {"world": [40.0, 3.0, 2.0]}
        problem = solve(data | {"tracks": [*data["tracks"][:2], wrong, *data["tracks"][3:]]})
        self.assertIn("agree on no camera", problem.document["problem"])

    def test_their_drift_counts_where_no_other_track_tells_it(self):
        sigmas = []
        for seed in range(6):
            data, made = only_surveyed("forward", 10, seed, 40, drift=(0.7, 0.95))
            path = solve(data).document["path"]
            away = np.array(path["position_m"]) - made.positions
            sigmas.append(away / np.array(path["position_plus_minus_m"]))
        self.assertLess(np.sqrt(np.mean(np.square(sigmas))), 1.35)  # 1.6 if they were independent

    def test_near_the_pivot_it_does_not_turn_near_and_far_about(self):
        """The lens goes four centimetres, and the survey is off by half a centimetre: begun at it
        alone, the path ended in the valley of its reversal, three of its ± off."""
        made = scene("pivot", frames=40, count=200, seed=48)
        fit = solve(document(made, seed=48, sliding=0.03, known=8)).document
        self.assertEqual(fit["motion"], "free")
        self.assertLess(fit["residuals"]["rms_px"], 0.2)
        self.assertLess(abs(fit["camera"]["focal_mm"] / LENS.focal_mm - 1), 0.002)
