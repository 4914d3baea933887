"""A render as files: one OpenEXR of many layers, and PNGs to look at.

Layers are named after the OpenEXR convention: R, G, B, A for the beauty, `layer.channel` for the
rest.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.plates.colour import encode_srgb
from aperture.plates.exr import write_channels
from aperture.render.passes import Render

RANKS = 6  # of Cryptomatte: stand-ins that one pixel can tell of, two to a layer
CHANNELS = {"position": "XYZ", "normal": "XYZ", "lines": "YA", "reflection": "RGBA"}
HALVES = ("beauty", "normal", "lines", "reflection", "occlusion", "shadow", "masks")


def write_exr(path: Path, render: Render) -> None:
    """All layers in one file, ZIP compressed: half floats where they are enough, else single.
    Raises OSError where it can't be written.
    """
    channels: dict[Any, Any] = {}
    said: dict[str, str] = {}
    for name, values in render.layers.items():
        values = values.astype(np.float16 if name in HALVES else np.float32)
        if name == "beauty":
            channels |= {"RGBA"[index]: values[..., index] for index in range(4)}
        elif name == "masks":
            channels |= {
                f"mask.{_layer_name(own)}": values[..., index]
                for index, own in enumerate(_once(render.names))
            }
        elif values.ndim == 2:
            channels[f"{name}.{'Z' if name in ('depth', 'distance') else 'Y'}"] = values
        else:
            channels |= {
                f"{name}.{channel}": values[..., index]
                for index, channel in enumerate(CHANNELS[name])
            }
    if "masks" in render.layers:
        pairs, said = cryptomatte(render.layers["masks"], render.names)
        for rank in range(RANKS):
            identity, cover = "RG" if rank % 2 == 0 else "BA"
            channels[f"{CRYPTO}{rank // 2:02}.{identity}"] = pairs[..., rank, 0]
            channels[f"{CRYPTO}{rank // 2:02}.{cover}"] = pairs[..., rank, 1]
    write_channels(path, channels, said)


def write_png(path: Path, render: Render) -> None:
    """The beauty: 8-bit sRGB PNG, alpha not premultiplied (PNG, ISO/IEC 15948, clause 6.2)."""
    from PIL import Image

    alpha = render.rgba[..., 3:]
    colour = np.where(alpha > 0, render.rgba[..., :3] / np.maximum(alpha, 1e-6), 0)
    values = np.concatenate([encode_srgb(colour), np.clip(alpha, 0, 1)], axis=-1)
    Image.fromarray((values * 255 + 0.5).astype(np.uint8), "RGBA").save(path, compress_level=4)


def write_grey(path: Path, values: Array) -> None:
    """A share from 0 to 1, (H, W), as an 8-bit PNG, not gamma-encoded."""
    from PIL import Image

    Image.fromarray((np.clip(values, 0, 1) * 255 + 0.5).astype(np.uint8), "L").save(
        path, compress_level=4
    )


def write_looks(folder: Path, render: Render) -> list[tuple[str, str]]:
    """A PNG to look at for every layer but the beauty, in `folder`; (file name, what it is) of
    each.
    """
    layers = render.layers
    out = []
    for name, look in _LOOKS.items():
        if name in layers:
            values, about = look(render)
            write = write_grey if values.ndim == 2 else _write_rgb
            write(folder / f"{name}.png", values)
            out.append((f"{name}.png", about))
    return out


def _write_rgb(path: Path, values: Array) -> None:
    from PIL import Image

    shown = (np.clip(values, 0, 1) * 255 + 0.5).astype(np.uint8)
    Image.fromarray(shown, "RGB").save(path, compress_level=4)


def _look_at_depth(render: Render) -> tuple[Array, str]:
    shown, (near, far) = near_to_far(render.layers["depth"])
    about = f"Depth: white at {near:.3g} m, black at {far:.3g} m" if far else "Depth: nothing there"
    return shown, about


def _look_at_position(render: Render) -> tuple[Array, str]:
    layers = render.layers
    if "depth" in layers:
        there = np.isfinite(layers["depth"])[..., None]
    else:
        there = np.any(layers["position"], axis=-1, keepdims=True)
    shown = ((layers["position"] + 1e-4) % 1.0) * there
    return shown, "World position: each colour begins again every metre"


def _look_at_normal(render: Render) -> tuple[Array, str]:
    normal = render.layers["normal"]
    there = np.any(normal, axis=-1, keepdims=True)
    return (normal * 0.5 + 0.5) * there, "Normals, in the world"


def _look_at_masks(render: Render) -> tuple[Array, str]:
    masks = render.layers["masks"]
    colours = np.array([_colour(name) for name in render.names]).reshape(-1, 3)
    return masks[..., : len(colours)] @ colours, "Masks, a colour for each stand-in"


def _look_at_lines(render: Render) -> tuple[Array, str]:
    lines = render.layers["lines"][..., 0]
    over = render.layers.get("occlusion", np.ones_like(lines))
    about = "Drawing over occlusion" if "occlusion" in render.layers else "Drawing over white"
    return np.maximum(over - lines, 0), about


# In the order of the page.
_LOOKS: dict[str, Callable[[Render], tuple[Array, str]]] = {
    "depth": _look_at_depth,
    "position": _look_at_position,
    "normal": _look_at_normal,
    "masks": _look_at_masks,
    "occlusion": lambda render: (render.layers["occlusion"], "Ambient occlusion"),
    "shadow": lambda render: (
        render.layers["shadow"],
        "Shadow: the share of the light taken away",
    ),
    "lines": _look_at_lines,
    "reflection": lambda render: (encode_srgb(render.layers["reflection"][..., :3]), "Reflection"),
}


def near_to_far(depth: Any) -> tuple[Array, tuple[float, float]]:
    """Depth (H, W) as 1 at the nearest to 0 at the farthest thing and beyond, and those two in
    metres.
    """
    there = np.isfinite(depth)
    if not there.any():
        return np.zeros_like(depth), (0.0, 0.0)
    near, far = float(depth[there].min()), float(depth[there].max())
    # The farthest thing stays a little lighter than what is empty.
    return np.where(
        there, 1 - 0.95 * (np.where(there, depth, far) - near) / max(far - near, 1e-9), 0.0
    ), (near, far)


# Cryptomatte: Psyop's open specification, version 1.2.0; cited from memory.
# ------------------------------------------

CRYPTO = "CryptoObject"


def identity_of(name: str) -> tuple[int, np.float32]:
    """A name's hash (MurmurHash3, 32 bits, seed 0) as its bits and as the float with those bits, an
    exponent kept from being none or all.
    """
    import mmh3

    bits = mmh3.hash(name.encode(), seed=0, signed=False)
    exponent = bits >> 23 & 255
    if exponent in (0, 255):
        bits ^= 1 << 23
    return bits, np.array([bits], np.uint32).view(np.float32)[0]


def cryptomatte(masks: Any, names: Any) -> tuple[Array, dict[str, str]]:
    """(H, W, RANKS, 2) float32 of identity and cover, the largest cover first, and the header's
    entries that say whose they are.
    """
    import mmh3

    names = _once(names)
    identities = np.array([identity_of(name)[1] for name in names], np.float32)
    out = np.zeros((*masks.shape[:2], RANKS, 2), np.float32)
    if len(names):
        order = np.argsort(-masks, axis=2, kind="stable")[..., :RANKS]
        cover = np.take_along_axis(masks, order, axis=2)
        ranks = order.shape[2]
        out[..., :ranks, 1] = cover
        out[..., :ranks, 0] = np.where(cover > 0, identities[order], 0)
    key = f"cryptomatte/{mmh3.hash(CRYPTO.encode(), seed=0, signed=False):08x}"[
        : len("cryptomatte/") + 7
    ]
    manifest = json.dumps({name: f"{identity_of(name)[0]:08x}" for name in names})
    return out, {
        f"{key}/name": CRYPTO,
        f"{key}/hash": "MurmurHash3_32",
        f"{key}/conversion": "uint32_to_float32",
        f"{key}/manifest": manifest,
    }


def _once(names: Any) -> list[str]:
    """Each name once: the second of the same name is counted."""
    out: list[str] = []
    for name in names:
        own, number = name, 2
        while own in out:
            own, number = f"{name} {number}", number + 1
        out.append(own)
    return out


def _layer_name(name: str) -> str:
    """A name as a channel: a dot would begin another layer."""
    return name.replace(".", "_").replace(" ", "_")


def _colour(name: str) -> tuple[float, float, float]:
    """A bright colour of its own for a name, always the same."""
    import colorsys

    import mmh3

    return colorsys.hsv_to_rgb(mmh3.hash(name.encode(), 1, signed=False) / 2**32, 0.65, 1.0)
