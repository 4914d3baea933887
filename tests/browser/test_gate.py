"""The Gate page with pointer and keys."""

from demo.plates import FOLDER, PLATES
from demo.show import catalogue
from tests.browser.browsing import Browsing


class Gate(Browsing):
    def test_the_chain_by_hand(self):
        page = self.page
        catalogue()
        self.make_shot(FOLDER / f"{next(iter(PLATES))}.jpg")
        self.go("gate")
        page.click("text=16:9, recorded at 1920")
        page.wait_for_selector(".ledger tbody tr:nth-child(3)")
        page.select_option("#id_add", "overscan")
        page.click("text=Add a step")
        page.select_option("#id_how", "sides")
        for side, px in (("left", "64"), ("right", "64"), ("top", "36"), ("bottom", "36")):
            page.fill(f"#id_{side}", px)
        page.click("text=Add the step")
        page.wait_for_selector(".ledger >> text=2048 × 1152")
        # Point at the chain: the position is told on every grid, and lies on the same millimetre
        # for all of them.
        box = page.locator("#chain").bounding_box()
        with self.answered("/gate/follow"):
            page.mouse.move(box["x"] + box["width"] * 0.3, box["y"] + box["height"] / 2)
        page.wait_for_selector("[data-place]:not(:text-is('–'))")
        photosites, _, plate, over = (
            [float(v) for v in cell.split(", ")]
            for cell in page.locator("[data-place]").all_inner_texts()
        )
        self.assertAlmostEqual(over[0] - plate[0], 64, delta=0.11)
        self.assertAlmostEqual(photosites[0] / plate[0], 8192 / 1920, delta=0.002)
        for key, wanted in (("[", "3"), ("[", "2"), ("]", "3")):
            with page.expect_navigation():
                page.keyboard.press(key)
            page.wait_for_load_state("networkidle")
            self.assertEqual(page.locator(".ledger [aria-current]").inner_text(), wanted)
        page.keyboard.press("p")
        page.click("summary:has-text('Guides over')")
        with self.answered("/gate/guides"):
            page.click("[data-add-frame='2.39']")
        page.wait_for_selector("#over .guide-mask", state="attached")
        self.assertEqual(self.state()["guides"]["frames"][0]["aspect"], 2.39)
        self.accessible()
        with page.expect_navigation():
            page.keyboard.press("Control+z")
        self.assertEqual(self.state()["guides"], {})
        page.goto(f"{self.shot_url}/gate/claims?angle=150&focal=14.66&kind=width")
        self.assertIn("151.5°", page.locator("td.agrees").inner_text())
        self.accessible()
        for address in ("/catalogue/", "/shows/the-lantern-tide/cameras"):
            page.goto(self.live_server_url + address)
            self.accessible()
        self.assertEqual((self.errors, self.outside), ([], []))
