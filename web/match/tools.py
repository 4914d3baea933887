"""The Match step's helpers: refining, proposals, the survey, the kit, what to measure next, the
straightened plate, drafts."""

import json
from functools import lru_cache
from typing import Annotated, Literal

import msgspec
import numpy as np
from django.http import HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match import proposals, refine
from aperture.match.document import loads
from aperture.match.solve import camera_of
from aperture.plates.straighten import straighten_map
from aperture.units import format_value
from web.gates.gate import for_match, lens_of
from web.match import actions, leaves, report
from web.match.fits import document_of, fit_of
from web.match.forms import SurveyForm
from web.match.overlay import draw
from web.match.views import saved
from web.plates.models import Plate, is_lossy, plate_of, require_plate, transfer_of, working_pixels
from web.shows import history
from web.shows.reading import Edit, Place, Text, base_of, read
from web.shows.views import find

NO_PLATE = "Bring in a plate first."


def _pixels(shot) -> np.ndarray:
    """The plate's samples, to be looked at closely."""
    plate = plate_of(shot)
    if plate is None:
        raise Problem(NO_PLATE)
    return working_pixels(plate)


# Refining and proposals
# --------------------------------------------------------------------------------------------------


def _refined(pixels, mark: dict, transfer: str, lossy: bool) -> tuple[dict, float]:
    """The mark at the picture's gradient, and by how far it moved, px; `lossy` as `refine_edge` has
    it.

    Raises Problem where the picture has nothing there.
    """
    if mark["kind"] == "spot":
        found = refine.refine_spot(pixels, mark["at"], transfer)
        place = {"at": np.round(found.points[0], 3).tolist()}
    else:
        found = refine.refine_edge(pixels, mark["points"], transfer, lossy)
        place = {"points": np.round(found.points, 3).tolist()}
    return mark | place | {"sigma_px": round(found.sigma_px, 3)}, found.moved


class Chosen(Edit, frozen=True, kw_only=True):
    """Marks by id."""

    ids: list[str] = []


@require_POST
def refine_marks(request, show, shot):
    """Refine marks by id; those that can't be are left, and said."""
    shot = find(show, shot)
    chosen = read(request, Chosen)
    base = chosen.revision
    marks = [mark for mark in shot.state["marks"] if mark["id"] in chosen.ids]
    if not marks:
        raise Problem("Choose a mark first, then refine it.")
    pixels, lossy = _pixels(shot), is_lossy(shot)
    done, refused, furthest = {}, [], 0.0
    for mark in marks:
        try:
            done[mark["id"]], moved = _refined(pixels, mark, transfer_of(shot.state), lossy)
            furthest = max(furthest, moved)
        except Problem as problem:
            refused.append(f"“{mark.get('name') or mark['id']}” stays as it is: {problem.sentence}")
    if done:
        shot = actions.replace_marks(
            shot,
            done,
            f"Refined {len(done)} mark{'s' if len(done) > 1 else ''}",
            base,
        )
    response = saved(request, shot)
    told = (
        [f"Refined {len(done)} of {len(marks)}, moved by at most {furthest:.2f} px."]
        if done
        else []
    )
    return JsonResponse(
        loads(response.content)
        | {
            "says": " ".join(
                told + refused[:3] + ([f"And {len(refused) - 3} more."] if len(refused) > 3 else [])
            )
        }
    )


@lru_cache(maxsize=8)
def _proposed(digest, folder, principal, bend):
    """Once for each plate and lens; the arguments are what the answer depends on."""
    pixels = np.load(folder / "pixels.npy", mmap_mode="r")
    grid = lens = None
    if bend:
        gate, lens_values = bend
        grid = Grid.from_gate(pixels.shape[1], pixels.shape[0], *gate)
        lens = Lens(*lens_values)
    return proposals.propose(pixels, grid, lens, principal)


def _proposals(shot):
    return _proposed(*_proposal_key(shot))


def _proposal_key(shot) -> tuple:
    """What `_proposed` depends on."""
    plate = plate_of(shot)
    if plate is None:
        raise Problem(NO_PLATE)
    told = for_match(shot.state)
    principal = tuple(told.get("lens", {}).get("principal_point", ())) or None
    given = shot.state["lens"].get("principal_point")
    given = given["value"] if isinstance(given, dict) else given
    principal = tuple(given) if isinstance(given, list) else principal
    found, bend = lens_of(shot.state, plate), None
    lens = found.lens if found else None
    if (
        lens is None and told and told["gate"]["squeeze"] != 1
    ):  # no focal length is needed to undo a squeeze
        lens = Lens(told["gate"]["width_mm"], told["gate"]["squeeze"])
    if lens and (lens.bends or lens.squeeze != 1):
        bend = (
            (told["gate"]["width_mm"], told["gate"]["height_mm"]),
            (lens.focal_mm, lens.squeeze, lens.projection, lens.centre_mm, lens.coefficients),
        )
    return plate.digest, plate.folder, principal, bend


@require_GET
def propose(request, show, shot):
    """The segments of the plate, by direction, and how far they can be trusted."""
    shot = find(show, shot)
    found = _proposals(shot)
    counts = {
        axis: sum(one.axis == axis for one in found.segments) for axis in ("across", "up", "along")
    }
    segments = [
        {"points": np.round(one.points, 2).tolist(), "axis": one.axis} for one in found.segments
    ]
    says = found.says(_focal_words(shot, found)) if found.focal_share else found.says("")
    # What taking them needs is made now, while progress is shown: taking is then quick.
    _offered(*_offer_key(shot))
    answer = {"segments": segments, "counts": counts, "says": says, "trust": found.trust}
    return JsonResponse(answer)


def _focal_words(shot, found) -> str:
    """The lens that proposals give, with its ±."""
    document = document_of(shot.state)
    focal, unit = found.focal_share * document["image"]["width"], "px"
    if "gate" in document:
        focal *= document["gate"]["height_mm"] / document["image"]["height"]
        unit = "mm"
    return f"the lens would be {' '.join(format_value(focal, found.focal_spread * focal, unit))}"


def _offer_key(shot) -> tuple:
    """What `_offered` depends on."""
    document_text = json.dumps(document_of(shot.state))
    return *_proposal_key(shot), transfer_of(shot.state), is_lossy(shot), document_text


@lru_cache(maxsize=8)
def _offered(digest, folder, principal, bend, transfer, lossy, document_text):
    """The best segments as marks that agree with a document: for each axis, and how they are
    weighed."""
    pixels = working_pixels(Plate.objects.get(digest=digest))
    found = _proposed(digest, folder, principal, bend)
    document = loads(document_text)
    marks = proposals.marks_of(pixels, proposals.choose(found.segments), transfer, lossy)
    kept = proposals.agreeing(document, marks)
    return proposals.believed(found, document, kept)


class Taken(Edit, frozen=True, kw_only=True):
    """One proposed segment by its `index`, or the best of a direction."""

    index: Annotated[int, msgspec.Meta(ge=0)] | None = None
    axis: Literal["across", "up", "along", "all"] | None = None


@require_POST
def take(request, show, shot):
    """Take proposals as edges, refined where the picture allows.

    One by its `index`, or the best of a direction (`axis`), or of `all`.
    """
    shot = find(show, shot)
    taken = read(request, Taken)
    found, base = _proposals(shot), taken.revision
    index, axis = taken.index, taken.axis
    if index is not None and index < len(found.segments) and found.segments[index].axis:
        chosen, transfer = [found.segments[index]], transfer_of(shot.state)
        marks = proposals.marks_of(_pixels(shot), chosen, transfer, is_lossy(shot))
    elif axis is not None:
        marks = [mark for mark in _offered(*_offer_key(shot)) if axis in ("all", mark["axis"])]
    else:
        raise Problem("That segment belongs to no direction: draw the edge by hand.")
    if not marks:
        raise Problem(f"No segments of the picture run {axis}.")
    label = f"Took {len(marks)} proposal{'s' if len(marks) > 1 else ''}"
    return saved(request, actions.add_marks(shot, marks, label, base))


# Survey
# --------------------------------------------------------------------------------------------------


@require_POST
def survey(request, show, shot):
    """Take a table of points in, or with `clear` let it go."""
    shot = find(show, shot)
    if request.POST.get("clear"):
        return report.answer(request, actions.set_survey(shot, [], base_of(request)))
    form = SurveyForm(request.POST, request.FILES, prefix="survey")
    if not form.is_valid():
        return report.answer(request, shot, {"survey": form})
    return report.answer(
        request, actions.set_survey(shot, form.cleaned_data["points"], form.cleaned_data["base"])
    )


class Placed(Edit, frozen=True, kw_only=True):
    """Where on the plate the surveyed point `name` is seen."""

    name: Text
    at: Place


@require_POST
def place(request, show, shot):
    """Place a surveyed point on the plate."""
    shot = find(show, shot)
    placed = read(request, Placed)
    shot = actions.place_surveyed(shot, placed.name, list(placed.at), placed.revision)
    return saved(request, shot)


# Kit and advice
# --------------------------------------------------------------------------------------------------


@require_GET
def kit(request, show, shot):
    """Round values near the solved lens."""
    shot = find(show, shot)
    return render(
        request, "match/_kit.html", leaves.kit_choices(shot) | {"shot": shot, "show": shot.show}
    )


@require_POST
def take_kit(request, show, shot):
    """Take one of the kit's values: as the given focal length, or as a fact."""
    shot = find(show, shot)
    wanted = request.POST.get("says", "")
    one = next(
        (one for one in leaves.kit_choices(shot).get("choices", ()) if one["says"] == wanted), None
    )
    if one is None:
        raise Problem("That value isn't on the list any more: the match has changed.")
    if one["fact"]:
        return report.answer(request, actions.add_fact(shot, one["fact"], base_of(request)))
    return report.answer(request, actions.set_focal(shot, one["given"], base_of(request)))


@require_GET
def advice(request, show, shot):
    """What to measure next."""
    shot = find(show, shot)
    return render(
        request,
        "match/_advice.html",
        leaves.advice(shot, request.GET.get("quantity", "position"))
        | {
            "shot": shot,
            "show": shot.show,
        },
    )


@require_GET
def floor(request, show, shot):
    """Where a pixel's ray meets the floor: [across, along] in metres, or null."""
    shot = find(show, shot)
    fit = fit_of(shot.state)
    try:
        at = [[float(request.GET["x"]), float(request.GET["y"])]]
    except (KeyError, ValueError):
        raise Problem("A position in the picture is two numbers.") from None
    if not fit or not fit["ok"] or None in fit["camera"]["position_m"]:
        raise Problem("There is no floor yet: match the camera and place the origin first.")
    point = camera_of(fit, document_of(shot.state)).on_plane(at)[0]
    if not np.isfinite(point).all():
        raise Problem("That lies above the horizon: click on the floor.")
    return JsonResponse({"at": [float(point[0]), float(point[2])]})


@require_GET
def straight_plate(request, show, shot):
    """The plate as a lens without distortion would have drawn it, of the same focal length; JPEG of
    the proxy's size."""
    import cv2

    shot = find(show, shot)
    plate, fit = require_plate(shot), fit_of(shot.state)
    if not fit or not fit["ok"]:
        raise Problem("There is no lens yet to straighten the plate by.")
    camera = camera_of(fit, document_of(shot.state))
    proxy = cv2.imread(str(plate.folder / "proxy.jpg"))
    if proxy is None:
        raise Problem("The plate’s small picture can’t be read. Bring the plate in again.")
    height, width = proxy.shape[:2]
    x, y = straighten_map(camera, (width, height))
    out = cv2.remap(proxy, x, y, cv2.INTER_LINEAR, borderValue=(0x5C, 0x5B, 0x5A))
    return HttpResponse(
        cv2.imencode(".jpg", out, [cv2.IMWRITE_JPEG_QUALITY, 90])[1].tobytes(),
        content_type="image/jpeg",
        headers={"Cache-Control": "private, no-store"},
    )


# Drafts
# --------------------------------------------------------------------------------------------------


@require_POST
def draft(request, show, shot, verb):
    """Keep, continue, remove, lock, unlock a draft."""
    shot, name, base = find(show, shot), request.POST.get("name", ""), base_of(request)
    act = {
        "keep": actions.keep_draft,
        "continue": actions.continue_draft,
        "remove": actions.remove_draft,
        "lock": lambda shot, name, base: actions.lock_draft(shot, name, True, base),
        "unlock": lambda shot, name, base: actions.lock_draft(shot, name, False, base),
        "rename": lambda shot, name, base: actions.rename_draft(
            shot, name, request.POST.get("new", ""), base
        ),
    }.get(verb)
    if act is None:
        raise Problem("There is no such verb for a draft.")
    act(shot, name, base)
    return HttpResponse(status=302, headers={"Location": shot.url("match")})


@require_GET
def beside(request, show, shot):
    """Another draft laid beside: its overlay, and its figures against those on screen."""
    shot, name = find(show, shot), request.GET.get("name", "")
    other = leaves.state_of_draft(shot, name)
    fit = fit_of(other)
    drawn = draw(
        camera_of(fit, document_of(other)) if fit and fit["ok"] else None,
        fit or {},
        other["marks"],
        shot.show.length_unit,
        residuals=False,
    )
    html = render(
        request,
        "match/_beside.html",
        {
            "rows": leaves.compared(shot, other),
            "name": name,
            "current": shot.state.get("draft", "First"),
        },
    )
    return JsonResponse({"overlay": drawn, "marks": other["marks"], "html": html.content.decode()})


@require_GET
def revisions(request, show, shot):
    """Every revision, the newest first."""
    shot = find(show, shot)
    listed = history.listed(shot)
    return render(
        request, "match/_revisions.html", {"revisions": listed, "shot": shot, "show": shot.show}
    )
