"""A camera below moving parents, or one that looks at a target, as one rigid pose per frame.

The world matrix of a node is the product of the local matrices from the root down to it (column
vectors, `world = root · … · parent · own`). A camera is rigid, but such a product may hold scales,
and, where a scale that isn't the same along all axes meets a turn, shear. Where the camera is, and
what its lens axis points at, don't depend on them: the position is the matrix's last column, the
lens axis its third. The picture's up is made perpendicular to the axis.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem

# A scale that differs from 1 by less is a rounding of single precision.
SCALE_TOLERANCE = 1e-5
# Axes shorter than this times the longest one are none.
NO_LENGTH = 1e-9


@dataclass(frozen=True, eq=False)
class Node:
    """One node of a file. `local`: (T, 4, 4) parent from node at the T moments that are asked for;
    `parent`: its index.
    """

    name: str
    parent: int | None
    local: Array


@dataclass(frozen=True, eq=False)
class Baked:
    """Rigid poses, rotations (T, 3, 3) and positions (T, 3) in the file's unit; `done`: what was
    done, in sentences.
    """

    rotations: Array
    positions: Array
    done: tuple[str, ...]


def chain_of(parents: Sequence[int | None], names: Sequence[str], index: int) -> list[int]:
    """The nodes from the root down to one of them. Raises Problem if it is its own ancestor."""
    out: list[int] = []
    at: int | None = index
    while at is not None:
        if at in out:
            raise Problem(f"“{names[at]}” is its own parent: the hierarchy in this file is a ring.")
        out.append(at)
        at = parents[at]
    return out[::-1]


def bake(
    chain: Sequence[Node], target: Sequence[Node] | None = None, roll: float | Array = 0.0
) -> Baked:
    """Return a camera's rigid pose per moment.

    Parameters
    ----------
    chain : sequence of Node
        From the root down to the camera.
    target : sequence of Node, optional
        From the root down to what the camera looks at, whatever its own turn.
    roll : float or ndarray, shape (T,)
        About the lens axis, radians, beside a target; positive is anticlockwise as seen from behind
        the camera.

    Raises
    ------
    Problem
        If a matrix has a value that isn't finite, a scale of zero or a mirror, or if the target is
        where the camera is.
    """
    world = _world(chain)
    done = [*_left_out(chain[:-1]), *_scales(chain)]
    positions = world[:, :3, 3]
    if target is None:
        rotations = _rigid(world[:, :3, :3], chain[-1].name)
    else:
        aim = _world(target)[:, :3, 3]
        rotations = look_at(positions, aim, roll)
        done.append(
            f"The camera was turned to its target “{target[-1].name}”; its own turn was left out."
        )
    return Baked(rotations, positions, tuple(done))


def look_at(positions: Array, targets: Array, roll: float | Array = 0.0) -> Array:
    """Return rotations (T, 3, 3) of cameras that look at targets, the picture's up towards the
    world's, then rolled.

    Parameters
    ----------
    positions, targets : ndarray, shape (T, 3)
    roll : float or ndarray, shape (T,)
        Radians.

    Raises
    ------
    Problem
        If a target is where the camera is, or straight above or below it, where up isn't
        determined.
    """
    back = positions - targets
    away = np.linalg.norm(back, axis=1)
    if not (away > 1e-9).all():
        raise Problem("The target is where the camera is: it can't look at it.")
    back = back / away[:, None]
    across = np.cross([0.0, 1.0, 0.0], back)
    wide = np.linalg.norm(across, axis=1)
    if not (wide > 1e-9).all():
        raise Problem(
            "The target is straight above or below the camera, and up in the picture isn't "
            "determined."
        )
    across = across / wide[:, None]
    up = np.cross(back, across)
    cos, sin = np.cos(roll), np.sin(roll)
    cos, sin = (np.broadcast_to(value, len(back))[:, None] for value in (cos, sin))
    turned = (across * cos + up * sin, up * cos - across * sin, back)
    return np.stack(turned, axis=2)


def _world(chain: Sequence[Node]) -> Array:
    world = np.eye(4)[None]
    for node in chain:
        if not np.isfinite(node.local).all():
            raise Problem(f"“{node.name}” has a value that isn't a finite number.")
        if np.abs(node.local[:, 3] - [0, 0, 0, 1]).max() > 1e-9:
            raise Problem(f"The matrix of “{node.name}” isn't that of a place and a turn.")
        world = world @ node.local
    return world


def _rigid(axes: Array, name: str) -> Array:
    """(T, 3, 3) rotations that keep the lens axis of (T, 3, 3) matrices, and the side on which up
    is.
    """
    lengths = np.linalg.norm(axes, axis=1)
    longest = lengths.max(axis=1, keepdims=True)
    if not (lengths > NO_LENGTH * longest).all() or not (longest > 0).all():
        raise Problem(
            f"A scale of zero above “{name}”, or of its own, leaves no camera: its axes have no "
            "length."
        )
    if (np.linalg.det(axes / longest[:, None]) < 0).any():
        raise Problem(
            f"“{name}” is mirrored: its axes are left-handed. Remove the scale of −1 in its "
            "parents, or choose "
            "left-handed axes where the file is a table."
        )
    back = axes[:, :, 2] / lengths[:, 2:]
    up = axes[:, :, 1] / lengths[:, 1:2]
    up = up - back * (up * back).sum(axis=1, keepdims=True)
    tall = np.linalg.norm(up, axis=1, keepdims=True)
    if not (tall > NO_LENGTH).all():
        raise Problem(f"The axes of “{name}” lie in one plane: no camera can be made of them.")
    up = up / tall
    return np.stack([np.cross(up, back), up, back], axis=2)


def _left_out(parents: Sequence[Node]) -> list[str]:
    names = [f"“{node.name}”" for node in parents if np.abs(node.local - np.eye(4)).max() < 1e-12]
    if not names:
        return []
    carry = "carries" if len(names) == 1 else "carry"
    return [f"{', '.join(names[:6])} {carry} nothing and {_was(len(names))} left out."]


def _scales(chain: Sequence[Node]) -> list[str]:
    out = []
    for node in chain:
        scale = np.linalg.norm(node.local[:, :3, :3], axis=1)
        if np.abs(scale - 1).max() < SCALE_TOLERANCE:
            continue
        middle = np.median(scale, axis=0)
        says = " × ".join(f"{value:.4g}" for value in middle)
        moving = " (it changes)" if np.ptp(scale, axis=0).max() > SCALE_TOLERANCE else ""
        out.append(
            f"The scale of “{node.name}”, {says}{moving}, was removed from the camera; places "
            "below it keep it."
        )
    return out


def _was(count: int) -> str:
    return "was" if count == 1 else "were"
