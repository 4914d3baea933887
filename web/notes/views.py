"""The page of a shot's notes: pins on the plate, answers, ticks."""

from dataclasses import dataclass

from django.shortcuts import get_object_or_404, redirect
from django.utils import timezone
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.units import parse_number
from web.notes.models import Note
from web.plates.frames import frame_at, number_now
from web.plates.models import plate_of
from web.shows.models import Shot
from web.shows.views import find, step_page
from web.ui import who

MOST, MOST_TEXT = 2000, 2000


@require_GET
def page(request, show, shot):
    """The notes, those that wait first."""
    return _page(request, find(show, shot))


@dataclass(frozen=True)
class _Row:
    """A note on the page; `letter`: its number there; `frame`: what it is pinned to."""

    note: Note
    letter: int
    frame: int | None


def _page(request, shot: Shot, error: str = "", typed: str = "", status: int = 200):
    notes = list(
        Note.objects.filter(shot=shot, answers=None)
        .select_related("by", "done_by")
        .prefetch_related("answered_by__by")
    )
    rows = [_Row(note, number, _frame(shot, note)) for number, note in enumerate(notes, 1)]
    here = number_now(shot.state) if shot.state["film"] else None
    context = {
        "plate": plate_of(shot),
        "rows": sorted(rows, key=lambda row: row.note.done is not None),
        "filmed": bool(shot.state["film"]),
        "error": error,
        "typed": typed,
        "page": {
            "pins": [
                {
                    "at": [row.note.x, row.note.y],
                    "text": str(row.letter),
                    "done": row.note.done is not None,
                }
                for row in rows
                if row.note.x is not None and row.note.number in (None, here)
            ]
        },
    }
    return step_page(request, shot, "", "notes/notes.html", context, status=status)


def _frame(shot: Shot, note: Note) -> int | None:
    if note.number is None or not shot.state["film"]:
        return None
    return frame_at(shot.state, note.number)


def _text(request) -> str:
    text = request.POST.get("text", "").strip()
    if not text:
        raise Problem("Write something first.", "text")
    if len(text) > MOST_TEXT:
        raise Problem(f"A note has {MOST_TEXT:,} characters at most.", "text")
    if any(ord(one) < 32 and one not in "\n\r\t" for one in text):
        raise Problem("A note is plain text.", "text")
    return text


@require_POST
def pin(request, show, shot):
    """A new note, at a place of the plate where one was clicked, on the frame that is worked on."""
    shot = find(show, shot)
    try:
        text = _text(request)
        x = y = None
        if request.POST.get("x", "").strip():
            x, y = (parse_number(request.POST.get(axis, ""), "The place") for axis in "xy")
            plate = plate_of(shot)
            if plate is None or not (0 <= x <= plate.width and 0 <= y <= plate.height):
                raise Problem("That place isn’t on the plate.")
        if Note.objects.filter(shot=shot).count() >= MOST:
            raise Problem(f"A shot has {MOST:,} notes at most.")
    except Problem as problem:
        return _page(request, shot, problem.sentence, request.POST.get("text", "")[:MOST_TEXT], 422)
    number = number_now(shot.state) if shot.state["film"] else None
    Note.objects.create(shot=shot, number=number, x=x, y=y, text=text)
    return redirect(shot.url("notes"))


@require_POST
def answer(request, show, shot, pk):
    """An answer to a note."""
    shot = find(show, shot)
    note = get_object_or_404(Note, shot=shot, pk=pk, answers=None)
    try:
        text = _text(request)
    except Problem as problem:
        return _page(request, shot, problem.sentence, status=422)
    Note.objects.create(shot=shot, text=text, answers=note)
    return redirect(shot.url("notes"))


@require_POST
def tick(request, show, shot, pk):
    """Tick a note off, or open it again."""
    shot = find(show, shot)
    note = get_object_or_404(Note, shot=shot, pk=pk, answers=None)
    done = None if note.done else timezone.now()
    Note.objects.filter(pk=note.pk).update(done=done, done_by=who.now() if done else None)
    return redirect(shot.url("notes"))
