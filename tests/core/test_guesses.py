"""First guesses and the way from them: exact evidence gives the exact camera, from every kind of
beginning."""

from unittest import TestCase

import numpy as np
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match.document import read
from aperture.match.initial import bend_of_lines, candidates
from aperture.match.initial_position import with_position
from aperture.match.solve import solve
from aperture.match.system import System
from bench.mixed import Scene
from tests.core.test_match import CORNER, HEIGHT, ORIGIN, document

GRID = Grid.from_gate(1920, 1080, 36, 20.25)
EDGES = (
    ("across", (-1, 0, 0), (2, 0, 0)),
    ("across", (-1, 2.4, 0), (2, 2.4, 0)),
    ("along", (-1, 0, 0), (-1, 0, 2)),
    ("along", (2, 0, 0), (2, 0, 1.5)),
    ("up", (-1, 0, 0), (-1, 2.4, 0)),
    ("up", (2, 0.2, 0), (2, 2.4, 0)),
)


def seen(camera, points):
    return camera.project(np.array(points, float)).tolist()


def edges_of(camera, points=2):
    share = np.linspace(0, 1, points)[:, None]
    return [
        {
            "id": f"e{i}",
            "kind": "edge",
            "axis": axis,
            "points": seen(camera, np.array(a) * (1 - share) + np.array(b) * share),
        }
        for i, (axis, a, b) in enumerate(EDGES)
    ]


def spot(camera, id_, at, **more):
    return {"id": id_, "kind": "spot", "at": seen(camera, [at])[0]} | more


class Guesses(TestCase):
    def test_each_group_begins_with_a_lens_of_its_own(self):
        system = System(read(document([*CORNER, ORIGIN], [HEIGHT])))
        focals = [
            {round(state.lens.focal_mm, 3) for state in group} for group in candidates(system)
        ]
        self.assertGreater(len(focals), 1)
        self.assertTrue(
            all(len(group) == 1 for group in focals)
        )  # within a group only the facing differs
        self.assertEqual(len(set.union(*focals)), len(focals))

    def test_a_long_lens_that_bends_is_seen_through(self):
        """Its edges hardly converge, and its bend moves them by more than that; known before
        anything else, the bend leads to the lens."""
        for seed in (2, 3, 4):
            rng = np.random.default_rng(seed)
            corner = np.hypot(18, 12) / 80
            camera = Camera.at(
                Grid.from_gate(3000, 2000, 36, 24),
                Lens(80.0, coefficients=(-0.09 / corner**2, -0.01 / corner**4, 0.0, 0.0, 0.0)),
                [6.0, 1.5, 6.0],
                *np.radians([43, -8, 1]),
            )
            scene = Scene(rng, camera, 8.0, "bent more")
            for index in range(9):
                scene.marks.append(
                    {
                        "id": f"e{index}",
                        "kind": "edge",
                        "axis": ("across", "up", "along")[index % 3],
                        "sigma_px": 0.3,
                        "points": scene.drawn(scene.line(index % 3, 4), 0.3),
                    }
                )
            data = document(scene.marks, distortion={"free": ["k1", "k2"]}) | {
                "image": {"width": 3000, "height": 2000},
                "gate": {"width_mm": 36, "height_mm": 24},
            }
            system = System(read(data))
            self.assertAlmostEqual(bend_of_lines(system), -0.09, delta=0.03)
            found = solve(data).document
            self.assertLess(
                abs(found["camera"]["focal_mm"] - 80), 5 * found["plus_minus"]["focal_mm"]
            )

    @settings(max_examples=25)
    @given(
        st.floats(18, 70), st.floats(-55, 55), st.floats(-12, 12), st.floats(-4, 4), st.floats(4, 9)
    )
    def test_exact_marks_give_the_exact_camera(self, focal, pan, tilt, roll, far):
        turn = np.radians([pan if abs(pan) > 8 else 8, tilt if abs(tilt) > 2 else 2, roll])
        aim = Camera.at(GRID, Lens(focal), (0, 0, 0), *turn).rays([[960, 540]])[0]
        camera = Camera.at(GRID, Lens(focal), np.array([0.5, 1.2, 0.3]) - aim * far, *turn)
        marks = edges_of(camera)
        assume(all(np.isfinite(mark["points"]).all() for mark in marks))
        marks += [spot(camera, "o", (0, 0, 0), world=[0, 0, 0]), spot(camera, "t", (0, 1, 0))]
        length = {
            "id": "l",
            "kind": "length",
            "from": "o",
            "to": "t",
            "along": "up",
            "metres": 1,
            "plus_minus": 0.001,
        }
        fit = solve(document(marks, [length])).document
        self.assertTrue(fit["ok"], fit.get("problem"))
        self.assertAlmostEqual(fit["camera"]["focal_mm"], focal, delta=1e-4 * focal)
        np.testing.assert_allclose(fit["camera"]["position_m"], camera.position, atol=1e-3)

    def test_positions_from_whatever_tells_the_size(self):
        """Direction and lens known, the linear guess is exact already: by a length along an axis, a
        straight length, a height, two places."""
        camera = Camera.at(GRID, Lens(30), (2.2, 1.5, 5.0), *np.radians([22, -4, 1]))
        floor, half = (
            spot(camera, "a", (-0.5, 0, 1.0), world=[None, 0, None]),
            spot(camera, "b", (1.5, 0.8, 0.5), world=[1.5, 0.8, None]),
        )
        origin, top = spot(camera, "o", (0, 0, 0), world=[0, 0, 0]), spot(camera, "t", (0, 1.8, 0))
        apart = float(np.linalg.norm(np.array([-0.5, 0, 1.0])))
        for marks, facts in (
            (
                [origin, top],
                [
                    {
                        "id": "l",
                        "kind": "length",
                        "from": "o",
                        "to": "t",
                        "along": "up",
                        "metres": 1.8,
                        "plus_minus": 0.01,
                    }
                ],
            ),
            (
                [origin, top],
                [
                    {
                        "id": "l",
                        "kind": "length",
                        "from": "t",
                        "to": "o",
                        "along": "up",
                        "metres": 1.8,
                        "plus_minus": 0.01,
                    }
                ],
            ),
            (
                [origin, floor],
                [
                    {
                        "id": "l",
                        "kind": "length",
                        "from": "o",
                        "to": "a",
                        "metres": apart,
                        "plus_minus": 0.01,
                    }
                ],
            ),
            ([origin], [{"id": "h", "kind": "camera_height", "metres": 1.5, "plus_minus": 0.01}]),
            ([origin, half], []),
            (
                [
                    spot(camera, "v", (1, 1, 0), world=[1, 1, 0], world_plus_minus=0.01),
                    origin,
                    floor,
                ],
                [],
            ),
        ):
            system = System(read(document([*edges_of(camera), *marks], facts)))
            state = with_position(system, camera.rotation, Lens(30))
            np.testing.assert_allclose(
                state.position,
                camera.position,
                atol=1e-5,
                err_msg=str([mark["id"] for mark in marks] + facts),
            )

    def test_an_open_size_still_puts_every_spot_in_front(self):
        camera = Camera.at(GRID, Lens(30), (2.2, 1.5, 5.0), *np.radians([22, -4, 1]))
        marks = [
            spot(camera, "o", (0, 0, 0), world=[0, 0, 0]),
            spot(camera, "b", (1.5, 0.8, 0.5), world=[1.5, None, None]),
        ]
        system = System(read(document([*edges_of(camera), *marks])))
        state = with_position(system, camera.rotation, Lens(30))
        self.assertTrue(
            (((system.points(state) - state.position) @ state.rotation)[:, 2] < 0).all()
        )

    def test_a_strongly_bent_lens_is_found_by_stages(self):
        for k, centre in (
            ((-0.25, 0.05, 0, 0, 0), "centre"),
            ((0.12, 0, 0, 0, 0), "centre"),
            ((0, 0, 0, 0, 0), "free"),
        ):
            shift = (1.5, -0.8) if centre == "free" else (0.0, 0.0)
            camera = Camera.at(
                GRID,
                Lens(26, centre_mm=shift, coefficients=k),
                (2.4, 1.5, 4.6),
                *np.radians([24, -5, 1]),
            )
            bows = (
                [
                    {
                        "id": f"b{i}",
                        "kind": "bow",
                        "points": seen(camera, [(x, y, z) for x in np.linspace(-1.0, 1.8, 8)]),
                    }
                    for i, (y, z) in enumerate(((2.4, 0.4), (0.0, 0.9), (1.2, 0.0)))
                ]
                if any(k)
                else []
            )
            marks = [*edges_of(camera, 5), *bows, spot(camera, "o", (0, 0, 0), world=[0, 0, 0])]
            lens = {
                "principal_point": centre,
                "distortion": {"free": ["k1", "k2"]} if any(k) else "none",
            }
            fit = solve(
                document(
                    marks,
                    [{"id": "h", "kind": "camera_height", "metres": 1.5, "plus_minus": 0.01}],
                    **lens,
                )
            ).document
            self.assertAlmostEqual(fit["camera"]["focal_mm"], 26, delta=0.02, msg=k)
            self.assertAlmostEqual(fit["camera"]["distortion"]["k1"], k[0], delta=2e-3)
            np.testing.assert_allclose(
                fit["camera"]["principal_point_px"], GRID.to_px([shift])[0], atol=0.5
            )


class TwoAnswers(TestCase):
    def test_a_length_that_can_be_met_in_two_ways_is_said(self):
        """A spot known by a length from the origin alone may stand before it or behind it along its
        ray: where both fit, both are told of."""
        camera = Camera.at(GRID, Lens(30), (2.2, 1.5, 5.0), *np.radians([22, -4, 1]))
        ray = camera.rays([[700, 640]])[0]
        along = -camera.position @ ray
        foot = camera.position + along * ray  # nearest to the origin
        point = foot + 0.6 * ray
        length = float(np.linalg.norm(point))
        other = foot - 0.6 * ray
        self.assertAlmostEqual(float(np.linalg.norm(other)), length)
        marks = [
            *edges_of(camera),
            spot(camera, "o", (0, 0, 0), world=[0, 0, 0]),
            {"id": "p", "kind": "spot", "at": [700, 640]},
        ]
        fit = solve(
            document(
                marks,
                [
                    {
                        "id": "l",
                        "kind": "length",
                        "from": "o",
                        "to": "p",
                        "metres": length,
                        "plus_minus": 0.001,
                    },
                    {"id": "h", "kind": "camera_height", "metres": 1.5, "plus_minus": 0.001},
                ],
            )
        ).document
        # Either place of the spot goes with the same camera: nothing of the camera is in doubt.
        np.testing.assert_allclose(fit["camera"]["position_m"], camera.position, atol=5e-3)
        self.assertLess(
            min(
                np.linalg.norm(np.array(fit["spots"]["p"]["world_m"]) - place)
                for place in (point, other)
            ),
            0.02,
        )
