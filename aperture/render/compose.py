"""Pictures laid over each other in linear light, and words burnt into them.

Porter, T. & Duff, T., "Compositing digital images", SIGGRAPH 1984: A over B is A + (1 − αA) B, for
colours multiplied by their alpha.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.plates.colour import encode_srgb

KINDS = {
    "over": "Render over the plate",
    "plate": "Plate alone",
    "render": "Render alone, over black",
    "difference": "Difference of the two",
}


def over(front: Array, back: Array) -> Array:
    """(H, W, 4) of two such, premultiplied, linear."""
    return front + (1 - front[..., 3:]) * back


def composite(kind: str, plate: Array, render: Array | None, shadow: Array | None = None) -> Array:
    """(H, W, 3) linear, one of KINDS, of a plate (H, W, 3), a premultiplied render (H, W, 4) and
    the share of light that it takes away (H, W). The plate alone needs no render."""
    if kind == "plate":
        return plate
    if render is None:
        raise ValueError(f"{kind} needs a render")
    if kind == "render":
        return render[..., :3]
    if shadow is not None:
        plate = plate * (1 - shadow[..., None])
    whole = over(render, np.concatenate([plate, np.ones_like(plate[..., :1])], axis=2))[..., :3]
    return np.abs(whole - plate) if kind == "difference" else whole


def write_png(
    path: Path, linear: Array, lines: Sequence[str] = (), font: Path | None = None
) -> None:
    """8-bit sRGB, with lines of words on a dark strip along its foot."""
    from PIL import Image

    picture = Image.fromarray(
        (encode_srgb(np.clip(linear, 0, 1)) * 255 + 0.5).astype(np.uint8), "RGB"
    )
    burn_in(picture, lines, font)
    picture.save(path, compress_level=4)


def burn_in(picture: Any, lines: Sequence[str], font: Path | None = None) -> None:
    """Draw lines of words on a dark strip along the foot of a PIL picture, in place."""
    from PIL import Image, ImageDraw, ImageFont

    if lines:
        size = max(11, round(picture.height / 54))
        face: Any = ImageFont.truetype(str(font), size) if font else ImageFont.load_default(size)
        if font:
            face.set_variation_by_axes([500])
        width = picture.width - size
        rows = [row for line in lines for row in _fitted(line, face, width)]
        height = round(1.45 * size * len(rows) + 0.8 * size)
        strip = Image.new("RGBA", (picture.width, height), (16, 20, 22, 190))
        draw = ImageDraw.Draw(strip)
        for number, row in enumerate(rows):
            draw.text(
                (size * 0.7, size * (0.35 + 1.45 * number)),
                row,
                font=face,
                fill=(245, 242, 234, 255),
            )
        picture.paste(strip, (0, picture.height - height), strip)


def _fitted(line: str, face: Any, width: int) -> list[str]:
    """The line in rows that fit."""
    rows = [""]
    for word in line.split(" "):
        longer = f"{rows[-1]} {word}".strip()
        if rows[-1] and face.getlength(longer) > width:
            rows.append(word)
        else:
            rows[-1] = longer
    return rows
