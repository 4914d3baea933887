"""Stereo in the application: two cameras typed and keyed, what is said of them, both eyes rendered
and packed."""

import io
import json
import zipfile

import cv2
import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TransactionTestCase
from PIL import Image
from pxr import Usd, UsdGeom

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.stereo.pair import Pair
from tests.web.test_moving_stand_ins import OnFilm
from tests.web.test_panorama import Matched
from tests.web.test_shots import HasShot
from web.jobs.models import Job
from web.match.path_fits import camera_of_state
from web.match.tracking import tell, tracks_of
from web.shows.history import edit
from web.shows.models import Shot
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


GRID = Grid.from_gate(960, 540, 36.0, 20.25)
# A plane across an axis: which, where, and between which places of the two others it ends.
WALLS = [(1, 0.0, (-9, 9), (-6, 3)), (2, -6.0, (-9, 9), (0, 6)), (2, -3.5, (-1.2, 0.2), (0, 1.3))]
APART = 0.12


def photographed(camera, seed):
    """(H, W, 3) uint8 of WALLS with a texture each, pixel by pixel: the nearest that a ray meets,
    with the noise of a sensor."""
    random = np.random.default_rng(1)
    fabric = [cv2.GaussianBlur(random.random((512, 512)), (0, 0), 1.2) for _ in WALLS]
    x, y = np.meshgrid(np.arange(960) + 0.5, np.arange(540) + 0.5)
    rays = camera.rays(np.stack([x.ravel(), y.ravel()], 1))
    seen, nearest = np.full(len(rays), 0.2), np.full(len(rays), np.inf)
    for (axis, where, *ends), one in zip(WALLS, fabric):
        with np.errstate(all="ignore"):
            far = (where - camera.position[axis]) / rays[:, axis]
        at = (camera.position + rays * far[:, None])[:, [i for i in range(3) if i != axis]]
        inside = np.logical_and.reduce(
            [(at[:, i] > low) & (at[:, i] < high) for i, (low, high) in enumerate(ends)]
        )
        hit = inside & (far > 0) & (far < nearest)
        u, v = np.nan_to_num(at * 64).astype(np.float32).T.reshape(2, 540, 960) % 511
        value = cv2.remap(one, u, v, cv2.INTER_LINEAR).ravel()
        seen[hit], nearest[hit] = ((value - 0.5) * 3 + 0.5)[hit], far[hit]
    noisy = seen * 200 + 20 + np.random.default_rng(seed).normal(0, 1.5, len(seen))
    grey = np.clip(noisy, 0, 255).astype(np.uint8).reshape(540, 960)
    return np.repeat(grey[..., None], 3, axis=2)


def png(picture):
    return cv2.imencode(".png", picture)[1].tobytes()


class StereoPlate(HasShot, TransactionTestCase):
    """Both eyes' pictures are one plate, matched together."""

    def setUp(self):
        super().setUp()
        middle = Camera.at(GRID, Lens(28.0), (0.1, 1.5, 0.4), 0.05, -0.08, 0.01)
        self.eyes = Pair(APART, 5.0, "toed").cameras(middle)
        self.pictures = [photographed(eye, seed) for seed, eye in enumerate(self.eyes)]

    def bring(self, *files, **more):
        sent = [SimpleUploadedFile(name, data) for name, data in files]
        return self.client.post(self.url("stereo/plate"), {"files": sent, **more})

    def test_two_files_are_matched_with_the_baseline(self):
        left, right = map(png, self.pictures)
        self.bring(("boat_R.png", right), ("boat_L.png", left))
        self.client.post(self.url("gate"), {"width": "36", "height": "20.25", "squeeze": "1"})
        known = {"focal_mm": {"value": 28.0, "plus_minus": 0.0}}
        edit(Shot.objects.with_head().get(), "Lens", lambda s: s.update(lens=s["lens"] | known))
        self.press("match/tracks/follow", wanted="250", reach="10")
        self.assertEqual(Job.objects.filter(kind="follow").first().says, "")
        tracks = tracks_of(self.state())
        self.assertGreater(len(tracks), 80)
        # Where each stands, by the true left eye: onto the floor, a corner of the room as the
        # origin.
        on_floor = self.eyes[0].on_plane(tracks.xy[tracks.starts[:-1]])
        floor = [n for n, at in enumerate(on_floor) if -5.7 < at[2] < -2.9 and 0.5 < at[0] < 4]
        ids = [tracks.ids[n] for n in floor]
        self.assertGreater(len(ids), 8)
        shot = tell(
            Shot.objects.with_head().get(),
            ids,
            "Floor",
            None,
            world=[None, 0, None],
            world_plus_minus=0.005,
        )
        far = max(floor, key=lambda n: np.hypot(*(on_floor[n] - on_floor[floor[0]])[[0, 2]]))
        for n, coordinates in ((floor[0], (0, 1, 2)), (far, (0, 1))):
            world = [float(on_floor[n][i]) if i in coordinates else None for i in range(3)]
            shot = tell(shot, [tracks.ids[n]], "Known", None, world=world, world_plus_minus=0.0)
        for wrong in ("0", "3 m", "wide"):
            self.assertEqual(self.press("stereo/baseline", baseline=wrong).status_code, 422)
        self.press("stereo/baseline", baseline="12 cm", plus_minus="0.2 mm")
        shown = self.client.get(self.url("stereo")).context["baseline"]  # comes back as it is read
        self.press("stereo/baseline", baseline=shown[0], plus_minus=shown[1])
        self.assertContains(self.client.get(self.url("match/leaf/tracks")), "apart")
        self.press("match/tracks/solve")
        self.assertEqual(Job.objects.filter(kind="path").first().says, "")
        for frame, eye in zip((1, 2), self.eyes):
            found = camera_of_state(self.state(), frame)
            np.testing.assert_allclose(found.position, eye.position, atol=0.03)
        page = self.client.get(self.url("stereo"))
        self.assertContains(page, "As matched")
        turned = np.degrees(2 * np.arctan(APART / 2 / 5.0))
        self.assertAlmostEqual(page.context["pair"].toe_in_deg, turned, delta=0.03)
        self.assertAlmostEqual(page.context["pair"].apart_m, APART, delta=0.0005)
        self.assertAlmostEqual(page.context["pair"].converges_m, 5.0, delta=0.3)
        # A stand-in rendered for both, packed, and both cameras in a file.
        crate = {
            "id": "b1",
            "name": "Crate",
            "size": [1.4, 1.3, 0.2],
            "base": [-0.5, 0, -3.6],
            "turn_deg": 0,
        }
        edit(Shot.objects.with_head().get(), "Crate", lambda state: state.update(stand_ins=[crate]))
        self.assertEqual(len(self.client.get(self.url("stereo")).context["parallaxes"]), 1)
        self.press("stereo/render")
        packed = b"".join(
            self.client.get(self.url("stereo/packed.png?kind=side")).streaming_content
        )
        self.assertEqual(Image.open(io.BytesIO(packed)).size, (1920, 540))
        file = io.BytesIO(
            b"".join(self.client.get(self.url("stereo/cameras.zip")).streaming_content)
        )
        with zipfile.ZipFile(file) as zipped:
            self.assertEqual(
                json.loads(zipped.read("stereo.json"))["frames"]["1"]["mode"], "solved"
            )
        for step in ("plate", "gate", "match", "set", "expose", "elements", "line-up", "hand-off"):
            self.assertEqual(self.client.get(self.url(step)).status_code, 200, step)

    def test_one_packed_picture_and_what_cannot_be(self):
        for kind, whole in (
            ("side", np.concatenate(self.pictures, axis=1)),
            ("over half", np.concatenate([one[::2] for one in self.pictures], axis=0)),
        ):
            self.bring(("both.png", png(whole)), kind=kind)
            film = self.state()["film"]
            self.assertTrue(film["pair"])
            self.assertEqual(
                (self.state()["plate"]["width"], self.state()["plate"]["height"]), (960, 540)
            )
        before = self.head()
        small = png(self.pictures[0][:100])
        left = png(self.pictures[0])
        for files, kind, says in (
            ([("a.png", left)], "anaglyph", "beside or over each other"),
            ([("a.gif", left)], "side", "can’t be used here"),
            ([("a_left.png", left), ("b_left.png", left)], "side", "both files say".capitalize()),
            ([("a.png", left), ("b.png", small)], "side", "100"),
            ([("a.png", left), ("b.png", b"no picture")], "side", ""),
            ([("a.png", png(self.pictures[0][:, :959]))], "side", "odd number"),
            ([], "side", "Choose two files"),
        ):
            answer = self.bring(*files, kind=kind)
            self.assertEqual(answer.status_code, 422, (says, kind))
            self.assertIn(says, answer.content.decode())
        self.assertEqual(self.head(), before)
