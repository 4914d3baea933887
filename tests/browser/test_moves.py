"""The page of moves in a real browser: a rig's move over a film, mended by its remedies, put to
use.
"""

import tempfile
from fractions import Fraction
from pathlib import Path

import cv2

from aperture.camera import Camera
from aperture.formats import recipe
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from tests.browser.browsing import Browsing
from tests.filmed import numbered
from web.moves.actions import put_into_set
from web.shows.history import edit
from web.shows.models import Shot

COLUMNS = ("frame", *recipe.POSE, "view_h_deg", "view_v_deg")


class Moves(Browsing):
    def cameras(self):
        grid = Grid.from_gate(384, 216, 36, 20.25)
        return {n: Camera.at(grid, Lens(30), (0.1 * n, 1.5, 4)) for n in range(1, 13)}

    def file(self, folder, name, cameras, **conventions):
        path = Path(folder) / name
        own = recipe.Recipe(columns=COLUMNS, **conventions)
        path.write_text(recipe.write(cameras, own, Fraction(24)))
        return path

    def test_a_move_is_checked_mended_and_used(self):
        page = self.page
        with tempfile.TemporaryDirectory() as folder:
            paths = [Path(folder) / f"walk.{number:04}.png" for number in range(1, 13)]
            for path in paths:
                cv2.imwrite(str(path), numbered(int(path.name.split(".")[1])))
            self.make_shot(paths[0])
            page.set_input_files("#id_picture", paths)
            page.wait_for_selector("#strip-data", state="attached")
            crate = {
                "id": "b1",
                "name": "Crate",
                "size": [1, 1, 1],
                "base": [0, 0, 0],
                "turn_deg": 0,
            }
            edit(
                Shot.objects.with_head().get(),
                "Crate",
                lambda state: state.update(stand_ins=[crate]),
            )
            self.go("match")
            self.click_through("text=moves")
            # A rig that counts centimetres, and from frame zero on.
            rig = self.file(folder, "rig.csv", self.cameras(), unit="cm", frame_offset=-1)
            page.set_input_files("[name=file]", rig)
            self.click_through("text=Bring it in")
        page.wait_for_selector("text=150 m above the floor")
        self.accessible()
        self.click_through("text=It counts in cm")
        self.click_through("text=Begin it on frame 1")
        self.assertEqual(page.locator("text=Is this right?").count(), 0)
        self.until(lambda: page.locator("#marks path.wire").count() == 1)
        page.keyboard.press("End")
        self.until(lambda: page.input_value("#set-frame") == "12")
        self.click_through("text=Use as the shot")
        page.wait_for_selector("text=Use the match again")
        self.click_through("text=Put into the set")
        self.assertIn("through=c1", page.url)
        camera = self.state()["cameras"][0]
        self.assertEqual([round(value, 6) for value in camera["position"]], [0.1, 1.5, 4])
        with self.assertRaisesRegex(Exception, "no camera"):
            put_into_set(Shot.objects.with_head().get(), "m1", 99, None)
        page.keyboard.press("Control+z")
        self.until(lambda: not self.state()["cameras"])
        self.assertEqual((self.errors, self.outside), ([], []))
