"""What looks wrong about a move that was brought in: its unit, its up axis, its rate, its length, a
camera upside down.

None of it is certain: a camera may fly at 160 m, and roll by a right angle. So it is asked, not
corrected.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from aperture.moves.source import BroughtIn, Settings
from aperture.units import METRES, format_rate

# Between these heights, metres, a camera on legs, a crane or a low boat is usual (common practice,
# no source).
LOW_M, HIGH_M, EYE_M = 0.05, 30.0, 1.6
# How much of the picture's up points up in the world, as a cosine: less than the first is odd, more
# than the second usual.
ODD_UP, USUAL_UP = 0.35, 0.8


@dataclass(frozen=True)
class Doubt:
    """A sentence, and the setting that would remove its reason, with its value; no setting where
    none would.
    """

    says: str
    setting: str = ""
    value: str = ""
    remedy: str = ""


def doubts(
    found: BroughtIn,
    settings: Settings,
    plate_rate: Fraction,
    plate_frames: tuple[int, int],
) -> list[Doubt]:
    """Return what to ask the artist about a move.

    Parameters
    ----------
    found : BroughtIn
    settings : Settings
        With which it was brought in.
    plate_rate : Fraction
        Frames per second.
    plate_frames : tuple of int
        First and last frame of the plate.
    """
    # A wrong up axis makes the height mean nothing: one question at a time.
    axis = _up_axis(found)
    return [
        *(axis or [*_unit(found), *_upside_down(found)]),
        *_rate(found, settings, plate_rate),
        *_length(found, settings, plate_frames),
    ]


def _unit(found: BroughtIn) -> list[Doubt]:
    height = float(np.median(found.move.positions[:, 1]))
    if LOW_M <= height <= HIGH_M or height <= 0:
        return []
    each = {unit: height / found.metres * metres for unit, metres in METRES.items()}
    likely = {unit: high for unit, high in each.items() if LOW_M <= high <= HIGH_M}
    says = f"The camera is {height:.4g} m above the floor, as the file’s unit is understood."
    if not likely:
        return [Doubt(says + " No usual unit makes that plausible: is its floor elsewhere?")]
    unit = min(likely, key=lambda one: abs(np.log(likely[one] / EYE_M)))
    return [
        Doubt(
            f"{says} If it counts in {unit}, the height is {likely[unit]:.3g} m.",
            "unit",
            unit,
            f"It counts in {unit}",
        )
    ]


def _up_axis(found: BroughtIn) -> list[Doubt]:
    up = found.move.rotations[:, :, 1]  # of the picture, in the world
    if np.median(up[:, 1]) > ODD_UP:
        return []
    # With the other axis up, what is now along or against Z would be up.
    other = "Y" if found.up_axis == "Z" else "Z"
    sign = 1 if found.up_axis == "Y" else -1
    if sign * np.median(up[:, 2]) < USUAL_UP:
        return []
    return [
        Doubt(
            f"The camera lies on its side in a world with {found.up_axis} up: with {other} up it "
            "would stand upright.",
            "up_axis",
            other,
            f"{other} is up in this file",
        )
    ]


def _upside_down(found: BroughtIn) -> list[Doubt]:
    if np.median(found.move.rotations[:, 1, 1]) > -USUAL_UP:
        return []
    return [
        Doubt(
            "The camera hangs upside down in this move. If the plate isn’t upside down, turn the "
            "picture on the Plate "
            "step by 180°, not the move."
        )
    ]


def _rate(found: BroughtIn, settings: Settings, plate_rate: Fraction) -> list[Doubt]:
    if found.rate is None or abs(found.rate / plate_rate - 1) < Fraction(1, 2000):
        return []
    theirs, ours = format_rate(found.rate), format_rate(plate_rate)
    says = f"The file counts {theirs} frames a second, and the plate {ours}."
    if settings.by == "frame":
        return [
            Doubt(
                f"{says} Each of its frames is one of the plate now, so that the move runs at "
                "another speed.",
                "by",
                "time",
                "Keep its speed",
            )
        ]
    return [
        Doubt(
            f"{says} It keeps its speed now, and lies between its own frames.",
            "by",
            "frame",
            "Take it frame for frame",
        )
    ]


def _length(found: BroughtIn, settings: Settings, plate_frames: tuple[int, int]) -> list[Doubt]:
    first, last = plate_frames
    begins, ends = int(found.move.frames[0]), int(found.move.frames[-1])
    count, wanted = ends - begins + 1, last - first + 1
    if count == 1 or (begins == first and ends == last):
        return []
    if settings.offset and begins >= first and ends <= last:
        # Somebody has placed it within the plate: is it the plate's whole camera?
        return [
            Doubt(
                f"The plate has frames before and after the move, {begins}–{ends}. If the camera "
                "rests there, it has the move’s ends.",
                "rests",
                "on",
                "It rests before and after",
            )
        ]
    says = f"The move has {count} frames, {begins}–{ends}; the plate has {wanted}, {first}–{last}."
    if begins > last or ends < first:
        says += " They have no frame in common."
    if begins == first:
        return [Doubt(says)]
    offset = str(first - begins)
    return [Doubt(says, "offset", offset, f"Begin it on frame {first}")]
