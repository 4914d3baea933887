"""Grids and what follows from them."""

import math
from unittest import TestCase

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from aperture.errors import Problem
from aperture.geometry.angles import equivalent_focal, focal_for, view_of
from aperture.geometry.grid import Grid

STEPS = st.lists(
    st.one_of(
        st.tuples(
            st.just("window"),
            st.floats(-50, 50),
            st.floats(-50, 50),
            st.integers(10, 500),
            st.integers(10, 500),
        ),
        st.tuples(st.just("resize"), st.integers(10, 500), st.integers(10, 500)),
        st.tuples(
            st.just("overscan"),
            st.integers(0, 40),
            st.integers(0, 40),
            st.integers(0, 40),
            st.integers(0, 40),
        ),
        st.tuples(st.just("turn"), st.integers(0, 3)),
        st.tuples(st.just("flip")),
        st.tuples(st.just("desqueeze"), st.sampled_from([1.25, 1.5, 2])),
    ),
    max_size=6,
)


class Grids(TestCase):
    @given(STEPS)
    def test_maps_compose_and_invert(self, steps):
        grid = Grid.from_gate(400, 300, 24.0, 18.0)
        for name, *arguments in steps:
            grid = getattr(grid, name)(*arguments)
        points = np.array([[0.0, 0.0], [grid.width, grid.height], [17.3, 4.1]])
        np.testing.assert_allclose(
            grid.to_px(grid.to_mm(points)), points, atol=1e-9 * max(grid.width, grid.height)
        )

    def test_each_operation_moves_a_pixel_where_it_should(self):
        grid = Grid.from_gate(400, 300, 24.0, 18.0)
        at = grid.to_mm([[100.0, 50.0]])
        for changed, wanted in (
            (grid.window(20, 10, 200, 200), (80, 40)),
            (grid.resize(800, 300), (200, 50)),
            (grid.turn(1), (250, 100)),
            (grid.turn(2), (300, 250)),
            (grid.turn(3), (50, 300)),
            (grid.flip(), (300, 50)),
            (grid.overscan(7, 9, 5, 3), (107, 55)),
        ):
            np.testing.assert_allclose(changed.to_px(at)[0], wanted, atol=1e-9)
        over = grid.overscan(40, 40, 30, 30)
        np.testing.assert_allclose(over.gate_mm, (28.8, 21.6))
        np.testing.assert_allclose(over.mm_per_px, grid.mm_per_px)

    def test_sizes_that_cannot_be(self):
        for arguments in (
            (0, 10, 1, 1),
            (10, 10, 0, 1),
            (10, 10, -2, 1),
            (10, 10, math.nan, 1),
            (10, 10, math.inf, 1),
        ):
            with self.assertRaises(Problem):
                Grid.from_gate(*arguments)

    def test_squeeze_widens_only_across(self):
        # Common practice, no source: 50 mm with squeeze 2 is as wide as 25 mm and as tall as 50 mm.
        scope, wide, tall = view_of((22, 18), 50, 2.0), view_of((22, 18), 25), view_of((22, 18), 50)
        self.assertAlmostEqual(scope.horizontal, wide.horizontal)
        self.assertAlmostEqual(scope.vertical, tall.vertical)
        self.assertAlmostEqual(focal_for(scope.vertical, 18), 50)
        self.assertAlmostEqual(equivalent_focal((18, 12), 25)["width"], 50)
