"""The Expose step by pointer and keys: a patch is metered, the focus clicked, maps laid over the
plate, a look made."""

import numpy as np

from demo.evidence import FACTS
from demo.plates import FOLDER, truth
from demo.show import marks_for
from tests.browser.browsing import Browsing
from tests.web.test_shots import NAME
from web.expose.focusing import focus_at
from web.expose.looks import look_of
from web.match.actions import add_fact, set_marks
from web.match.path_fits import camera_of_state
from web.shows.history import edit
from web.shows.models import Shot

GATE = {"width_mm": 36.0, "height_mm": 20.25, "squeeze": 1.0, "origin": "typed", "name": ""}
CRATE = {
    "id": "b1",
    "name": "Crate",
    "size": [0.8, 0.6, 0.6],
    "base": [1.9, 0, 3.3],
    "turn_deg": 24,
}


class Expose(Browsing):
    def setUp(self):
        super().setUp()
        self.make_shot(FOLDER / f"{NAME}.jpg")
        shot = edit(self.shot(), "Gate", lambda state: state.update(gate=GATE))
        shot = set_marks(shot, marks_for(truth(NAME)), "Marks", None)
        shot = add_fact(shot, dict(FACTS[0]), None)
        edit(shot, "Crate", lambda state: state.update(stand_ins=[CRATE]))

    def shot(self):
        return Shot.objects.with_head().get(code="LT900")

    def drag(self, start, end):
        page = self.page
        page.mouse.move(*start)
        page.mouse.down()
        page.mouse.move(*end, steps=4)
        with page.expect_navigation():
            page.mouse.up()
        page.wait_for_load_state("networkidle")

    def shown(self):
        return self.page.locator("img.laid").evaluate(
            "image => !image.hidden && image.complete && image.naturalWidth > 0"
        )

    def test_light_focus_and_look(self):
        page = self.page
        self.go("expose")
        self.accessible()
        # A patch that is said to be white paper, dragged over the plate.
        page.select_option("#surface", "white")
        page.evaluate("document.activeElement.blur()")
        page.keyboard.press("p")
        self.drag((420, 300), (470, 350))
        self.assertEqual(self.state()["metered"]["surface"], "white")
        self.assertIn("To expose for it", page.inner_text("#report"))
        # Maps come with M, and go again.
        page.keyboard.press("m")
        self.until(self.shown)
        self.assertTrue(page.locator(".bands").is_visible())
        for _ in range(2):
            page.keyboard.press("m")
        self.until(lambda: not self.shown())
        # One mark on, while the shutter holds the exposure.
        page.select_option("#id_holder", "seconds")
        self.click_through("[aria-label='Stop, one mark on']")
        self.assertIn("exposed as the plate was", page.inner_text("#report"))
        # The focus is clicked on the crate, and then follows it.
        self.click_through("nav.leaves >> text=Focus")
        self.accessible()
        corner = np.array([[1.9, 0.3, 3.6]])
        at = camera_of_state(self.shot().state).project(corner)[0]
        with page.expect_navigation():
            page.keyboard.press("p")
            page.mouse.click(*self.on_screen(at.tolist()))
        clicked = self.state()["focus"]["metres"]
        self.assertEqual(focus_at(self.shot()).metres, clicked)
        self.assertEqual(page.locator("svg.ruler").count(), 1)
        page.select_option("#id_follow", "Crate")
        self.click_through("text=Set the focus")
        self.assertIn("not in use", page.inner_text("#report"))
        page.select_option("#map", "sharp")
        self.until(self.shown)
        # The drawing of the spots follows what is typed.
        self.click_through("nav.leaves >> text=Blur")
        self.accessible()
        with self.answered("/expose/blur/spots"):
            page.fill("#id_blades", "6")
        self.click_through("text=Keep the shape")
        self.assertEqual(self.state()["pupil"]["blades"], 6)
        # A look, previewed.
        self.click_through("nav.leaves >> text=Look")
        self.accessible()
        page.check("#id_cos4")
        self.click_through("text=Set the look")
        self.assertTrue(look_of(self.shot()).cos4)
        page.select_option("#map", "look")
        self.until(self.shown)
        with page.expect_navigation():
            page.keyboard.press("Control+z")
        self.assertFalse(look_of(self.shot()).cos4)
        self.click_through("nav.leaves >> text=White")
        self.accessible()
        self.assertEqual((self.errors, self.outside), ([], []))
