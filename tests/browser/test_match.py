"""The Match page's tools with pointer and keys: no drawing at all, lines of several points, several
marks at once, survey, aids, drafts."""

import numpy as np

from demo.evidence import SURVEY
from demo.plates import FOLDER, truth
from tests.browser.browsing import Browsing
from web.match.fits import fit_of


class Match(Browsing):
    def asked(self, part):
        return self.answered(f"/match/{part}")

    def test_from_proposals_to_a_camera_and_its_drafts(self):
        page, name = self.page, "LT020_toward_the_slipway"
        camera = truth(name)
        self.make_shot(FOLDER / f"{name}.jpg")
        self.go("gate")
        self.click_through("text=Take 36.00 × 20.25 mm")
        self.go("match")
        with self.asked("proposals"):
            page.keyboard.press("p")
        page.wait_for_selector(".proposals .across", state="attached")
        self.accessible()
        with self.asked("take"):
            page.click("#proposal-groups >> text=all")
        page.wait_for_selector("#figures >> text=Focal length")
        self.assertAlmostEqual(fit_of(self.state())["camera"]["focal_mm"], 35.0, delta=0.4)

        # A bow of four clicks, ended by Enter; its points refined by R; several marks chosen and
        # moved by a key.
        page.keyboard.press("b")
        for at in camera.project([[x, 2.125, 0.035] for x in (2.1, 2.7, 3.4, 4.1)]):
            page.mouse.click(*self.on_screen(at))
        with self.saving():
            page.keyboard.press("Enter")
        bow = self.state()["marks"][-1]
        self.assertEqual((bow["kind"], len(bow["points"])), ("bow", 4))
        with self.asked("refine"):
            page.keyboard.press("r")
        page.wait_for_selector(".notice.good >> text=Refined 1 of 1")
        self.assertLess(self.state()["marks"][-1]["sigma_px"], 0.5)
        page.keyboard.press("Escape")
        page.click("[data-leaf=evidence]")
        page.click("[data-pick=e1]")
        page.click("[data-pick=e2]", modifiers=["Shift"])
        before = [mark["points"] for mark in self.state()["marks"][:2]]
        with self.saving():
            page.locator("#light-table").focus()
            page.keyboard.press("ArrowDown")
        moved = np.array([mark["points"] for mark in self.state()["marks"][:2]]) - before
        np.testing.assert_allclose(moved, np.broadcast_to([0, 1], moved.shape), atol=1e-3)
        page.select_option("#sort", "leverage")
        order = page.locator("#evidence [data-id]").evaluate_all(
            "rows => rows.map(row => +row.dataset.leverage)"
        )
        self.assertEqual(order, sorted(order, reverse=True))
        shown = page.locator("#marks .edge.across").count()
        page.click("#kinds [data-kind=across]")
        self.assertEqual((shown > 0, page.locator("#marks .edge.across").count()), (True, 0))
        self.accessible()

        # Origin and a height; a person and the walls' grids; the straightened plate; the leaves
        # that are asked for.
        page.keyboard.press("o")
        with self.saving():
            page.mouse.click(*self.on_screen(camera.project([[0, 0, 0]])[0]))
        page.fill("#id_height-value", "1.348 m")
        page.click("text=Add the height")
        page.wait_for_selector("#evidence >> text=Camera height")
        page.click("summary:has-text('Aids')")
        page.click("[data-tool=figure]")
        page.evaluate("document.querySelector('.aids').open = false")
        with self.asked("state"):
            page.mouse.click(*self.on_screen(camera.project([[2.4, 0, 1.6]])[0]))
        page.wait_for_selector("#over .aid", state="attached")
        with self.asked("state"):
            page.keyboard.press("w")
        page.wait_for_selector("#over .wall", state="attached")
        with self.asked("straight.jpg"):
            page.keyboard.press("u")
        self.assertEqual(page.locator("#marks .edge").count(), 0)
        page.keyboard.press("u")
        for leaf, says in (
            ("lens", "Costs:"),
            ("next", "From the normal matrix"),
            ("survey", "Take the points"),
            ("drafts", "Revisions"),
        ):
            page.click(f"[data-leaf={leaf}]")
            page.wait_for_selector(f"[data-leaf-of={leaf}] >> text={says}")
            self.accessible()
        page.fill("#id_draft", "Second")
        self.click_through("text=Keep the draft")
        page.click("button[data-beside=First]")
        page.wait_for_selector("#beside >> text=apart by")
        self.assertEqual((self.errors, self.outside), ([], []))

    def test_nothing_is_lost_while_the_server_is_slow(self):
        """Typed figures survive a renewed report; a form waits for a save under way; two lines
        drawn in a row are both kept."""
        page, name = self.page, "LT020_toward_the_slipway"
        camera = truth(name)
        self.make_shot(FOLDER / f"{name}.jpg")
        self.go("match")
        page.route("**/match/save", lambda route: (page.wait_for_timeout(700), route.continue_()))
        page.click("[data-leaf=evidence]")
        page.fill("#id_height-value", "1.348 m")
        page.keyboard.press("Escape")
        page.locator("#light-table").focus()
        for key, ends in (
            ("y", [(-0.085, 0.2, 0.035), (-0.085, 2.1, 0.035)]),
            ("y", [(5.6, 0.3, 1.2), (5.6, 2.7, 1.2)]),
        ):
            page.keyboard.press(key)
            (ax, ay), (zx, zy) = (self.on_screen(at) for at in camera.project(ends))
            page.mouse.move(ax, ay)
            page.mouse.down()
            page.mouse.move(zx, zy, steps=3)
            page.mouse.up()
        page.click("text=Add the height")
        page.wait_for_selector("#evidence >> text=Camera height 1.348 m")
        self.assertEqual([mark["axis"] for mark in self.state()["marks"]], ["up", "up"])
        self.assertEqual(self.state()["facts"][0]["metres"], 1.348)
        self.assertEqual(page.locator(".notice.bad").all_inner_texts(), [])
        self.assertEqual(self.errors, [])

    def test_surveyed_points_are_placed_one_after_another(self):
        page, name = self.page, "LT060_boathouse_surveyed"
        camera = truth(name)
        self.make_shot(FOLDER / f"{name}.jpg")
        self.go("gate")
        self.click_through("text=Take 36.00 × 20.25 mm")
        self.go("match")
        page.click("[data-leaf=survey]")
        places = {f"P{index}": at for index, (_, at) in enumerate(SURVEY, 1)}
        page.fill(
            "#id_survey-text", "\n".join(f"{key} {x} {y} {z}" for key, (x, y, z) in places.items())
        )
        page.fill("#id_survey-plus_minus", "4 mm")
        page.click("text=Take the points")
        page.wait_for_selector("#survey >> text=P9")
        self.quiet()
        page.keyboard.press("Escape")
        for _ in range(7):
            page.locator("#light-table").focus()
            page.keyboard.press("v")
            wanted = page.locator("[data-survey][aria-pressed=true]").get_attribute("data-survey")
            with self.asked("place"):
                page.mouse.click(*self.on_screen(camera.project([places[wanted]])[0]))
        page.wait_for_selector(".expected ellipse", state="attached")
        fit = fit_of(self.state())
        np.testing.assert_allclose(fit["camera"]["position_m"], camera.position, atol=0.3)
        self.assertEqual(self.errors, [])

    def test_hands(self):
        """Grabbing without a jump, a double click that keeps its point, Backspace, all, a box, redo
        by Ctrl+Y, Back."""
        page, name = self.page, "LT020_toward_the_slipway"
        camera = truth(name)
        self.make_shot(FOLDER / f"{name}.jpg")
        self.go("match")
        page.click("[data-leaf=evidence]")
        place = camera.project([[0, 0, 0]])[0]
        page.keyboard.press("s")
        with self.saving():
            page.mouse.click(*self.on_screen(place))
        page.keyboard.press("Escape")
        before = self.state()["marks"][0]["at"]

        # Pressed at its exact centre, and let go: it stays. Grabbed beside it and dragged: by as
        # much as dragged.
        x, y = self.on_screen(before)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.up()
        page.wait_for_selector("#mark >> text=Spot s1", state="attached")
        page.mouse.move(x + 6, y + 4)
        page.mouse.down()
        page.mouse.move(x + 7, y + 4)
        page.mouse.move(x + 16, y + 4)
        with self.saving():
            page.mouse.up()
        scale = self.on_screen([1, 0])[0] - self.on_screen([0, 0])[0]
        moved = np.subtract(self.state()["marks"][0]["at"], before)
        np.testing.assert_allclose(moved, [10 / scale, 0], atol=0.3)

        # A bow of four clicks, the last a double one; a point taken back by Backspace before.
        page.keyboard.press("b")
        points = camera.project([[x, 2.125, 0.035] for x in (2.1, 2.7, 3.4, 4.1)])
        for at in points[:2]:
            page.mouse.click(*self.on_screen(at))
        page.mouse.click(*self.on_screen(points[2] + [0, 80]))
        page.keyboard.press("Backspace")
        page.mouse.click(*self.on_screen(points[2]))
        with self.saving():
            page.mouse.dblclick(*self.on_screen(points[3]))
        bow = self.state()["marks"][-1]
        self.assertEqual(len(bow["points"]), 4)
        np.testing.assert_allclose(bow["points"], points, atol=1.5)

        page.keyboard.press("Escape")
        page.keyboard.press("Control+a")
        self.assertIn("2 marks chosen", page.text_content("#hint"))
        low, high = self.on_screen(points.min(axis=0) - 60), self.on_screen(points.max(axis=0) + 60)
        page.keyboard.down("Shift")
        page.mouse.move(*low)
        page.mouse.down()
        page.mouse.move(*high)
        page.mouse.up()
        page.keyboard.up("Shift")
        with self.saving():
            page.keyboard.press("Delete")
        self.assertEqual([mark["id"] for mark in self.state()["marks"]], ["s1"])
        for key, count in (("Control+z", 2), ("Control+y", 1)):
            with page.expect_navigation():
                page.keyboard.press(key)
            page.wait_for_load_state("networkidle")
            self.assertEqual(len(self.state()["marks"]), count)

        # Pressed more often than there is to undo: what could be undone is undone and shown.
        page.evaluate(
            """for (let n = 0; n < 30; n++) document.dispatchEvent(
                 new KeyboardEvent("keydown", {key: "z", ctrlKey: true, bubbles: true}))"""
        )
        page.wait_for_selector("[data-history=undo][disabled]")
        self.assertEqual(self.state()["marks"], [])
        with page.expect_navigation():
            page.keyboard.press("Control+y")
        page.wait_for_load_state("networkidle")

        # Away, an edit there, and back: what is saved is shown.
        self.go("gate")
        self.click_through("text=Take 36.00 × 20.25 mm")
        revision = page.text_content("#revision")
        page.go_back()
        page.wait_for_url("**/match")
        page.wait_for_load_state("networkidle")
        self.assertEqual(page.text_content("#revision"), revision)
        self.assertEqual((self.errors, self.outside), ([], []))
