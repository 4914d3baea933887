"""A matched shot to test the steps after Match with: the demo's plate, its marks, one length."""

import json

from django.test import TestCase

from demo.evidence import FACTS
from demo.plates import truth
from demo.show import marks_for
from tests.web.client import PageClient
from tests.web.test_shots import FOLDER, NAME
from web.match.actions import add_fact, set_marks
from web.plates.actions import bring_in, take_plate
from web.shows.history import create_shot, edit
from web.shows.models import Shot, Show
from web.stage.cameras import camera_called


class Matched:
    """A show in metres with the shot LT901, for tests of any kind."""

    client_class = PageClient

    def setUp(self):
        show = Show.objects.create(name="The Lantern Tide", slug="tide", length_unit="m")
        shot = take_plate(
            create_shot(show, "LT901"), bring_in(FOLDER / f"{NAME}.jpg", f"{NAME}.jpg")
        )
        shot = edit(
            shot,
            "gate",
            lambda state: state.update(
                gate={
                    "width_mm": 36.0,
                    "height_mm": 20.25,
                    "squeeze": 1.0,
                    "origin": "typed",
                    "name": "",
                }
            ),
        )
        add_fact(set_marks(shot, marks_for(truth(NAME)), "Marks", None), dict(FACTS[0]), None)

    def post(self, name, **data):
        return self.client.post(
            f"/shows/tide/LT901/set/{name}", json.dumps(data), content_type="application/json"
        )

    def items(self):
        return self.shot().state["stand_ins"]

    def place(self, point, **typed):
        at = truth(NAME).project([point])[0].tolist()
        answer = self.post(
            "place", at=at, typed={"width": "0.8", "height": "0.6", "depth": "0.6"} | typed
        )
        self.assertEqual(answer.status_code, 200, answer.content)
        return self.items()[-1]

    def shot(self):
        return Shot.objects.with_head().get()

    def camera(self, id_="match"):
        return camera_called(self.shot(), id_).camera


class MatchedShot(Matched, TestCase):
    """With everything taken back after each test."""
