"""Drawn moves and flights against SciPy's splines, closed forms, and the drag formula."""

import unittest
from fractions import Fraction

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.interpolate import BPoly, CubicHermiteSpline
from scipy.spatial.transform import Rotation

from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.moves.authored import Authored, keyed_move, keys_from
from aperture.moves.compare import apart
from aperture.moves.curves import Curve, Key
from aperture.moves.flight import PRESETS, Aircraft, G, fly, trailing
from aperture.moves.move import Move
from aperture.moves.readings import distances, readings
from aperture.moves.rig import play
from aperture.moves.thinning import thinned
from demo import films

RATE = Fraction(24)
GRID = Grid.from_gate(1920, 1080, 36, 20.25)


def move_of(positions, rotations=None, focal=27.0):
    count = len(positions)
    turns = np.tile(np.eye(3), (count, 1, 1)) if rotations is None else rotations
    half = np.tile([18 / focal, 10.125 / focal], (count, 1))
    return Move(np.arange(count), turns, positions, half, np.full(count, focal), np.zeros(2))


class Curves(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(
        st.lists(
            st.tuples(
                st.integers(0, 400),
                st.floats(-50, 50),
                st.sampled_from(["smooth", "flat", "free"]),
                st.floats(-3, 3),
                st.floats(-3, 3),
            ),
            min_size=2,
            max_size=9,
            unique_by=lambda key: key[0],
        )
    )
    def test_segments_are_scipys_hermite_and_bezier_ones(self, keys):
        curve = Curve.of([Key(*key) for key in keys])
        before, after = curve.slopes()
        frames, values = curve.frames, curve.values
        for index, key in enumerate(curve.keys):
            if key.kind == "flat":
                self.assertEqual((before[index], after[index]), (0, 0))
            if key.kind == "free":
                self.assertEqual((before[index], after[index]), (key.before, key.after))
        for index in range(len(frames) - 1):
            ends, wide = slice(index, index + 2), frames[index + 1] - frames[index]
            at = np.linspace(*frames[ends], 13)
            slopes = [after[index], before[index + 1]]
            hermite = CubicHermiteSpline(frames[ends], values[ends], slopes)
            np.testing.assert_allclose(curve.at(at), hermite(at), atol=1e-9)
            # The handles of the same segment, a third of its length away.
            low, high = values[ends]
            points = [low, low + slopes[0] * wide / 3, high - slopes[1] * wide / 3, high]
            bezier = BPoly(np.array(points)[:, None], frames[ends])
            np.testing.assert_allclose(curve.at(at), bezier(at), atol=1e-9)
            np.testing.assert_allclose(curve.slope_at(at[1:-1]), hermite(at[1:-1], 1), atol=1e-9)

    def test_kinds(self):
        line = Curve.of([Key(0, 0, "linear"), Key(10, 5, "linear"), Key(20, 5, "held"), Key(30, 9)])
        self.assertEqual(
            line.at(np.array([-4.0, 4, 15, 29.9, 30, 99])).tolist(), [0, 2, 5, 5, 9, 9]
        )
        # A parabola through its keys is kept between inner keys.
        square = Curve.of([Key(x, x * x) for x in (0, 3, 7, 12, 14)])
        at = np.linspace(3, 12, 20)
        np.testing.assert_allclose(square.at(at), at**2, atol=1e-9)
        slower = square.retimed(0, 14, 10, 38)
        np.testing.assert_allclose(slower.at(10 + 2 * at), at**2, atol=1e-9)
        self.assertEqual(square.retimed(3, 12, 10, 28).frames.tolist(), [7, 10, 18, 28, 30])
        for wrong in (
            lambda: Key(0, np.nan),
            lambda: Key(0, 0, "bouncy"),
            lambda: Curve.of([]),
            lambda: Key.from_json([1]),
            lambda: square.retimed(5, 5, 1, 2),
        ):
            with self.assertRaises(Problem):
                wrong()


class DrawnMoves(unittest.TestCase):
    route = {
        "x": Curve.of([Key(0, 0), Key(50, 3), Key(100, 1)]),
        "y": Curve.of([Key(0, 1.6)]),
        "z": Curve.of([Key(0, 5), Key(40, 2), Key(100, -3)]),
    }

    def test_the_speed_along_the_route_is_what_is_asked(self):
        over_time = Curve.of([Key(0, 0.5, "flat"), Key(4, 2.0, "flat")])
        over_distance = Curve.of([Key(0, 0.8, "flat"), Key(6, 3.0, "flat")])
        for by, speed in (("time", over_time), ("distance", over_distance)):
            drawn = Authored(self.route | {"speed": speed}, 0, 70, by)
            positions = keyed_move(drawn, RATE).positions
            # The route, measured densely: how far along it each place is, and that it lies on it.
            dense = drawn.route(np.linspace(0, 100, 40_001))
            lengths = np.concatenate(
                [[0], np.cumsum(np.linalg.norm(np.diff(dense, axis=0), axis=1))]
            )
            nearest = np.array(
                [np.argmin(np.square(dense - place).sum(axis=1)) for place in positions]
            )
            np.testing.assert_allclose(dense[nearest], positions, atol=1e-3)
            tangent = np.gradient(dense, lengths, axis=0)[nearest]
            gone = lengths[nearest] + ((positions - dense[nearest]) * tangent).sum(axis=1)
            measured = np.diff(gone) * 24
            at = (np.arange(70) + 0.5) / 24 if by == "time" else (gone[1:] + gone[:-1]) / 2
            np.testing.assert_allclose(measured, speed.at(at), rtol=1e-3)
        with self.assertRaisesRegex(Problem, "above zero everywhere"):
            stops = Curve.of([Key(0, 1, "linear"), Key(5, 0, "linear")])
            keyed_move(Authored(self.route | {"speed": stops}, 0, 70, "distance"), RATE)

    def test_a_point_is_looked_at_and_followed(self):
        target = np.array([0.5, 1.0, -1.0])
        look = Curve.of([Key(0, 0, "linear"), Key(100, 1, "linear")])
        drawn = Authored(self.route | {"look": look}, 0, 100, looks_at=tuple(target))
        move = keyed_move(drawn, RATE)
        ahead = -move.rotations[:, :, 2]
        away = target - move.positions
        away /= np.linalg.norm(away, axis=1, keepdims=True)
        angle = np.degrees(np.arccos(np.clip((ahead * away).sum(axis=1), -1, 1)))
        self.assertLess(angle[100], 1e-5)
        np.testing.assert_allclose(move.rotations[0], np.eye(3), atol=1e-12)
        whole = Rotation.from_matrix(
            keyed_move(Authored(self.route, 0, 100, looks_at=tuple(target)), RATE).rotations[50]
        ).magnitude()
        half = Rotation.from_matrix(move.rotations[50]).magnitude()
        self.assertAlmostEqual(half, whole / 2, places=9)
        follows = Authored(self.route, 0, 100, looks_at=tuple(target), follows=True)
        far = np.linalg.norm(keyed_move(follows, RATE).positions - target, axis=1)
        np.testing.assert_allclose(far, 3.0, atol=1e-9)
        again = Authored.from_json(follows.to_json())
        self.assertEqual(again.to_json(), follows.to_json())
        self.assertEqual(follows.shifted(7).shifted(-7).to_json(), follows.to_json())

    def test_fewer_keys_keep_every_frame_within_the_tolerance(self):
        rig = play(films.rig_program(), RATE).poses()
        walk = [camera.world_from_camera for camera in films.truth("LT070")]
        counts = []
        for poses in (rig, np.array(walk)):
            move = move_of(poses[:, :3, 3], poses[:, :3, :3])
            for tolerance in (1.0, 0.1):
                drawn = thinned(move, GRID, RATE, tolerance)
                back = keyed_move(drawn, RATE)
                cameras = [
                    {n: path.at(n) for n in path.frames.tolist()}
                    for path in (move.on(GRID), back.on(GRID))
                ]
                # At the distance of the tolerance; what is nearer on the floor is off by more.
                far = [
                    np.linalg.norm(
                        ours.project(ours.position + 5 * ours.rays([[960, 540], [40, 40]]))
                        - cameras[1][n].project(
                            ours.position + 5 * ours.rays([[960, 540], [40, 40]])
                        ),
                        axis=1,
                    ).max()
                    for n, ours in cameras[0].items()
                ]
                self.assertLess(max(far), tolerance)
                self.assertLess(max(apart(*cameras).values()), 30 * tolerance)
                counts.append(len(drawn.curve("x").keys))
        self.assertLess(counts[0], 12)  # of 85
        self.assertEqual(counts[:2], sorted(counts[:2]))
        every = keys_from(move_of(rig[:, :3, 3], rig[:, :3, :3]), range(len(rig)))
        np.testing.assert_allclose(every["x"].at(np.arange(85.0)), rig[:, 0, 3], atol=1e-12)


class Readings(unittest.TestCase):
    def test_distances_are_trimeshs(self):
        random = np.random.default_rng(5)
        for mesh in (
            trimesh.creation.box((1, 2, 0.5)),
            trimesh.creation.icosphere(subdivisions=2, radius=0.8),
            trimesh.creation.cone(0.5, 1.5),
        ):
            points = random.uniform(-2, 2, (300, 3))
            _, theirs, _ = trimesh.proximity.closest_point_naive(mesh, points)
            far, inside = distances(points, mesh.triangles)
            np.testing.assert_allclose(far, theirs, atol=1e-9)
            np.testing.assert_array_equal(inside, mesh.contains(points))

    def test_speeds_and_rates_of_a_circle(self):
        angle = np.arange(100) / 24 * 0.5
        places = 4 * np.stack([np.sin(angle), 0 * angle, np.cos(angle)], axis=1)
        turns = Rotation.from_euler("y", angle[:, None]).as_matrix()
        found = readings(move_of(places, turns), RATE)
        middle = slice(2, -2)
        np.testing.assert_allclose(found.speed[middle], 2, rtol=1e-3)
        np.testing.assert_allclose(found.acceleration[middle], 1, rtol=1e-3)
        np.testing.assert_allclose(found.rates[middle, 0], np.degrees(0.5), rtol=1e-9)
        np.testing.assert_allclose(found.rates[middle, 1:], 0, atol=1e-9)


class Flights(unittest.TestCase):
    t = np.arange(1000) / 24

    def circle(self, speed, radius):
        angle = speed / radius * self.t
        return np.stack(
            [radius * np.cos(angle), np.full_like(angle, 3), radius * np.sin(angle)], axis=1
        )

    def test_the_bank_of_a_coordinated_turn(self):
        """tan φ = v² / (g r): FAA, Pilot's Handbook of Aeronautical Knowledge, chapter 5; from
        memory.
        """
        for _, aircraft in PRESETS.values():
            for speed, radius in ((4, 12), (7, 20)):
                flown = fly(move_of(self.circle(speed, radius)), aircraft, RATE)
                middle = slice(400, 600)
                at = flown.move.positions[middle]
                around = np.linalg.norm(at[:, [0, 2]], axis=1)
                expected = np.degrees(np.arctan(flown.speed[middle] ** 2 / (G * around)))
                np.testing.assert_allclose(np.abs(flown.bank[middle]), expected, atol=1)
                roll = np.degrees(
                    np.arctan2(
                        flown.move.rotations[middle, 1, 0], flown.move.rotations[middle, 1, 1]
                    )
                )
                np.testing.assert_allclose(roll, -flown.bank[middle], atol=0.5)
                self.assertAlmostEqual(around.mean(), radius, delta=0.1 * radius)

    def test_terminal_speed(self):
        """Thrust across and drag balance: v = √(m g tan θ / k)."""
        for _, aircraft in PRESETS.values():
            fast = np.stack([0 * self.t, 0 * self.t + 3, -200 * self.t], axis=1)
            flown = fly(move_of(fast), aircraft, RATE)
            expected = np.sqrt(
                aircraft.mass_kg * G * np.tan(np.radians(aircraft.tilt_deg)) / aircraft.drag
            )
            self.assertAlmostEqual(flown.speed[-1], expected, delta=1e-3 * expected)
            self.assertIn("top speed", flown.remarks[0][1])

    def test_what_trails_is_a_first_order_response(self):
        t = np.arange(0, 4, 1e-3)
        jump = trailing(np.where(t > 0, 1.0, 0.0), 0.5, 1e-3)
        np.testing.assert_allclose(jump, 1 - np.exp(-t / 0.5), atol=1e-9)
        ramp = trailing(3 * t, 0.25, 1e-3)
        np.testing.assert_allclose(3 * t[3000:] - ramp[3000:], 3 * 0.25, atol=3e-3)

    def test_a_corner_is_flown_as_an_aircraft_can(self):
        out = np.stack([np.zeros(120), np.full(120, 2.0), -0.4 * np.arange(120)], axis=1)
        turn = np.pi / 2 * np.arange(1, 40) / 40
        bend = out[-1] + 10 * np.stack([1 - np.cos(turn), 0 * turn, -np.sin(turn)], axis=1)
        back = bend[-1] + 0.4 * np.arange(1, 120)[:, None] * [1, 0, 0]
        move = move_of(np.concatenate([out, bend, back]))
        flown = fly(move, PRESETS["helicopter"][1], RATE)
        middle = slice(60, 220)
        slow = 60 + int(np.argmin(flown.speed[middle]))
        self.assertTrue(100 < slow < 180)
        self.assertLess(flown.speed[slow], 0.8 * flown.speed[80])
        # The camera leans before its picture turns.
        pan = np.unwrap(np.arctan2(flown.move.rotations[:, 0, 2], flown.move.rotations[:, 2, 2]))
        roll = np.arctan2(flown.move.rotations[:, 1, 0], flown.move.rotations[:, 1, 1])
        leans = int(np.argmax(np.abs(roll) > 0.3 * np.abs(roll).max()))
        turns = int(np.argmax(np.abs(np.gradient(pan)) > 0.3 * np.abs(np.gradient(pan)).max()))
        self.assertLess(leans, turns)
        # Speeding up from rest the nose is down.
        self.assertLess(flown.pitch[slow + 15], flown.pitch[slow - 15])
        rising = move_of(
            np.stack([0 * self.t, 2 + 2 * self.t, -3 * self.t], axis=1),
            np.tile(Rotation.from_euler("x", 20, degrees=True).as_matrix(), (1000, 1, 1)),
        )
        ahead = fly(rising, Aircraft(), RATE).move
        self.assertLess((-ahead.rotations[:, 1, 2]).max(), 1e-9)  # never up
        keyed = fly(rising, Aircraft(looks="keys"), RATE)
        self.assertIn("climbs with the nose up by 20°", keyed.remarks[0][1])
        for wrong in ({"thrust_n": 5}, {"tilt_deg": 95}, {"pan_lag": -1}, {"looks": "up"}):
            with self.assertRaises(Problem):
                Aircraft(**wrong)
        with self.assertRaisesRegex(Problem, "two frames"):
            fly(move_of(np.zeros((1, 3))), Aircraft(), RATE)
        still = fly(move_of(np.zeros((50, 3))), Aircraft(), RATE)
        np.testing.assert_allclose(still.move.positions, 0, atol=1e-9)
