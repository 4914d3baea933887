"""The catalogue's pages: what is in it, an entry, a sensor mode, files in and out, the open lens
database."""

from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from aperture.errors import Problem
from aperture.fence import run_fenced
from aperture.formats import catalogue as files
from aperture.gates.formats import FORMATS
from aperture.lens import database as lens_database
from web.catalogue import actions, lens_profiles
from web.catalogue.forms import BodyForm, LensForm, ModeForm
from web.catalogue.models import KINDS, Body, CatalogueLens, everything

MOST_BYTES = 20_000_000  # of a catalogue
FORMS = {"body": BodyForm, "lens": LensForm}
FILES = {
    "catalogue.json": (files.write_json, "application/json"),
    "modes.csv": (files.write_modes_csv, "text/csv"),
    "lenses.csv": (files.write_lenses_csv, "text/csv"),
}


def catalogue(request, says="", problem=""):
    """Everything on offer."""
    context = {
        "bodies": Body.objects.offered(),
        "lenses": CatalogueLens.objects.offered(),
        "formats": FORMATS,
        "says": says,
        "problem": problem,
        "removed": [
            (kind, entry)
            for kind, model in KINDS.items()
            for entry in model.objects.filter(removed=True)
        ],
    }
    return render(request, "catalogue/catalogue.html", context, status=422 if problem else 200)


@require_POST
def bring_in(request):
    """A catalogue file."""
    upload = request.FILES.get("file")
    if upload is None:
        return catalogue(request, problem="Choose a catalogue file: JSON or CSV.")
    try:
        return catalogue(
            request,
            says=actions.bring_in(run_fenced(files.read, upload.read(MOST_BYTES), upload.name)),
        )
    except Problem as problem:
        return catalogue(request, problem=problem.sentence + " Nothing was taken in.")


def file(request, name):
    """The catalogue as a file."""
    if name not in FILES:
        raise Http404
    write, kind = FILES[name]
    document = {"format": files.FORMAT, "version": 1} | everything()
    return HttpResponse(
        write(document),
        content_type=kind,
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )


def entry(request, kind, pk=None):
    """A body or a lens, to read and to change; without a number a new one."""
    found = get_object_or_404(KINDS[kind], pk=pk) if pk else None
    form = FORMS[kind](
        request.POST or None, initial=FORMS[kind].initial_of(found.data) if found else None
    )
    if request.method == "POST" and form.is_valid():
        document = (
            {key: found.data[key] for key in ("modes",) if key in found.data} if found else {}
        ) | form.document
        if kind == "body" and not found:
            document["modes"] = [
                {
                    "name": "Whole sensor",
                    "window": [0, 0, *document["photosites"]],
                    "width_mm": form.size[0],
                    "height_mm": form.size[1],
                }
            ]
        try:
            found = actions.save(kind, document, found)
            return (
                redirect("catalogue-entry", kind, found.pk)
                if kind == "body"
                else redirect("catalogue")
            )
        except Problem as problem:
            form.add_error(None, problem.sentence)
    return render(
        request,
        "catalogue/entry.html",
        {"kind": kind, "entry": found, "form": form},
        status=422 if form.errors else 200,
    )


def mode(request, pk, index):
    """One sensor mode; the index after the last is a new one."""
    body = get_object_or_404(Body, pk=pk)
    modes = body.data["modes"]
    if index > len(modes):
        raise Http404
    current = modes[index] if index < len(modes) else None
    form = ModeForm(
        request.POST or None,
        photosites=body.data["photosites"],
        initial=ModeForm.initial_of(current) if current else None,
    )
    if request.method == "POST" and ("remove" in request.POST or form.is_valid()):
        try:
            if "remove" in request.POST:
                if len(modes) == 1:
                    raise Problem("A body needs at least one mode.")
                changed = modes[:index] + modes[index + 1 :]
            else:
                if any(
                    other["name"] == form.document["name"]
                    for i, other in enumerate(modes)
                    if i != index
                ):
                    raise Problem(f"This body has a mode “{form.document['name']}” already.")
                changed = modes[:index] + [form.document] + modes[index + 1 :]
            actions.save("body", body.data | {"modes": changed}, body)
            return redirect("catalogue-entry", "body", pk)
        except Problem as problem:
            form.add_error(None, problem.sentence)
    return render(
        request,
        "catalogue/mode.html",
        {"body": body, "mode": current, "index": index, "form": form},
        status=422 if form.errors else 200,
    )


@require_POST
def verb(request, kind, pk, verb):
    """Duplicate, remove, put back."""
    found = get_object_or_404(KINDS[kind], pk=pk)
    if verb == "duplicate":
        return redirect("catalogue-entry", kind, actions.duplicate(kind, found).pk)
    if verb not in ("remove", "put-back"):
        raise Http404
    actions.set_removed(kind, found, verb == "remove")
    return redirect("catalogue")


def database(request):
    """Search in the open lens database; POST copies a lens with its profile into the catalogue."""
    problem, text = "", request.GET.get("q", "")[:120]
    if request.method == "POST":
        try:
            document = lens_profiles.catalogue_lens(request.POST.get("key", ""))
            return redirect("catalogue-entry", "lens", actions.save("lens", document).pk)
        except Problem as found:
            problem, text = found.sentence, request.POST.get("q", "")[:120]
    context = {
        "text": text,
        "problem": problem,
        "cameras": lens_database.search_cameras(text),
        "lenses": lens_database.search_lenses(text),
    }
    return render(request, "catalogue/database.html", context, status=422 if problem else 200)
