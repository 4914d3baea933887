"""The plate on the stand-ins that wear it: for the set view, and as files with textures."""

import io
import json
import zipfile
from functools import lru_cache

import numpy as np
from django.http import HttpResponse, JsonResponse
from django.views.decorators.http import require_GET

from aperture.errors import Problem
from aperture.formats import obj
from aperture.geometry.axes import from_y_up
from aperture.render import worn
from aperture.render.passes import first_met
from aperture.render.tracer import Look
from aperture.scene.frustum import from_json, to_json
from web.match.path_fits import camera_of_state
from web.plates.models import plate_of
from web.shows.views import find
from web.stage.stand_ins import extra, named, shapes, shown, stand_in_from


def _made(shot, camera, id_) -> worn.Worn:
    """How one of the shot's stand-ins wears the plate."""
    return _wear(json.dumps([to_json(camera), shapes(shown(shot.state))]), id_)


@lru_cache(40)
def _wear(text: str, id_: str) -> worn.Worn:
    """Kept in mind for as long as neither camera nor stand-ins change: `text` has both."""
    camera, items = json.loads(text)
    return worn.wear(
        from_json(camera),
        [stand_in_from(item) for item in items],
        next(index for index, item in enumerate(items) if item["id"] == id_),
    )


def shares(shot, camera, id_) -> dict:
    """Percentages of its surface, for the sheet."""
    seen, stretched, unseen = _made(shot, camera, id_).shares
    return {"seen": seen * 100, "stretched": stretched * 100, "unseen": unseen * 100}


def _wearing(shot) -> list[dict]:
    return [item for item in shown(shot.state) if extra(item, "material") == "plate"]


@require_GET
def for_set_view(request, show, shot):
    """For each stand-in that wears the plate: flat points, texture coordinates, and triangles by
    mark."""
    shot = find(show, shot)
    camera = camera_of_state(shot.state)
    if camera is None:
        return JsonResponse({})
    turn, size, out = from_y_up(shot.show.up_axis), (camera.grid.width, camera.grid.height), {}
    for item in _wearing(shot):
        made = _made(shot, camera, item["id"])
        at = np.nan_to_num(np.stack([made.at[:, 0] / size[0], 1 - made.at[:, 1] / size[1]], -1))
        out[item["id"]] = {
            "points": np.round(made.points @ turn.T, 5).ravel().tolist(),
            "at": np.round(at, 6).ravel().tolist(),
            "faces": [
                made.triangles[made.mark == mark].ravel().tolist()
                for mark in (worn.SEEN, worn.STRETCHED, worn.UNSEEN)
            ],
        }
    return JsonResponse(out)


@require_GET
def textures(request, show, shot):
    """A ZIP with an OBJ, its MTL and a PNG for each stand-in that wears the plate."""
    shot = find(show, shot)
    camera, plate = camera_of_state(shot.state), plate_of(shot)
    if camera is None or plate is None:
        raise Problem(
            "Match the plate first: without a camera it can't be projected onto stand-ins."
        )
    everything = named(shot.state)
    wearing = {
        name: item for name, item in everything.items() if extra(item, "material") == "plate"
    }
    if not wearing:
        raise Problem(
            "No stand-in has the plate on it yet: choose “The plate on it” as a stand-in’s surface"
            " first."
        )
    met, numbers = (
        first_met(camera, [(stand_in_from(item), Look(name)) for name, item in everything.items()]),
        list(everything),
    )
    pixels, out = np.load(plate.folder / "pixels.npy", mmap_mode="r"), io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as files:
        for name, item in wearing.items():
            made = _made(shot, camera, item["id"])
            picture, at = worn.texture(made, pixels, met == numbers.index(name))
            for ending, data in obj.textured(
                _plain(name),
                made.points,
                at,
                made.triangles,
                picture,
                shot.show.length_unit,
                shot.show.up_axis,
            ).items():
                files.writestr(f"{_plain(name)}.{ending}", data)
    return HttpResponse(
        out.getvalue(),
        content_type="application/zip",
        headers={"Content-Disposition": f'attachment; filename="{shot.code}_textures.zip"'},
    )


def _plain(name: str) -> str:
    return (
        "".join(letter if letter.isalnum() or letter in "-_" else "_" for letter in name)
        or "stand-in"
    )
