"""The long work on a filmed plate's camera: following points, and solving the path."""

import json
import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
from django.conf import settings

from aperture.errors import Problem
from aperture.path.solve import solve
from aperture.plates.film import Film as Filmed
from aperture.track.film import follow_film
from aperture.track.follow import Settings
from aperture.track.tracks import Tracks
from web.blobs.folders import write
from web.match.path_fits import as_part, evidence_digest, film_document, path_fit
from web.match.tracking import as_part as tracks_part
from web.match.tracking import tracks_of
from web.plates.frames import number_of, span_of, way_of
from web.plates.models import Film, require_film
from web.plates.referred import require_reachable
from web.plates.watched import counted, run_watched
from web.shows.history import edit
from web.shows.models import Shot

FOLLOW, SOLVE = "follow", "path"  # kinds of jobs
# What following found about the pictures themselves, kept with the film.
REMARKS = "followed.json"
FEWEST_WANTED, MOST_WANTED = 20, 5000
# Half the side of a window, px.
REACHES = (7, 10, 15, 20)
Progress = Callable[..., None]


def numbers_to_follow(shot: Shot, film: Film) -> list[int]:
    """The pictures of the marked range. Raises Problem where there are fewer than two."""
    first, last = (number_of(shot.state, frame) for frame in span_of(shot.state))
    numbers = [n for n in Filmed.read(film.folder).numbers if first <= n <= last]
    if len(numbers) < 2:
        raise Problem("Points are followed over two frames or more: mark a longer range.")
    return numbers


def follow(shot: Shot, wanted: int, reach: int, progress: Progress) -> Shot:
    """Follow corners through the marked range; tracks that were placed by hand or imported stay."""
    film = require_film(shot)
    numbers = numbers_to_follow(shot, film)
    require_reachable(film)
    found, said = _followed(shot, film, numbers, Settings(wanted, reach), [], progress)
    if not len(found):
        raise Problem(
            "No point could be followed: the pictures have no texture, or nothing in them stays. Try a "
            "larger window, or other frames."
        )
    before = tracks_of(shot.state)
    kept = before.only(
        np.array([before.about.get(id_, {}).get("source") in KEPT for id_ in before.ids], bool)
    )
    tracks = kept.joined(_named_apart(found, kept))
    part = tracks_part(tracks)

    def put(state):
        if not state["film"] or state["film"]["digest"] != film.digest:
            raise Problem("The plate has been replaced meanwhile.")
        state["tracks"] = part

    told = json.dumps(said)
    write(film.folder / REMARKS, lambda path: path.write_text(told))
    return edit(shot, f"Followed {len(found)} points", put)


KEPT = ("placed", "imported")


def _named_apart(found: Tracks, kept: Tracks) -> Tracks:
    """The found tracks under ids that no kept one has."""
    taken = set(kept.ids)
    ids, number = [], 0
    for _ in found.ids:
        number += 1
        while f"t{number}" in taken:
            number += 1
        ids.append(f"t{number}")
    return Tracks.build(
        ids,
        found.track,
        found.frame,
        found.xy,
        found.sigma,
        found.correlation,
        found.state,
    )


def _followed(
    shot: Shot,
    film: Film,
    numbers: list[int],
    wish: Settings,
    places: list[tuple[int, float, float]],
    progress: Progress,
) -> tuple[Tracks, dict]:
    """The tracks through some pictures, and what is to be said of the pictures."""
    with tempfile.TemporaryDirectory(dir=settings.FILE_UPLOAD_TEMP_DIR) as folder:
        count, file = Path(folder) / "count", Path(folder) / "tracks.npz"
        look = counted(count, len(numbers), progress)
        areas = [
            (sorted(map(int, area["keys"])), [area["keys"][key] for key in _in_order(area)])
            for area in shot.state["keep_out"]
        ]
        said = run_watched(
            look,
            follow_film,
            film.folder,
            numbers,
            way_of(shot.state),
            wish,
            areas,
            places,
            file,
            count,
        )
        with np.load(file, allow_pickle=False) as packed:
            return Tracks.from_arrays({name: packed[name] for name in packed.files}), said


def _in_order(area: dict) -> list[str]:
    return sorted(area["keys"], key=int)


def solve_path(shot: Shot, progress: Progress) -> Shot:
    """Solve the path and make it the shot's. Raises Problem with the sentence where there is none."""
    document = film_document(shot.state)
    if document is None:
        raise Problem("A path needs a filmed plate.")
    if not document["tracks"]:
        raise Problem("Nothing has been followed yet: follow points first.")
    of, shift = evidence_digest(shot.state), shot.state["shift"]
    fit = solve(
        document, path_fit(shot.state), lambda stage, share: progress(share, stage)
    ).document
    if not fit["ok"]:
        raise Problem(fit["problem"])
    part = as_part(fit, of, shift)

    def put(state):
        state["path"] = part

    return edit(shot, "Solved the path", put)


def said_of_pictures(film: Film) -> list[tuple[int, str]]:
    """(number, kind) of pictures that following found to be a cut, twice the same, or unlike their neighbours."""
    path = film.folder / REMARKS
    if not path.exists():
        return []
    return [(int(number), kind) for number, kind in json.loads(path.read_text())["remarks"]]
