"""Aids for the eye and the catalogue's rules: things of known size stand where they should, wrong
entries are told."""

import copy
import re
from unittest import TestCase

import numpy as np

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.formats import catalogue
from aperture.geometry.grid import Grid
from aperture.lens import database
from aperture.lens.lens import Lens
from aperture.scene import aids

CAMERA = Camera.at(
    Grid.from_gate(1920, 1080, 36, 20.25), Lens(28), (1.5, 1.6, 6.0), *np.radians([15, -6, 0])
)
BENT = Camera(CAMERA.grid, Lens(28, coefficients=(-0.1, 0, 0, 0, 0)), CAMERA.world_from_camera)


class Aids(TestCase):
    def test_a_person_is_as_tall_as_said(self):
        for camera in (CAMERA, BENT):
            pieces = np.concatenate(aids.figure(camera, (0.2, 0, 1.0)))
            top, foot = camera.project([[0.2, 1.75, 1.0], [0.2, 0, 1.0]])
            self.assertAlmostEqual(pieces[:, 1].min(), top[1], delta=1.0)
            self.assertAlmostEqual(pieces[:, 1].max(), foot[1], delta=1.0)
            self.assertLess(
                np.abs(pieces[:, 0] - foot[0]).max(), 0.25 * (foot[1] - top[1])
            )  # turned to the camera, no wider than a person

    def test_a_cube_and_a_room_end_at_their_corners(self):
        cube = np.concatenate(aids.cube(CAMERA, (0.2, 0, 1.0)))
        for corner in CAMERA.project(
            [[x, y, z] for x in (-0.3, 0.7) for y in (0, 1) for z in (0.5, 1.5)]
        ):
            self.assertLess(np.linalg.norm(cube - corner, axis=1).min(), 1e-6)
        room = np.concatenate(aids.room(CAMERA, (1.4, 2.0), (-0.6, 0.0), 2.2))
        for corner in CAMERA.project([[1.4, 0, 2.0], [-0.6, 2.2, 0.0]]):
            self.assertLess(np.linalg.norm(room - corner, axis=1).min(), 1e-6)

    def test_walls_are_walls(self):
        """Every point of the grid on the wall across = 0.5 is seen along a ray that meets that wall
        at or above the floor."""
        points = np.concatenate(aids.wall_grid(CAMERA, 0, 0.5, 0.5))
        inside = points[(points > 0).all(axis=1) & (points < (1920, 1080)).all(axis=1)]
        on_wall = CAMERA.on_plane(inside, (1.0, 0, 0), 0.5)
        self.assertGreater(len(inside), 10)
        self.assertTrue((on_wall[:, 1] > -1e-6).all() and (on_wall[:, 1] < 2 + 1e-6).all())
        # Behind the camera nothing is drawn, and nothing fails.
        self.assertEqual(aids.figure(CAMERA, (1.5, 0, 20.0)), [])
        self.assertEqual(aids.cube(CAMERA, (1.5, 0, 40.0)), [])


class Catalogue(TestCase):
    BODY = {
        "name": "Dory",
        "photosites": [4448, 3096],
        "modes": [
            {"name": "Open", "window": [0, 0, 4448, 3096], "width_mm": 36.7, "height_mm": 25.54}
        ],
    }
    LENS = {"name": "Gull", "focal_mm": [35, 35]}

    def changed(self, path, value, kind="bodies"):
        document = {
            "format": catalogue.FORMAT,
            "version": 1,
            "bodies": [copy.deepcopy(self.BODY)],
            "lenses": [copy.deepcopy(self.LENS)],
        }
        place = document[kind][0]
        for key in path[:-1]:
            place = place[key]
        place[path[-1]] = value
        return document

    def test_what_cannot_be_is_told_with_its_place(self):
        for path, value, kind, says in (
            (("modes", 0, "window"), [100, 0, 4448, 3096], "bodies", "outside"),
            (("modes", 0, "width_mm"), 99.0, "bodies", "times as wide"),
            (("photosites",), [0, 5], "bodies", "bodies/0/photosites"),
            (("modes",), [], "bodies", "bodies/0/modes"),
            (("focal_mm",), [50, 35], "lenses", "shortest"),
            (("squeeze",), 0.5, "lenses", "lenses/0/squeeze"),
            (("projection",), "wide", "lenses", "lenses/0/projection"),
            (("colour",), 1, "lenses", "lenses/0"),
            (("name",), "Gull\x07", "lenses", "control character"),
            (("modes", 0, "name"), "Open\n", "bodies", "bodies/0/modes/0/name.*control"),
            (("notes",), "x" * 2001, "lenses", "lenses/0/notes"),
            (("distortion",), [{"focal_mm": 35, "k1": 1e300}], "lenses", "distortion/0/k1"),
        ):
            with self.assertRaisesRegex(Problem, says, msg=path):
                catalogue.check(self.changed(path, value, kind))
        curved = self.changed(("projection",), "equisolid", "lenses")
        curved["lenses"][0]["distortion"] = [{"focal_mm": 35, "k1": 0.1}]
        with self.assertRaisesRegex(Problem, "rectilinear"):
            catalogue.check(curved)

    def test_what_is_left_out_is_completed(self):
        found = catalogue.check(self.changed(("name",), "Dory"))
        self.assertEqual(
            (
                found["lenses"][0]["squeeze"],
                found["lenses"][0]["projection"],
                found["bodies"][0]["modes"][0]["rates"],
            ),
            (1.0, "rectilinear", []),
        )

    def test_tables_survive_writing_and_reading(self):
        document = catalogue.check(self.changed(("modes", 0, "rates"), ["24", "24000/1001"]))
        document["lenses"][0] |= {
            "distortion": [
                {"focal_mm": 35, "k1": -0.0123456, "k2": 0.0, "k3": 0.0, "p1": 1e-7, "p2": 0.0}
            ],
            "stops": [2.8, 16],
            "close_focus_m": 0.35,
        }
        self.assertEqual(
            catalogue.read(catalogue.write_modes_csv(document).encode())["bodies"],
            document["bodies"],
        )
        # Names that a spreadsheet would take for formulas are written so that it doesn't, and come
        # back.
        for name in ("=HYPERLINK(1)", "@sum", "-1 stop", "+x", "'quoted'"):
            document["bodies"][0]["name"] = name
            text = catalogue.write_modes_csv(document)
            self.assertIsNone(re.search(r"(^|,)\"?[=+@-](?![\d.])", text, flags=re.M), text)
            self.assertEqual(catalogue.read(text.encode())["bodies"][0]["name"], name)
        lens = catalogue.read(catalogue.write_lenses_csv(document).encode())["lenses"][0]
        self.assertEqual(
            {key: lens[key] for key in ("focal_mm", "stops", "close_focus_m", "distortion")},
            {
                key: document["lenses"][0][key]
                for key in ("focal_mm", "stops", "close_focus_m", "distortion")
            },
        )

    def test_the_open_database_is_searched_by_words_and_files_are_recognised_exactly(self):
        found = database.search_cameras("d300s")
        self.assertTrue(
            found and all("d300s" in f"{one.maker} {one.model}".lower() for one in found)
        )
        one = found[0]
        self.assertEqual(database.camera_of_file(one.maker, one.model), one)
        self.assertIsNone(
            database.camera_of_file(one.maker, one.model + "X")
        )  # what is merely alike would be a wrong fact
        self.assertIsNone(database.camera_of_file(None, one.model))
        width, height, spread = one.sensor_mm(1.5)
        self.assertAlmostEqual(
            np.hypot(width, height) * one.crop_factor, np.hypot(36, 24), places=6
        )
        self.assertTrue(0.005 * width < spread < 0.05 * width)
        self.assertEqual((database.search_cameras("  "), database.search_lenses("")), ([], []))
        for key in ("", "x", "10000000"):
            with self.assertRaises(Problem):
                database.lens_by_key(key) if key.isdecimal() else database.raw_lens(key)
