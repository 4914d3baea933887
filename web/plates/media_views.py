"""The server's own folders, as the Plate page looks into them."""

from django.http import Http404
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from web.plates import actions, film_actions, media
from web.plates.film_actions import MOVIES
from web.plates.referred import roots
from web.plates.starting import start_small_pictures
from web.shows.reading import base_of, whole
from web.shows.views import find


@require_GET
def folder(request, show, shot):
    """What lies in one of the permitted folders, or which of them there are."""
    shot = find(show, shot)
    permitted = roots()
    if not permitted:
        raise Http404
    root, path = whole(request.GET.get("root")), request.GET.get("path", "")
    context = {"shot": shot, "show": shot.show, "roots": [place.name for place in permitted]}
    if len(permitted) == 1 and root is None:
        root = 0
    if root is not None:
        try:
            found = media.listing(root, path)
        except Problem as problem:
            context["problem"] = problem.sentence
        else:
            parts = [part for part in found.path.split("/") if part]
            context |= {
                "found": found,
                "crumbs": [("/".join(parts[: n + 1]), part) for n, part in enumerate(parts)],
                "root_name": permitted[root].name,
                "folders": [("/".join([*parts, name]), name) for name in found.folders],
            }
    return render(request, "plates/_media.html", context)


@require_POST
def bring_in(request, show, shot):
    """Copy what was chosen in a folder, or refer to it (`how`), as the shot's plate."""
    shot = find(show, shot)
    root, base = whole(request.POST.get("root")), base_of(request)
    if root is None:
        raise Problem("There is no such folder.")
    files = media.files_of(root, request.POST.get("path", ""), request.POST.get("first", ""))
    path, name = files[0]
    refer = request.POST.get("how") == "refer"
    single = len(files) == 1 and not name.lower().endswith(MOVIES)
    if single and not refer:
        actions.take_plate(shot, actions.bring_in(path, name), base)
        return redirect(shot.url("plate"))
    film = media.referred_to(files) if refer else media.copied(files)
    shot = film_actions.take_film(shot, film, base)
    start_small_pictures(shot, film)
    return redirect(shot.url("plate"))
