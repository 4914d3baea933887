"""Bring a render back, check it, put it right and measure it."""

import shutil
from pathlib import Path

import numpy as np
from django.conf import settings
from django.db import transaction

from aperture.errors import Problem
from aperture.render import offsets, returned
from web.elements.actions import source_digest
from web.lineup.models import Returned
from web.match.fits import camera_of_state
from web.stage.stand_ins import extra, named, stand_in_from
from web.ui.folders import incoming, settle

ARROWS = 160  # at most so many are drawn


def expected_alpha(shot) -> np.ndarray:
    """(H, W) the alpha that a render of the shot should have: of its newest render where that is current, or made now. Raises Problem."""
    from PIL import Image

    from aperture.render.passes import Wanted, render
    from aperture.render.tracer import Look

    digest = source_digest(shot.state)
    newest = next((one for one in shot.renders.filter(digest=digest)[:20] if one.whole), None)
    if newest is not None:
        with Image.open(newest.folder / "alpha.png") as picture:
            return np.asarray(picture, np.float32) / 255
    camera = camera_of_state(shot.state)
    if camera is None:
        raise Problem("There is no camera to compare with yet: match the plate and place the origin first.")
    scene = [(stand_in_from(item), Look(name, part_of_plate=extra(item, "part_of_plate"))) for name, item in named(shot.state).items()]
    if all(look.part_of_plate for _, look in scene):
        raise Problem("There is nothing to compare a render with: place the stand-ins that it shows on the Set step.")
    return render(camera, scene, Wanted(samples=4)).rgba[..., 3]


def bring_back(shot, path: Path, name: str) -> Returned:
    """A render from a file: checked, put right, measured. Raises Problem where nothing can be made of it."""
    expected = expected_alpha(shot)
    found, findings = returned.put_right(returned.read(path), expected)
    alpha = found.rgba[..., 3]
    with incoming(settings.DATA / "returned") as folder:
        shutil.copyfile(path, folder / f"original{Path(name).suffix.lower()}")
        returned.write_shown(folder, found.rgba)
        with transaction.atomic():
            row = Returned.objects.create(shot=shot, name=name[:255], digest=source_digest(shot.state), offsets=_measured(alpha, expected),
                                          findings=[[finding.says, finding.mended] for finding in findings], alpha_says=returned.alpha_report(alpha))
            settle(folder, row.folder)
    return row


def _measured(alpha, expected) -> dict:
    found = offsets.measure(alpha, expected)
    if found is None:
        return {}
    some = np.unique(np.linspace(0, len(found.at) - 1, ARROWS).astype(int))
    arrows = np.round(np.concatenate([found.at[some], found.normal[some] * found.off[some, None]], axis=1), 3)
    return {"median": found.median, "most": found.most, "points": len(found.at), "says": offsets.in_words(found), "arrows": arrows.tolist()}
