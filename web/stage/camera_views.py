"""The verbs of cameras and of the plate card on the Set page."""

from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from aperture.errors import Problem
from aperture.units import parse_length
from web.shows.forms import on_form
from web.shows.history import edit
from web.shows.reading import base_of
from web.shows.views import find
from web.stage import cameras, views
from web.stage.camera_forms import CameraForm, LooksForm
from web.stage.world import CARD_IN, card_corners


def _back(shot, id_=""):
    return redirect(
        shot.url("set")
        + "?leaf=cameras"
        + (f"&through={id_}" if id_ and id_ != cameras.MATCHED else "")
    )


@require_POST
def camera(request, show, shot):
    """Copy, lock, remove, hide or type one; `camera` names it."""
    shot, id_, base = find(show, shot), request.POST.get("camera", ""), base_of(request)
    verb = request.POST.get("verb")
    if verb in ("copy", "type"):
        shot = (
            cameras.copy_camera(shot, id_, base)
            if verb == "copy"
            else cameras.type_camera(shot, base)
        )
        return _back(shot, shot.state["cameras"][-1]["id"])
    if verb == "remove":
        return _back(cameras.remove_camera(shot, id_, base))
    if verb == "lock":
        return _back(cameras.lock_camera(shot, id_, base), id_)
    if verb == "hide":
        one = cameras.camera_called(shot, id_)
        return _back(
            cameras.set_looks(shot, id_, {"hidden": not one.looks["hidden"]} if one else {}, base),
            request.POST.get("through", ""),
        )
    raise Problem("That can't be changed on a camera.")


@require_POST
def typed(request, show, shot):
    """A copied or typed camera's figures."""
    found = find(show, shot)
    one, item = (
        _chosen(found, request),
        next(
            (
                one
                for one in found.state.get("cameras", [])
                if one["id"] == request.POST.get("camera")
            ),
            None,
        ),
    )
    if item is None:
        raise Problem("That camera is gone, or belongs to the match: the Match step changes it.")
    form = CameraForm(request.POST, show=found.show, item=item)
    if form.is_valid():
        with on_form(form):
            return _back(
                cameras.set_camera(found, form.cleaned_data["item"], form.cleaned_data["base"]),
                one.id,
            )
    return views.stage(request, show, shot, forms={"camera": form}, status=422)


@require_POST
def looks(request, show, shot):
    """How a camera is drawn."""
    found = find(show, shot)
    one = _chosen(found, request)
    form = LooksForm(request.POST, show=found.show, looks=one.looks)
    if form.is_valid():
        return _back(
            cameras.set_looks(found, one.id, form.cleaned_data["looks"], form.cleaned_data["base"]),
            one.id,
        )
    return views.stage(request, show, shot, forms={"looks": form}, status=422)


def _chosen(shot, request):
    one = cameras.camera_called(shot, request.POST.get("camera"))
    if one is None:
        raise Problem("There is no such camera.")
    return one


@require_POST
def card(request, show, shot):
    """Put the plate card at a distance, leave it in space or fix it to the camera again, choose
    where it shows."""
    shot, base, verb = find(show, shot), base_of(request), request.POST.get("verb", "move")
    matched = cameras.camera_called(shot, None)
    if matched is None:
        raise Problem("There is no matched camera yet to hang the plate in front of.")
    if verb == "leave":
        corners = card_corners(shot, matched.camera).round(6).tolist()
        edit(shot, "Left the plate card in space", lambda state: _card(state, left=corners), base)
    elif verb == "fix":
        edit(
            shot, "Fixed the plate card to the camera", lambda state: _card(state, left=None), base
        )
    elif verb == "show":
        where = request.POST.get("in")
        if where not in CARD_IN:
            raise Problem(
                "The plate card shows in both views, in the lens view only, or in the set view"
                " only."
            )
        edit(
            shot,
            f"Showed the plate card in {CARD_IN[where]}",
            lambda state: _card(state, **{"in": where}),
            base,
        )
    else:
        text = request.POST.get("distance", "").strip()
        metres = parse_length(text, shot.show.length_unit, "The card's distance") if text else None
        if metres is not None and not 0.01 <= metres <= 1e5:
            raise Problem("The plate card stands between 1 cm and 100 km from the camera.")

        def change(state):
            state["card_m"] = metres
            _card(state, left=None)

        edit(shot, "Moved the plate card", change, base)
    return redirect(shot.url("set") + "?leaf=plate")


def _card(state, **changes):
    kept = {
        name: value
        for name, value in (state.get("card", {}) | changes).items()
        if value not in (None, "both")
    }
    state.pop("card", None)
    if kept:
        state["card"] = kept
