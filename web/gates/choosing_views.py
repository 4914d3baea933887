"""Choosing a sensor's mode and a lens: out of the catalogue, or out of the open lens database."""

from typing import Any

from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from aperture.errors import Problem
from aperture.lens import database as lens_database
from web.catalogue import lens_profiles
from web.catalogue.models import Body, CatalogueLens
from web.gates import actions
from web.gates.gate import chain_of, lens_of
from web.plates.models import metadata_of, plate_of
from web.shows.reading import base_of, whole
from web.shows.views import find


@require_POST
def take_mode(request, show, shot):
    """A sensor mode of the catalogue: `mode` is the body's number and the mode's index."""
    shot = find(show, shot)
    pk, index = (whole(part) for part in request.POST.get("mode", "").partition(":")[::2])
    camera = Body.objects.filter(pk=pk).first()
    if camera is None or index is None or index >= len(camera.data["modes"]):
        raise Problem("Choose a sensor mode from the list.")
    actions.take_mode(shot, camera.data, camera.data["modes"][index], base_of(request))
    return redirect(shot.url("gate"))


@require_POST
def take_lens(request, show, shot):
    """A lens of the catalogue."""
    shot = find(show, shot)
    lens = CatalogueLens.objects.filter(pk=whole(request.POST.get("lens"))).first()
    if lens is None:
        raise Problem("Choose a lens from the list.")
    actions.take_lens(shot, lens.data, base_of(request))
    return redirect(shot.url("gate"))


def _native_aspects(aspect):
    """A picture that isn't 3:2 or 4:3 was most likely cut from one that is."""
    if min(abs(aspect / native - 1) for native in (3 / 2, 4 / 3)) < 0.01:
        return [("", aspect)]
    return [("all of the sensor", aspect), ("cut from 3:2", 1.5), ("cut from 4:3", 4 / 3)]


def offered(request, shot, plate) -> dict:
    """The open lens database: what the plate's file names, and what was searched for."""
    text = request.GET.get("q", "").strip()[:120]
    out = {"text": text, "offer": None, "cameras": [], "lenses": [], "own": None, "own_lens": None}
    known_facts = metadata_of(shot.state, plate)
    if plate and not (shot.state["gate"] or {}).get("body"):
        maker, model = known_facts.get("maker"), known_facts.get("model")
        out["own"] = Body.objects.offered().filter(name__iexact=model).first() if model else None
        known = None if out["own"] else lens_database.camera_of_file(maker, model)
        out["offer"] = _sizes(known, plate) if known else None
    if (
        plate
        and shot.state["gate"]
        and known_facts.get("lens")
        and not shot.state["lens"].get("name")
    ):
        out["own_lens"] = (
            CatalogueLens.objects.offered().filter(name__iexact=known_facts["lens"]).first()
        )
    if text and plate:
        out["cameras"] = [_sizes(camera, plate) for camera in lens_database.search_cameras(text, 8)]
        out["lenses"] = lens_database.search_lenses(text, 12)
    return out


def _sizes(camera, plate):
    aspect = plate.width / plate.height
    choices = []
    for label, native in _native_aspects(max(aspect, 1 / aspect)):
        width, height, plus_minus = camera.sensor_mm(native)
        choices.append(
            {
                "label": label,
                "native": f"{native:.6f}",
                "says": f"{width:.2f} × {height:.2f} mm ± {plus_minus:.2f}",
            }
        )
    return {"camera": camera, "choices": choices}


@require_POST
def take_database_camera(request, show, shot):
    """A camera of the open lens database: an approximate sensor from its crop factor, and the
    window that the plate's shape leaves of it."""
    shot = find(show, shot)
    plate = plate_of(shot)
    camera = lens_database.camera_of_file(request.POST.get("maker"), request.POST.get("model"))
    if camera is None or plate is None:
        raise Problem("That camera isn't in the database any more.")
    native = float(request.POST.get("native") or 1.5)
    if not 1 <= native <= 3:
        raise Problem("The sensor's aspect must lie between 1 and 3.")
    width, height, plus_minus = camera.sensor_mm(native)
    name = f"{camera.model}, from crop factor {camera.crop_factor:g}, ± {plus_minus:.2f} mm"
    gate: dict[str, Any] = {
        "width_mm": round(width, 4),
        "height_mm": round(height, 4),
        "squeeze": 1.0,
        "origin": "catalogue",
        "name": name[:120],
        "steps": [],
        "plate_at": 0,
    }
    if plate.height > plate.width:
        gate = gate | {"steps": [{"id": "g1", "do": "turn", "quarters": 1}], "plate_at": 1}
    aspect = max(plate.width / plate.height, plate.height / plate.width)
    if abs(native / aspect - 1) > 1e-4:
        gate = gate | {
            "steps": [{"id": "g2", "do": "window", "aspect": round(aspect, 6)}, *gate["steps"]],
            "plate_at": gate["plate_at"] + 1,
        }
    actions.set_document(
        shot, gate, f"{camera.model}, approximate: {width:.2f} × {height:.2f} mm", base_of(request)
    )
    return redirect(shot.url("gate"))


@require_POST
def take_database_lens(request, show, shot):
    """A lens of the open lens database: its distortion as a start, at the shot's focal length and
    over the plate's gate."""
    shot = find(show, shot)
    found, chain = lens_of(shot.state, plate_of(shot)), chain_of(shot.state)
    if found is None or chain is None:
        raise Problem(
            "A lens's distortion depends on its focal length and on the gate: give both first."
        )
    key = request.POST.get("key", "")
    lens = lens_database.lens_by_key(key)
    if lens.projection is None:
        raise Problem("This lens has a projection that isn’t known here: type its figures instead.")
    low, high = lens.focal_mm
    focal = min(max(found.lens.focal_mm, low), high)
    converted = lens_profiles.converted(key, focal, chain.shown_gate(chain.plate))
    error = converted.largest_error_mm / chain.plate_grid.mm_per_px[0] if converted else 0
    coefficients = (
        {name: round(value, 8) for name, value in zip(("k1", "k2", "k3"), converted.coefficients)}
        if converted
        else {}
    )
    says = f", largest error {error:.2f} px" if converted else ""
    actions.take_profile(
        shot,
        f"{lens.model} at {focal:g} mm{says}"[:150],
        lens.projection,
        coefficients,
        base_of(request),
    )
    return redirect(shot.url("gate"))
