"""The equations of a path's facts: their derivatives against differences."""

from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase

from aperture.path.document import read
from aperture.path.gathered import gather
from aperture.path.problem import State, exponentials
from tests.moving import FIRST, document, scene


class Equations(SimpleTestCase):
    """Every kind of fact against differences."""

    def test_derivatives(self):
        made = scene("sideways", frames=10, count=40)
        told = document(made, known=4)
        told["planes"] = [{"id": "bench", "axis": "up", "metres": None}]
        told["tracks"][5]["on"] = told["tracks"][6]["on"] = "bench"
        edge = made.cameras[2].project([[-1, 0.5, -6], [-1, 2.5, -6], [-1, 3.0, -6]]).tolist()
        bow = made.cameras[2].project([[-2, 3, -7], [0, 3.1, -7], [2, 3.2, -7]]).tolist()
        spots = made.cameras[1].project([[0, 0, -6], [0, 2, -6]]).tolist()
        told["marks"] = [
            {"id": "e", "kind": "edge", "axis": "up", "frame": FIRST + 2, "points": edge},
            {"id": "b", "kind": "bow", "frame": FIRST + 2, "points": bow},
            {"id": "s", "kind": "spot", "frame": FIRST + 1, "at": spots[0], "world": [0, 0, -6]},
            {"id": "u", "kind": "spot", "frame": FIRST + 1, "at": spots[1]},
        ]
        known = {"plus_minus": 0.1}
        told["facts"] = [
            {"id": "1", "kind": "length", "from": "t1", "to": "t2", "metres": 2, **known},
            {
                "id": "2",
                "kind": "length",
                "from": "t1",
                "to": "t3",
                "metres": 2,
                "along": "across",
                **known,
            },
            {
                "id": "3",
                "kind": "length",
                "from": "s",
                "to": "u",
                "metres": 2,
                "along": "up",
                **known,
            },
            {"id": "4", "kind": "camera_height", "metres": 1.5, **known},
            {
                "id": "5",
                "kind": "camera_position",
                "frame": FIRST + 3,
                "metres": [1, None, 2],
                **known,
            },
            {
                "id": "6",
                "kind": "camera_angle",
                "of": "tilt",
                "frame": FIRST,
                "degrees": 3,
                **known,
            },
            {"id": "7", "kind": "angle_of_view", "basis": "diagonal", "degrees": 70, **known},
            {"id": "8", "kind": "focal_range", "from_mm": 24, "to_mm": 70, **known},
        ]
        evidence = read(told)
        placed = evidence.tracks.lengths() > 1
        planes = {"bench": (1, ["t5", "t6"])}
        facts = gather(evidence, np.ones(10, bool), placed, planes)
        kinds = {type(equation).__name__ for equation in facts.equations}
        self.assertEqual(len(kinds), 9)
        rng = np.random.default_rng(3)
        state = State(
            np.array([c.rotation for c in made.cameras])
            @ exponentials(rng.normal(0, 0.01, (10, 3))),
            made.positions,
            np.zeros(10),
            made.cameras[0].lens.parameters,
            made.points + 0.01,
        )
        extra = facts.begin(state, evidence.lens)
        state = replace(state, extra=extra + rng.normal(0, 1e-3, len(extra)))
        rows = facts.rows(state)
        for index in range(facts.extra_count):
            self._compare(
                facts, state, rows, index, "extra", lambda r, i: dict(r.extra).get(i, 0.0)
            )
        for index in np.flatnonzero(evidence.free_lens):
            self._compare(
                facts,
                state,
                rows,
                index,
                "lens",
                lambda r, i: 0 if r.by_lens is None else r.by_lens[i],
            )
        for camera in range(10):
            for axis in range(6):
                self._compare_camera(facts, state, rows, camera, axis)
        for point, axis in ((1, 0), (2, 2), (5, 1)):
            moved = [state.points.copy(), state.points.copy()]
            moved[0][point, axis] += 1e-6
            moved[1][point, axis] -= 1e-6
            slopes = self._differences(facts, *(replace(state, points=m) for m in moved))
            for row, slope in zip(rows, slopes):
                own = [row.by_points[n][axis] for n, p in enumerate(row.points) if p == point]
                self.assertAlmostEqual(slope, sum(own), delta=1e-3 + 1e-4 * abs(slope))

    def _differences(self, facts, after, before):
        pairs = zip(facts.rows(after), facts.rows(before))
        return [(a.residual - b.residual) / 2e-6 for a, b in pairs]

    def _compare(self, facts, state, rows, index, part, slope_of):
        step = 1e-6 * np.eye(len(getattr(state, part)))[index]
        value = getattr(state, part)
        after, before = (replace(state, **{part: value + sign * step}) for sign in (1, -1))
        for row, slope in zip(rows, self._differences(facts, after, before)):
            wanted = slope_of(row, index)
            self.assertAlmostEqual(slope, wanted, delta=1e-2 + 1e-4 * abs(wanted), msg=part)

    def _compare_camera(self, facts, state, rows, camera, axis):
        turned = []
        for sign in (1, -1):
            w = np.zeros((10, 6))
            w[camera, axis] = sign * 1e-6
            turned.append(
                replace(
                    state,
                    rotations=state.rotations @ exponentials(w[:, :3]),
                    positions=state.positions + w[:, 3:],
                )
            )
        for row, slope in zip(rows, self._differences(facts, *turned)):
            wanted = row.by_camera[axis] if row.camera == camera else 0.0
            self.assertAlmostEqual(slope, wanted, delta=1e-2 + 1e-4 * abs(wanted))
