"""What is said about the fit of a path, in sentences."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import cv2
import numpy as np

from aperture.arrays import Array

if TYPE_CHECKING:
    from aperture.path.report import Told


# A frame that fewer tracks hold is named.
FEW_TRACKS = 12
# The σ of an arm, over the distance of what is seen, above which it is said.
SMALL_ARM = 3e-4
# Shares of tracks that weren't used, above which it is said.
MANY_LEFT_OUT = 0.05
# A share of the picture, at the median of frames, that one thing alone may fill.
SMALL_SHARE = 0.25
# A factor of the tracks' σ that is worth saying.
WORSE_THAN_SAID = 1.2
# How far a frame may lie from between its neighbours, over its ±.
A_JUMP = 12.0


def remarks(told: Told, jerks: Array, clustered: bool) -> list[dict[str, Any]]:
    """Return what is said of a fit: {"kind", "says"} each, and the facts or frames that it is
    about.

    Parameters
    ----------
    told : Told
    jerks : ndarray, shape (F,)
        Of each frame of the evidence, how far its place is from between its neighbours’, over its
        ±; NaN at the ends.
    clustered : bool
        Whether the ± are those that the tracks' residuals give.
    """
    found = (
        *_about_the_motion(told),
        *_about_where_they_are(told),
        *_about_the_plus_minus(told, clustered),
        *_about_what_is_left_out(told),
        *_about_frames(told, jerks),
    )
    return list(found)


def _about_the_motion(told: Told) -> Iterator[dict[str, Any]]:
    """What kind of path it is, and what it might be instead."""
    network = told.network
    if told.kind == "nodal":
        yield _remark(
            "only turns",
            "The camera only turns: its path explains no more than its turns do. Directions and"
            " lens are solved; distances can't be known from these frames.",
        )
    if told.off_pivot > SMALL_ARM:
        yield _remark(
            "off the pivot",
            "What is left lies along a parallax, too little for a path: the lens may stand off its"
            f" pivot, by ± {told.off_pivot:.2%} of the distance of what it sees. Lens and ± allow"
            " for it.",
        )
    if told.reversible:
        yield _remark(
            "reversible",
            "With near and far reversed, and all ways the other way, a path explains the tracks"
            " about as well. The ± of the lens covers both; places are those of the better one."
            " The focal length, or a distance between a near and a far track, would tell.",
        )
    if told.untold_shutter and network.readout is not None:
        rate = told.evidence.rate
        time = network.readout.frames / (float(rate) / 1000 if rate else 1.0)
        unit, order = "ms" if rate else "frames", "after" if time > 0 else "before"
        yield _remark(
            "rolling shutter",
            f"The rows seem to be read one after the other, the last {abs(time):.3g} {unit}"
            f" {order} the first: then the camera only turns. Were they read all at once, it would"
            " need a path, which nothing else speaks for. Type the readout time if it is known.",
        )


def _about_where_they_are(told: Told) -> Iterator[dict[str, Any]]:
    """Tracks that may all lie on one thing that moves: from them alone nobody can tell its way from
    the camera's."""
    network, grid = told.network, told.sightings.grid
    shares = []
    for frame in network.frames:
        seen = told.sightings.xy[frame, network.tracks[network.use[frame, network.tracks]]]
        around = cv2.convexHull(seen.astype(np.float32)) if len(seen) > 2 else seen[:0]
        area = cv2.contourArea(around) if len(around) > 2 else 0.0
        shares.append(area / (grid.width * grid.height))
    share = float(np.median(shares))
    if share < SMALL_SHARE:
        yield _remark(
            "small part",
            f"The tracks fill no more than {max(share, 0.01):.0%} of the picture. If all of them"
            " are on one thing that moves by itself, this is its way, and not the camera’s: follow"
            " points on what stands still, and draw a keep-out area around that thing.",
        )


def _about_the_plus_minus(told: Told, clustered: bool) -> Iterator[dict[str, Any]]:
    if told.network.factor > WORSE_THAN_SAID:
        yield _remark(
            "worse than said",
            f"The tracks are {told.network.factor:.1f} times less exact than their own ± say, as"
            " in compressed film. All ± here are widened accordingly.",
        )
    if clustered:
        yield _remark(
            "correlated",
            "Errors hang together along the tracks: the ± are those that the tracks' own "
            "residuals give, which are larger than those of independent errors.",
        )


def _about_what_is_left_out(told: Told) -> Iterator[dict[str, Any]]:
    """Tracks and facts that the path doesn't use."""
    network, evidence = told.network, told.evidence
    lost = 1 - network.use.sum() / max(told.sightings.seen.sum(), 1)
    if lost > MANY_LEFT_OUT:
        yield _remark(
            "left out",
            f"{lost:.0%} of what was followed isn't used: it doesn't fit points that stand"
            " still, or its rays hardly differ.",
        )
    facts = network.facts
    used = {equation.id for equation in facts.equations} | {one.equation.id for one in facts.aside}
    unused = [fact["id"] for fact in evidence.facts if fact["id"] not in used]
    if unused:
        names = ", ".join(f"“{evidence.names.get(id_, id_)}”" for id_ in unused)
        yield _remark(
            "not used",
            f"Not used: {names}. It is about points or frames that the path doesn't hold:"
            " follow the points over several frames.",
            of=unused,
        )


def _about_frames(told: Told, jerks: Array) -> Iterator[dict[str, Any]]:
    """Frames that few tracks hold, and those at which the path jumps."""
    network, frames = told.network, told.evidence.frames
    counts = network.use.sum(axis=1)[network.frames]
    few = frames[network.frames][counts < FEW_TRACKS].tolist()
    if few:
        says = f"{_frames(few)} by fewer than {FEW_TRACKS} tracks."
        yield _remark("few tracks", says, frames=few)
    sudden = frames[np.nan_to_num(jerks) > A_JUMP].tolist()
    if sudden:
        says = f"The path jumps at {_names(sudden)}: look whether the picture does too."
        yield _remark("jerk", says, frames=sudden)


def _frames(frames: list[int]) -> str:
    held = "Frame {} is held" if len(frames) == 1 else "Frames {} are held"
    return held.format(_names(frames))


def _names(frames: list[int]) -> str:
    """Some frame numbers in words: the first few, and how many more."""
    shown = ", ".join(str(frame) for frame in frames[:4])
    return shown if len(frames) <= 4 else f"{shown} and {len(frames) - 4} more"


def _remark(kind: str, says: str, **more: Any) -> dict[str, Any]:
    return {"kind": kind, "says": says, **more}
