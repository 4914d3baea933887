"""OpenEXR files: the channels that are wanted, and nothing else of what a file may hold; and
written.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import Any

import numpy as np

from aperture.arrays import Array

# Imath's numbers of the types of samples.
_TYPES = {0: np.uint32, 1: np.float16, 2: np.float32}


def read_channels(
    path: Path,
    choose: Callable[[list[str]], Iterable[str]],
    check_size: Callable[[int, int], None],
) -> tuple[dict[str, Array], dict[str, Any]]:
    """Return some channels of a file's first part, and its header.

    Files of many layers are common; reading a layer that nobody asked for may take gigabytes.

    Parameters
    ----------
    path : Path
    choose : callable
        Gets the names of all channels, returns those that are wanted.
    check_size : callable
        Gets width and height of the data window, and of the display window, before anything is
        decoded; raises Problem where they are too large.

    Returns
    -------
    dict
        Arrays of shape (height, width) of the data window, by channel.
    dict
        The header, as the library has it.

    Raises
    ------
    Problem
        Whatever `choose` and `check_size` raise. The library raises all sorts of things on damaged
        files.
    """
    import OpenEXR

    whole = OpenEXR.File(str(path), header_only=True)
    header = whole.header()
    for window in ("displayWindow", "dataWindow"):
        (left, top), (right, bottom) = header[window]
        check_size(int(right) - int(left) + 1, int(bottom) - int(top) + 1)
    (left, top), (right, bottom) = header["dataWindow"]
    shape = int(bottom) - int(top) + 1, int(right) - int(left) + 1
    declared = {channel.name: channel for channel in header["channels"]}
    wanted = list(choose(sorted(declared)))
    plain = all(declared[name].xSampling == declared[name].ySampling == 1 for name in wanted)
    if len(whole.parts) > 1 or not plain:
        with OpenEXR.File(str(path), separate_channels=True) as file:
            channels = file.channels()
            return {name: np.asarray(channels[name].pixels) for name in wanted}, header
    return _only(path, wanted, shape), header


def write_channels(
    path: Path, channels: Mapping[str, Array], says: Mapping[str, Any] | None = None
) -> None:
    """Write channels (H, W) in their own types as one part, ZIP compressed.

    Parameters
    ----------
    path : Path
    channels : mapping of str to ndarray
        float16, float32 or uint32.
    says : mapping of str to str, optional
        Attributes of the header.

    Raises
    ------
    OSError
        If it can't be written.
    """
    import OpenEXR

    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    whole = {name: np.ascontiguousarray(values) for name, values in channels.items()}
    with OpenEXR.File(header | dict(says or {}), whole) as file:
        try:
            file.write(str(path))
        except RuntimeError as error:  # a full disk, above all: the library says it in words only
            raise OSError(f"{error}".rstrip(".").rsplit(". ", 1)[-1]) from error


def _only(path: Path, wanted: list[str], shape: tuple[int, int]) -> dict[str, Array]:
    """Some channels of a file of one part, of which the library can read one alone."""
    import OpenEXR

    file = OpenEXR.InputFile(str(path))
    try:
        types = file.header()["channels"]
        return {
            name: np.frombuffer(file.channel(name), _TYPES[types[name].type.v]).reshape(shape)
            for name in wanted
        }
    finally:
        file.close()
