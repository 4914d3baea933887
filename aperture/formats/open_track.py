"""OpenTrackIO, SMPTE's open format for camera tracking data (RIS OSVP): one JSON sample per frame.

Written as JSON Lines, a sample a line, so that a long move can be read bit by bit. No registry
carries its schema: the names of fields and the axes are from memory of version 1.0 (translation in
metres, x right, y forward, z up; pan about z, tilt about x, roll about y, degrees, a camera at zero
looking along +y; lens distances in metres, focal length and sensor in millimetres). Lens distortion
is Brown's, radial k1 k2 k3 and tangential p1 p2, the lens model is named in each sample.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any
from uuid import NAMESPACE_URL, uuid5

import numpy as np
from scipy.spatial.transform import Rotation

from aperture import strict_json
from aperture.arrays import Array
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.axes import Z_UP_FROM_Y_UP
from aperture.moves.keys import between
from aperture.moves.move import MOST_FRAMES, NO_DISTORTION
from aperture.moves.source import Seen
from aperture.timecode import format_timecode

NAME, VERSION = "OpenTrackIO", [1, 0, 0]
MODEL = "Brown-Conrady D-U"
NOT_ONE = "This file can't be read as OpenTrackIO:"
# The camera that looks along +y of a Z-up world, from one that looks along −z with y up.
_AHEAD = Rotation.from_euler("X", 90, degrees=True).as_matrix()


@dataclass(frozen=True)
class Taken:
    """How the pictures are taken: focus in metres and f-number by frame, the lens's transmittance,
    the shutter's angle in degrees, ISO; what isn't known is left out.
    """

    focus_m: Mapping[int, float] = field(default_factory=dict)
    f_number: Mapping[int, float] = field(default_factory=dict)
    transmittance: float = 1.0
    shutter_deg: float | None = None
    iso: float | None = None


def write(
    cameras: Mapping[int, Camera], name: str, rate: Fraction, taken: Taken | None = None
) -> str:
    """The samples of a camera per frame, a line each.

    Parameters
    ----------
    cameras : mapping of int to Camera
        By frame number.
    name : str
        Of the camera; sources and samples are told apart by it.
    rate : Fraction
        Frames per second.
    taken : Taken, optional
    """
    frames, taken = sorted(cameras), taken or Taken()
    turns = np.array([Z_UP_FROM_Y_UP @ cameras[frame].rotation @ _AHEAD.T for frame in frames])
    angles = Rotation.from_matrix(turns).as_euler("ZXY", degrees=True).tolist()
    lines = [
        json.dumps(_sample(cameras[frame], frame, name, rate, own, taken), separators=(",", ":"))
        for frame, own in zip(frames, angles)
    ]
    return "\n".join(lines) + "\n"


def _sample(
    camera: Camera, frame: int, name: str, rate: Fraction, angles: list[float], taken: Taken
) -> dict[str, Any]:
    """One frame; angles: pan, tilt and roll, degrees."""
    pan, tilt, roll = angles
    x, y, z = (Z_UP_FROM_Y_UP @ camera.position).tolist()
    counted = {"num": rate.numerator, "denom": rate.denominator}
    width, height = camera.grid.gate_mm
    centre, grid, lens = camera.principal_point_px, camera.grid, camera.lens
    radial, tangential = lens.coefficients[:3], lens.coefficients[3:]
    return {
        "protocol": {"name": NAME, "version": VERSION},
        "sampleId": f"urn:uuid:{uuid5(NAMESPACE_URL, f'{name}/{frame}')}",
        "sourceId": f"urn:uuid:{uuid5(NAMESPACE_URL, name)}",
        "static": {
            "camera": {
                "label": name,
                "captureFrameRate": counted,
                "activeSensorPhysicalDimensions": {"width": width, "height": height},
                "activeSensorResolution": {"width": grid.width, "height": grid.height},
                "anamorphicSqueeze": _ratio(lens.squeeze),
            }
            | _known({"shutterAngle": taken.shutter_deg, "isoSpeed": _whole(taken.iso)}),
            "lens": {"distortionIsProjection": False},
        },
        "timing": {
            "mode": "internal",
            "sampleRate": counted,
            "timecode": _timecode(frame, rate) | {"frameRate": counted},
            "frame": frame,
        },
        "transforms": [
            {
                "id": name,
                "translation": {"x": x, "y": y, "z": z},
                "rotation": {"pan": pan, "tilt": tilt, "roll": roll},
            }
        ],
        "lens": {
            "pinholeFocalLength": lens.focal_mm,
            "projectionOffset": {
                "x": (centre[0] / grid.width - 0.5) * width,
                "y": (0.5 - centre[1] / grid.height) * height,
            },
            "distortion": [
                {"model": MODEL, "radial": list(radial), "tangential": list(tangential)}
            ],
        }
        | _opened(frame, taken),
    }


def _known(values: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in values.items() if value is not None}


def _whole(value: float | None) -> int | None:
    return None if value is None else round(value)


def _opened(frame: int, taken: Taken) -> dict[str, float]:
    """Focus distance, f- and T-number of a frame, as far as they are known."""
    stop = taken.f_number.get(frame)
    t_stop = stop / taken.transmittance**0.5 if stop else None
    return _known({"focusDistance": taken.focus_m.get(frame), "fStop": stop, "tStop": t_stop})


def _ratio(value: float) -> dict[str, int]:
    ratio = Fraction(value).limit_denominator(1000)
    return {"num": ratio.numerator, "denom": ratio.denominator}


def _timecode(frame: int, rate: Fraction) -> dict[str, Any]:
    numbers = map(int, format_timecode(frame, rate).split(":"))
    return dict(zip(("hours", "minutes", "seconds", "frames"), numbers))


class OpenTrackSource:
    """Samples as a `Source`: one camera per line, or of a JSON list."""

    metres, up_axis = 1.0, "Z"
    notes: tuple[str, ...] = ()

    def __init__(self, data: bytes) -> None:
        samples = _samples(data)
        self.parents: list[int | None] = [None]
        self.names, self.cameras = [_label(samples[0])], [0]
        rate = _rate(samples[0])
        self.declares = frozenset({"unit", "up_axis"} | ({"rate"} if rate else set()))
        self.rate: Fraction | None = rate
        counted = rate or Fraction(24)
        frames = np.array([_frame(sample, index) for index, sample in enumerate(samples)])
        if (np.diff(frames) <= 0).any():
            raise Problem("A frame in this file comes twice, or they aren't in order.")
        self.first: int | None = int(frames[0])
        self._seconds = (frames - frames[0]) / float(counted)
        self.span = (0.0, float(self._seconds[-1]))
        self._poses = np.array([_pose(sample, index) for index, sample in enumerate(samples)])
        self._lens = [_lens(sample, index) for index, sample in enumerate(samples)]

    def local(self, node: int, seconds: Array) -> Array:
        """(T, 4, 4) of the samples, those between them interpolated."""
        return between(self._seconds, self._poses, seconds)

    def seen(self, node: int, seconds: Array) -> Seen:
        """From the focal length and the sensor."""
        rows = np.array([[*half, focal, *shift] for half, focal, shift, _ in self._lens])
        each = np.stack([np.interp(seconds, self._seconds, row) for row in rows.T], axis=1)
        return Seen(each[:, :2], each[:, 2], each[0, 3:], self._lens[0][3])


def _samples(data: bytes) -> list[dict[str, Any]]:
    try:
        stripped = data.decode("utf-8-sig").strip()
    except UnicodeDecodeError:
        raise Problem(f"{NOT_ONE} it isn't text in UTF-8.") from None
    if not stripped:
        raise Problem(f"{NOT_ONE} it is empty.")
    if stripped.startswith("["):
        found = strict_json.loads(stripped)
    else:
        lines = [line for line in stripped.splitlines() if line.strip()]
        try:
            found = [strict_json.loads(line) for line in lines]
        except Problem:
            found = [strict_json.loads(stripped)]  # one sample over several lines
    if not found or not all(isinstance(sample, dict) for sample in found):
        raise Problem(f"{NOT_ONE} there is no sample in it.")
    if len(found) > MOST_FRAMES:
        raise Problem(f"This file has {len(found):,} samples; {MOST_FRAMES:,} are the most.")
    if not isinstance(found[0].get("protocol"), dict) or found[0]["protocol"].get("name") != NAME:
        raise Problem(f"{NOT_ONE} it doesn't say that it is.")
    return _with_static(found)


def _with_static(samples: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """What doesn't change, as the sensor, needs to be said only now and then: it holds until it is
    said anew."""
    static: Any = None
    out = []
    for sample in samples:
        static = sample.get("static", static)
        out.append(sample if static is None else sample | {"static": static})
    return out


def _at(sample: Any, *keys: str | int) -> Any:
    """What lies in a sample at a path of keys; None where there is nothing."""
    for key in keys:
        if isinstance(key, int):
            sample = sample[key] if isinstance(sample, list) and len(sample) > key else None
        else:
            sample = sample.get(key) if isinstance(sample, dict) else None
    return sample


def _number(value: Any) -> float | None:
    if isinstance(value, (int, float)) and not isinstance(value, bool) and abs(value) < 1e12:
        return float(value)
    return None


def _label(sample: dict[str, Any]) -> str:
    return str(_at(sample, "transforms", -1, "id") or "Camera")[:80]


def _rate(sample: dict[str, Any]) -> Fraction | None:
    for at in (("timing", "sampleRate"), ("static", "camera", "captureFrameRate")):
        num, denom = (_at(sample, *at, part) for part in ("num", "denom"))
        if isinstance(num, int) and isinstance(denom, int) and num > 0 and denom > 0:
            return Fraction(num, denom)
    return None


def _frame(sample: dict[str, Any], index: int) -> int:
    """Our own files tell the frame; others are counted."""
    frame = _at(sample, "timing", "frame")
    whole = isinstance(frame, int) and not isinstance(frame, bool) and abs(frame) < 1e9
    return frame if whole else index + 1


def _pose(sample: dict[str, Any], index: int) -> Array:
    """(4, 4): the sample's transforms one in the other."""
    transforms = _at(sample, "transforms")
    if not isinstance(transforms, list) or not transforms:
        raise Problem(f"Sample {index + 1} has no transform.")
    out = np.eye(4)
    for transform in transforms:
        place = [_number(_at(transform, "translation", axis)) for axis in "xyz"]
        turn = [_number(_at(transform, "rotation", name)) for name in ("pan", "tilt", "roll")]
        if None in place or None in turn:
            raise Problem(f"Sample {index + 1} has a transform without a place or a rotation.")
        one = np.eye(4)
        one[:3, :3] = Rotation.from_euler("ZXY", turn, degrees=True).as_matrix()
        one[:3, 3] = place
        out = out @ one
    out[:3, :3] = out[:3, :3] @ _AHEAD
    return out


def _lens(sample: dict[str, Any], index: int) -> tuple[Array, float, Array, tuple[float, ...]]:
    """Tangents of half the view, the focal length, the window's shift, the distortion."""
    size = [
        value
        for side in ("width", "height")
        if (
            value := _number(
                _at(sample, "static", "camera", "activeSensorPhysicalDimensions", side)
            )
        )
        is not None
    ]
    focal = _number(_at(sample, "lens", "pinholeFocalLength"))
    if focal is None or len(size) < 2 or focal <= 0 or min(size) <= 0:
        return np.full(2, np.nan), np.nan if focal is None else focal, np.zeros(2), NO_DISTORTION
    ratio = [
        _at(sample, "static", "camera", "anamorphicSqueeze", part) for part in ("num", "denom")
    ]
    whole = all(isinstance(part, int) and part > 0 for part in ratio)
    squeeze = ratio[0] / ratio[1] if whole else 1.0
    half = np.array([size[0] * squeeze, size[1]]) / 2 / focal
    moved = [_number(_at(sample, "lens", "projectionOffset", axis)) or 0.0 for axis in "xy"]
    shift = -2 * np.array(moved) / size
    model = _at(sample, "lens", "distortion", 0, "model")
    terms = [
        _number(_at(sample, "lens", "distortion", 0, part, place)) or 0.0
        for part, count in (("radial", 3), ("tangential", 2))
        for place in range(count)
    ]
    return half, focal, shift, tuple(terms) if model == MODEL else NO_DISTORTION
