"""Gates and lenses against OpenUSD, the open lens database's own library, a handbook's tables and
facts of the trade."""

import math
from unittest import TestCase

import lensfunpy
import numpy as np
from pxr import Gf

from aperture.formats.usd import aperture_of
from aperture.gates.chain import build
from aperture.gates.claims import Claim, equivalent_sensor, lay_out
from aperture.gates.formats import BY_KEY
from aperture.gates.guides import SAFE_ACTION, SAFE_TITLE, whole
from aperture.geometry.angles import FULL_FRAME_DIAGONAL_MM, view_of
from aperture.lens import database
from aperture.lens.lens import Lens
from aperture.lens.profiles import convert

# A made-up body of 36.70 × 25.54 mm; the steps lead off the middle, through a squeeze, to overscan.
SENSOR = {"width_mm": 36.7, "height_mm": 25.54, "photosites": [4448, 3096], "name": ""}
STEPS = [
    {"do": "window", "left": 200, "top": 300, "width": 4000, "height": 2400},
    {"do": "desqueeze"},
    {"do": "resize", "width": 2048},
    {"do": "overscan", "left": 40, "right": 90, "top": 10, "bottom": 60},
    {"do": "extract", "aspect": 2.39},
]


class AgainstOpenUsd(TestCase):
    def test_every_grid_of_a_chain_is_gf_cameras_gate(self):
        for squeeze in (1.0, 2.0):
            gate = SENSOR | {
                "squeeze": squeeze,
                "steps": [{"id": f"g{i}", **step} for i, step in enumerate(STEPS)],
                "plate_at": 2,
            }
            plain = build(gate)
            # The lens's axis meets the middle of the sensor, so its centre is told from the plate's
            # middle.
            centre = -(plain.lens_from_mm @ plain.plate_grid.centre_mm)
            chain = build(gate, None, Lens(50.0, squeeze, centre_mm=tuple(centre)))
            for index, stage in enumerate(chain.stages):
                camera, figures = chain.camera(index), chain.figures(index)
                aperture = aperture_of(camera)
                reference = Gf.Camera(
                    focalLength=50.0,
                    horizontalAperture=aperture.horizontal,
                    verticalAperture=aperture.vertical,
                    horizontalApertureOffset=aperture.horizontal_offset,
                    verticalApertureOffset=aperture.vertical_offset,
                )
                across, down = chain.shown_gate(index)
                self.assertAlmostEqual(aperture.horizontal, across, places=9)
                self.assertAlmostEqual(aperture.vertical, down, places=9)
                if np.allclose(
                    figures.centre_mm, 0, atol=1e-9
                ):  # GfCamera's field of view leaves the offset out
                    self.assertAlmostEqual(
                        reference.GetFieldOfView(Gf.Camera.FOVHorizontal),
                        math.degrees(figures.view.horizontal),
                        places=4,
                    )
                    self.assertAlmostEqual(
                        reference.GetFieldOfView(Gf.Camera.FOVVertical),
                        math.degrees(figures.view.vertical),
                        places=4,
                    )
                frustum = reference.frustum
                to_clip = np.array(frustum.ComputeViewMatrix() * frustum.ComputeProjectionMatrix())
                world = np.array(
                    [[0.2, 0.1, -3.0], [-0.7, 0.35, -4.0], [0.0, 0.0, -2.0], [0.4, -0.5, -5.0]]
                )
                clip = np.column_stack([world, np.ones(len(world))]) @ to_clip
                ndc = clip[:, :2] / clip[:, 3:]
                pixels = (ndc * (1, -1) + 1) / 2 * (stage.grid.width, stage.grid.height)
                np.testing.assert_allclose(
                    camera.project(world), pixels, atol=2e-3, err_msg=stage.name
                )  # GfCamera keeps single precision


class AgainstTheLensDatabase(TestCase):
    WIDTH, HEIGHT = 3000, 2000

    def test_profiles_give_the_librarys_own_correction(self):
        """A twelfth of all its rectilinear lenses, every model among them: its own code within 0.05
        px (in truth within 0.001)."""
        raw, seen = lensfunpy.Database().lenses, set()
        # The library counts a picture from the middle of its first pixel to the middle of its last.
        counted = math.hypot(self.WIDTH - 1, self.HEIGHT - 1)
        at = np.array([(x, y) for x in (0, 333, 1499, 2200, 2999) for y in (0, 700, 1999)], float)
        poly5 = [
            index
            for index, lens in enumerate(raw)
            if any(entry.model.name == "POLY5" for entry in lens.calib_distortion)
        ]
        for index in [*range(0, len(raw), 12), *poly5]:
            lens = database.lens_by_key(str(index))
            for focal in set(lens.focal_mm):
                profile = (
                    database.profile_of(lens.key, focal)
                    if lens.projection == "rectilinear"
                    else None
                )
                if profile is None:
                    continue
                mm_per_px = FULL_FRAME_DIAGONAL_MM / raw[index].crop_factor / counted
                modifier = lensfunpy.Modifier(
                    raw[index], raw[index].crop_factor, self.WIDTH, self.HEIGHT
                )
                modifier.initialize(focal, 4.0, 10.0, 1.0, flags=lensfunpy.ModifyFlags.DISTORTION)
                theirs = np.array(
                    [modifier.apply_geometry_distortion(x, y, 1, 1).reshape(2) for x, y in at]
                )  # one by one: in rows it adds up rounding
                middle = np.array([self.WIDTH - 1, self.HEIGHT - 1]) / 2
                ours = profile.distorted_mm((at - middle) * mm_per_px) / mm_per_px + middle
                np.testing.assert_allclose(ours, theirs, atol=2e-3, err_msg=lens.model)
                seen.add(profile.model)
                gate = (
                    counted
                    * mm_per_px
                    * np.array([self.WIDTH, self.HEIGHT])
                    / math.hypot(self.WIDTH, self.HEIGHT)
                )
                self._converted(profile, gate)
        self.assertEqual(seen, {"poly3", "poly5", "ptlens"})

    def _converted(self, profile, gate):
        """Our coefficients draw what the profile draws: exactly where it has even powers only, else
        to within the error that is stated."""
        converted = convert(profile, gate)
        lens = Lens(converted.focal_mm, coefficients=converted.coefficients)
        rays = np.array(
            [
                [x, y, -profile.focal_mm]
                for x in np.linspace(0, gate[0] / 2, 7)
                for y in np.linspace(0, gate[1] / 2, 5)
            ]
        )
        wanted = profile.distorted_mm(rays[:, :2] * (1, -1))
        drawn = lens.project(rays)
        inside = (np.abs(wanted) <= gate / 2).all(axis=1)
        px = 1 / (gate[0] / self.WIDTH)
        miss = np.linalg.norm(drawn - wanted, axis=1)[inside].max()
        self.assertLessEqual(
            miss * px, (converted.largest_error_mm * px if profile.model == "ptlens" else 0) + 0.02
        )

    def test_crop_factors_of_cameras_agree_with_the_table_of_formats(self):
        """Photographers' crop factors, thousands of them: the commonest near each format's is its
        diagonal within 2 %."""
        known = np.array([camera.crop_factor for camera in lensfunpy.Database().cameras])
        for key in (
            "full-frame-still",
            "aps-c",
            "aps-c-small",
            "four-thirds",
            "one-inch",
            "medium-44-33",
        ):
            ours = FULL_FRAME_DIAGONAL_MM / math.hypot(*BY_KEY[key].gate_mm)
            near = known[np.abs(known / ours - 1) < 0.03]
            self.assertGreater(len(near), 2, key)
            self.assertAlmostEqual(float(np.median(near)) / ours, 1, delta=0.02, msg=key)


class TablesAndFactsOfTheTrade(TestCase):
    def test_angles_of_view_on_36_by_24(self):
        # Makers' tables of angles of view for 36 × 24 mm, as lens handbooks print them to half a
        # degree; values from memory.
        for focal, across, down, diagonal in (
            (20, 84, 62, 94),
            (24, 74, 53, 84),
            (28, 65.5, 46.5, 75.5),
            (35, 54.5, 38, 63.5),
            (50, 39.5, 27, 47),
            (85, 24, 16, 28.5),
            (135, 15, 10, 18),
            (200, 10.5, 7, 12.5),
        ):
            view = view_of((36, 24), focal)
            for ours, table in zip(
                (view.horizontal, view.vertical, view.diagonal), (across, down, diagonal)
            ):
                self.assertAlmostEqual(math.degrees(ours), table, delta=0.5, msg=focal)

    def test_squeeze(self):
        # Common practice, no source: 50 mm with squeeze 2 is as wide as 25 mm and its height
        # doesn't change; 36.70 × 25.54 mm makes 2.87 : 1.
        chain = build(SENSOR | {"squeeze": 2.0}, None, Lens(50.0, 2.0))
        figures = chain.figures(0)
        self.assertAlmostEqual(figures.view.horizontal, view_of((36.7, 25.54), 25).horizontal)
        self.assertAlmostEqual(figures.view.vertical, view_of((36.7, 25.54), 50).vertical)
        self.assertEqual(round(figures.aspect, 2), 2.87)
        for aspect in (
            2.39,
            2.4,
        ):  # narrower than 2.87, so the delivery crops the sides and keeps the height
            cut = (
                build(
                    SENSOR
                    | {
                        "squeeze": 2.0,
                        "steps": [{"id": "g1", "do": "extract", "aspect": aspect}],
                        "plate_at": 0,
                    }
                )
                .stages[-1]
                .grid
            )
            self.assertEqual(cut.height, 3096)
            self.assertAlmostEqual(cut.width, 4448 * aspect / figures.aspect, delta=2)

    def test_deliveries(self):
        # Common practice, no source: 2048 × 1556 is close to 4:3; a wide-screen frame of 2.4 is
        # 1920 × 800.
        full = BY_KEY["35-full"].gate_mm
        scan = build(
            {
                "width_mm": full[0],
                "height_mm": full[1],
                "steps": [{"id": "g1", "do": "resize", "width": 2048}],
                "plate_at": 1,
            }
        )
        self.assertAlmostEqual(scan.plate_grid.height, 1536, delta=21)
        wide = build(
            {
                "width_mm": 36,
                "height_mm": 20.25,
                "photosites": [1920, 1080],
                "plate_at": 0,
                "steps": [{"id": "g1", "do": "extract", "aspect": 2.4}],
            }
        )
        self.assertEqual((wide.stages[-1].grid.width, wide.stages[-1].grid.height), (1920, 800))

    def test_an_aerial_camera_quoted_with_150_degrees_and_14_66_mm(self):
        # Common practice, no source: no straight lens has both; an equisolid one has, across the
        # width.
        claim = Claim(math.radians(150), None, 14.66, equivalent_sensor(1.5, "width"))
        found = {(one.projection, one.basis): one for one in lay_out(claim)}
        degrees = {key: round(math.degrees(one.angle), 1) for key, one in found.items()}
        self.assertEqual(
            (degrees["rectilinear", "horizontal"], degrees["rectilinear", "diagonal"]),
            (101.7, 111.8),
        )
        self.assertEqual(degrees["equisolid", "horizontal"], 151.5)
        self.assertEqual(
            [key for key, one in found.items() if one.agrees], [("equisolid", "horizontal")]
        )

    def test_safe_areas(self):
        # SMPTE ST 2046-1:2009: action 93 %, titles 90 % of the width and height; from memory. On
        # 1920 × 1080: 1786 × 1004 and 1728 × 972.
        grid = build({"width_mm": 36, "height_mm": 20.25, "photosites": [1920, 1080]}).plate_grid
        self.assertEqual(
            [
                tuple(map(round, (box.width, box.height)))
                for box in (whole(grid).inset(SAFE_ACTION), whole(grid).inset(SAFE_TITLE))
            ],
            [(1786, 1004), (1728, 972)],
        )
