"""What the page of moves tells: how far the path is from a move, along and about each axis, which
frames differ most, and the other sides of a file's picture; and the curves that it is told by."""

from types import SimpleNamespace
from unittest import mock

import numpy as np
from django.test import SimpleTestCase

from aperture.camera import CameraPath
from aperture.geometry.grid import Grid
from aperture.geometry.rotation import rotation_from_angles
from aperture.lens.lens import Lens
from aperture.moves.move import Move
from web.match.curves import curve
from web.moves import page

GRID, FRAMES = Grid.from_gate(1920, 1080, 36.0, 20.25), np.arange(1001, 1011)


def path_of(rotations, positions, frames=FRAMES):
    return CameraPath(GRID, Lens(36.0), frames, rotations, positions, np.full(len(frames), 36.0))


def move_of(rotations, positions, half=(0.5, 0.28125), frames=FRAMES):
    count = len(frames)
    return Move(
        frames, rotations, positions, np.tile(half, (count, 1)), np.ones(count), np.zeros(2)
    )


class Drift(SimpleTestCase):
    def drift(self, path, move, span=(1001, 1010)):
        shot, kept = SimpleNamespace(state={}), SimpleNamespace(move=move)
        with (
            mock.patch.object(page, "solved_path", lambda state: path),
            mock.patch.object(page, "span_of", lambda state: span),
        ):
            return {
                one.name.removeprefix("Path less move, "): one for one in page.drift(shot, kept)
            }

    def test_places_are_told_in_millimetres_and_turns_about_the_camera_s_own_axes(self):
        """The move looks to the right: what it is panned by is about its own upright axis."""
        turns = np.tile(rotation_from_angles(-0.7, 0.1, 0.2), (10, 1, 1))
        away = np.linspace(0, 1, 10)[:, None] * [1.0, 0.2, -0.5]
        by = rotation_from_angles(np.radians(0.3), 0.0, 0.0)
        told = self.drift(path_of(turns @ by, away + [0.001, 0.0, -0.25]), move_of(turns, away))
        said = {name: (one.unit, one.values) for name, one in told.items()}
        for name, unit, value in (
            ("across", "mm", 1.0),
            ("up", "mm", 0.0),
            ("along", "mm", -250.0),
            ("pan", "°", 0.3),
            ("tilt", "°", 0.0),
            ("roll", "°", 0.0),
        ):
            with self.subTest(name):
                self.assertEqual(said[name][0], unit)
                found = [float(one.replace("−", "-")) for one in said[name][1]]
                np.testing.assert_allclose(found, value, atol=1e-3)

    def test_frames_that_only_one_of_them_has_are_gaps(self):
        turns, places = np.tile(np.eye(3), (10, 1, 1)), np.zeros((10, 3))
        own = path_of(turns[:6], places[:6] + [0, 0.01, 0], FRAMES[:6])
        told = self.drift(own, move_of(turns[:8], places[:8], frames=FRAMES[2:]))
        self.assertEqual(
            [value is not None for value in told["up"].values],
            [False] * 2 + [True] * 4 + [False] * 4,
        )

    def test_without_a_path_there_is_nothing_to_tell(self):
        turns, places = np.tile(np.eye(3), (10, 1, 1)), np.zeros((10, 3))
        self.assertEqual(self.drift(None, move_of(turns, places)), {})
        one = path_of(turns[:1], places[:1], FRAMES[:1])
        self.assertEqual(self.drift(one, move_of(turns, places)), {})


class Compared(SimpleTestCase):
    def test_the_worst_frames_come_first_and_one_that_looks_elsewhere_is_the_worst(self):
        found = page.Compared({1001: 0.5, 1002: np.inf, 1003: 7.25, 1004: 2.0})
        self.assertEqual(
            found.worst, [(1002, "another direction"), (1003, "7.25 px"), (1004, "2.00 px")]
        )
        self.assertEqual(found.curve(1001, 1005).values, ["0.50", None, "7.25", "2.00", None])
        self.assertIsNone(page.Compared({1: np.inf}).curve(1, 2))

    def test_a_picture_of_another_shape_is_told_by_its_edge(self):
        """A 4:3 file fitted to the width of a 16:9 plate is a third higher at both edges."""
        turns, places = np.tile(np.eye(3), (10, 1, 1)), np.zeros((10, 3))
        settings = SimpleNamespace(fit="width", to_json=lambda: {"rests": False})
        shot = SimpleNamespace(url=lambda *_: "/", head=SimpleNamespace(number=3))

        def told(half):
            kept = SimpleNamespace(
                id="m1",
                move=move_of(turns, places, half),
                settings=settings,
                found=SimpleNamespace(camera="/cam"),
            )
            return page._sides(shot, kept, path_of(turns, places))

        ((remark),) = told((0.5, 0.375))
        self.assertIn("180.0 px away", remark.says)
        ((label, to),) = remark.remedies
        self.assertEqual(
            (label, to["fields"]["fit"], to["fields"]["base"]), ("Fit the height", "height", 3)
        )
        self.assertEqual(told((0.5, 0.28125)), [])
        self.assertEqual(told((0.5, 0.2814)), [])  # less than half a pixel


class Curves(SimpleTestCase):
    def test_a_curve_is_parted_at_its_gaps_and_lies_within_its_box(self):
        made = curve("Pan", "°", [0.0, 1.0, None, 3.0, 2.0])
        self.assertEqual((made.low, made.high), ("0.000", "3.000"))
        self.assertEqual(made.line.count("M"), 2)
        self.assertIsNone(curve("Pan", "°", [None, None]))

    def test_a_plus_minus_widens_it_and_what_hardly_changes_lies_in_the_middle(self):
        wide = curve("Pan", "°", [0.0, 1.0], sigmas=[0.5, 0.25])
        self.assertEqual((wide.low, wide.high), ("−0.500", "1.250"))
        self.assertEqual(wide.values, ["0.000 ± 0.500", "1.000 ± 0.250"])
        self.assertTrue(wide.band.endswith("Z"))
        flat = curve("Pan", "°", [2.0, 2.0], places=2)
        self.assertEqual((flat.low, flat.high), ("1.99", "2.01"))
        self.assertEqual(curve("Off", "px", [3.0, 4.0], from_zero=True).low, "0.000")

    def test_one_frame_alone_is_seen_and_nothing_is_minus_nothing(self):
        made = curve("Tilt", "°", [None, 1.0, None, -0.0001, 0.0], places=2)
        self.assertRegex(made.line, r"^M[\d. ]+h1\.0M")
        self.assertEqual(made.values[3], "0.00")

    def test_a_long_one_has_as_many_points_as_can_be_told_apart(self):
        made = curve("Pan", "°", np.sin(np.arange(5000) / 300).tolist())
        self.assertLess(made.line.count("L"), 401)
        self.assertEqual(len(made.values), 5000)
