"""Cameras and their hierarchies of Alembic archives (.abc, Ogawa), by PyAlembic, the format's own
library.

An archive says neither unit nor up axis: ours stand in its description, other files' are assumed to
be centimetres with Y up and asked about if that looks odd. Samples have times in seconds; which
frames they are follows from the rate that the archive notes, or that its samples come at.
"""

from __future__ import annotations

import re
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.moves.keys import between, rate_of
from aperture.moves.source import Seen
from aperture.units import METRES, exact_rate

MOST_NODES, MOST_SAMPLES = 100_000, 200_000
CM_PER_MM = 0.1
# What `aperture.formats.alembic` writes into an archive's description.
_OURS = re.compile(r"Lengths in (m|cm|mm|ft|in), ([YZ]) up")


class AlembicSource:
    """An archive as a `Source`: its transforms, and below them cameras."""

    notes: tuple[str, ...] = ()

    def __init__(self, path: Path) -> None:
        from alembic3d import Abc

        try:
            self._archive = Abc.IArchive(str(path))
            told = Abc.GetArchiveInfo(self._archive)
        except Exception as error:  # noqa: BLE001  (what the library raises is no class of its own)
            raise Problem("This file can't be read as Alembic.") from error
        self.names: list[str] = []
        self.parents: list[int | None] = []
        self.cameras: list[int] = []
        self._schemas: list[Any] = []
        self._collect(self._archive.getTop())
        ours = _OURS.search(str(told.get("userDescription", "")))
        self.metres, self.up_axis = METRES[ours[1] if ours else "cm"], ours[2] if ours else "Y"
        declared = {"unit", "up_axis"} if ours else set()
        times = self._times()
        self.span = float(times[0]), float(times[-1])
        rate = float(told.get("dccFPS") or 0.0)
        self.rate: Fraction | None = exact_rate(rate) if 1e-3 < rate < 1e6 else rate_of(times)
        self.declares = frozenset(declared | ({"rate"} if self.rate else set()))
        self.first: int | None = None
        if self.rate is not None:
            frame = self.span[0] * float(self.rate)
            self.first = round(frame) if abs(frame - round(frame)) < 1e-3 else None

    def _collect(self, top: Any) -> None:
        from alembic3d import AbcGeom

        waiting: list[tuple[Any, int | None]] = [(top, None)]
        while waiting:
            parent, above = waiting.pop(0)
            for index in range(parent.getNumChildren()):
                child = parent.getChild(index)
                kind, at = child.getMetaData(), above
                is_camera = AbcGeom.ICamera.matches(kind)
                if is_camera or AbcGeom.IXform.matches(kind):
                    if len(self.names) >= MOST_NODES:
                        raise Problem(f"This archive has more than {MOST_NODES:,} nodes.")
                    made = AbcGeom.ICamera if is_camera else AbcGeom.IXform
                    schema = made(parent, child.getName()).getSchema()
                    if schema.getNumSamples() > MOST_SAMPLES:
                        raise Problem(f"This archive has more than {MOST_SAMPLES:,} samples.")
                    at = len(self.names)
                    self.names.append(child.getFullName())
                    self.parents.append(above if is_camera or _inherits(schema) else None)
                    self._schemas.append(schema)
                    if is_camera:
                        self.cameras.append(at)
                waiting.append((child, at))

    def _times(self) -> Array:
        """Of the samples of the first camera and of what lies above it, those of which there are
        most."""
        best, at = np.zeros(1), self.cameras[0] if self.cameras else None
        while at is not None:
            own = _sample_times(self._schemas[at])
            best = own if len(own) > len(best) or len(best) == 1 else best
            at = self.parents[at]
        return best

    def local(self, node: int, seconds: Array) -> Array:
        """(T, 4, 4) parent from node."""
        schema = self._schemas[node]
        if node in self.cameras or not schema.getNumSamples():
            return np.broadcast_to(np.eye(4), (len(seconds), 4, 4))
        keys = _sample_times(schema)
        matrices = np.array([_matrix(schema, time) for time in keys.tolist()]).transpose(0, 2, 1)
        if len(keys) == 1:
            return np.broadcast_to(matrices[0], (len(seconds), 4, 4))
        axes = matrices[:, :3, :3]
        rigid = np.abs(np.transpose(axes, (0, 2, 1)) @ axes - np.eye(3)).max() < 1e-9
        if rigid and (np.linalg.det(axes) > 0).all():
            return between(keys, matrices, seconds)
        flat = matrices.reshape(-1, 16)
        return np.stack([np.interp(seconds, keys, one) for one in flat.T], axis=1).reshape(-1, 4, 4)

    def seen(self, node: int, seconds: Array) -> Seen:
        """From the focal length (mm), the apertures and the film offsets (cm)."""
        from alembic3d import Abc

        schema = self._schemas[node]
        keys, rows = _sample_times(schema), []
        for time in keys.tolist() if schema.getNumSamples() else ():
            sample = schema.getValue(Abc.ISampleSelector(time))
            rows.append(
                [
                    sample.getFocalLength(),
                    sample.getHorizontalAperture() * sample.getLensSqueezeRatio() / CM_PER_MM,
                    sample.getVerticalAperture() / CM_PER_MM,
                    sample.getHorizontalFilmOffset() / CM_PER_MM,
                    sample.getVerticalFilmOffset() / CM_PER_MM,
                ]
            )
        if not rows:
            return Seen.unknown(len(seconds))
        values = np.array(rows, float)
        if not np.isfinite(values).all() or not (values[:, :3] > 0).all():
            raise Problem(f"“{self.names[node]}” has no focal length, or no aperture.")
        focal, wide, high, *_ = (np.interp(seconds, keys, one) for one in values.T)
        half = np.stack([wide, high], axis=1) / 2 / focal[:, None]
        return Seen(half, focal, values[0, 3:] / (values[0, 1:3] / 2))


def _inherits(schema: Any) -> bool:
    """Whether a transform is below its parent's; one without samples is."""
    return not schema.getNumSamples() or bool(schema.getValue().getInheritsXforms())


def _sample_times(schema: Any) -> Array:
    """(N,) seconds, at least one."""
    sampling, count = schema.getTimeSampling(), schema.getNumSamples()
    times = np.array([sampling.getSampleTime(index) for index in range(count)] or [0.0], float)
    if not np.isfinite(times).all() or (np.diff(times) <= 0).any():
        raise Problem("The samples’ times in this archive don't increase.")
    return times


def _matrix(schema: Any, time: float) -> list[list[float]]:
    """Of the sample at a time; by their numbers PyAlembic selects none."""
    from alembic3d import Abc

    matrix = schema.getValue(Abc.ISampleSelector(time)).getMatrix()
    return [[float(row[column]) for column in range(4)] for row in matrix]
