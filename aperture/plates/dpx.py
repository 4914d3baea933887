"""DPX pictures (SMPTE ST 268; offsets from memory): FFmpeg decodes them, the header is looked at
before."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np

from aperture.arrays import Array

MAGIC = {b"SDPX": ">", b"XPDS": "<"}  # and the order of the bytes
# Of the first image element: transfer characteristics that mean densities of film or logarithms.
LOGARITHMIC = {1: "printing density", 3: "logarithmic"}
LINEAR = 2


def size_of(head: bytes) -> tuple[int, int]:
    """Width and height that the header declares. Raises struct.error where it is cut short."""
    width, height = struct.unpack_from(f"{MAGIC[head[:4]]}II", head, 772)
    return width, height


def timecode_of(head: bytes) -> str | None:
    """The time code of the header's television part: eight decimal digits in four bytes; None where
    none is set."""
    order = MAGIC.get(head[:4])
    if order is None or len(head) < 1924:
        return None
    (packed,) = struct.unpack_from(f"{order}I", head, 1920)
    digits = f"{packed:08x}"
    if not digits.isdecimal():
        return None
    hours, minutes, seconds, frame = (int(digits[at : at + 2]) for at in (0, 2, 4, 6))
    if not packed or hours > 23 or minutes > 59 or seconds > 59 or frame > 59:
        return None
    return f"{hours:02}:{minutes:02}:{seconds:02}:{frame:02}"


def about(head: bytes) -> list[str]:
    """Sentences about what the values mean."""
    transfer = head[801] if len(head) > 801 else 0
    if transfer in LOGARITHMIC:
        return [
            f"The file says that its values are {LOGARITHMIC[transfer]}: they are shown as they"
            " are. Choose the curve they are encoded with."
        ]
    if transfer == LINEAR:
        return ["The file says that its values are linear light. Choose that curve if so."]
    return []


def read_pixels(path: Path) -> Array:
    """(H, W, 3) or (H, W) of the file's one picture: uint8, or uint16 for more than 8 bits.
    FFmpeg's errors pass."""
    import av

    with av.open(str(path), format="dpx_pipe") as file:
        frame = next(file.decode(video=0))
    bits = max(component.bits for component in frame.format.components)
    if frame.format.name.startswith("gray"):
        return frame.reformat(format="gray" if bits <= 8 else "gray16le").to_ndarray()
    if bits <= 8:
        return frame.reformat(format="rgb24").to_ndarray()
    if bits == 16:
        return frame.reformat(format="rgb48le").to_ndarray()
    # Ten and twelve bits spread over sixteen: FFmpeg's own conversion of twelve leaves white a
    # little grey.
    values = frame.reformat(format=f"gbrp{bits}le").to_ndarray().astype(np.uint32)
    return ((values * 65535 + (1 << bits) // 2) // ((1 << bits) - 1)).astype(np.uint16)
