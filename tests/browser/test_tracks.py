"""The Tracks leaf in a real browser: followed, chosen with the pointer, told of, solved, and drawn
on other frames."""

import tempfile
from pathlib import Path

import cv2
import numpy as np

from tests.browser.browsing import Browsing
from tests.web.test_tracks import pictures
from web.jobs.models import Job
from web.match import tracking
from web.match.path_fits import path_fit
from web.shows.models import Shot


class TracksLeaf(Browsing):
    def bring_in(self):
        """A shot with the film of boards, its Tracks leaf open."""
        page = self.page
        with tempfile.TemporaryDirectory() as folder:
            files = []
            for number, picture in pictures():
                files.append(str(Path(folder) / f"board.{number:04d}.png"))
                cv2.imwrite(files[-1], picture)
            self.make_shot(files[0])
            with page.expect_navigation():
                page.set_input_files("#id_picture", files)
        self.go("match")
        page.click("#leaf-tracks")
        page.wait_for_selector("#id_wanted")
        page.evaluate("document.activeElement.blur()")

    def tracks(self):
        return tracking.tracks_of(self.state())

    def drawn(self):
        """How many pixels of the layer with the tracks aren't empty."""
        return self.page.evaluate("""() => {
              const {width, height} = document.querySelector(".track-layer");
              const c = document.querySelector(".track-layer").getContext("2d");
              const {data} = c.getImageData(0, 0, width, height);
              return data.filter((v, i) => i % 4 === 3 && v).length;
            }""")

    def place_of(self, track, number):
        """Where a track is on the screen on a picture."""
        tracks = self.tracks()
        own = (tracks.track == tracks.ids.index(track)) & (tracks.frame == number)
        return self.on_screen(tracks.xy[own][0].tolist())

    def changing(self):
        return self.answered("/match/tracks/change")

    def test_follow_choose_tell_and_solve(self):
        page = self.page
        self.bring_in()
        self.accessible()
        page.fill("#id_wanted", "90")
        page.select_option("#id_reach", "7")
        page.click("text=Follow points")
        self.until(lambda: self.drawn() > 0)
        self.assertGreater(len(self.tracks()), 40)
        first = self.drawn()
        page.keyboard.press("End")
        self.until(lambda: page.input_value("#strip-frame") == "12" and self.drawn() != first)
        page.keyboard.press("Home")

        # One with a click, more with Ctrl, several in a box.
        tracks = self.tracks()
        long = [id_ for id_, length in zip(tracks.ids, tracks.lengths()) if length == 12]
        one, other = long[0], long[-1]
        page.mouse.click(*self.place_of(one, 1))
        self.assertEqual(page.inner_text("#tracks-chosen"), one)
        self.assertTrue(page.is_disabled("[data-track=distance]"))
        with self.changing():
            page.click("[data-track=floor]")
        self.assertEqual(self.tracks().about[one]["world"], [None, 0, None])
        page.keyboard.down("Control")
        page.mouse.click(*self.place_of(other, 1))
        page.keyboard.up("Control")
        page.fill("#track-length", "2.4 m")
        with self.changing():
            page.click("[data-track=distance]")
        self.assertEqual(self.state()["path_facts"][0]["metres"], 2.4)
        page.wait_for_selector(f"text=From {one} to {other}")
        with self.answered("/undo"):
            page.keyboard.press("Control+z")
        self.until(lambda: not self.state()["path_facts"])
        self.go("match")
        self.until(lambda: self.drawn() > 0)
        corner = page.locator("#light-table").bounding_box()
        page.keyboard.down("Shift")
        page.mouse.move(corner["x"] + 5, corner["y"] + 5)
        page.mouse.down()
        page.mouse.move(corner["x"] + 200, corner["y"] + 200, steps=3)
        page.mouse.up()
        page.keyboard.up("Shift")
        self.assertRegex(page.inner_text("#tracks-chosen"), r"^\d+ tracks$|,")
        before = len(self.tracks())
        chosen = page.inner_text("#tracks-chosen")
        count = int(chosen.split()[0]) if "tracks" in chosen else chosen.count(",") + 1
        with self.changing():
            page.keyboard.press("Delete")
        self.assertEqual(len(self.tracks()), before - count)
        self.assertEqual(page.inner_text("#tracks-chosen"), "none")

        # By length: those that are chosen are the short ones, and nothing is dropped by it.
        page.locator("#track-under").fill("10")
        tracks = self.tracks()
        short = int((tracks.lengths() < 10).sum())
        self.assertTrue(0 < short < len(tracks))
        self.until(
            lambda: page.inner_text("#track-worst-says").startswith(
                f"{short} of {len(tracks)} tracks: shorter than 10 frames"
            )
        )
        with self.changing():
            page.click("[data-track=off]")
        off = [told for told in self.tracks().about.values() if told.get("off")]
        self.assertEqual((len(off), len(self.tracks())), (short, len(tracks)))
        with self.answered("/undo"):
            page.keyboard.press("Control+z")
        self.until(lambda: not any(told.get("off") for told in self.tracks().about.values()))
        self.go("match")

        # What was begun here is shown here: the page isn't loaded anew, and has the first path's
        # guides of another frame.
        page.keyboard.press("End")
        page.evaluate("window.loadedOnce = true")
        with self.answered("/path/guides"):
            page.keyboard.press("Control+Enter")
        page.wait_for_selector(".path-curves")
        fit = path_fit(self.state())
        self.assertTrue(page.evaluate("window.loadedOnce"))
        page.keyboard.press("Home")
        self.accessible()

        def says(curve):
            return page.inner_text(f".path-curve:nth-child({curve}) [data-values]")

        # Nothing turns it about the vertical; how well it fits is known on each frame.
        first, last = (f"{fit['path']['residual_px'][at]:.2f}" for at in (0, -1))
        self.until(lambda: (says(4), says(7)) == ("not set", first))
        page.keyboard.press("End")

        # What was unfolded stays so over an edit, and is as before.
        page.click("text=What to measure or follow next")
        page.wait_for_selector("text=to shrink the ± of the")
        self.until(lambda: self.drawn() > 0)
        page.mouse.click(*self.place_of(one, 12))
        with self.changing():
            page.click("[data-track=off]")
        page.wait_for_selector("text=to shrink the ± of the")

        self.until(lambda: says(7) == last)
        self.assertEqual((self.errors, self.outside), ([], []))
        self.assertTrue(np.isfinite(fit["residuals"]["rms_px"]))

    def test_work_that_a_script_showed_is_stopped_and_leads_back_here(self):
        self.bring_in()
        Job.objects.create(shot=Shot.objects.get(), kind="follow")
        self.page.evaluate(
            "document.getElementById('sheet').dispatchEvent(new CustomEvent('begun', {detail: {}}))"
        )
        self.click_through("text=Stop it")
        self.assertTrue(self.page.url.endswith("/match"), self.page.url)
        self.assertEqual(Job.objects.get(kind="follow").state, Job.CANCELLED)

    def test_by_hand_and_keep_out(self):
        page = self.page
        self.bring_in()
        for _ in range(5):
            page.keyboard.press("ArrowRight")
        self.until(lambda: page.input_value("#strip-frame") == "6")
        page.keyboard.press("a")
        place = self.on_screen([140.0, 100.0])
        page.mouse.move(*place)
        self.assertTrue(page.is_visible("#loupe"))
        with self.changing():
            page.mouse.click(*place)
        self.until(lambda: page.inner_text("#tracks-chosen") == "h1")
        page.keyboard.press("Escape")
        self.assertEqual(self.tracks().lengths().tolist(), [1])
        with self.changing():
            page.keyboard.press("d")
        self.until(lambda: self.tracks().lengths().tolist()[0] > 8)
        self.until(lambda: page.is_visible("#track-patches"))
        self.accessible()

        # Grabbed beside its centre it doesn't jump to the pointer; what was followed is followed
        # anew.
        page.keyboard.press("End")
        self.until(lambda: page.input_value("#strip-frame") == "12")
        before = self.tracks().xy[-1]
        x, y = self.place_of("h1", 12)
        page.mouse.move(x + 2, y)
        page.mouse.down()
        page.mouse.move(x + 22, y - 10, steps=4)
        with self.changing():
            page.mouse.up()
        moved = self.tracks().xy[-1] - before
        scale = self.place_of("h1", 12)[0] - x
        self.assertAlmostEqual(moved[0] / moved[1], -2, delta=0.1)
        self.assertAlmostEqual(scale, 20, delta=0.6)
        self.until(lambda: "2 frames" in page.inner_text("#track-told"))
        page.keyboard.press("[")
        self.until(lambda: page.input_value("#strip-frame") == "6")
        at = self.tracks().xy[5]
        for _ in range(3):
            page.keyboard.press("Control+ArrowLeft")
        self.until(lambda: abs(self.tracks().xy[5][0] - at[0] + 0.3) < 0.02)

        page.keyboard.press("k")
        for corner in ([20.0, 20.0], [90.0, 20.0], [90.0, 90.0]):
            page.mouse.click(*self.on_screen(corner))
        with self.answered("/match/tracks/area"):
            page.keyboard.press("Enter")
        drawn = self.state()["keep_out"][0]["keys"]["6"]
        np.testing.assert_allclose(drawn, [[20, 20], [90, 20], [90, 90]], atol=1)
        page.keyboard.press("Home")
        self.until(lambda: page.input_value("#strip-frame") == "1")
        page.mouse.move(*self.on_screen(drawn[1]))
        page.mouse.down()
        page.mouse.move(*self.on_screen([120.0, 40.0]), steps=3)
        with self.answered("/match/tracks/area"):
            page.mouse.up()
        shaped = self.state()["keep_out"][0]["keys"]["1"]
        np.testing.assert_allclose(shaped, [[20, 20], [120, 40], [90, 90]], atol=1)
        with self.answered("/undo"):
            page.keyboard.press("Control+z")
        self.until(lambda: list(self.state()["keep_out"][0]["keys"]) == ["6"])
        self.assertEqual((self.errors, self.outside), ([], []))
