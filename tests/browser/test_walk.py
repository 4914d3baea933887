"""The walk of an artist, with pointer and keys, in a real browser."""

import json

import numpy as np
from django.conf import settings
from sklearn.datasets import load_sample_image

from demo.boathouse import BENCH, WINDOW
from demo.plates import FOLDER, PLATES, truth
from tests.browser.browsing import Browsing

NAME = next(name for name in PLATES if name.startswith("LT020"))
EDGES = (
    (
        "x",
        (WINDOW[0] - 0.075, WINDOW[3] + 0.075, 0.035),
        (WINDOW[1] + 0.075, WINDOW[3] + 0.075, 0.035),
    ),
    (
        "x",
        (BENCH["left"], BENCH["height"], BENCH["front"]),
        (BENCH["right"], BENCH["height"], BENCH["front"]),
    ),
    ("y", (-0.085, 0.2, 0.035), (-0.085, 2.1, 0.035)),
    ("y", (5.6, 0.3, 1.2), (5.6, 2.7, 1.2)),
    ("z", (5.6, 2.75, 1.2), (5.6, 2.75, 2.6)),
    ("z", (1.88, 0, 0.9), (1.88, 0, 2.6)),
)


class Walk(Browsing):
    def test_from_a_plate_to_a_camera_that_lines_up(self):
        page, camera = self.page, truth(NAME)
        self.make_shot(FOLDER / f"{NAME}.jpg")
        self.accessible()
        self.go("gate")
        page.select_option("#id_format", "full-frame-still")
        page.click("text=Set the gate")
        page.click("text=The picture leaves out top and bottom")
        page.wait_for_selector("text=Gate and picture agree")
        self.accessible()

        self.go("match")
        for key, *ends in EDGES:
            page.keyboard.press(key)
            (ax, ay), (zx, zy) = (self.on_screen(at) for at in camera.project(ends))
            page.mouse.move(ax, ay)
            page.mouse.down()
            page.mouse.move((ax + zx) / 2, (ay + zy) / 2, steps=3)
            page.mouse.move(zx, zy, steps=3)
            with self.saving():
                page.mouse.up()
        self.assertEqual(
            page.locator(".loupe").evaluate("loupe => getComputedStyle(loupe).display"), "block"
        )
        page.keyboard.press("o")
        with self.saving():
            page.mouse.click(*self.on_screen(camera.project([[0, 0, 0]])[0]))
        page.wait_for_selector("text=No size yet")
        page.click("[data-leaf=evidence]")
        page.fill("#id_height-value", "1.348 m")
        page.fill("#id_height-plus_minus", "2 cm")
        page.click("text=Add the height")
        page.wait_for_selector("#evidence >> text=Camera height")
        page.wait_for_selector("#over:has(.floor):has(.axis ~ .axis ~ .axis)", state="attached")
        self.quiet()
        fit = json.loads(page.request.get(f"{self.shot_url}/hand-off/camera.json").text())["fit"]
        # Drawn by the pointer in whole screen pixels at 46 %: some plate pixels off.
        self.assertAlmostEqual(fit["camera"]["focal_mm"], 35.0, delta=1.5)
        np.testing.assert_allclose(fit["camera"]["position_m"], camera.position, atol=0.25)
        self.accessible()

        # Choose an end, nudge it by keys, undo and redo by keys.
        page.keyboard.press("Escape")
        page.mouse.click(*self.on_screen(self.state()["marks"][2]["points"][1]))
        page.wait_for_selector("#mark form")
        x = self.state()["marks"][2]["points"][1][0]
        with self.saving():
            page.keyboard.press("ArrowRight")
            page.keyboard.press("Shift+ArrowRight")
        # One save or two, as fast as the machine is.
        self.until(lambda: abs(self.state()["marks"][2]["points"][1][0] - x - 1.1) < 5e-4)
        self.quiet()
        for key, wanted in (("Control+z", x), ("Control+Shift+z", x + 1.1)):
            with page.expect_navigation():
                page.keyboard.press(key)
            self.assertAlmostEqual(self.state()["marks"][2]["points"][1][0], wanted, places=3)

        self.go("set")
        page.fill("#id_width", "0.7 m")
        page.keyboard.press("Escape")
        page.locator("#light-table").focus()
        page.keyboard.press("b")
        with page.expect_navigation():
            page.mouse.click(*self.on_screen(camera.project([[2.0, 0, 2.0]])[0]))
        page.wait_for_load_state("networkidle")
        self.assertEqual(self.state()["stand_ins"][0]["size"], [0.7, 1.0, 1.0])
        top = page.locator("[data-handle=top]").bounding_box()
        page.mouse.move(top["x"] + top["width"] / 2, top["y"] + top["height"] / 2)
        page.mouse.down()
        page.mouse.move(top["x"] + top["width"] / 2, top["y"] - 20, steps=4)
        with self.dragged():
            page.mouse.up()
        self.assertGreater(self.state()["stand_ins"][0]["size"][1], 1.1)
        self.assertGreater(page.locator("#set-view canvas").evaluate("canvas => canvas.width"), 100)
        self.accessible()

        self.go("elements")
        page.locator(".checks input").first.check()  # depth
        page.click("button:has-text('Render the stand-ins')")
        page.wait_for_selector("#look")
        page.keyboard.press(".")
        self.assertEqual(
            page.locator("img.laid").first.get_attribute("src").rsplit("/", 1)[1], "alpha.png"
        )
        self.accessible()

        self.go("line-up")
        page.click("text=Render the stand-ins")
        page.wait_for_selector("text=Save the EXR")
        page.wait_for_load_state("networkidle")
        page.locator("#wipe").evaluate(
            "wipe => { wipe.value = 0.5; wipe.dispatchEvent(new Event('input')) }"
        )
        self.assertIn(
            "960px", page.locator("img.laid").first.evaluate("image => image.style.clipPath")
        )
        page.keyboard.press("x")
        self.assertEqual(
            page.locator("img.laid").first.evaluate("image => image.style.mixBlendMode"),
            "difference",
        )
        page.keyboard.press("a")
        self.assertEqual(
            page.locator("img.laid").nth(1).evaluate("image => image.style.visibility"), ""
        )
        self.accessible()
        self.go("hand-off")
        with page.expect_download() as download:
            page.click("text=Write all as a zip")
        self.assertEqual(download.value.suggested_filename, "LT900_camera.zip")
        self.accessible()
        page.goto(self.live_server_url + "/")
        self.accessible()
        self.assertEqual((self.errors, self.outside), ([], []))

    def test_two_windows_and_a_real_photograph(self):
        """A sample photograph that ships inside scikit-learn: a street of old buildings."""
        from PIL import Image

        picture = settings.DATA / "street.png"
        Image.fromarray(load_sample_image("china.jpg")).save(picture)
        self.addCleanup(picture.unlink)
        self.make_shot(picture)
        self.go("match")
        other = self.window()
        other.goto(self.page.url)
        other.wait_for_load_state("networkidle")
        for page, dx in ((self.page, 0), (other, 60)):
            page.keyboard.press("y")
            page.mouse.move(300 + dx, 300)
            page.mouse.down()
            page.mouse.move(300 + dx, 500, steps=3)
            with self.saving(page):
                page.mouse.up()
        other.wait_for_selector("text=changed in another window")
        first = self.state()["marks"]
        with other.expect_navigation():
            other.click("text=Take mine instead")
        self.assertNotEqual(self.state()["marks"], first)
        self.assertEqual(len(self.state()["marks"]), 1)
        # The first window doesn't undo what the other one saved.
        taken = self.state()["marks"]
        self.page.keyboard.press("Control+z")
        self.page.wait_for_selector("text=nothing was undone")
        self.assertEqual(self.state()["marks"], taken)
        with self.page.expect_navigation():
            self.page.click("text=Show the newer")
        with self.page.expect_navigation():
            self.page.keyboard.press("Control+z")
        self.assertEqual(self.state()["marks"], first)
        with self.page.expect_navigation():
            self.page.keyboard.press("Control+y")
        other.reload()
        # A click begins a line of several points; ended at once it is no edge, and says so.
        other.keyboard.press("x")
        other.mouse.click(500, 400)
        other.keyboard.press("Enter")
        other.wait_for_selector("text=That edge has no length")
        self.assertEqual(len(self.state()["marks"]), 1)
