"""Guides over the plate: extraction frames, thirds, the middle, and the areas where action and
titles are safe.

The areas: SMPTE ST 2046-1:2009, "Specifications for Safe Action and Safe Title Areas for
Television": 93 % and 90 % of the production aperture's width and height, centred (from memory).
"""

from dataclasses import dataclass

from aperture.errors import Problem
from aperture.gates.steps import fitting
from aperture.geometry.grid import Grid

ASPECTS = (1.33, 1.66, 1.78, 1.85, 2.0, 2.39, 2.4)
# What the short names stand for: 4:3, 5:3, 16:9 are the shapes themselves.
EXACT = {1.33: 4 / 3, 1.66: 5 / 3, 1.78: 16 / 9}
SAFE_ACTION, SAFE_TITLE = 0.93, 0.90


@dataclass(frozen=True)
class Box:
    """A rectangle in plate px; corners may lie between pixels."""

    left: float
    top: float
    width: float
    height: float

    def inset(self, share: float) -> "Box":
        """The centred rectangle of `share` of its width and height."""
        return Box(
            self.left + self.width * (1 - share) / 2,
            self.top + self.height * (1 - share) / 2,
            self.width * share,
            self.height * share,
        )


def whole(grid: Grid) -> Box:
    """All of a picture."""
    return Box(0.0, 0.0, float(grid.width), float(grid.height))


def frame(grid: Grid, aspect: float, squeeze: float = 1.0) -> Box:
    """The extraction frame of an aspect, as the picture is shown, in the middle of a grid: in whole
    pixels, as a delivery would be cut.

    1.33, 1.66 and 1.78 stand for 4:3, 5:3 and 16:9. Raises Problem where the aspect can't be.
    """
    try:
        width, height = fitting(EXACT.get(aspect, aspect), grid, squeeze)
    except Problem as problem:
        raise Problem(problem.sentence.capitalize()) from None
    return Box((grid.width - width) / 2, (grid.height - height) / 2, float(width), float(height))


def thirds(box: Box) -> list[tuple[float, float, float, float]]:
    """Four lines (x1, y1, x2, y2) that cut a box in three, each way."""
    right, bottom = box.left + box.width, box.top + box.height
    return [
        line
        for n in (1, 2)
        for line in (
            (box.left + box.width * n / 3, box.top, box.left + box.width * n / 3, bottom),
            (box.left, box.top + box.height * n / 3, right, box.top + box.height * n / 3),
        )
    ]
