"""Renders that come back from other programs: read with their alpha, checked against what is expected, and put right.

What is expected is the alpha of the same stand-ins through the same camera by the renderer that ships with the program.
"""

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from aperture.errors import Problem
from aperture.plates.colour import decode_srgb, encode_srgb

ENDINGS = ("png", "tif", "tiff", "exr")
MOST_PIXELS = 250_000_000
SMALL = 480  # px across at which pictures are compared as wholes
AGREES = 0.6  # share of the union of two alphas that they have in common, above which they show the same


@dataclass(frozen=True, eq=False)
class Returned:
    """rgba: (H, W, 4) float32, linear and premultiplied once put right; has_alpha, linear: what the file said."""

    rgba: np.ndarray
    has_alpha: bool
    linear: bool


@dataclass(frozen=True)
class Finding:
    """One thing about a render: what it is (a key), a sentence, and whether it was put right."""

    key: str
    says: str
    mended: bool


def read(path: Path) -> Returned:
    """A PNG, TIFF or OpenEXR with its alpha. Raises Problem."""
    import cv2

    ending = path.suffix.lower().lstrip(".")
    if ending not in ENDINGS:
        raise Problem("A render comes back as PNG, TIFF or EXR.", "file")
    if ending == "exr":
        return _read_exr(path)
    data = np.fromfile(path, np.uint8)
    pixels = cv2.imdecode(data, cv2.IMREAD_UNCHANGED) if len(data) else None
    if pixels is None:
        raise Problem("This picture can't be read: it is damaged, or of another kind than its name says.", "file")
    if pixels.shape[0] * pixels.shape[1] > MOST_PIXELS:
        raise Problem("This picture is too large to lay over a plate.", "file")
    pixels = pixels[..., None] if pixels.ndim == 2 else pixels
    linear = pixels.dtype.kind == "f"
    values = pixels.astype(np.float32) / (1 if linear else np.iinfo(pixels.dtype).max)
    alpha = values[..., 3:] if values.shape[2] == 4 else None
    colour = values[..., 2::-1] if values.shape[2] >= 3 else np.repeat(values[..., :1], 3, axis=2)
    if not linear:
        colour = decode_srgb(colour).astype(np.float32)
    return Returned(np.concatenate([colour, np.ones_like(colour[..., :1]) if alpha is None else alpha], axis=2), alpha is not None, linear)


def _read_exr(path):
    import OpenEXR

    try:
        with OpenEXR.File(str(path), separate_channels=True) as file:
            channels = {name: np.asarray(channel.pixels, np.float32) for name, channel in file.channels().items()}
            window, shown = file.header()["dataWindow"], file.header()["displayWindow"]
    except Exception as error:  # the library raises whatever it meets
        raise Problem("This EXR can't be read: it is damaged, or of another kind than its name says.", "file") from error
    if not {"R", "G", "B"} <= set(channels):
        raise Problem("This EXR has no R, G and B: " + ", ".join(sorted(channels)[:6]) + ".", "file")
    colour = np.stack([channels[name] for name in "RGB"], -1)
    alpha = channels["A"][..., None] if "A" in channels else np.ones_like(colour[..., :1])
    rgba = np.nan_to_num(np.concatenate([colour, alpha], axis=2), posinf=65504, neginf=0)
    (left, top), (right, bottom) = (np.array(corner) for corner in shown)
    offset = np.array(window[0]) - (left, top)
    size = (int(bottom - top) + 1, int(right - left) + 1)
    if offset.any() or rgba.shape[:2] != size:  # what lies outside the data window is empty
        if min(size) < 1 or size[0] * size[1] > MOST_PIXELS:
            raise Problem("The windows of this EXR make no picture.", "file")
        whole = np.zeros((*size, 4), np.float32)
        x, y = max(int(offset[0]), 0), max(int(offset[1]), 0)
        part = rgba[max(-int(offset[1]), 0):, max(-int(offset[0]), 0):][:max(size[0] - y, 0), :max(size[1] - x, 0)]
        whole[y:y + part.shape[0], x:x + part.shape[1]] = part
        rgba = whole
    return Returned(rgba, "A" in channels, True)


def put_right(found: Returned, expected) -> tuple[Returned, list[Finding]]:
    """The render at the plate's size, upright, premultiplied, with what was found; `expected`: (H, W) alpha.

    Raises Problem where its shape fits the plate in no way.
    """
    findings: list[Finding] = []
    rgba = _of_size(found.rgba, expected.shape, findings)
    alpha = rgba[..., 3]
    if not found.has_alpha or alpha.min() > 0.999:
        black = rgba[..., :3].max(axis=2) < 1e-4
        findings.append(Finding("alpha", "It has no alpha" + (": what is black was taken as empty, so that its edges are hard."
                                                              if black.any() else ", and covers all of the plate. Render it with alpha."), bool(black.any())))
        rgba = rgba * ~black[..., None]
        alpha = rgba[..., 3]
    elif _overlap(1 - alpha, expected) > max(AGREES, _overlap(alpha, expected) + 0.2):
        findings.append(Finding("alpha", "Its alpha is the wrong way round: it was inverted.", True))
        rgba = np.concatenate([rgba[..., :3], 1 - rgba[..., 3:]], axis=2)
        alpha = rgba[..., 3]
    rgba = _upright(rgba, expected, findings)
    alpha = rgba[..., 3:]
    straight = _is_straight(rgba)
    if straight and found.linear:  # PNG (ISO/IEC 15948, clause 6.2) has them so; OpenEXR has not
        findings.append(Finding("premultiplied", "Its colours aren't multiplied by its alpha: that was done.", True))
    elif straight is False and not found.linear:
        findings.append(Finding("premultiplied", "Its colours are multiplied by its alpha already, which files of this kind shouldn't be: "
                                "they were taken so.", True))
    if straight:
        rgba = np.concatenate([rgba[..., :3] * alpha, alpha], axis=2)
    return replace(found, rgba=rgba), findings


def _is_straight(rgba) -> bool | None:
    """Whether colours along the edges are as bright as the solid ones beside them, rather than fading with the alpha; None where nothing tells."""
    import cv2

    value, alpha = rgba[..., :3].max(axis=2), rgba[..., 3]
    solid = (alpha > 0.995).astype(np.float32)
    near = cv2.boxFilter(solid, -1, (7, 7), normalize=False)
    soft = (alpha > 0.05) & (alpha < 0.95) & (near > 0)
    if soft.any():
        beside = (cv2.boxFilter(value * solid, -1, (7, 7), normalize=False)[soft] / near[soft])
        straight, fading = (float(np.median(np.abs(value[soft] - share * beside))) for share in (1, alpha[soft]))
        return None if abs(straight - fading) < 1e-4 else straight < fading
    return True if ((alpha <= 0) & (value > 0.004)).mean() > 0.01 else None


def _of_size(rgba, shape, findings):
    import cv2

    (high, wide), (height, width) = rgba.shape[:2], shape
    if (high, wide) == (height, width):
        return rgba
    more, aspect = (wide - width, high - height), wide / high / (width / height)
    if min(more) >= 0 and max(more) > 0 and all(side % 2 == 0 for side in more) and max(more[0] / width, more[1] / height) <= 1 \
            and not (abs(aspect - 1) < 2e-3 and wide % width == 0):
        x, y = more[0] // 2, more[1] // 2
        findings.append(Finding("overscan", f"It has overscan, {x} px at each side and {y} px above and below: its middle was taken.", True))
        return rgba[y:y + height, x:x + width]
    if abs(aspect - 1) < 2e-3:
        findings.append(Finding("size", f"It has {wide} × {high} px, the plate {width} × {height}: it was resized.", True))
        return cv2.resize(rgba, (width, height), interpolation=cv2.INTER_AREA if wide > width else cv2.INTER_LINEAR)
    raise Problem(f"This render has {wide} × {high} px, {wide / high:.4g} to 1; the plate has {width} × {height}, {width / height:.4g} to 1. "
                  "Render it at the plate's size, or with the same overscan at opposite sides.", "file")


def _upright(rgba, expected, findings):
    ways = {"": rgba, "upside down": rgba[::-1], "mirrored left to right": rgba[:, ::-1], "turned by 180°": rgba[::-1, ::-1]}
    score = {name: _overlap(picture[..., 3], expected) for name, picture in ways.items()}
    best = max(score, key=lambda name: score[name])
    if best and score[best] > AGREES and score[best] > score[""] + 0.2:
        findings.append(Finding("upright", f"It is {best}: it was turned back.", True))
        return np.ascontiguousarray(ways[best])
    if score[""] < 0.3 and expected.max() > 0.5:
        findings.append(Finding("elsewhere", "It hardly covers what the stand-ins cover: was it rendered through this camera?", False))
    return rgba


def _overlap(alpha, expected) -> float:
    """What two alphas have in common, as a share of what either covers."""
    import cv2

    size = (SMALL, max(1, round(SMALL * expected.shape[0] / expected.shape[1])))
    a, b = (cv2.resize(np.clip(one, 0, 1).astype(np.float32), size, interpolation=cv2.INTER_AREA) for one in (alpha, expected))
    return float(np.minimum(a, b).sum() / max(np.maximum(a, b).sum(), 1e-6))


def alpha_report(alpha) -> list[str]:
    """Sentences about an alpha (H, W): solid inside, empty outside, soft along the edge, stray pixels."""
    import cv2

    solid, empty = alpha > 0.999, alpha < 0.001
    out, kernel = [], np.ones((5, 5), np.uint8)
    inside, outside = (cv2.erode(region.astype(np.uint8), kernel, borderValue=1).astype(bool) for region in (alpha > 0.5, alpha <= 0.5))
    holes, dirt = int((inside & ~solid).sum()), int((outside & ~empty).sum())
    out.append(f"Pixels inside that let the plate through: {holes:,}." if holes else "Solid inside.")
    out.append(f"Pixels outside that aren't empty: {dirt:,}." if dirt else "Empty outside.")
    edge = ~inside & ~outside
    hard = edge.any() and not (~solid & ~empty)[edge].any()
    out.append("Its edges are hard: no pixel is half covered." if hard else "Soft along the edge.")
    count, _, sizes, _ = cv2.connectedComponentsWithStats((alpha > 0.02).astype(np.uint8), connectivity=8)
    stray = int((sizes[1:count, cv2.CC_STAT_AREA] <= 4).sum())
    out.append(f"Stray specks of up to 4 px: {stray:,}." if stray else "No stray pixels.")
    return out


def write_shown(folder: Path, rgba) -> None:
    """render.png (8-bit sRGB, alpha not premultiplied) and alpha.png, for the page."""
    from PIL import Image

    alpha = np.clip(rgba[..., 3:], 0, 1)
    colour = np.where(alpha > 0, rgba[..., :3] / np.maximum(alpha, 1e-6), 0)
    values = np.concatenate([encode_srgb(colour), alpha], axis=-1)
    Image.fromarray((np.clip(values, 0, 1) * 255 + 0.5).astype(np.uint8), "RGBA").save(folder / "render.png", compress_level=4)
    Image.fromarray((alpha[..., 0] * 255 + 0.5).astype(np.uint8), "L").save(folder / "alpha.png", compress_level=4)
