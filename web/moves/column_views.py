"""The page on which the columns of a table get their names, on a preview of its first lines."""

import re

from django.shortcuts import redirect
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.fence import run_fenced
from aperture.formats import tables_in
from aperture.formats.recipe import AIMED, COLUMNS, ORDERS, Recipe
from aperture.units import LENGTH_UNITS
from web.blobs import store
from web.moves import actions
from web.shows.reading import base_of
from web.shows.views import find, step_page

DIGEST = re.compile("[0-9a-f]{64}")
HANDS = {"right": "right-handed", "left": "left-handed"}


def _data(request_part) -> tuple[str, str, bytes]:
    """Digest, name and bytes of the table that was put aside. Raises Problem where it is gone."""
    digest, name = request_part.get("file", ""), request_part.get("name", "table.csv")[:120]
    if not DIGEST.fullmatch(digest):
        raise Problem("Choose the table once more.")
    try:
        return digest, name, store.get(digest)
    except (KeyError, FileNotFoundError, OSError):
        raise Problem("The table is gone: choose it once more.") from None


@require_GET
def columns(request, show, shot, says=""):
    """The first lines of a table, and what each column is."""
    shot = find(show, shot)
    digest, name, data = _data(request.GET)
    lines, guessed = run_fenced(tables_in.preview, data)
    context = {
        "file": digest,
        "name": name,
        "says": says or request.GET.get("says", "")[:300],
        "lines": [line + [""] * (len(guessed) - len(line)) for line in lines],
        "columns": list(enumerate(guessed)),
        "names": (COLUMNS | AIMED).items(),
        "choices": [
            ("unit", "Unit", list(LENGTH_UNITS.items()), shot.show.length_unit),
            ("up_axis", "Up is", [("Y", "Y"), ("Z", "Z")], shot.show.up_axis),
            ("handedness", "Axes", list(HANDS.items()), "right"),
            ("rotation_order", "Order of the turns", [(one, one) for one in ORDERS], "ZXY"),
        ],
    }
    return step_page(request, shot, "match", "moves/columns.html", context)


@require_POST
def assign(request, show, shot):
    """Bring the table in with the names that its columns were given."""
    shot = find(show, shot)
    _, name, data = _data(request.POST)
    lines, guessed = run_fenced(tables_in.preview, data)
    chosen = [request.POST.get(f"column_{index}", "") for index in range(len(guessed))]
    table = run_fenced(tables_in.assigned, data, chosen)
    recipe = Recipe(
        up_axis=request.POST.get("up_axis", "Y"),
        unit=request.POST.get("unit", "m"),
        handedness=request.POST.get("handedness", "right"),
        rotation_order=request.POST.get("rotation_order", "ZXY"),
    )
    shot = actions.take(shot, name, table, recipe, base_of(request))
    return redirect(shot.url("moves") + f"?move={shot.state['moves'][-1]['id']}")
