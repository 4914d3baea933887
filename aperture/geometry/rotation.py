"""Rotations: from angles and back, and by a vector. Conventions: docs/conventions.md."""

from __future__ import annotations

import numpy as np

from aperture.arrays import Array


def rotation_from_angles(pan: float, tilt: float, roll: float) -> Array:
    """(3, 3) world-from-camera rotation Ry(pan) · Rx(tilt) · Rz(roll), radians."""
    (cp, sp), (ct, st), (cr, sr) = ((np.cos(a), np.sin(a)) for a in (pan, tilt, roll))
    ry = np.array([[cp, 0, sp], [0, 1, 0], [-sp, 0, cp]])
    rx = np.array([[1, 0, 0], [0, ct, -st], [0, st, ct]])
    rz = np.array([[cr, -sr, 0], [sr, cr, 0], [0, 0, 1]])
    return ry @ rx @ rz


def rotations_from_angles(angles: Array) -> Array:
    """(T, 3, 3) of pan, tilt and roll (T, 3), each as `rotation_from_angles` has it."""
    (cp, ct, cr), (sp, st, sr) = np.cos(angles).T, np.sin(angles).T
    rows = [
        [cp * cr + sp * st * sr, sp * st * cr - cp * sr, sp * ct],
        [ct * sr, ct * cr, -st],
        [cp * st * sr - sp * cr, sp * sr + cp * st * cr, cp * ct],
    ]
    return np.stack([np.stack(row, axis=1) for row in rows], axis=1)


def angles_from_rotation(rotation: Array) -> tuple[float, float, float]:
    """(pan, tilt, roll) in radians of a world-from-camera rotation; looking straight up or down,
    roll is 0."""
    r = np.asarray(rotation, float)
    tilt = np.arctan2(-r[1, 2], np.hypot(r[0, 2], r[2, 2]))
    if np.hypot(r[0, 2], r[2, 2]) < 1e-9:
        return float(np.arctan2(-r[2, 0], r[0, 0])), float(tilt), 0.0
    return float(np.arctan2(r[0, 2], r[2, 2])), float(tilt), float(np.arctan2(r[1, 0], r[1, 1]))


def exponential(w: Array) -> Array:
    """(3, 3) rotation by the vector w, radians (Rodrigues)."""
    angle = np.linalg.norm(w)
    k = np.array([[0, -w[2], w[1]], [w[2], 0, -w[0]], [-w[1], w[0], 0]])
    if angle < 1e-8:
        return np.eye(3) + k + k @ k / 2
    return np.eye(3) + np.sin(angle) / angle * k + (1 - np.cos(angle)) / angle**2 * (k @ k)


def degrees_of(turn: Array) -> float:
    """By how much a rotation (3, 3) turns, degrees."""
    around = turn[2, 1] - turn[1, 2], turn[0, 2] - turn[2, 0], turn[1, 0] - turn[0, 1]
    return float(np.degrees(np.arctan2(np.linalg.norm(around), np.trace(turn) - 1)))
