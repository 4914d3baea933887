"""Plates on the server's own folders; films converted, averaged, swept; what their files say."""

import io
import os

import cv2
import numpy as np
import OpenEXR
from django.core.management import call_command
from django.test import override_settings

from aperture.plates.movies import Decoder, probe
from tests.filmed import number_in, numbered, write_movie
from tests.web.on_film import Filmed
from web.jobs import runner
from web.jobs.models import Job
from web.plates import convert_actions, mean_actions
from web.plates.models import Film, plate_of, working_pixels
from web.shows.history import edit, undo
from web.shows.models import Revision
from web.shows.thinning import forget_parts


class ServersFolders(Filmed):
    def test_only_what_is_permitted_is_reached(self):
        outside = self.place / "outside"
        outside.mkdir()
        cv2.imwrite(str(outside / "secret.0001.png"), numbered(1))
        (self.media / "way-out").symlink_to(outside)
        (self.media / "link.0001.png").symlink_to(outside / "secret.0001.png")
        (self.media / "round").symlink_to(self.media / "round")
        (self.media / os.fsdecode(b"odd\xff.0001.png")).write_bytes(b"no picture")
        page = self.look()
        self.assertContains(page, "day1/")
        self.assertContains(page, "rise.mp4")
        for hidden in ("way-out", "link.0001", "round"):
            self.assertNotContains(page, hidden)
        for path in ("way-out", "../outside", "day1/../../outside", "/etc", "day1\0", "nowhere"):
            page = self.look(path)
            self.assertNotContains(page, "secret")
            self.assertContains(page, 'role="alert"')
            self.assertEqual(self.bring("secret.0001.png", "refer", path).status_code, 422)
        self.assertEqual(self.bring("secret.0001.png", "copy").status_code, 422)
        self.assertContains(self.look(root=7), 'role="alert"')
        with override_settings(MEDIA=[]):
            self.assertEqual(self.look().status_code, 404)
            self.assertNotContains(self.client.get(self.url("plate")), "server’s folders")
        self.assertEqual(Film.objects.count(), 0)

    def test_a_film_that_is_referred_to_and_changes(self):
        self.assertContains(self.look("day1"), "walk.####.png, 1001–1012")
        self.assertEqual(self.bring("walk.1001.png", "refer", "day1").status_code, 302)
        film = Film.objects.get()
        self.assertEqual((film.count, film.first, film.last, film.refers), (12, 1001, 1012, True))
        self.assertFalse(list(film.folder.rglob("*.png")))  # nothing was copied
        self.assertEqual((self.pixels(1007), self.pixels(1013)), (1007, 422))
        files = [self.media / f"day1/walk.{number}.png" for number in range(1001, 1013)]
        # Touched, and still the same; changed; gone.
        os.utime(files[1])
        cv2.imwrite(str(files[5]), numbered(99))
        files[8].unlink()
        page = self.client.get(self.url("plate"))
        self.assertContains(page, "Pictures 1006: changed since")
        self.assertContains(page, "Pictures 1009: gone, or out of reach")
        for number, status in ((1002, 302), (1006, 422), (1009, 422)):
            answer = self.client.post(self.url("plate/frame"), {"frame": str(number)})
            self.assertEqual(answer.status_code, status, number)
        self.assertEqual(self.shot_now().state["film"]["shown"], 1002)
        # A folder that is permitted no longer isn't read any more.
        with override_settings(MEDIA=[]):
            self.assertEqual(self.pixels(1004), 422)
            (film.folder / "thumbs/1004.jpg").unlink()
            self.client.post(self.url("plate/small"))
            self.assertFalse((film.folder / "thumbs/1004.jpg").exists())
        self.assertEqual(self.pixels(1004), 1004)
        # Brought in anew it is another film.
        self.assertEqual(self.bring("walk.1001.png", "refer", "day1").status_code, 302)
        self.assertEqual(Film.objects.count(), 2)
        self.assertContains(self.client.get(self.url("plate")), "Pictures are missing: 1009")

    def test_a_movie_is_copied_or_referred_to(self):
        self.assertEqual(self.bring("rise.mp4", "copy").status_code, 302)
        self.assertFalse(Film.objects.get().refers)
        (self.media / "rise.mp4").rename(self.media / "elsewhere.mp4")
        self.assertEqual(self.pixels(12), 11)  # a movie counts from 1
        Film.objects.all().delete()
        self.assertEqual(self.bring("elsewhere.mp4", "refer").status_code, 302)
        self.assertEqual(self.pixels(30), 29)
        (self.media / "elsewhere.mp4").write_bytes(b"another")
        self.assertContains(self.client.get(self.url("plate")), "The movie: changed since")
        self.assertEqual(self.pixels(3), 422)


class Sweeping(Filmed):
    def sweep(self, **options):
        said = io.StringIO()
        call_command("collect_garbage", stdout=said, stderr=said, **options)
        return said.getvalue()

    def test_what_nobody_refers_to_goes(self):
        self.bring("rise.mp4", "copy")
        self.bring("walk.1001.png", "copy", "day1")
        films = {film.name: film for film in Film.objects.all()}
        # Both are in the history, so that undo may bring the first back.
        self.assertNotIn("walk", self.sweep(grace_hours=0))
        self.assertEqual(Film.objects.count(), 2)
        Revision.objects.filter(shot=self.shot, number=3).update(parts={})
        forget_parts()
        self.assertNotIn("walk", self.sweep())  # brought in just now
        self.assertIn("walk.####.png” would be removed", self.sweep(grace_hours=0, dry_run=True))
        self.assertTrue(films["walk.####.png"].folder.is_dir())
        self.assertIn("walk.####.png” removed", self.sweep(grace_hours=0))
        self.assertFalse(films["walk.####.png"].folder.exists())
        self.assertTrue(films["rise.mp4"].folder.is_dir())
        self.assertEqual([film.name for film in Film.objects.all()], ["rise.mp4"])


class Converted(Filmed):
    def convert(self):
        answer = self.client.post(self.url("plate/convert"))
        self.assertEqual(answer.status_code, 302)
        return runner.latest(self.shot, convert_actions.KIND)

    def film(self):
        return Film.objects.get(digest=self.shot_now().state["film"]["digest"])

    def test_a_movie_of_no_steady_rate_is_put_on_the_shows(self):
        # At 24 frames a second the frames' moments are 0, 41.7, 83.3, 125, 166.7, … ms: by hand,
        # which picture each shows.
        times = [0, 10, 40, 120, 300, 310, 340]
        shows = [0, 2, 2, 3, 3, 3, 3, 3, 5]
        write_movie(self.media / "phone.mp4", count=7, times=times)
        self.bring("phone.mp4", "copy")
        self.client.post(self.url("plate/frame"), {"frame": "4"})
        spot = {"id": "s1", "kind": "spot", "at": [5.0, 5.0]}
        edit(self.shot_now(), "Spot", lambda state: state.update(marks=[spot]))
        self.client.post(self.url("plate/frame"), {"frame": "3"})
        # Nothing that is drawn gets lost: a picture with a mark that would be left out is named.
        edge = {"id": "e1", "kind": "edge", "axis": "up", "points": [[5, 5], [6, 90]]}
        self.client.post(self.url("plate/frame"), {"frame": "5"})
        edit(self.shot_now(), "Edge", lambda state: state.update(marks=[edge]))
        answer = self.client.post(self.url("plate/convert"))
        self.assertContains(answer, "would be left out: 5", status_code=422)
        edit(self.shot_now(), "None", lambda state: state.update(marks=[]))
        self.client.post(self.url("plate/frame"), {"frame": "3"})
        job = self.convert()
        self.assertEqual(job.state, Job.DONE, job.says)
        film = self.film()
        self.assertEqual((film.name, film.count), ("phone.####.png", len(shows)))
        page = self.client.get(self.url("plate"))
        self.assertContains(page, "put on 24 fps")
        self.assertContains(page, "Shown more than once: 3–4. Left out: 2, 5, 7.")
        for frame, number in enumerate(shows, 1):
            path = film.folder / f"pictures/{frame}.png"
            self.assertEqual(number_in(cv2.imread(str(path))), number, frame)
            self.assertTrue((film.folder / f"small/{frame}.jpg").exists())
        # The third picture is the second frame's now, and what was drawn on the fourth is on the
        # fourth's first.
        state = self.shot_now().state
        self.assertEqual((state["film"]["shown"], list(state["aside"])), (2, ["4"]))
        undo(self.shot_now(), self.shot_now().head.number)
        self.assertEqual(self.film().name, "phone.mp4")

    def test_a_steady_one_picture_by_picture(self):
        self.bring("rise.mp4", "refer")
        self.assertEqual(self.convert().state, Job.DONE)
        film = self.film()
        self.assertEqual((film.count, film.first, film.last), (30, 1, 30))
        with Decoder(self.media / "rise.mp4", probe(self.media / "rise.mp4")) as movie:
            for number in (1, 17, 30):
                written = cv2.imread(str(film.folder / f"pictures/{number}.png"))
                np.testing.assert_array_equal(written[..., ::-1], movie.picture(number - 1))
        self.assertEqual(self.client.post(self.url("plate/convert")).status_code, 422)
        self.assertFalse(list(film.folder.parent.glob("incoming*")))


class StandingStill(Filmed):
    def mean(self, frames, status=302):
        answer = self.client.post(self.url("plate/mean"), {"frames": frames})
        self.assertEqual(answer.status_code, status, frames)
        return runner.latest(self.shot, mean_actions.KIND)

    def test_the_mean_has_less_noise(self):
        rng = np.random.default_rng(5)
        boards = np.kron(rng.uniform(60, 190, (12, 20, 3)), np.ones((10, 10, 1)))
        true = cv2.GaussianBlur(boards, (0, 0), 1)
        for number in range(1, 37):
            noisy = true + rng.normal(size=true.shape) * 6
            picture = np.clip(noisy + 0.5, 0, 255).astype(np.uint8)
            cv2.imwrite(str(self.media / f"day1/still.{number:02}.png"), picture)
        (self.media / "day1/still.07.png").write_bytes(b"damaged")
        self.bring("still.01.png", "copy", "day1")
        self.client.post(self.url("plate/shift"), {"first": "1001", "what": "shot"})
        job = self.mean("1001–1036")
        self.assertEqual(job.state, Job.DONE, job.says)
        plate = plate_of(self.shot_now())
        self.assertEqual((plate.name, plate.depth), ("still_mean_1-36.png", "16 bit"))
        off = working_pixels(plate)[..., ::-1] / 257 - true
        # 35 readable pictures with a σ of 6: a mean whose σ is 6/√35.
        self.assertLess(abs(off.std() / (6 / np.sqrt(35)) - 1), 0.1)
        self.assertLess(abs(off.mean()), 0.05)
        self.assertEqual(self.shot_now().state["film"]["shown"], 1)
        # It may be turned like any plate, and the frame alone is there again when wanted.
        self.client.post(self.url("plate/way-in"), {"quarters": "2"})
        turned = working_pixels(plate_of(self.shot_now()))
        np.testing.assert_array_equal(turned[::-1, ::-1], working_pixels(plate))
        self.assertContains(self.client.get(self.url("plate")), "Back to frame 1001 alone")
        self.client.post(self.url("plate/frame"), {"frame": "1001"})
        self.assertEqual(plate_of(self.shot_now()).name, "still.0001.png")
        self.client.post(self.url("plate/way-in"), {"quarters": "0"})
        self.client.post(self.url("plate/frame"), {"frame": "1002"})
        self.assertEqual(plate_of(self.shot_now()).name, "still.0002.png")
        for frames in ("1001", "1001–1001", "5–9", "x–y", ""):
            self.mean(frames, 422)

    def test_a_camera_that_moves_has_no_mean(self):
        rng = np.random.default_rng(6)
        ground = cv2.GaussianBlur(rng.integers(0, 255, (160, 300, 3), np.uint8), (0, 0), 3)
        for number in range(1, 13):
            seen = ground[20:140, 4 + number // 3 : 204 + number // 3]
            cv2.imwrite(str(self.media / f"day1/pan.{number}.png"), seen)
        self.bring("pan.1.png", "copy", "day1")
        before = self.shot_now().state["plate"]
        job = self.mean("1–12")
        self.assertEqual(job.state, Job.FAILED)
        self.assertIn("moves by", job.says)
        self.assertEqual(self.shot_now().state["plate"], before)


class WhatFilesSay(Filmed):
    def exr(self, number, focal, focus, moment):
        code = OpenEXR.TimeCode()
        code.hours, code.minutes, code.seconds, code.frame = 10, 0, moment // 24, moment % 24
        header = {
            "compression": OpenEXR.ZIP_COMPRESSION,
            "type": OpenEXR.scanlineimage,
            "nominalFocalLength": focal,
            "focus": focus,
            "isoSpeed": 800.0,
            "timeCode": code,
        }
        pixels = (numbered(number) / 255.0).astype(np.float16)
        path = str(self.media / f"day1/zoom.{number}.exr")
        OpenEXR.File(header, {"RGB": pixels}).write(path)

    def test_what_changes_is_a_curve(self):
        for n, number in enumerate(range(1001, 1025)):
            self.exr(number, 24.0 + n, 3.5, 20 + n)
        self.bring("zoom.1001.exr", "copy", "day1")
        told = Film.objects.get().told
        self.assertEqual(told["constant"], {"focus_m": 3.5, "iso": 800.0})
        self.assertEqual(told["curves"]["focal_mm"][4], [1005, 28.0])
        self.client.post(self.url("plate/frame"), {"frame": "1005"})
        page = self.client.get(self.url("plate"))
        (curve,) = page.context["curves"]
        self.assertEqual((curve["says"], curve["now"]), ("24 mm to 47 mm", "28 mm"))
        strip = page.context["strip"]
        self.assertEqual(strip["timecode"], {"start": 36000 * 24 + 20, "count": 24, "left_out": 0})
