"""What a revision changed, told in words and figures."""

from types import SimpleNamespace

from django.test import SimpleTestCase

from web.shows.differences import MOST, in_words, steps_of


def revision(before, after):
    """One that turns some parts of a state into others."""
    parts = [{key: repr(value) for key, value in state.items()} for state in (before, after)]
    parent = SimpleNamespace(parent=None, parts=parts[0], state=before)
    return SimpleNamespace(parent=parent, parts=parts[1], state=after)


class Differences(SimpleTestCase):
    def says(self, part, before, after):
        return in_words(revision({part: before}, {part: after}))

    def test_things_with_ids_come_go_and_change_in_their_order(self):
        edge, spot = {"id": "e1", "kind": "edge"}, {"id": "s1", "name": "Bollard", "at": [1, 2]}
        bow = {"id": "b1", "kind": "bow"}
        self.assertEqual(
            self.says("marks", [], [spot, edge, bow]),
            ["mark Bollard new", "mark e1 new", "mark b1 new"],
        )
        self.assertEqual(
            self.says("marks", [bow, spot, edge], [spot | {"at": [1, 2.5]}]),
            ["mark b1 removed", "mark e1 removed", "mark Bollard, at: 1, 2 → 1, 2.5"],
        )
        self.assertEqual(self.says("marks", [spot, edge], [edge, spot]), [])  # another order

    def test_fields_are_told_by_name_those_within_others_too(self):
        before = {"focal_mm": 28.0, "distortion": {"k1": None, "k2": -0.0}, "name": "Prime"}
        after = {"focal_mm": 32.50004, "distortion": {"k1": 0.01, "k2": -0.0}, "name": "Prime"}
        self.assertEqual(
            self.says("lens", before, after),
            ["lens, distortion, k1: – → 0.01", "lens, focal mm: 28 → 32.5"],
        )

    def test_what_was_not_there_or_is_no_more(self):
        self.assertEqual(self.says("look", {}, {"exposure": 1}), ["look new"])
        self.assertEqual(self.says("look", {"exposure": 1}, {}), ["look removed"])
        self.assertEqual(self.says("card_m", None, 4.25), ["distance of the card: 4.25"])
        self.assertEqual(self.says("card_m", 4.25, None), ["distance of the card removed"])

    def test_a_switch_is_on_or_off(self):
        self.assertEqual(self.says("robust", False, True), ["mistrust of marks: off → on"])
        self.assertEqual(self.says("robust", True, False), ["mistrust of marks: on → off"])

    def test_values_are_as_long_as_can_be_read(self):
        self.assertEqual(self.says("range", [1, 2], [1.0, 48.00049]), ["range: 1, 2 → 1, 48"])
        self.assertEqual(
            self.says("keep_out", [[[0, 0], [1, 1]]], [1, 2, 3, 4, 5]),
            ["keep-out area: 1 values → 5 values"],
        )
        (told,) = self.says("way_in", "a" * 100, "b")
        self.assertEqual(told, f"way in: {'a' * 60}… → b")

    def test_of_many_the_rest_is_counted(self):
        marks = [{"id": f"e{number}"} for number in range(10)]
        told = self.says("marks", [], marks)
        self.assertEqual((len(told), told[-1]), (MOST, "and 5 more"))

    def test_the_steps_that_it_belongs_to_are_in_the_order_of_the_work(self):
        one = revision(
            {"marks": [], "gate": None, "look": 1, "unheard_of": 1},
            {"marks": [1], "gate": 2, "look": 1, "unheard_of": 2},
        )
        self.assertEqual(steps_of(one), ["gate", "match"])
        first = revision({}, {"marks": []})
        first.parent = None
        self.assertEqual((in_words(first), steps_of(first)), ([], ["match"]))
