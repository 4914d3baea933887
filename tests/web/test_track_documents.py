"""What is said of tracks and what comes in and goes out of them: relations, tables, documents."""

import json

from django.core.files.uploadedfile import SimpleUploadedFile

from aperture.match.document import validate
from tests.web.test_tracks import HasBoards
from web.match import tracking
from web.plates import time_actions
from web.shows.history import edit


class Told(HasBoards):
    def test_tracks_along_an_axis_and_on_one_plane(self):
        self.put_tracks()
        self.assertEqual(self.ask(verb="plane", ids=["t1", "t2"], axis="along").status_code, 200)
        self.ask(verb="plane", ids=["t3", "t2"], axis="along")  # t2's plane takes t3
        self.ask(verb="plane", ids=["t4", "t5"], axis="along")
        self.ask(verb="direction", ids=["t5", "t1"], axis="across", plus_minus="0.2°")
        document = self.client.get(self.url("match/tracks/document.json")).json()
        validate(document, 2)
        first, second = (plane["id"] for plane in document["planes"])
        on = [track.get("on") for track in document["tracks"]]
        self.assertEqual(on, [first, first, first, second, second, None])
        (told,) = document["facts"]
        self.assertEqual(
            (told["from"], told["to"], told["along"], told["plus_minus"]),
            ("t5", "t1", "across", 0.2),
        )
        page = self.client.get(self.url("match")).content.decode()
        for says in ("t1, t2, t3 lie on plane across Z 1", "From t5 to t1: along X ± 0.2°"):
            self.assertIn(says, page)
        for asked, says in (
            ({"verb": "plane", "ids": ["t1"]}, "two tracks at least"),
            ({"verb": "direction", "ids": ["t1", "t2", "t3"]}, "choose two"),
            ({"verb": "direction", "ids": ["t1", "t2"], "plus_minus": "60"}, "at most 45°"),
        ):
            answer = self.ask(**asked)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(says, answer.json()["problem"])
        # A plane that goes leaves its tracks; a track that goes takes the direction with it.
        self.client.post(self.url("match/tracks/drop"), {"plane": first, "base": self.base()})
        self.ask(verb="remove", ids=["t5"])
        state = self.now().state
        self.assertEqual([plane["id"] for plane in state["planes"]], [second])
        about = tracking.tracks_of(state).about
        self.assertEqual([id_ for id_, told in about.items() if "on" in told], ["t4"])
        self.assertEqual(state["path_facts"], [])

    def test_tables_in_and_out(self):
        self.put_tracks(2)
        time_actions.begin_shot_at(self.now(), 1001)
        text = self.client.get(self.url("match/tracks/table.csv")).content.decode()
        self.assertTrue(text.splitlines()[1].startswith("1001,t1,"))
        table = text.replace("t1", "imported")
        self.client.post(
            self.url("match/tracks/take"),
            {
                "table": SimpleUploadedFile("points.csv", table.encode()),
                "origin": "top",
                "centres": "half",
                "base": self.base(),
            },
        )
        tracks = tracking.tracks_of(self.now().state)
        self.assertEqual(sorted(tracks.ids), ["imported", "t1", "t2"])
        self.assertEqual(tracks.about["imported"], {"source": "imported"})
        for data, says in ((b"1,a,2,x", "Line 1"), (b"5,a,2,3", "None of the table")):
            answer = self.client.post(
                self.url("match/tracks/take"),
                {"table": SimpleUploadedFile("p.csv", data), "base": self.base()},
            )
            self.assertContains(answer, says, status_code=422)

        # A form that the page sends by a script is told in words where to go, or why not.
        def send(data):
            table = SimpleUploadedFile("p.csv", data)
            asked = {"table": table, "base": self.base()}
            return self.client.post(self.url("match/tracks/take"), asked, headers={"X-Form": "1"})

        refused = send(b"1,a,2,x")
        self.assertEqual(refused.status_code, 422)
        self.assertIn("Line 1", refused.json()["problem"])
        self.assertEqual(send(b"1001,a,2,3").json(), {"to": self.url("match")})

    def test_documents_in_and_out(self):
        self.put_tracks()
        time_actions.begin_shot_at(self.now(), 1001)
        edge = {"id": "e1", "kind": "edge", "axis": "up", "points": [[40, 20], [42, 160]]}
        edit(self.now(), "e1", lambda state: state.update(marks=[edge]))
        self.ask(verb="floor", ids=["t1", "t2"])
        self.ask(verb="plane", ids=["t3", "t4"], axis="along")
        self.ask(verb="direction", ids=["t5", "t1"])
        self.ask(verb="height", frame=1003, length="1.5 m")
        self.ask(verb="off", ids=["t6"])
        self.ask(verb="zoom")
        self.ask(verb="focal", frame=1004, length="24 mm")
        self.ask(verb="readout", shutter="known", readout="16 ± 1")
        document = self.client.get(self.url("match/tracks/document.json")).json()
        self.ask(verb="remove", ids=["t1", "t2", "t3", "t4", "t5"])
        self.ask(verb="constant")
        edit(self.now(), "none", lambda state: state.update(marks=[], planes=[], readout=None))

        def load(told):
            file = SimpleUploadedFile("walk.json", json.dumps(told).encode())
            asked = {"document": file, "base": self.base()}
            return self.client.post(self.url("match/load"), asked, headers={"X-Form": "1"})

        self.assertEqual(load(document).json(), {"to": self.url("match")})
        again = self.client.get(self.url("match/tracks/document.json")).json()
        # These tracks don't say where they come from: now they do.
        document["tracks"] = [{"source": "imported"} | track for track in document["tracks"]]
        self.assertEqual(again, document)
        # Where its frames count from elsewhere, or it says what a shot can't keep, nothing changes.
        away = document | {"marks": [], "frames": {"first": 1, "last": 12}}
        away["tracks"] = [track | {"observations": [[7, 1, 1]]} for track in document["tracks"]]
        always = {"id": "f9", "kind": "camera_height", "metres": 1.5, "plus_minus": 0.01}
        for told, says in (
            (away, "another first frame"),
            (document | {"facts": [always]}, "“f9” can't be kept"),
            (document | {"tracks": [{"id": "t1"}]}, "breaks its schema"),
        ):
            answer = load(told)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(says, answer.json()["problem"])
        self.assertEqual(self.client.get(self.url("match/tracks/document.json")).json(), document)
