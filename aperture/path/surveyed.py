"""Few tracks, and tracks whose places are known: how many a path needs, and a path of which the
survey poses every frame."""

from __future__ import annotations

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.path.growing import LEAST_KNOWN, Growing
from aperture.path.imaging import Optics
from aperture.path.several import several
from aperture.path.sightings import Sightings
from aperture.path.survey import Survey
from aperture.path.turning import lens_of
from aperture.path.wanted import (
    FEWEST_TRACKS,
    LADDER,
    Wanted,
    Watch,
    focals,
    prior_for,
    simple_lens,
    zooms_of,
)

# The share of frames that must see so many surveyed tracks that these pose them by themselves; and
# the median residual above which the survey is not of these tracks, px.
ENOUGH_FRAMES, MOST_SURVEY_PX = 0.5, 5.0
# The way of the cameras, as a share of how far points are, below which it may be the survey's
# errors.
LEAST_WAY = 0.03
# How far the survey may be off the frames that are posed by it to begin with, with a lens that is
# only tried: where few points are seen, none of them may be dropped for the lens's sake.
POSING_PX = (8.0, 60.0)


def followed(sightings: Sightings, which: Array | None = None) -> int:
    """How many tracks are seen on two frames or more; of some (T,), if they are told."""
    often = sightings.seen.sum(axis=0) >= 2
    return int(np.count_nonzero(often if which is None else often & which))


def are_enough(sightings: Sightings, survey: Survey) -> bool:
    """Whether there are as many tracks, or surveyed ones, as a path needs."""
    known = followed(sightings, survey.known)
    return followed(sightings) >= FEWEST_TRACKS or known >= LEAST_KNOWN


def require_tracks(sightings: Sightings, wanted: Wanted) -> None:
    """Raises Problem where there are too few tracks for a path, with the number that is needed."""
    count = followed(sightings)
    if count >= FEWEST_TRACKS:
        return
    known = 0 if wanted.survey is None else followed(sightings, wanted.survey.known)
    if known >= LEAST_KNOWN:
        raise Problem(
            f"The {known} tracks whose places are known agree on no camera. Look for a place that"
            f" is wrong, or follow {FEWEST_TRACKS} tracks or more."
        )
    tracks = "track is" if count == 1 else "tracks are"
    raise Problem(
        f"Only {count} {tracks} seen on two frames or more, and a path needs at least"
        f" {FEWEST_TRACKS}, better fifty, or {LEAST_KNOWN} whose places are known. Follow more"
        " points, or lower what a corner needs."
    )


def from_survey(
    sightings: Sightings, optics: Optics, wanted: Wanted, watch: Watch, threads: int
) -> Growing | None:
    """A path of which every frame is posed by surveyed tracks that it sees, where enough of them
    do; else None.

    No first reconstruction is needed, no parallax, and a camera that only turns has a place.
    """
    survey = wanted.survey
    if survey is None:
        return None
    known = survey.known
    sees = (sightings.seen & known).sum(axis=1)
    if np.count_nonzero(sees >= LEAST_KNOWN) < ENOUGH_FRAMES * len(sees):
        return None
    if np.linalg.matrix_rank(survey.places[known] - survey.places[known].mean(axis=0), 1e-2) < 2:
        return None
    starts: list[tuple[Array, Array | None]] = [
        (lens_of(optics, focal), None) for focal in focals(optics, wanted, LADDER)
    ]
    if wanted.zooms:
        starts = [
            (lens_of(optics, focal), zoom) for focal, zoom in zooms_of(sightings, optics, wanted)
        ]
    some = np.unique(np.linspace(0, len(sees) - 1, 12).astype(int))

    def begun(start: tuple[Array, Array | None]) -> tuple[float, Growing]:
        lens, zoom = start
        focal = float(np.exp(lens[0]))
        prior = prior_for(sightings, optics, wanted, focal, zoom)
        simple = simple_lens(wanted)
        path = Growing(
            sightings, optics, simple, lens.copy(), prior, zooms=wanted.zooms, survey=survey
        )
        for limit in POSING_PX:
            posed = [frame for frame in some if path.resect(int(frame), most_px=limit)]
            if 2 * len(posed) >= len(some):
                break
        if len(posed) < 2:
            return np.inf, path
        residuals = path.adjust(rounds=2, most=20)
        px = residuals * sightings.sigma.mean(axis=2)
        return float(np.nanmedian(px)), path

    def told(number: int) -> None:
        watch("Posing frames by the survey", 0.05 + 0.4 * number / len(starts))

    tried = several(begun, starts, threads, told)
    off, path = min(tried, key=lambda one: one[0])
    return path if off < MOST_SURVEY_PX else None


def goes_far(path: Growing) -> bool:
    """Whether a path's cameras stand so far apart that a survey tells them from a lens that turns
    near its pivot."""
    places = path.positions[path.posed]
    way = np.linalg.norm(places - np.median(places, axis=0), axis=1).max()
    away = np.linalg.norm(path.points[path.placed] - places.mean(axis=0), axis=1)
    return bool(way > LEAST_WAY * np.median(away))
