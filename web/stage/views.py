"""The Set step: stand-ins of known size, through the lens and from outside."""

import json
import math
from dataclasses import replace

import numpy as np
from django.http import JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from aperture.errors import Problem
from aperture.formats import meshes
from aperture.match.facts import AXES
from aperture.scene import handles
from aperture.scene.solids import KINDS
from aperture.units import parse_length
from web.match.fits import camera_of_state, fit_of
from web.plates.models import plate_of
from web.shows.actions import edit
from web.shows.views import find, step_page
from web.stage import actions
from web.stage.forms import ANGLES, FIELDS, MeshForm, StandInForm
from web.stage.page import card_distance, card_rows, item_rows, page_data, remarks
from web.stage.stand_ins import extra, free_name, json_from, new, shown, stand_in_from


def stage(request, show, shot, mesh_form=None, status=200):
    """Lens view and set view, and the stand-ins' sheets."""
    shot = find(show, shot)
    state, chosen = shot.state, request.GET.get("item")
    item = next((other for other in state["stand_ins"] if other["id"] == chosen), None)
    form, ended = (_fresh(shot, item, request.GET.get("kind", "box")), status) if mesh_form or request.method != "POST" else _form(request, shot, item)
    if form is None:
        return redirect(shot.url("set") + (f"?item={chosen}" if item else f"?item={find(show, shot.code).state['stand_ins'][-1]['id']}"))
    camera = camera_of_state(state)
    defaults = {kind: [shot.show.length(value, places=3)[0] for value in size] for kind, (_, size, _) in KINDS.items()}
    context = {"plate": plate_of(shot), "items": state["stand_ins"], "item": item, "form": form, "camera": camera, "remarks": remarks(shot, camera, item),
               "rows": item_rows(shot, camera, item), "kind": item.get("kind", "box") if item else form["kind"].value() or "box",
               "kinds": [(kind, name) for kind, (name, _, _) in KINDS.items() if kind != "mesh"],
               "mesh_form": mesh_form or MeshForm(auto_id="mesh_%s", initial={"unit": shot.show.length_unit, "up_axis": shot.show.up_axis,
                                                                              "base": shot.head.number}),
               "card": shot.show.length(card_distance(shot, camera)) if camera else None, "card_rows": card_rows(shot, camera) if camera else [],
               "verbs": _verbs(item) if item else [],
               "page": page_data(shot, camera) | {"chosen": chosen if item else None, "sizes": defaults,
                                                  "card": card_distance(shot, camera) if camera else None}}
    return step_page(request, shot, "set", "stage/stage.html", context, status=ended)


def _verbs(item):
    """What can be done to one: the address's name, and what the button says."""
    return [("duplicate", "Duplicate it", ""), *((name, extra(item, name) and again, first) for name, first, again in (
        ("locked", "Lock it", "Unlock it"), ("part_of_plate", "Take it as part of the plate", "Take it as an element")))]


def _fresh(shot, item, kind):
    if item:
        return StandInForm(show=shot.show, item=item, others=shot.state["stand_ins"], initial={"base": shot.head.number})
    kind = kind if kind in KINDS else "box"
    name, size, _ = KINDS[kind]
    starting = dict(zip(("width", "height", "depth"), (shot.show.length(value, places=3)[0] for value in size)))
    return StandInForm(show=shot.show, others=shot.state["stand_ins"], initial=starting | {
        "name": free_name(shot.state, name), "kind": kind, "turn": "0°", "base": shot.head.number})


def _form(request, shot, item):
    form = StandInForm(request.POST, show=shot.show, item=item, others=shot.state["stand_ins"])
    if form.is_valid():
        try:
            (actions.set_stand_in if item else actions.add_stand_in)(shot, form.cleaned_data["item"], form.cleaned_data["base"])
            return None, 302
        except Problem as problem:
            if getattr(problem, "kept", None) is not None:
                raise
            form.add_error(problem.place if problem.place in form.fields else None, problem.sentence)
    return form, 422


def _body(request) -> dict:
    try:
        data = json.loads(request.body)
    except ValueError:
        data = None
    if not isinstance(data, dict):
        raise Problem("The page sent nothing that can be read.")
    return data


def _at(at):
    if not (isinstance(at, list) and len(at) == 2 and all(isinstance(v, (int, float)) and math.isfinite(v) for v in at)):
        raise Problem("The pointer's place must be two finite numbers.")
    return at


def _base(value):
    return value if isinstance(value, int) and not isinstance(value, bool) else int(value) if isinstance(value, str) and value.isdecimal() else None


def _camera(shot):
    camera = camera_of_state(shot.state)
    if camera is None:
        raise Problem("Match the plate and place the origin first: a stand-in needs a floor to stand on.")
    return camera


def _dragged(shot, data):
    item = next((other for other in shot.state["stand_ins"] if other["id"] == data.get("id")), None)
    if item is None:
        raise Problem("That stand-in is gone already.")
    if extra(item, "locked"):
        raise Problem(f"“{item['name']}” is locked. Unlock it first.")
    camera = _camera(shot)
    others = [stand_in_from(other) for other in shown(shot.state) if other["id"] != item["id"]] if data.get("snap") else []
    spots = [spot["world_m"] for spot in fit_of(shot.state).get("spots", {}).values() if None not in spot["world_m"]] if data.get("snap") else []
    return camera, json_from(item, handles.drag(camera, stand_in_from(item), data.get("handle"), _at(data.get("at")), others, spots))


@require_POST
def drag(request, show, shot):
    """Where a drag would take a stand-in; saved when the drag ends (`done`)."""
    shot, data = find(show, shot), _body(request)
    before = next((other for other in shot.state["stand_ins"] if other["id"] == data.get("id")), None)
    camera, moved = _dragged(shot, data)
    by = [f"{shot.show.length(change, places=3)[0]} {name}" for change, name in zip(np.subtract(moved["base"], before["base"]).tolist(), AXES)
          if abs(change) >= 5e-4]
    if data.get("done"):
        shot = actions.set_stand_in(shot, moved, _base(data.get("base")))
        items = shown(shot.state)
    else:
        items = shown({"stand_ins": actions.with_what_hangs(shot.state["stand_ins"], moved)})
    figures = StandInForm(show=shot.show, item=moved).initial
    figures = {field: figures[field] for field in (*(f for f, _, _ in FIELDS), *ANGLES)}
    return JsonResponse(page_data(shot, camera, items) | {"moved": ", ".join(by), "figures": figures})


@require_POST
def place(request, show, shot):
    """A stand-in of the typed size where the plate was clicked: on the floor, or on the face of another."""
    shot, data = find(show, shot), _body(request)
    camera = _camera(shot)
    form = StandInForm({key: str(value)[:60] for key, value in (data.get("typed") or {}).items()}, show=shot.show, others=shot.state["stand_ins"])
    if not form.is_valid():
        field, errors = next(iter(form.errors.items()))
        raise Problem(errors[0], field)
    item = form.cleaned_data["item"]
    item["name"] = free_name(shot.state, item["name"])
    point = handles.on_surface(camera, _at(data.get("at")), [stand_in_from(other) for other in shown(shot.state)])
    return _added(shot, json_from(item, replace(stand_in_from(item), base=tuple(point.tolist()))), data)


@require_POST
def plan(request, show, shot):
    """A block or room whose floor corners were clicked one after the other, pulled up to the typed height."""
    shot, data = find(show, shot), _body(request)
    camera, corners = _camera(shot), data.get("corners")
    if not isinstance(corners, list) or not 3 <= len(corners) <= 200:
        raise Problem("Click three or more corners on the floor, then press Enter.")
    points = np.array([handles.on_floor(camera, _at(at)) for at in corners])
    height = parse_length(str(data.get("height") or ""), shot.show.length_unit, "The height")
    low, high = points.min(axis=0), points.max(axis=0)
    size = np.maximum(high - low, 1e-3)
    middle = (low + high) / 2
    flat = ((points - middle) / size)[:, [0, 2]]
    kind = "room" if data.get("kind") == "room" else "block"
    item = new(kind, free_name(shot.state, KINDS[kind][0]), size=[round(float(size[0]), 5), height, round(float(size[2]), 5)],
               base=[round(float(middle[0]), 5), 0.0, round(float(middle[2]), 5)], corners=np.round(flat, 7).tolist())
    return _added(shot, item, data)


def _added(shot, item, data):
    shot = actions.add_stand_in(shot, item, _base(data.get("base")))
    return JsonResponse({"url": shot.url("set") + f"?item={shot.state['stand_ins'][-1]['id']}"})


@require_POST
def mesh(request, show, shot):
    """A stand-in from a file."""
    shot, form = find(show, shot), MeshForm(request.POST, request.FILES, auto_id="mesh_%s")
    if form.is_valid():
        file = form.cleaned_data["file"]
        try:
            found = meshes.read(file.read(), file.name.rsplit(".", 1)[-1], form.cleaned_data["unit"], form.cleaned_data["up_axis"])
            shot = actions.bring_in_mesh(shot, file.name.rsplit(".", 1)[0][:60] or "Mesh", found, form.cleaned_data["base"])
            return redirect(shot.url("set") + f"?item={shot.state['stand_ins'][-1]['id']}")
        except Problem as problem:
            if getattr(problem, "kept", None) is not None:
                raise
            form.add_error("file", problem.sentence)
    return stage(request, show, shot.code, mesh_form=form, status=422)


@require_POST
def card(request, show, shot):
    """Put the plate card at a distance along the camera's axis; nothing typed puts it back where it is of use."""
    shot, text = find(show, shot), request.POST.get("distance", "").strip()
    metres = parse_length(text, shot.show.length_unit, "The card's distance") if text else None
    if metres is not None and not 0.01 <= metres <= 1e5:
        raise Problem("The plate card stands between 1 cm and 100 km from the camera.")
    edit(shot, "Moved the plate card", lambda state: state.update(card_m=metres), _base(request.POST.get("base")))
    return redirect(shot.url("set"))


@require_POST
def verb(request, show, shot, id_, name):
    """Hide, lock, take as part of the plate, duplicate or remove one."""
    shot, base = find(show, shot), _base(request.POST.get("base"))
    if name == "duplicate":
        shot = actions.duplicate(shot, id_, base)
        return redirect(shot.url("set") + f"?item={shot.state['stand_ins'][-1]['id']}")
    if name == "remove":
        actions.remove_stand_in(shot, id_, base)
        return redirect(shot.url("set"))
    actions.flag(shot, id_, name, base)
    return redirect(shot.url("set") + f"?item={id_}")
