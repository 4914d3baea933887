"""Cameras and their hierarchies of COLLADA 1.4 and 1.5 files (.dae), with the animation of
transforms and angles.

Read with defusedxml, which refuses entities: general readers of COLLADA evaluate no animations.
What is read of a node: `matrix`, `translate`, `rotate`, `scale` and `lookat`, one after the other,
each of which a channel may animate as a whole or one of its members (clause 5, "Address syntax").
Interpolation: LINEAR, STEP, BEZIER, HERMITE (clause 4, "Curve interpolation"); what else there is,
is taken as LINEAR.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.formats.collada import OWN_PROFILE
from aperture.formats.names import Names
from aperture.moves.keys import rate_of
from aperture.moves.source import Seen

MOST_NODES, MOST_DEPTH, MOST_VALUES = 100_000, 500, 20_000_000
SIZES = {"matrix": 16, "translate": 3, "rotate": 4, "scale": 3, "lookat": 9}
MEMBERS = {"X": 0, "Y": 1, "Z": 2, "ANGLE": 3}
OWN_UP = {"Y_UP": "Y", "Z_UP": "Z"}
HALVINGS = 60  # of the search for a moment on a Bézier curve

Channel = Callable[[Array], Array]


@dataclass(eq=False)
class _Transform:
    """One step of a node: its kind, its fixed values, and what animates them: (first member, count,
    channel).
    """

    kind: str
    values: Array
    channels: list[tuple[int, int, Channel]] = field(default_factory=list)

    def matrices(self, seconds: Array) -> Array:
        values = np.tile(self.values, (len(seconds), 1))
        for first, count, channel in self.channels:
            values[:, first : first + count] = channel(seconds)
        if self.kind == "matrix":
            return values.reshape(-1, 4, 4)
        out = np.tile(np.eye(4), (len(seconds), 1, 1))
        if self.kind == "translate":
            out[:, :3, 3] = values
        elif self.kind == "scale":
            out[:, range(3), range(3)] = values
        elif self.kind == "rotate":
            axis = values[:, :3]
            long = np.linalg.norm(axis, axis=1, keepdims=True)
            if not (long > 1e-9).all():
                raise Problem("A rotation in this file has no axis.")
            turns = axis / long * np.radians(values[:, 3:])
            out[:, :3, :3] = Rotation.from_rotvec(turns).as_matrix()
        else:
            out[:] = [_look(row) for row in values]
        return out


def _look(values: Array) -> Array:
    """(4, 4) of a `lookat`: eye, what it looks at, and up."""
    eye, aim, up = values.reshape(3, 3)
    back = eye - aim
    across = np.cross(up, back)
    if np.linalg.norm(back) < 1e-9 or np.linalg.norm(across) < 1e-9:
        raise Problem("A camera in this file looks at where it is, or straight along its own up.")
    back, across = back / np.linalg.norm(back), across / np.linalg.norm(across)
    out = np.eye(4)
    out[:3, :3], out[:3, 3] = np.stack([across, np.cross(back, across), back], axis=1), eye
    return out


class ColladaSource:
    """A file as a `Source`."""

    notes: tuple[str, ...] = ()

    def __init__(self, path: Path) -> None:
        self._root = _parsed(path.read_bytes())
        self._ids = {
            element.get("id"): element for element in self._root.iter() if element.get("id")
        }
        self.names: list[str] = []
        self._names = Names()
        self.parents: list[int | None] = []
        self.cameras: list[int] = []
        self._steps: list[list[_Transform]] = []
        self._optics: dict[int, Any] = {}
        self._sids: dict[tuple[str, str], _Transform] = {}
        self._angles: dict[tuple[str, str], Channel] = {}
        declared = set()
        self.metres, self.up_axis = 1.0, "Y"
        unit, up = self._root.find("asset/unit"), self._root.find("asset/up_axis")
        if unit is not None and unit.get("meter"):
            self.metres = _floats(unit.get("meter"), 1, "The unit")[0]
            declared.add("unit")
            if not 1e-9 < self.metres < 1e9:
                raise Problem("The unit of this file is no length.")
        if up is not None and (up.text or "").strip() in OWN_UP:
            self.up_axis = OWN_UP[up.text.strip()]
            declared.add("up_axis")
        for scene in self._scenes():
            for node in scene.findall("node"):
                self._node(node, None, 0)
        self.rate: Fraction | None
        self.first: int | None = None
        times = self._animated()
        self.span = (float(times[0]), float(times[-1])) if len(times) else (0.0, 0.0)
        self.rate = rate_of(times)
        self._own_count(declared)
        self.declares = frozenset(declared)

    def _scenes(self) -> list[Any]:
        """The scene that the file shows, or else all."""
        shown = self._root.find("scene/instance_visual_scene")
        chosen = self._named(shown.get("url")) if shown is not None else None
        return [chosen] if chosen is not None else self._root.findall(".//visual_scene")

    def _named(self, url: str | None) -> Any:
        return self._ids.get(url[1:]) if url and url.startswith("#") else None

    def _node(self, node: Any, parent: int | None, depth: int) -> None:
        if depth > MOST_DEPTH or len(self.names) >= MOST_NODES:
            raise Problem("The hierarchy in this file is too deep, or a ring.")
        index, own_id = len(self.names), node.get("id") or ""
        self.names.append(self._names.free(node.get("name") or own_id or f"node {index}"))
        self.parents.append(parent)
        steps: list[_Transform] = []
        self._steps.append(steps)
        for part in node:
            if part.tag in SIZES:
                values = _floats(part.text, SIZES[part.tag], f"“{self.names[index]}”")
                steps.append(_Transform(part.tag, values))
                if part.get("sid"):
                    self._sids.setdefault((own_id, part.get("sid")), steps[-1])
            elif part.tag == "instance_camera":
                camera = self._named(part.get("url"))
                if camera is not None:
                    self.cameras.append(index)
                    self._optics[index] = camera
            elif part.tag == "instance_node":
                other = self._named(part.get("url"))
                if other is not None:
                    self._node(other, index, depth + 1)
            elif part.tag == "node":
                self._node(part, index, depth + 1)

    def _animated(self) -> Array:
        """All key times in order; gives every channel to what it animates."""
        times = []
        for channel in self._root.iter("channel"):
            owner, _, rest = (channel.get("target") or "").partition("/")
            found = re.fullmatch(r"([^.(]+)(?:\.(\w+)|((?:\(\d+\))+))?", rest)
            sampler = self._named(channel.get("source"))
            if not found or sampler is None:
                continue
            sid, member, places = found.groups()
            target = self._sids.get((owner, sid))
            of_lens = sid in ("xfov", "yfov") and owner in self._ids
            if target is None and not of_lens:
                continue
            first, count = (0, 1) if target is None else _members(target, member, places)
            keys, curve = self._curve(sampler, count)
            times.append(keys)
            if target is None:
                self._angles[owner, sid] = curve
            else:
                target.channels.append((first, count, curve))
        return np.unique(np.concatenate(times)) if times else np.zeros(0)

    def _curve(self, sampler: Any, count: int) -> tuple[Array, Channel]:
        inputs = {part.get("semantic"): self._named(part.get("source")) for part in sampler}
        if inputs.get("INPUT") is None or inputs.get("OUTPUT") is None:
            raise Problem("An animation in this file has no times, or no values.")
        keys = self._array(inputs["INPUT"], 1)[:, 0]
        values = self._array(inputs["OUTPUT"], count)
        if not len(keys) or len(keys) != len(values) or (np.diff(keys) <= 0).any():
            raise Problem("The times of an animation in this file don't increase, or lack values.")
        how = inputs.get("INTERPOLATION")
        named = None if how is None else how.find("Name_array")
        words = [] if named is None else " ".join(named.itertext()).split()
        bent = {word for word in words} & {"BEZIER", "HERMITE"}
        tangents = [inputs.get("IN_TANGENT"), inputs.get("OUT_TANGENT")]
        if bent and len(keys) > 1 and count == 1 and all(one is not None for one in tangents):
            into, out = (self._tangents(one, keys) for one in tangents)
            if into is not None and out is not None:
                return keys, _bent(keys, values[:, 0], into, out, words)
        if words and set(words) == {"STEP"}:
            return keys, lambda seconds: values[
                np.clip(np.searchsorted(keys, seconds + 1e-9, "right") - 1, 0, None)
            ]
        return keys, lambda seconds: np.stack(
            [np.interp(seconds, keys, row) for row in values.T], axis=1
        )

    def _tangents(self, source: Any, keys: Array) -> Array | None:
        """(K, 2) of a source of pairs; None where it has one number a key, as some write."""
        numbers = self._array(source, 1)
        return numbers.reshape(-1, 2) if len(numbers) == 2 * len(keys) else None

    def _array(self, source: Any, width: int) -> Array:
        array = source.find("float_array")
        if array is None:
            raise Problem("An animation in this file has no numbers.")
        numbers = _floats(array.text, None, "An animation")
        if len(numbers) % width:
            raise Problem("An animation in this file has values of another size.")
        return numbers.reshape(-1, width)

    def _own_count(self, declared: set[str]) -> None:
        """The frames that our own files tell of."""
        for technique in self._root.iter("technique"):
            if technique.get("profile") != OWN_PROFILE:
                continue
            try:
                self.first = int(technique.findtext("first_frame") or "")
                rate = Fraction(technique.findtext("rate") or "")
            except (ValueError, ZeroDivisionError):
                return
            if rate > 0 and abs(self.first) < 1e9:
                self.rate = rate
                declared.add("rate")
            return

    def local(self, node: int, seconds: Array) -> Array:
        """(T, 4, 4) parent from node."""
        out = np.tile(np.eye(4), (len(seconds), 1, 1))
        for step in self._steps[node]:
            out = out @ step.matrices(seconds)
        return out

    def seen(self, node: int, seconds: Array) -> Seen:
        """From two of xfov, yfov and aspect_ratio; of one alone, as wide as it is high."""
        camera = self._optics[node]
        lens = camera.find("optics/technique_common/perspective")
        if lens is None:
            raise Problem(f"“{self.names[node]}” has no perspective: it can't have taken a plate.")

        def tangents(what: str) -> Array | None:
            part = lens.find(what)
            if part is None:
                return None
            channel = self._angles.get((camera.get("id") or "", part.get("sid") or what))
            fixed = _floats(part.text, 1, f"“{self.names[node]}”")
            degrees = channel(seconds)[:, 0] if channel else np.full(len(seconds), fixed[0])
            if not ((degrees > 0) & (degrees < 180)).all():
                raise Problem(f"“{self.names[node]}” has no angle of view.")
            return np.tan(np.radians(degrees) / 2)

        wide, high = tangents("xfov"), tangents("yfov")
        aspect = _floats(lens.findtext("aspect_ratio") or "1", 1, f"“{self.names[node]}”")[0]
        if aspect <= 0:
            raise Problem(f"“{self.names[node]}” has no angle of view.")
        if wide is None and high is None:
            return Seen.unknown(len(seconds))
        wide = high * aspect if wide is None else wide
        high = wide / aspect if high is None else high
        return Seen(np.stack([wide, high], axis=1), np.full(len(seconds), np.nan))


def _members(target: _Transform, member: str | None, places: str | None) -> tuple[int, int]:
    """Which of a transform's values a channel animates."""
    if member:
        if member not in MEMBERS or MEMBERS[member] >= SIZES[target.kind]:
            raise Problem(f"An animation in this file is of “{member[:20]}”, which there isn't.")
        return MEMBERS[member], 1
    if places:
        numbers = [int(number) for number in re.findall(r"\d+", places)]
        # (column)(row), clause "Address syntax"; matrices are written row by row.
        index = numbers[0] if len(numbers) == 1 else numbers[1] * 4 + numbers[0]
        if len(numbers) > 2 or index >= SIZES[target.kind]:
            raise Problem("An animation in this file is of a value that there isn't.")
        return index, 1
    return 0, SIZES[target.kind]


def _bent(keys: Array, values: Array, into: Array, out: Array, words: list[str]) -> Channel:
    """A curve of one number by Bézier or Hermite segments, whose control points are (time, value);
    straight ones among them.
    """
    straight = np.array([words[min(i, len(words) - 1)] == "LINEAR" for i in range(len(keys) - 1)])
    ends = np.stack([keys, values], axis=1)
    if "HERMITE" in words:  # tangents instead of control points
        out, into = ends + out / 3, ends - into / 3

    def at(seconds: Array) -> Array:
        moment = np.clip(seconds, keys[0], keys[-1])
        left = np.clip(np.searchsorted(keys, moment, "right") - 1, 0, len(keys) - 2)
        points = [ends[left], out[left], into[left + 1], ends[left + 1]]
        low, high = np.zeros(len(moment)), np.ones(len(moment))
        for _ in range(HALVINGS):
            middle = (low + high) / 2
            early = _bezier(points, middle)[:, 0] < moment
            low, high = np.where(early, middle, low), np.where(early, high, middle)
        curved = _bezier(points, (low + high) / 2)[:, 1]
        plain = np.interp(moment, keys, values)
        return np.where(straight[left], plain, curved)[:, None]

    return at


def _bezier(points: list[Array], share: Array) -> Array:
    t = share[:, None]
    a, b, c, d = points
    return (1 - t) ** 3 * a + 3 * t * (1 - t) ** 2 * b + 3 * t**2 * (1 - t) * c + t**3 * d


def _has_names(source: Any) -> bool:
    return source is not None and source.find("Name_array") is not None


def _parsed(data: bytes) -> Any:
    """The root, its tags without a namespace. Raises Problem."""
    from xml.etree.ElementTree import ParseError

    from defusedxml import DefusedXmlException, ElementTree

    try:
        root = ElementTree.fromstring(data, forbid_dtd=True)
    except DefusedXmlException:
        raise Problem("This file has a DTD or entities, which no COLLADA file needs.") from None
    except (ParseError, ValueError, LookupError) as error:
        raise Problem(f"This file can't be read as XML: {str(error)[:100]}.") from None
    for element in root.iter():
        if isinstance(element.tag, str):
            element.tag = element.tag.rpartition("}")[2]
    if root.tag != "COLLADA":
        raise Problem("This file can't be read as COLLADA.")
    return root


def _floats(text: str | None, count: int | None, of: str) -> Array:
    """Numbers between spaces. Raises Problem where there aren't as many, or one isn't finite."""
    words = (text or "").split()
    if len(words) > MOST_VALUES:
        raise Problem(f"{of} in this file has too many numbers.")
    try:
        numbers = [float(word) for word in words]
    except ValueError:
        raise Problem(f"{of} in this file has something that is no number.") from None
    if (count is not None and len(numbers) != count) or not all(map(math.isfinite, numbers)):
        raise Problem(f"{of} in this file has other numbers than it needs.")
    return np.array(numbers)
