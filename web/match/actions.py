"""The verbs of the Match step: each is one undoable edit."""

from aperture.errors import Problem
from aperture.match.document import read
from web.match.fits import document_of
from web.shows.actions import edit
from web.shows.models import Shot


def _checked(shot, label, change, base):
    """`edit`, refusing what would break the document's schema, and marks that can't be used (an edge of no length)."""
    def change_and_check(state):
        change(state)
        document = document_of(state)
        if document is None:
            raise Problem("Bring in a plate before marking it.")
        read(document)
    return edit(shot, label, change_and_check, base)


def fresh_id(state: dict, letter: str) -> str:
    """An id of its own for a new mark or fact: letter and number."""
    taken = {item["id"] for item in state["marks"] + state["facts"]}
    return next(f"{letter}{n}" for n in range(1, 100000) if f"{letter}{n}" not in taken)


def set_marks(shot: Shot, marks: list, label: str, base: int | None) -> Shot:
    """All marks as drawn on the plate. Facts about spots that are gone go with them. Raises Problem where the schema is broken."""
    def change(state):
        state["marks"] = marks
        spots = {mark.get("id") for mark in marks if isinstance(mark, dict) and mark.get("kind") == "spot"}
        state["facts"] = [fact for fact in state["facts"] if fact["kind"] != "length" or {fact["from"], fact["to"]} <= spots]
    return _checked(shot, label, change, base)


def set_mark(shot: Shot, mark: dict, base: int | None) -> Shot:
    """One mark, typed."""
    def change(state):
        state["marks"] = [mark if other["id"] == mark["id"] else other for other in state["marks"]]
    return _checked(shot, f"Typed {mark.get('name') or mark['id']}", change, base)


def add_fact(shot: Shot, fact: dict, base: int | None) -> Shot:
    """A fact without an id gets one."""
    def change(state):
        state["facts"].append({"id": fresh_id(state, "f"), **fact})
    return _checked(shot, "New fact", change, base)


def set_focal(shot: Shot, focal: dict | None, base: int | None) -> Shot:
    """The focal length as evidence; None to have it solved."""
    def change(state):
        state["lens"]["focal_mm"] = focal
    return _checked(shot, "Focal length to be solved" if focal is None else f"Focal length {focal['value']:g} mm", change, base)


def change_item(shot: Shot, id_: str, label: str, alter, base: int | None) -> Shot:
    """Alter one mark or fact by id; `alter(item)` returns it, or None to take it out. Raises Problem where there is none."""
    def change(state):
        if id_ == "lens":
            state["lens"]["focal_mm"] = None
            return
        if not any(item["id"] == id_ for item in state["marks"] + state["facts"]):
            raise Problem("That mark or fact is gone already.")
        for part in ("marks", "facts"):
            state[part] = [new for item in state[part] if (new := alter(dict(item)) if item["id"] == id_ else item) is not None]
        spots = {mark["id"] for mark in state["marks"] if mark["kind"] == "spot"}
        state["facts"] = [fact for fact in state["facts"] if fact["kind"] != "length" or {fact["from"], fact["to"]} <= spots]
    return _checked(shot, label, change, base)
