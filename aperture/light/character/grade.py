"""Response, exposure, gamma, saturation, and lookup tables as `.cube` files.

A response is a curve over the light: its points say to which stops from middle grey some stops from
middle grey are rendered, so that it works in linear light, and a straight line changes nothing.
Lookup tables are read and written by colour-science, in the format of Iridas/Adobe's *Cube LUT
Specification* 1.0 (2013); they are applied to encoded values, 0 … 1 by sRGB's curve.
"""

from __future__ import annotations

import contextlib
import io
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from scipy.interpolate import PchipInterpolator

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.light.metering import MIDDLE_GREY, luminance_of
from aperture.light.white import colour_science
from aperture.plates.colour import decode_srgb, encode_srgb

LEAST_STOPS, MOST_STOPS = -16.0, 16.0
# Stops in, stops out: a toe and a shoulder, drawn by hand (common practice, no source).
RESPONSES: dict[str, tuple[tuple[float, float], ...]] = {
    "straight": (),
    "soft": ((-8, -7.2), (-4, -3.8), (0, 0), (2, 1.75), (4, 2.4), (8, 2.6)),
    "film": (
        (-8, -6.2),
        (-5, -4.6),
        (-2, -2.2),
        (0, 0),
        (1.5, 1.4),
        (3, 2.15),
        (6, 2.55),
        (9, 2.6),
    ),
}
MOST_CUBE, MOST_LINE = 129, 65_536
MOST_BYTES = 64_000_000


def response(linear: Array, points: tuple[tuple[float, float], ...]) -> Array:
    """Return a picture through a response curve.

    Parameters
    ----------
    linear : ndarray, shape (H, W, 3)
    points : tuple of pairs
        Stops from middle grey before and after, rising in both; none changes nothing.

    Raises
    ------
    Problem
        If the points don't rise.
    """
    if not points:
        return linear
    before, after = np.array(sorted(points), float).T
    if len(before) < 2 or (np.diff(before) <= 0).any() or (np.diff(after) < 0).any():
        raise Problem("A response curve has two points at least, and rises from each to the next.")
    curve = PchipInterpolator(before, after, extrapolate=False)
    grid = np.linspace(LEAST_STOPS, MOST_STOPS, 1025)
    inside = np.clip(grid, before[0], before[-1])
    # Beyond its ends it goes on with a slope of 1 below, and flat above.
    values = curve(inside) + np.minimum(grid - before[0], 0)
    stops = np.log2(np.maximum(linear, 1e-9) / MIDDLE_GREY)
    out = MIDDLE_GREY * 2 ** np.interp(stops, grid, values)
    return np.where(linear > 0, out, linear).astype(np.float32)


def graded(linear: Array, stops: float = 0.0, gamma: float = 1.0, saturation: float = 1.0) -> Array:
    """A picture brighter by stops, with another gamma about middle grey, and more or less
    colour."""
    out = linear * np.float32(2**stops)
    if saturation != 1:
        grey = luminance_of(out)[..., None]
        out = grey + saturation * (out - grey)
    if gamma != 1:
        bright = np.maximum(out, 0) / MIDDLE_GREY
        out = np.where(out > 0, MIDDLE_GREY * bright ** (1 / gamma), out)
    return out.astype(np.float32)


def read_cube(data: bytes) -> Any:
    """Return a lookup table of colour-science: LUT1D, LUT3x1D or LUT3D.

    Raises Problem where the file isn't one, has another number of lines than it says, or numbers
    that aren't finite.
    """
    if len(data) > MOST_BYTES:
        raise Problem("A lookup table of more than 64 MB isn't taken.")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise Problem("A .cube file is text; this one isn't.") from None
    _checked(text)
    colour = colour_science()
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "table.cube"
        path.write_text(text)
        try:
            with contextlib.redirect_stdout(io.StringIO()):
                return colour.io.read_LUT_IridasCube(str(path))
        except Exception:
            raise Problem("That file isn't a lookup table of the .cube format.") from None


def _checked(text: str) -> None:
    """Raise Problem where size and lines of a .cube file don't agree, or a number isn't finite."""
    size, lines = None, 0
    for number, line in enumerate(text.splitlines(), 1):
        words = line.split("#")[0].split()
        if not words:
            continue
        if words[0] in ("LUT_1D_SIZE", "LUT_3D_SIZE"):
            if len(words) != 2 or not words[1].isdigit():
                raise Problem(f"Line {number} of the .cube file gives no size.")
            size = (words[0], int(words[1]))
        elif words[0] in ("TITLE", "DOMAIN_MIN", "DOMAIN_MAX"):
            continue
        else:
            try:
                values = [float(word) for word in words]
            except ValueError:
                raise Problem(f"Line {number} of the .cube file can't be read.") from None
            if len(values) != 3 or not np.isfinite(values).all():
                raise Problem(f"Line {number} of the .cube file isn't three finite numbers.")
            lines += 1
    if size is None:
        raise Problem("The .cube file doesn't say its size.")
    kind, count = size
    most = MOST_CUBE if kind == "LUT_3D_SIZE" else MOST_LINE
    if not 2 <= count <= most:
        raise Problem(f"The .cube file's size has to lie between 2 and {most}.")
    wanted = count**3 if kind == "LUT_3D_SIZE" else count
    if lines != wanted:
        raise Problem(f"The .cube file says {wanted} lines of numbers, and has {lines}.")


def write_cube(table: Any, path: Path) -> None:
    """Write a lookup table of colour-science as a .cube file."""
    colour_science().io.write_LUT_IridasCube(table, str(path), decimals=7)


def through_table(linear: Array, table: Any) -> Array:
    """A picture through a lookup table of encoded values, back in linear light."""
    encoded = encode_srgb(linear)
    low, high = (
        np.asarray(table.domain).reshape(2, -1)[[0, 1]] if table.domain.size <= 6 else (0, 1)
    )
    inside = np.clip(encoded, low, high)
    return decode_srgb(np.clip(table.apply(inside), 0, 1)).astype(np.float32)


def baked(transform: Any, size: int = 33) -> Any:
    """A 3D lookup table of a function of linear light (N, 3), between encoded values."""
    table = colour_science().LUT3D(size=size, name="Look")
    shape = table.table.shape
    linear = decode_srgb(table.table.reshape(1, -1, 3)).astype(np.float32)
    table.table = encode_srgb(transform(linear)).reshape(shape)
    return table
