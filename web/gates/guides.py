"""The guides that the Gate page sends: masks of an aspect, and lines that help composing."""

from typing import Annotated

import msgspec

from aperture.gates.typed import parse_aspect
from web.shows.reading import Edit, Text

MOST = 12


class Mask(msgspec.Struct, frozen=True):
    """A frame of an aspect; what lies outside is covered in `colour`."""

    aspect: Text | float
    colour: Annotated[str, msgspec.Meta(pattern="^#[0-9a-fA-F]{6}$")] = "#000000"
    opacity: Annotated[float, msgspec.Meta(ge=0, le=1)] = 0.6


class Guides(Edit, frozen=True, kw_only=True):
    """All guides of a shot."""

    frames: Annotated[tuple[Mask, ...], msgspec.Meta(max_length=MOST)] = ()
    centre: bool = False
    thirds: bool = False
    areas: bool = False


def guides_from(wanted: Guides) -> dict:
    """The guides as the shot's state keeps them. Raises Problem where an aspect can't be read."""
    frames = [
        {
            "aspect": parse_aspect(str(mask.aspect)),
            "opacity": mask.opacity,
            "colour": mask.colour,
        }
        for mask in wanted.frames
    ]
    lines = {"centre": wanted.centre, "thirds": wanted.thirds, "areas": wanted.areas}
    return {"frames": frames, **lines}
