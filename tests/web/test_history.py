"""Two windows over one shot: whatever they do in whatever order, nothing saved is lost and nobody's
edit goes unseen.

Then how the history is stored: in parts, by digest, older versions upgraded.
"""

from datetime import timedelta
from unittest import mock

from django.test import TestCase
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule, run_state_machine_as_test

from aperture.errors import Problem
from web.match.actions import continue_draft, keep_draft
from web.shows import history
from web.shows.models import Shot, Show
from web.shows.refusals import Locked, Moved, Refused, Stale

WINDOWS = st.sampled_from(["left", "right"])
# Of the parts, what they mean something together with, and which belong to the camera.
GROUPS = {"marks": "match", "draft": "match", "drafts": "match", "stand_ins": "set"}
CAMERA = ("marks", "draft")
EMPTY = {"marks": 0, "stand_ins": 0, "draft": "First", "drafts": {}}


def content(part, number):
    """A value of a part that its schema allows; 0 is none."""
    if part == "marks":
        return [{"id": f"s{number}", "kind": "spot", "at": [number, 1]}] if number else []
    return [{"id": f"b{number}", "name": "Crate"}] if number else []


def read(state):
    """A stored state as the model has it."""

    def number(items):
        return int(items[0]["id"][1:]) if items else 0

    drafts = {name: number(draft["marks"]) for name, draft in state["drafts"].items()}
    return {part: number(state[part]) for part in ("marks", "stand_ins")} | {
        "draft": state["draft"],
        "drafts": drafts,
    }


class TwoWindows(RuleBasedStateMachine):
    """A model of the history beside the real one. `shown`: the revision that each window has on
    screen."""

    def __init__(self):
        super().__init__()
        show, _ = Show.objects.get_or_create(name="The Lantern Tide", slug="tide")
        self.shot = history.create_shot(show, f"LT{show.shots.count()}")
        self.states, self.parents, self.runs = {1: EMPTY}, {1: None}, {1: ""}
        self.refused, self.folded = set(), set()
        self.head, self.locked = 1, False
        self.shown = {"left": 1, "right": 1}

    def expect(self, kind, act, *given, **named):
        """`act` raises exactly this kind of problem, or none; what it raised."""
        try:
            act(self.shot, *given, **named)
        except Problem as problem:
            assert type(problem) is kind, problem
            return problem
        assert kind is None, f"{kind} expected"
        return None

    def changed(self, first, second):
        return {part for part in EMPTY if first[part] != second[part]}

    def forbidden(self, first, second):
        """Whether the lock forbids going from one state to the other."""
        return self.locked and self.changed(first, second) & set(CAMERA)

    def append(self, parent, state, run=""):
        number = len(self.states) + 1
        self.states[number], self.parents[number], self.runs[number] = state, parent, run
        return number

    def next(self):
        """What redo goes to, or None."""
        hidden = self.refused | self.folded
        following = (n for n, p in self.parents.items() if p == self.head and n not in hidden)
        return max(following, default=None)

    def led_to_head(self, base):
        """Whether the head was made by going on from `base`, or from the run that replaced it."""
        at, ends = self.head, {base} | ({self.parents[base]} if base in self.folded else set())
        while at not in ends and at is not None and at > base:
            at = self.parents[at]
        return at in ends

    def save(self, base, state, run=""):
        """An edit from `base`: the problem it meets. It becomes the head, is merged with it, or
        kept beside it."""
        changed = self.changed(self.states[base], state)
        if not changed:
            return None
        if self.forbidden(self.states[base], state):
            return Locked
        if base == self.head:
            follows = run and self.runs[base] == run and self.parents[base]
            if follows:
                self.folded.add(base)
            self.head = self.append(self.parents[base] if follows else base, state, run)
            return None
        now = self.states[self.head]
        theirs = {GROUPS[part] for part in self.changed(self.states[base], now)}
        if self.led_to_head(base) and not theirs & {GROUPS[part] for part in changed}:
            merged = now | {part: state[part] for part in changed}
            follows = run and self.runs[self.head] == run and self.parents[self.head]
            if follows:
                self.folded.add(self.head)
            self.head = self.append(self.parents[self.head] if follows else self.head, merged, run)
            return None
        self.refused.add(self.append(base, state))
        return Stale

    def saved(self, window, kind, problem):
        if kind is Stale:
            assert (problem.kept, problem.newest) == (len(self.states), self.head)
        if kind is None:
            self.shown[window] = self.head

    @rule(window=WINDOWS)
    def look_again(self, window):
        self.shown[window] = self.head

    @rule(
        window=WINDOWS,
        part=st.sampled_from(["marks", "stand_ins"]),
        number=st.integers(0, 3),
        run=st.sampled_from(["", "nudge"]),
    )
    def edit(self, window, part, number, run):
        base = self.shown[window]
        kind = self.save(base, self.states[base] | {part: number}, run)
        value = content(part, number)
        problem = self.expect(
            kind, history.edit, "edit", lambda state: state.update({part: value}), base, run=run
        )
        self.saved(window, kind, problem)

    @rule(window=WINDOWS, name=st.sampled_from(["First", "Second"]), keep=st.booleans())
    def draft(self, window, name, keep):
        base = self.shown[window]
        state = self.states[base]
        aside = state["drafts"]
        if (name in aside or name == state["draft"]) if keep else name not in aside:
            kind = Problem
        else:
            drafts = aside | {state["draft"]: state["marks"]}
            marks = state["marks"] if keep else drafts.pop(name)
            kind = self.save(base, state | {"draft": name, "drafts": drafts, "marks": marks})
        problem = self.expect(kind, keep_draft if keep else continue_draft, name, base)
        self.saved(window, kind, problem)

    @rule(window=WINDOWS, back=st.booleans())
    def undo_or_redo(self, window, back):
        to = self.parents[self.head] if back else self.next()
        if self.shown[window] != self.head:
            kind = Moved
        elif to is None:
            kind = Refused
        elif self.forbidden(self.states[self.head], self.states[to]):
            kind = Locked
        else:
            kind, self.head = None, to
        self.expect(kind, history.undo if back else history.redo, self.shown[window])
        if kind is None:
            self.shown[window] = to

    @rule(window=WINDOWS, number=st.integers(1, 12))
    def restore(self, window, number):
        if number not in self.states:
            kind = Refused
        elif self.shown[window] != self.head:
            kind = Moved
        else:
            kind = self.save(self.head, self.states[number])
        self.expect(kind, history.restore, number, self.shown[window])
        if kind is None:
            self.shown[window] = self.head

    @rule(window=WINDOWS, locked=st.booleans())
    def lock(self, window, locked):
        seen = self.shown[window] == self.head
        self.expect(None if seen else Moved, history.set_locked, locked, self.shown[window])
        if seen:
            self.locked = locked

    @invariant()
    def what_is_stored_is_what_the_model_says(self):
        shot = Shot.objects.with_head().get(pk=self.shot.pk)
        assert (shot.head.number, shot.locked) == (self.head, self.locked)
        stored = {one.number: one for one in shot.revisions.all()}
        assert {number: read(one.state) for number, one in stored.items()} == self.states
        assert {number for number, one in stored.items() if one.folded} == self.folded


class History(TestCase):
    @mock.patch.object(history, "PAUSE", timedelta(days=1))
    def test_two_windows(self):
        run_state_machine_as_test(
            TwoWindows, settings=settings(max_examples=80, stateful_step_count=30)
        )
