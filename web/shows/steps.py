"""The eight steps of a shot. Each step's app registers itself here when it is ready, so that no app
imports a later one."""

from collections.abc import Callable
from dataclasses import dataclass

from django.urls import include, path

from web.shows import standings, state
from web.shows.standings import Standing
from web.shows.state import Part

__all__ = [
    "NAMES",
    "NUMBERED",
    "SHOT",
    "STATES",
    "Standing",
    "Step",
    "register",
    "strip",
    "strips",
    "tally",
]

NUMBERED = ("plate", "gate", "match", "set", "expose", "elements", "line-up", "hand-off")
NAMES = {
    "plate": "Plate",
    "gate": "Gate",
    "match": "Match",
    "set": "Set",
    "expose": "Expose",
    "elements": "Elements",
    "line-up": "Line-up",
    "hand-off": "Hand-off",
}
SHOT = "shows/<slug:show>/<slug:shot>/"
STATES = {"nothing": "nothing yet", "begun": "begun", "settled": "settled", "needs": "needs you"}


@dataclass(frozen=True)
class Step:
    """A step, as its app registers it.

    url_name : of its page. standing : `standing(shot)` tells how far it is.
    outside : what the standing depends on beside the shot and its state, for several shots: {id:
    text}.
    parts : its parts of the state.
    urls, show_urls, root_urls : what `include` takes; addresses below a shot's, a show's, the root.
    """

    key: str
    url_name: str
    standing: Callable
    parts: tuple[Part, ...] = ()
    urls: object = None
    show_urls: object = None
    root_urls: object = None
    outside: Callable | None = None


_steps: dict[str, Step] = {}


def register(step: Step) -> None:
    """Add a step; called by its app when it is ready."""
    _steps[step.key] = step
    state.register(*step.parts)


def of_page(url_name: str) -> str | None:
    """The key of the step whose page has this address; None where it is no step's page."""
    return next((key for key, step in _steps.items() if step.url_name == url_name), None)


def urlpatterns() -> list:
    """The addresses of all steps."""
    places = (("", "root_urls"), ("shows/<slug:show>/", "show_urls"), (SHOT, "urls"))
    return [
        path(prefix, include(getattr(step, where)))
        for prefix, where in places
        for step in _steps.values()
        if getattr(step, where)
    ]


def registered() -> dict[str, Step]:
    """The steps that are in this version, by key."""
    return _steps


def strip(shot, current: str = "") -> list[dict]:
    """The row of steps for a page, in order; steps that aren't in this version have no address."""
    return strips([shot], current, patient=True)[0]


def strips(shots, current: str = "", patient: bool = False) -> list[list[dict]]:
    """The rows of steps of several shots, as `strip` has one; `patient` as in `standings.of`."""
    shots = list(shots)
    return [
        [
            _item(shot, key, number, found.get(key), current)
            for number, key in enumerate(NUMBERED, 1)
        ]
        for shot, found in zip(shots, standings.of(shots, _steps, patient))
    ]


def _item(shot, key: str, number: int, now: Standing | None, current: str) -> dict:
    now = now or Standing("nothing", "not in this version")
    step = _steps.get(key)
    return {
        "key": key,
        "name": NAMES[key],
        "number": number,
        "url": shot.url(step.url_name) if step else None,
        "current": key == current,
        "state": now.state,
        "state_words": STATES[now.state],
        "says": now.says,
    }


def _together(states: set[str]) -> str:
    """The state of several shots: one that needs the artist counts for all."""
    if "needs" in states:
        return "needs"
    return states.pop() if states in ({"settled"}, {"nothing"}) else "begun"


def tally(shots) -> list[dict]:
    """For each step that is in this version: how many of the shots have settled it, and whether one
    needs the artist."""
    rows = strips(shots)
    out = []
    for column in zip(*rows):
        if column[0]["url"]:
            states = [item["state"] for item in column]
            state = _together(set(states))
            out.append(
                {
                    "name": column[0]["name"],
                    "state": state,
                    "state_words": STATES[state],
                    "says": f"{states.count('settled')} of {len(states)}",
                }
            )
    return out
