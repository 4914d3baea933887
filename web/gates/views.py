"""The Gate step: what area of what sensor made these pixels, and what is made of them."""

import numpy as np
from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from aperture.errors import Problem
from aperture.formats import ledger
from aperture.gates.formats import FORMATS
from aperture.gates.guides import ASPECTS
from aperture.gates.steps import ABOUT, KINDS
from aperture.gates.typed import parse_shape
from aperture.lens.projections import PANORAMAS
from aperture.units import parse_number, parse_rate
from web.catalogue.models import Body, CatalogueLens
from web.gates import actions, choosing_views, page
from web.gates.forms import GateForm, StepForm
from web.gates.gate import bent_chain, chain_of
from web.gates.guides import Guides, guides_from
from web.gates.rates import set_rate
from web.gates.remarks import gate_remarks
from web.plates.frames import offset_of
from web.plates.models import plate_of
from web.shows.forms import on_form
from web.shows.history import next_revision
from web.shows.reading import base_of, read, whole
from web.shows.views import find, step_page
from web.ui.prepared import Prepared
from web.ui.rows import Row

OWN_PARTS = ("gate", "lens", "guides")
_bodies = Prepared(lambda: Body.objects.offered())
_lenses = Prepared(lambda: CatalogueLens.objects.offered())
STEP_VERBS = (("up", "↑", "Move up"), ("down", "↓", "Move down"), ("remove", "✕", "Remove"))
GUIDE_KINDS = (
    ("centre", "Centre cross"),
    ("thirds", "Thirds"),
    ("areas", "Action and title areas"),
)


@require_http_methods(["GET", "POST"])
def gate(request, show, shot):
    """The chain to scale and as a ledger, the plate with its guides; POST sets the sensor by its
    size."""
    shot = find(show, shot)
    form = GateForm(
        request.POST or None, initial=GateForm.initial_of(shot.state["gate"], shot.head.number)
    )
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        actions.set_gate(
            shot,
            data["width_mm"],
            data["height_mm"],
            data["squeeze"],
            data["origin"],
            data["name"],
            data["base"],
            data["sites"],
            data["rate"],
        )
        return redirect(shot.url("gate"))
    return _page(request, shot, form=form)


def _page(request, shot, form=None, step_form=None, opened=""):
    plate = plate_of(shot)
    form = form or GateForm(initial=GateForm.initial_of(shot.state["gate"], shot.head.number))
    chain, found = bent_chain(shot.state, plate)
    context = {
        "form": form,
        "plate": plate,
        "formats": FORMATS,
        "remarks": gate_remarks(shot, plate),
        "opened": opened or request.GET.get("open", ""),
        "bodies": _bodies(),
        "lenses": _lenses(),
        "lens_name": shot.state["lens"].get("name", ""),
        "guides": page.NO_GUIDES | (shot.state.get("guides") or {}),
        "guide_aspects": ASPECTS,
        "guide_shapes": page.guide_shapes(shot),
        "database": choosing_views.offered(request, shot, plate),
        "changed": _changed(shot),
        "step_verbs": STEP_VERBS,
        "guide_kinds": GUIDE_KINDS,
        "layouts": PANORAMAS,
    }
    if chain:
        selected = _selected(request, chain)
        state_gate, lens_origin = shot.state["gate"], found.origin if found else ""
        rows = page.ledger(chain, selected)
        context |= {
            "chain": chain,
            "selected": selected,
            "ledger": rows,
            "off_centre": any(row["centre"] != "middle" for row in rows),
            "drawing": page.drawing(chain, selected),
            "rows": page.figure_rows(chain, selected, state_gate["origin"], lens_origin),
            "render": page.render_table(chain, selected),
            "sensor_rows": _sensor_rows(shot, state_gate),
            "stage": chain.stages[selected],
            "plate_index": chain.plate,
            "step_choices": [
                (key, name, ABOUT[key]) for key, name in page.step_choices(selected < chain.plate)
            ],
            "after": _index_after(state_gate, chain, selected),
            "before_plate": selected < chain.plate,
            "step_form": step_form or _step_form(request, shot, chain),
            "rate": state_gate.get("rate"),
            "render_size": state_gate.get("render"),
        }
    failed = form.errors or (step_form and step_form.errors)
    return step_page(
        request, shot, "gate", "gates/gate.html", context, status=422 if failed else 200
    )


def _changed(shot) -> bool:
    """Whether the last edit was one of this step's, so that the page says what it did beside its
    undo."""
    before = shot.head.parent
    if before is None:
        return False
    if before.version != shot.head.version:  # the same may have another digest there
        return any(before.state.get(key) != shot.state.get(key) for key in OWN_PARTS)
    return any(before.parts.get(key) != shot.head.parts.get(key) for key in OWN_PARTS)


def _selected(request, chain) -> int:
    wanted = whole(request.GET.get("grid", request.POST.get("grid")))
    return chain.plate if wanted is None else min(wanted, len(chain.stages) - 1)


def _index_after(state_gate, chain, selected) -> int:
    """Where in the list of steps a new one goes that follows the selected grid."""
    steps, at = (
        state_gate.get("steps", []),
        state_gate.get("plate_at", len(state_gate.get("steps", []))),
    )
    keys = [step["id"] for step in steps]
    key = chain.stages[selected].key
    if key in keys:
        return keys.index(key) + 1
    step = chain.stages[selected].step
    return at if selected >= chain.plate or step.get("from") == "way in" else 0


def _step_form(request, shot, chain):
    """The form that the address asks for: ?edit=<id>, or ?add=<kind>."""
    edited, added = request.GET.get("edit"), request.GET.get("add")
    base, offset = {"base": shot.head.number}, offset_of(shot.state)
    now = next((step for step in shot.state["gate"].get("steps", []) if step["id"] == edited), None)
    if now:
        return StepForm(do=now["do"], now=now, offset=offset, initial=base)
    return StepForm(do=added, offset=offset, initial=base) if added in KINDS else None


def _sensor_rows(shot, now) -> list[Row]:
    lens = shot.state["lens"]
    rows = [
        Row("Sensor", now["name"] or "typed size", origin=now["origin"]),
        Row(
            "Photosites",
            "{} × {}".format(*now["photosites"]) if now.get("photosites") else "–",
            origin=now["origin"] if now.get("photosites") else "",
        ),
        Row("Squeeze", f"{now['squeeze']:g}", origin=now["origin"]),
    ]
    if lens.get("name"):
        rows.append(Row("Lens", lens["name"], origin="catalogue"))
    if lens.get("projection", "rectilinear") != "rectilinear":
        rows.append(
            Row(
                "Projection",
                lens["projection"],
                origin="catalogue" if lens.get("name") else "typed",
            )
        )
    return rows


@require_POST
def camera_rate(request, show, shot):
    """The rate that the camera ran at."""
    shot = find(show, shot)
    shot = set_rate(shot, parse_rate(request.POST.get("rate", "")), base_of(request))
    return redirect(shot.url("gate"))


# The chain
# --------------------------------------------------------------------------------------------------


@require_POST
def put_step(request, show, shot):
    """Add a step, or change one."""
    shot = find(show, shot)
    do, step_id = request.POST.get("do", ""), request.POST.get("id", "")
    now = next(
        (step for step in (shot.state["gate"] or {}).get("steps", []) if step["id"] == step_id),
        None,
    )
    if do not in KINDS or (step_id and now is None):
        raise Problem("That step is gone already." if step_id else "Choose a step from the list.")
    form = StepForm(request.POST, do=do, now=now, offset=offset_of(shot.state))
    if form.is_valid():
        after = whole(request.POST.get("after"))
        with on_form(form):
            shot = actions.put_step(
                shot,
                form.step,
                after,
                request.POST.get("before_plate") == "1",
                form.cleaned_data["base"],
            )
            chain = chain_of(shot.state)
            keys = [stage.key for stage in chain.stages]
            steps = shot.state["gate"]["steps"]
            placed = -1 if after is None else min(after, len(steps) - 1)
            wanted = form.step.get("id") or steps[placed]["id"]
            return redirect(
                shot.url("gate") + (f"?grid={keys.index(wanted)}" if wanted in keys else "")
            )
    return _page(request, shot, step_form=form)


@require_POST
def step_verb(request, show, shot, step_id, verb):
    """Remove a step, or move it."""
    shot = find(show, shot)
    if verb == "remove":
        actions.remove_step(shot, step_id, base_of(request))
    elif verb in ("up", "down"):
        actions.move_step(shot, step_id, -1 if verb == "up" else 1, base_of(request))
    else:
        raise Http404
    return redirect(shot.url("gate"))


@require_POST
def remedy(request, show, shot):
    """Take a remedy of a remark: found again by its key, so that what is taken is what was
    offered."""
    shot = find(show, shot)
    key = request.POST.get("key", "")
    for finding in page.findings(shot, plate_of(shot)):
        for one in finding.remedies:
            if one.key == key:
                actions.set_document(
                    shot,
                    one.gate | {"origin": one.gate.get("origin", "assumed")},
                    one.label[:200],
                    base_of(request),
                )
                return redirect(shot.url("gate"))
    raise Problem(
        "That remedy no longer applies: the gate has changed since. Look at the remarks again."
    )


@require_POST
def render_size(request, show, shot):
    """The size of the renders, to be checked against the chain."""
    shot = find(show, shot)
    text = request.POST.get("size", "").strip()
    shape = parse_shape(text, ("px",)) if text else None
    actions.set_render(shot, [shape["width"], shape["height"]] if shape else None, base_of(request))
    return redirect(shot.url("gate") + "?open=render")


@require_POST
def guides(request, show, shot):
    """Save the guides and answer with their shapes."""
    shot = find(show, shot)
    wanted = read(request, Guides)
    shot = actions.set_guides(shot, guides_from(wanted), wanted.revision)
    redoable = next_revision(shot)
    return JsonResponse(
        {
            "shapes": page.guide_shapes(shot),
            "revision": shot.head.number,
            "undo_label": shot.head.label,
            "redoable": bool(redoable),
        }
    )


@require_GET
def follow(request, show, shot):
    """Where one position lies on every grid and on the sensor: `x`, `y` in px of `grid`, or in mm
    of the sensor where `grid` is `sensor`."""
    shot = find(show, shot)
    chain, _ = bent_chain(shot.state, plate_of(shot))
    if chain is None:
        raise Problem("Choose the sensor first.")
    try:
        at = np.array([[float(request.GET["x"]), float(request.GET["y"])]])
    except (KeyError, ValueError):
        raise Problem("Type a position as two numbers.") from None
    grid = request.GET.get("grid", str(chain.plate))
    stage = whole(grid)
    if grid == "sensor":
        stage, at = chain.plate, chain.plate_grid.to_px(at)
    if stage is None or stage >= len(chain.stages):
        raise Problem("There is no such grid.")
    places = chain.follow(at, stage)

    def told(point, index):
        one = chain.stages[index]
        return (
            "–"
            if one.unsized or not np.isfinite(point).all()
            else f"{point[0]:.1f}, {point[1]:.1f}".replace("-", "−")
        )

    mm = chain.sensor_mm(at, stage)[0]
    drawn = [float(v) for v in mm] if np.isfinite(mm).all() else None
    return JsonResponse(
        {
            "places": [told(place[0], index) for index, place in enumerate(places)],
            "mm": drawn,
            "says": (
                f"{mm[0]:+.4f}, {mm[1]:+.4f} mm".replace("-", "−")
                if drawn
                else "nowhere on the sensor"
            ),
        }
    )


@require_GET
def ledger_file(request, show, shot):
    """The ledger as CSV: a row a grid, every figure in full."""
    shot = find(show, shot)
    chain, _ = bent_chain(shot.state, plate_of(shot))
    if chain is None:
        raise Http404
    response = HttpResponse(
        content_type="text/csv",
        headers={"Content-Disposition": f'attachment; filename="{shot.code}_gate_chain.csv"'},
    )
    ledger.write(response, chain)
    return response


@require_POST
def around(request, show, shot):
    """Take the plate as a panorama of all around, in one of the layouts."""
    shot = find(show, shot)
    if plate_of(shot) is None:
        raise Problem("There is no plate yet.")
    layout = request.POST.get("layout") or "equirectangular"
    text = request.POST.get("across", "").strip().removesuffix("°")
    across = parse_number(text, "The angle across") if text else 360.0
    actions.take_around(shot, base_of(request), layout, across)
    return redirect(shot.url("gate"))
