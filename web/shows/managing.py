"""Pages and verbs for the order among shows and shots."""

from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from aperture.errors import Problem
from aperture.units import parse_rate
from web.shows import organise
from web.shows.forms import ShotSettingsForm, ShowSettingsForm
from web.shows.models import Shot, Show
from web.shows.views import find


def show_settings(request, show):
    """A show's name, unit, axis, rate."""
    show = get_object_or_404(Show.objects.kept(), slug=show)
    form = ShowSettingsForm(request.POST or None, instance=show)
    if request.method == "POST" and form.is_valid():
        return redirect(form.save())
    status = 422 if form.errors else 200
    return render(request, "shows/show_settings.html", {"show": show, "form": form}, status=status)


@require_POST
def show_rate(request, show):
    """The show's frame rate, from a remark on a shot's page."""
    show = get_object_or_404(Show.objects.kept(), slug=show)
    rate = parse_rate(request.POST.get("rate", ""))
    show.rate_numerator, show.rate_denominator = rate.as_integer_ratio()
    show.save(update_fields=["rate_numerator", "rate_denominator"])
    back = request.POST.get("back", "")
    return redirect(back if back.startswith("/shows/") else show)


def shot_settings(request, show, shot):
    """A shot's code, description, show."""
    shot = find(show, shot)
    form = ShotSettingsForm(request.POST or None, shot=shot)
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        try:
            written = {name: data[name] for name in Shot.WRITTEN}
            organise.rename_shot(shot, form.show, data["code"], written)
            return redirect(form.show)
        except Problem as problem:
            form.add_error("code", problem.sentence)
            shot = find(show, request.resolver_match.kwargs["shot"])
    context = {"show": shot.show, "shot": shot, "form": form}
    return render(request, "shows/shot_settings.html", context, status=422 if form.errors else 200)


SHOW_VERBS = ("copy", "archive", "unarchive", "delete", "restore")


@require_POST
def show_verb(request, show, verb):
    """Copy, archive, delete, or bring a show back."""
    show = get_object_or_404(Show, slug=show)
    if verb == "copy":
        return redirect(organise.copy_show(show))
    _keep(show, verb)
    return redirect(show if verb == "unarchive" else "shows")


@require_POST
def shot_verb(request, show, shot, verb):
    """Copy, archive, delete, or bring a shot back."""
    shot = get_object_or_404(
        Shot.objects.with_head(), show__slug=show, code=shot, show__deleted__isnull=True
    )
    if verb == "copy":
        return redirect(organise.copy_shot(shot).url("shot-settings"))
    _keep(shot, verb)
    return redirect(shot.show)


def _keep(item, verb) -> None:
    if verb in ("archive", "unarchive"):
        organise.set_archived(item, verb == "archive")
    elif verb in ("delete", "restore"):
        organise.set_deleted(item, verb == "delete")
    else:
        raise Problem("That can't be done with a show or a shot.")
