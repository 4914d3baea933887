"""Two windows over one shot: whatever they do in whatever order, nothing saved is lost and nobody's edit goes unseen."""

from django.test import TestCase
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule, run_state_machine_as_test

from aperture.errors import Problem
from web.shows import actions
from web.shows.models import Shot, Show

WINDOWS = st.sampled_from(["left", "right"])
PARTS = {"marks": "the camera's", "stand_ins": "not the camera's"}


class TwoWindows(RuleBasedStateMachine):
    """A model of the history beside the real one. `shown`: the revision that each window has on screen."""

    def __init__(self):
        super().__init__()
        show, _ = Show.objects.get_or_create(name="The Lantern Tide", slug="tide")
        self.shot = actions.create_shot(show, f"LT{show.shots.count()}")
        self.states = {1: dict.fromkeys(PARTS, ())}
        self.parents, self.refused = {1: None}, set()
        self.head, self.locked = 1, False
        self.shown = {"left": 1, "right": 1}

    def expect(self, kind, act, *given):
        """`act` raises exactly this kind of problem, or none; what it raised."""
        try:
            act(self.shot, *given)
        except Problem as problem:
            assert type(problem) is kind, problem
            return problem
        assert kind is None, f"{kind} expected"
        return None

    def unlike(self, first, second):
        """Whether the lock forbids going from one state to the other."""
        return self.locked and first["marks"] != second["marks"]

    def append(self, parent, state):
        number = len(self.states) + 1
        self.states[number], self.parents[number] = state, parent
        return number

    def next(self):
        """What redo goes to, or None."""
        return max(
            (n for n, p in self.parents.items() if p == self.head and n not in self.refused),
            default=None,
        )

    def save(self, base, state):
        """An edit from `base`: the problem it meets, and whether it becomes the head."""
        if self.unlike(self.states[base], state):
            return actions.Locked
        if state == self.states[base]:
            return None
        if base == self.head:
            self.head = self.append(base, state)
            return None
        self.refused.add(self.append(base, state))
        return actions.Stale

    @rule(window=WINDOWS)
    def look_again(self, window):
        self.shown[window] = self.head

    @rule(window=WINDOWS, part=st.sampled_from(list(PARTS)), value=st.integers(0, 3))
    def edit(self, window, part, value):
        base = self.shown[window]
        kind = self.save(base, self.states[base] | {part: (value,)})
        problem = self.expect(
            kind,
            actions.edit,
            "edit",
            lambda state: state.update({part: [value]}),
            base,
        )
        if kind is actions.Stale:
            assert (problem.kept.number, problem.newest) == (len(self.states), self.head)
        if kind is None:
            self.shown[window] = self.head

    @rule(window=WINDOWS, back=st.booleans())
    def undo_or_redo(self, window, back):
        to = self.parents[self.head] if back else self.next()
        if self.shown[window] != self.head:
            kind = actions.Moved
        elif to is None:
            kind = Problem
        elif self.unlike(self.states[self.head], self.states[to]):
            kind = actions.Locked
        else:
            kind, self.head = None, to
        self.expect(kind, actions.undo if back else actions.redo, self.shown[window])
        if kind is None:
            self.shown[window] = to

    @rule(window=WINDOWS, number=st.integers(1, 12))
    def restore(self, window, number):
        if number not in self.states:
            kind = Problem
        elif self.shown[window] != self.head:
            kind = actions.Moved
        else:
            kind = self.save(self.head, self.states[number])
        self.expect(kind, actions.restore, number, self.shown[window])
        if kind is None:
            self.shown[window] = self.head

    @rule(window=WINDOWS, locked=st.booleans())
    def lock(self, window, locked):
        seen = self.shown[window] == self.head
        self.expect(None if seen else actions.Moved, actions.set_locked, locked, self.shown[window])
        if seen:
            self.locked = locked

    @invariant()
    def what_is_stored_is_what_the_model_says(self):
        shot = Shot.objects.with_head().get(pk=self.shot.pk)
        assert (shot.head.number, shot.locked) == (self.head, self.locked)
        stored = {
            one.number: {part: tuple(one.state[part]) for part in PARTS}
            for one in shot.revisions.all()
        }
        assert stored == self.states


class History(TestCase):
    def test_two_windows(self):
        run_state_machine_as_test(
            TwoWindows, settings=settings(max_examples=60, stateful_step_count=30)
        )
