"""Tracks by hand and keep-out areas in the application: placed, followed, corrected, joined, taken
back."""

import json
from unittest.mock import patch

import numpy as np

from aperture.track.detect import corners
from aperture.track.tracks import PLACED, Tracks
from tests.web.test_tracks import SIZE, HasBoards, pictures
from web.jobs import runner
from web.jobs.models import Job
from web.match import by_hand, following, path_fits, starting, tracking
from web.shows.history import undo


class ByHand(HasBoards):
    def setUp(self):
        super().setUp()
        # Texture of the nearest board, away from its rim, behind which others come out.
        rim = np.ones(SIZE[::-1], bool)
        rim[70:130, 110:170] = False
        picture = dict(pictures())[6].astype(np.float32)
        self.inner = corners(picture, 2, 30, np.zeros((0, 2)), rim).tolist()

    def tracks(self):
        return tracking.tracks_of(self.now().state)

    def placed(self, at, frame=6):
        """The id of a track that is put down."""
        answer = self.ask(verb="place", frame=frame, at=at)
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer.json()["chosen"][0]

    def at(self, id_, number):
        tracks = self.tracks()
        own = (tracks.track == tracks.ids.index(id_)) & (tracks.frame == number)
        return tracks.xy[own][0]

    def area(self, **wish):
        body = json.dumps({"base": self.base(), **wish})
        return self.client.post(
            self.url("match/tracks/area"),
            body,
            "application/json",
            headers={"accept": "application/json"},
        )

    def test_placed_followed_corrected_and_followed_anew(self):
        id_ = self.placed(self.inner[0])
        self.assertEqual(self.tracks().lengths().tolist(), [1])
        self.assertEqual(self.ask(verb="follow", ids=[id_]).status_code, 200)
        self.assertEqual(self.tracks().lengths().tolist(), [12])
        at = self.at(id_, 10) + (3.0, -2.0)
        answer = self.ask(verb="correct", ids=[id_], frame=10, at=at.tolist())
        self.assertEqual(answer.status_code, 200)
        tracks = self.tracks()
        np.testing.assert_allclose(self.at(id_, 10), at, atol=1e-3)
        self.assertEqual((tracks.state == PLACED).sum(), 2)
        # The correction was no point of the pattern: that is told, and stands in the σ.
        self.assertAlmostEqual(tracks.about[id_]["apart"], 3.6, delta=0.3)
        self.assertAlmostEqual(tracks.sigma[9].mean(), 1.8, delta=0.2)
        self.assertNotIn("stale", tracks.about[id_])
        undo(self.now(), self.base())
        self.assertEqual(by_hand.stale(self.tracks()), [id_])
        self.assertContains(self.client.get(self.url("match/leaf/tracks")), "1 track changed since")
        self.ask(verb="take_back", ids=[id_], frame=10)
        self.assertEqual(by_hand.keys_of(self.tracks(), id_)[0][0], 6)
        self.assertLess(np.hypot(*(self.at(id_, 10) + (3.0, -2.0) - at)), 0.1)
        self.assertEqual(self.ask(verb="take_back", ids=[id_], frame=6).status_code, 422)

    def test_what_is_changed_while_it_is_followed_is_followed_once_more(self):
        one, other = (self.placed(at) for at in self.inner)
        whole, again = following._placed, []

        def meanwhile(shot, film, numbers, wish, progress):
            found = whole(shot, film, numbers, wish, progress)
            if not again:
                again.append([each.id for each in wish])
                at = self.at(one, 6) + 1
                by_hand.correct(self.now(), one, 6, at.tolist(), None)
                by_hand.set_window(self.now(), [one], 7, None)
            return found

        with patch.object(following, "_placed", meanwhile):
            self.ask(verb="follow", ids=[one, other])
        self.assertEqual(runner.latest(self.now(), "follow").says, "")
        tracks = self.tracks()
        self.assertEqual(tracks.lengths().tolist(), [12, 12])
        self.assertEqual(tracks.about[one]["reach"], 7)
        np.testing.assert_allclose(self.at(one, 6), np.array(self.inner[0]) + 1, atol=0.01)
        # One that lies outside the marked range waits, and doesn't spoil the rest.
        by_hand.correct(self.now(), one, 12, self.at(one, 12).tolist(), None)
        by_hand.take_back(self.now(), one, 6, None)
        answer = self.client.post(
            self.url("plate/range"),
            json.dumps({"base": self.base(), "range": [2, 8]}),
            "application/json",
            headers={"accept": "application/json"},
        )
        self.assertEqual(answer.status_code, 200)
        self.ask(verb="follow", ids=[other])
        self.assertEqual(runner.latest(self.now(), "follow").state, Job.DONE)
        self.assertEqual(by_hand.stale(self.tracks()), [one])
        self.assertIsNone(starting.start_by_hand(self.locked(), [one], only_if_idle=True))

    def locked(self):
        shot = self.now()
        shot.locked = True
        return shot

    def test_trimmed_joined_and_set_beside_the_pattern(self):
        one, other = self.placed(self.inner[0], 6), self.placed(self.inner[0], 6)
        self.ask(verb="end", ids=[one], frame=7)
        self.ask(verb="begin", ids=[other], frame=5)
        self.ask(verb="follow", ids=[one, other])

        def frames(id_):
            return self.tracks().frame[self.tracks().track == self.tracks().ids.index(id_)]

        self.assertEqual(frames(one).tolist(), list(range(1, 8)))
        self.assertEqual(frames(other).tolist(), list(range(5, 13)))
        answer = self.ask(verb="join", ids=[one, other])
        self.assertEqual(answer.json()["chosen"], [one])
        self.assertEqual(self.tracks().lengths().tolist(), [12])
        before = self.at(one, 12)
        aside = self.at(one, 6) + (8.0, 3.0)
        self.ask(verb="offset", ids=[one], frame=6, at=aside.tolist())
        self.assertEqual(self.tracks().about[one]["offset"], [8.0, 3.0])
        np.testing.assert_allclose(self.at(one, 6), aside, atol=1e-3)
        np.testing.assert_allclose(self.at(one, 12) - before, (8, 3), atol=0.5)
        document = path_fits.film_document(self.now().state)
        self.assertEqual(set(document["tracks"][0]), {"id", "source", "observations"})

    def test_tracks_that_jump_end_each_on_its_own_frame(self):
        """Before the frame that they jump on, and keep to that when they are followed anew; the
        others stay, one that would have no place left goes."""
        self.put_tracks(4)
        answer = self.ask(verb="end_each", ids=["t1", "t2", "t4"], frames=[5, 8, 1])
        self.assertEqual(answer.status_code, 200, answer.content)
        tracks = self.tracks()
        lasts = {
            id_: int(tracks.frame[tracks.track == index].max())
            for index, id_ in enumerate(tracks.ids)
        }
        self.assertEqual(lasts, {"t1": 4, "t2": 7, "t3": 12})
        self.assertEqual([tracks.about[id_]["last"] for id_ in ("t1", "t2")], [4, 7])
        for ids, frames in ((["t1", "t9"], [3, 3]), (["t1"], [0])):
            answer = self.ask(verb="end_each", ids=ids, frames=frames)
            self.assertEqual(answer.status_code, 422)
        undo(self.now(), self.base())
        self.assertEqual(len(self.tracks()), 4)

    def test_refused_with_a_sentence(self):
        one = self.placed([200, 4])
        for wish, says in (
            ({"verb": "place", "frame": 6, "at": [-4, 10]}, "inside the picture"),
            ({"verb": "place", "frame": 77, "at": [4, 10]}, "Frame 77"),
            ({"verb": "join", "ids": [one]}, "choose two"),
            ({"verb": "window", "ids": [one], "reach": 3}, "side of"),
            ({"verb": "correct", "ids": [one, "t9"], "frame": 6, "at": [9, 9]}, "one track"),
            ({"verb": "offset", "ids": [one], "frame": 6, "at": [390, 200]}, "at most 200 px"),
            ({"verb": "offset", "ids": [one], "frame": 8, "at": [9, 9]}, "isn’t seen"),
            ({"verb": "follow", "ids": ["gone"]}, "any more"),
        ):
            answer = self.ask(**wish)
            self.assertEqual(answer.status_code, 422, wish)
            self.assertIn(says, answer.json()["problem"])
        self.ask(verb="follow", ids=[one])
        job = runner.latest(self.now(), "follow")
        self.assertEqual(job.state, Job.FAILED)
        self.assertIn("nothing that stands out", job.says)
        self.assertEqual(self.tracks().lengths().tolist(), [1])

    def test_nothing_is_followed_in_a_keep_out_area_that_moves(self):
        self.put_tracks()
        square = [[0, 0], [60, 0], [60, 216], [0, 216]]
        self.assertEqual(self.area(verb="draw", frame=1, corners=square).status_code, 200)
        moved = [[x + 220, y] for x, y in square]
        self.area(verb="shape", id="k1", frame=12, corners=moved)
        page = self.client.get(self.url("match/leaf/tracks")).content.decode()
        self.assertIn("drawn on 1, 12", page)
        self.assertIn("places in keep-out areas", page)
        self.area(verb="clear")
        self.assertLess(len(self.tracks().frame), 72)
        for number, (x, _) in zip(self.tracks().frame, self.tracks().xy):
            left = 20 * (number - 1)
            self.assertFalse(left < x < left + 60)
        self.client.post(self.url("match/tracks/follow"), {"wanted": "120", "reach": "7"})
        found: Tracks = self.tracks()
        self.assertGreater(len(found.frame), 300)
        for number, (x, _) in zip(found.frame, found.xy):
            left = 20 * (number - 1)
            self.assertFalse(left + 1 < x < left + 59)
        self.assertEqual(
            self.area(verb="shape", id="k1", frame=3, corners=square[:3]).status_code, 422
        )
        self.assertEqual(self.area(verb="draw", frame=3, corners=square[:2]).status_code, 422)
        self.assertEqual(self.area(verb="forget", id="k1", frame=3).status_code, 422)
        # A corner that comes or goes does so on every frame on which the area was drawn.
        more = [square[0], (70, 20), *square[1:]]
        self.assertEqual(
            self.area(
                verb="add_corner", id="k1", frame=1, index=0, share=0.25, corners=more
            ).status_code,
            200,
        )
        keys = self.now().state["keep_out"][0]["keys"]
        np.testing.assert_allclose(keys["1"], more)
        first, second = np.array(moved[:2], float)
        np.testing.assert_allclose(keys["12"][1], first + 0.25 * (second - first), atol=0.01)
        self.area(verb="take_corner", id="k1", index=1)
        np.testing.assert_allclose(self.now().state["keep_out"][0]["keys"]["12"], moved)
        self.area(verb="forget", id="k1", frame=12)
        self.assertEqual(self.area(verb="forget", id="k1", frame=1).status_code, 422)
        self.assertEqual(list(self.now().state["keep_out"][0]["keys"]), ["1"])
        self.area(verb="remove", id="k1")
        self.assertEqual(self.now().state["keep_out"], [])
        self.assertEqual(self.area(verb="remove", id="k1").status_code, 422)
