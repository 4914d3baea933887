"""Camera sheets, their index, the storyboard and the notes, read back by pypdf."""

import csv
import io
import tempfile
from pathlib import Path

import numpy as np
from pypdf import PdfReader

from aperture.camera import Camera
from aperture.formats import usd
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.scene.plan import drawings
from aperture.scene.stand_in import StandIn
from tests.web.test_shots import WithShot
from tests.web.test_tracks import HasBoards
from web.match.fits import fit_of
from web.match.path_fits import camera_of_state
from web.moves.actions import take
from web.shows.history import create_shot


def text_of(page):
    return " ".join(page.extract_text().split())


class Sheets(WithShot):
    def written(self, **more):
        form = {"show_slug": "tide", "code": "LT900", "description": "Boathouse", **more}
        return self.client.post(self.url("settings"), form)

    def pages(self, address):
        return PdfReader(io.BytesIO(self.client.get(address).content)).pages

    def test_a_sheet_has_the_figures_of_the_fit(self):
        self.ready()
        answer = self.written(scene="14", slate="14C", take="3", notes="Lamp in frame.\n=SUM(A1)")
        self.assertEqual(answer.status_code, 302, answer.content)
        (page, *more) = self.pages(self.url("hand-off/camera.pdf"))
        text = " ".join(map(text_of, (page, *more)))
        fit = fit_of(self.state())
        camera = camera_of_state(self.state())
        for words in (
            "LT900",
            "14C",
            "Lamp in frame.",
            f"{fit['camera']['focal_mm']:.2f}"[:-1],  # its last place goes by its ±
            f"{camera.position[1]:.3f} m",
            "solved",
            "36.000 × 20.250 mm",
            "point 3:",
            "Lintel",
        ):
            self.assertIn(words, text)
        sheet = self.client.get(self.url("hand-off")).content.decode()
        for words in ("14C", "Lamp in frame.", "From the side", "point 3:"):
            self.assertIn(words, sheet)

    def test_all_sheets_of_a_show_have_an_index(self):
        self.ready()
        create_shot(self.shot.show, "LT910", "Nothing yet: Möwe, 灯台")
        pages = self.pages("/shows/tide/sheets.pdf")
        index = text_of(pages[0])
        starts = {}
        for number, page in enumerate(pages[1:], 2):
            for code in ("LT900", "LT910"):
                if f"CAMERA SHEET The Lantern Tide, {code}" in text_of(page):
                    starts[code] = number
        self.assertRegex(index, f"{starts['LT900']} LT900 .*{starts['LT910']} LT910")
        self.assertIn("no camera to hand off", text_of(pages[starts["LT910"] - 1]))
        self.written(notes="=1+1")
        board = " ".join(map(text_of, self.pages("/shows/tide/storyboard.pdf")))
        self.assertIn("LT900 Boathouse =1+1", board)
        rows = list(
            csv.DictReader(io.StringIO(self.client.get("/shows/tide/notes.csv").content.decode()))
        )
        self.assertEqual(rows[0]["notes"], "'=1+1")  # no formula in a spreadsheet
        self.assertEqual(rows[1]["description"], "Nothing yet: Möwe, 灯台")


class SheetsOfMoves(HasBoards):
    def test_start_end_and_extremes(self):
        grid, over = Grid.from_gate(384, 216, 36, 20.25), {}
        for n in range(1, 13):
            over[n] = Camera.at(grid, Lens(30 + n), (0.25 * n, 1.5 - 0.1 * (n == 7), 4))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "m.usda"
            usd.write(path, over[1], {}, path_of_camera=over)
            take(self.now(), "m.usda", path.read_bytes(), None, None)
        gate = {"format": "full-frame-16-9", "squeeze": "1"}
        self.client.post(self.url("gate"), gate)
        self.press("moves/m1/serve")
        page = self.client.get(self.url("hand-off")).content.decode()
        # Lowest on frame 7; 0.25 m a frame at 24 frames a second are 6 m/s, and more on the way
        # down and up.
        for words in ("Lowest", '<td class="num">7</td>', "1.400 m", "31.00 mm", "42.00 mm"):
            self.assertIn(words, page)
        self.assertIn(f"{np.hypot(0.25, 0.1) * 24:.3f}|", page)


class Plans(WithShot):
    def test_the_field_of_view_is_the_lenss(self):
        """In plan and from the side: of a level camera, its angles of view; turned by 90°, the set
        lies where it does.
        """
        grid = Grid.from_gate(1920, 1080, 36, 20.25)
        camera = Camera.at(grid, Lens(18), (1, 2, 3), np.radians(30))
        plan, side = drawings({1: camera}, {"Crate": StandIn((1, 1, 1), (0, 0, -2))}, [1])
        for drawing, tangent in ((plan, 1.0), (side, 20.25 / 36)):
            left, eye, right = next(s.points for s in drawing.strokes if s.kind == "view")
            a, b = left - eye, right - eye
            angle = np.arccos(a @ b / np.linalg.norm(a) / np.linalg.norm(b))
            # From the side, the near edge of the picture's foot spans a little more than its
            # middle.
            self.assertAlmostEqual(angle, 2 * np.arctan(tangent), delta=1e-6)
        np.testing.assert_allclose(eye, [np.dot([1, 2, 3], [-0.5, 0, -np.sqrt(0.75)]), 2])
        crate = next(s for s in plan.strokes if s.kind == "item")
        np.testing.assert_allclose(crate.points.min(axis=0), [-0.5, 1.5], atol=1e-6)
