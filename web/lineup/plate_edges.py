"""The plate's own edges against the stand-ins': measured when the artist asks."""

import json
from functools import lru_cache

import numpy as np

from aperture.errors import Problem
from aperture.render import offsets, plate_edges
from aperture.scene.frustum import from_json, to_json
from web.lineup.actions import arrows_of
from web.match.path_fits import camera_of_state
from web.plates.models import Plate, plate_of, transfer_of, working_pixels
from web.stage.stand_ins import extra, shapes, shown, stand_in_from

EXPLAINS = 0.6  # a shift, scale and rotation are told where they leave no more than this share of what is off


def measured(shot) -> dict:
    """{"says", "arrows", "names"}: of the solids that are part of the plate, or of all where none is. Raises Problem without a camera or stand-ins."""
    camera, plate, items = camera_of_state(shot.state), plate_of(shot), shown(shot.state)
    if camera is None or not items:
        raise Problem(
            "The plate's edges are compared with the stand-ins', through a matched camera: match the plate and place one first."
        )
    # A plane stands for a surface, and ends anywhere on it: its borders are measured only where nothing else can be.
    solid = [index for index, item in enumerate(items) if item.get("kind") != "plane"]
    which = (
        [index for index in solid if extra(items[index], "part_of_plate")]
        or solid
        or list(range(len(items)))
    )
    names = [items[index]["name"] for index in which]
    return {"names": names} | _measured(
        plate.digest, transfer_of(shot.state), json.dumps([to_json(camera), shapes(items), which])
    )


@lru_cache(8)
def _measured(digest: str, transfer: str, text: str) -> dict:
    camera, items, which = json.loads(text)
    found, refused = plate_edges.measure(
        working_pixels(Plate.objects.get(digest=digest)),
        from_json(camera),
        [stand_in_from(item) for item in items],
        which,
        transfer,
    )
    none = f" At {refused} more the picture has no edge there." if refused else ""
    if found is None:
        return {
            "says": "Too few of the stand-ins' edges are seen as edges of the plate to say how far they are off."
            + none,
            "arrows": [],
        }
    says = [
        f"The plate's edges lie {found.median:.2f} px from the stand-ins' (median), 95 % within {found.most:.2f} px, at {len(found.at)} places.{none}"
    ]
    if np.percentile(np.abs(found.rest), 95) < EXPLAINS * found.most:
        says += offsets.in_words(found)
    return {"says": " ".join(says), "arrows": arrows_of(found)}
