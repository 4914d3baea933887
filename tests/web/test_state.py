"""How a shot's state is stored: parts and blobs by digest, older versions, thinning, what a large
shot costs."""

import io
import json
import os
from datetime import timedelta
from pathlib import Path
from unittest import mock

import numpy as np
from django.core.management import call_command
from django.core.management.base import CommandError
from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.test import TestCase, TransactionTestCase
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from tests.web.test_shots import WithShot
from web.blobs import store
from web.blobs.in_use import referred
from web.gates import gate
from web.jobs.models import Job
from web.shows import history, shared_states, state
from web.shows.history import edit, undo
from web.shows.models import Revision, Shot, StatePart
from web.shows.organise import copy_shot
from web.shows.refusals import NotValid, Stale
from web.shows.thinning import forget_parts, thin

OLD = json.loads((Path(__file__).parents[1] / "cases/states/version_1.json").read_text())


def collect(**options):
    said = io.StringIO()
    call_command("collect_garbage", stdout=said, stderr=said, **options)
    return said.getvalue()


class Blobs(TestCase):
    def test_what_is_put_is_there_once_and_whole(self):
        digest = store.put(b"harbour")
        self.assertEqual((store.put(b"harbour"), store.get(digest)), (digest, b"harbour"))
        arrays = {"at": np.arange(6.0).reshape(3, 2), "frame": np.array([1001, 1002, 1003])}
        first, second = store.put_arrays(**arrays), store.put_arrays(**arrays)
        self.assertEqual(first, second)
        np.testing.assert_array_equal(store.get_arrays(first)["at"], arrays["at"])
        with self.assertRaises(store.Missing):
            store.get("../../etc/passwd")
        with self.assertRaisesRegex(store.Missing, "missing"):
            store.get("0" * 64)

    def test_a_write_that_is_cut_off_leaves_nothing(self):
        with mock.patch.object(os, "replace", side_effect=OSError("disk full")):
            with self.assertRaises(OSError):
                store.put(b"slipway, half written")
        self.assertEqual(list(store.home().glob("incoming-*")), [])
        self.assertFalse(any(store.get(one).startswith(b"slip") for one in store.digests()))

    def test_damage_is_found(self):
        digest = store.put(b"signal tower")
        store.verify(digest)
        store.path_of(digest).write_bytes(b"signal t0wer")
        self.addCleanup(store.path_of(digest).unlink)
        with self.assertRaisesRegex(store.Missing, "damaged"):
            store.verify(digest)

    def test_references_are_found_at_any_depth(self):
        value = {"tracks": [{"blob": "a"}, {"more": {"blob": "b", "count": 3}}], "blob": 7}
        self.assertEqual(list(referred(value)), ["a", "b"])


class Parts(WithShot):
    def many(self, count):
        """Marks that are too large for the table of parts."""
        return [{"id": f"s{n}", "kind": "spot", "at": [n, n + 0.5]} for n in range(count)]

    def test_an_edit_stores_what_it_changed(self):
        before = StatePart.objects.count()
        edit(self.shot, "card", lambda state: state.update(card_m=2.5))
        edit(self.shot, "again", lambda state: state.update(card_m=2.5))
        edit(self.shot, "back", lambda state: state.update(card_m=None))
        edit(self.shot, "and so", lambda state: state.update(card_m=2.5))
        self.assertEqual((StatePart.objects.count() - before, self.head()), (1, 4))

    def test_what_breaks_a_schema_is_refused_by_its_place(self):
        for key, value, place in (
            ("marks", [{"id": "a/b", "kind": "spot", "at": [1, 2]}], "/marks/0"),
            ("stand_ins", [{"id": "b1", "name": "Crate\ud800"}], ""),
            ("stand_ins", [{"id": "b1", "name": "Crate\x07"}], "/stand_ins/0/name"),
            ("card_m", float("nan"), ""),
            ("card_m", 10**400, "/card_m"),
        ):
            with self.assertRaises(NotValid) as caught:
                edit(self.shot, "odd", lambda state, k=key, v=value: state.update({k: v}))
            self.assertTrue(caught.exception.place.startswith(place), caught.exception.place)
        self.assertEqual(self.head(), 1)
        with self.assertRaises(KeyError):  # nobody declared it: a slip of ours
            edit(self.shot, "odd", lambda state: state.update(mark=[]))

    def test_garbage_is_collected_and_nothing_else(self):
        edit(self.shot, "many", lambda state: state.update(marks=self.many(900)))
        edit(self.shot, "fewer", lambda state: state.update(marks=[]))
        with self.assertRaises(Stale):  # a refused version is kept, and what it refers to
            edit(self.shot, "late", lambda state: state.update(marks=self.many(950)), base=2)
        lost, fresh = store.put(b"referred to by nobody"), store.put(b"about to be referred to")
        os.utime(store.path_of(lost), (1, 1))
        self.assertIn("1 pieces of stored data would be removed", collect(dry_run=True))
        self.assertTrue(store.exists(lost))
        self.assertIn("1 pieces of stored data removed", collect())
        self.assertEqual((store.exists(lost), store.exists(fresh)), (False, True))
        large = [one.parts["marks"] for one in self.shot.revisions.filter(number__in=(2, 4))]
        for digest in large:
            os.utime(store.path_of(digest), (1, 1))
        self.assertIn("as it was written", collect(verify=True))
        self.assertEqual(len(Shot.objects.get().revisions.get(number=4).state["marks"]), 950)
        store.path_of(large[0]).write_bytes(b"[]")
        with self.assertRaisesRegex(CommandError, "can't be trusted"):
            collect(verify=True)

    def test_small_edits_in_a_row_are_one_revision(self):
        def nudge(run, value):
            edit(self.shot, "Nudged", lambda state: state.update(card_m=value), self.head(), run)

        edit(self.shot, "Placed", lambda state: state.update(card_m=1))
        with mock.patch.object(history, "PAUSE", timedelta(days=1)):
            for value in (2, 3, 4):
                nudge("nudge card", value)
            nudge("nudge another", 5)
        with mock.patch.object(history, "PAUSE", timedelta(0)):  # after a pause
            nudge("nudge another", 6)
        seen = []
        for _ in range(4):
            undo(self.shot)
            seen.append(self.state()["card_m"])
        self.assertEqual(seen, [5, 4, 1, None])

    def test_a_page_that_lags_behind_a_run_loses_nothing(self):
        with mock.patch.object(history, "PAUSE", timedelta(days=1)):
            edit(self.shot, "Nudged", lambda state: state.update(card_m=1))
            for value in (2, 3):
                edit(self.shot, "Nudged", lambda state, v=value: state.update(card_m=v), run="n")
            edit(self.shot, "elsewhere", lambda state: state.update(stand_ins=[]), base=3)
            crate = [{"id": "b1", "name": "Crate"}]
            edit(self.shot, "elsewhere", lambda state: state.update(stand_ins=crate), base=3)
        self.assertEqual((self.state()["card_m"], self.state()["stand_ins"]), (3, crate))

    def test_what_an_upgrade_changed_is_stored_with_the_next_edit(self):
        """Edited, merged with, and copied: the new revision has what the upgrade made, and not only
        in memory."""
        edit(self.shot, "old", lambda state: state.update(card_m=2))
        crate, edges = [{"id": "b1", "name": "Crate"}], [{"id": "s1", "kind": "spot", "at": [1, 2]}]
        step = {state.VERSION: lambda old: old | {"card_m": old.get("card_m", 0) + 5}}
        with (
            mock.patch.object(state, "VERSION", state.VERSION + 1),
            mock.patch.dict(state.UPGRADES, step),
        ):
            copied = copy_shot(Shot.objects.with_head().get())
            self.assertEqual(Revision.objects.get(pk=copied.head_id).state["card_m"], 7)
            edit(self.shot, "crate", lambda state: state.update(stand_ins=crate))
            self.assertEqual(self.state()["card_m"], 7)
            edit(self.shot, "spot", lambda state: state.update(marks=edges), base=2)
            self.assertEqual((self.state()["card_m"], self.state()["stand_ins"]), (7, crate))

    def test_what_was_turned_alone_is_not_merged_with(self):
        edit(self.shot, "turned", lambda state: state.update(card_m=1), alone=True)
        crate = [{"id": "b1", "name": "Crate"}]
        with self.assertRaises(Stale):
            edit(self.shot, "late", lambda state: state.update(stand_ins=crate), base=1)
        edit(self.shot, "crate", lambda state: state.update(stand_ins=crate))
        with self.assertRaises(Stale):  # nor is it merged itself
            edit(self.shot, "turned", lambda state: state.update(card_m=2), base=2, alone=True)


class Thinning(WithShot):
    def setUp(self):
        super().setUp()
        for value in range(1, 8):
            edit(self.shot, f"edit {value}", lambda state, v=value: state.update(card_m=v))
        undo(self.shot)  # 8 is the end of a branch, 7 a branch point
        edit(self.shot, "another way", lambda state: state.update(card_m=20))
        self.client.post(self.url("revisions/3/name"), {"name": "Sent to layout"})
        self.later = timezone.now() + timedelta(days=1)

    def numbers(self):
        return list(self.shot.revisions.values_list("number", flat=True))

    def test_what_something_hangs_on_stays(self):
        edit(self.shot, "handed", lambda state: state.update(card_m=21))
        history.mark_handed_off(Shot.objects.with_head().get())
        edit(self.shot, "last", lambda state: state.update(card_m=22))
        self.assertEqual(thin(self.shot, timezone.now() - timedelta(days=1)), 0)
        states = {one.number: dict(one.state) for one in self.shot.revisions.all()}
        self.assertEqual(thin(self.shot, self.later), 5)  # 2, 4, 5, 6, 9
        self.assertEqual(self.numbers(), [1, 3, 7, 8, 10, 11])
        self.assertEqual(forget_parts(), 5)
        for one in self.shot.revisions.all():
            self.assertEqual(dict(one.state), states[one.number])
        self.assertEqual(undo(self.shot), "Undone: last")
        for _ in range(3):
            undo(self.shot)
        self.assertEqual(self.head(), 1)

    def test_it_is_off_until_a_show_asks_and_waits_for_work(self):
        said = io.StringIO()
        call_command("thin_history", stdout=said)
        self.assertIn("0 revisions", said.getvalue())
        form = {"name": "Tide", "up_axis": "Y", "length_unit": "m", "rate": "24"}
        bad = self.client.post("/shows/tide/settings", form | {"thin_days": "0"})
        self.assertContains(bad, "At least one day", status_code=422)
        self.client.post("/shows/tide/settings", form | {"thin_days": "30"})
        self.shot.revisions.update(created=timezone.now() - timedelta(days=31))
        job = Job.objects.create(shot=self.shot, kind="render", state=Job.RUNNING)
        call_command("thin_history", stdout=said)
        self.assertEqual(len(self.numbers()), 9)
        Job.objects.filter(pk=job.pk).update(state=Job.DONE)
        call_command("thin_history", stdout=said)
        self.assertEqual(self.numbers(), [1, 3, 7, 8, 9])


class OldStates(TransactionTestCase):
    """A data folder of the release before parts: every revision a whole JSON state."""

    def migrate(self, name):
        executor = MigrationExecutor(connection)
        executor.migrate([("shows", name)])
        return executor.loader.project_state([("shows", name)]).apps

    def migrate_all(self):
        """What other tests of this process find: every table of every app."""
        executor = MigrationExecutor(connection)
        executor.migrate(executor.loader.graph.leaf_nodes())

    def test_it_opens_and_upgrades_by_itself(self):
        self.addCleanup(self.migrate_all)
        old = self.migrate("0003_kept")
        show = old.get_model("shows", "Show").objects.create(name="Tide", slug="tide")
        shot = old.get_model("shows", "Shot").objects.create(show=show, code="LT010")
        made = {}
        for one in OLD["revisions"]:
            made[one["number"]] = old.get_model("shows", "Revision").objects.create(
                shot=shot,
                number=one["number"],
                label=one["label"],
                state=one["state"],
                parent=made.get(one["parent"]),
            )
        shot.head = made[OLD["head"]]
        shot.save()
        self.migrate("0004_state_in_parts")
        self.migrate_all()  # what came later only adds

        shot = Shot.objects.with_head().get(code="LT010")
        self.assertEqual(shot.head.number, OLD["head"])
        for one in OLD["revisions"]:
            now = shot.revisions.get(number=one["number"])
            self.assertEqual(now.kept, one["label"].startswith(history.KEPT))
            defaults = {key: part.default for key, part in state.parts().items()}
            self.assertEqual(dict(now.state), defaults | one["state"])
        # Edited, undone and redone as if it had always been so.
        self.assertEqual(history.redo(shot), f"Redone: {OLD['revisions'][-1]['label']}")
        shot = edit(Shot.objects.with_head().get(), "card", lambda state: state.update(card_m=9))
        self.assertEqual(shot.head.version, state.VERSION)
        kept = next(one for one in OLD["revisions"] if one["label"].startswith(history.KEPT))
        history.restore(shot, kept["number"])
        self.assertEqual(Shot.objects.with_head().get().state["card_m"], None)

    def test_one_of_a_newer_release_is_said(self):
        with self.assertRaisesRegex(NotValid, "newer release"):
            state.upgraded({}, state.VERSION + 1)


class Once(WithShot):
    def test_a_page_computes_what_it_needs_once(self):
        """The Match page of a matched shot: one fit, and the chain once plain and once with its
        lens; the next page nothing of it."""
        self.ready()
        self.client.get(self.url("match"))
        shared_states.forget()
        for most in (1, 0):
            with (
                mock.patch.object(gate, "build", wraps=gate.build) as built,
                CaptureQueriesContext(connection) as queries,
            ):
                self.client.get(self.url("match"))
            self.assertLessEqual(built.call_count, 2 * most)
            for table in ("match_storedfit", "plates_plate", "shows_statepart"):
                count = sum(f'FROM "{table}"' in one["sql"] for one in queries)
                self.assertEqual(count, most, table)

    def test_shared_states_are_few(self):
        """They make room for each other, by number and by size, and what was let go is read
        again."""
        large = json.dumps(["x" * 1000] * 100)

        def read(number):
            return state.State({"marks": str(number)}, {str(number): large}, read_only=True)

        def shared(number):
            return shared_states.of({"marks": str(number)}, lambda: read(number))

        with mock.patch.object(shared_states, "MOST_STATES", 40):
            first, second = shared(0), shared(1)
            for number in range(2, 41):
                self.assertEqual(len(shared(number)["marks"]), 100)
            self.assertIs(shared(1), second)
            self.assertIsNot(shared(0), first)
        with mock.patch.object(shared_states, "MOST_TEXT", 3 * len(large)):
            for number in range(100, 116):
                shared(number)["marks"]
            self.assertLess(len(shared_states._states), 30)
        self.assertEqual(shared_states.forget(), [])

    def test_threads_read_texts_together(self):
        def fetch(digests):
            texts.wanted.clear()  # as another thread leaves it that was quicker
            return dict.fromkeys(digests, "1")

        texts = state.Texts({"a": "", "b": ""}, fetch)
        shared = state.State({"marks": "a", "facts": "b"}, texts, read_only=True)
        self.assertEqual((shared["marks"], shared["facts"]), (1, 1))

    def test_a_saved_state_is_not_changed(self):
        saved = Shot.objects.with_head().get().state
        with self.assertRaises(TypeError):
            saved["marks"] = []
        saved["marks"].append("by mistake")  # Python lets this happen, but all tests look for it
        self.assertEqual(shared_states.forget(), ["marks"])


class Scale(WithShot):
    """1,000 tracks over 500 frames: what an edit beside them writes, and what a page reads."""

    def test_budgets(self):
        rng = np.random.default_rng(1)
        tracks = {"table": store.put_arrays(at=rng.random((1000, 500, 2)).astype(np.float32))}
        large = state.Part("clouds", {}, {"type": "object"}, "clouds")
        self.addCleanup(state.parts().pop, "clouds")
        state.register(large)
        text = [[round(v, 2) for v in row] for row in rng.uniform(0, 4096, (50_000, 2)).tolist()]
        edit(self.shot, "clouds", lambda state: state.update(clouds=tracks | {"text": text}))

        def written():
            return sum(len(one) for one in StatePart.objects.values_list("text", flat=True))

        before = written()
        with CaptureQueriesContext(connection) as queries, mock.patch.object(store, "get") as get:
            edit(self.shot, "card", lambda state: state.update(card_m=3))
        self.assertEqual(get.call_count, 0)  # the tracks weren't read
        self.assertLess(len(queries), 12)
        self.assertLess(written() - before, 100)
        self.assertLess(max(len(json.dumps(one.parts)) for one in Revision.objects.all()), 2000)
        Job.objects.create(shot=self.shot, kind="render", state=Job.RUNNING, beat=timezone.now())
        with CaptureQueriesContext(connection) as queries:
            self.client.get(self.url("jobs/render/progress"))
        self.assertFalse(any("statepart" in one["sql"] for one in queries))
