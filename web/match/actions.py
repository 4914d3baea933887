"""The verbs of the Match step: each is one undoable edit."""

import copy
from collections.abc import MutableMapping

from aperture.errors import Problem
from aperture.match.document import read
from web.match import tracking
from web.match.fits import document_of
from web.plates.frames import go_to, shown
from web.shows.history import edit
from web.shows.models import Shot
from web.shows.refusals import Refused

# What a draft keeps of a match; the gate and the plate are the shot's.
DRAFT_PARTS = {
    "lens": {"focal_mm": None},
    "marks": [],
    "facts": [],
    "planes": [],
    "robust": False,
    "aside": {},
}


class DraftLocked(Refused):
    """The draft on screen is protected."""

    status = 423


def part_of(state: MutableMapping) -> dict:
    """The draft on screen; of a filmed plate with the number of the picture that its marks lie
    on."""
    out = {key: copy.deepcopy(state.get(key, empty)) for key, empty in DRAFT_PARTS.items()}
    number = shown(state)
    return out if number is None else out | {"shown": number}


def put_draft(state: MutableMapping, content: dict) -> None:
    """Put what a draft keeps on screen, its marks on the frames that they were drawn on."""
    for key, empty in DRAFT_PARTS.items():
        state[key] = copy.deepcopy(content.get(key, empty))
    now = shown(state)
    if now is not None:
        go_to(state, content.get("shown", now), now)


def edit_match(shot, label, change, base, **more):
    """`edit`, refusing what would break the document's schema, marks that can't be used (an edge of
    no length), and changes of a locked draft."""

    def change_and_check(state):
        locked = state.get("draft", "First") in state.get("draft_locks", ())
        # What is drawn on all frames of a film may be megabytes: it isn't read where nothing is
        # locked.
        before = part_of(state) if locked else None
        change(state)
        if locked and part_of(state) != before:
            raise DraftLocked(
                f"The draft “{state['draft']}” is locked: unlock it, or keep a new one and go on"
                " with that."
            )
        document = document_of(state)
        if document is None:
            raise Problem("Bring in a plate before marking it.")
        read(document)

    return edit(shot, label, change_and_check, base, **more)


def fresh_id(state: MutableMapping, letter: str) -> str:
    """An id of its own for a new mark or fact: letter and number."""
    taken = {item["id"] for item in state["marks"] + state["facts"]}
    return next(f"{letter}{n}" for n in range(1, 100000) if f"{letter}{n}" not in taken)


def set_marks(shot: Shot, marks: list, label: str, base: int | None, run: str = "") -> Shot:
    """All marks as drawn on the plate. Facts about spots that are gone go with them.

    `run` as in `history.edit`: nudges that follow each other. Raises Problem where the schema is
    broken.
    """

    def change(state):
        state["marks"] = marks
        spots = [  # not checked yet, so an id may be anything
            mark.get("id")
            for mark in marks
            if isinstance(mark, dict) and mark.get("kind") == "spot"
        ]
        state["facts"] = [
            fact
            for fact in state["facts"]
            if fact["kind"] != "length" or (fact["from"] in spots and fact["to"] in spots)
        ]

    return edit_match(shot, label, change, base, run=run)


def set_mark(shot: Shot, mark: dict, base: int | None) -> Shot:
    """One mark, typed."""

    def change(state):
        state["marks"] = [mark if other["id"] == mark["id"] else other for other in state["marks"]]

    return edit_match(shot, f"Typed {mark.get('name') or mark['id']}", change, base)


def add_fact(shot: Shot, fact: dict, base: int | None) -> Shot:
    """A fact without an id gets one."""

    def change(state):
        state["facts"].append({"id": fresh_id(state, "f"), **fact})

    return edit_match(shot, "New fact", change, base)


def change_fact(shot: Shot, id_: str, fact: dict, base: int | None) -> Shot:
    """A fact typed anew; it keeps its id and whether it is switched off."""
    return change_item(
        shot,
        id_,
        f"Changed {fact.get('name') or id_}",
        lambda old: {key: old[key] for key in ("id", "off") if key in old} | fact,
        base,
    )


def set_robust(shot: Shot, robust: bool, base: int | None) -> Shot:
    """Let the fit leave marks out that the others contradict, or have it trust all of them."""

    def change(state):
        state["robust"] = robust

    return edit_match(shot, "Mistrusts marks" if robust else "Trusts all marks", change, base)


def set_lens(shot: Shot, lens: dict, label: str, base: int | None) -> Shot:
    """Projection, centre and distortion; the given focal length and the lens's name stay."""

    def change(state):
        state["lens"] = {
            key: value
            for key, value in state["lens"].items()
            if key in ("focal_mm", "focal_kept", "name")
        } | lens

    return edit_match(shot, label, change, base)


def put_plane(shot: Shot, plane: dict, base: int | None) -> Shot:
    """A plane that spots may lie on; one of the same name is replaced."""

    def change(state):
        planes = state.setdefault("planes", [])
        old = next((other for other in planes if other.get("name") == plane["name"]), None)
        id_ = old["id"] if old else tracking.free_id(state)
        state["planes"] = [other for other in planes if other is not old] + [{"id": id_, **plane}]

    return edit_match(shot, f"Plane {plane['name']}", change, base)


def remove_plane(shot: Shot, id_: str, base: int | None) -> Shot:
    """Take a plane out; the spots and tracks on it stay, on no plane."""

    def change(state):
        tracking.leave_plane(state, id_)
        state["planes"] = [plane for plane in state.get("planes", []) if plane["id"] != id_]
        for mark in state["marks"]:
            if mark.get("on") == id_:
                del mark["on"]

    return edit_match(shot, "Removed a plane", change, base)


def set_survey(shot: Shot, points: list, base: int | None) -> Shot:
    """The surveyed points. Spots placed from an earlier table stay."""

    def change(state):
        state["survey"] = points

    return edit_match(
        shot, f"Survey of {len(points)} points" if points else "No survey", change, base
    )


def place_surveyed(shot: Shot, name: str, at: list, base: int | None) -> Shot:
    """A surveyed point placed on the plate, or placed anew. Raises Problem where the survey has no
    such point."""

    def change(state):
        point = next((point for point in state.get("survey", []) if point["name"] == name), None)
        if point is None:
            raise Problem(f"The survey has no point “{name}”.")
        mark = next(
            (
                mark
                for mark in state["marks"]
                if mark["kind"] == "spot" and mark.get("name") == name
            ),
            None,
        )
        if mark is None:
            mark = {"id": fresh_id(state, "s"), "kind": "spot", "name": name, "sigma_px": 0.5}
            state["marks"].append(mark)
        mark |= {"at": [float(v) for v in at], "world": point["world"]}
        mark.pop("world_plus_minus", None)
        if point["plus_minus"]:
            mark["world_plus_minus"] = point["plus_minus"]

    return edit_match(shot, f"Placed {name}", change, base)


def add_marks(shot: Shot, marks: list, label: str, base: int | None) -> Shot:
    """More marks, each given an id."""

    def change(state):
        for mark in marks:
            state["marks"].append({"id": fresh_id(state, mark["kind"][0]), **mark})

    return edit_match(shot, label, change, base)


def replace_marks(shot: Shot, new: dict, label: str, base: int | None) -> Shot:
    """Marks by id, with what they become."""

    def change(state):
        state["marks"] = [new.get(mark["id"], mark) for mark in state["marks"]]

    return edit_match(shot, label, change, base)


# Drafts
# --------------------------------------------------------------------------------------------------


def keep_draft(shot: Shot, name: str, base: int | None) -> Shot:
    """Keep the match on screen under its name, and go on with a copy called `name`. Raises Problem
    where the name is empty or taken."""
    name = name.strip()[:60]

    def change(state):
        if not name or name in state.get("drafts", {}) or name == state.get("draft", "First"):
            raise Problem(
                "Give the draft another name."
                if not name
                else f"There is a draft “{name}” already."
            )
        state.setdefault("drafts", {})[state.get("draft", "First")] = part_of(state)
        state["draft"] = name

    return edit(shot, f"Draft {name}", change, base)


def rename_draft(shot: Shot, name: str, new: str, base: int | None) -> Shot:
    """Another name for a draft, on screen or put aside. Raises Problem where it is taken."""
    new = " ".join(new.split())[:60]

    def change(state):
        drafts, current = state.get("drafts", {}), state.get("draft", "First")
        if name != current and name not in drafts:
            raise Problem(f"There is no draft “{name}”.")
        if not new or new != name and (new in drafts or new == current):
            raise Problem(f"There is a draft “{new}” already." if new else "Type a name.")
        if name == current:
            state["draft"] = new
        else:
            drafts[new] = drafts.pop(name)
        if name in state.get("draft_locks", ()):
            locks = [lock for lock in state["draft_locks"] if lock != name]
            state["draft_locks"] = [*locks, new]

    return edit(shot, f"Draft {name} is called {new}", change, base)


def continue_draft(shot: Shot, name: str, base: int | None) -> Shot:
    """Put the match on screen aside and go on with another draft."""

    def change(state):
        drafts = state.get("drafts", {})
        if name not in drafts:
            raise Problem(f"There is no draft “{name}”.")
        drafts[state.get("draft", "First")] = part_of(state)
        put_draft(state, drafts.pop(name))
        state["draft"] = name

    return edit(shot, f"Went on with draft {name}", change, base)


def remove_draft(shot: Shot, name: str, base: int | None) -> Shot:
    """Take a draft away that isn't on screen; undo brings it back. Raises Problem where it is
    locked."""

    def change(state):
        if name in state.get("draft_locks", ()):
            raise Problem(f"The draft “{name}” is locked: unlock it first.")
        if state.get("drafts", {}).pop(name, None) is None:
            raise Problem(f"There is no draft “{name}” put aside.")

    return edit(shot, f"Removed draft {name}", change, base)


def lock_draft(shot: Shot, name: str, locked: bool, base: int | None) -> Shot:
    """Protect a draft, or let it be changed again."""

    def change(state):
        locks = [other for other in state.get("draft_locks", []) if other != name]
        state["draft_locks"] = [*locks, name] if locked else locks

    return edit(shot, f"{'Locked' if locked else 'Unlocked'} draft {name}", change, base)


def set_focal(shot: Shot, focal: dict | None, base: int | None) -> Shot:
    """The focal length as evidence; None to have it solved."""

    def change(state):
        state["lens"].pop("focal_kept", None)
        state["lens"]["focal_mm"] = focal

    return edit_match(
        shot,
        "Focal length to be solved" if focal is None else f"Focal length {focal['value']:g} mm",
        change,
        base,
    )


def change_item(shot: Shot, id_: str, label: str, alter, base: int | None) -> Shot:
    """Alter one mark or fact by id; `alter(item)` returns it, or None to take it out. Raises
    Problem where there is none."""

    def change(state):
        if id_ == "lens":  # the given focal length: switched off it is kept, not used
            lens = state["lens"]
            focal = lens.pop("focal_kept", None) or lens.get("focal_mm")
            new = alter({"focal": focal}) if focal else None
            lens["focal_mm"] = focal if new and not new.get("off") else None
            if new and new.get("off"):
                lens["focal_kept"] = focal
            return
        if not any(item["id"] == id_ for item in state["marks"] + state["facts"]):
            raise Problem("That mark or fact is gone already.")
        for part in ("marks", "facts"):
            state[part] = [
                new
                for item in state[part]
                if (new := alter(dict(item)) if item["id"] == id_ else item) is not None
            ]
        spots = {mark["id"] for mark in state["marks"] if mark["kind"] == "spot"}
        state["facts"] = [
            fact
            for fact in state["facts"]
            if fact["kind"] != "length" or (fact["from"] in spots and fact["to"] in spots)
        ]

    return edit_match(shot, label, change, base)
