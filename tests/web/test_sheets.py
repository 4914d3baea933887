"""Camera sheets, their index, the storyboard and the notes, read back by pypdf."""

import csv
import io
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np
from django.test import SimpleTestCase
from PIL import Image
from pypdf import PdfReader

from aperture.camera import Camera
from aperture.formats import usd
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.moves.arrows import Arrow
from aperture.scene.plan import drawings
from aperture.scene.stand_in import StandIn
from tests.web.test_shots import WithShot
from tests.web.test_tracks import HasBoards
from web.handoff.storyboard import Panel, jpeg_of, panel_of
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
        content = self.client.get(self.url("hand-off/camera.pdf")).content
        pdf = " ".join(map(text_of, PdfReader(io.BytesIO(content)).pages))
        for words in ("THE MOVE", "Lowest 7", "Across", "1.400 m", "31.00 mm", "42.00 mm"):
            self.assertIn(words, pdf)
        self.assertNotIn("−0.00", pdf)
        # Beside the curve of the speed stand its extremes.
        self.assertIn(f"Speed, m/s {np.hypot(0.25, 0.1) * 24:.2f} 6", pdf)
        # In the storyboard an arrow to the right says what the camera does.
        panel = panel_of(self.now())
        self.assertTrue(any(one.end[0] > one.begin[0] for one in panel.arrows), panel.arrows)
        with_arrows, _ = jpeg_of(panel, 384)
        without, _ = jpeg_of(replace(panel, arrows=[]), 384)
        self.assertNotEqual(with_arrows, without)


class Arrows(SimpleTestCase):
    """How a camera moves, drawn into a panel of the storyboard."""

    def drawn(self, *wanted, size=(640, 360), mode="RGB"):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "a.png"
            Image.new(mode, size, (0, 90, 0, 0)[: len(mode)]).save(path)
            data, aspect = jpeg_of(Panel(None, path, "", list(wanted)), 640)
        self.assertAlmostEqual(aspect, size[1] / size[0], places=2)
        return np.asarray(Image.open(io.BytesIO(data)).convert("RGB")).astype(int)

    def white(self, picture):
        return (picture > 200).all(axis=2)

    def test_a_line_with_a_head_beyond_its_end_and_words_below(self):
        white = self.white(self.drawn(Arrow("1.20 m", (0.2, 0.5), (0.7, 0.5))))
        self.assertTrue(white[180, 140:440].all())
        self.assertFalse(white[180, :120].any())
        columns = np.flatnonzero(white.any(axis=0))
        self.assertGreater(columns.max(), 455)  # the head's tip
        head = white[:, 445:450].any(axis=1).sum()
        self.assertGreater(head, 3 * white[:, 300].sum())
        self.assertTrue(white[188:230, 240:340].any())
        self.assertFalse(white[100:165].any())

    def test_words_beside_an_upright_arrow_stay_within_the_picture(self):
        for x in (0.06, 0.94):
            white = self.white(self.drawn(Arrow("0.80 m up", (x, 0.8), (x, 0.2))))
            columns = np.flatnonzero(white.any(axis=0))
            self.assertGreater(np.ptp(columns), 60)
            self.assertTrue(columns.min() > 2 and columns.max() < 637)
            inside = columns.mean() > x * 640 if x < 0.5 else columns.mean() < x * 640
            self.assertTrue(inside)

    def test_a_render_stands_on_black_and_a_large_picture_is_made_small(self):
        picture = self.drawn(size=(1280, 720), mode="RGBA")
        self.assertEqual(picture.shape, (360, 640, 3))
        self.assertLess(picture.max(), 8)
        self.assertIsNone(jpeg_of(Panel(None, None, "", []), 640))


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
