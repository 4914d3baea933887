"""The shape of blur: the lens opening as each place of the picture sees it.

A point out of focus is imaged as a picture of the lens opening. In the middle that is the iris: a
disc, or a polygon of blades with rounded sides. Toward the edges the barrel cuts it (the *cat's
eye*): it is what two discs have in common, the opening and the barrel's, which is shifted outward
along the radius. Spherical aberration sends more light to the blur's rim or to its middle, an
anamorphic lens stretches it upright, and an error of field draws it along the circle about the
middle (swirl).

The opening is described in its own unit square: 1 is the radius of the full opening, x right and y
up as seen in the picture.
"""

from __future__ import annotations

import math
from dataclasses import asdict, dataclass, fields, replace
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem

MOST_BLADES = 32
# Where the blur spot is drawn: of the frame's half width and half height.
NINE = tuple((x, y) for y in (1.0, 0.0, -1.0) for x in (-1.0, 0.0, 1.0))
LEAST_LIGHT = 1e-3  # of a picture of an aperture: its mean


@dataclass(frozen=True, eq=False)
class Pupil:
    """A lens opening.

    Parameters
    ----------
    blades : int
        Of the iris; 0 for a round one.
    turn_deg : float
        By how much the iris is turned, anticlockwise as seen in the picture.
    curvature : float
        Of the blades: 0 straight, 1 makes a circle.
    spherical : float
        −1 … 1: light toward the blur's middle (below 0) or rim (above 0, hollow).
    squeeze : float
        Of an anamorphic lens: the blur is that much taller than wide.
    cats_eye : float
        0 … 1: how much the barrel cuts at the corner; 1 leaves none of the opening there.
    onset : float
        0 … 1: how far from the middle the cut begins, of the half diagonal.
    swirl : float
        −1 … 1: by how much the blur at the corner is drawn along the circle about the middle.
    picture : ndarray, shape (n, n), optional
        How much light each place of the opening lets through, instead of blades; its first row is
        up.

    Raises
    ------
    Problem
        If a number is out of its range, or the picture lets no light through.
    """

    blades: int = 0
    turn_deg: float = 0.0
    curvature: float = 0.0
    spherical: float = 0.0
    squeeze: float = 1.0
    cats_eye: float = 0.0
    onset: float = 0.3
    swirl: float = 0.0
    picture: Array | None = None

    def __post_init__(self) -> None:
        if self.blades != 0 and not 3 <= self.blades <= MOST_BLADES:
            raise Problem(f"An iris has 3 to {MOST_BLADES} blades, or 0 for a round opening.")
        for name, (least, most, says) in RANGES.items():
            value = getattr(self, name)
            if not least <= value <= most:
                raise Problem(f"{says} lies between {least:g} and {most:g}.")
        if self.picture is not None:
            lets = np.asarray(self.picture, float)
            if lets.ndim != 2 or not np.isfinite(lets).all() or (lets < 0).any():
                raise Problem("A picture of an aperture is grey, and no darker than black.")
            if lets.mean() < LEAST_LIGHT * max(float(lets.max()), 1e-12) or lets.max() <= 0:
                raise Problem("That picture of an aperture lets no light through.")

    @property
    def plain(self) -> bool:
        """Whether it is an even, round disc all over the picture."""
        return not (
            self.blades or self.spherical or self.cats_eye or self.swirl or self.squeeze != 1
        ) and (self.picture is None)

    def to_json(self) -> dict[str, Any]:
        """Its numbers; not the picture."""
        return {
            name: value
            for name, value in asdict(replace(self, picture=None)).items()
            if name != "picture"
        }

    @classmethod
    def from_json(cls, kept: dict[str, Any], picture: Array | None = None) -> Pupil:
        """What was kept; what it doesn't say is as usual."""
        names = {field.name for field in fields(cls)} - {"picture"}
        return cls(**{name: kept[name] for name in names if name in kept}, picture=picture)

    def light(self, x: Any, y: Any, field: tuple[Any, Any] = (0.0, 0.0)) -> Array:
        """Return how much light goes through places of the opening.

        Parameters
        ----------
        x, y : ndarray
            Of the unit square, before squeeze and swirl.
        field : tuple
            Where in the picture the blur is, from its middle: 1 is the half diagonal; right and up.
            Arrays of the shape of `x` are allowed.

        Returns
        -------
        ndarray
            0 … 1 for an opening without spherical aberration; its mean isn't changed by that.
        """
        x, y = np.asarray(x, float), np.asarray(y, float)
        if self.picture is not None:
            out = self._of_picture(x, y)
        else:
            out = self._of_iris(x, y)
        if self.spherical:
            # Linear in r²: 1 on the mean over a disc, where r² is 1/2.
            out = out * (1 + self.spherical * (2 * (x * x + y * y) - 1)).clip(0)
        if self.cats_eye:
            out = out * self._inside_barrel(x, y, field)
        return out

    def _of_iris(self, x: Array, y: Array) -> Array:
        radius = np.hypot(x, y)
        if not self.blades:
            return (radius <= 1).astype(float)
        part = math.tau / self.blades
        turned = np.arctan2(y, x) - math.radians(self.turn_deg)
        around = (turned + part / 2) % part - part / 2  # from the middle of the nearest side
        side = math.cos(part / 2) / np.cos(around)
        # A curved blade lies between its chord and the circle.
        edge = side + self.curvature * (1 - side)
        return (radius <= edge).astype(float)

    def _of_picture(self, x: Array, y: Array) -> Array:
        lets = np.asarray(self.picture, float)
        high, wide = lets.shape
        column = np.clip(((x + 1) / 2 * wide).astype(int), 0, wide - 1)
        row = np.clip(((1 - y) / 2 * high).astype(int), 0, high - 1)
        inside = (np.abs(x) <= 1) & (np.abs(y) <= 1)
        return np.where(inside, lets[row, column] / lets.max(), 0.0)

    def _inside_barrel(self, x: Array, y: Array, field: tuple[Any, Any]) -> Array:
        across, up = (np.asarray(value, float) for value in field)
        radius = np.hypot(across, up)
        share = ((radius - self.onset) / max(1 - self.onset, 1e-6)).clip(0)
        # Two discs of radius 1 have nothing in common once they are 2 apart.
        shift = 2 * self.cats_eye * share / np.maximum(radius, 1e-9)
        return (np.hypot(x + shift * across, y + shift * up) <= 1).astype(float)

    def drawn(self, x: Array, y: Array, field: tuple[Any, Any]) -> tuple[Array, Array]:
        """Where places of the opening lie in the blur spot: stretched by squeeze, drawn along by
        swirl."""
        wide = 1 / self.squeeze
        x = x * wide
        if not self.swirl:
            return x, y
        across, up = (np.asarray(value, float) for value in field)
        radius = np.hypot(across, up)
        cos, sin = across / np.maximum(radius, 1e-9), up / np.maximum(radius, 1e-9)
        along = 1 + self.swirl * radius**2  # around the middle
        outward = 1 / along  # toward and from it: the spot's area stays
        radial, around = x * cos + y * sin, -x * sin + y * cos
        radial, around = radial * outward, around * along
        keep = radius > 1e-9
        return (
            np.where(keep, radial * cos - around * sin, x),
            np.where(keep, radial * sin + around * cos, y),
        )

    def spot(self, field: tuple[float, float] = (0.0, 0.0), size: int = 64, rays: int = 4) -> Array:
        """Return the blur spot at a place of the picture, as seen by a sensor behind the focus.

        Parameters
        ----------
        field : tuple of float
            As of `light`.
        size : int
            Of the picture, px; the spot of a round opening fills half of its width.
        rays : int
            Squared, rays per pixel.

        Returns
        -------
        ndarray, shape (size, size)
            Light, 1 for an even opening; its first row is up.
        """
        many = size * rays
        edge = (np.arange(many) + 0.5) / many * 2 - 1
        x, y = np.meshgrid(edge, -edge)
        light = self.light(x, y, field)
        there = light > 0
        at_x, at_y = self.drawn(x[there], y[there], field)
        span = ((-2, 2), (-2, 2))
        out, _, _ = np.histogram2d(-at_y, at_x, size, span, weights=light[there])
        # One pixel of the drawing holds the rays of (4 / size)² of the opening's square of 2 × 2.
        return out / (rays * 2) ** 2

    def samples(self, count: int, seed: int = 0) -> Array:
        """Return places (count, 2) of the opening, as dense as its light in the middle of the
        picture.

        Evenly spread (a Halton sequence over the square, turned into a disc area by area where the
        opening is round), the same ones for the same seed.
        """
        if self.picture is None and not self.blades and not self.spherical:
            u = _halton(count, 2, seed)
            radius, angle = np.sqrt(u[:, 0]), math.tau * u[:, 1]
            return radius[:, None] * np.stack([np.cos(angle), np.sin(angle)], -1)
        out: list[Array] = []
        had, at = 0, seed
        most = 2.0 if self.spherical else 1.0
        while had < count:
            u = _halton(4096, 3, at)
            at += 4096
            x, y = 2 * u[:, 0] - 1, 2 * u[:, 1] - 1
            kept = u[:, 2] * most < replace(self, cats_eye=0.0).light(x, y)
            out.append(np.stack([x[kept], y[kept]], -1))
            had += int(kept.sum())
        return np.concatenate(out)[:count]


# Least, most, and what a sentence calls it.
RANGES = {
    "curvature": (0.0, 1.0, "The blades' curvature"),
    "turn_deg": (-360.0, 360.0, "The turn of the iris"),
    "spherical": (-1.0, 1.0, "Spherical aberration"),
    "squeeze": (0.25, 4.0, "The blur's stretch"),
    "cats_eye": (0.0, 1.0, "The cat's eye"),
    "onset": (0.0, 0.95, "The cat's eye's onset"),
    "swirl": (-0.9, 2.0, "The swirl"),
}


def _halton(count: int, dimensions: int, start: int) -> Array:
    """(count, dimensions) evenly spread numbers 0 … 1 (J. H. Halton, 1960), from number `start`
    on."""
    out = np.empty((count, dimensions))
    for column, base in enumerate((2, 3, 5)[:dimensions]):
        index = np.arange(start + 1, start + count + 1)
        share, value = 1.0 / base, np.zeros(count)
        while index.any():
            value += share * (index % base)
            index //= base
            share /= base
        out[:, column] = value
    return out
