"""Cameras and their hierarchies of glTF 2.0 files (.gltf with its data in it, .glb), with
animations as clause 3.11 has them.
"""

from __future__ import annotations

import base64
import binascii
import struct
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import Any, TypeGuard

import numpy as np
from scipy.spatial.transform import Rotation, Slerp

from aperture import strict_json
from aperture.arrays import Array
from aperture.errors import Problem
from aperture.formats.names import Names
from aperture.moves.keys import rate_of
from aperture.moves.move import NO_DISTORTION
from aperture.moves.source import Seen

# Clause 3.6.2.2: component types, and how many components an accessor's type has.
TYPES = {5120: "<i1", 5121: "<u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
COMPONENTS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
PATHS = {"translation": 3, "rotation": 4, "scale": 3}
MOST_NODES, MOST_VALUES = 100_000, 20_000_000
HEADER, CHUNK = struct.Struct("<4sII"), struct.Struct("<I4s")

Channel = Callable[[Array], Array]


class GltfSource:
    """A file as a `Source`. glTF is in metres, Y up, and counts seconds; what our own files say of
    frames is in the extras.
    """

    metres, up_axis, declares = 1.0, "Y", frozenset({"unit", "up_axis"})

    notes: tuple[str, ...] = ()

    def __init__(self, path: Path) -> None:
        self._json, self._blob = _parts(path.read_bytes())
        self._nodes = self._listed("nodes")
        if len(self._nodes) > MOST_NODES:
            raise Problem(f"This file has more than {MOST_NODES:,} nodes.")
        names = Names()
        self.names = [
            names.free(str(node.get("name") or f"node {index}"))
            for index, node in enumerate(self._nodes)
        ]
        self.parents: list[int | None] = [None] * len(self._nodes)
        for index, node in enumerate(self._nodes):
            for child in node.get("children", []):
                if not _is_index(child, len(self._nodes)) or self.parents[child] is not None:
                    raise Problem(f"The children of “{self.names[index]}” are no hierarchy.")
                self.parents[child] = index
        self.cameras = [index for index, node in enumerate(self._nodes) if "camera" in node]
        self._channels: dict[tuple[int, str], Channel] = {}
        times = self._animated()
        self.span = (float(times[0]), float(times[-1])) if len(times) else (0.0, 0.0)
        self.rate = rate_of(times)
        self.first: int | None = None
        self._own_count()

    def _listed(self, key: str) -> list[dict[str, Any]]:
        items = self._json.get(key, [])
        if not isinstance(items, list) or not all(isinstance(item, dict) for item in items):
            raise Problem(f"The “{key}” of this file are no list of objects.")
        return items

    def _own_count(self) -> None:
        """The frames that our own files tell of."""
        for animation in self._listed("animations")[:1]:
            extras = animation.get("extras")
            if not isinstance(extras, dict) or not isinstance(extras.get("first_frame"), int):
                return
            self.first = extras["first_frame"]
            try:
                self.rate = Fraction(str(extras.get("rate")))
            except (ValueError, ZeroDivisionError):
                return
            if self.rate <= 0:
                raise Problem("The rate in this file's extras is none.")
            self.declares = self.declares | {"rate"}

    def _animated(self) -> Array:
        """All key times, in order; fills the channels. Raises Problem."""
        times = []
        for animation in self._listed("animations"):
            samplers = animation.get("samplers", [])
            for channel in animation.get("channels", []):
                target = channel.get("target", {}) if isinstance(channel, dict) else {}
                node, path = target.get("node"), target.get("path")
                if path not in PATHS or node is None:
                    continue
                if not _is_index(node, len(self._nodes)):
                    raise Problem("An animation in this file is of a node that there isn't.")
                if not _is_index(channel.get("sampler"), len(samplers)):
                    raise Problem("An animation in this file has no sampler.")
                sampler = samplers[channel["sampler"]]
                keys = self._accessor(sampler.get("input"), 1)[:, 0]
                values = self._accessor(sampler.get("output"), PATHS[path])
                how = sampler.get("interpolation", "LINEAR")
                self._channels[node, path] = _channel(keys, values, how, path)
                times.append(keys)
        return np.unique(np.concatenate(times)) if times else np.zeros(0)

    def _accessor(self, index: Any, components: int) -> Array:
        """(N, components) values of an accessor (clause 3.6.2). Raises Problem."""
        accessors, views = self._listed("accessors"), self._listed("bufferViews")
        if not _is_index(index, len(accessors)):
            raise Problem("An animation in this file has no values.")
        accessor = accessors[index]
        kind, count = TYPES.get(accessor.get("componentType", -1)), accessor.get("count")
        view = accessor.get("bufferView")
        if (
            "sparse" in accessor
            or kind is None
            or COMPONENTS.get(str(accessor.get("type"))) != components
            or not _is_index(view, len(views))
            or not _is_count(count)
        ):
            raise Problem("An animation in this file has values of a kind that isn't read here.")
        item = np.dtype(kind).itemsize * components
        data, start = self._view(views[view]), accessor.get("byteOffset", 0)
        stride = views[view].get("byteStride", item)
        if not _is_count(start) or not _is_count(stride) or stride < item:
            raise Problem("An animation in this file doesn't say where its values are.")
        if count * components > MOST_VALUES or start + stride * (count - 1) + item > len(data):
            raise Problem("This file is cut off, or says that it holds more than it does.")
        values = np.ndarray(
            (count, components), kind, data, start, (stride, np.dtype(kind).itemsize)
        ).astype(float)
        if kind[1] != "f":  # normalised integers, clause 3.11
            values = np.maximum(values / np.iinfo(kind).max, -1)
        if not np.isfinite(values).all():
            raise Problem("An animation in this file has a value that isn't a finite number.")
        return values

    def _view(self, view: dict[str, Any]) -> bytes:
        buffers = self._listed("buffers")
        index, start, length = view.get("buffer"), view.get("byteOffset", 0), view.get("byteLength")
        if not _is_index(index, len(buffers)) or not _is_count(start) or not _is_count(length):
            raise Problem("An animation in this file doesn't say where its values are.")
        uri = buffers[index].get("uri")
        if uri is None:
            data = self._blob
        elif isinstance(uri, str) and uri.startswith("data:") and "," in uri:
            try:
                data = base64.b64decode(uri.split(",", 1)[1], validate=True)
            except (binascii.Error, ValueError):
                raise Problem("The data in this file is no base64.") from None
        else:
            raise Problem("The data of this file lies in another one beside it: save it as .glb.")
        return data[start : start + length]

    def local(self, node: int, seconds: Array) -> Array:
        """(T, 4, 4) parent from node: matrix, or translation · rotation · scale (clause 3.5.2)."""
        item, out = self._nodes[node], np.tile(np.eye(4), (len(seconds), 1, 1))
        parts = {path: self._channels.get((node, path)) for path in PATHS}
        if "matrix" in item and not any(parts.values()):
            out[:] = _numbers(item["matrix"], 16, self.names[node]).reshape(4, 4).T
            return out

        def values(path: str, default: list[float]) -> Array:
            channel = parts[path]
            if channel is not None:
                return channel(seconds)
            fixed = _numbers(item.get(path, default), PATHS[path], self.names[node])
            return np.tile(fixed, (len(seconds), 1))

        turns = values("rotation", [0, 0, 0, 1])
        if not (np.linalg.norm(turns, axis=1) > 1e-6).all():
            raise Problem(f"“{self.names[node]}” has a rotation that is none.")
        scales = values("scale", [1, 1, 1])
        out[:, :3, :3] = Rotation.from_quat(turns).as_matrix() * scales[:, None, :]
        out[:, :3, 3] = values("translation", [0, 0, 0])
        return out

    def seen(self, node: int, seconds: Array) -> Seen:
        """From the angle and aspect (clause 3.10.3); what our own files tell besides is in the
        camera's extras.
        """
        cameras, index = self._listed("cameras"), self._nodes[node]["camera"]
        if not _is_index(index, len(cameras)):
            raise Problem(f"“{self.names[node]}” is a camera that there isn't.")
        camera = cameras[index]
        lens = camera.get("perspective")
        if not isinstance(lens, dict):
            raise Problem(f"“{self.names[node]}” has no perspective: it can't have taken a plate.")
        angle, aspect = lens.get("yfov"), lens.get("aspectRatio", 1.0)
        if not _is_number(angle) or not _is_number(aspect) or not 0 < angle < np.pi or aspect <= 0:
            raise Problem(f"“{self.names[node]}” has no angle of view.")
        high = np.tan(angle / 2)
        return _with_extras(camera.get("extras"), np.array([high * aspect, high]), len(seconds))


def _with_extras(extras: Any, half: Array, count: int) -> Seen:
    """A constant view, with the focal length, shift and distortion that our own files have."""
    focal, shift, bent = np.nan, np.zeros(2), NO_DISTORTION
    if isinstance(extras, dict):
        if _is_number(extras.get("focal_mm")):
            focal = float(extras["focal_mm"])
        for key, size in (("window_shift", 2), ("brown_conrady", 5)):
            given = extras.get(key)
            if isinstance(given, list) and len(given) == size and all(map(_is_number, given)):
                if key == "window_shift":
                    shift = np.array(given, float)
                else:
                    bent = tuple(map(float, given))
    return Seen(np.tile(half, (count, 1)), np.full(count, focal), shift, bent)


def _parts(data: bytes) -> tuple[dict[str, Any], bytes]:
    """The JSON and the binary chunk (clause 4.4). Raises Problem."""
    text, blob = data, b""
    if data[:4] == b"glTF":
        if len(data) < HEADER.size:
            raise Problem("This file is cut off.")
        at = HEADER.size
        chunks: dict[bytes, bytes] = {}
        while at + CHUNK.size <= len(data):
            length, kind = CHUNK.unpack_from(data, at)
            at += CHUNK.size
            chunks.setdefault(kind, data[at : at + length])
            at += length
        text, blob = chunks.get(b"JSON", b""), chunks.get(b"BIN\0", b"")
    found = strict_json.loads(text)
    if not isinstance(found, dict) or not isinstance(found.get("asset"), dict):
        raise Problem("This file can't be read as glTF: it has no “asset”.")
    if not str(found["asset"].get("version", "")).startswith("2."):
        raise Problem("Only glTF of version 2 is read.")
    return found, blob


def _channel(keys: Array, values: Array, how: str, path: str) -> Channel:
    """A function from seconds to values (clause 3.11 and appendix C). Raises Problem."""
    cubic = how == "CUBICSPLINE"
    if how not in ("LINEAR", "STEP", "CUBICSPLINE"):
        raise Problem(f"An animation in this file is blended in an unknown way, “{how[:20]}”.")
    if not len(keys) or (np.diff(keys) <= 0).any():
        raise Problem("The times of an animation in this file don't increase.")
    if len(values) != len(keys) * (3 if cubic else 1):
        raise Problem("An animation in this file has other numbers of times and values.")
    if cubic:
        return _cubic(keys, values.reshape(len(keys), 3, -1))
    if how == "STEP" or len(keys) == 1:
        return lambda seconds: values[
            np.clip(np.searchsorted(keys, seconds + 1e-9, "right") - 1, 0, None)
        ]
    if path == "rotation":
        if not (np.linalg.norm(values, axis=1) > 1e-6).all():
            raise Problem("An animation in this file has a rotation that is none.")
        turning = Slerp(keys, Rotation.from_quat(values))
        return lambda seconds: turning(np.clip(seconds, keys[0], keys[-1])).as_quat()
    return lambda seconds: np.stack([np.interp(seconds, keys, row) for row in values.T], axis=1)


def _cubic(keys: Array, values: Array) -> Channel:
    """Appendix C.5: of each key the tangent that comes in, the value, and the tangent that goes
    out.
    """

    def at(seconds: Array) -> Array:
        moment = np.clip(seconds, keys[0], keys[-1])
        left = np.clip(np.searchsorted(keys, moment, "right") - 1, 0, max(len(keys) - 2, 0))
        right = np.minimum(left + 1, len(keys) - 1)
        long = np.where(right > left, keys[right] - keys[left], 1.0)
        t = ((moment - keys[left]) / long)[:, None]
        long = long[:, None]
        return (
            (2 * t**3 - 3 * t**2 + 1) * values[left, 1]
            + long * (t**3 - 2 * t**2 + t) * values[left, 2]
            + (3 * t**2 - 2 * t**3) * values[right, 1]
            + long * (t**3 - t**2) * values[right, 0]
        )

    return at


def _numbers(values: Any, count: int, name: str) -> Array:
    if not isinstance(values, list) or len(values) != count or not all(map(_is_number, values)):
        raise Problem(f"“{name}” has no place that can be read.")
    return np.array(values, float)


def _is_number(value: Any) -> TypeGuard[float]:
    return isinstance(value, (int, float)) and not isinstance(value, bool) and abs(value) < 1e30


def _is_count(value: Any) -> TypeGuard[int]:
    return isinstance(value, int) and not isinstance(value, bool) and 0 <= value < 2**40


def _is_index(value: Any, size: int) -> TypeGuard[int]:
    return _is_count(value) and value < size
