"""Straight segments found in a picture, grouped into those that likely run across, up and along.

A first fit that needs no drawing. Segments by OpenCV's line segment detector (Grompone von Gioi et
al. 2010, cited from memory); the grouping, and how far the lens that follows from it can be
trusted, by `room`. The marks made from them get a σ that is as large as that trust is small: the
fit's ± is then true, though the segments themselves are sharp.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match.document import empty
from aperture.match.facts import AXES
from aperture.match.refine import refine_edge
from aperture.match.room import LEAST_SEGMENTS, NEAR_PX, find_room, misses
from aperture.match.solve import solve

SIDE_PX = 1800  # the longer side at which segments are looked for
LEAST_SHARE = 0.022  # of the diagonal: shorter segments point anywhere
MOST_SEGMENTS = 420
SEGMENT_SIGMA_PX = 0.7  # of a segment's ends, where the picture refines it no further
LEAST_SIGMA_PX = 0.15
WIDEST_SIGMA_PX = 60.0
# A refined segment that moves further has taken another edge nearby.
FURTHEST_PX = 2.0
# Of edges that give no lens even among themselves.
DOUBTFUL_SIGMA_PX = 5.0
# Standard deviation of the focal length's logarithm up to which the segments are good, or usable.
GOOD, USABLE = 0.08, 0.25
# Segments of a direction that are needed for it to be confirmed.
CONFIRMED = 3
# Of a direction with fewer long segments, shorter ones are taken too.
FEW = 4


@dataclass(frozen=True)
class Proposal:
    """A segment (2, 2) px of the full picture; `axis` as in a match document, None where it fits no
    direction; `off` px from its direction."""

    points: Array
    axis: str | None
    off: float

    @property
    def length(self) -> float:
        """px."""
        return float(np.linalg.norm(self.points[1] - self.points[0]))


@dataclass(frozen=True)
class Proposals:
    """The segments, and what the groups alone say of the lens.

    focal_share : focal length over the picture's width; None where no room was found.
    focal_spread : standard deviation of its logarithm, with the doubt whether the things in the
        picture are at right angles and the segments belong to their direction.
    """

    segments: tuple[Proposal, ...]
    focal_share: float | None
    focal_spread: float = math.inf

    @property
    def trust(self) -> str:
        """How far the lens that follows can be trusted: "good", "rough" or "none"."""
        if self.focal_share is None or self.focal_spread > USABLE:
            return "none"
        return "good" if self.focal_spread < GOOD and self.directions == len(AXES) else "rough"

    @property
    def directions(self) -> int:
        """Of how many directions enough segments were found to confirm them."""
        return sum(
            sum(segment.axis == axis for segment in self.segments) >= CONFIRMED for axis in AXES
        )

    def says(self, focal: str) -> str:
        """For the artist, before taking them; `focal`: the lens with its ±, in words."""
        if self.trust == "none":
            return (
                "These segments don't tell the lens: the things they belong to may not be at right "
                "angles, or lie in different directions. Take single ones, or draw edges."
            )
        if self.trust == "good":
            return f"The three directions agree: {focal}."
        return (
            f"{focal[:1].upper()}{focal[1:]}, roughly. Draw a long edge of each direction, or give"
            " the lens."
        )


def propose(
    pixels: Array, grid: Grid | None = None, lens: Lens | None = None, principal_px: Any = None
) -> Proposals:
    """Look for segments in a picture (H, W, 3) uint8. `principal_px` (2,): where the lens's axis
    meets it, its middle where left out.

    A `lens` that bends straightens the segments first (with `grid`, the picture's); its focal
    length is not used. A squeezing lens needs both too. Raises Problem where there are too few
    segments to group.
    """
    small, scale = _small(pixels)
    found = _segments(small)
    if len(found) < LEAST_SEGMENTS:
        raise Problem(
            "Too few straight edges stand out in this picture to group them: draw them by hand."
        )
    full = found / scale
    height, width = pixels.shape[:2]
    principal = (
        np.array([width / 2, height / 2])
        if principal_px is None
        else np.asarray(principal_px, float)
    )
    straight = (
        _straightened(full, grid, lens, principal) * scale
    )  # around the axis, in px of the small picture
    keep = np.isfinite(straight).all(axis=(1, 2))
    full, straight = full[keep], straight[keep]
    room = find_room(straight, float(np.hypot(*small.shape)))
    if room is None:
        return Proposals(tuple(Proposal(points, None, np.nan) for points in full), None)
    off = misses(straight, room.directions, room.focal)
    best = np.argmin(off, axis=1)
    names = _names(room.directions)
    segments = [
        Proposal(points, names[axis] if miss < NEAR_PX else None, float(miss / scale))
        for points, axis, miss in zip(full, best, off[np.arange(len(off)), best])
    ]
    segments.sort(key=lambda segment: -segment.length)
    share = float(room.focal / scale / width)
    return Proposals(tuple(segments), share, math.inf if room.spread is None else room.spread)


def choose(segments: tuple[Proposal, ...], most: int = 14) -> list[Proposal]:
    """Of each direction the longest, spread over the picture: those worth taking together."""
    out = []
    # Short ones point anywhere: leaves and cars make them too. But a direction that runs away from
    # the camera has only short ones.
    longest = max((one.length for one in segments if one.axis), default=0.0)
    for axis in AXES:
        every = [one for one in segments if one.axis == axis]
        own = [one for one in every if one.length > 0.25 * longest]
        if len(own) < FEW:
            nearest = max((one.length for one in every), default=0.0)
            own = [one for one in every if one.length > 0.5 * nearest]
        taken: list[Proposal] = []
        for one in sorted(own, key=lambda one: -one.length):
            middle = one.points.mean(axis=0)
            normal = (
                np.array([-(one.points[1] - one.points[0])[1], (one.points[1] - one.points[0])[0]])
                / one.length
            )
            # A second segment of one and the same edge says little that is new.
            if all(
                abs((other.points.mean(axis=0) - middle) @ normal) > 0.012 * (abs(middle).max() + 1)
                or np.linalg.norm(other.points.mean(axis=0) - middle) > one.length + other.length
                for other in taken
            ):
                taken.append(one)
            if len(taken) >= most:
                break
        out += taken
    return out


def marks_of(
    pixels: Array, chosen: list[Proposal], transfer: str = "srgb", lossy: bool = False
) -> list[dict[str, Any]]:
    """Edges of a match document, without ids: the chosen segments, refined where that is possible.

    `pixels` (H, W, 3), `transfer` and `lossy` as `refine.refine_edge` takes them.
    """
    out = []
    for segment in chosen:
        points, sigma = np.round(segment.points, 2), SEGMENT_SIGMA_PX
        try:
            refined = refine_edge(pixels, points, transfer, lossy)
            if refined.moved < FURTHEST_PX and len(refined.points) == 2:
                points, sigma = np.round(refined.points, 3), refined.sigma_px
        except Problem:
            pass  # the segment as it was found
        sigma = round(max(sigma, LEAST_SIGMA_PX), 3)
        mark = {"kind": "edge", "axis": segment.axis, "points": points.tolist(), "sigma_px": sigma}
        out.append(mark)
    return out


def agreeing(document: dict[str, Any], marks: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Of marks made from proposals, those that don't contradict a document's evidence or each
    other.

    The furthest off go first. The program made them, so it may leave them; what the artist drew
    stays and is spoken of.
    """
    kept, fit = [mark | {"id": f"proposal{index}"} for index, mark in enumerate(marks)], None
    for _ in range(len(marks)):
        whole = document | {"marks": [*document["marks"], *kept]}
        fit = solve(whole, warm=fit, explain=False).document
        blamed = {id_ for conflict in fit.get("conflicts", ()) for id_ in conflict["of"]}
        own = [mark for mark in kept if mark["id"] in blamed]
        if not own:
            break
        worst = max(own, key=lambda mark: fit["residuals"]["mark_sigmas"][mark["id"]])
        kept = [mark for mark in kept if mark is not worst]
    return [{key: value for key, value in mark.items() if key != "id"} for mark in kept]


def believed(
    proposals: Proposals, document: dict[str, Any], marks: list[dict[str, Any]]
) -> list[dict[str, Any]]:
    """Marks made from proposals, with a σ as large as the proposals are doubtful.

    Their common factor is such that they alone, with the document's lens, give the focal length
    the ± that `Proposals.focal_spread` says.
    """
    image = document["image"]
    alone = empty(image["width"], image["height"])
    alone |= {key: document[key] for key in ("gate", "lens") if key in document}
    alone["lens"] = alone["lens"] | {"focal_mm": None}
    alone["marks"] = [mark | {"id": f"proposal{index}"} for index, mark in enumerate(marks)]
    fit = solve(alone, explain=False).document
    if not fit["ok"] or proposals.focal_share is None:
        return [mark | {"sigma_px": max(mark["sigma_px"], DOUBTFUL_SIGMA_PX)} for mark in marks]
    focal, plus_minus = (fit[part]["focal_px"][1] for part in ("camera", "plus_minus"))
    found = math.log(focal / (proposals.focal_share * image["width"]))
    own = plus_minus / focal / math.sqrt(max(fit.get("variance_factor", 1.0), 1.0))
    factor = max(1.0, math.hypot(proposals.focal_spread, found) / max(own, 1e-9))
    return [
        mark | {"sigma_px": round(min(mark["sigma_px"] * factor, WIDEST_SIGMA_PX), 3)}
        for mark in marks
    ]


def _small(pixels: Array) -> tuple[Array, float]:
    import cv2

    height, width = pixels.shape[:2]
    scale = min(1.0, SIDE_PX / max(height, width))
    step = max(1, int(1 / scale / 2))  # a coarse decimation first: a large picture isn't read whole
    view = np.asarray(pixels[::step, ::step]) if step > 1 else np.asarray(pixels)
    grey = cv2.cvtColor(np.ascontiguousarray(view), cv2.COLOR_RGB2GRAY)
    size = (max(1, round(width * scale)), max(1, round(height * scale)))
    return (
        grey
        if (grey.shape[1], grey.shape[0]) == size
        else cv2.resize(grey, size, interpolation=cv2.INTER_AREA)
    ), scale


def _segments(grey: Array) -> Array:
    """(N, 2, 2) px of the small picture, the longest first."""
    import cv2

    lines = cv2.createLineSegmentDetector(cv2.LSD_REFINE_STD).detect(grey)[0]
    if lines is None:
        return np.zeros((0, 2, 2))
    ends = (
        lines.reshape(-1, 2, 2).astype(float) + 0.5
    )  # OpenCV counts from the first pixel's centre
    length = np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)
    order = np.argsort(-length)
    return ends[order][length[order] > LEAST_SHARE * np.hypot(*grey.shape)][:MOST_SEGMENTS]


def _straightened(full: Array, grid: Any, lens: Any, principal: Array) -> Array:
    """(N, 2, 2) px from the axis, as a straight lens without squeeze would have drawn them, y
    down."""
    if grid is None or lens is None:
        return full - principal
    rays = lens.rays(grid.to_mm(full.reshape(-1, 2)))
    with np.errstate(all="ignore"):
        flat = np.stack([rays[:, 0] / -rays[:, 2], -rays[:, 1] / -rays[:, 2]], -1)
    flat[rays[:, 2] > -0.05] = np.nan
    return (flat * lens.focal_mm / grid.mm_per_px[1]).reshape(-1, 2, 2)


def _names(directions: Array) -> list[str]:
    """Which of three directions is up, across and along: up runs most upright in the picture, along
    most away from the camera."""
    upright = int(np.argmax(np.abs(directions[:, 1]) - 0.3 * np.abs(directions[:, 2])))
    others = [index for index in range(3) if index != upright]
    along = max(others, key=lambda index: abs(directions[index, 2]))
    names = ["across"] * 3
    names[upright], names[along] = "up", "along"
    return names
