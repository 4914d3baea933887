"""The cut by pointer and keys: clips dragged, trimmed, split, played, and all of it undone."""

from demo.plates import FOLDER
from tests.browser.browsing import Browsing
from web.cut.actions import cut_of
from web.shows.history import create_shot, edit
from web.shows.models import Shot, Show


class Cutting(Browsing):
    def test_order_trims_and_undo(self):
        page = self.page
        self.make_shot(FOLDER / "LT010_boathouse_morning.jpg")
        show = Show.objects.get()
        state = Shot.objects.with_head().get().state
        for code in ("LT910", "LT920"):
            shot = create_shot(show, code, "")
            edit(shot, "Plate", lambda made: made.update(plate=dict(state["plate"])))
        page.goto(self.shot_url.rsplit("/", 1)[0] + "/cut")
        page.wait_for_load_state("networkidle")
        self.accessible()
        clips = lambda: [(one.shot, one.length) for one in cut_of(show).clips]  # noqa: E731
        self.assertEqual(clips(), [("LT900", 48), ("LT910", 48), ("LT920", 48)])
        # The first is dragged behind the second.
        first = page.locator(".cut-clip").nth(0).bounding_box()
        second = page.locator(".cut-clip").nth(1).bounding_box()
        y = first["y"] + 40
        page.mouse.move(first["x"] + 40, y)
        page.mouse.down()
        page.mouse.move(second["x"] + 0.8 * second["width"], y, steps=5)
        with self.answered("/cut/do"):
            page.mouse.up()
        self.assertEqual([code for code, _ in clips()], ["LT910", "LT900", "LT920"])
        # An end is dragged, a beginning trimmed by a key, and the clip split and doubled.
        clip = page.locator(".cut-clip").nth(2).bounding_box()
        page.mouse.move(clip["x"] + clip["width"] - 3, y)
        page.mouse.down()
        page.mouse.move(clip["x"] + clip["width"] / 2, y, steps=5)
        with self.answered("/cut/do"):
            page.mouse.up()
        shorter = clips()[2][1]
        self.assertLess(abs(shorter - 24), 4)
        page.keyboard.press("Home")
        for key, wanted in (("Shift+Period", 47), ("Comma", 46)):
            with self.answered("/cut/do"):
                page.keyboard.press(key)
            self.assertEqual(clips()[0], ("LT910", wanted))
        for _ in range(2):
            page.keyboard.press("Shift+ArrowRight")
        with self.answered("/cut/do"):
            page.keyboard.press("s")
        self.assertEqual(clips()[:2], [("LT910", 20), ("LT910", 26)])
        with self.answered("/cut/do"):
            page.fill("#clip-length", "30")
            page.keyboard.press("Enter")
        self.assertEqual(clips()[1], ("LT910", 30))
        page.evaluate("document.activeElement.blur()")
        page.keyboard.press("Space")
        self.until(lambda: int(page.input_value("#frame")) > 22)
        page.keyboard.press("Space")
        for _ in range(2):
            with self.loaded():
                page.keyboard.press("Control+z")
            page.wait_for_load_state("networkidle")
        self.assertEqual(clips()[0], ("LT910", 46))
        self.assertEqual((self.errors, self.outside), ([], []))
