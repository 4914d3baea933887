"""Samples of tracked cameras as others send them: what is said now and then, what is left out, and
what can't be read, told with its place."""

import json
from fractions import Fraction
from unittest import TestCase

import numpy as np

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.formats.open_track import OpenTrackSource, write
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens

RATE = Fraction(24)
GRID = Grid.from_gate(1920, 1080, 24.0, 13.5)


def samples(count=3):
    """Of a camera that goes to the right, as we write them."""
    over = {n: Camera.at(GRID, Lens(20.0 + n), (0.5 * n, 1.5, 0)) for n in range(1, count + 1)}
    return [json.loads(line) for line in write(over, "walk", RATE).splitlines()]


def source(rows):
    return OpenTrackSource("\n".join(map(json.dumps, rows)).encode())


class AsOthersSendThem(TestCase):
    def test_what_doesn_t_change_holds_until_it_is_said_anew(self):
        """The sensor comes once in a while; without it the later samples would see nothing."""
        rows = samples()
        whole = source(rows).seen(0, np.arange(3) / 24)
        for row in rows[1:]:
            del row["static"]
        thin = source(rows).seen(0, np.arange(3) / 24)
        np.testing.assert_array_equal(thin.half_view, whole.half_view)
        self.assertTrue(np.isfinite(thin.half_view).all())
        np.testing.assert_allclose(whole.half_view[:, 0], 12 / np.array([21, 22, 23.0]))

    def test_one_over_several_lines_a_list_and_lines_are_the_same(self):
        (one,) = samples(1)
        for text in (json.dumps(one), json.dumps(one, indent=2), json.dumps([one]), "\ufeff[%s]"):
            data = (text % json.dumps(one) if "%" in text else text).encode()
            np.testing.assert_array_equal(
                OpenTrackSource(data).local(0, np.zeros(1)), source([one]).local(0, np.zeros(1))
            )

    def test_without_a_rate_or_frames_they_are_counted(self):
        rows = samples()
        for row in rows:
            row["timing"] = {}
            row["static"]["camera"].pop("captureFrameRate", None)
        made = source(rows)
        self.assertIsNone(made.rate)
        self.assertNotIn("rate", made.declares)
        self.assertEqual((made.first, made.span), (1, (0.0, 2 / 24)))

    def test_transforms_lie_one_in_the_other(self):
        """A crane that is turned, and the head on its arm."""
        (one,) = samples(1)
        still = {"pan": 0, "tilt": 0, "roll": 0}
        one["transforms"] = [
            {"translation": {"x": 1, "y": 2, "z": 3}, "rotation": still | {"pan": 90}},
            {"translation": {"x": 0, "y": 4, "z": 0}, "rotation": still, "id": "Head"},
        ]
        made = source([one])
        place = made.local(0, np.zeros(1))[0, :3, 3]
        np.testing.assert_allclose(place, [1 - 4, 2, 3], atol=1e-12)  # y ahead, turned to −x
        self.assertEqual(made.names, ["Head"])

    def test_a_lens_that_isn_t_told_sees_nothing(self):
        for spoil in (
            lambda row: row["lens"].pop("pinholeFocalLength"),
            lambda row: row["lens"].update(pinholeFocalLength=0),
            lambda row: row["lens"].update(pinholeFocalLength=True),
            lambda row: row.pop("static"),
        ):
            (one,) = samples(1)
            spoil(one)
            self.assertTrue(np.isnan(source([one]).seen(0, np.zeros(1)).half_view).all())

    def test_what_can_t_be_read_is_told_with_its_place(self):
        good = samples()

        def changed(index, **more):
            rows = samples()
            rows[index] |= more
            return "\n".join(map(json.dumps, rows)).encode()

        half = {"translation": {"x": 0, "y": 0}, "rotation": {"pan": 0, "tilt": 0, "roll": 0}}
        for data, says in (
            (b"\xff\xfe{}", "isn't text in UTF-8"),
            (b"  \n ", "it is empty"),
            (b"[]", "no sample"),
            (b"[1, 2]", "no sample"),
            (json.dumps(good[0] | {"protocol": {"name": "Other"}}).encode(), "doesn't say"),
            (changed(1, transforms=[]), "Sample 2 has no transform"),
            (changed(2, transforms=[half]), "Sample 3 has a transform without a place"),
            (changed(1, timing=good[0]["timing"]), "comes twice"),
        ):
            with self.subTest(says), self.assertRaisesRegex(Problem, says):
                OpenTrackSource(data)
