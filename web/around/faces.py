"""Six files of a cube's faces brought in as one plate, a cube strip."""

import tempfile
from pathlib import Path

from django.conf import settings

from aperture.around.faces import write_strip
from aperture.around.views import CUBE, View
from aperture.errors import Problem
from aperture.fence import run_fenced
from web.around.cutting import view_of_file
from web.gates.actions import take_around
from web.plates.actions import bring_in, take_plate
from web.shows.models import Shot

ENDINGS = (".png", ".tif", ".tiff", ".jpg", ".jpeg")
MOST_BYTES = 400_000_000


def take_faces(shot: Shot, files, although: bool, base: int | None) -> Shot:
    """Make the files, each with its face's name as a word, the shot's plate. `although`: borders
    may not meet.

    Raises Problem where a face is missing, double, of another size, or doesn't meet its neighbour.
    """
    views = [View(name, *angles) for name, angles in CUBE.items()]
    named: dict[str, object] = {}
    for file in files:
        view = view_of_file(file.name, views)
        if view is None:
            raise Problem(
                f"“{file.name[:60]}” is of no face: its name has to have one of {', '.join(CUBE)}."
            )
        if view.name in named:
            raise Problem(f"There are two files of {view.name}.")
        if Path(file.name).suffix.lower() not in ENDINGS:
            raise Problem(f"“{file.name[:60]}” can’t be used here. Bring PNG, TIFF or JPEG.")
        if file.size > MOST_BYTES:
            raise Problem(f"“{file.name[:60]}” is larger than {MOST_BYTES / 1e6:.0f} MB.")
        named[view.name] = file
    with tempfile.TemporaryDirectory(dir=settings.FILE_UPLOAD_TEMP_DIR) as folder:
        paths = {}
        for name, file in named.items():
            paths[name] = Path(folder) / f"{name}{Path(file.name).suffix.lower()}"
            with open(paths[name], "wb") as out:
                for chunk in file.chunks():
                    out.write(chunk)
        strip = Path(folder) / "faces.png"
        bad = run_fenced(write_strip, paths, strip)
        if bad and not although:
            one, other, off = bad[0]
            raise Problem(
                f"“{one}” and “{other}” don’t meet: their common border differs by {off:.0f} code"
                " values. Is one turned, mirrored, or named as another? Tick the box to take them"
                " all the same."
            )
        shot = take_plate(shot, bring_in(strip, "six-faces.png"), base)
    return take_around(shot, shot.head.number, "cube strip")
