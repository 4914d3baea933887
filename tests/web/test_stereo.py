"""Stereo in the application: two cameras typed and keyed, what is said of them, both eyes rendered and packed."""

import io
import json
import zipfile

import numpy as np
from django.test import TransactionTestCase
from PIL import Image
from pxr import Usd, UsdGeom

from tests.web.test_moving_stand_ins import OnFilm
from tests.web.test_panorama import Matched
from web.match.path_fits import camera_of_state
from web.stage.stand_ins import stand_ins_of
from web.stereo.settings import pair_of

TYPED = {
    "interaxial": "6 cm",
    "convergence": "4 m",
    "mode": "shifted",
    "screen": "8 m",
    "seat": "12 m",
}


class Stereo(OnFilm):
    def test_from_the_distances_to_the_pictures(self):
        for wrong, says in (
            ({"interaxial": "0"}, "both eyes see the same"),
            ({"interaxial": "3 m"}, "Was another unit meant"),
            ({"convergence": "-1 m"}, "before the camera"),
            ({"eyes": "40 cm"}, "3 to 10 cm"),
            ({"interaxial": "wide"}, "interaxial"),
            ({"convergence": ""}, "Type the interaxial distance and the convergence"),
        ):
            answer = self.press("stereo", **TYPED | wrong)
            self.assertContains(answer, says, status_code=422)
        self.assertEqual(self.press("stereo/render").status_code, 422)
        self.assertEqual(self.press("stereo", **TYPED).status_code, 302)
        page = self.client.get(self.url("stereo"))
        self.assertContains(page, "Skiff")
        camera, item = camera_of_state(self.now().state), stand_ins_of(self.now().state)["Skiff"]
        left, right = pair_of(self.now()).cameras(camera)
        away = -camera.to_camera_space(item.vertices())[:, 2]
        px = camera.focal_px[0] * 0.06 * (1 / 4 - 1 / away)
        told = page.context["parallaxes"][0]["px"].replace("−", "-").split(" … ")
        np.testing.assert_allclose([float(one) for one in told], [px.min(), px.max()], atol=0.06)
        self.assertEqual(len(page.context["page"]["left"]), 1)
        # Near on a large screen, what is far away is more than the eyes can do.
        self.press("stereo", **TYPED | {"interaxial": "30 cm", "screen": "20 m"})
        self.assertContains(self.client.get(self.url("stereo")), "Divergence")
        self.press("stereo", **TYPED | {"mode": "toed", "convergence": "1 m"})
        page = self.client.get(self.url("stereo"))
        self.assertContains(page, "Vertical parallax")
        self.assertGreater(len(page.context["page"]["arrows"]), 20)
        # Keys over the frames, and both cameras over them.
        self.press("stereo", **TYPED)
        self.go(1)
        self.press("stereo/key")
        self.go(9)
        self.press("stereo", **TYPED | {"interaxial": "10 cm"})
        self.assertAlmostEqual(pair_of(self.now(), 5).interaxial_m, 0.08)
        file = io.BytesIO(
            b"".join(self.client.get(self.url("stereo/cameras.zip")).streaming_content)
        )
        with zipfile.ZipFile(file) as files:
            told = json.loads(files.read("stereo.json"))["frames"]
            self.assertAlmostEqual(told["5"]["interaxial_m"], 0.08)
            places = []
            for eye in ("left", "right"):
                stage = Usd.Stage.CreateInMemory()
                stage.GetRootLayer().ImportFromString(files.read(f"{eye}.usda").decode())
                prim = next(one for one in stage.Traverse() if one.IsA(UsdGeom.Camera))
                matrix = UsdGeom.Camera(prim).ComputeLocalToWorldTransform(5)
                places.append(np.array(matrix.ExtractTranslation()))
                shift = prim.GetAttribute("horizontalApertureOffset").Get()
                self.assertGreater(abs(shift), 0.1)
            apart = np.linalg.norm(np.subtract(*places)) * UsdGeom.GetStageMetersPerUnit(stage)
            self.assertAlmostEqual(apart, 0.08, places=6)
        self.press("stereo/key", verb="remove", frame=9)
        self.assertEqual(self.press("stereo/key", verb="remove", frame="x").status_code, 422)
        # Both eyes rendered, packed, and what is where written into the file.
        answer = self.client.get(
            self.url("stereo/packed.png"), headers={"Accept": "application/json"}
        )
        self.assertContains(answer, "Render both eyes first", status_code=422)
        self.assertEqual(self.press("stereo/render").status_code, 302)
        self.assertEqual([row.wanted["eye"] for row in self.now().renders.all()], ["right", "left"])
        self.assertContains(self.client.get(self.url("elements")), "the right eye")
        made = self.client.get(self.url("stereo/packed.png?kind=side"))
        picture = Image.open(io.BytesIO(b"".join(made.streaming_content)))
        width, height = self.now().renders.first().width, self.now().renders.first().height
        self.assertEqual(picture.size, (2 * width, height))
        self.assertIn("left eye at the left", picture.text["Description"])
        alpha = np.asarray(picture)[..., 3] / 255
        middles = [
            (np.arange(width) * half.sum(axis=0)).sum() / half.sum()
            for half in (alpha[:, :width], alpha[:, width:])
        ]
        left, right = pair_of(self.now()).cameras(camera_of_state(self.now().state))
        corners = stand_ins_of(self.now().state)["Skiff"].vertices()
        wanted = (
            (right.project(corners) - left.project(corners))[:, 0].mean() * width / left.grid.width
        )
        self.assertAlmostEqual(middles[1] - middles[0], wanted, delta=0.4)
        self.assertEqual(self.client.get(self.url("stereo/packed.exr?kind=least")).status_code, 200)
        self.assertEqual(
            self.client.get(
                self.url("stereo/packed.png?kind=woven"), headers={"Accept": "application/json"}
            ).status_code,
            422,
        )


class AllAround(Matched, TransactionTestCase):
    def test_a_panorama_for_two_eyes(self):
        self.matched()
        self.press("stereo", interaxial="20 cm", convergence="3 m")
        self.assertContains(self.client.get(self.url("stereo")), "depth fades")
        self.assertEqual(self.press("stereo/render").status_code, 302)
        made = self.client.get(self.url("stereo/packed.png?kind=over"))
        alpha = np.asarray(Image.open(io.BytesIO(b"".join(made.streaming_content))))[..., 3]
        upper, lower = np.split(alpha, 2)
        self.assertGreater((upper != lower).sum(), 50)
