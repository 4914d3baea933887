"""What is asked of a path that is looked for, what is assumed of its lens meanwhile, and how well
something explains the tracks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.path.growing import LensPrior
from aperture.path.imaging import Optics
from aperture.path.sightings import Sightings, grown
from aperture.path.survey import Survey
from aperture.path.turning import lens_of

# Focal lengths that are tried, in widths of the gate.
LADDER = (0.5, 0.75, 1.1, 1.6, 2.4, 3.6)
TURNING_LADDER = (0.5, 0.8, 1.3, 2.1, 3.4)
# σ of k1 and the rest while a path is looked for, and of the ln of a focal length that isn't known.
DISTORTION_PRIOR = 0.15
FOCAL_PRIOR = 2.0
# The same of each frame's focal length of a zoom.
ZOOM_PRIOR = 1.0
# And of those between frames on which it is known.
BETWEEN_PRIOR = 0.15
# Tracks on one frame, below which nothing is solved.
FEWEST_TRACKS = 8


# Is told the stage in words, and the share that is done; what it raises ends the search.
Watch = Callable[[str, float], None]


def nobody(stage: str, share: float) -> None:
    """Watch nothing."""


@dataclass
class Wanted:
    """What is asked for.

    free_lens (8,) of bool: the PARAMETERS to solve for; focal_mm: the focal length where it is
    known, with its σ of the logarithm; motion: free, nodal or still; zooms: whether every frame has
    a focal length of its own; focal_on: frame, focal length and its ±, where that is known; survey:
    the known places of tracks; rolls: whether the shutter's readout is told, or solved for anyway.
    """

    free_lens: Array
    focal_mm: float | None = None
    focal_sigma: float = 0.0
    motion: str = "free"
    zooms: bool = False
    focal_on: tuple[tuple[int, float, float], ...] = ()
    survey: Survey | None = None
    rolls: bool = False


def zooms_of(sightings: Sightings, optics: Optics, wanted: Wanted) -> list[tuple[float, Array]]:
    """Of a zoom, what to begin with: a focal length in mm, and of each frame (F,) the ln of its own
    over that.

    The picture's growth is taken for the zoom's, or none of it: of a camera that walks ahead it is
    the walk. Known focal lengths give the level, or the whole course where there are several.
    """
    growth = grown(sightings)
    courses = [growth - np.median(growth), np.zeros(len(growth))]
    known = _known_focals(sightings, wanted)
    if known:
        index, value = np.array(list(known)), np.array([focal for focal, _ in known.values()])
        out = []
        for course in courses:
            off = np.interp(np.arange(len(course)), index, value - course[index])
            whole = course + off
            out.append((float(np.exp(np.median(whole))), whole - np.median(whole)))
        return out
    return [
        (focal, course) for focal in focals(optics, wanted, TURNING_LADDER) for course in courses
    ]


def prior_for(
    sightings: Sightings,
    optics: Optics,
    wanted: Wanted,
    focal_mm: float,
    zoom: Array | None = None,
) -> LensPrior:
    """Weak assumptions about the lens while a path is looked for; zoom (F,): of each frame, where
    it zooms."""
    values, sigma = lens_of(optics, focal_mm), np.full(8, np.inf)
    sigma[0] = wanted.focal_sigma if wanted.focal_mm else FOCAL_PRIOR
    sigma[0] = max(sigma[0], 1e-4)
    sigma[1:3] = 0.02 * max(optics.grid.gate_mm)
    sigma[3:] = DISTORTION_PRIOR
    if zoom is None:
        return LensPrior(values, sigma)
    known = _known_focals(sightings, wanted)
    each = np.full(len(zoom), ZOOM_PRIOR)
    if len(known) > 1:
        each[min(known) : max(known) + 1] = BETWEEN_PRIOR
    for index, (_, own) in known.items():
        each[index] = own
    return LensPrior(values, sigma, zoom, each)


def _known_focals(sightings: Sightings, wanted: Wanted) -> dict[int, tuple[float, float]]:
    """By the index of a frame its known ln focal length, and its σ."""
    first, count = int(sightings.frames[0]), len(sightings.frames)
    return {
        frame - first: (float(np.log(focal)), max(sigma / focal, 1e-4))
        for frame, focal, sigma in sorted(wanted.focal_on)
        if 0 <= frame - first < count
    }


def simple_lens(wanted: Wanted) -> Array:
    """Of what is free, what a small bundle can find: focal length and k1."""
    simple = np.zeros(8, bool)
    simple[0] = wanted.free_lens[0]
    simple[3] = wanted.free_lens[3]
    return simple


def focals(optics: Optics, wanted: Wanted, ladder: tuple[float, ...]) -> list[float]:
    """Focal lengths to try, mm: the known one, or a ladder of widths of the gate."""
    if wanted.focal_mm:
        return [wanted.focal_mm]
    width = optics.grid.gate_mm[0] * optics.lens.squeeze
    return [share * width for share in ladder]


def cost(residuals: Array, scale: float) -> float:
    """The sum of squares of residuals (…) in σ, over `scale`, each at most OUTLIER squared."""
    ratio = residuals[np.isfinite(residuals)] / scale
    return float(np.minimum(ratio**2, 25.0).sum())
