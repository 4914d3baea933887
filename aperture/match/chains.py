"""Place free spots that are tied to known ones by straight lengths only.

A spot of which nothing is known lies somewhere on its ray. A straight length of ``L`` metres to a
partner at ``P`` puts it on a sphere, which the ray ``C + t d`` meets at

    t = d · (P − C) ± sqrt((d · (P − C))² − |P − C|² + L²)

so there are two candidates for each length, and ``2^n`` for a chain of ``n``. Freeing camera and
spots together from a poor guess falls into one of the wrong combinations, where honest lengths
pull the camera aside. So the camera is solved first without those lengths; then the spots are
placed one after the other, keeping a beam of the combinations that agree best with all lengths
between placed spots; then everything is refined together.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from aperture.arrays import Array
from aperture.match.evidence import Evidence
from aperture.match.facts import Length
from aperture.match.least_squares import Optimum
from aperture.match.system import State, System

# Combinations that are kept while spots are placed, and of them those that are refined.
BEAM_WIDTH = 48
REFINED = 8
# Spots of one picture lie at similar distances: of two places that serve equally well, the one
# whose logarithm of the distance is nearer to the others' is tried first. Its weight in σ².
SIMILAR_DISTANCE = 0.01
# How well a length has to agree while the camera isn't refined with it, as a share of the length.
ROUGH_SHARE = 0.01
# A known coordinate fixes a spot on its ray only where the ray isn't nearly perpendicular to it.
LEAST_SLOPE = 0.02
# Where a spot is put whose places all lie behind the camera.
CLOSE_M = 0.1


@dataclass(frozen=True)
class _Partial:
    """A combination under construction: coordinates (V,) in metres, NaN where still open."""

    values: Array
    cost: float


def loose_lengths(system: System) -> tuple[Length, ...]:
    """Straight lengths that end at a spot of which no coordinate is known."""
    held = np.any(system.held, axis=1)
    return tuple(
        length
        for length in system.evidence.lengths
        if length.axis is None
        and not (held[system.spot_index[length.start]] and held[system.spot_index[length.end]])
    )


def without(evidence: Evidence, lengths: tuple[Length, ...]) -> Evidence:
    """The evidence without some of its lengths."""
    return replace(evidence, facts=tuple(fact for fact in evidence.facts if fact not in lengths))


def starts(system: System, base: System, optimum: Optimum) -> Iterator[State]:
    """First guesses for ``system``, the most promising first.

    Parameters
    ----------
    system : System
        All of the evidence.
    base, optimum : System, Optimum
        The same without its `loose_lengths`, solved; the camera's position is determined there.
    """
    camera = optimum.state
    rays = camera.lens.rays(system.grid.to_mm(system.spot_at))
    rays = rays / np.linalg.norm(rays, axis=1, keepdims=True) @ camera.rotation.T
    if not np.isfinite(rays).all():
        return
    beam = [_Partial(_known_values(system, base, optimum), 0.0)]
    usual = _usual_distance(system, beam[0].values, camera.position)
    while (index := _next_spot(system, beam[0].values)) is not None:
        grown = [
            placed
            for partial in beam
            for placed in _with_spot(system, partial, index, camera.position, rays[index], usual)
        ]
        beam = sorted(grown, key=lambda partial: partial.cost)[:BEAM_WIDTH]
    for partial in beam[:REFINED]:
        yield system.state(camera.rotation, camera.lens, camera.position, partial.values)


def _known_values(system: System, base: System, optimum: Optimum) -> Array:
    """(V,) metres: what the camera's own solution tells of the spots; NaN for the rest."""
    values = np.full(system.value_count, np.nan)
    points, start = base.points(optimum.state), base.at["values"].start
    is_open = np.abs(optimum.spread.null).max(axis=1, initial=0.0) > 1e-5
    for spot, axis in zip(*np.nonzero(system.variable >= 0)):
        inner = base.spot_index.get(system.spots[spot].id)
        if inner is None:
            continue
        slot = base.variable[inner, axis]
        if slot < 0 or not is_open[start + slot]:
            values[system.variable[spot, axis]] = points[inner, axis]
    return values


def _coordinates(system: System, values: Array, index: int) -> Array:
    """(3,) metres: a spot's place as far as it is known, NaN for the rest."""
    slots = system.variable[index]
    return np.where(slots >= 0, values[np.maximum(slots, 0)], system.known[index])


def _placed_partners(system: System, values: Array, index: int) -> list[tuple[Length, Array]]:
    """The straight lengths from a spot to spots that have their place, with that place."""
    out = []
    for length in system.evidence.lengths:
        ends = (system.spot_index[length.start], system.spot_index[length.end])
        if length.axis is None and index in ends:
            partner = _coordinates(system, values, ends[0] if ends[1] == index else ends[1])
            if np.isfinite(partner).all():
                out.append((length, partner))
    return out


def _next_spot(system: System, values: Array) -> int | None:
    """The unplaced spot of which most is known; None where all have their place."""
    best, most = None, (-1, -1)
    for index in range(len(system.spots)):
        place = _coordinates(system, values, index)
        if np.isfinite(place).all():
            continue
        known = (int(np.isfinite(place).sum()), len(_placed_partners(system, values, index)))
        if known > most:
            best, most = index, known
    return best


def _usual_distance(system: System, values: Array, camera: Array) -> float:
    """Median distance in metres from the camera to the spots that have their place."""
    reach = np.linalg.norm(system.points_at(values) - camera, axis=1)
    placed = reach[np.isfinite(reach)]
    return float(np.median(placed)) if len(placed) else 1.0


def _with_spot(
    system: System, partial: _Partial, index: int, camera: Array, ray: Array, usual: float
) -> Iterator[_Partial]:
    """The combination with one more spot, once for each place that it may have."""
    partners = _placed_partners(system, partial.values, index)
    for distance in _distances(system, partial.values, index, camera, ray, partners) or [usual]:
        point = camera + distance * ray
        cost = sum(_disagreement(length, partner, point) for length, partner in partners)
        cost += SIMILAR_DISTANCE * np.log(distance / usual) ** 2
        values = partial.values.copy()
        slots = system.variable[index]
        still_open = (slots >= 0) & np.isnan(values[np.maximum(slots, 0)])
        values[slots[still_open]] = point[still_open]
        yield _Partial(values, partial.cost + cost)


def _distances(
    system: System,
    values: Array,
    index: int,
    camera: Array,
    ray: Array,
    partners: list[tuple[Length, Array]],
) -> list[float]:
    """Distances in metres from the camera at which a spot may lie on its ray; none if open."""
    place = _coordinates(system, values, index)
    fixed = np.isfinite(place) & (np.abs(ray) > LEAST_SLOPE)
    if fixed.any():
        distance = float(ray[fixed] @ (place - camera)[fixed] / (ray[fixed] @ ray[fixed]))
        return [distance if distance > 0 else CLOSE_M]
    found = []
    for length, partner in partners:
        toward = partner - camera
        middle = float(ray @ toward)
        square = middle**2 - float(toward @ toward) + length.metres**2
        half = np.sqrt(max(square, 0.0))
        found += [middle - half, middle + half] if half > 0 else [middle]
    # Where every place lies behind the camera, an earlier choice was wrong or a length is: go on
    # close to the camera, at a cost that tells.
    ahead = [distance for distance in found if distance > 0]
    return ahead if ahead or not found else [CLOSE_M]


def _disagreement(length: Length, partner: Array, point: Array) -> float:
    """How far a length is off, in σ²."""
    sigma = np.hypot(length.plus_minus, ROUGH_SHARE * length.metres)
    return float(((np.linalg.norm(point - partner) - length.metres) / sigma) ** 2)
