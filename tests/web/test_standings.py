"""Standings are computed once, and anew where what they depend on has changed."""

from contextlib import nullcontext
from unittest import mock

from django.db import DatabaseError, connection
from django.test.utils import CaptureQueriesContext

from tests.web.matched import MatchedShot
from web.elements.models import Render
from web.match import fits
from web.shows import standings, steps
from web.shows.alone import alone
from web.shows.history import create_shot, edit
from web.shows.models import Shot, StoredStanding

FRONT, BOARD = "/", "/shows/tide/"


class Standings(MatchedShot):
    def shot(self):
        return Shot.objects.with_head().order_by("pk").first()

    def computed(self, *pages):
        """How many standings opening these pages computes."""
        with mock.patch.object(standings, "_standing", wraps=standings._standing) as compute:
            for page in pages:
                self.assertEqual(self.client.get(page).status_code, 200)
        return compute.call_count

    def test_computed_once_and_anew_after_a_change(self):
        board = self.shot().show.get_absolute_url()
        self.assertGreater(self.computed(FRONT), 0)
        self.assertEqual(self.computed(FRONT, board, board), 0)
        for number in range(5):
            create_shot(self.shot().show, f"LT{number}")
        eight = len(steps.registered())
        self.assertEqual(self.computed(board), 5 * eight)
        edit(self.shot(), "Robust", lambda state: state.update(robust=True))
        self.assertEqual(self.computed(board, FRONT), eight)
        # What is not in the state: the lock, the show's unit, a render that comes and one that
        # goes.
        Shot.objects.filter(code="LT1").update(locked=True)
        self.assertEqual(self.computed(board), eight)
        shot = self.shot()
        render = Render.objects.create(
            shot=shot, digest="0" * 64, revision=1, width=1, height=1, seconds=1
        )
        self.assertEqual(self.computed(board), eight)
        self.assertContains(self.client.get(board), "render is old")
        render.throw()
        self.assertEqual(self.computed(board), eight)
        self.assertNotContains(self.client.get(board), "render is old")
        shot.show.length_unit = "ft"
        shot.show.save()
        self.assertEqual(self.computed(board), 6 * eight)

    def test_a_board_asks_as_much_for_many_shots_as_for_one(self):
        show = self.shot().show
        counts = []
        for number in range(3):
            self.client.get(show.get_absolute_url())
            with CaptureQueriesContext(connection) as queries:
                self.client.get(show.get_absolute_url())
            counts.append(len(queries))
            for extra in range(4):
                create_shot(show, f"LT{number}{extra}")
        self.assertEqual(counts[0], counts[2])
        # Of the states only the plates are read, for their thumbnails.
        self.assertLessEqual(sum("statepart" in one["sql"] for one in queries), 1)

    def test_a_list_does_not_wait_for_what_another_page_computes(self):
        board = self.shot().show.get_absolute_url()
        self.client.get(board)
        edit(self.shot(), "No marks", lambda state: state.update(marks=[]))
        with alone("standing", str(self.shot().pk)) as mine:  # as another process holds it
            self.assertTrue(mine)
            self.assertEqual(self.computed(board, FRONT), 0)
        self.assertEqual(self.computed(board), len(steps.registered()))

    def test_a_new_fit_is_solved_once(self):
        """Whoever comes second waits, and finds it stored."""
        edit(self.shot(), "Robust", lambda state: state.update(robust=True))
        state = self.shot().state
        document = fits.document_of(state)
        digest, seen = fits.digest_of(document), []

        def by_somebody_else(kind, what):
            fits.StoredFit.objects.create(digest=digest, fit={"ok": False, "theirs": True})
            seen.append((kind, what))
            return nullcontext(True)

        with mock.patch.object(fits, "alone", by_somebody_else):
            self.assertTrue(fits.fit_of(state)["theirs"])
        self.assertEqual(seen, [("fit", digest)])

    def test_what_fails_is_stored_and_what_can_not_be_stored_is_shown(self):
        board = self.shot().show.get_absolute_url()
        broken = mock.patch("web.match.fits.solve", side_effect=RuntimeError("no"))
        edit(self.shot(), "Robust", lambda state: state.update(robust=True))
        with broken as solve, self.assertLogs("web.shows.standings", "ERROR"):
            self.assertContains(self.client.get(board), "can’t be computed".replace("’", "&#x27;"))
            tried = solve.call_count
            self.assertEqual(self.client.get(board).status_code, 200)
            self.assertEqual(solve.call_count, tried)
        StoredStanding.objects.all().delete()
        full = mock.patch.object(
            type(StoredStanding.objects), "bulk_create", side_effect=DatabaseError("disk full")
        )
        with full, self.assertLogs("web.shows.standings", "ERROR"):
            self.assertContains(self.client.get(board), "px rms")
