"""A shot at another speed, by its parts: which clips can be made one, and what goes by picture
number at the new speed."""

from types import SimpleNamespace

import numpy as np
from django.test import SimpleTestCase

from aperture.cut.cut import Clip
from aperture.errors import Problem
from aperture.moves.move import MOST_FRAMES
from web.cut import retimed


def clip(first=1, last=12, speed=0.5, between="blend", least=1, most=12):
    return Clip("k1", "LT900", first, last, least, most, ((first, speed),), between)


class Clips(SimpleTestCase):
    def refused(self, one, says, film=True):
        shot = SimpleNamespace(code="LT900", state={"film": {} if not film else {"first": 1}})
        with self.assertRaisesRegex(Problem, says):
            retimed._require(shot, one)

    def test_which_can_t_be_made_a_shot(self):
        self.refused(Clip("k1", "LT900", 1, 12, 1, 12), "goes as it was filmed")
        self.refused(clip(), "A photograph has no speed", film=False)
        self.refused(clip(-3, 12, least=-3), "frames below zero")
        long = clip(1, MOST_FRAMES, 0.5, most=MOST_FRAMES)
        self.refused(long, f"more than {MOST_FRAMES:,} frames")
        shot = SimpleNamespace(code="LT900", state={"film": {"first": 1}})
        retimed._require(shot, clip())  # this one can


class ByPictureNumber(SimpleTestCase):
    def gate(self, one, offset=0, rows=((1, 0.0, 0.0, 0.0, 1.0), (12, 11.0, -22.0, 1.1, 1.11))):
        steps = [
            {"do": "resize", "width": 960},
            {"do": "stabilise", "right": 0.0, "values": [list(row) for row in rows]},
        ]
        gate = retimed._gate({"width_mm": 36.0, "steps": steps}, one, offset)
        self.assertEqual((gate["width_mm"], gate["steps"][0]), (36.0, steps[0]))
        return gate["steps"][1]["values"]

    def test_half_as_fast_a_step_does_half_as_much_from_frame_to_frame(self):
        values = self.gate(clip())
        self.assertEqual([row[0] for row in values], list(range(1, 25)))
        right = np.array(values)[:, 1]
        # Picture 6 of the new one shows the moment half-way between the third and the fourth.
        self.assertAlmostEqual(right[5], 2.5)
        np.testing.assert_allclose(np.diff(right)[:-1], 0.5)
        np.testing.assert_allclose(np.array(values)[:, 2], -2 * right)
        np.testing.assert_allclose(np.array(values)[:, 4], 1 + right / 100)

    def test_twice_as_fast_and_with_the_shot_s_frames_shifted(self):
        rows = ((1, 0.0, 0.0, 0.0, 1.0), (12, 11.0, -22.0, 1.1, 1.11))
        shifted = clip(1001, 1012, 2.0, least=1001, most=1012)
        values = self.gate(shifted, 1000, rows)
        self.assertEqual([row[0] for row in values], list(range(1001, 1007)))
        np.testing.assert_allclose(np.array(values)[:, 1], [0, 2, 4, 6, 8, 10])

    def test_rows_in_any_order_and_only_of_some_pictures(self):
        rows = ((12, 11.0, -22.0, 1.1, 1.11), (1, 0.0, 0.0, 0.0, 1.0))
        self.assertEqual(self.gate(clip(), rows=rows), self.gate(clip()))
        one = self.gate(clip(), rows=((5, 3.0, 0.0, 0.0, 1.0),))
        self.assertEqual({row[1] for row in one}, {3.0})

    def test_keys_go_with_their_frames(self):
        """At half the speed each key stands on the frame that shows its moment."""

        def value(keys, at):
            frames, metres = np.array(sorted(keys), float).T
            return np.interp(at, frames, metres)

        keys = retimed._keys(clip(), [[9, 8.0], [1, 4.0]], 0, value)
        self.assertEqual([(key[0], key[1]) for key in keys], [(1, 4.0), (17, 8.0)])
        shifted = clip(1001, 1012, least=1001, most=1012)
        later = retimed._keys(shifted, [[1, 4.0], [9, 8.0]], 1000, value)
        self.assertEqual([(key[0], key[1]) for key in later], [(1001, 4.0), (1017, 8.0)])

    def test_what_was_made_is_forgotten_with_its_pictures(self):
        timed = {name: 1 for name in retimed.TIMED}
        state = {"retimed": {"shot": 3}, "shutter": {"angle": 3.14, **timed}}
        retimed.let_go(state)
        self.assertEqual(state, {"retimed": None, "shutter": {"angle": 3.14}})
