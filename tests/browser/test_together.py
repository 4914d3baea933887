"""Two windows on one shot: what one does arrives in the other by itself; a note is pinned where one
clicks."""

from django.test import override_settings

from demo.plates import FOLDER
from tests.browser.browsing import Browsing
from web.notes.models import Note
from web.shows.history import edit, undo
from web.shows.models import Shot


@override_settings(LIVE=True)
class Together(Browsing):
    def test_edits_arrive_and_notes_are_pinned(self):
        page, other = self.page, self.window()
        self.make_shot(FOLDER / "LT010_boathouse_morning.jpg")
        page.goto(f"{self.shot_url}/gate")
        other.goto(f"{self.shot_url}/set")
        page.wait_for_selector("#here:has-text('(set)')")
        other.wait_for_selector("#here:has-text('(gate)')")
        # A note: a click on the plate, a sentence.
        other.goto(f"{self.shot_url}/notes")
        box = other.locator("#light-table").bounding_box()
        other.mouse.click(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        other.wait_for_selector(".note-pin.fresh")
        other.keyboard.type("Is this the door that was measured?")
        other.locator("#pin button").click()
        other.wait_for_selector(".pinned")
        note = Note.objects.get()
        self.assertLess(abs(note.x - 960), 30)
        self.assertLess(abs(note.y - 540), 30)
        other.wait_for_selector(".note-pin")
        # What another one changes is shown without anybody asking; while something is typed, it is
        # only said.
        began = page.locator("#revision").text_content()
        gate = {"width_mm": 36.0, "height_mm": 20.25, "squeeze": 1.0, "name": "", "origin": "typed"}
        edit(Shot.objects.get(), "Gate", lambda state: state.update(gate=gate))
        page.wait_for_selector(f"#revision:not(:text-is('{began}'))")
        page.wait_for_selector("#steps:has-text('36.00 × 20.25 mm')")
        # Marks come in under what is drawn and typed; the page stays the same one.
        page.goto(f"{self.shot_url}/match")
        page.wait_for_selector("#here")
        page.evaluate("window.stays = true")
        page.click("text=Lens")
        page.fill("#id_focal-focal", "35")
        mark = {
            "id": "s1",
            "kind": "spot",
            "name": "Bollard",
            "at": [400.0, 500.0],
            "world": [0, 0, 0],
        }
        edit(Shot.objects.get(), "A spot", lambda state: state.update(marks=[mark]))
        page.wait_for_selector("text=Bollard", state="attached")
        self.assertEqual(page.input_value("#id_focal-focal"), "35")
        self.assertTrue(page.evaluate("window.stays"))
        # Undone in another window before its figures are asked for: the page shows what is, and
        # asks no more.
        page.goto(f"{self.shot_url}/match")
        page.wait_for_selector("#here")
        number = Shot.objects.with_head().get().head.number
        undone = []

        def undo_first(route):
            if not undone:
                undone.append(undo(Shot.objects.with_head().get()))
            route.continue_()

        page.route("**/match/state", undo_first)
        page.locator("#light-table").focus()
        page.keyboard.press("Control+a")
        page.keyboard.press("ArrowRight")
        self.until(lambda: undone and page.text_content("#revision") == str(number))
        page.unroute("**/match/state")
        # On another page a report is renewed in its place.
        page.goto(f"{self.shot_url}/hand-off")
        page.wait_for_selector("#here")
        page.evaluate("window.stays = true")
        edit(Shot.objects.get(), "Exposure", lambda state: state.update(exposure={"iso": 1600}))
        page.wait_for_selector("#steps:has-text('EV')")
        page.wait_for_selector(".notice.good:has-text('Exposure')")
        self.assertTrue(page.evaluate("window.stays"))
        page.goto(f"{self.shot_url}/notes")
        page.fill("#text", "Half a sentence")
        edit(Shot.objects.get(), "Shift", lambda state: state.update(guides={"thirds": True}))
        page.wait_for_selector(".notice.note")
        self.assertEqual(page.input_value("#text"), "Half a sentence")
        self.assertEqual((self.errors, self.outside), ([], []))
