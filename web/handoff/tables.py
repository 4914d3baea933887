"""The text table of a camera per frame, by a receiver's recipe."""

import json
from dataclasses import replace

from django.db import IntegrityError, transaction
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from aperture import strict_json
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.formats import recipe as recipes
from aperture.formats.prepared import Prepared
from web.handoff import remembered
from web.handoff.answers import download
from web.handoff.cameras import cameras_by_frame
from web.handoff.forms import RecipeForm
from web.handoff.models import Recipe
from web.shows.reading import given_file, given_name, whole
from web.shows.views import find

SHOWN = 4  # lines of the preview
MOST_RECIPES, MOST_BYTES = 100, 1_000_000
FORMAT = "accurate-aperture/recipes"


def chosen(shot, number) -> Recipe | None:
    """A recipe of the show by its number; None without one."""
    return shot.show.recipes.filter(pk=whole(number)).first() if whole(number) else None


def context(shot, number) -> dict:
    """For the page: the recipes of the show, the chosen one, and its form."""
    kept = list(shot.show.recipes.all())
    one = chosen(shot, number)
    shown = recipes.Recipe(up_axis=shot.show.up_axis, unit=shot.show.length_unit)
    if one is not None:
        shown = one.conventions
    return {
        "recipes": kept,
        "recipe": one,
        "recipe_form": RecipeForm.of(shown),
        "preview": _preview(shot, shown),
    }


def _preview(shot, recipe: recipes.Recipe) -> str:
    """The first lines; empty without a camera."""
    try:
        cameras = cameras_by_frame(shot)
    except Problem:
        return ""
    some = {frame: cameras[frame] for frame in sorted(cameras)[:SHOWN]}
    try:
        return recipes.write(_baked(some, recipe), recipe, shot.show.rate)
    except Problem as problem:
        return problem.sentence


def _baked(cameras: dict[int, Camera], recipe: recipes.Recipe) -> dict[int, Camera]:
    """The cameras with what the recipe bakes; its scale is the table's own matter."""
    made = Prepared(replace(recipe, scale=1.0))
    return {frame: made.of(camera) for frame, camera in cameras.items()}


@require_GET
def preview(request, show, shot):
    """The first lines of the table as the form has it, or what is wrong with the form."""
    shot = find(show, shot)
    form = RecipeForm(request.GET)
    lines = _preview(shot, form.cleaned_data["recipe"]) if form.is_valid() else ""
    return render(request, "handoff/_preview.html", {"preview": lines, "recipe_form": form})


def _posted(request) -> recipes.Recipe:
    """The recipe that a form has. Raises Problem with all that is wrong."""
    form = RecipeForm(request.POST)
    if not form.is_valid():
        raise Problem(" ".join(str(error) for errors in form.errors.values() for error in errors))
    return form.cleaned_data["recipe"]


@require_POST
def table(request, show, shot):
    """The table as the form has it."""
    shot = find(show, shot)
    recipe = _posted(request)
    cameras = _baked(cameras_by_frame(shot), recipe)
    text = recipes.write(cameras, recipe, shot.show.rate)
    remembered.remember(shot, "text table", request.POST.get("name", ""))
    return download(text, f"{shot.code}_camera.txt", "text/plain; charset=utf-8")


@require_POST
def keep(request, show, shot):
    """Keep what the form says as a recipe of the show; one of the same name is replaced."""
    shot = find(show, shot)
    recipe = _posted(request)
    row = _kept(shot.show, given_name(request, 80), recipe)
    return redirect(f"{shot.url('handoff')}?recipe={row.pk}")


def _kept(show, name: str, recipe: recipes.Recipe) -> Recipe:
    if show.recipes.exclude(name=name).count() >= MOST_RECIPES:
        raise Problem(f"A show has at most {MOST_RECIPES} recipes.")
    settings = {"settings": recipe.to_json()}
    try:
        with transaction.atomic():
            return show.recipes.update_or_create(name=name, defaults=settings)[0]
    except IntegrityError:  # somebody else kept one of this name just now
        return show.recipes.update_or_create(name=name, defaults=settings)[0]


@require_POST
def remove(request, show, shot, number):
    """Remove a recipe."""
    shot = find(show, shot)
    get_object_or_404(shot.show.recipes, pk=number).delete()
    return redirect(shot.url("handoff"))


@require_GET
def export(request, show, shot):
    """All recipes of the show as JSON."""
    shot = find(show, shot)
    rows = [{"name": one.name, **one.settings} for one in shot.show.recipes.all()]
    text = json.dumps({"format": FORMAT, "version": 1, "recipes": rows}, indent=2)
    return download(text, f"{shot.show.slug}_recipes.json", "application/json")


@require_POST
def take(request, show, shot):
    """Take recipes from such a file; those of the same names are replaced. All of them, or none."""
    shot = find(show, shot)
    file = given_file(request, "file", "a file of recipes", MOST_BYTES)
    data = strict_json.loads(file.read())
    rows = data.get("recipes") if isinstance(data, dict) and data.get("format") == FORMAT else None
    if not isinstance(rows, list) or not rows or len(rows) > MOST_RECIPES:
        raise Problem("There are no recipes in this file.", "file")
    read = []
    for row in rows:
        name = row.get("name") if isinstance(row, dict) else None
        if not isinstance(name, str) or not 0 < len(name.strip()) <= 80:
            raise Problem("A recipe in this file has no name.", "file")
        read.append((" ".join(name.split()), recipes.Recipe.from_json(row)))
    with transaction.atomic():
        for name, recipe in read:
            _kept(shot.show, name, recipe)
    return redirect(shot.url("handoff"))
