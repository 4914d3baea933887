"""Several people on one shot: notes that are pinned, answered and ticked off; who is there; who
changed what, in words and figures."""

import json
from unittest.mock import patch

import redis
from django.contrib.auth.models import User
from django.db import OperationalError
from django.test import TransactionTestCase, override_settings

from tests.web.client import PageClient
from tests.web.test_shots import HasShot
from web.notes.models import Note
from web.people.models import Member, Presence
from web.shows.history import edit
from web.shows.models import Shot, Show


class Together(HasShot, TransactionTestCase):
    def setUp(self):
        super().setUp()
        self.upload()
        self.other = PageClient()
        user = User.objects.create_user("mate")
        Member.objects.create(show=Show.objects.get(), user=user, role="works")
        self.other.force_login(user, "django.contrib.auth.backends.ModelBackend")

    def events(self, client, window):
        text = b"".join(
            client.get(self.url("events"), {"window": window, "step": "set"}).streaming_content
        ).decode()
        found = {}
        for block in text.strip().split("\n\n"):
            lines = dict(
                line.split(": ", 1) for line in block.split("\n") if not line.startswith(":")
            )
            if lines:
                found[lines["event"]] = json.loads(lines["data"])
        return found

    def test_notes_are_pinned_answered_and_ticked_off(self):
        place = {"x": "120.5", "y": "88"}
        self.press("notes/pin", text="The bollard stands too far left", **place)
        for wrong in (
            {"text": " "},
            {"text": "x" * 2001},
            {"text": "a\x07"},
            {"text": "a", "x": "-4", "y": "3"},
            {"text": "a", "x": "nan", "y": "3"},
            {"text": "kept as typed", "x": "99999", "y": "0"},
        ):
            self.assertContains(self.press("notes/pin", **wrong), 'role="alert"', status_code=422)
        note = Note.objects.get()
        self.assertEqual((note.x, note.y, note.by.username), (120.5, 88.0, "artist"))
        self.assertContains(self.client.get(self.url("match")), '<span class="tag">1</span>')
        self.other.post(self.url(f"notes/{note.pk}/answer"), {"text": "Moved by 12 cm"})
        self.other.post(self.url(f"notes/{note.pk}/tick"))
        page = self.client.get(self.url("notes"))
        self.assertContains(page, "Moved by 12 cm")
        self.assertContains(page, "ticked off by mate")
        self.assertNotContains(self.client.get(self.url("match")), '<span class="tag">1</span>')
        self.press(f"notes/{note.pk}/tick")
        self.assertIsNone(Note.objects.get(pk=note.pk).done)
        self.assertEqual(self.press("notes/99999/tick").status_code, 404)
        Member.objects.update(role="looks")
        self.assertEqual(self.other.post(self.url("notes/pin"), {"text": "no"}).status_code, 403)
        self.assertNotContains(self.other.get(self.url("notes")), "Pin it")

    def test_who_is_there_and_what_they_change(self):
        found = self.events(self.client, "one")
        self.assertEqual((found["moved"]["number"], found["here"]), (self.head(), []))
        self.assertFalse(Presence.objects.exists())  # the window has gone
        with override_settings(LOCAL=False):
            answer = self.other.get(self.url("events"), {"window": "two", "step": "match"})
            stream = iter(answer.streaming_content)
            next(stream)
            next(stream)  # the other's page is open now
            self.assertEqual(
                self.other.post(self.url("plate/facts"), {"facts-transfer": "linear"}).status_code,
                302,
            )
        found = self.events(self.client, "one")
        self.assertEqual(found["here"], [{"name": "mate", "step": "match"}])
        self.assertEqual(found["moved"]["by"], "mate")
        answer.close()

    def test_the_history_says_who_changed_what(self):
        self.client.post(self.url("gate"), {"width": "36", "height": "20.25", "squeeze": "1"})
        with override_settings(LOCAL=False):
            self.other.post(self.url("gate"), {"width": "24", "height": "13.5", "squeeze": "1"})
        crate = {"id": "b1", "name": "Crate", "size": [1, 1, 1], "base": [0, 0, 0], "turn_deg": 0}
        for base in ([0, 0, 0], [0.25, 0, -2]):
            moved = [crate | {"base": base}]
            shot = Shot.objects.with_head().get()
            edit(shot, "Moved", lambda state, moved=moved: state.update(stand_ins=moved))
        page = self.client.get(self.url("history"))
        self.assertContains(page, "gate, width mm: 36 → 24")
        self.assertContains(page, "stand-in Crate, base: 0, 0, 0 → 0.25, 0, −2")
        self.assertContains(page, "stand-in Crate new")
        told = self.client.get(self.url("history"), {"who": "mate"}).context["rows"]
        self.assertEqual([row["revision"].by.username for row in told], ["mate"])
        told = self.client.get(self.url("history"), {"step": "set"}).context["rows"]
        self.assertEqual([row["steps"] for row in told], [["set"], ["set"]])
        self.assertEqual(
            self.client.get(
                self.url("history"), {"who": "x", "step": "y", "page": "z"}
            ).status_code,
            200,
        )

    def test_a_service_that_is_away_for_a_while(self):
        """A database that is locked, a queue that is gone: 503 in plain words, and afterwards all
        goes on."""
        before = self.head()
        locked = OperationalError("database is locked")
        with patch("web.shows.history.StatePart.keep", side_effect=locked):
            answer = self.press("notes/pin", text="no state")  # asks for none: it works
            self.assertEqual(answer.status_code, 302)
            answer = self.press("plate/facts", **{"facts-transfer": "linear"})
        self.assertEqual((answer.status_code, answer["Retry-After"]), (503, "5"))
        self.assertContains(answer, "Nothing was saved", status_code=503)
        self.assertEqual(self.head(), before)
        self.assertEqual(self.press("plate/facts", **{"facts-transfer": "linear"}).status_code, 302)
        gone = redis.exceptions.ConnectionError("gone")
        with patch("web.elements.views.starting.start_render", side_effect=gone):
            answer = self.press("elements/again")
        self.assertContains(answer, "the work wasn", status_code=503)
        with patch("web.people.access.is_admin", side_effect=locked):
            answer = self.other.get(self.url("plate"))
        self.assertEqual(answer.status_code, 503)
