"""Central projections about the lens axis: camera space ↔ the ideal picture, in focal lengths, y down.

With θ the angle from the axis: rectilinear r = tan θ; equidistant r = θ; equisolid r = 2 sin(θ/2); stereographic
r = 2 tan(θ/2); orthographic r = sin θ (Ray, "Applied Photographic Optics", 3rd ed. 2002, and Kannala & Brandt 2006, eq. 1–5;
cited from memory). A camera-space point (X, Y, Z) looks down −Z; turning Y upward into y downward happens here and nowhere else.
"""

import numpy as np

# Those that a match document can name; the last has no answer beyond 90° and no lens in use that needs it.
MATCHED = ("rectilinear", "equidistant", "equisolid", "stereographic")
NAMES = (*MATCHED, "orthographic")


def project(points, projection: str = "rectilinear", derivatives: bool = False):
    """Ideal positions (N, 2) of camera-space points (N, 3); with `derivatives` also (N, 2, 3). NaN where nothing is imaged."""
    points = np.asarray(points, float)
    x, y, forward = points[:, 0], -points[:, 1], -points[:, 2]
    with np.errstate(all="ignore"):
        if projection == "rectilinear":
            inverse = np.where(forward > 1e-12, 1 / forward, np.nan)
            out = np.stack([x * inverse, y * inverse], -1)
            if not derivatives:
                return out
            jac = np.zeros((len(points), 2, 3))
            jac[:, 0, 0], jac[:, 1, 1] = inverse, -inverse
            jac[:, 0, 2], jac[:, 1, 2] = out[:, 0] * inverse, out[:, 1] * inverse
            return out, jac
        side = np.hypot(x, y)
        theta = np.arctan2(side, forward)
        radius, slope = _radius(theta, projection)
        ratio = np.where(side > 1e-9 * np.abs(forward), radius / side, 1 / forward)
        ratio = np.where((theta > 1e-9) | (forward > 0), ratio, np.nan)
        out = np.stack([x * ratio, y * ratio], -1)
        if not derivatives:
            return out
        distance2 = side**2 + forward**2
        # d(ratio)/d(side) and d(ratio)/d(forward), through θ
        near_axis = side <= 1e-9 * np.abs(forward)
        by_side = np.where(
            near_axis, 0, (slope * forward / distance2 - ratio) / np.where(side > 0, side, 1)
        )
        by_forward = np.where(near_axis, -1 / forward**2, -slope / distance2)
        ux, uy = (
            np.where(side > 0, x / np.where(side > 0, side, 1), 0),
            np.where(side > 0, y / np.where(side > 0, side, 1), 0),
        )
        jac = np.empty((len(points), 2, 3))
        jac[:, 0, 0], jac[:, 0, 1], jac[:, 0, 2] = (
            ratio + x * by_side * ux,
            -x * by_side * uy,
            -x * by_forward,
        )
        jac[:, 1, 0], jac[:, 1, 1], jac[:, 1, 2] = (
            y * by_side * ux,
            -(ratio + y * by_side * uy),
            -y * by_forward,
        )
        return out, jac


def _radius(theta, projection):
    if projection == "equidistant":
        return theta, np.ones_like(theta)
    if projection == "equisolid":
        return 2 * np.sin(theta / 2), np.cos(theta / 2)
    if projection == "stereographic":
        return 2 * np.tan(theta / 2), 1 / np.cos(theta / 2) ** 2
    if projection == "orthographic":
        inside = theta <= np.pi / 2
        return np.where(inside, np.sin(theta), np.nan), np.cos(theta)
    raise ValueError(f"unknown projection {projection!r}")


def _ray_terms(rho, projection):
    """S, C and their first two derivatives by ρ = r², where the ray is (x·S, −y·S, −C) with S = sin θ / r and C = cos θ."""
    one, zero = np.ones_like(rho), np.zeros_like(rho)
    if projection == "stereographic":
        d = 1 + rho / 4
        return 1 / d, -0.25 / d**2, 0.125 / d**3, (1 - rho / 4) / d, -0.5 / d**2, 0.25 / d**3
    with np.errstate(invalid="ignore"):
        if projection == "equisolid":
            s = np.sqrt(np.where(rho <= 4, 1 - rho / 4, np.nan))
            return s, -1 / (8 * s), -1 / (64 * s**3), 1 - rho / 2, -0.5 * one, zero
        if projection == "orthographic":
            c = np.sqrt(np.where(rho <= 1, 1 - rho, np.nan))
            return one, zero, zero, c, -0.5 / c, -0.25 / c**3
    if projection != "equidistant":
        raise ValueError(f"unknown projection {projection!r}")
    r = np.sqrt(np.where(rho <= np.pi**2, rho, np.nan))
    small = r < 1e-2
    safe = np.where(small, 1.0, r)
    sine, cosine = np.sin(safe), np.cos(safe)
    s = np.where(small, 1 - rho / 6 + rho**2 / 120, sine / safe)
    s1 = np.where(small, -1 / 6 + rho / 60, (safe * cosine - sine) / (2 * safe**3))
    s2 = np.where(
        small, 1 / 60 - rho / 840, (3 * sine - 3 * safe * cosine - safe**2 * sine) / (4 * safe**5)
    )
    return s, s1, s2, np.cos(r), -s / 2, -s1 / 2


def rays(q, projection: str = "rectilinear") -> np.ndarray:
    """Camera-space directions (N, 3) of ideal positions (N, 2), not of length 1; NaN outside the picture the projection can make."""
    q = np.asarray(q, float)
    if projection == "rectilinear":
        return np.stack([q[:, 0], -q[:, 1], np.where(np.isfinite(q[:, 0]), -1.0, np.nan)], -1)
    s, _, _, c, _, _ = _ray_terms(np.einsum("ni,ni->n", q, q), projection)
    return np.stack([q[:, 0] * s, -q[:, 1] * s, -c], -1)


def ray_jacobian(q, projection: str = "rectilinear") -> np.ndarray:
    """(N, 3, 2) derivative of `rays` by the ideal position."""
    if projection == "rectilinear":
        return np.broadcast_to([[1.0, 0], [0, -1.0], [0, 0]], (len(q), 3, 2))
    s, s1, _, _, c1, _ = _ray_terms(np.einsum("ni,ni->n", q, q), projection)
    out = np.empty((len(q), 3, 2))
    for j in range(2):
        out[:, 0, j] = 2 * q[:, 0] * q[:, j] * s1 + (s if j == 0 else 0)
        out[:, 1, j] = -2 * q[:, 1] * q[:, j] * s1 - (s if j == 1 else 0)
        out[:, 2, j] = -2 * q[:, j] * c1
    return out


def ray_jacobian_along(q, projection: str, dq) -> np.ndarray:
    """(N, 3, 2) derivative of `ray_jacobian` along dq (N, 2)."""
    if projection == "rectilinear":
        return np.zeros((len(q), 3, 2))
    _, s1, s2, _, c1, c2 = _ray_terms(np.einsum("ni,ni->n", q, q), projection)
    drho = 2 * np.einsum("ni,ni->n", q, dq)
    out = np.empty((len(q), 3, 2))
    for j in range(2):
        for i, sign in ((0, 1), (1, -1)):
            out[:, i, j] = sign * (
                2 * (dq[:, i] * q[:, j] + q[:, i] * dq[:, j]) * s1
                + 2 * q[:, i] * q[:, j] * s2 * drho
                + (s1 * drho if i == j else 0)
            )
        out[:, 2, j] = -2 * (dq[:, j] * c1 + q[:, j] * c2 * drho)
    return out


def radius_at(theta: float, projection: str) -> float:
    """Distance from the picture's middle in focal lengths of a ray at `theta` radians from the axis; NaN where there is none."""
    return float(project([[np.sin(theta), 0.0, -np.cos(theta)]], projection)[0, 0])


def angle_at(radius: float, projection: str) -> float:
    """The angle from the axis, radians, imaged at `radius` focal lengths from the middle; NaN where there is none."""
    x, _, z = rays(np.array([[radius, 0.0]]), projection)[0]
    return float(np.arctan2(x, -z))
