"""The Set step: stand-ins of known size, through the lens and from outside."""

from dataclasses import replace
from pathlib import Path
from typing import Annotated, Literal
from urllib.parse import urlencode

import msgspec
import numpy as np
from django.http import JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.formats.meshes import SECONDS_PER_MB
from aperture.match.facts import AXES
from aperture.scene import handles
from aperture.scene.solids import KINDS
from aperture.units import parse_length, parse_number
from web.match.fits import fit_of
from web.match.lens_remarks import lens_remarks
from web.match.path_fits import placed_path
from web.plates.frames import offset_of
from web.plates.models import plate_of
from web.shows.reading import Edit, Place, Text, base_of, integer, read, whole
from web.shows.views import find, step_page
from web.stage import actions, along
from web.stage.cameras import cameras_of, matched_of
from web.stage.forms import ANGLES, FIELDS, MeshForm, StandInForm
from web.stage.page import item_rows, moved_data, page_data, remarks, way_rows
from web.stage.sheets import camera_sheet, plate_sheet
from web.stage.stand_ins import (
    extra,
    free_name,
    json_from,
    new,
    shown,
    stand_in_from,
    standing_now,
)

MOST_CORNERS = 200
WAY_VERBS = ("key", "unkey", "rest", "smooth", "straight")
LEAVES = (("things", "Stand-ins"), ("cameras", "Cameras"), ("plate", "Plate"))


def stage(request, show, shot, forms=None, status=200):
    """Lens view and set view, and the sheet's leaves. `forms`: such as came in wrong, by name:
    mesh, camera, looks."""
    shot, forms = find(show, shot), forms or {}
    state, chosen = shot.state, request.GET.get("item")
    items = standing_now(state)
    item = next((other for other in items if other["id"] == chosen), None)
    if forms or request.method != "POST":
        form = _fresh(shot, item, request.GET.get("kind", "box"))
    else:
        form, status = _form(request, shot, item)
        if form is None:
            to = item["id"] if item else None
            return _to(find(show, shot.code), to, request.GET.get("through"))
    cameras, plate = cameras_of(shot), plate_of(shot)
    through = _through(cameras, request.POST.get("camera") if forms else request.GET.get("through"))
    matched = (found := matched_of(cameras)) and found.camera
    leaf = "cameras" if {"camera", "looks"} & set(forms) else request.GET.get("leaf", "things")
    data = page_data(shot, cameras, through, plate=plate)
    context = {
        "plate": plate,
        "items": items,
        "item": item,
        "form": form,
        "kept": getattr(form, "kept", None),
        "newest": getattr(form, "newest", None),
        "camera": through and through.camera,
        "through": through,
        "along": placed_path(state) is not None,
        "plays": along.plays(state),
        "way": way_rows(shot, item),
        "rows": item_rows(shot, through and through.camera, item),
        "kind": item.get("kind", "box") if item else form["kind"].value() or "box",
        "kinds": [(kind, name) for kind, (name, _, _) in KINDS.items() if kind != "mesh"],
        "mesh_form": forms.get("mesh") or _mesh_form(shot),
        "leaf": leaf if leaf in dict(LEAVES) else "things",
        "leaves": LEAVES,
        "cameras": cameras,
        "verbs": _verbs(item) if item else [],
        "worn": any(extra(other, "material") == "plate" for other in shown(state)),
        "page": data | _for_script(shot, chosen if item else None),
    }
    if through:
        context["grid_says"] = f"grid {shot.show.length(data['world']['spacing'], places=2)[0]}"
    if leaf == "cameras":
        context |= camera_sheet(shot, through, forms)
    elif leaf == "plate":
        context |= plate_sheet(shot, matched)
    own = context.get("remarks", [])
    context["remarks"] = [*lens_remarks(state), *own, *remarks(shot, matched, item)]
    return step_page(request, shot, "set", "stage/stage.html", context, status=status)


@require_GET
def path_in_set(request, show, shot):
    """The path with its cards and points, for the set view."""
    return JsonResponse(along.path_in_set(find(show, shot)) or {})


@require_GET
def seen_along(request, show, shot):
    """What the cameras of some pictures see of the stand-ins."""
    first, last = whole(request.GET.get("first")), whole(request.GET.get("last"))
    if first is None or last is None:
        raise Problem("Say from which picture to which.")
    return JsonResponse(along.seen(find(show, shot), first, last))


def _for_script(shot, chosen: str | None) -> dict:
    """What the page's script needs besides the drawing."""
    return {
        "chosen": chosen,
        "sizes": _usual_sizes(shot.show),
        "seconds_per_mb": SECONDS_PER_MB,
    }


def _usual_sizes(show) -> dict:
    """Width, height and depth of each kind of stand-in, as the form shows them."""
    return {
        kind: [show.length(value, places=3)[0] for value in size]
        for kind, (_, size, _) in KINDS.items()
    }


def _mesh_form(shot):
    initial = {
        "unit": shot.show.length_unit,
        "up_axis": shot.show.up_axis,
        "base": shot.head.number,
    }
    return MeshForm(auto_id="mesh_%s", initial=initial)


def _to(shot, id_, through=None):
    """The page with a stand-in chosen, the newest where none is told, and the lens view as it
    was."""
    return redirect(
        shot.url("set")
        + "?"
        + urlencode(
            {"item": id_ or shot.state["stand_ins"][-1]["id"]}
            | ({"through": through} if through else {})
        )
    )


def _through(cameras, id_):
    """The camera that the lens view looks through: the one asked for, the matched one, or any."""
    return next((one for one in cameras if one.id == id_), None) or next(iter(cameras), None)


def _verbs(item):
    """What can be done to one: the address's name, and what the button says."""
    return [
        ("duplicate", "Duplicate it", ""),
        *(
            (name, extra(item, name) and again, first)
            for name, first, again in (
                ("locked", "Lock it", "Unlock it"),
                ("part_of_plate", "Take it as part of the plate", "Take it as an element"),
            )
        ),
    ]


def _fresh(shot, item, kind):
    if item:
        return StandInForm(
            show=shot.show,
            item=item,
            others=shot.state["stand_ins"],
            initial={"base": shot.head.number},
        )
    kind = kind if kind in KINDS else "box"
    name, size, _ = KINDS[kind]
    starting = dict(
        zip(("width", "height", "depth"), (shot.show.length(value, places=3)[0] for value in size))
    )
    return StandInForm(
        show=shot.show,
        others=shot.state["stand_ins"],
        initial=starting
        | {
            "name": free_name(shot.state, name),
            "kind": kind,
            "turn": "0°",
            "base": shot.head.number,
        },
    )


def _form(request, shot, item):
    form = StandInForm(request.POST, show=shot.show, item=item, others=shot.state["stand_ins"])
    if form.is_valid():
        try:
            (actions.set_stand_in if item else actions.add_stand_in)(
                shot, form.cleaned_data["item"], form.cleaned_data["base"]
            )
            return None, 302
        except Problem as problem:
            form.kept, form.newest = (getattr(problem, name, None) for name in ("kept", "newest"))
            form.add_error(
                problem.place if problem.place in form.fields else None, problem.sentence
            )
    return form, 409 if getattr(form, "kept", None) else 422


class Through(Edit, frozen=True, kw_only=True):
    """A message of the page, which looks through the camera `through`."""

    through: Text | None = None


class Dragged(Through, frozen=True, kw_only=True):
    """A handle of a stand-in, and where the pointer has it; `done`: the drag has ended."""

    id: str
    handle: Text
    at: Place
    snap: bool = False
    done: bool = False


class Typed(msgspec.Struct, frozen=True):
    """What the form says of a stand-in that is to be placed, as typed."""

    name: Text = ""
    kind: Text = ""
    width: Text | float = ""
    height: Text | float = ""
    depth: Text | float = ""
    turn: Text | float = ""


class Placed(Through, frozen=True, kw_only=True):
    """A stand-in as typed, and where on the plate it was put."""

    at: Place
    typed: Typed = Typed()


class Plan(Through, frozen=True, kw_only=True):
    """The floor's corners of a block or room, by where they are seen."""

    corners: Annotated[tuple[Place, ...], msgspec.Meta(max_length=MOST_CORNERS)]
    kind: Literal["block", "room"] = "block"
    height: Text | float = ""


def _cameras(shot, message: Through):
    """All cameras, and the one that the page looks through. Raises Problem where there is none."""
    cameras = cameras_of(shot)
    through = _through(cameras, message.through)
    if through is None:
        raise Problem(
            "Match the plate and place the origin first: a stand-in needs a floor to stand on."
        )
    return cameras, through


def _dragged(shot, wanted: Dragged):
    """All cameras, the one looked through, and the stand-in where the pointer has it."""
    stand_ins = standing_now(shot.state)
    item = next((other for other in stand_ins if other["id"] == wanted.id), None)
    if item is None:
        raise Problem("That stand-in is gone already.")
    if extra(item, "locked"):
        raise Problem(f"“{item['name']}” is locked. Unlock it first.")
    cameras, through = _cameras(shot, wanted)
    others, spots = _snapping(shot, item) if wanted.snap else ([], [])
    moved = handles.drag(
        through.camera,
        stand_in_from(item),
        wanted.handle,
        list(wanted.at),
        others,
        spots,
    )
    return cameras, through, json_from(item, moved)


def _snapping(shot, item):
    """What a dragged stand-in snaps to: the other ones that are shown, and the spots found in the
    picture."""
    others = [stand_in_from(other) for other in shown(shot.state) if other["id"] != item["id"]]
    spots = (fit_of(shot.state) or {}).get("spots", {}).values()
    return others, [spot["world_m"] for spot in spots if None not in spot["world_m"]]


@require_POST
def drag(request, show, shot):
    """Where a drag would take a stand-in; saved when the drag ends (`done`)."""
    shot, wanted = find(show, shot), read(request, Dragged)
    state = shot.state
    before = {item["id"]: item for item in standing_now(state)}
    cameras, through, moved = _dragged(shot, wanted)
    by = [
        f"{shot.show.length(change, places=3)[0]} {name}"
        for change, name in zip(
            np.subtract(moved["base"], before[moved["id"]]["base"]).tolist(), AXES
        )
        if abs(change) >= 5e-4
    ]
    figures = StandInForm(show=shot.show, item=moved).initial
    told = {
        "moved": ", ".join(by),
        "figures": {field: figures[field] for field in (*(f for f, _, _ in FIELDS), *ANGLES)},
    }
    if wanted.done:
        shot = actions.set_stand_in(shot, moved, wanted.revision, run=f"drag {moved['id']}")
        return JsonResponse(page_data(shot, cameras, through, plate_of(shot)) | told)
    after = actions.as_it_would_stand(state, moved)
    items = [item for item in after if not extra(item, "hidden") and item != before[item["id"]]]
    return JsonResponse(moved_data(shot, through, items) | told)


@require_POST
def place(request, show, shot):
    """A stand-in of the typed size where the plate was clicked: on the floor, or on the face of
    another."""
    shot, wanted = find(show, shot), read(request, Placed)
    camera = _cameras(shot, wanted)[1].camera
    form = StandInForm(
        msgspec.structs.asdict(wanted.typed) | {"base": wanted.base},
        show=shot.show,
        others=shot.state["stand_ins"],
    )
    if not form.is_valid():
        field, errors = next(iter(form.errors.items()))
        raise Problem(str(errors[0]), field)
    item = form.cleaned_data["item"]
    item["name"] = free_name(shot.state, item["name"])
    others = [stand_in_from(other) for other in shown(shot.state)]
    foot = handles.on_surface(camera, list(wanted.at), others)
    placed = replace(stand_in_from(item), base=tuple(foot.tolist()))
    return _added(shot, json_from(item, placed), wanted)


@require_POST
def plan(request, show, shot):
    """A block or room whose floor corners were clicked one after the other, pulled up to the typed
    height."""
    shot, wanted = find(show, shot), read(request, Plan)
    camera = _cameras(shot, wanted)[1].camera
    if len(wanted.corners) < 3:
        raise Problem("Click three or more corners on the floor, then press Enter.")
    points = np.array([handles.on_floor(camera, list(at)) for at in wanted.corners])
    height = parse_length(str(wanted.height), shot.show.length_unit, "The height")
    low, high = points.min(axis=0), points.max(axis=0)
    size = np.maximum(high - low, 1e-3)
    middle = (low + high) / 2
    flat = ((points - middle) / size)[:, [0, 2]]
    item = new(
        wanted.kind,
        free_name(shot.state, KINDS[wanted.kind][0]),
        size=[round(float(size[0]), 5), height, round(float(size[2]), 5)],
        base=[round(float(middle[0]), 5), 0.0, round(float(middle[2]), 5)],
        corners=np.round(flat, 7).tolist(),
    )
    return _added(shot, item, wanted)


def _added(shot, item, message: Through):
    shot = actions.add_stand_in(shot, item, message.revision)
    return JsonResponse({"url": _to(shot, None, message.through).url})


@require_POST
def mesh(request, show, shot):
    """A stand-in from a file."""
    shot, form = find(show, shot), MeshForm(request.POST, request.FILES, auto_id="mesh_%s")
    if form.is_valid():
        file = form.cleaned_data["file"]
        try:
            name, ending = file.name.rsplit(".", 1)
            shot = actions.bring_in_mesh(
                shot,
                name[:60] or "Mesh",
                Path(file.temporary_file_path()),
                ending,
                form.cleaned_data["unit"],
                form.cleaned_data["up_axis"],
                form.cleaned_data["base"],
            )
            return _to(shot, None)
        except Problem as problem:
            if getattr(problem, "kept", None) is not None:
                raise
            form.add_error("file", problem.sentence)
    return stage(request, show, shot.code, forms={"mesh": form}, status=422)


@require_POST
def verb(request, show, shot, id_, name):
    """Hide, lock, take as part of the plate, put the plate on, duplicate or remove one."""
    shot, base = find(show, shot), base_of(request)
    if name in WAY_VERBS:
        _way_verb(request, shot, id_, name, base)
        return _to(find(show, shot.code), id_, request.GET.get("through"))
    if name == "duplicate":
        shot = actions.duplicate(shot, id_, base)
        return _to(shot, None)
    if name == "remove":
        actions.remove_stand_in(shot, id_, base)
        return redirect(shot.url("set"))
    if name == "wear":
        actions.wear(shot, id_, base)
        return redirect(shot.url("set") + "?leaf=plate")
    actions.flag(shot, id_, name, base)
    return _to(shot, id_)


def _way_verb(request, shot, id_, name, base):
    """Set or take out keys of one that moves, or say how it goes between them."""
    if name == "key":
        actions.key_stand_in(shot, id_, base)
    elif name == "rest":
        actions.rest_stand_in(shot, id_, base)
    elif name in ("smooth", "straight"):
        actions.smooth_stand_in(shot, id_, name == "smooth", base)
    else:
        frame = integer(request.POST.get("frame"))
        if frame is None:
            raise Problem("Say on which frame the key is.")
        actions.unkey_stand_in(shot, id_, frame - offset_of(shot.state), base)


@require_POST
def shift(request, show, shot, id_):
    """Move one by three lengths in metres, to close a gap."""
    shot = find(show, shot)
    by = [parse_number(part, "The shift") for part in request.POST.get("shift", "").split()]
    item = next((other for other in standing_now(shot.state) if other["id"] == id_), None)
    if item is None or len(by) != 3:
        raise Problem(
            "That stand-in is gone already."
            if item is None
            else "A shift is three numbers of metres."
        )
    actions.set_stand_in(
        shot,
        item | {"base": [round(at + step, 6) for at, step in zip(item["base"], by)]},
        base_of(request),
    )
    return redirect(shot.url("set") + "?leaf=plate")
