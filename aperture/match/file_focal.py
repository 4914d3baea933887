"""The focal length that the picture's file tells, against the one that the marks tell."""

import math
from dataclasses import dataclass
from typing import Any

# How well a camera writes down its focal length: common practice, no source.
FILE_SHARE = 0.02
CONFLICT_SIGMAS = 3.0
FULL_FRAME_DIAGONAL_MM = 43.27


@dataclass(frozen=True)
class FileFocal:
    """`sigmas`: how far the two differ, by the ± of both; the file's value and its ± in mm."""

    says: str
    sigmas: float
    focal_mm: float
    plus_minus_mm: float


def compare(fit: dict[str, Any], focal_mm: float | None) -> FileFocal | None:
    """The file's focal length against a fit that solved its own; None where they agree.

    `fit`: as match-document.md has it, of a document with a gate.
    """
    if not fit.get("ok") or not focal_mm or fit["determined"]["focal"] != "solved":
        return None
    solved, spread = fit["camera"]["focal_mm"], fit["plus_minus"]["focal_mm"]
    if solved is None or spread is None:
        return None
    plus_minus = FILE_SHARE * focal_mm
    sigmas = abs(solved - focal_mm) / math.hypot(spread, plus_minus)
    if sigmas < CONFLICT_SIGMAS:
        return None
    says = (
        f"The file says {focal_mm:g} mm, the marks say {solved:.2f} ± {spread:.2g} mm: {sigmas:.1f}"
        " σ apart. Either the gate isn't what this picture covers, or some marks mislead."
    )
    return FileFocal(says, sigmas, focal_mm, plus_minus)
