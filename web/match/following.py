"""The long work on a filmed plate's camera: following points, and solving the path."""

import json
import tempfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from django.conf import settings

from aperture.errors import Problem
from aperture.path.solve import solve
from aperture.plates.film import Film as Filmed
from aperture.track.by_hand import ByHand
from aperture.track.film import follow_film, follow_placed
from aperture.track.follow import Settings
from aperture.track.tracks import PLACED, Tracks
from web.blobs.folders import write
from web.match import by_hand
from web.match.path_fits import as_part, evidence_digest, film_document, path_fit
from web.match.tracking import as_part as tracks_part
from web.match.tracking import change_tracks, tracks_of
from web.plates.frames import is_pair, number_of, span_of, way_of
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
    wish = Settings(wanted, reach)
    if is_pair(shot.state):
        wish = replace(wish, pair=True, least_length=2)
    found, said = _followed(follow_film, shot, film, numbers, wish, progress)
    if not len(found):
        raise Problem(
            "No point could be followed: the pictures have no texture, or nothing in them stays."
            " Try a larger window, or other frames."
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


def follow_spots(shot: Shot, reach: int, progress: Progress) -> Shot:
    """Follow the spots of the picture that is worked on, forward and back; what is known of them
    goes along.

    A spot that was followed before is followed anew.
    """
    film = require_film(shot)
    numbers, shown = numbers_to_follow(shot, film), shot.state["film"]["shown"]
    spots = spots_to_follow(shot)
    wish = [ByHand(spot["id"], ((shown, *spot["at"]),), reach) for spot in spots]
    found, _ = _placed(shot, film, numbers, wish, progress)
    found = found.only(found.lengths() > 1)
    if not len(found):
        raise Problem(
            "None of the spots could be followed: put them on corners, away from the picture's"
            " border, or choose a larger window."
        )
    told = {
        spot["id"]: _told_of_spot(spot, shown) | {"reach": reach}
        for spot in spots
        if spot["id"] in found.ids
    }
    found = replace(found, about=told)

    def put(tracks: Tracks) -> Tracks:
        others = tracks.only(np.array([id_ not in told for id_ in tracks.ids], bool))
        return others.joined(found)

    return change_tracks(shot, f"Followed {len(found)} spots", put)


def follow_by_hand(shot: Shot, ids: list[str], progress: Progress) -> Shot:
    """Follow tracks from where they were placed by hand, and after them those that were changed
    meanwhile."""
    film = require_film(shot)
    numbers = numbers_to_follow(shot, film)
    stuck: set[str] = set()
    tried: set[str] = set()  # of which nothing more is to be expected
    while ids:
        tracks = tracks_of(shot.state)
        ids = [id_ for id_ in ids if id_ in tracks.ids]
        wish = [
            one
            for one in by_hand.wanted(tracks, ids)
            if any(numbers[0] <= key[0] <= numbers[-1] for key in one.keys)
        ]
        if not wish and tried:
            break  # the rest was placed outside the marked range, and waits for a longer one
        if not wish:
            raise Problem(
                "None of these tracks was placed on a frame of the marked range: mark a longer one."
            )
        found, apart = _placed(shot, film, numbers, wish, progress)
        shot = Shot.objects.with_head().get(pk=shot.pk)
        now = tracks_of(shot.state)
        same = {
            one.id for one in wish if one.id in now.ids and by_hand.wanted(now, [one.id]) == [one]
        }
        found = found.only(np.array([id_ in same for id_ in found.ids], bool))
        stuck |= {id_ for id_ in found.ids if (_own(found, id_) == PLACED).all()}
        if len(found):
            put = by_hand.followed(found, (numbers[0], numbers[-1]), apart)
            names = ", ".join(found.ids[:3])
            shot = change_tracks(
                shot, f"Followed {names}" + (" and others" if len(found) > 3 else ""), put
            )
        tried |= same
        changed = [one.id for one in wish if one.id not in same]
        ids = [
            id_
            for id_ in dict.fromkeys([*changed, *by_hand.stale(tracks_of(shot.state))])
            if id_ not in tried
        ]
    if stuck:
        raise Problem(
            f"{', '.join(sorted(stuck)[:3])} couldn’t be followed: there is nothing that stands"
            " out, or it changes from frame to frame. Choose a larger window, or set the point"
            " beside a pattern."
        )
    return shot


def _own(tracks: Tracks, id_: str) -> np.ndarray:
    """The states of a track's observations."""
    index = tracks.ids.index(id_)
    return tracks.state[tracks.starts[index] : tracks.starts[index + 1]]


def _placed(
    shot: Shot, film: Film, numbers: list[int], wish: list[ByHand], progress: Progress
) -> tuple[Tracks, dict[str, float]]:
    """Tracks followed both ways from where they were placed, and how far apart two ways were."""
    require_reachable(film)
    wish = [replace(one, pair=is_pair(shot.state)) for one in wish]
    found, said = _followed(follow_placed, shot, film, numbers, wish, progress, ways=2)
    return found, said["apart"]


def spots_to_follow(shot: Shot) -> list[dict]:
    """The spots in use on the picture that is worked on. Raises Problem where there are none."""
    spots = [m for m in shot.state["marks"] if m["kind"] == "spot" and not m.get("off")]
    if not spots:
        raise Problem("There is no spot on this frame to follow: place one with S.")
    return spots


def _told_of_spot(spot: dict, number: int) -> dict:
    """What a track knows of the spot that it began with; `picture`: where that is drawn."""
    kept = {key: spot[key] for key in ("name", "world", "world_plus_minus", "on") if key in spot}
    return kept | {"source": "placed", "picture": number}


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
        cross=found.cross,
    )


def _followed(
    function: Callable,
    shot: Shot,
    film: Film,
    numbers: list[int],
    wish: Settings | list[ByHand],
    progress: Progress,
    ways: int = 1,
) -> tuple[Tracks, dict]:
    """The tracks through some pictures, each taken `ways` times, and what is to be said of them."""
    with tempfile.TemporaryDirectory(dir=settings.FILE_UPLOAD_TEMP_DIR) as folder:
        count, file = Path(folder) / "count", Path(folder) / "tracks.npz"
        look = counted(count, ways * len(numbers), progress)
        areas = [
            (sorted(map(int, area["keys"])), [area["keys"][key] for key in _in_order(area)])
            for area in shot.state["keep_out"]
        ]
        way = way_of(shot.state)
        said = run_watched(look, function, film.folder, numbers, way, wish, areas, file, count)
        with np.load(file, allow_pickle=False) as packed:
            return Tracks.from_arrays({name: packed[name] for name in packed.files}), said


def _in_order(area: dict) -> list[str]:
    return sorted(area["keys"], key=int)


def solve_path(shot: Shot, progress: Progress) -> Shot:
    """Solve the path and make it the shot's. Raises Problem with the sentence where there is
    none."""
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
    """(number, kind) of pictures that following found to be a cut, twice the same, or unlike their
    neighbours."""
    path = film.folder / REMARKS
    if not path.exists():
        return []
    return [(int(number), kind) for number, kind in json.loads(path.read_text())["remarks"]]
