"""A shot, and a folder of the server with a sequence and a movie of numbered pictures."""

import shutil
import tempfile
from pathlib import Path

import cv2
import numpy as np
from django.test import TransactionTestCase, override_settings

from tests.filmed import number_in, numbered, write_movie
from tests.web.test_shots import HasShot
from web.plates.models import Film
from web.shows.models import Shot


class Filmed(HasShot, TransactionTestCase):
    def setUp(self):
        super().setUp()
        self.place = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.place)
        self.media = self.place / "media"
        (self.media / "day1").mkdir(parents=True)
        for number in range(1001, 1013):
            cv2.imwrite(str(self.media / f"day1/walk.{number}.png"), numbered(number))
        write_movie(self.media / "rise.mp4", count=30)
        settings = override_settings(MEDIA=[str(self.media)])
        settings.enable()
        self.addCleanup(settings.disable)

    def shot_now(self):
        return Shot.objects.with_head().get(pk=self.shot.pk)

    def look(self, path="", root=0):
        return self.client.get(self.url("plate/media"), {"root": root, "path": path})

    def bring(self, first, how, path=""):
        asked = {"root": 0, "path": path, "first": first, "how": how}
        return self.client.post(self.url("plate/media/bring-in"), asked)

    def pixels(self, number):
        """The number that is seen in the real pixels of a picture of the film; the status where
        there are none."""
        answer = self.client.get(f"/films/{Film.objects.get().digest}/tile/{number}/0/0.png")
        if answer.status_code != 200:
            return answer.status_code
        tile = cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_COLOR)
        return number_in(tile[:108, :192])
