"""A look: all of a picture's character in one record, in the order in which light meets it.

Scene → front element (dirt) → lens (fringes, fall-off, veil, streaks, bloom) → sensor or film
(scratches, grain) → response → grade → lookup table. Stray bright pixels of a render are taken away
first, before they glow.
"""

from __future__ import annotations

import math
from dataclasses import asdict, dataclass, fields
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.light.character import glass, grade, sensor

FORMAT, VERSION = "aperture-look", 1


@dataclass(frozen=True)
class Look:
    """Every figure of a look; the usual ones change nothing.

    Lengths are shares of the picture's width, but for `fringe_red`, `fringe_blue` and `grain_px`:
    px of a picture that is 1920 px wide, so that a look is alike at every size.
    """

    cos4: bool = False
    fall_off: tuple[float, float, float] = (0.0, 0.0, 0.0)
    bloom: float = 0.0
    bloom_size: float = 0.02
    threshold: float = 1.0
    streaks: float = 0.0
    streak_count: int = 6
    streak_turn: float = 30.0
    streak_length: float = 0.15
    veil: float = 0.0
    dirt: float = 0.0
    scratches: float = 0.0
    scratch_count: int = 4
    fringe_red: float = 0.0
    fringe_blue: float = 0.0
    grain: float = 0.0
    grain_px: float = 0.6
    seed: int = 1
    stray: float = 0.0
    response: str = "straight"
    points: tuple[tuple[float, float], ...] = ()
    stops: float = 0.0
    gamma: float = 1.0
    saturation: float = 1.0
    compression: float = 0.0
    vertical: float = 0.0
    perspective: bool = False

    def __post_init__(self) -> None:
        for name, (least, most, says) in RANGES.items():
            value = getattr(self, name)
            if not (math.isfinite(value) and least <= value <= most):
                raise Problem(f"{says} lies between {least:g} and {most:g}.", name)
        if self.stray and self.stray <= 1:
            raise Problem(
                "The threshold of stray pixels is above 1, or 0 to leave them in.", "stray"
            )
        if self.response not in (*grade.RESPONSES, "own"):
            raise Problem("There is no such response.", "response")
        if not np.isfinite(self.fall_off).all() or np.abs(self.fall_off).max() > 10:
            raise Problem("A fall-off's coefficients lie between −10 and 10.", "fall_off")

    @property
    def plain(self) -> bool:
        """Whether it changes nothing in the picture's pixels; the perspective is another matter."""
        own, usual = asdict(self), asdict(Look())
        idle = {
            "bloom_size",
            "threshold",
            "streak_count",
            "streak_turn",
            "streak_length",
            "seed",
            "scratch_count",
            "grain_px",
            "points",
            "perspective",
            "compression",
            "vertical",
        }
        if self.response == "own":
            idle.discard("points")
        return all(own[name] == usual[name] for name in own if name not in idle)

    @property
    def names(self) -> list[str]:
        """What of it is on, in words: for the burn-in and the page."""
        on = {
            "fall-off": self.cos4 or any(self.fall_off),
            "bloom": self.bloom,
            "streaks": self.streaks,
            "veil": self.veil,
            "dirt": self.dirt,
            "scratches": self.scratches,
            "fringes": self.fringe_red or self.fringe_blue,
            "grain": self.grain,
            "stray pixels removed": self.stray,
            "response": self.response != "straight",
            "grade": self.stops or self.gamma != 1 or self.saturation != 1,
            "perspective": self.perspective,
        }
        return [name for name, is_on in on.items() if is_on]

    def to_json(self) -> dict[str, Any]:
        """As plain values, with the name of the format."""
        own = asdict(self)
        own["fall_off"] = list(self.fall_off)
        own["points"] = [list(point) for point in self.points]
        return {"format": FORMAT, "version": VERSION} | own

    @classmethod
    def from_json(cls, kept: Any) -> Look:
        """The way back; what is missing is as usual. Raises Problem where a figure can't be."""
        if not isinstance(kept, dict) or kept.get("format", FORMAT) != FORMAT:
            raise Problem("That file isn't a look of this application.")
        if kept.get("version", VERSION) != VERSION:
            raise Problem("That look was written by another version of this application.")
        values: dict[str, Any] = {}
        for own in fields(cls):
            if own.name not in kept:
                continue
            try:
                values[own.name] = _typed(own.name, kept[own.name])
            except (TypeError, ValueError):
                raise Problem(f"The look's “{own.name}” can't be read.", own.name) from None
        return cls(**values)


def _typed(name: str, value: Any) -> Any:
    if name == "points":
        return tuple((float(a), float(b)) for a, b in value)
    if name == "fall_off":
        k1, k2, k3 = value
        return float(k1), float(k2), float(k3)
    if name in ("cos4", "perspective"):
        return bool(value)
    if name == "response":
        return str(value)
    if name in ("streak_count", "scratch_count", "seed"):
        return int(value)
    return float(value)


RANGES = {
    "bloom": (0.0, 1.0, "Bloom"),
    "bloom_size": (0.0005, 0.5, "The bloom's size"),
    "threshold": (0.0, 100.0, "The threshold of what is bright"),
    "streaks": (0.0, 1.0, "Streaks"),
    "streak_count": (1, 32, "The number of streaks"),
    "streak_turn": (-360.0, 360.0, "The streaks' turn"),
    "streak_length": (0.002, 0.5, "The streaks' length"),
    "veil": (0.0, 1.0, "The veil"),
    "dirt": (0.0, 1.0, "Dirt"),
    "scratches": (0.0, 1.0, "Scratches"),
    "scratch_count": (0, 60, "The number of scratches"),
    "fringe_red": (-50.0, 50.0, "The red fringe"),
    "fringe_blue": (-50.0, 50.0, "The blue fringe"),
    "grain": (0.0, 2.0, "Grain"),
    "grain_px": (0.0, 20.0, "The grain's size"),
    "seed": (0, 1_000_000, "The seed"),
    "stray": (0.0, 1000.0, "The threshold of stray pixels"),
    "stops": (-10.0, 10.0, "Exposure"),
    "gamma": (0.1, 10.0, "Gamma"),
    "saturation": (0.0, 4.0, "Saturation"),
    "compression": (0.0, 8.0, "The perspective's compression"),
    "vertical": (0.0, 1.0, "The vertical correction"),
}
REFERENCE_PX = 1920


def apply(linear: Array, look: Look, tan_corner: float, frame: int = 0, table: Any = None) -> Array:
    """Return a picture with a look.

    Parameters
    ----------
    linear : ndarray, shape (H, W, 3)
        Linear light.
    look : Look
    tan_corner : float
        Tangent of half the diagonal angle of view, for the natural fall-off.
    frame : int
        Grain and scratches are others on every frame.
    table : object, optional
        A lookup table of `grade.read_cube`, applied last.

    Returns
    -------
    ndarray, shape (H, W, 3), float32
    """
    out = np.ascontiguousarray(linear[..., :3], np.float32)
    height, width = out.shape[:2]
    scale = width / REFERENCE_PX
    if look.stray:
        out = sensor.without_stray(out, look.stray)
    if look.dirt:
        out = out * glass.dirt(height, width, look.dirt, look.seed)[..., None]
    if look.fringe_red or look.fringe_blue:
        out = glass.fringes(out, look.fringe_red * scale, look.fringe_blue * scale)
    if look.cos4 or any(look.fall_off):
        out = out * glass.fall_off(height, width, tan_corner, look.cos4, look.fall_off)[..., None]
    if look.veil:
        out = glass.veil(out, look.veil)
    if look.streaks:
        out = glass.streaks(
            out,
            look.streaks,
            look.threshold,
            look.streak_count,
            look.streak_turn,
            look.streak_length,
        )
    if look.bloom:
        out = glass.bloom(out, look.bloom, look.threshold, look.bloom_size)
    if look.scratches and look.scratch_count:
        marks = glass.scratches(height, width, look.scratches, look.scratch_count, look.seed, frame)
        out = out + marks[..., None]
    if look.grain:
        out = sensor.grained(out, look.grain, look.grain_px * scale, look.seed, frame)
    points = look.points if look.response == "own" else grade.RESPONSES[look.response]
    out = grade.response(out, points)
    out = grade.graded(out, look.stops, look.gamma, look.saturation)
    return grade.through_table(out, table) if table is not None else out
