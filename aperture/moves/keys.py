"""Keys over time: at which rate they come, and rigid poses between them."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
from scipy.spatial.transform import Rotation, Slerp

from aperture.arrays import Array
from aperture.units import exact_rate

UNEVEN = 0.02  # by which share of a step a key of an even rate may lie beside its moment


def rate_of(times: Array) -> Fraction | None:
    """Return the rate at which keys lie on frames.

    Parameters
    ----------
    times : ndarray, shape (K,)
        Seconds, increasing; frames between them may have none.

    Returns
    -------
    Fraction or None
        None with fewer than three keys, and where they don't lie evenly.

    Examples
    --------
    >>> rate_of(np.array([0, 1, 2, 4]) * 1001 / 24000)
    Fraction(24000, 1001)
    """
    if len(times) < 3:
        return None
    steps = np.diff(times)
    step = float(np.median(steps))
    if step <= 0:
        return None
    each = np.round(steps / step)
    if np.abs(steps / step - each).max() > UNEVEN:
        return None
    # Over the whole length, so that the rounding of a time to single precision doesn't matter.
    return exact_rate(float(each.sum() / (times[-1] - times[0])))


def between(keys: Array, poses: Array, seconds: Array) -> Array:
    """Return poses between keys: places along straight lines, turns the shortest way.

    Parameters
    ----------
    keys : ndarray, shape (K,)
        Seconds, increasing.
    poses : ndarray, shape (K, 4, 4)
        Rigid.
    seconds : ndarray, shape (T,)
        Moments; before the first key and after the last, those hold.

    Returns
    -------
    ndarray, shape (T, 4, 4)
    """
    moment = np.clip(seconds, keys[0], keys[-1])
    out = np.tile(np.eye(4), (len(moment), 1, 1))
    if len(keys) == 1:
        out[:] = poses[0]
        return out
    out[:, :3, :3] = Slerp(keys, Rotation.from_matrix(poses[:, :3, :3]))(moment).as_matrix()
    out[:, :3, 3] = np.stack([np.interp(moment, keys, row) for row in poses[:, :3, 3].T], axis=1)
    return out
