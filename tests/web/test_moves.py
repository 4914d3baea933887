"""Moves in the application: brought in, asked about, compared, used as the shot's camera, and kept
through what else changes.
"""

import io
import json
import tempfile
import zipfile
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TransactionTestCase
from PIL import Image

from aperture.camera import Camera
from aperture.formats import collada, recipe, usd
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match.document import validate
from tests.web.test_shots import WithShot
from tests.web.test_tracks import FRAMES, HasBoards
from web.gates.actions import put_step
from web.match.path_fits import camera_of_state, evidence_digest, film_document, matched_camera
from web.match.worlds import turn_world
from web.moves.kept import moves_of, on_plate
from web.shows.history import edit
from web.shows.models import Shot


class Moves(WithShot):
    def setUp(self):
        super().setUp()
        self.ready()

    def bring(self, data, name="layout.usda", **more):
        file = SimpleUploadedFile(name, data)
        return self.press("moves/take", file=file, **more)

    def ours(self):
        return self.client.get(self.url("hand-off/camera.usda")).content

    def settings(self, **changed):
        """What the form of the newest move posts, some of it changed."""
        item = self.state()["moves"][-1]
        kept = {key: "" if value is None else value for key, value in item["settings"].items()}
        path = f"moves/{item['id']}/understand"
        return self.press(path, **kept | {"camera": item["says"]["camera"]} | changed)

    def test_our_own_camera_comes_back_the_same_and_a_changed_one_is_told(self):
        self.assertContains(self.client.get(self.url("moves")), "Bring a move in")
        self.bring(self.ours())
        page = self.client.get(self.url("moves"))
        self.assertContains(page, ": 0.00 px")
        self.assertNotContains(page, "Is this right?")
        # A table whose camera stands 10 cm beside ours.
        camera = matched_camera(self.state())
        pose = camera.world_from_camera.copy()
        pose[:3, 3] += 0.1 * camera.rotation[:, 0]
        beside = Camera(camera.grid, camera.lens, pose)
        columns = (*recipe.USUAL, "gate_width_mm", "gate_height_mm")
        own = recipe.Recipe("Y", "m", "left", "XYZ", columns=columns)
        self.shot.show.recipes.create(name="Layout", settings=own.to_json())
        pk = self.shot.show.recipes.get().pk
        self.bring(recipe.write({1: beside}, own, Fraction(24)).encode(), "beside.txt", recipe=pk)
        item = self.state()["moves"][-1]
        seen = self.client.get(self.url(f"moves/{item['id']}/seen"), {"frame": 1}).json()
        # A point at depth d is seen f · 0.1 / d to the left; 5 m along its ray where there is no
        # floor.
        for x, y, dx, dy in seen["arrows"]:
            point = camera.position + 5 * camera.rays([[x, y]])[0]
            on_floor = camera.on_plane([[x, y]])[0]
            near = np.isfinite(on_floor).all() and np.linalg.norm(on_floor - camera.position) < 100
            depth = -camera.to_camera_space([on_floor if near else point])[0, 2]
            self.assertAlmostEqual(dx, -camera.focal_px[0] * 0.1 / depth, delta=0.02)
            self.assertAlmostEqual(dy, 0, delta=0.02)
        largest = max(-dx for _, _, dx, _ in seen["arrows"])
        self.assertContains(self.client.get(self.url("moves")), f": {largest:.2f} px")

    def test_what_looks_wrong_is_mended_by_its_remedy_and_can_be_undone(self):
        camera = matched_camera(self.state())
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "m.dae"
            collada.write(path, camera, {}, "m", {1: camera}, unit="mm")
            # Its maker exported millimetres and the file says metres.
            data = path.read_text().replace('meter="0.001"', 'meter="1"').encode()
        self.bring(data, "m.dae")
        page = self.client.get(self.url("moves"))
        self.assertContains(page, "It counts in mm")
        self.settings(unit="mm")
        page = self.client.get(self.url("moves"))
        self.assertNotContains(page, "Is this right?")
        self.assertContains(page, ": 0.00 px")
        self.assertEqual(self.settings(unit="furlong").status_code, 422)
        self.client.post(self.url("undo"), {"base": self.head()})
        self.assertContains(self.client.get(self.url("moves")), "It counts in mm")

    def test_a_move_is_the_shots_camera_until_it_isnt(self):
        other = Camera.at(Grid.from_gate(1920, 1080, 24, 13.5), Lens(20), (2, 1.4, 7), 0.3)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "m.usda"
            usd.write(path, other, {}, frame=1)
            self.bring(path.read_bytes())
        self.press("moves/m1/serve")
        camera = camera_of_state(self.state())
        np.testing.assert_allclose(camera.world_from_camera, other.world_from_camera, atol=1e-9)
        # On another gate it sees as wide as in its file.
        self.assertAlmostEqual(camera.lens.focal_mm, 30, places=5)
        np.testing.assert_allclose(
            camera.project([[1, 1, 0]]) / camera.grid.width, other.project([[1, 1, 0]]) / 1920
        )
        for step in ("plate", "gate", "match", "set", "expose", "elements", "line-up", "hand-off"):
            self.assertEqual(self.client.get(self.url(step)).status_code, 200, step)
        self.assertContains(self.client.get(self.url("hand-off")), "layout")
        self.assertIn(b"focalLength = 30", self.ours())
        self.press("moves/m1/into-set", frame=1)
        np.testing.assert_allclose(self.state()["cameras"][0]["position"], [2, 1.4, 7])
        # The world is turned by a quarter: the move goes along.
        quarter = [[0, 0, 1], [0, 1, 0], [-1, 0, 0]]
        turn_world(self.shot, "Turned", quarter, (0, 0, 0), None)
        np.testing.assert_allclose(camera_of_state(self.state()).position, [7, 1.4, -2], atol=1e-9)
        Shot.objects.filter(pk=self.shot.pk).update(locked=True)
        self.assertEqual(self.settings(offset=3).status_code, 423)
        self.assertEqual(self.press("moves/m1/serve", stop="1").status_code, 423)
        self.assertEqual(self.press("moves/m1/remove").status_code, 423)
        Shot.objects.filter(pk=self.shot.pk).update(locked=False)
        self.press("moves/m1/remove")
        self.assertEqual((self.state()["moves"], self.state()["serving"]), ([], None))
        self.assertIs(camera_of_state(self.state()), matched_camera(self.state()))

    def test_a_file_without_distortion_gets_that_of_the_shots_lens(self):
        lens = {"focal_mm": None, "distortion": {"k1": -0.08}}
        edit(self.shot, "Barrel", lambda state: state.update(lens=lens))
        self.bring(self.client.get(self.url("hand-off/camera.dae")).content, "back.dae")
        page = self.client.get(self.url("moves"))
        self.assertContains(page, "of the shot’s lens")
        self.assertContains(page, ": 0.00 px")

    def test_what_can_t_be_taken_changes_nothing(self):
        before = self.head()
        for name, data, says in (
            ("a.mov", b"", "none of them"),
            ("a.usda", b"#usda 1.0\n", "no camera"),
            ("a.glb", b"glTF", "cut off"),
            ("a.csv", b"frame,tx\n1,2", "no camera"),
        ):
            answer = self.bring(data, name)
            self.assertEqual(answer.status_code, 422, name)
            self.assertIn(says, answer.json()["problem"])
        self.assertEqual(self.press("moves/m9/serve").status_code, 422)
        self.assertEqual(self.press("moves/take").status_code, 422)
        self.assertEqual(self.head(), before)


class MovesOnFilm(HasBoards, TransactionTestCase):
    def test_a_move_over_a_film(self):
        grid = Grid.from_gate(384, 216, 36, 20.25)
        over = {n: Camera.at(grid, Lens(30), (0.1 * n, 1.5, 4)) for n in range(1, FRAMES + 1)}
        text = recipe.write(over, recipe.Recipe(frame_offset=100), Fraction(24)).encode()
        self.press("moves/take", file=SimpleUploadedFile("rig.csv", text))
        page = self.client.get(self.url("moves")).content.decode()
        self.assertIn("They have no frame in common", page)
        self.assertIn("how wide its camera sees", page)  # neither the table nor the match says
        gate = {"width_mm": 36.0, "height_mm": 20.25, "squeeze": 1.0, "origin": "typed", "name": ""}
        lens = {"focal_mm": {"value": 30.0, "plus_minus": 0.1}}
        edit(self.now(), "Gate", lambda state: state.update(gate=gate, lens=lens))
        item = self.state()["moves"][0]
        kept = {key: "" if value is None else value for key, value in item["settings"].items()}
        self.press("moves/m1/understand", **kept | {"camera": "camera", "offset": -100})
        self.press("moves/m1/serve")
        for frame, camera in over.items():
            found = camera_of_state(self.state(), frame)
            np.testing.assert_allclose(
                found.project([[1, 1, 0]]), camera.project([[1, 1, 0]]), atol=1e-3
            )
        # Without a focal length nothing tells how wide it sees: no camera then, and no other one in
        # its place.
        edit(self.now(), "Unknown", lambda state: state.update(lens={"focal_mm": None}))
        self.assertIsNone(camera_of_state(self.state(), 3))
        self.assertContains(self.client.get(self.url("hand-off")), "see the page of moves")
        self.client.post(self.url("undo"), {"base": self.head()})
        # Of a shorter move the camera rests at its ends, over the plate, where that is said.
        short = recipe.write({n: over[n] for n in range(4, 9)}, recipe.Recipe(), Fraction(24))
        self.press("moves/take", file=SimpleUploadedFile("short.csv", short.encode()))
        kept = kept | {"camera": "camera", "offset": 0, "rests": "on"}
        self.press("moves/m2/understand", **kept)
        rests = on_plate(self.state(), "m2")
        self.assertEqual(rests.frames.tolist(), list(range(1, FRAMES + 1)))
        np.testing.assert_allclose(rests.at(1).position, over[4].position, atol=1e-6)
        np.testing.assert_allclose(rests.at(6).position, over[6].position, atol=1e-6)
        np.testing.assert_allclose(rests.at(FRAMES).position, over[8].position, atol=1e-6)
        # The shot begins on 1001: the move goes along.
        self.press("plate/shift", first="1001", what="shot")
        np.testing.assert_allclose(
            camera_of_state(self.state(), 1003).position, over[3].position, atol=1e-5
        )
        self.assertContains(self.client.get(self.url("hand-off")), "1001–1012")
        # Without its distortion: twelve pictures, and a movie of them.
        lens |= {"distortion": {"k1": -0.1}}
        edit(self.now(), "Bent", lambda state: state.update(serving=None, lens=lens))
        self.press("moves/m1/serve")
        answer = self.client.get(self.url("hand-off/straight"), {"kind": "png-16"})
        with zipfile.ZipFile(io.BytesIO(b"".join(answer.streaming_content))) as archive:
            names = archive.namelist()
            told = json.loads(archive.read("straight.json"))
        self.assertEqual(names[0], "LT900_straight.1001.png")
        self.assertEqual((len(names), told["left_out"]), (FRAMES + 1, []))
        data = b"".join(self.client.get(self.url("hand-off/straight.mp4")).streaming_content)
        with av.open(io.BytesIO(data)) as movie:
            self.assertEqual(sum(1 for _ in movie.decode(video=0)), FRAMES)
        bad = self.client.get(self.url("hand-off/straight"), {"kind": "gif"})
        self.assertEqual(bad.status_code, 422)
        # At the grids of the chain: the straight one, and the plate's own again.
        straighten, back = {"do": "straighten"}, {"do": "return"}
        for step in (straighten, back):
            put_step(self.now(), dict(step), None, False)
        sizes = self.client.get(self.url("hand-off")).context["straight_sizes"]
        grids = [key for key, _ in sizes if key.startswith("grid:")]
        self.assertGreaterEqual(len(grids), 2)
        for size in grids[-2:]:
            answer = self.client.get(self.url("hand-off/straight"), {"kind": "png-8", "size": size})
            with zipfile.ZipFile(io.BytesIO(b"".join(answer.streaming_content))) as archive:
                told = json.loads(archive.read("straight.json"))
                picture = Image.open(io.BytesIO(archive.read(archive.namelist()[0])))
                picture.load()
            self.assertEqual(
                list(picture.size), [told["frames"]["1001"][k] for k in ("width", "height")]
            )
        self.assertEqual(told["left_out"], [])
        bad = self.client.get(self.url("hand-off/straight"), {"size": "grid:nothing"})
        self.assertEqual(bad.status_code, 422)

    def test_a_move_is_evidence_about_the_path(self):
        grid = Grid.from_gate(384, 216, 36, 20.25)
        over = {n: Camera.at(grid, Lens(30), (0.1 * n, 1.5, 4)) for n in range(-3, FRAMES + 9)}
        text = recipe.write(over, recipe.Recipe(), Fraction(24)).encode()
        self.press("moves/take", file=SimpleUploadedFile("rig.csv", text))
        self.put_tracks()
        before = evidence_digest(self.now().state)
        for wrong in ({"plus_minus": "0"}, {"plus_minus": "wide"}, {"plus_minus_deg": "400"}):
            typed = {"plus_minus": "5 mm", "plus_minus_deg": "0.1"} | wrong
            self.assertEqual(self.press("moves/m1/evidence", **typed).status_code, 422)
        self.press("moves/m1/evidence", plus_minus="5 mm", plus_minus_deg="0.1")
        told = film_document(self.now().state)
        validate(told, 2)
        self.assertEqual(told["move"]["frames"], list(range(1, FRAMES + 1)))
        self.assertEqual(told["move"]["plus_minus"], 0.005)
        pose = np.array(told["move"]["world_from_camera"][4]).reshape(4, 4)
        np.testing.assert_allclose(pose[:3, 3], [0.5, 1.5, 4], atol=1e-6)
        self.assertContains(self.client.get(self.url("moves")), "about the path, in use")
        with_move = evidence_digest(self.now().state)
        self.assertNotEqual(with_move, before)
        # A shot that is shifted keeps its path; one whose move stands elsewhere has an old one.
        self.press("plate/shift", first="1001", what="shot")
        self.assertEqual(evidence_digest(self.now().state), with_move)
        self.press("moves/m1/stand-typed", x="1 m", y="0", z="0")
        self.assertNotEqual(evidence_digest(self.now().state), with_move)
        self.press("moves/m1/evidence", stop="1")
        self.assertNotIn("move", film_document(self.now().state))
        self.press("moves/m1/evidence", plus_minus="5 mm", plus_minus_deg="0.1")
        self.press("moves/m1/remove")
        self.assertIsNone(self.now().state["move_evidence"])

    def test_the_columns_of_a_table_are_named_on_its_preview(self):
        lines = ["Bild;Pos X;Pos Y;Pos Z;note;pan;tilt"]
        lines += [f"{n};{10 * n};150;400;ok;{n},5;-2" for n in range(1, FRAMES + 1)]
        data = "\n".join(lines).encode()
        answer = self.client.post(
            self.url("moves/take"),
            {"file": SimpleUploadedFile("head.csv", data), "base": self.base()},
        )
        page = self.client.get(answer.url)
        self.assertContains(page, "a column “bild”")
        self.assertContains(page, "<td>150</td>", html=True)
        self.assertContains(
            page, '<option value="tx" selected title="position x">tx</option>', html=True
        )
        form = dict(part.split("=") for part in answer.url.split("?")[1].split("&"))
        named = {
            f"column_{n}": name
            for n, name in enumerate(("frame", "tx", "ty", "tz", "", "ry", "rx"))
        }
        told = {"file": form["file"], "name": "head.csv", "unit": "cm", "up_axis": "Y"}
        # Turns need all three: it says so, and nothing is taken.
        refused = self.press("moves/assign", **told, **named)
        self.assertEqual(refused.status_code, 422)
        twice = self.press("moves/assign", **told, **named | {"column_4": "tx"})
        self.assertIn("called “tx”", twice.json()["problem"])
        aimed = named | {"column_5": "", "column_6": ""}
        self.assertEqual(self.press("moves/assign", **told, **aimed).status_code, 422)
        with_roll = data.replace(b"ok", b"0")
        answer = self.client.post(
            self.url("moves/take"),
            {
                "file": SimpleUploadedFile("head.csv", with_roll),
                "columns": "1",
                "base": self.base(),
            },
        )
        told["file"] = dict(part.split("=") for part in answer.url.split("?")[1].split("&"))["file"]
        self.press("moves/assign", **told, **named | {"column_4": "rz"}, rotation_order="YXZ")
        move = moves_of(self.now().state)[0].move
        np.testing.assert_allclose(move.positions[3], [0.4, 1.5, 4])
        pan = np.degrees(np.arctan2(move.rotations[3, 0, 2], move.rotations[3, 2, 2]))
        self.assertAlmostEqual(pan, 4.5, places=9)
        for file in ("", "0" * 64, "../etc"):
            gone = self.client.get(self.url("moves/columns"), {"file": file})
            self.assertEqual(gone.status_code, 422)
