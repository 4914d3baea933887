"""Marks that take no part in a fit, compared with it: how far each lies from where the fit has it.

An edge is compared with the direction of its axis: its own angle is free, as in the fit. A spot is
compared with its known place; coordinates that aren't known are free, so a spot with two of them
unknown always agrees and says nothing.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from aperture.match.evidence import Edge, Evidence, Spot
from aperture.match.system import State, System

# Steps in which the unknown coordinate of a spot is found.
STEPS = 12


@dataclass(frozen=True)
class Check:
    """How far a mark lies from the fit: `px`, root mean square over an edge's points; `count` of
    them."""

    id: str
    px: float
    count: int


def errors(evidence: Evidence, state: State, marks: tuple[Edge | Spot, ...]) -> list[Check]:
    """A Check for each of the marks of which the fit says anything.

    Parameters
    ----------
    evidence : Evidence
        The document's, for its grid and lens.
    state : State
        The fit's camera.
    marks : tuple of Edge or Spot
    """
    edges = tuple(mark for mark in marks if isinstance(mark, Edge) and mark.axis is not None)
    out = _edge_errors(evidence, state, edges)
    for mark in marks:
        if isinstance(mark, Spot) and np.isfinite(mark.world).sum() >= 2:
            px = _spot_error(evidence, state, mark)
            if math.isfinite(px):
                out.append(Check(mark.id, px, 1))
    return out


def _edge_errors(evidence: Evidence, state: State, edges: tuple[Edge, ...]) -> list[Check]:
    if not edges:
        return []
    alone = replace(evidence, edges=edges, bows=(), spots=(), facts=(), shared=())
    system = System(alone)
    lined_up = system.state(state.rotation, state.lens)
    r = system.edge_residuals(lined_up) * system.line_sigma
    out = []
    for index, edge in enumerate(edges):
        own = r[system.line_starts[index] : system.line_starts[index + 1]]
        if np.isfinite(own).all():
            out.append(Check(edge.id, float(np.sqrt(np.mean(own**2))), len(own)))
    return out


def _spot_error(evidence: Evidence, state: State, spot: Spot) -> float:
    """Distance in px from where the spot's place is seen; its one unknown coordinate is free."""
    grid, unknown = evidence.grid, np.flatnonzero(~np.isfinite(spot.world))
    world = np.nan_to_num(spot.world)
    if len(unknown):  # begin where the spot's own ray passes the known line most closely
        ray = state.lens.rays(grid.to_mm([spot.at]))[0] @ state.rotation.T
        toward = np.stack([ray, -np.eye(3)[unknown[0]]], -1)
        world[unknown] = np.linalg.lstsq(toward, world - state.position, rcond=None)[0][1]
    for _ in range(STEPS if len(unknown) else 1):
        local = ((world - state.position) @ state.rotation)[None]
        mm, by_point, _ = state.lens.project(local, derivatives=True)
        miss = grid.to_px(mm)[0] - spot.at
        if not len(unknown) or not np.isfinite(miss).all():
            break
        slope = (grid.px_linear @ by_point[0] @ state.rotation.T)[:, unknown[0]]
        world[unknown] -= float(slope @ miss) / max(float(slope @ slope), 1e-12)
    return float(np.linalg.norm(miss))
