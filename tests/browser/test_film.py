"""A filmed plate in a real browser: brought in with a gap, stepped, played, shifted, worked on."""

import tempfile
from pathlib import Path

import cv2
import numpy as np

from tests.browser.browsing import Browsing
from tests.filmed import number_in, numbered


class Film(Browsing):
    def seen(self):
        """The number that the strip has laid over the plate; None where the plate itself is
        seen."""
        values = self.page.evaluate("""() => {
              const laid = document.querySelector("canvas[data-frames]");
              if (laid.style.visibility === "hidden") return null;
              const {width, height} = laid;
              const {data} = laid.getContext("2d").getImageData(0, 0, width, height);
              return [width, height, ...data];
            }""")
        if values is None:
            return None
        width, height, *pixels = values
        return number_in(np.array(pixels, np.uint8).reshape(height, width, 4)[..., :3])

    def wait_for_frame(self, frame):
        self.until(lambda: self.page.input_value("#strip-frame") == str(frame))

    def wait_for(self, number):
        """Until that frame's picture has come, where frames have the pictures' numbers."""
        self.wait_for_frame(number)
        self.until(lambda: self.seen() == number)

    def test_a_sequence_with_a_gap(self):
        page = self.page
        with tempfile.TemporaryDirectory() as folder:
            paths = [
                Path(folder) / f"walk.{number:04}.png" for number in range(100) if number != 40
            ]
            for path in paths:
                cv2.imwrite(str(path), numbered(int(path.name.split(".")[1])))
            damaged = Path(folder) / "walk.0060.png"
            damaged.write_bytes(damaged.read_bytes()[:200])
            self.make_shot(paths[0])
            others = [Path(folder) / f"test_{number}.png" for number in (7, 8)]
            for path in others:
                cv2.imwrite(str(path), numbered(1))
            # Of two sequences in one drop the artist chooses one.
            page.set_input_files("#id_picture", [*others, *paths])
            with page.expect_navigation():
                page.click("text=walk.####.png, 0–99")
        page.wait_for_selector("text=Pictures are missing: 40.")
        self.accessible()
        self.assertIsNone(self.seen())
        page.keyboard.press("ArrowRight")
        self.wait_for(1)
        page.keyboard.press("Shift+ArrowRight")
        self.wait_for(11)
        page.fill("#strip-frame", "40")
        page.keyboard.press("Enter")
        page.wait_for_selector("text=This picture is missing.")
        self.assertNotIn(self.seen(), (39, 40, 41))
        page.fill("#strip-frame", "60")
        page.keyboard.press("Enter")
        page.wait_for_selector("text=This picture can’t be shown.")
        self.assertNotIn(self.seen(), (39, 41, 59, 60, 61))
        page.keyboard.press("End")
        self.wait_for(99)

        # It plays from the beginning, and stops where Space is pressed.
        page.keyboard.press("Home")
        page.keyboard.press("Space")
        self.until(lambda: int(page.input_value("#strip-frame")) > 5)
        page.keyboard.press("Space")
        at = int(page.input_value("#strip-frame"))
        self.wait_for(at)
        self.assertIn("24 fps", page.inner_text("#strip-says"))

        # The pictures are shifted: the same picture under another number.
        page.fill("#id_first", "1000")
        self.click_through("text=Pictures only")
        self.assertEqual(page.input_value("#strip-frame"), str(1000 + at))
        page.fill("#strip-frame", "1031")
        page.keyboard.press("Enter")
        page.wait_for_selector("#work-on:not([hidden])")
        with page.expect_navigation():
            page.keyboard.press("Enter")  # once more, outside the field: work on it
        self.assertEqual(self.state()["film"]["shown"], 31)
        self.assertEqual(page.input_value("#strip-frame"), "1031")
        self.assertIsNone(self.seen())
        self.assertIn("walk.0031.png", page.inner_text("#report"))

        # The whole shot is shifted, with its range; undo brings both back. The same picture is
        # worked on all the while.
        page.keyboard.press("(")
        self.until(lambda: self.state()["range"] == [1031, 1099])
        self.go("plate")
        page.fill("#id_first", "0")
        self.click_through("text=Shift the shot")
        self.assertEqual(page.input_value("#strip-frame"), "31")
        self.assertEqual((self.state()["range"], self.state()["film"]["shown"]), ([31, 99], 31))
        self.assertIn("walk.0031.png", page.inner_text("#report"))
        page.click("[data-history=undo]")
        self.wait_for_frame(1031)

        # On the Match page a mark belongs to its frame; on one that is only looked at, nothing is
        # drawn.
        self.go("match")
        self.accessible()
        place = self.on_screen((50, 40))
        page.keyboard.press("s")
        with self.saving():
            page.mouse.click(*place)
        page.keyboard.press("End")
        self.wait_for_frame(1099)
        page.keyboard.press("s")
        page.mouse.click(*self.on_screen((90, 40)))
        page.keyboard.press("Delete")
        self.quiet()
        self.assertEqual(len(self.state()["marks"]), 1)
        with page.expect_navigation():
            page.keyboard.press("Enter")
        self.wait_for_frame(1099)
        self.assertTrue(page.url.endswith("/match"))
        self.assertEqual((self.state()["film"]["shown"], self.state()["marks"]), (99, []))
        page.keyboard.press("ArrowLeft")  # nothing is chosen that it could nudge
        self.wait_for_frame(1098)
        self.assertEqual(self.errors, [])
        self.assertEqual(self.outside, [])
