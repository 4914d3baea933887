"""Panoramas: projections against py360convert, the match of one against the camera that made it,
seams."""

import math
from unittest import TestCase

import numpy as np
import py360convert
from hypothesis import given, settings
from hypothesis import strategies as st

from aperture.around.recombine import recombine
from aperture.around.views import cube
from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.geometry.rotation import rotation_from_angles
from aperture.lens.lens import Lens
from aperture.lens.projections import LAYOUTS, named
from aperture.lens.projections.pieces import BLOCK, CROSS, STRIP
from aperture.match.document import empty
from aperture.match.solve import solve
from aperture.path.solve import solve as solve_film
from aperture.render.passes import Wanted, render
from aperture.render.tracer import Look
from aperture.scene.overlay import horizon, polylines
from aperture.scene.stand_in import StandIn
from tests.moving import Scene

SIZE = (1024, 512)
GRID = Grid.from_gate(*SIZE, math.tau, math.pi)
AROUND = Lens(1.0, projection="equirectangular")
ANGLE = st.floats(-math.pi, math.pi)


def at(position=(0, 1.6, 0), pan=0.0, tilt=0.0, roll=0.0):
    return Camera.at(GRID, AROUND, position, pan, tilt, roll)


class Projections(TestCase):
    def test_views_are_py360convert_s(self):
        """Which places of the panorama an ordinary view shows, by its `e2p` of a panorama that
        holds its own coordinates."""
        width, height = SIZE
        across, down = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)
        # Longitude as two numbers that go on at the seam.
        turn = math.tau * across / width
        coded = np.stack([np.cos(turn), np.sin(turn), down], -1)
        for u, v, fov in ((0, 0, 80), (130, -25, 60), (-170, 40, 95)):
            theirs = py360convert.e2p(coded, (fov, fov), u, v, (160, 160), mode="bilinear")
            grid = Grid.from_gate(160, 160, 2.0, 2.0)
            lens = Lens(1 / math.tan(math.radians(fov / 2)))
            view = Camera.at(grid, lens, (0, 0, 0), -math.radians(u), math.radians(v))
            x, y = np.meshgrid(np.arange(20, 140, 7) + 0.5, np.arange(20, 140, 7) + 0.5)
            pixels = np.stack([x.ravel(), y.ravel()], -1)
            ours = at((0, 0, 0)).project_directions(view.rays(pixels))
            seen = theirs[(pixels[:, 1] - 0.5).astype(int), (pixels[:, 0] - 0.5).astype(int)]
            longitude = np.arctan2(seen[:, 1], seen[:, 0]) / math.tau * width % width
            apart = (ours[:, 0] - longitude + width / 2) % width - width / 2
            # Their view's pixels lie on a raster from edge to edge, half a pixel off at its
            # borders.
            self.assertLess(np.abs(apart).max(), 2.0)
            self.assertLess(np.abs(ours[:, 1] - seen[:, 2]).max(), 2.0)
            scale = 1 - 1 / 160
            edge_to_edge = (pixels - 80) / scale + 80
            ours = at((0, 0, 0)).project_directions(view.rays(edge_to_edge))
            apart = (ours[:, 0] - longitude + width / 2) % width - width / 2
            away = np.abs(seen[:, 2] - height / 2) < 0.35 * height
            self.assertLess(np.abs(apart)[away].max(), 0.02)
            self.assertLess(np.abs(ours[:, 1] - seen[:, 2])[away].max(), 0.02)

    @settings(max_examples=80, deadline=None)
    @given(ANGLE, st.floats(-1.5, 1.5), st.sampled_from(["equirectangular", "cylindrical"]))
    def test_there_and_back(self, longitude, latitude, name):
        ray = np.array(
            [
                [
                    math.cos(latitude) * math.sin(longitude),
                    math.sin(latitude),
                    -math.cos(latitude) * math.cos(longitude),
                ]
            ]
        )
        one = named(name)
        q = one.project(ray)
        wanted = -latitude if name == "equirectangular" else -math.tan(latitude)
        self.assertAlmostEqual(float(q[0, 1]), wanted, places=8)
        back = one.rays(q)[0]
        np.testing.assert_allclose(back / np.linalg.norm(back), ray[0], atol=1e-9)
        # A whole turn farther is the same place.
        np.testing.assert_allclose(one.rays(q + [math.tau, 0]), one.rays(q), atol=1e-9)

    def test_angles_of_view(self):
        view = at(pan=0.4, tilt=0.2).view
        self.assertAlmostEqual(view.horizontal, math.tau)
        self.assertAlmostEqual(view.vertical, math.pi)
        half = Camera.at(Grid.from_gate(512, 256, math.pi, 1.0), AROUND, (0, 0, 0)).view
        self.assertAlmostEqual(half.horizontal, math.pi)
        self.assertAlmostEqual(half.vertical, 1.0)


class Layouts(TestCase):
    def test_faces_are_py360convert_s(self):
        """A smooth panorama cut by its `e2c` into a cross (“dice”) and faces: what each of our
        pixels looks at is what it shows."""
        height, width, side = 256, 512, 64
        x, y = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)
        turn, up = math.tau * (x / width - 0.5), math.pi * (0.5 - y / height)
        # The picture is the direction itself.
        shown = np.stack([np.cos(up) * np.sin(turn), np.sin(up), -np.cos(up) * np.cos(turn)], -1)
        dice = py360convert.e2c(shown, side, mode="bilinear", cube_format="dice")
        faces = py360convert.e2c(shown, side, mode="bilinear", cube_format="dict")
        names = {"front": "F", "right": "R", "back": "B", "left": "L", "up": "U", "down": "D"}
        for layout in (CROSS, STRIP, BLOCK):
            grid = Grid.from_gate(layout.columns * side, layout.rows * side, *layout.size)
            camera = Camera.at(grid, Lens(1.0, projection=layout), (0, 0, 0))
            for way, column, row in layout.cells:
                # Away from its border: their rasters reach from edge to edge, half a pixel off
                # there.
                at = np.stack(np.meshgrid(np.arange(8, 56, 4), np.arange(8, 56, 4)), -1).reshape(
                    -1, 2
                )
                inside = (at + 0.5 - side / 2) * (side / (side - 1)) + side / 2
                rays = camera.rays(inside + [column * side, row * side])
                theirs = faces[names[way]][at[:, 1], at[:, 0]]
                if layout is CROSS:
                    whole = dice[row * side + at[:, 1], column * side + at[:, 0]]
                    np.testing.assert_array_equal(whole, theirs)
                theirs = theirs / np.linalg.norm(theirs, axis=1, keepdims=True)
                # Within 0.02 px of the panorama: a px is 0.0123 radians.
                self.assertLess(
                    np.abs(np.cross(theirs, rays)).max(), 0.02 * 0.0123, (layout.name, way)
                )

    @settings(max_examples=80, deadline=None)
    @given(ANGLE, st.floats(-1.5, 1.5), st.sampled_from([one.name for one in LAYOUTS]))
    def test_there_and_back(self, longitude, latitude, name):
        """And both derivatives by central differences, away from the pieces' borders."""
        c = math.cos(latitude)
        ray = np.array([[c * math.sin(longitude), math.sin(latitude), -c * math.cos(longitude)]])
        one = named(name)
        q, by_point = one.project(ray, derivatives=True)
        back = one.rays(q)
        np.testing.assert_allclose(back / np.linalg.norm(back), ray, atol=1e-9)
        step = 1e-6
        near = [one.project(ray + step * np.eye(3)[k]) for k in range(3)]
        far = [one.project(ray - step * np.eye(3)[k]) for k in range(3)]
        if all(one.which(place) == one.which(q) for place in (*near, *far)):
            for k in range(3):
                np.testing.assert_allclose(
                    by_point[0, :, k], (near[k] - far[k])[0] / 2 / step, atol=1e-5
                )
        slopes = one.ray_jacobian(q)[0]
        for k in range(2):
            aside = step * np.eye(2)[k]
            if one.which(q + aside) == one.which(q - aside) == one.which(q):
                wanted = (one.rays(q + aside) - one.rays(q - aside))[0] / 2 / step
                if np.isfinite(wanted).all():
                    np.testing.assert_allclose(slopes[:, k], wanted, atol=1e-5)

    def test_lines_are_parted_where_the_picture_does_not_go_on(self):
        grid = Grid.from_gate(768, 512, *BLOCK.size)
        camera = Camera.at(grid, Lens(1.0, projection=BLOCK), (0, 1.6, 0), 0.2, 0.1)
        ends = np.random.default_rng(5).uniform(-5, 5, (40, 3))
        for piece in polylines(camera, ends[:20], ends[20:]):
            q = grid.to_mm(piece)
            self.assertTrue(BLOCK.together(q).all())
            self.assertLess(np.abs(np.diff(piece, axis=0)).max(), 80)

    def test_a_render_and_views_joined_into_pieces(self):
        """What is rendered as a cross is what six views joined into one show."""
        grid = Grid.from_gate(256, 192, *CROSS.size)
        camera = Camera.at(grid, Lens(1.0, projection=CROSS), (0, 1.6, 0), 0.2, 0.1)
        things = [
            (StandIn((1, 1, 1), (2 * math.sin(turn), 1, -2 * math.cos(turn))), Look(f"{turn}"))
            for turn in (0.1, 1.4, 2.9, 4.6)
        ]
        direct = render(camera, things, Wanted(("depth",), samples=3))
        cameras = [view.camera(camera) for view in cube(128, 3)]
        views = [render(one, things, Wanted(samples=3)).rgba for one in cameras]
        joined = recombine(views, cameras, camera)
        off = np.abs(joined - direct.rgba).max(axis=2)
        self.assertGreater(float((off < 0.02).mean()), 0.97)
        self.assertEqual(float(joined[:60, :60].max()), 0.0)  # the corners of a cross are empty


class Drawn(TestCase):
    @settings(max_examples=60, deadline=None)
    @given(ANGLE, st.floats(-0.5, 0.5), st.floats(-0.3, 0.3), st.integers(0, 10_000))
    def test_lines_stop_at_the_seam_and_go_on_at_the_other_side(self, pan, tilt, roll, seed):
        camera = at(pan=pan, tilt=tilt, roll=roll)
        ends = np.random.default_rng(seed).uniform(-4, 4, (6, 3))
        for piece in polylines(camera, ends[:3], ends[3:]) + horizon(camera):
            self.assertGreaterEqual(piece[:, 0].min(), -1e-6)
            self.assertLessEqual(piece[:, 0].max(), SIZE[0] + 1e-6)
            self.assertLess(np.abs(np.diff(piece[:, 0])).max(), SIZE[0] / 2)

    def test_a_render_meets_its_outline_across_the_seam(self):
        """A box behind the camera is whole at both borders: what is covered is what its corners
        span."""
        camera = at()
        box = StandIn((1, 1, 1), (0, 1.1, 3))
        alpha = render(camera, [(box, Look("box"))], Wanted(samples=2)).rgba[..., 3]
        columns = np.flatnonzero(alpha.max(axis=0) > 0.5)
        nearest = math.atan2(0.5, 2.5)
        wanted = 2 * nearest / math.tau * SIZE[0]
        self.assertLess(abs(len(columns) - wanted), 2)
        self.assertEqual((columns.min(), columns.max()), (0, SIZE[0] - 1))
        self.assertLess(alpha[:, SIZE[0] // 2].max(), 0.5)


EDGES = (
    ("across", (-2, 0, -3), (3, 0, -3)),
    ("across", (-2, 2.4, -3), (3, 2.4, -3)),
    ("across", (-1, 0, 3), (3, 0, 3)),
    ("up", (-2, 0, -3), (-2, 2.4, -3)),
    ("up", (3, 0, -3), (3, 2.4, -3)),
    ("up", (3, 0, 3), (3, 2.4, 3)),
    ("along", (-2, 0, -3), (-2, 0, 1.0)),
    ("along", (3, 2.4, -3), (3, 2.4, 1.0)),
    ("along", (3, 0, -3), (3, 0, 3)),
)
SPOTS = {"s1": (0.0, 0.0, 0.0), "s2": (0.0, 2.0, 0.0), "s3": (2.0, 0.5, -2.5)}


def document(camera, random, noise=0.3):
    """What an artist draws on a panorama: edges that don't cross its border, and spots, two of them
    2 m apart."""
    data = empty(*SIZE) | {"gate": {"width_mm": math.tau, "height_mm": math.pi}}
    data["lens"] = {
        "focal_mm": {"value": 1.0, "plus_minus": 1e-6},
        "projection": "equirectangular",
    }
    marks = []
    for number, (axis, start, end) in enumerate(EDGES):
        along = np.linspace(0, 1, 8)[:, None]
        points = camera.project(np.array(start) + along * (np.array(end) - np.array(start)))
        if np.abs(np.diff(points[:, 0])).max() > SIZE[0] / 2:
            continue
        points = points + random.normal(size=points.shape) * noise
        marks.append(
            {
                "id": f"e{number}",
                "kind": "edge",
                "axis": axis,
                "points": points.tolist(),
                "sigma_px": noise,
            }
        )
    for name, world in SPOTS.items():
        seen = camera.project(np.array([world]))[0] + random.normal(size=2) * noise
        mark = {"id": name, "kind": "spot", "at": seen.tolist(), "sigma_px": noise}
        if name == "s1":
            mark["world"] = list(world)
        marks.append(mark)
    data["marks"] = marks
    fact = {"id": "f1", "kind": "length", "from": "s1", "to": "s2", "along": "up"}
    data["facts"] = [fact | {"metres": 2.0, "plus_minus": 0.001}]
    return data


class Matched(TestCase):
    def test_direction_height_and_place_with_their_plus_minus(self):
        """Simulated panoramas: errors over their own ±, of turn and place, are 1 in the mean square
        (0.9 to 1.1)."""
        random, squares, heights = np.random.default_rng(18), [], []
        for _ in range(200):
            pan, tilt, roll = random.uniform(-0.6, 0.6), *random.uniform(-0.15, 0.15, 2)
            place = np.array([1.5, 1.7, 2.2]) + random.uniform(-0.4, 0.4, 3)
            camera = at(place, pan, tilt, roll)
            fit = solve(document(camera, random)).document
            self.assertTrue(fit["ok"])
            self.assertEqual(fit["determined"]["position"], "solved")
            found, wide = fit["camera"], fit["plus_minus"]
            pose = np.array(found["world_from_camera"])
            np.testing.assert_allclose(
                pose[:3, :3], rotation_from_angles(pan, tilt, roll), atol=0.03
            )
            for key, true in (("tilt_deg", tilt), ("roll_deg", roll), ("pan_deg", pan)):
                squares.append(((found[key] - math.degrees(true)) / wide[key]) ** 2)
            errors = (np.array(found["position_m"]) - place) / np.array(wide["position_m"])
            squares += (errors**2).tolist()
            heights.append(abs(errors[1]))
        self.assertTrue(0.9 < math.sqrt(np.mean(squares)) < 1.1, math.sqrt(np.mean(squares)))
        self.assertGreater(np.mean(np.array(heights) < 2), 0.85)


def moving(seed, frames=24, count=120):
    """A camera that goes three metres through a room of points, all around; tracks end at the
    seam."""
    rng, share = np.random.default_rng(seed), np.linspace(0, 1, frames)
    places = np.stack([0.15 * np.sin(5 * share), 1.6 + 0.05 * np.sin(7 * share), -3 * share], -1)
    turns = np.stack([np.sin(3 * share), 0.3 * np.sin(5 * share), 0.2 * np.cos(4 * share)], -1) / 10
    turn, away = rng.uniform(0, math.tau, count), rng.uniform(3, 9, count)
    points = np.stack(
        [away * np.sin(turn), rng.uniform(0, 4, count), -1.5 - away * np.cos(turn)], -1
    )
    cameras = [at(place, *angles) for place, angles in zip(places, turns)]
    seen = np.array([camera.project(points) for camera in cameras])
    for track in range(count):
        jumps = np.flatnonzero(np.abs(np.diff(seen[:, track, 0])) > SIZE[0] / 2)
        if len(jumps):
            seen[jumps[0] + 1 :, track] = np.nan
    return Scene(cameras, points, seen)


def film_document(made, seed, noise=0.2):
    """Its tracks with noise; of five the place is known to 5 mm."""
    rng = np.random.default_rng([seed, 1])
    seen = made.seen + rng.normal(0, noise, made.seen.shape)
    tracks = []
    for index in range(seen.shape[1]):
        rows = np.flatnonzero(np.isfinite(seen[:, index, 0]))
        if len(rows) < 3:
            continue
        places = [[1001 + int(row), *seen[row, index].tolist()] for row in rows]
        tracks.append({"id": f"t{index}", "sigma_px": noise, "observations": places})
        if len(tracks) <= 5 and len(rows) > 20:
            world = made.points[index] + rng.normal(0, 0.005, 3)
            tracks[-1] |= {"world": world.tolist(), "world_plus_minus": 0.005}
    document = empty(*SIZE) | {"version": 2, "tracks": tracks, "facts": [], "marks": []}
    return document | {
        "gate": {"width_mm": math.tau, "height_mm": math.pi},
        "frames": {"first": 1001, "last": 1000 + len(made.cameras), "rate": "24/1"},
        "lens": {
            "focal_mm": {"value": 1.0, "plus_minus": 1e-6},
            "projection": "equirectangular",
        },
    }


def path_sigmas(repetitions):
    """Errors over their own ± of places (N, 3) and of pan, tilt and roll (N, 3), of simulated
    films."""
    places, turns = [], []
    for seed in range(repetitions):
        made = moving(seed)
        fit = solve_film(film_document(made, seed)).document
        path = fit["path"]
        off = np.array(path["position_m"]) - made.positions
        places.append(off / np.array(path["position_plus_minus_m"]))
        found = np.stack([path[f"{name}_deg"] for name in ("pan", "tilt", "roll")], -1)
        true = np.degrees([camera.angles for camera in made.cameras])
        turns.append((found - true) / np.array(path["direction_plus_minus_deg"]))
    return np.concatenate(places), np.concatenate(turns)


class Filmed(TestCase):
    def test_a_path_of_all_around_with_its_plus_minus(self):
        """Points before and behind the camera; fifty repetitions are in `python -m
        bench.around`."""
        made = moving(1)
        fit = solve_film(film_document(made, 1)).document
        self.assertTrue(fit["ok"], fit)
        self.assertLess(np.abs(np.array(fit["path"]["position_m"]) - made.positions).max(), 0.02)
        numbers = [int(name[1:]) for name in fit["points"]]
        behind = made.points[numbers, 2] > 0.5
        self.assertGreater(behind.sum(), 20)
        off = np.array([one["world_m"] for one in fit["points"].values()]) - made.points[numbers]
        self.assertLess(float(np.median(np.linalg.norm(off[behind], axis=1))), 0.05)
        places, turns = path_sigmas(8)
        for sigmas in (places, turns):
            self.assertTrue(0.75 < float(np.sqrt((sigmas**2).mean())) < 1.3)
        refused = film_document(made, 1)
        refused["lens"]["projection"] = "cube cross"
        self.assertIn("laid out as a cube cross", str(solve_film(refused).document))
