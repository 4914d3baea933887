"""Set and Line-up by pointer and keys: cameras, the plate on a wall, a sequence brought back, the
loupe, the facts."""

import tempfile
from pathlib import Path

import numpy as np
from PIL import Image

from demo.plates import FOLDER, truth
from demo.show import FACTS, marks_for
from tests.browser.browsing import Browsing
from tests.web.test_shots import NAME
from web.elements.actions import Order, render_now
from web.match.actions import add_fact, set_marks
from web.shows.history import edit
from web.shows.models import Shot
from web.stage.actions import add_stand_in


class SetAndLineUp(Browsing):
    def setUp(self):
        super().setUp()
        self.make_shot(FOLDER / f"{NAME}.jpg")
        shot = edit(
            self.shot(),
            "Gate",
            lambda state: state.update(
                gate={
                    "width_mm": 36.0,
                    "height_mm": 20.25,
                    "squeeze": 1.0,
                    "origin": "typed",
                    "name": "",
                }
            ),
        )
        shot = add_fact(
            set_marks(shot, marks_for(truth(NAME)), "Marks", None), dict(FACTS[0]), None
        )
        shot = add_stand_in(
            shot,
            {
                "name": "Back wall",
                "kind": "plane",
                "base": [0.4, 1.42, 0],
                "size": [5, 0, 2.8],
                "turn_deg": 0,
                "tilt_deg": 90,
                "part_of_plate": True,
            },
            None,
        )
        add_stand_in(
            shot,
            {
                "name": "Crate",
                "kind": "box",
                "base": [1.9, 0, 3.3],
                "size": [0.8, 0.6, 0.6],
                "turn_deg": 24,
            },
            None,
        )

    def shot(self):
        return Shot.objects.with_head().get(code="LT900")

    def test_cameras_and_the_plate_on_a_wall(self):
        page = self.page
        self.go("set")
        self.click_through("nav.leaves >> text=Cameras")
        self.click_through("text=Copy it")
        page.fill("#camera_across", "0.5 m")
        page.fill("#camera_pan", "0")
        self.click_through("form:has(#camera_pan) >> text=Set it so")
        self.assertEqual(page.locator("#through").input_value(), "c1")
        self.assertEqual(
            page.locator("img.plate").evaluate("image => getComputedStyle(image).visibility"),
            "hidden",
        )
        self.assertIn(
            "matrix3d", page.locator("img.laid").evaluate("image => image.style.transform")
        )  # the plate hangs in space
        self.accessible()
        # A stand-in is dragged through the copied camera.
        self.click_through("nav.leaves >> text=Stand-ins")
        self.click_through(".evidence >> text=Crate")
        before = self.state()["stand_ins"][1]["base"]
        box = page.locator("[data-handle=move]").bounding_box()
        page.mouse.move(box["x"] + 6, box["y"] + 6)
        page.mouse.down()
        page.mouse.move(box["x"] + 36, box["y"] + 6, steps=4)
        with self.dragged():
            page.mouse.up()
        self.assertGreater(
            np.abs(np.subtract(self.state()["stand_ins"][1]["base"], before)).max(), 0.1
        )
        with page.expect_navigation():
            page.keyboard.press("l")
        page.wait_for_load_state("networkidle")
        self.assertEqual(page.locator("#through").input_value(), "match")
        self.click_through("nav.leaves >> text=Plate")
        with self.answered("/set/worn"):
            page.click("[aria-label='Put the plate on Back wall']")
        page.wait_for_selector("#marks-on[aria-pressed=true]")
        self.accessible()
        with page.expect_download() as download:
            page.click("text=Save them with their textures")
        self.assertEqual(download.value.suggested_filename, "LT900_textures.zip")
        self.assertEqual((self.errors, self.outside), ([], []))

    def test_a_sequence_comes_back_and_is_looked_at_closely(self):
        page = self.page
        render_now(self.shot(), Order(samples=2))
        picture = np.asarray(Image.open(self.shot().renders.get().folder / "render.png"))
        files = []
        for frame in (1001, 1002):
            path = self.folder() / f"crate.{frame}.png"
            Image.fromarray(np.roll(picture, frame - 1001, axis=1)).save(path)
            files.append(path)
        self.go("line-up")
        page.set_input_files("#id_files", files)
        self.click_through("button:has-text('Bring it back')")
        page.wait_for_selector("text=Worst frame")
        self.accessible()
        page.keyboard.press("u")
        self.assertEqual(page.locator("#frame-number").inner_text(), "1002")
        left = int(np.flatnonzero(picture[..., 3].any(axis=0))[0])
        self.until(lambda: self.leftmost() == left + 1)
        page.keyboard.press("b")
        self.assertIn("frame 1002", page.locator("#burn-in").inner_text())
        page.keyboard.press("l")
        row, column = np.argwhere(picture[..., 3] == 255)[900]
        page.mouse.move(*self.on_screen((column, row)))
        page.wait_for_selector("#hint:has-text('alpha 1.000')")
        page.keyboard.press("e")
        page.wait_for_selector("#edges-says:has-text('edges')")
        with page.expect_navigation():
            page.select_option("#against", "own")
        page.wait_for_load_state("networkidle")
        self.assertEqual(page.locator(".laid").count(), 3)
        self.assertEqual((self.errors, self.outside), ([], []))

    def leftmost(self):
        """The first column of the render on the table in which something is seen."""
        return self.page.evaluate("""() => {
              const laid = document.querySelector("canvas.laid"), {width, height} = laid;
              const {data} = laid.getContext("2d").getImageData(0, 0, width, height);
              for (let x = 0; x < width; x++)
                for (let y = 0; y < height; y++) if (data[4 * (y * width + x) + 3]) return x;
              return null;
            }""")

    def folder(self):
        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        return Path(made.name)
