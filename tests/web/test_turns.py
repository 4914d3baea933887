"""Requests take turns: how many at a time, and who comes first."""

import threading
from unittest import TestCase

from tests.patience import wait_until
from web.ui.turns import EDITS_IN_A_ROW, Turns


class TakingTurns(TestCase):
    def test_edits_come_first_and_pages_aren_t_starved(self):
        turns, done, hold = Turns(at_once=1), [], threading.Event()

        def ask(name, edit):
            with turns.one(edit):
                if name == "first":
                    hold.wait()
                done.append(name)

        threads = []
        wanted = [("first", False), ("p1", False), ("p2", False)]
        wanted += [(f"e{number}", True) for number in range(EDITS_IN_A_ROW + 2)]
        for name, edit in wanted:
            threads.append(threading.Thread(target=ask, args=(name, edit)))
            threads[-1].start()
            if name != "first":  # each waits before the next one comes
                waiting = len(threads) - 1
                wait_until(lambda: len(turns._pages) + len(turns._edits) == waiting)  # noqa: B023
            else:
                wait_until(lambda: not turns._free)
        hold.set()
        for thread in threads:
            thread.join()
        edits = [f"e{number}" for number in range(EDITS_IN_A_ROW + 2)]
        head, tail = edits[:EDITS_IN_A_ROW], edits[EDITS_IN_A_ROW:]
        self.assertEqual(done, ["first", *head, "p1", *tail, "p2"])

    def test_never_more_than_a_few_and_a_failure_gives_its_turn_back(self):
        turns, inside, most = Turns(at_once=3), [], []

        def ask(number):
            try:
                with turns.one(edit=number % 2 == 0):
                    inside.append(number)
                    most.append(len(inside))
                    inside.remove(number)
                    if number % 5 == 0:
                        raise ValueError
            except ValueError:
                pass

        threads = [threading.Thread(target=ask, args=(number,)) for number in range(60)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(len(most), 60)
        self.assertLessEqual(max(most), 3)
        self.assertEqual(turns._free, 3)
