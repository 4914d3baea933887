"""Brown–Conrady distortion, undistorted → distorted, in the coordinates and with the signs of OpenCV.

Brown, D. C., "Close-range camera calibration", Photogrammetric Engineering 37 (8), 1971; as in OpenCV's camera model
(x right, y down, normalised by the focal length): x_d = x(1 + k1 r² + k2 r⁴ + k3 r⁶) + 2 p1 x y + p2 (r² + 2x²), and so on.
Coefficients are passed as one array k = (k1, k2, k3, p1, p2); this order is ours, OpenCV's is (k1, k2, p1, p2, k3).
"""

import numpy as np

NAMES = ("k1", "k2", "k3", "p1", "p2")


def opencv_order(k) -> np.ndarray:
    """(5,) our coefficients in the order of OpenCV's functions."""
    k1, k2, k3, p1, p2 = k
    return np.array([k1, k2, p1, p2, k3])


def growth_radius(k) -> float:
    """The undistorted radius at which the radial part stops growing; inf where it never does.

    Beyond it the model folds back and has no meaning.
    """
    k1, k2, k3 = k[:3]
    if not (k1 or k2 or k3):
        return np.inf
    # In s = 1/r² the polynomial is monic, so that coefficients next to nothing do no harm.
    roots = np.roots([1.0, 3 * k1, 5 * k2, 7 * k3])
    real = roots.real[(np.abs(roots.imag) < 1e-9 * (1 + np.abs(roots.real))) & (roots.real > 1e-12)]
    return float(1 / np.sqrt(real.max())) if real.size else np.inf


def distort(x, k) -> np.ndarray:
    """Distorted positions (N, 2) of undistorted ones (N, 2), both normalised. NaN beyond the growth radius."""
    x = np.asarray(x, float)
    out = _distort_anywhere(x, k)
    limit = growth_radius(k)
    if np.isfinite(limit):
        out[np.einsum("ni,ni->n", x, x) >= limit**2] = np.nan
    return out


def jacobian(x, k) -> np.ndarray:
    """(N, 2, 2) derivative of `distort` by the undistorted position."""
    k1, k2, k3, p1, p2 = k
    u, v = x[:, 0], x[:, 1]
    r2 = u * u + v * v
    radial = 1 + r2 * (k1 + r2 * (k2 + r2 * k3))
    slope = k1 + r2 * (2 * k2 + r2 * 3 * k3)
    cross = 2 * u * v * slope + 2 * p1 * u + 2 * p2 * v
    out = np.empty((len(x), 2, 2))
    out[:, 0, 0] = radial + 2 * u * u * slope + 2 * p1 * v + 6 * p2 * u
    out[:, 0, 1] = out[:, 1, 0] = cross
    out[:, 1, 1] = radial + 2 * v * v * slope + 6 * p1 * v + 2 * p2 * u
    return out


def jacobian_along(x, k, dx) -> np.ndarray:
    """(N, 2, 2) derivative of `jacobian` along the direction dx (N, 2)."""
    k1, k2, k3, p1, p2 = k
    u, v, du, dv = x[:, 0], x[:, 1], dx[:, 0], dx[:, 1]
    r2, dr2 = u * u + v * v, 2 * (u * du + v * dv)
    slope = k1 + r2 * (2 * k2 + r2 * 3 * k3)
    bend = (2 * k2 + 6 * k3 * r2) * dr2
    out = np.empty((len(x), 2, 2))
    out[:, 0, 0] = slope * dr2 + 4 * u * du * slope + 2 * u * u * bend + 2 * p1 * dv + 6 * p2 * du
    out[:, 0, 1] = out[:, 1, 0] = 2 * (du * v + u * dv) * slope + 2 * u * v * bend + 2 * p1 * du + 2 * p2 * dv
    out[:, 1, 1] = slope * dr2 + 4 * v * dv * slope + 2 * v * v * bend + 6 * p1 * dv + 2 * p2 * du
    return out


def by_coefficients(x) -> np.ndarray:
    """(N, 2, 5) derivative of `distort` by (k1, k2, k3, p1, p2)."""
    u, v = x[:, 0], x[:, 1]
    r2 = u * u + v * v
    out = np.empty((len(x), 2, 5))
    for column, power in enumerate((r2, r2**2, r2**3)):
        out[:, :, column] = x * power[:, None]
    out[:, 0, 3], out[:, 1, 3] = 2 * u * v, r2 + 2 * v * v
    out[:, 0, 4], out[:, 1, 4] = r2 + 2 * u * u, 2 * u * v
    return out


def jacobian_by_coefficients(x) -> np.ndarray:
    """(N, 2, 2, 5) derivative of `jacobian` by (k1, k2, k3, p1, p2): `jacobian` is linear in them."""
    identity = jacobian(x, np.zeros(5))
    return np.stack([jacobian(x, unit) - identity for unit in np.eye(5)], axis=-1)


def undistort(xd, k, tolerance: float = 1e-10, iterations: int = 60) -> np.ndarray:
    """Undistorted positions (N, 2) of distorted ones (N, 2), by Newton's method to `tolerance`; NaN where there is none."""
    xd = np.asarray(xd, float)
    k = np.asarray(k, float)
    if not k.any():
        return xd.copy()
    limit = growth_radius(k)
    x = xd.copy()
    if np.isfinite(limit):  # start inside, on the branch that means something
        radius = np.linalg.norm(x, axis=1)
        x *= np.minimum(1.0, 0.7 * limit / np.maximum(radius, 1e-12))[:, None]
    with np.errstate(all="ignore"):
        for _ in range(iterations):
            raw = _distort_anywhere(x, k) - xd
            step = _solve2(jacobian(x, k), raw)
            length = np.linalg.norm(step, axis=1)
            step *= np.minimum(1.0, 0.3 / np.maximum(length, 1e-12))[:, None]
            x = x - step
            if not (length > tolerance * 1e-3).any():
                break
        miss = np.linalg.norm(_distort_anywhere(x, k) - xd, axis=1)
        bad = ~(miss <= tolerance) | (np.linalg.norm(x, axis=1) >= limit)
    x[bad] = np.nan
    return x


def _distort_anywhere(x, k):
    k1, k2, k3, p1, p2 = k
    u, v = x[:, 0], x[:, 1]
    r2 = u * u + v * v
    radial = 1 + r2 * (k1 + r2 * (k2 + r2 * k3))
    return np.stack([u * radial + 2 * p1 * u * v + p2 * (r2 + 2 * u * u), v * radial + p1 * (r2 + 2 * v * v) + 2 * p2 * u * v], -1)


def _solve2(matrix, right):
    a, b, c, d = matrix[:, 0, 0], matrix[:, 0, 1], matrix[:, 1, 0], matrix[:, 1, 1]
    det = a * d - b * c
    return np.stack([d * right[:, 0] - b * right[:, 1], a * right[:, 1] - c * right[:, 0]], -1) / det[:, None]
