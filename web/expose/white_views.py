"""The White leaf: which white the plate was balanced for, and what takes it to the show's."""

from typing import Annotated

import msgspec
from django import forms
from django.http import JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from aperture.errors import Problem
from aperture.light.white import White
from aperture.units import parse_number
from web.expose import page, whites
from web.expose.models import ShowLight
from web.expose.views import ordered
from web.shows.forms import BaseField, on_form
from web.shows.reading import Edit, Pixels, base_of, read
from web.shows.views import find

Box = Annotated[list[Pixels], msgspec.Meta(min_length=4, max_length=4)]


class WhiteForm(forms.Form):
    """A white in kelvins or mired, and its tint."""

    white = forms.CharField(label="White", max_length=30)
    tint = forms.CharField(label="Tint", max_length=20, required=False)
    base = BaseField()

    def clean(self):
        """`cleaned_data["found"]`: the White."""
        data = super().clean() or self.cleaned_data
        text = (data.get("white") or "").strip().lower()
        if not text:
            return data
        with on_form(self, "white"):
            mired = text.endswith("mired")
            number = parse_number(text.removesuffix("mired").removesuffix("k").strip(), "The white")
            if number <= 0:
                raise Problem("A white is a number of kelvins above zero, or of mired.")
            kelvin = 1e6 / number if mired else number
            tint = (data.get("tint") or "").strip()
            data["found"] = White(kelvin, parse_number(tint, "The tint") if tint else 0.0)
        return data


def white(request, show, shot):
    """The leaf; POST chooses a way, or types a white."""
    shot = find(show, shot)
    own = shot.state["white"]
    by = request.POST.get("by")
    initial = {"base": shot.head.number}
    if own.get("by") == "typed":
        initial |= {"white": f"{own['kelvin']:.0f} K", "tint": f"{own.get('tint', 0):g}"}
    form = WhiteForm(request.POST if request.method == "POST" and not by else None, initial=initial)
    if by:
        _choose(shot, by, base_of(request))
        return redirect(shot.url("expose-white"))
    if request.method == "POST" and form.is_valid():
        found = form.cleaned_data["found"]
        kept = {"by": "typed", "kelvin": found.kelvin, "tint": found.tint}
        kept |= {"box": own["box"]} if "box" in own else {}
        whites.set_white(shot, kept, form.cleaned_data["base"])
        return redirect(shot.url("expose-white"))
    target = whites.show_white(shot)
    box = own.get("box")
    context = {
        "form": form,
        "ways": page.white_rows(shot),
        "used": whites.chosen(shot),
        "target": target,
        "target_form": WhiteForm(
            initial={
                "white": f"{target.kelvin:.0f} K",
                "tint": f"{target.tint:g}",
                "base": shot.head.number,
            },
            auto_id="show_%s",
        ),
        "remarks": [],
        "tools": {"patch": {"kind": "box", "to": shot.url("expose-white-patch")}},
        "boxes": [{"box": box, "says": "neutral"}] if box else [],
    }
    status = 422 if form.errors else 200
    return page.leaf_page(request, shot, "expose-white", "expose/white.html", context, status)


def _choose(shot, by: str, base: int) -> None:
    own = dict(shot.state["white"])
    if by == "none":
        own.pop("by", None)
    elif by in {way.by for way in whites.ways(shot) if way.white}:
        own["by"] = by
    else:
        raise Problem("That way doesn’t say any white.")
    whites.set_white(shot, own, base)


class Patch(Edit, frozen=True, kw_only=True):
    """A patch of the plate that is neutral in life."""

    box: Box


@require_POST
def patch(request, show, shot):
    """Take a patch as neutral."""
    shot, wish = find(show, shot), read(request, Patch)
    box = ordered(wish.box)
    whites.white_of(whites.picked_colour(shot, box))  # a colour that is no white is refused
    own = {**shot.state["white"], "by": "picked", "box": box}
    whites.set_white(shot, own, wish.revision)
    return JsonResponse({})


@require_POST
def of_show(request, show, shot):
    """The white that all of the show's pictures are balanced to."""
    shot = find(show, shot)
    form = WhiteForm(request.POST)
    if not form.is_valid():
        raise Problem(" ".join(error for errors in form.errors.values() for error in errors))
    found = form.cleaned_data["found"]
    ShowLight.objects.update_or_create(
        show=shot.show, defaults={"kelvin": found.kelvin, "tint": found.tint}
    )
    return redirect(shot.url("expose-white"))
