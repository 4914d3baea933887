"""Solving a path again after an edit, from the last path."""

import numpy as np
from django.test import SimpleTestCase

from aperture.path.document import read
from aperture.path.find import find
from aperture.path.imaging import Optics
from aperture.path.network import Given, _start, judged
from aperture.path.problem import exponentials
from aperture.path.sightings import Sightings
from aperture.path.solve import _from, solve
from aperture.path.wanted import Wanted
from tests.moving import FIRST, GRID, LENS, document, scene


class Again(SimpleTestCase):
    """Solving after an edit, from the last path."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.made = scene("orbit", frames=24, count=110, seed=3)
        cls.told = document(cls.made, seed=3, known=5)
        cls.first = solve(cls.told).document

    def again(self, told, warm=None):
        """The fit from the last path, and whether first lenses were tried for it."""
        stages = []
        fit = solve(
            told, warm=warm or self.first, watch=lambda says, share: stages.append(says)
        ).document
        self.assertTrue(fit["ok"], fit.get("problem"))
        return fit, any("focal length" in says for says in stages)

    def same(self, one, other, share=0.1):
        """Both agree within a share of their ±."""
        off = np.array(one["path"]["position_m"]) - other["path"]["position_m"]
        plus_minus = np.array(other["path"]["position_plus_minus_m"])
        self.assertLess(np.abs(off / plus_minus).max(), share)

    def test_nothing_changed_nothing_changes(self):
        fit, from_nothing = self.again(self.told)
        self.assertFalse(from_nothing)
        self.same(fit, self.first, 0.02)
        for part in ("motion", "determined"):
            self.assertEqual(fit[part], self.first[part])
        self.assertAlmostEqual(
            fit["plus_minus"]["focal_mm"] / self.first["plus_minus"]["focal_mm"], 1, delta=0.02
        )

    def test_a_fact_that_places_it_anew_does_so(self):
        told = dict(self.told)
        told["tracks"] = [dict(track) for track in told["tracks"]]
        turn = exponentials(np.array([[0.0, 1.2, 0.0]]))[0]
        for track in told["tracks"]:
            if "world" in track:
                track["world"] = (3 * turn @ track["world"] + [5, 0, 2]).tolist()
                track["world_plus_minus"] = 0.015
        fit, from_nothing = self.again(told)
        self.assertFalse(from_nothing)
        wanted = 3 * self.made.positions @ turn.T + [5, 0, 2]
        off = np.array(fit["path"]["position_m"]) - wanted
        self.assertLess(np.abs(off / fit["path"]["position_plus_minus_m"]).max(), 5)
        self.same(fit, solve(told).document)

    def test_a_wrong_fact_is_still_named_and_a_track_that_slides_left_out(self):
        told = dict(self.told)
        told["tracks"] = [dict(track) for track in told["tracks"]]
        surveyed = [track for track in told["tracks"] if "world" in track]
        surveyed[2]["world"] = (np.array(surveyed[2]["world"]) + [0, 0.3, 0]).tolist()
        plain = next(track for track in told["tracks"] if "world" not in track)
        plain["observations"] = [
            [row[0], row[1] + 2.0 * number, *row[2:]]
            for number, row in enumerate(plain["observations"])
        ]
        fit, _ = self.again(told)
        self.assertEqual(fit["conflicts"][0]["of"], [surveyed[2]["id"]])
        self.assertIn(plain["id"], fit["left_out"])

    def test_what_was_left_out_and_a_fact_that_is_wrong_make_no_other_path(self):
        """Real films have both in every solution: the last path still counts as near."""
        rng, told = np.random.default_rng(4), dict(self.told)
        told["tracks"] = [dict(track) for track in told["tracks"]]
        for track in told["tracks"][::3]:
            rows = [list(row) for row in track["observations"]]
            for number in rng.permutation(len(rows))[:2]:
                rows[number][1] += 15.0  # px
            track["observations"] = rows
        surveyed = [track for track in told["tracks"] if "world" in track]
        surveyed[2]["world"] = (np.array(surveyed[2]["world"]) + [0, 0.3, 0]).tolist()
        fit = solve(told).document
        self.assertGreater(len(fit["left_out"]), 30)
        self.assertEqual(len(fit["conflicts"]), 1)
        evidence = read(told)
        seen = Sightings.of(evidence.tracks, evidence.first, evidence.last, evidence.grid)
        optics = Optics(GRID, evidence.lens)
        found = _from(fit, seen, optics, evidence)
        self.assertTrue(found.near)
        posed, start, tracks, _ = _start(seen, found)
        self.assertTrue(Given(evidence, seen, optics, posed, {}, False, 1).agrees(start, tracks))
        again, _ = self.again(told, fit)
        self.same(again, fit, 0.3)
        self.assertEqual([one["of"] for one in again["conflicts"]], [[surveyed[2]["id"]]])

    def test_a_lens_that_is_another_is_found_again(self):
        """The old path doesn't fit any more: it is adjusted robustly, as what has just grown."""
        gate = {"width_mm": 12.0, "height_mm": 6.75}
        fit, _ = self.again(self.told | {"gate": gate})
        self.assertAlmostEqual(fit["camera"]["focal_mm"], LENS.focal_mm / 2, delta=0.05)
        self.same(fit, solve(self.told | {"gate": gate}).document)

    def test_other_frames_or_one_of_several_paths_begin_from_nothing(self):
        reversible = self.first | {"remarks": [{"kind": "reversible", "says": ""}]}
        still = self.first | {"ok": False}
        shorter = self.told | {"frames": {"first": FIRST, "last": FIRST + 11, "rate": "24/1"}}
        zooms = self.first | {"zooms": True}
        for name, told, warm in (
            ("reversible", self.told, reversible),
            ("no path", self.told, still),
            ("zooms", self.told, zooms),
        ):
            with self.subTest(name):
                fit, from_nothing = self.again(told, warm)
                self.assertTrue(from_nothing)
                self.same(fit, self.first)
        fit, _ = self.again(shorter)
        self.assertEqual(len(fit["path"]["frames"]), 12)

    def test_a_frame_that_stands_wrong_keeps_what_it_sees(self):
        """Of one frame hardly all sightings are wrong: it would have nothing left to stand by."""
        evidence = read(self.told)
        seen = Sightings.of(evidence.tracks, evidence.first, evidence.last, evidence.grid)
        optics = Optics(GRID, evidence.lens)
        found = find(seen, optics, Wanted(evidence.free_lens, evidence.focal_mm))
        posed, start, tracks, use = _start(seen, found)
        given = Given(evidence, seen, optics, posed, {}, False, 1)
        start.positions[5] += [0.0, 0.4, 0.0]
        placed, facts, known = given.placed(start, tracks)
        network = given.solve(
            placed, tracks, use, known, facts, np.ones(len(evidence.tracks)), most=0
        )
        _, bad = judged(network)
        self.assertLess(bad[5].sum(), 0.5 * use[5].sum())
        self.assertLess(bad.sum(), 0.3 * use.sum())
