"""A panorama as a plate: recognised, taken as all around, matched, furnished, rendered, handed
off."""

import io
import json
import math
import tempfile
import zipfile
from pathlib import Path

import cv2
import numpy as np
import py360convert
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TransactionTestCase
from PIL import Image
from pxr import Usd, UsdGeom

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.lens.projections import named
from aperture.render import returned
from aperture.render.files import write_exr
from aperture.render.passes import Wanted, render
from aperture.render.tracer import Look
from aperture.track.tracks import Tracks
from tests.references.test_panorama import SIZE, at, document, moving
from tests.web.test_shots import HasShot, WithShot
from web.elements.actions import Order, grids, ready, render_now
from web.jobs.models import Job
from web.match.path_fits import camera_of_state
from web.match.tracking import change_tracks
from web.shows.history import edit
from web.shows.models import Shot
from web.stage.stand_ins import stand_ins_of


def picture(width, height):
    """A picture of some noise, as a file."""
    grey = np.random.default_rng(1).integers(60, 180, (height, width, 3)).astype(np.uint8)
    out = io.BytesIO()
    Image.fromarray(grey).save(out, "PNG")
    return out.getvalue()


class Panorama(WithShot):
    def fresh(self):
        return Shot.objects.with_head().get(pk=self.shot.pk)

    def test_from_the_plate_to_a_render(self):
        self.upload("pano.png", picture(*SIZE))
        self.assertContains(self.client.get(self.url("gate")), "Take it as 360° × 180°")
        self.assertEqual(self.press("gate/all-around").status_code, 302)
        page = self.client.get(self.url("gate"))
        self.assertContains(page, "its gate is an angle, 360° × 180°, not millimetres")
        self.assertContains(self.client.get("/shows/tide/"), "360° × 180°")
        camera = at((1.5, 1.7, 2.2), 0.3, 0.05, -0.03)
        drawn = document(camera, np.random.default_rng(4))
        saved = self.post_json("match/save", marks=drawn["marks"], base=self.head(), label="Marks")
        self.assertEqual(saved.status_code, 200, saved.content)
        edit(self.shot, "Fact", lambda state: state.update(facts=drawn["facts"]))
        found = camera_of_state(self.state())
        np.testing.assert_allclose(found.position, camera.position, atol=0.05)
        self.assertAlmostEqual(found.view.horizontal, math.tau)
        crate = {"id": "b1", "name": "Crate", "size": [1, 1, 1], "base": [1.5, 0, 6], "turn_deg": 0}
        edit(self.shot, "Crate", lambda state: state.update(stand_ins=[crate]))
        for step in (
            "plate",
            "gate",
            "match",
            "set",
            "expose",
            "expose/focus",
            "expose/blur",
            "expose/look",
            "elements",
            "line-up",
            "hand-off",
        ):
            self.assertEqual(self.client.get(self.url(step)).status_code, 200, step)
        self.assertContains(self.client.get(self.url("hand-off")), "A panorama is no such camera")
        # What stands behind the camera is in the render, at both borders.
        render_now(self.fresh(), Order(("depth",), samples=1))
        row = self.shot.renders.first()
        alpha = returned.read(row.folder / "render.exr").rgba[..., 3]
        seen = found.project(np.array([[1.5, 0.5, 6.0]]))[0]
        self.assertGreater(alpha[int(seen[1]) % SIZE[1], int(seen[0]) % SIZE[0]], 0.9)
        refused = self.client.get(
            self.url("expose/map/sharp.png"), headers={"Accept": "application/json"}
        )
        self.assertIn(refused.status_code, (200, 422))

    def test_a_panorama_in_pieces(self):
        """A cube cross, drawn by our own renderer: taken as one, matched, furnished and
        rendered."""
        size = (512, 384)
        grid = Grid.from_gate(*size, *named("cube cross").size)
        camera = Camera.at(
            grid, Lens(1.0, projection=named("cube cross")), (1.5, 1.7, 2.2), 0.3, 0.05
        )
        self.upload("cross.png", picture(*size))
        answer = self.press("gate/all-around", layout="cube strip")
        self.assertContains(answer, "6 times as wide as high", status_code=422)
        self.assertEqual(self.press("gate/all-around", layout="wrapped").status_code, 422)
        answer = self.press("gate/all-around", layout="cube cross")
        self.assertEqual(answer.status_code, 302, answer.content)
        self.assertContains(self.client.get(self.url("gate")), "laid out as a cube cross")
        drawn = document(at((1.5, 1.7, 2.2), 0.3, 0.05), np.random.default_rng(4))
        marks = []
        for mark in drawn["marks"]:
            panorama = at((1.5, 1.7, 2.2), 0.3, 0.05)
            points = np.array(mark.get("points") or [mark["at"]])
            there = camera.project_directions(panorama.rays(points)).tolist()
            marks.append(mark | ({"points": there} if "points" in mark else {"at": there[0]}))
        saved = self.post_json("match/save", marks=marks, base=self.head(), label="Marks")
        self.assertEqual(saved.status_code, 200, saved.content)
        crate = {"id": "b1", "name": "Crate", "size": [1, 1, 1], "base": [1.5, 0, 6], "turn_deg": 0}
        edit(self.shot, "All", lambda state: state.update(facts=drawn["facts"], stand_ins=[crate]))
        found = camera_of_state(self.state())
        np.testing.assert_allclose(found.position, camera.position, atol=0.08)
        for step in (
            "plate",
            "gate",
            "match",
            "set",
            "expose",
            "expose/focus",
            "elements",
            "around",
            "stereo",
            "line-up",
            "hand-off",
        ):
            self.assertEqual(self.client.get(self.url(step)).status_code, 200, step)
        render_now(self.fresh(), Order(samples=2))
        alpha = returned.read(self.shot.renders.first().folder / "render.exr").rgba[..., 3]
        x, y = found.project(np.array([[1.5, 0.5, 6.0]]))[0]
        self.assertGreater(alpha[int(y), int(x)], 0.9)

    def test_a_panorama_of_a_part(self):
        """A cylindrical strip of 200°: by its degrees, matched like any other."""
        self.upload("strip.png", picture(900, 400))
        for form, says in (
            ({}, "Say how many degrees"),
            ({"across": "400"}, "from 1° to 360°"),
            ({"across": "wide"}, "The angle across"),
            ({"layout": "equidistant", "across": "100"}, "A panorama is"),
        ):
            answer = self.press("gate/all-around", **form)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(says, answer.json()["problem"])
        self.press("gate/all-around", layout="cylindrical", across="200°")
        grid = Grid.from_gate(900, 400, math.radians(200), math.radians(200) * 4 / 9)
        strip = Camera.at(
            grid, Lens(1.0, projection=named("cylindrical")), (1.5, 1.7, 2.2), 0.3, 0.05
        )
        panorama = at((1.5, 1.7, 2.2), 0.3, 0.05)
        marks = []
        for mark in document(panorama, np.random.default_rng(4))["marks"]:
            points = np.array(mark.get("points") or [mark["at"]])
            there = strip.project_directions(panorama.rays(points))
            if ((there > 0) & (there < (900, 400))).all():
                there = there.tolist()
                key = {"points": there} if "points" in mark else {"at": there[0]}
                marks.append(mark | key)
        self.assertGreater(len(marks), 6)
        self.post_json("match/save", marks=marks, base=self.head(), label="Marks")
        facts = document(panorama, np.random.default_rng(4))["facts"]
        edit(self.shot, "Facts", lambda state: state.update(facts=facts))
        found = camera_of_state(self.state())
        np.testing.assert_allclose(found.position, strip.position, atol=0.1)
        self.assertAlmostEqual(math.degrees(found.view.horizontal), 200, places=4)
        self.assertContains(self.client.get(self.url("gate")), "200° × ")

    def test_six_files_are_one_plate(self):
        """Faces cut by py360convert, a file each; missing, of another size, turned: a sentence
        each."""
        y, x = np.mgrid[:256, :512] + 0.5
        turn, up = math.tau * x / 512, math.pi * y / 256
        shade = 0.5 + 0.3 * np.sin(up) * np.cos(2 * turn) + 0.1 * np.cos(3 * up + turn) * np.sin(up)
        around = np.repeat((255 * shade)[..., None], 3, axis=2)
        faces = py360convert.e2c(around, 64, mode="bilinear", cube_format="dict")
        names = {"F": "front", "R": "right", "B": "back", "L": "left", "U": "up", "D": "down"}
        pictures = {names[key]: face.clip(0, 255).astype(np.uint8) for key, face in faces.items()}

        def bring(pictures, **more):
            files = []
            for name, pixels in pictures.items():
                data = cv2.imencode(".png", pixels)[1].tobytes()
                files.append(SimpleUploadedFile(f"room_{name}.png", data))
            form = {"files": files, "base": self.head()} | more
            headers = {"Accept": "application/json"}
            return self.client.post(self.url("around/faces"), form, headers=headers)

        small = pictures | {"up": np.zeros((32, 32, 3), np.uint8)}
        turned = pictures | {"left": np.rot90(pictures["left"]).copy()}
        for wrong, says in (
            ({}, "Choose the six files"),
            ({k: v for k, v in pictures.items() if k != "back"}, "A face is missing: back"),
            (small, "of different sizes"),
            (pictures | {"inside": pictures["up"]}, "is of no face"),
            (turned, "don’t meet"),
        ):
            self.assertIn(says, bring(wrong).json()["problem"])
        self.assertEqual(bring(pictures).status_code, 302)
        state = self.state()
        self.assertEqual((state["plate"]["width"], state["plate"]["height"]), (384, 64))
        self.assertEqual(state["lens"]["projection"], "cube strip")
        self.assertEqual(bring(turned, although="1").status_code, 302)

    def test_a_picture_of_another_shape_is_not_asked(self):
        self.upload("flat.png", picture(640, 360))
        self.assertNotContains(self.client.get(self.url("gate")), "Take it as 360°")
        self.assertEqual(
            self.client.get(self.url("gate/claims?angle=150&focal=14.66")).status_code, 200
        )


class Matched(HasShot):
    """A matched panorama with a stand-in."""

    def matched(self):
        self.upload("pano.png", picture(*SIZE))
        self.press("gate/all-around")
        drawn = document(at((1.5, 1.7, 2.2), 0.3, 0.05, -0.03), np.random.default_rng(4))
        self.post_json("match/save", marks=drawn["marks"], base=self.head(), label="Marks")
        crate = {"id": "b1", "name": "Crate", "size": [1, 1, 1], "base": [1.5, 0, 6], "turn_deg": 0}
        edit(self.shot, "All", lambda state: state.update(facts=drawn["facts"], stand_ins=[crate]))


class Cut(Matched, TransactionTestCase):
    def test_cut_into_views_and_joined_again(self):
        """What another renderer makes of the written cameras comes back as the panorama."""
        self.matched()
        self.assertEqual(self.press("around/cube", size="300", overlap="6").status_code, 302)
        for wrong in ({"size": "3"}, {"size": "x"}, {"size": "300", "overlap": "99"}):
            answer = self.press("around/cube", **{"overlap": "5"} | wrong)
            self.assertContains(answer, 'role="alert"', status_code=422)
        self.assertContains(self.client.get(self.url("elements")), "ordinary views")
        file = io.BytesIO(b"".join(self.client.get(self.url("around/views.zip")).streaming_content))
        with zipfile.ZipFile(file) as files:
            told = json.loads(files.read("views.json"))
            self.assertIn("longitude", files.read("how-to-join.txt").decode())
            stages = []
            for view in told["views"]:
                stage = Usd.Stage.CreateInMemory()
                stage.GetRootLayer().ImportFromString(files.read(f"{view['name']}.usda").decode())
                stages.append(stage)
        cameras = [next(p for p in one.Traverse() if p.IsA(UsdGeom.Camera)) for one in stages]
        crate = stand_ins_of(self.state())["Crate"]
        renders = {}
        for view, prim in zip(told["views"], cameras):
            # From the file's own numbers, as another renderer reads them.
            grid = Grid.from_gate(view["width"], view["height"], *view["gate_mm"])
            pose = np.array(view["world_from_camera"])
            camera = Camera(grid, Lens(view["focal_mm"]), pose)
            read = UsdGeom.Camera(prim)
            self.assertAlmostEqual(read.GetFocalLengthAttr().Get(), view["focal_mm"], places=4)
            made = render(camera, [(crate, Look("crate"))], Wanted(samples=3))
            with tempfile.TemporaryDirectory() as folder:
                write_exr(Path(folder) / "a.exr", made)
                renders[view["name"]] = (Path(folder) / "a.exr").read_bytes()

        def bring(names):
            files = [SimpleUploadedFile(f"crate_{name}.0001.exr", renders[name]) for name in names]
            return self.client.post(self.url("around/join"), {"files": files})

        names = list(renders)
        self.assertContains(bring(names[:-1]), "A render is missing: down", status_code=422)
        self.assertContains(bring([*names, "front"]), "both of front", status_code=422)
        self.assertEqual(bring(names).status_code, 302)
        row = self.shot.returned.get()
        self.assertEqual(row.name, "6 views, joined")
        self.assertIn("seams: 95 % within 0", row.taken["seams"])
        self.assertEqual([says for says, mended in row.findings if not mended], [])
        self.assertLess(row.offsets["most"] if "most" in row.offsets else 0, 0.3)
        render_now(Shot.objects.with_head().get(), Order(samples=3))
        direct = self.shot.renders.first()
        alphas = [returned.read(one.folder / "render.exr").rgba[..., 3] for one in (row, direct)]
        self.assertLess(float(np.abs(alphas[0] - alphas[1]).mean()), 5e-4)
        self.assertContains(self.client.get(self.url("around")), "Lay it over the plate")
        # The same here, at once; and through views of one's own, of which one is missing.
        own = "left half, 90, 0, 120, 300, 300\nright half, -90, 0, 120, 300 × 300\n"
        self.assertEqual(self.press("around/own", own=own).status_code, 302)
        self.assertContains(self.client.get(self.url("around")), "lies in none of these views")
        self.press("around/render")
        newest = self.shot.returned.first()
        self.assertEqual(newest.name, "2 views, joined")
        for wrong in (
            "",
            "a, 1, 2",
            "a, 0, 0, 90, 300, many",
            "a,0,0,90,300,300\na,0,0,90,300,300",
        ):
            self.assertEqual(self.press("around/own", own=wrong).status_code, 422, wrong)

    def test_views_of_what_is_no_panorama(self):
        self.ready()
        self.assertContains(self.client.get(self.url("around")), "Only a panorama is cut")
        self.assertEqual(self.press("around/render").status_code, 422)
        self.assertEqual(self.client.get(self.url("around/views.zip")).status_code, 422)


class Filmed(HasShot, TransactionTestCase):
    def solved(self):
        """A solved path, and what it should be."""
        made = moving(3, frames=10, count=90)
        frame = picture(*SIZE)
        files = [SimpleUploadedFile(f"round.{number:04d}.png", frame) for number in range(1, 11)]
        self.client.post(self.url("plate"), {"picture": files, "base": self.head()})
        self.assertEqual(self.press("gate/all-around").status_code, 302)
        shot = Shot.objects.with_head().get()
        frames, track = np.nonzero(np.isfinite(made.seen[:, :, 0]))
        noise = np.random.default_rng(5).normal(0, 0.05, (len(frames), 2))
        ids = [f"t{number}" for number in range(made.seen.shape[1])]
        about = {f"t{n}": {"world": made.points[n].tolist()} for n in (0, 5, 9, 14)}
        xy = made.seen[frames, track] + noise
        tracks = Tracks.build(ids, track, frames + 1, xy, [[0.05, 0.05]], about=about)
        change_tracks(shot, "Tracks", lambda before: tracks)
        self.press("match/tracks/solve")
        self.assertEqual(Job.objects.filter(kind="path").first().says, "")
        shot = Shot.objects.with_head().get()
        crate = {"id": "b1", "name": "Crate", "size": [1, 1, 1], "base": [0, 0, 5], "turn_deg": 0}
        edit(shot, "Crate", lambda state: state.update(stand_ins=[crate]))
        return made

    def test_it_is_held_steady_along_its_path(self):
        """Each frame turns; a render for the turned picture and the written pictures do once, and
        Line-up says so."""
        self.solved()
        for wrong in ({"way": "sideways"}, {"way": "own", "smooth": "-1"}, {"heading": "north"}):
            answer = self.press("around/steady", **{"way": "heading"} | wrong)
            self.assertContains(answer, 'role="alert"', status_code=422)
        self.press("around/steady", way="heading", heading="20", smooth="0")
        self.assertContains(self.client.get(self.url("around")), "Frames turn by up to")
        self.assertEqual(
            self.client.get(self.url("around/steady.jpg?frame=4"))["Content-Type"], "image/jpeg"
        )
        shot = Shot.objects.with_head().get()
        grid = next(key for key, name in grids(shot).items() if name.startswith("Reorient"))
        for frame in (2, 9):  # level, and one way, on every frame
            _, camera, _ = ready(shot, Order(size=grid), frame)
            np.testing.assert_allclose(np.degrees(camera.angles), [20, 0, 0], atol=1e-4)
        self.press("around/steady/where", plate="1")
        self.assertEqual(self.press("around/steady", way="own").status_code, 422)
        self.assertContains(self.client.get(self.url("around")), "stabilised so already")
        self.press("around/steady/where")
        crate, through = stand_ins_of(self.state())["Crate"], {}
        for frame in (2, 9):
            _, camera, _ = ready(Shot.objects.with_head().get(), Order(size=grid), frame)
            with tempfile.TemporaryDirectory() as folder:
                write_exr(
                    Path(folder) / "a.exr",
                    render(camera, [(crate, Look("Crate"))], Wanted(samples=2)),
                )
                through[frame] = (Path(folder) / "a.exr").read_bytes()
        files = [
            SimpleUploadedFile(f"held.{frame:04}.exr", data) for frame, data in through.items()
        ]
        self.client.post(self.url("line-up/return"), {"files": files})
        row = self.shot.returned.get()
        self.assertIn(
            "isn’t stabilised, and this render was", row.findings[0][0] + row.findings[-1][0]
        )
        self.assertLess(row.offsets["most"], 0.5)
        still = SimpleUploadedFile("held.exr", through[2])
        self.client.post(self.url("line-up/return") + "?frame=2", {"files": [still]})
        row = self.shot.returned.first()
        self.assertIn("this render was: it was turned back", row.findings[0][0])

    def test_a_film_of_all_around_has_a_path(self):
        """Tracks before and behind the camera give it; the set, a render and the files follow."""
        made = self.solved()
        for number in (1, 10):
            camera = camera_of_state(self.state(), number)
            self.assertLess(np.abs(camera.position - made.positions[number - 1]).max(), 0.05)
        seen = self.client.get(self.url("set/seen.json?first=1&last=10")).json()
        self.assertTrue(seen["10"]["lens"][0]["d"].startswith("M"))
        for step in (
            "gate",
            "match",
            "match/leaf/tracks",
            "set",
            "expose/blur",
            "elements",
            "around",
            "line-up",
            "hand-off",
        ):
            self.assertEqual(self.client.get(self.url(step)).status_code, 200, step)
        # Its views over the frames, and their renders, a sequence of each, joined again.
        self.press("around/cube", size="96", overlap="6")
        file = io.BytesIO(b"".join(self.client.get(self.url("around/views.zip")).streaming_content))
        with zipfile.ZipFile(file) as zipped:
            told = json.loads(zipped.read("views.json"))["views"]
            self.assertIn("front.usda", zipped.namelist())
        item = stand_ins_of(self.state())["Crate"]
        sent = []
        for view in told:
            grid = Grid.from_gate(view["width"], view["height"], *view["gate_mm"])
            for frame in ("3", "4"):
                pose = np.array(view["frames"][frame])
                there = Camera(grid, Lens(view["focal_mm"]), pose)
                with tempfile.TemporaryDirectory() as folder:
                    path = Path(folder) / "a.exr"
                    write_exr(path, render(there, [(item, Look("Crate"))], Wanted(samples=2)))
                    name = f"{view['name']}.{frame.zfill(4)}.exr"
                    sent.append(SimpleUploadedFile(name, path.read_bytes()))
        answer = self.client.post(self.url("around/join"), {"files": sent[:-1]})
        self.assertContains(answer, "Frame 4: A render is missing: down", status_code=422)
        for one in sent:
            one.seek(0)
        self.assertEqual(
            self.client.post(self.url("around/join"), {"files": sent}).status_code, 302
        )
        row = self.shot.returned.get()
        self.assertEqual(row.frames, [3, 4])
        self.assertEqual([says for says, mended in row.findings if not mended], [])
        edit(Shot.objects.with_head().get(), "On", lambda s: s["exposure"].update(seconds=1 / 48))
        render_now(Shot.objects.with_head().get(), Order(("depth",), samples=2, motion=True))
        row = self.shot.renders.first()
        alpha = returned.read(row.folder / "render.exr").rgba[..., 3]
        x, y = camera_of_state(self.state()).project(np.array([[0, 0.5, 5.0]]))[0]
        self.assertGreater(alpha[int(y), int(x) % SIZE[0]], 0.9)
