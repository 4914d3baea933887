"""The Set step: stand-ins of known size, through the lens and from outside."""

import json
import math

import numpy as np
from django.http import JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from aperture.errors import Problem
from aperture.formats.axes import from_y_up
from aperture.scene import handles, overlay
from aperture.scene.box import EDGES, Box
from aperture.units import METRES
from web.match.fits import camera_of_state, fit_of
from web.match.overlay import path_of, spacing_for
from web.plates.models import plate_of
from web.shows.views import find, step_page
from web.stage import actions
from web.stage.boxes import box_from, json_from
from web.stage.forms import FIELDS, BoxForm
from web.ui.rows import Remark, Row


def stage(request, show, shot):
    """Lens view and set view, and the boxes' sheets."""
    shot = find(show, shot)
    state, chosen = shot.state, request.GET.get("box") or (shot.state["boxes"][-1]["id"] if shot.state["boxes"] else None)
    item = next((box for box in state["boxes"] if box["id"] == chosen), None)
    form, status = _form(request, shot, item)
    if form is None:
        return redirect(shot.url("set") + (f"?box={chosen}" if item else ""))
    camera = camera_of_state(state)
    context = {"plate": plate_of(shot), "boxes": state["boxes"], "item": item, "form": form, "camera": camera, "remarks": _remarks(shot, camera, item),
               "rows": _box_rows(shot, camera, item), "page": page_data(shot, camera) | {"chosen": chosen if item else None}}
    return step_page(request, shot, "set", "stage/stage.html", context, status=status)


def _form(request, shot, item):
    if request.method != "POST":
        starting = {"name": f"Box {len(shot.state['boxes']) + 1}", "width": shot.show.length(1.0)[0], "height": shot.show.length(1.0)[0],
                    "depth": shot.show.length(1.0)[0], "turn": "0°", "base": shot.head.number}
        return BoxForm(show=shot.show, item=item, initial={"base": shot.head.number} if item else starting), 200
    form = BoxForm(request.POST, show=shot.show, item=item)
    if not form.is_valid():
        return form, 422
    if item:
        actions.set_box(shot, form.cleaned_data["box"], form.cleaned_data["base"])
    else:
        actions.add_box(shot, form.cleaned_data["box"], form.cleaned_data["base"])
    return None, 302


def page_data(shot, camera, boxes=None) -> dict:
    """What the script draws: lens view in px, set view in metres of the show's up axis."""
    boxes = shot.state["boxes"] if boxes is None else boxes
    out = {"revision": shot.head.number, "boxes": boxes, "lens": [], "handles": {}, "paths": [], "world": None}
    if camera is None:
        return out
    spacing = spacing_for(camera, METRES[shot.show.length_unit])
    out["paths"] = [{"class": "floor", "d": path_of(overlay.floor_grid(camera, spacing, 12))}]
    turn = from_y_up(shot.show.up_axis)
    for item in boxes:
        box = box_from(item)
        corners = box.corners()
        pieces = [piece for a, b in EDGES for piece in overlay.polyline(camera, corners[a], corners[b])]
        out["lens"].append({"id": item["id"], "d": path_of(pieces), "name": item["name"]})
        out["handles"][item["id"]] = {name: at.tolist() for name, point in handles.places(box).items()
                                      if np.isfinite(at := camera.project([point])[0]).all()}
    out["world"] = {"up": shot.show.up_axis, "spacing": spacing, "boxes": {item["id"]: (box_from(item).corners() @ turn.T).tolist() for item in boxes},
                    **_frustum(camera, turn)}
    return out


def _frustum(camera, turn) -> dict:
    """The camera's centre, the corners of the plate card at a useful distance, and where the ground's middle is."""
    width, height = camera.grid.width, camera.grid.height
    rays = camera.rays([[0, 0], [width, 0], [width, height], [0, height]])
    if not np.isfinite(rays).all():
        rays = camera.rays([[width * x, height * y] for x, y in ((.1, .1), (.9, .1), (.9, .9), (.1, .9))])
    depth = -(rays @ camera.rotation)[:, 2]
    distance = max(np.linalg.norm(camera.position) * 1.35, 0.5)
    card = camera.position + rays / depth[:, None] * distance
    return {"camera": (turn @ camera.position).tolist(), "card": (card @ turn.T).tolist(), "card_distance": float(distance),
            "right": (turn @ camera.rotation[:, 0]).tolist(), "up_vector": (turn @ camera.rotation[:, 1]).tolist()}


def _box_rows(shot, camera, item) -> list[Row]:
    if item is None or camera is None:
        return []
    box = box_from(item)
    apart = np.linalg.norm(np.array(box.base) - camera.position)
    px = camera.project(overlay.outline_points(box))
    rows = [Row("From the camera", *shot.show.length(float(apart)), origin="solved")]
    if np.isfinite(px).all():
        size = px.max(axis=0) - px.min(axis=0)
        rows.append(Row("On the plate", f"{size[0]:.0f} × {size[1]:.0f} px", origin="solved"))
    return rows


def _remarks(shot, camera, item) -> list[Remark]:
    fit = fit_of(shot.state)
    if camera is None:
        return [Remark("No camera yet", "Match the plate and place the origin first: a box needs a floor to stand on.", "note")]
    if fit["determined"]["scale"] == "no":
        return [Remark("The size of things is unknown", "Boxes are in units of the distance from the camera to the first placed spot, until a "
                       "length or the camera’s height is known on the Match step.", "doubt")]
    if item:
        if camera.to_camera_space(box_from(item).corners())[:, 2].min() > 0:
            return [Remark("Behind the camera", f"“{item['name']}” stands behind the camera and can’t be seen on the plate.", "doubt")]
    return []


def _body(request) -> dict:
    try:
        data = json.loads(request.body)
    except ValueError:
        data = None
    if not isinstance(data, dict):
        raise Problem("The page sent nothing that can be read.")
    return data


def _at(data):
    at = data.get("at")
    if not (isinstance(at, list) and len(at) == 2 and all(isinstance(v, (int, float)) and math.isfinite(v) for v in at)):
        raise Problem("The pointer's place must be two finite numbers.")
    return at


def _camera(shot):
    camera = camera_of_state(shot.state)
    if camera is None:
        raise Problem("Match the plate and place the origin first: a box needs a floor to stand on.")
    return camera


def _dragged(shot, data):
    item = next((box for box in shot.state["boxes"] if box["id"] == data.get("id")), None)
    if item is None:
        raise Problem("That box is gone already.")
    camera = _camera(shot)
    return camera, json_from(item, handles.drag(camera, box_from(item), data.get("handle"), _at(data)))


@require_POST
def drag(request, show, shot):
    """Where a drag would take a box; saved when the drag ends (`done`)."""
    shot, data = find(show, shot), _body(request)
    camera, moved = _dragged(shot, data)
    if data.get("done"):
        base = data.get("base")
        shot = actions.set_box(shot, moved, base if isinstance(base, int) else None)
    boxes = [moved if box["id"] == moved["id"] else box for box in shot.state["boxes"]]
    figures = BoxForm(show=shot.show, item=moved).initial
    return JsonResponse(page_data(shot, camera, boxes) | {"figures": {field: figures[field] for field in (*(f for f, _, _ in FIELDS), "turn")}})


@require_POST
def place(request, show, shot):
    """A box of the typed size where the plate was clicked."""
    shot, data = find(show, shot), _body(request)
    camera = _camera(shot)
    form = BoxForm({key: str(value)[:60] for key, value in (data.get("typed") or {}).items()}, show=shot.show)
    if not form.is_valid():
        field, errors = next(iter(form.errors.items()))
        raise Problem(errors[0], field)
    point = handles.on_floor(camera, _at(data))
    item = form.cleaned_data["box"]
    if not form.cleaned_data["name"]:
        item["name"] = f"Box {len(shot.state['boxes']) + 1}"
    placed = json_from(item, Box(tuple(item["size"]), tuple(point.tolist()), math.radians(item["turn_deg"])))
    base = data.get("base")
    shot = actions.add_box(shot, placed, base if isinstance(base, int) else None)
    return JsonResponse({"url": shot.url("set") + f"?box={shot.state['boxes'][-1]['id']}"})


@require_POST
def remove(request, show, shot, id_):
    """Take a box out; undo brings it back."""
    shot = find(show, shot)
    base = request.POST.get("base", "")
    actions.remove_box(shot, id_, int(base) if base.isdecimal() else None)
    return redirect(shot.url("set"))
