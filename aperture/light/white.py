"""White balance: which light a picture was balanced for, what a patch or the whole picture says,
and adaptation.

A colour's *correlated temperature* is that of the black body nearest to it in the CIE 1960 u, v
diagram, its *tint* the distance from there, ×1000 of Δuv, positive toward green. In mired (a
million over the kelvins) equal steps look alike. Computed by colour-science (Ohno 2013); adaptation
by Bradford's cone responses, as CIE 1931 colours from BT.709's primaries.

References
----------
Y. Ohno, "Practical use and calculation of CCT and Duv", LEUKOS 10 (2014).
ICC.1:2010 annex E, for Bradford's matrix (as in colour-science).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.light.metering import CLIPPED, CRUSHED

# Below and above, a colour has no meaningful temperature.
LEAST_K, MOST_K, MOST_DUV = 1000.0, 40_000.0, 0.05
D65_XY = (0.3127, 0.3290)


@dataclass(frozen=True)
class White:
    """The colour of a light: `kelvin`, and `tint` in 1000 Δuv from the black body, positive to
    green."""

    kelvin: float
    tint: float = 0.0

    def __post_init__(self) -> None:
        if not LEAST_K <= self.kelvin <= MOST_K:
            raise Problem(f"A white lies between {LEAST_K:g} and {MOST_K:g} K.")
        if not abs(self.tint) <= 1000 * MOST_DUV:
            raise Problem(f"A tint lies between −{1000 * MOST_DUV:g} and {1000 * MOST_DUV:g}.")

    @property
    def mired(self) -> float:
        """A million over the kelvins."""
        return 1e6 / self.kelvin

    @property
    def xy(self) -> Array:
        """(2,) CIE 1931 chromaticity."""
        colour = colour_science()
        uv = colour.temperature.CCT_to_uv_Ohno2013([self.kelvin, self.tint / 1000])
        return np.asarray(colour.UCS_uv_to_xy(uv), float)


def white_of(linear: Any) -> White:
    """Return the white that a linear BT.709 colour (3,) is. Raises Problem where it is none."""
    colour = colour_science()
    rgb = np.asarray(linear, float)
    if rgb.shape != (3,) or not np.isfinite(rgb).all() or (rgb <= 0).any():
        raise Problem("A white has some light in each of its three channels.")
    xyz = _to_xyz() @ rgb
    uv = colour.UCS_to_uv(colour.XYZ_to_UCS(xyz))
    kelvin, duv = (float(value) for value in colour.temperature.uv_to_CCT_Ohno2013(uv))
    if not (LEAST_K <= kelvin <= MOST_K and abs(duv) <= MOST_DUV):
        raise Problem(
            "That colour is no white: it is too far from the light of a glowing body. Pick a "
            "surface that is grey or white in life."
        )
    return White(kelvin, 1000 * duv)


def grey_world(linear: Array, ceiling: float = CLIPPED) -> Array:
    """Return the mean colour (3,) of what is neither clipped nor black, of a linear picture (H, W,
    3).

    From `ceiling` on a pixel is clipped.

    The grey-world assumption: over many things the mean reflectance is grey (G. Buchsbaum, "A
    spatial processor model for object colour perception", 1980). Raises Problem where nothing is
    left.
    """
    pixels = np.asarray(linear, np.float32)[..., :3].reshape(-1, 3)
    used = (pixels.max(axis=1) < ceiling) & (pixels.min(axis=1) > CRUSHED)
    if not used.any():
        raise Problem("The whole picture is clipped or black: it has no mean colour.")
    return pixels[used].mean(axis=0, dtype=float)


def adaptation(source: White, target: White) -> Array:
    """Return the matrix (3, 3) for linear BT.709 colours that makes one white look like another."""
    colour = colour_science()
    before, after = (colour.xy_to_XYZ(white.xy) for white in (source, target))
    cat = colour.adaptation.matrix_chromatic_adaptation_VonKries(before, after, "Bradford")
    return np.linalg.inv(_to_xyz()) @ cat @ _to_xyz()


def adapted(linear: Array, matrix: Array) -> Array:
    """A linear picture (..., 3) through a matrix of `adaptation`, float32."""
    return np.asarray(linear, np.float32) @ matrix.T.astype(np.float32)


def neutralised(linear: Any, target: White | None = None) -> Array:
    """Return the matrix that makes a linear colour (3,) as neutral as the show's white.

    `target` : D65 if not given, BT.709's own white.
    """
    return adaptation(white_of(linear), target or D65)


@cache
def _to_xyz() -> Array:
    """(3, 3) CIE XYZ of linear BT.709 colours."""
    return np.asarray(colour_science().RGB_COLOURSPACES["ITU-R BT.709"].matrix_RGB_to_XYZ, float)


def colour_science() -> Any:
    """The package, which takes a second to import, and changes how NumPy prints unless it is kept
    from it."""
    with np.printoptions():
        import colour
    return colour


# The daylight of BT.709's white, D65: 6504 K, 3.2 toward green of the black body (from memory; the
# tests compare it with D65_XY).
D65 = White(6504.0, 3.2)
