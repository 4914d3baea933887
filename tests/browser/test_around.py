"""A panorama looked around in: turned by a drag, marked there, and the marks are where an ordinary
camera has them."""

import math
import re
import tempfile
from pathlib import Path

import numpy as np

from aperture.around.views import View
from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.lens.projections import named
from tests.browser.browsing import Browsing
from tests.web.test_panorama import picture
from web.gates.actions import take_around
from web.plates.actions import bring_in, take_plate
from web.shows.models import Shot

SIZE = (1024, 512)
WIDE = 1.4  # radians that the view begins with


class LookAround(Browsing):
    def setUp(self):
        super().setUp()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        file = Path(folder.name) / "lamp-room.png"
        file.write_bytes(picture(*SIZE))
        self.make_shot(file)
        take_around(self.shot())

    def shot(self):
        return Shot.objects.with_head().get(code="LT900")

    def test_marks_drawn_there_are_where_the_panorama_has_them(self):
        page = self.page
        self.go("match")
        page.keyboard.press("3")
        page.wait_for_selector("#look-around[aria-pressed=true]")
        box = page.locator("#light-table").bounding_box()
        middle = (box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.move(*middle)
        before = page.locator("#at").inner_text()
        # What is under the pointer stays under it while it is dragged; the middle is another place
        # then.
        page.keyboard.down(" ")
        page.mouse.down()
        page.mouse.move(middle[0] - 260, middle[1] + 90, steps=6)
        page.mouse.up()
        page.keyboard.up(" ")
        page.mouse.move(middle[0] - 259, middle[1] + 90)
        page.mouse.move(middle[0] - 260, middle[1] + 90)
        under = page.locator("#at").inner_text()
        was, now = (
            np.array([float(word) for word in text.split() if word[0].isdigit()])
            for text in (before, under)
        )
        self.assertLess(np.abs(now - was).max(), 3.0)
        page.mouse.move(*middle)
        x, y = (
            float(word) for word in page.locator("#at").inner_text().split() if word[0].isdigit()
        )
        self.assertGreater(abs(x - was[0]), 40)
        self.mark_beside_the_middle(Grid.from_gate(*SIZE, math.tau, math.pi), "equirectangular")
        page.keyboard.press("Escape")
        page.keyboard.press("3")
        page.wait_for_selector("#look-around[aria-pressed=false]")
        # Flat again, it scrolls endlessly: a whole turn to the side shows the same.
        shown = page.locator("#over").get_attribute("transform")
        x, scale = self.transform(shown)
        page.keyboard.down(" ")
        page.mouse.move(*middle)
        page.mouse.down()
        page.mouse.move(middle[0] - SIZE[0] * scale / 2, middle[1], steps=8)
        page.mouse.move(middle[0] - SIZE[0] * scale, middle[1], steps=8)
        page.mouse.up()
        page.keyboard.up(" ")
        self.assertAlmostEqual(self.transform()[0], x, delta=2.5)
        self.assertEqual(page.locator("#light-table img.copy").count(), 2)
        self.assertEqual(self.errors, [])

    def mark_beside_the_middle(self, grid, projection):
        """A spot that is clicked there is where a plain camera that looks so has it."""
        page = self.page
        box = page.locator("#light-table").bounding_box()
        middle = (box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.move(middle[0] + 1, middle[1])
        page.mouse.move(*middle)
        told = page.locator("#at").inner_text().split()
        x, y = (float(word) for word in told if word[0].isdigit())
        panorama = Camera.at(grid, Lens(1.0, projection=named(projection)), (0, 0, 0))
        ahead = panorama.rays([[x, y]])[0]
        pan, tilt = math.atan2(-ahead[0], -ahead[2]), math.asin(ahead[1])
        wide, high = round(box["width"]), round(box["height"])
        angles = np.degrees([pan, tilt, WIDE])
        view = View("shown", *angles, wide, high).camera(panorama)
        aside = (120.0, -70.0)
        page.keyboard.press("s")
        with self.saving():
            page.mouse.click(middle[0] + aside[0], middle[1] + aside[1])
        mark = self.shot().state["marks"][-1]
        at = np.array([[box["width"] / 2 + aside[0], box["height"] / 2 + aside[1]]])
        wanted = panorama.project_directions(view.rays(at))[0]
        np.testing.assert_allclose(mark["at"], wanted, atol=1.0)

    def test_in_a_panorama_in_pieces(self):
        """The same where the picture is a cube cross, across the borders of its faces."""
        page, size = self.page, (1024, 768)
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        file = Path(folder.name) / "cross.png"
        file.write_bytes(picture(*size))
        plate = bring_in(file, "cross.png")
        take_around(take_plate(self.shot(), plate), None, "cube cross")
        grid = Grid.from_gate(*size, *named("cube cross").size)
        self.go("match")
        page.keyboard.press("3")
        page.wait_for_selector("#look-around[aria-pressed=true]")
        for number, (across, down) in enumerate(((-150, 40), (-420, 20), (0, 330))):
            box = page.locator("#light-table").bounding_box()
            at = (box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
            page.keyboard.press("Escape")
            page.keyboard.down(" ")
            page.mouse.move(*at)
            page.mouse.down()
            page.mouse.move(at[0] + across, at[1] + down, steps=8)
            page.mouse.up()
            page.keyboard.up(" ")
            self.mark_beside_the_middle(grid, "cube cross")
            self.assertEqual(len(self.shot().state["marks"]), number + 1)
        self.assertEqual(self.errors, [])

    def transform(self, text=None):
        text = text or self.page.locator("#over").get_attribute("transform")
        numbers = [float(one) for one in re.findall(r"-?[\d.]+", text)]
        return numbers[0], numbers[2]
