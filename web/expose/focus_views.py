"""The Focus leaf: what the camera is focused on, what is sharp, and whether the picture's blur
agrees."""

from django import forms
from django.http import JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from aperture.errors import Problem
from aperture.light.focus import BASES, ThinLens
from aperture.units import parse_length
from web.expose import exposure, focus_page, focusing, page
from web.match.path_fits import camera_of_state
from web.plates.models import frame_of
from web.shows.forms import BaseField, on_form
from web.shows.reading import Edit, Place, base_of, read
from web.shows.views import find
from web.stage.stand_ins import stand_ins_of

LEAST_WANTED = 1.0  # a stop that lenses have
MOST_STOP = 512.0
FOLLOW_PX = 14.0  # how near a point has to be clicked, on a plate of HD


class FocusForm(forms.Form):
    """A typed distance, what is followed, and what counts as sharp."""

    metres = forms.CharField(label="Distance", max_length=40, required=False)
    follow = forms.CharField(label="Follows", max_length=200, required=False)
    basis = forms.ChoiceField(label="Sharp is", choices=list(BASES.items()))
    circle = forms.CharField(label="Circle (mm)", max_length=20, required=False)
    base = BaseField()

    def __init__(self, *args, shot, **kwargs):
        self.shot = shot
        own = shot.state["focus"]
        circle = own.get("circle", focusing.USUAL_CIRCLE)
        kwargs.setdefault("initial", {}).update(
            metres=shot.show.length(own["metres"])[0] if own.get("metres") else "",
            follow=own.get("follow") or "",
            basis=circle["basis"],
            circle=f"{circle['mm']:g}" if "mm" in circle else "",
            base=shot.head.number,
        )
        super().__init__(*args, **kwargs)
        names = list(focusing.targets(shot))[: focusing.MOST_OFFERED]
        now = own.get("follow")
        missing = [now] if now and now not in names else []
        choices = [("", "nothing"), *((name, name) for name in [*missing, *names])]
        self.fields["follow"].widget = forms.Select(choices=choices)

    def clean(self):
        """The distance in metres, the circle in millimetres."""
        data = super().clean() or self.cleaned_data
        text, data["metres"] = (data.get("metres") or "").strip(), None
        if text:
            with on_form(self, "metres"):
                unit = self.shot.show.length_unit
                metres = parse_length(text, unit, "The focus")
                data["metres"] = focusing.checked(self.shot, metres)
        text, data["circle"] = (data.get("circle") or "").strip(), None
        if text:
            with on_form(self, "circle"):
                data["circle"] = 1000 * parse_length(text, "mm", "The circle")
                if not 0 < data["circle"] <= 10:
                    raise Problem("The circle lies between 0 and 10 mm.")
        elif data.get("basis") == "typed":
            self.add_error("circle", "Type the circle’s diameter.")
        return data


def focus(request, show, shot):
    """The leaf; POST saves what is typed."""
    shot = find(show, shot)
    form = FocusForm(request.POST or None, shot=shot)
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        circle = {"basis": data["basis"]}
        if data["circle"]:
            circle["mm"] = data["circle"]
        focusing.set_focus(
            shot,
            "Focus",
            data["base"],
            metres=data["metres"],
            follow=data["follow"] or None,
            circle=None if circle == focusing.USUAL_CIRCLE else circle,
        )
        return redirect(shot.url("expose-focus"))
    context = focus_page.context(shot) | {
        "form": form,
        "holders": exposure.STOP_HOLDERS,
        "tools": {
            "focus": {"kind": "point", "to": shot.url("expose-focus-at")},
            "follow": {"kind": "point", "to": shot.url("expose-focus-follow")},
        },
    }
    status = 422 if form.errors else 200
    return page.leaf_page(request, shot, "expose-focus", "expose/focus.html", context, status)


class At(Edit, frozen=True, kw_only=True):
    """A place of the plate."""

    at: Place


@require_POST
def at(request, show, shot):
    """Focus where a place of the plate is in the set."""
    shot, wish = find(show, shot), read(request, At)
    metres, name = focus_page.hit(shot, wish.at)
    metres = focusing.checked(shot, round(metres, 4))
    own, frame = shot.state["focus"], frame_of(shot)
    if own.get("keys"):
        keys = focusing.keyed(own["keys"], frame - shot.state["shift"], metres)
        focusing.set_focus(
            shot, f"Focus key on frame {frame}", wish.revision, keys=keys, follow=None
        )
    else:
        focusing.set_focus(shot, f"Focus on {name}", wish.revision, metres=metres, follow=None)
    return JsonResponse({"metres": metres, "name": name})


@require_POST
def follow(request, show, shot):
    """Follow the point of the set that is seen at a place of the plate, or else the stand-in."""
    shot, wish = find(show, shot), read(request, At)
    reach = FOLLOW_PX * max(1.0, shot.state["plate"]["width"] / 1920) if shot.state["plate"] else 0
    name = focusing.nearest(shot, wish.at, reach) or focus_page.hit(shot, wish.at)[1]
    if name not in focusing.targets(shot):
        raise Problem("There is neither a point of the set nor a stand-in to follow.")
    focusing.set_focus(shot, f"Focus follows {name}", wish.revision, follow=name)
    return JsonResponse({"name": name})


@require_POST
def change(request, show, shot):
    """One of the leaf's buttons: follow, stop following, key, remove keys."""
    shot = find(show, shot)
    base, own = base_of(request), shot.state["focus"]
    verb, frame = request.POST.get("verb", ""), frame_of(shot)
    number = frame - shot.state["shift"]
    if verb == "follow":
        name = request.POST.get("name", "")
        if name not in focusing.targets(shot):
            raise Problem("There is no such point in the set.")
        focusing.set_focus(shot, f"Focus follows {name}", base, follow=name)
    elif verb == "stop":
        focusing.set_focus(shot, "Focus follows nothing", base, follow=None)
    elif verb == "key":
        metres = _typed_key(request, shot) or focusing.focus_at(shot).metres
        if metres is None:
            raise Problem("There is no focus on this frame to keep: type a distance first.")
        keys = focusing.keyed(own.get("keys", []), number, metres)
        focusing.set_focus(shot, f"Focus key on frame {frame}", base, keys=keys)
    elif verb == "unkey":
        keys = focusing.keyed(own.get("keys", []), number, None)
        focusing.set_focus(shot, f"No focus key on frame {frame}", base, keys=keys)
    elif verb == "unkey all":
        focusing.set_focus(shot, "No focus keys", base, keys=None)
    else:
        raise Problem("There is no such button.")
    return redirect(shot.url("expose-focus"))


def _typed_key(request, shot) -> float | None:
    """The distance that is typed for a key; None where none is: the one that is in use is kept
    then."""
    text = request.POST.get("at", "").strip()
    if not text:
        return None
    return focusing.checked(shot, parse_length(text, shot.show.length_unit, "The focus"))


@require_POST
def depth(request, show, shot):
    """Focus and stop so that all stand-ins are sharp; shutter or ISO holds the exposure."""
    shot = find(show, shot)
    camera, holder = camera_of_state(shot.state), request.POST.get("by") or None
    items = stand_ins_of(shot.state)
    if holder not in (None, "seconds", "iso"):
        raise Problem("The shutter or the ISO can hold the exposure.")
    if camera is None or not items or not shot.state["gate"]:
        raise Problem("That needs a camera, a gate and stand-ins.")
    spans = [focus_page.span(camera, item) for item in items.values()]
    near, far = min(low for low, _ in spans), max(high for _, high in spans)
    if near <= 0:
        raise Problem("A stand-in reaches behind the camera: not all of them can be sharp.")
    circle, _ = focusing.circle_of(shot, camera)
    lens = ThinLens.for_depth(camera.lens.focal_mm, near, far, circle)
    metres = focusing.checked(shot, round(lens.focus_m, 4))
    base = base_of(request)
    stop, now = lens.f_number, focusing.stop_at(shot)
    if stop > MOST_STOP:
        raise Problem(f"That would take a stop of f/{stop:.0f}: no lens has it.")
    if now is None or stop > now:  # the stop that is set may be enough
        values = {**shot.state["exposure"], "f_number": max(stop, LEAST_WANTED)}
        shot = exposure.set_exposure(shot, exposure.changed(shot, values, holder), base)
        base = shot.head.number
    focusing.set_focus(shot, "All stand-ins sharp", base, metres=metres, follow=None)
    return redirect(shot.url("expose-focus"))
