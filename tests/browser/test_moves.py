"""The page of moves in a real browser: a rig's move over a film, mended by its remedies, put to
use.
"""

import tempfile
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np

from aperture.camera import Camera
from aperture.formats import recipe
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match.document import validate
from demo import films
from demo.plates import FOLDER
from demo.show import _filmed, catalogue
from tests.browser.browsing import Browsing
from tests.filmed import numbered
from web.match.path_fits import camera_of_state, film_document
from web.moves.actions import put_into_set
from web.moves.kept import move_called
from web.shows.history import edit
from web.shows.models import Shot, Show
from web.stage.stand_ins import shown, stand_in_from

COLUMNS = ("frame", *recipe.POSE, "view_h_deg", "view_v_deg")


class FromTheRig(Browsing):
    """LT080 of the demo: a rig's file with helpers, in centimetres, from frame zero on, standing
    elsewhere, of a camera that hung upside down; to a camera that the set lines up with.
    """

    def test_from_rig_files_and_an_upside_down_plate_to_a_camera(self):
        bodies, _ = catalogue()
        show = Show.objects.create(name="The Lantern Tide", slug="tide")
        _filmed(show, "LT080", bodies["Saltmarsh One"])
        page = self.page
        self.shot_url = f"{self.live_server_url}/shows/tide/LT080"
        self.go("moves")
        self.click_through("text=Compare it with the picture")
        page.wait_for_selector("text=Upside down")
        self.accessible()
        self.click_through("text=Shift it by +13 frames")
        self.click_through("text=Compare it with the picture")
        page.wait_for_selector("text=The move is in time")
        self.click_through("text=It rests before and after")
        self.click_through("text=Turn the picture by 180°")
        self.go("moves")
        self.click_through("text=Where it stands")
        page.wait_for_selector("text=It stands elsewhere")
        self.accessible()
        self.click_through("text=Stand it here")
        self.click_through("text=back to the moves")
        self.click_through("text=Use as the shot")
        shot = Shot.objects.with_head().get(code="LT080")
        validate(film_document(shot.state), 2)  # of a film at a whole rate
        placed = [stand_in_from(item).vertices() for item in shown(shot.state)]
        corners = np.concatenate([item for item in placed if len(item) == 8])
        for number, camera in enumerate(films.truth("LT080"), 1):
            there = np.array(films.SIZE) - camera.project(corners)  # the picture was turned
            inside = ((there > 0) & (there < films.SIZE)).all(axis=1)
            ours = camera_of_state(shot.state, number).project(corners[inside])
            off = np.linalg.norm(ours - there[inside], axis=1)
            self.assertLess(off.max(), 1.0, number)
        # By hand: a drag over the plate takes the whole move along, and is undone.
        self.go("moves/m1/align")
        page.fill("#strip-frame", "60")
        page.keyboard.press("Enter")
        page.evaluate("document.activeElement.blur()")
        self.until(lambda: page.locator("#marks path.wire").count() == 4)
        page.keyboard.press("x")
        table = page.locator("#light-table").bounding_box()
        x, y = table["x"] + table["width"] / 2, table["y"] + table["height"] * 0.8
        before = shot.state["moves"][0]["stands"]
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 40, y + 10, steps=4)
        with self.page.expect_navigation():
            page.mouse.up()
        stands = Shot.objects.with_head().get(code="LT080").state["moves"][0]["stands"]
        self.assertGreater(abs(stands[3] - before[3]), 0.01)
        # The sheet has the frames of the film too, though no light table.
        self.go("hand-off")
        self.until(lambda: page.input_value("#strip-frame") != "")
        self.assertEqual((self.errors, self.outside), ([], []))

    def test_a_move_is_drawn_with_pointer_and_keys(self):
        self.make_shot(FOLDER / "LT010_boathouse_morning.jpg")
        page = self.page
        crate = {"id": "b1", "name": "Crate", "size": [1, 1, 1], "base": [0, 0, 0], "turn_deg": 0}
        edit(Shot.objects.with_head().get(), "Crate", lambda state: state.update(stand_ins=[crate]))
        self.go("moves")
        self.click_through("text=Begin a move by keys")
        page.wait_for_selector("#graph rect.key")
        self.accessible()
        keys = lambda name: self.kept().authored.to_json()["curves"][name]  # noqa: E731
        # Flown ahead with a key held, and kept on frame 49.
        page.fill("#frame", "49")
        page.keyboard.press("Enter")
        page.evaluate("document.activeElement.blur()")
        page.keyboard.down("ArrowUp")
        page.wait_for_selector(".off-the-move:visible")
        self.until(lambda: page.wait_for_timeout(300) is None)
        page.keyboard.up("ArrowUp")
        with self.answered("/save-keys"):
            page.keyboard.press("k")
        first, last = keys("z")
        self.assertEqual((first[0], last[0]), (1, 49))
        self.assertLess(last[1], first[1])
        # A key of the curve is dragged in time and value, made free, and removed; then all undone.
        page.select_option("#channel", "z")
        page.locator("#graph rect.key").nth(1).scroll_into_view_if_needed()
        box = page.locator("#graph rect.key").nth(1).bounding_box()
        x, y = box["x"] + 5, box["y"] + 5
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 60, y - 30, steps=5)
        with self.answered("/save-keys"):
            page.mouse.up()
        moved = keys("z")[1]
        self.assertGreater(moved[0], last[0])
        self.assertGreater(moved[1], last[1])
        with self.answered("/save-keys"):
            page.select_option("#key-kind", "free")
        self.assertEqual(page.locator("#graph circle.handle").count(), 2)
        with self.answered("/save-keys"):
            page.select_option("#looks-at", "Crate, upper front left")
        with self.answered("/save-keys"):
            page.select_option("#preset", "helicopter")
        self.assertRegex(page.inner_text("#read-bank"), "°")
        page.evaluate("document.activeElement.blur()")
        with self.answered("/save-keys"):
            page.keyboard.press("Delete")
        self.assertEqual(len(keys("z")), 1)
        for _ in range(2):
            with self.loaded():
                page.keyboard.press("Control+z")
            page.wait_for_selector("#graph rect.key")
        self.assertIsNone(self.kept().aircraft)
        self.assertEqual(len(keys("z")), 2)
        # Keys are chosen by a box, and the plate is seen behind the set.
        box = page.locator("#graph").bounding_box()
        page.keyboard.down("Shift")
        page.mouse.move(box["x"] + 40, box["y"] + 2)
        page.mouse.down()
        page.mouse.move(box["x"] + box["width"] - 2, box["y"] + box["height"] - 2, steps=3)
        page.mouse.up()
        page.keyboard.up("Shift")
        self.assertEqual(page.locator("#graph rect.key.chosen").count(), 2)
        drawn = "() => document.querySelector('canvas.plate-behind').getContext('2d')"
        drawn += ".getImageData(20, 20, 1, 1).data[3]"
        self.until(lambda: page.evaluate(drawn) == 255)
        page.keyboard.press("b")
        self.assertEqual(page.evaluate(drawn), 0)
        # The route is dragged from above.
        box = page.locator("#route rect.handle").nth(1).bounding_box()
        before = keys("x")
        page.mouse.move(box["x"] + 4, box["y"] + 4)
        page.mouse.down()
        page.mouse.move(box["x"] + 44, box["y"] + 4, steps=4)
        with self.answered("/save-keys"):
            page.mouse.up()
        self.assertNotEqual(keys("x"), before)
        # Recorded: from the frame that is shown on, as long as it is flown.
        page.keyboard.press("Home")
        before = keys("x")
        page.keyboard.press("r")
        page.keyboard.down("ArrowLeft")
        self.until(lambda: int(page.input_value("#frame")) > 6)
        page.keyboard.up("ArrowLeft")
        with self.answered("/record"):
            page.keyboard.press("r")
        self.assertNotEqual(keys("x"), before)
        self.assertEqual((self.errors, self.outside), ([], []))

    def kept(self):
        return move_called(self.state(), "m1")

    def test_the_rig_is_programmed_with_the_pointer_and_sent(self):
        self.make_shot(FOLDER / "LT010_boathouse_morning.jpg")
        page = self.page
        self.go("moves/rig")
        page.wait_for_selector("#rig-plan .handle")
        self.accessible()
        with self.answered("/rig/play", page=page):
            page.select_option("#id_kind", "line")
        box = page.locator("#rig-plan [data-place=target]").bounding_box()
        before = float(page.input_value("#id_target_x"))
        with page.expect_response(lambda response: "/rig/play" in response.url):
            page.mouse.move(box["x"] + 5, box["y"] + 5)
            page.mouse.down()
            page.mouse.move(box["x"] - 35, box["y"] + 1, steps=4)
            page.mouse.up()
        self.assertLess(float(page.input_value("#id_target_x")), before)
        page.fill("#id_seconds", "6")
        self.click_through("text=Send it to the shot")
        self.assertIn("move=m1", page.url)
        move = self.kept().move
        self.assertEqual(len(move.frames), 6 * 24 + 1)
        self.assertEqual((self.errors, self.outside), ([], []))


class Moves(Browsing):
    def cameras(self):
        grid = Grid.from_gate(384, 216, 36, 20.25)
        return {n: Camera.at(grid, Lens(30), (0.1 * n, 1.5, 4)) for n in range(1, 13)}

    def file(self, folder, name, cameras, **conventions):
        path = Path(folder) / name
        own = recipe.Recipe(columns=COLUMNS, **conventions)
        path.write_text(recipe.write(cameras, own, Fraction(24)))
        return path

    def test_a_move_is_checked_mended_and_used(self):
        page = self.page
        with tempfile.TemporaryDirectory() as folder:
            paths = [Path(folder) / f"walk.{number:04}.png" for number in range(1, 13)]
            for path in paths:
                cv2.imwrite(str(path), numbered(int(path.name.split(".")[1])))
            self.make_shot(paths[0])
            page.set_input_files("#id_picture", paths)
            page.wait_for_selector("#strip-data", state="attached")
            crate = {
                "id": "b1",
                "name": "Crate",
                "size": [1, 1, 1],
                "base": [0, 0, 0],
                "turn_deg": 0,
            }
            edit(
                Shot.objects.with_head().get(),
                "Crate",
                lambda state: state.update(stand_ins=[crate]),
            )
            self.go("match")
            self.click_through("text=moves")
            # A rig that counts centimetres, and from frame zero on.
            rig = self.file(folder, "rig.csv", self.cameras(), unit="cm", frame_offset=-1)
            page.set_input_files("[name=file]", rig)
            self.click_through("text=Bring it in")
        page.wait_for_selector("text=150 m above the floor")
        self.accessible()
        self.click_through("text=It counts in cm")
        self.click_through("text=Begin it on frame 1")
        self.assertEqual(page.locator("text=Is this right?").count(), 0)
        self.until(lambda: page.locator("#marks path.wire").count() == 1)
        page.keyboard.press("End")
        self.until(lambda: page.input_value("#set-frame") == "12")
        self.click_through("text=Use as the shot")
        page.wait_for_selector("text=Use the match again")
        self.click_through("text=Put into the set")
        self.assertIn("through=c1", page.url)
        camera = self.state()["cameras"][0]  # of the frame that is looked at
        self.assertEqual([round(value, 6) for value in camera["position"]], [1.2, 1.5, 4])
        with self.assertRaisesRegex(Exception, "no camera"):
            put_into_set(Shot.objects.with_head().get(), "m1", 99, None)
        page.keyboard.press("Control+z")
        self.until(lambda: not self.state()["cameras"])
        self.assertEqual((self.errors, self.outside), ([], []))
