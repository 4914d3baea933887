"""What the Match step draws over the plate, as JSON for the page: paths in plate pixels and labels.
Computed by the Camera."""

import cv2
import numpy as np

from aperture.camera import Camera
from aperture.match.document import AXES
from aperture.scene import overlay
from aperture.units import METRES

# Residuals are shown longer than they are, or nobody would see them.
ARROW_FACTOR = 20
SHORTEST_ARROW_PX, LONGEST_ARROW_PX = 0.5, 4000
# Its shaft, and its head.
ARROW = "M{:.2f} {:.2f}L{:.2f} {:.2f}M{:.2f} {:.2f}L{:.2f} {:.2f}L{:.2f} {:.2f}"
SPACINGS = (0.01, 0.02, 0.05, 0.1, 0.25, 0.5, 1, 2, 5, 10, 25, 50, 100, 250, 500, 1000)


UP = AXES.index("up")
# Points of a line that is drawn may be left out where it goes on straight, within so much, px.
STRAIGHT_PX = 0.02


def path_of(pieces) -> str:
    """SVG path data of polylines (N, 2) px, without the points that don't bend them."""
    out = []
    for piece in pieces:
        points = np.asarray(piece)
        if len(points) > 2:
            # Douglas and Peucker (1973). In single precision, so from the line's own beginning.
            near = (points - points[0]).astype(np.float32)
            points = cv2.approxPolyDP(near, STRAIGHT_PX, closed=False)[:, 0] + points[0]
        out.append("M" + "L".join([f"{x:.2f} {y:.2f}" for x, y in points.tolist()]))
    return "".join(out)


def spacing_for(camera: Camera, unit_metres: float) -> float:
    """A round grid spacing, in whole or simple parts of the show's unit, near a sixth of the
    camera's distance from the origin."""
    target = max(float(np.linalg.norm(camera.position)), 1e-6) / 7 / unit_metres
    return min(SPACINGS, key=lambda s: abs(np.log(s / target))) * unit_metres


def draw(
    camera: Camera | None, fit: dict, marks: list, length_unit: str, residuals: bool = True
) -> dict:
    """{"paths": [{"class", "d"}], "labels": [{"x", "y", "text", "class"}]} for a fit; empty without
    a camera."""
    paths, labels = [], []
    if camera is None:
        return {"paths": paths, "labels": labels, "says": ""}
    told = fit["determined"]
    level, heads = (told.get(name) != "no" for name in ("direction", "heading"))
    placed = None not in fit["camera"]["position_m"]
    if level and placed and (told.get("position") != "no" or told.get("scale") == "no"):
        paths += _ground(camera, fit, length_unit, labels)
    # What isn't set has no line: a horizon of a path that nothing levels would be made up.
    pieces = overlay.horizon(camera) if level else []
    if pieces:
        paths.append({"class": "horizon", "d": path_of(pieces)})
        middle = max(pieces, key=len)
        labels.append(
            label(
                middle[np.argmin(np.abs(middle[:, 0] - camera.grid.width * 0.04))],
                "horizon",
                "quiet",
            )
        )
    size = np.array([camera.grid.width, camera.grid.height])
    for axis, point in overlay.vanishing_points(camera).items():
        is_set = level and (axis == UP or heads)
        if is_set and (np.abs(point - size / 2) < 0.5 * size + 0.15 * size.max()).all():
            x, y = point
            r = size.max() / 160
            paths.append(
                {
                    "class": f"vanishing {AXES[axis]}",
                    "d": f"M{x - r:.1f} {y:.1f}h{2 * r:.1f}M{x:.1f} {y - r:.1f}v{2 * r:.1f}",
                }
            )
            labels.append(label(point, f"{'XYZ'[axis]} vanishes", "quiet"))
    if residuals:
        paths += _arrows(camera, marks)
    return {
        "paths": paths,
        "labels": labels,
        "says": f"arrows show residuals × {ARROW_FACTOR}"
        if any(p["class"] == "arrows" for p in paths)
        else "",
    }


def label(point, text, kind):
    """Text at a point of the plate, px."""
    return {"x": float(point[0]), "y": float(point[1]), "text": text, "class": kind}


def _ground(camera, fit, length_unit, labels) -> list[dict]:
    scaled = fit["determined"]["scale"] != "no"
    unit = METRES[length_unit] if scaled else 1.0
    spacing = spacing_for(camera, unit)
    paths = [{"class": "floor", "d": path_of(overlay.floor_grid(camera, spacing, 12))}]
    for axis in range(3):
        end = np.eye(3)[axis] * spacing
        pieces = overlay.polyline(camera, [0, 0, 0], end)
        if pieces:
            paths.append({"class": f"axis {AXES[axis]}", "d": path_of(pieces)})
            labels.append(label(pieces[-1][-1], "XYZ"[axis], f"tag {AXES[axis]}"))
    origin = camera.project([[0, 0, 0]])[0]
    if np.isfinite(origin).all():
        text = f"grid {spacing / unit:g} {length_unit}" if scaled else "grid, size unknown"
        labels.append(label(origin, text, "grid"))
    return paths


def _arrows(camera, marks) -> list[dict]:
    used = [mark for mark in marks if not mark.get("off")]
    edges = [
        (np.array(mark["points"], float), AXES.index(mark["axis"]))
        for mark in used
        if mark["kind"] == "edge"
    ]
    starts = [points for points, _ in edges]
    feet = overlay.edge_misses(camera, edges)
    spots = [
        mark for mark in used if mark["kind"] == "spot" and None not in mark.get("world", [None])
    ]
    if spots:
        starts.append(np.array([mark["at"] for mark in spots], float))
        feet.append(camera.project([mark["world"] for mark in spots]))
    d = _arrow_path(np.concatenate(starts), np.concatenate(feet)) if starts else ""
    return [{"class": "arrows", "d": d}] if d else []


def _arrow_path(starts: np.ndarray, feet: np.ndarray) -> str:
    """Arrows from places (N, 2) px toward others, longer than they are."""
    steps = (feet - starts) * ARROW_FACTOR
    long = np.hypot(*steps.T)
    drawn = (long >= SHORTEST_ARROW_PX) & (long <= LONGEST_ARROW_PX)  # not where there is no foot
    starts, steps = starts[drawn], steps[drawn]
    sides = np.stack([-steps[:, 1], steps[:, 0]], axis=1) * 0.16
    tips, backs = starts + steps, starts + 0.72 * steps
    corners = np.concatenate([starts, tips, backs + sides, tips, backs - sides], axis=1).tolist()
    return "".join([ARROW.format(*row) for row in corners])
