"""Published standards and facts of the trade."""

import json
import re
import tempfile
from fractions import Fraction
from pathlib import Path
from unittest import TestCase

import numpy as np
from jsonschema import Draft202012Validator
from PIL import Image
from pxr import Usd, UsdValidation

from aperture.camera import Camera
from aperture.formats import gltf, usd
from aperture.gates.formats import BY_KEY, FORMATS
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match.document import schema
from aperture.plates.colour import decode_srgb, encode_srgb
from aperture.plates.reading import read_picture
from aperture.scene.stand_in import StandIn
from demo.evidence import FACTS
from demo.plates import FOLDER, PLATES, truth
from demo.show import marks_for

CAMERA = Camera.at(Grid.from_gate(320, 180, 36, 20.25), Lens(24), (3, 1.7, 6), 0.4, -0.12, 0.03)


class Colour(TestCase):
    def test_srgb_by_its_published_points(self):
        # IEC 61966-2-1: 0.0031308 linear is 0.04045 encoded; 18 % grey is 118 of 255 and 50 % is
        # 188, common practice, no source.
        self.assertAlmostEqual(float(encode_srgb(np.array(0.0031308))), 0.04045, places=5)
        self.assertEqual(
            [
                round(float(encode_srgb(np.array(v))) * 255)
                for v in (0.0, 0.18, 0.5, 1.0, 7.0, -1.0)
            ],
            [0, 118, 188, 255, 255, 0],
        )
        steps = np.linspace(0, 1, 300)
        np.testing.assert_allclose(decode_srgb(encode_srgb(steps)), steps, atol=1e-6)


class Formats(TestCase):
    def test_sizes_of_the_trade(self):
        # ISO 1007: 36 × 24 mm; SMPTE ST 59 full aperture 24.89 × 18.66 mm, 4-perf; both from
        # memory, like the table itself.
        self.assertEqual(BY_KEY["full-frame-still"].gate_mm, (36.0, 24.0))
        self.assertAlmostEqual(
            BY_KEY["35-full"].gate_mm[0] / BY_KEY["35-full"].gate_mm[1], 4 / 3, delta=0.01
        )
        # Common practice, no source: academy is 1.37:1, anamorphic 2× makes 2.36–2.40:1, the
        # 2/3-inch circle is 11 mm.
        self.assertAlmostEqual(
            BY_KEY["35-academy"].gate_mm[0] / BY_KEY["35-academy"].gate_mm[1], 1.372, delta=0.003
        )
        wide = BY_KEY["35-anamorphic"].gate_mm
        self.assertTrue(2.34 < 2 * wide[0] / wide[1] < 2.40)
        self.assertAlmostEqual(
            float(np.hypot(*BY_KEY["two-thirds-inch"].gate_mm)), 11.0, delta=0.05
        )
        # A wide-screen frame of 2.4 is 1920 × 800, and 2048 × 1556 is close to 4:3; common
        # practice, no source.
        self.assertEqual(round(1920 / 2.4), 800)
        self.assertAlmostEqual(2048 / 1556, 4 / 3, delta=0.02)

    def test_every_row_names_its_source(self):
        for row in FORMATS:
            self.assertRegex(
                row.source, r"SMPTE ST \d+|ISO \d+|common practice, no source|computed", row.name
            )
        self.assertEqual(len({row.key for row in FORMATS}), len(FORMATS))


class Files(TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_usd_complies(self):
        """OpenUSD's own validators find nothing wrong with the stage."""
        for up_axis in "YZ":
            path = self.folder / f"{up_axis}.usda"
            usd.write(
                path,
                CAMERA,
                {"Crate 1": StandIn((1, 1, 1)), "7 Äpfel": StandIn((1, 2, 1))},
                up_axis,
                frame=1012,
                rate=Fraction(24000, 1001),
                name="LT-010 camera",
            )
            stage = Usd.Stage.Open(str(path))
            self.assertAlmostEqual(stage.GetTimeCodesPerSecond(), 24000 / 1001)
            self.assertEqual((stage.GetStartTimeCode(), stage.GetEndTimeCode()), (1012, 1012))
            rules = UsdValidation.ValidationRegistry().GetOrLoadAllValidators()
            self.assertGreater(len(rules), 10)
            found = UsdValidation.ValidationContext(rules).Validate(Usd.Stage.Open(str(path)))
            self.assertEqual([error.GetMessage() for error in found], [])

    def test_gltf_says_what_it_loses_and_stays_within_the_standard(self):
        bent = Camera(
            CAMERA.grid,
            Lens(24, centre_mm=(0.5, 0), coefficients=(-0.1, 0, 0, 0, 0)),
            CAMERA.world_from_camera,
        )
        self.assertEqual(gltf.losses(CAMERA), [])
        self.assertEqual(len(gltf.losses(bent)), 2)
        gltf.write(self.folder / "a.gltf", bent, {"Crate": StandIn((1, 1, 1))})
        data = json.loads((self.folder / "a.gltf").read_text())
        # glTF 2.0, clauses 3.2, 3.6, 3.10: version, positive yfov and znear, bounds on positions,
        # indices within them.
        self.assertEqual(data["asset"]["version"], "2.0")
        self.assertTrue(
            0 < data["cameras"][0]["perspective"]["yfov"] < np.pi
            and data["cameras"][0]["perspective"]["znear"] > 0
        )
        position = data["accessors"][data["meshes"][0]["primitives"][0]["attributes"]["POSITION"]]
        self.assertEqual((position["min"], position["max"]), ([-0.5, 0.0, -0.5], [0.5, 1.0, 0.5]))
        self.assertEqual(
            sum(view["byteLength"] for view in data["bufferViews"]),
            data["buffers"][0]["byteLength"],
        )

    def test_the_demo_is_invented_and_its_documents_are_valid(self):
        for name, plate in PLATES.items():
            picture = read_picture(FOLDER / f"{name}.jpg")
            with Image.open(FOLDER / f"{name}.jpg") as independent:
                self.assertEqual(independent.size, (picture.width, picture.height))
                exif = independent.getexif().get_ifd(0x8769)
            self.assertEqual(
                (picture.metadata.f_number, picture.metadata.iso),
                (float(exif[0x829D]), exif[0x8827]),
            )
            self.assertEqual(picture.metadata.focal_mm, plate["focal_mm"])
            marks = {
                "format": "accurate-aperture/match",
                "version": 1,
                "image": {"width": 1920, "height": 1080},
                "marks": marks_for(truth(next(iter(PLATES)))),
                "facts": FACTS,
            }
            Draft202012Validator(schema()).validate(marks)


class Contract(TestCase):
    def test_the_example_of_the_contract_is_a_valid_document(self):
        """The document that docs/match-document's contract gives as its example, every kind of mark
        and fact in it."""
        example = {
            "format": "accurate-aperture/match",
            "version": 1,
            "image": {"width": 1920, "height": 1080},
            "gate": {"width_mm": 24.0, "height_mm": 13.5, "squeeze": 1.0},
            "lens": {
                "projection": "rectilinear",
                "focal_mm": None,
                "principal_point": "centre",
                "distortion": "none",
            },
            "marks": [
                {
                    "id": "e1",
                    "kind": "edge",
                    "axis": "along",
                    "points": [[102.0, 840.5], [731.2, 566.0]],
                    "sigma_px": 0.5,
                },
                {
                    "id": "e2",
                    "kind": "edge",
                    "axis": "across",
                    "points": [[1210.0, 300.0], [1700.0, 322.5]],
                    "sigma_px": 0.5,
                },
                {
                    "id": "s1",
                    "kind": "spot",
                    "at": [731.2, 566.0],
                    "sigma_px": 0.5,
                    "world": [0, 0, 0],
                },
                {
                    "id": "s2",
                    "kind": "spot",
                    "at": [731.0, 212.0],
                    "sigma_px": 0.5,
                    "world": [None, None, None],
                },
                {
                    "id": "b1",
                    "kind": "bow",
                    "points": [[10, 12.2], [400, 9.1], [900, 8.0]],
                    "sigma_px": 0.3,
                },
            ],
            "facts": [
                {
                    "id": "f1",
                    "kind": "length",
                    "from": "s1",
                    "to": "s2",
                    "metres": 3.0,
                    "plus_minus": 0.005,
                    "along": "up",
                },
                {"id": "f2", "kind": "camera_height", "metres": 1.62, "plus_minus": 0.01},
                {
                    "id": "f3",
                    "kind": "camera_position",
                    "metres": [None, 1.62, None],
                    "plus_minus": 0.01,
                },
            ],
        }
        Draft202012Validator(schema()).validate(example)
        for path, wrong in (
            (("marks", 0, "axis"), "north"),
            (("facts", 0, "metres"), 0),
            (("lens", "projection"), "wide"),
            (("image", "width"), 1.5),
        ):
            broken = json.loads(json.dumps(example))
            place = broken
            for key in path[:-1]:
                place = place[key]
            place[path[-1]] = wrong
            self.assertFalse(Draft202012Validator(schema()).is_valid(broken), path)

    def test_no_page_asks_another_host(self):
        root = Path(__file__).parents[2] / "web"
        for path in (
            *root.rglob("templates/**/*.html"),
            *root.rglob("static/**/*.js"),
            root / "ui/static/ui/app.css",
        ):
            if "vendor" not in path.parts:
                self.assertEqual(
                    re.findall(
                        r"(?:src|href|url|import|fetch)[\s=('\"]+https?://[^\s'\"]+",
                        path.read_text(),
                    ),
                    [],
                    path,
                )
