"""Filmed plates on the Plate step: brought in, played, worked on frame by frame; what is wrong with
them is said."""

import errno
import io
import shutil
import tempfile
import zipfile
from unittest import mock

import cv2
import numpy as np
from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TransactionTestCase

from tests.filmed import HEIGHT, WIDTH, number_in, numbered, write_movie
from tests.web.test_shots import HasShot
from web.jobs import runner
from web.jobs.models import Job
from web.match.actions import continue_draft, keep_draft, set_marks
from web.plates import film_actions, film_views
from web.plates.frames import frame_at
from web.plates.models import Film
from web.shows.history import edit, undo
from web.shows.models import Shot


def png(number, *size):
    return cv2.imencode(".png", numbered(number, *size))[1].tobytes()


def number_of_jpeg(response):
    """The number that is seen in a picture which the server sent."""
    data = np.frombuffer(b"".join(response.streaming_content), np.uint8)
    return number_in(cv2.imdecode(data, cv2.IMREAD_COLOR))


class FilmedPlates(HasShot, TransactionTestCase):
    def bring(self, files, status=302):
        """Upload (name, bytes) pairs as the Plate page does."""
        uploads = [SimpleUploadedFile(name, data) for name, data in files]
        answer = self.client.post(self.url("plate"), {"picture": uploads})
        self.assertEqual(answer.status_code, status, answer.content[:2000])
        return answer

    def movie(self, count=60, **how):
        with tempfile.TemporaryDirectory() as folder:
            return "walk.mp4", write_movie(f"{folder}/walk.mp4", count=count, **how).read_bytes()

    def shot_now(self):
        return Shot.objects.with_head().get(pk=self.shot.pk)

    def small(self, kind, number):
        return self.client.get(f"/films/{Film.objects.get().digest}/{kind}/{number}.jpg")

    def picture_shown(self):
        """The number that is seen on the table."""
        digest = self.shot_now().state["plate"]["digest"]
        return number_of_jpeg(self.client.get(f"/plates/{digest}/proxy.jpg"))

    def test_a_movie_is_played_and_worked_on(self):
        self.bring([self.movie()])
        film, state = Film.objects.get(), self.shot_now().state
        self.assertEqual((film.first, film.last, film.count), (1, 60, 60))
        self.assertEqual((state["plate"]["width"], state["plate"]["height"]), (WIDTH, HEIGHT))
        self.assertEqual((state["film"]["shown"], self.picture_shown()), (1, 0))
        page = self.client.get(self.url("plate"))
        self.assertContains(page, "23.976 frames a second, the show 24")
        self.assertEqual(runner.latest(self.shot, film_actions.KIND).state, Job.DONE)
        self.assertEqual(number_of_jpeg(self.small("small", 7)), 6)
        self.assertEqual(self.small("thumbs", 61).status_code, 204)
        self.assertEqual(self.client.get(f"/films/{'0' * 64}/small/1.jpg").status_code, 404)

        # What is drawn stays with its frame; undo goes back to frame and marks together.
        spots = [{"id": f"s{n}", "kind": "spot", "at": [5.0 * n, 5.0]} for n in (1, 2)]
        length = {
            "id": "f1",
            "kind": "length",
            "from": "s1",
            "to": "s2",
            "metres": 1.0,
            "plus_minus": 0.01,
        }
        height = {"id": "f2", "kind": "camera_height", "metres": 1.5, "plus_minus": 0.1}
        edit(
            self.shot_now(),
            "Spots",
            lambda state: state.update(marks=spots, facts=[length, height]),
        )
        self.client.post(self.url("plate/shift"), {"first": "1001"})
        self.client.post(self.url("plate/frame"), {"frame": "1031"})
        state = self.shot_now().state
        self.assertEqual((frame_at(state), state["film"]["shown"]), (1031, 31))
        self.assertEqual((self.picture_shown(), state["marks"]), (30, []))
        self.assertEqual(state["facts"], [height])
        # A draft knows the frame that it was drawn on, whichever is worked on when it is taken up
        # again.
        other = {"id": "e1", "kind": "edge", "axis": "up", "points": [[5, 5], [6, 90]]}
        keep_draft(self.shot_now(), "Second", None)
        set_marks(self.shot_now(), [other], "An edge", None)
        self.client.post(self.url("plate/frame"), {"frame": "1001"})
        self.assertEqual(self.shot_now().state["marks"], spots)
        continue_draft(self.shot_now(), "First", None)
        self.assertEqual(self.shot_now().state["marks"], spots)
        self.client.post(self.url("plate/frame"), {"frame": "1031"})
        self.assertEqual(self.shot_now().state["marks"], [])
        continue_draft(self.shot_now(), "Second", None)
        self.assertEqual(self.shot_now().state["marks"], [other])
        self.client.post(self.url("plate/frame"), {"frame": "1001"})
        state = self.shot_now().state
        self.assertEqual((state["marks"], state["facts"]), (spots, [height, length]))
        self.assertEqual(state["aside"], {"31": {"marks": [other], "facts": []}})
        undo(self.shot_now())
        self.assertEqual((self.picture_shown(), self.shot_now().state["marks"]), (30, [other]))
        self.assertEqual(film_views.strip(self.shot_now())["shown"], 31)
        # The same movie again is stored once; a photograph in its place ends the film.
        self.bring([self.movie()])
        self.assertEqual(Film.objects.count(), 1)
        self.upload()
        self.assertIsNone(self.shot_now().state["film"])
        self.assertNotContains(self.client.get(self.url("plate")), 'id="strip"')

    def test_numbered_pictures_with_faults(self):
        files = [(f"tide.{n:04}.png", png(n)) for n in range(98, 104) if n != 100]
        files[1] = (files[1][0], png(99, 64, 48))
        files[3] = (files[3][0], files[3][1][:300])
        files += [("tide.102.png", png(102)), ("notes.txt", b"x"), ("tide.0103.jpg.bak", b"x")]
        self.bring(files)
        film = Film.objects.get()
        self.assertEqual((film.first, film.last, film.count), (98, 103, 5))
        page = self.client.get(self.url("plate")).content.decode()
        for says in (
            "Pictures are missing: 100.",
            "numbers are there already: tide.102.png.",
            "notes.txt, tide.0103.jpg.bak",
            "Pictures that can’t be shown",
            "99, 102. Picture 99 has 64 × 48",
        ):
            self.assertIn(says, page)
        # They aren't asked for again and again.
        self.assertNotIn("Make the small pictures", page)
        self.assertEqual(list(Film.objects.get().unshown), ["99", "102"])
        self.assertEqual(film_views.strip(self.shot_now())["missing"], [100])
        for frame, says in (
            ("100", "no picture 100"),
            ("1e3", "whole number"),
            ("99", "64 × 48"),
            ("", "whole number"),
        ):
            answer = self.client.post(self.url("plate/frame"), {"frame": frame})
            self.assertContains(answer, says, status_code=422)
        self.assertEqual(self.shot_now().state["film"]["shown"], 98)

    def test_a_zip(self):
        def packed(files):
            out = io.BytesIO()
            with zipfile.ZipFile(out, "w") as file:
                for name, data in files:
                    file.writestr(name, data)
            return bytearray(out.getvalue())

        pictures = [(f"../../out/walk.{n}.png", png(n)) for n in (7, 8, 9)]
        data = packed([*pictures, ("read.me", b"x")])
        # One of them is damaged within the zip, and so is missing.
        at = data.index(png(8)) + 200
        data[at : at + 8] = b"\0" * 8
        self.bring([("walk.zip", bytes(data))])
        film = Film.objects.get()
        self.assertEqual((film.first, film.last, film.count), (7, 9, 2))
        self.assertIn("left out: ../../out/walk.8.png.", film.notes[-1])
        self.assertEqual(self.picture_shown(), 7)
        self.assertFalse((settings.DATA.parent / "out").exists())
        with mock.patch.object(film_actions, "MOST_UNZIPPED", 1000):
            answer = self.bring([("walk.zip", bytes(packed(pictures)))], status=422)
        self.assertContains(answer, "more than is taken", status_code=422)
        answer = self.bring([("walk.zip", bytes(data[:300]))], status=422)
        self.assertContains(answer, "be unpacked", status_code=422)

    def test_sequences_are_told_apart_before_they_are_sent(self):
        names = ["a/x.1.png", "a/x.2.png", "b/x.1.png", "b/x.01.png", "a/notes.txt", "c/y.mov"]
        told = self.post_json("plate/sequences", names=names).json()
        self.assertEqual(
            [one["says"] for one in told["sequences"]],
            ["x.#.png, 1–2", "x.##.png, 1–1", "y.mov"],
        )
        self.assertEqual(told["sequences"][1]["files"], ["b/x.01.png", "b/x.1.png"])
        self.assertEqual(told["sequences"][2], {"says": "y.mov", "files": ["c/y.mov"]})
        self.assertEqual(self.post_json("plate/sequences", names=[1]).status_code, 422)

    def test_what_can_not_come_in_is_said_and_nothing_is_kept(self):
        name, whole = self.movie(count=10)
        home = settings.DATA / "films"
        before = set(home.glob("*"))
        for files, says in (
            ([("a.mov", b"")], "empty"),
            ([("a.mov", whole[:2000])], "can’t be read as a movie".replace("’", "&#x27;")),
            ([(name, whole), ("b.1.png", png(1))], "bring it in by itself"),
            ([("a.png", png(1)), ("b.png", png(2))], "None of these files is a numbered picture"),
            ([("a.1.png", png(1)), ("b.1.png", png(1))], "These are 2 sequences: a.#.png (1–1)"),
            ([("a.1.png", b"no"), ("a.2.png", b"picture")], "no picture can be read"),
        ):
            answer = self.bring(files, status=422)
            self.assertIn(says, answer.content.decode())
        self.assertEqual(Film.objects.count(), 0)
        self.assertEqual(set(home.glob("*")), before)
        self.assertIsNone(self.shot_now().state["plate"])
        answer = self.client.post(self.url("plate/frame"), {"frame": "1"})
        self.assertContains(answer, "a photograph", status_code=422)

    def test_small_pictures_that_are_missing_are_made_when_asked(self):
        self.bring([self.movie(count=30)])
        runner.cancel(self.shot, film_actions.KIND)
        self.assertNotContains(self.client.get(self.url("plate")), "Make the small pictures")
        for number in (3, 30):
            (Film.objects.get().folder / f"thumbs/{number}.jpg").unlink()
        self.assertEqual(self.small("thumbs", 30).status_code, 204)
        self.assertContains(self.client.get(self.url("plate")), "Make the small pictures")
        self.client.post(self.url("plate/small"))
        self.assertEqual(number_of_jpeg(self.small("thumbs", 30)), 29)
        self.assertNotContains(self.client.get(self.url("plate")), "Make the small pictures")

    def test_a_disk_that_is_full_in_the_middle(self):
        home = settings.DATA / "films"
        before = set(home.glob("*"))
        pictures = [(f"a.{number}.png", png(number)) for number in range(1, 9)]
        copies, copy = [], shutil.copyfile

        def sometimes(*paths):
            copies.append(paths)
            if len(copies) > 4:
                raise OSError(errno.ENOSPC, "No space left on device")
            return copy(*paths)

        with mock.patch.object(film_actions.shutil, "copyfile", sometimes):
            answer = self.bring(pictures, status=422)
        self.assertIn("No space left on device. Nothing was changed.", answer.content.decode())
        self.assertEqual((Film.objects.count(), set(home.glob("*"))), (0, before))
        self.assertIsNone(self.shot_now().state["film"])
        # It is full when the small pictures are made: that is said, and they are made once there is
        # room.
        full = OSError(errno.ENOSPC, "No space left on device")
        with mock.patch.object(film_actions, "make_part", side_effect=full):
            self.bring(pictures)
        self.assertEqual(runner.latest(self.shot, film_actions.KIND).state, Job.FAILED)
        page = self.client.get(self.url("plate"))
        self.assertContains(page, "Make the small pictures that are missing")
        self.assertEqual(self.small("small", 3).status_code, 204)
        self.client.post(self.url("plate/small"))
        self.assertEqual(number_of_jpeg(self.small("small", 3)), 3)
