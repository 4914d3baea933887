"""What a stereo pair shows: parallaxes of the stand-ins, what is too near or too far, lines over
the plate."""

import math

import numpy as np

from aperture.camera import Camera
from aperture.scene import overlay
from aperture.stereo.pair import Pair, Seat, parallax
from aperture.stereo.solved import Solved
from web.match.overlay import path_of
from web.match.path_fits import camera_of_state
from web.plates.frames import is_pair
from web.shows.models import Shot
from web.stage.stand_ins import shown, stand_in_from, stand_ins_of
from web.stereo import plates
from web.stereo.settings import pair_of, seat_of
from web.ui.rows import Remark, Row

# Vertical parallax that eyes don't put up with for long, in shares of the height: common practice,
# no source.
MOST_VERTICAL = 0.003
CORNERS = 9  # columns and rows of places where the vertical parallax of toeing in is drawn


def rows_of(shot: Shot, left: Camera, right: Camera, seat: Seat) -> list[dict]:
    """A row a stand-in: parallax from its nearest to its farthest corner."""
    out = []
    for name, item in stand_ins_of(shot.state).items():
        corners = item.vertices()
        ahead = left.to_camera_space(corners)[:, 2] < 0
        px = parallax(left, right, corners[ahead])[:, 0] if ahead.any() else np.zeros(0)
        px = px[np.isfinite(px)]
        if not len(px):
            continue
        ends = np.array([px.min(), px.max()])
        share = ends / left.grid.width
        far = seat.seems_at(share)
        out.append(
            {
                "name": name,
                "px": " … ".join(f"{value:+.1f}".replace("-", "−") for value in ends),
                "percent": " … ".join(f"{100 * value:+.2f}".replace("-", "−") for value in share),
                "seems": " … ".join(_metres(shot, value) for value in far),
                "diverges": bool(seat.diverges(share).any()),
            }
        )
    return out


def _metres(shot: Shot, value: float) -> str:
    return "∞" if math.isinf(value) else shot.show.length(float(value), places=1)[0]


def limit_rows(shot: Shot, camera: Camera, pair: Pair, seat: Seat) -> list[Row]:
    """Between what may lie where, for this screen and seat."""
    near, far = seat.limits(camera, pair)
    length = shot.show.length
    return [
        Row(
            "Nearest",
            length(near)[0],
            title="A degree of disparity before the screen (common practice)",
        ),
        Row(
            "Farthest",
            "∞" if math.isinf(far) else length(far)[0],
            title=(
                "A degree of disparity behind the screen, or where the eyes would have to look"
                " apart"
            ),
        ),
        Row("At infinity", f"{100 * _at_infinity(camera, pair):+.2f} %".replace("-", "−")),
        Row("Eyes on this screen", f"{100 * seat.eyes_m / seat.screen_m:.2f} %"),
    ]


def _at_infinity(camera: Camera, pair: Pair) -> float:
    """The parallax of what is infinitely far away, as a share of the width."""
    if pair.mode == "parallel":
        return 0.0
    wide = camera.grid.gate_mm[0] / camera.lens.scale_mm[0]
    return pair.interaxial_m / pair.convergence_m / wide


def remarks_of(
    shot: Shot, camera: Camera, pair: Pair, seat: Seat, rows: list[dict]
) -> list[Remark]:
    """What an audience couldn't look at."""
    out = []
    apart = [row["name"] for row in rows if row["diverges"]]
    if apart:
        says = (
            f"{', '.join(apart[:3])}: the eyes would have to look apart on a screen of"
            f" {seat.screen_m:g} m."
        )
        out.append(Remark("Divergence", says, "bad"))
    elif _at_infinity(camera, pair) * seat.screen_m > seat.eyes_m:
        says = (
            "What is far away would make the eyes look apart: stand the cameras nearer, or converge"
            " farther."
        )
        out.append(Remark("Divergence far away", says, "doubt"))
    worst = float(np.abs(vertical(camera, pair)[1]).max(initial=0.0)) / camera.grid.height
    if worst > MOST_VERTICAL:
        says = (
            f"Toed in, the corners lie up to {100 * worst:.2f} % of the height apart for the two"
            " eyes. Shift the gates instead."
        )
        out.append(Remark("Vertical parallax", says, "doubt"))
    return out


def vertical(camera: Camera, pair: Pair) -> tuple[np.ndarray, np.ndarray]:
    """Places of the picture (N, 2) px, on the plane of convergence, and their vertical parallax
    (N,) px."""
    left, right = pair.cameras(camera)
    x, y = np.meshgrid(
        np.linspace(0.02, 0.98, CORNERS) * camera.grid.width,
        np.linspace(0.02, 0.98, CORNERS) * camera.grid.height,
    )
    at = np.stack([x.ravel(), y.ravel()], -1)
    rays = camera.rays(at)
    depth = -(rays @ camera.rotation)[:, 2]
    points = camera.position + rays * (pair.convergence_m / depth)[:, None]
    off = parallax(left, right, points)[:, 1]
    good = np.isfinite(off)
    return at[good], off[good]


def drawn(shot: Shot) -> dict:
    """The stand-ins as both eyes see them, and arrows of vertical parallax; for the page's
    script."""
    camera, pair, eyes = camera_of_state(shot.state), pair_of(shot), eyes_cameras(shot)
    out: dict = {"left": [], "right": [], "arrows": []}
    if eyes is None:
        return out
    for eye, name in zip(eyes, ("left", "right")):
        out[name] = [path_of(overlay.wire(eye, stand_in_from(item))) for item in shown(shot.state)]
    toed = pair is not None and pair.mode == "toed" and not is_pair(shot.state)
    if toed and camera is not None and pair is not None:
        at, off = vertical(camera, pair)
        out["arrows"] = [
            [round(float(x), 1), round(float(y), 1), 0.0, round(float(value), 2)]
            for (x, y), value in zip(at, off)
            if abs(value) > 0.05
        ]
    return out


def eyes_cameras(shot: Shot) -> tuple[Camera, Camera] | None:
    """Left and right on the frame that is worked on: as matched of a stereo plate, else as typed;
    None of a panorama, and where there are none.
    """
    if is_pair(shot.state):
        return plates.solved_eyes(shot)
    camera, pair = camera_of_state(shot.state), pair_of(shot)
    if camera is None or pair is None or camera.lens.projection.around:
        return None
    return pair.cameras(camera)


def solved_rows(shot: Shot, found: Solved) -> list[Row]:
    """How the eyes of a stereo plate stand to each other."""

    def length(metres: float) -> str:
        return shot.show.length(metres, places=4)[0]

    def degrees(value: float) -> str:
        return f"{value:+.3f}°".replace("-", "−")

    away = "nowhere ahead" if found.converges_m is None else shot.show.length(found.converges_m)[0]
    return [
        Row("Interaxial", length(found.apart_m)),
        Row("Toed in", degrees(found.toe_in_deg)),
        Row("Axes meet", away),
        Row(
            "Right eye tilted",
            degrees(found.tilt_deg),
            title="Against the left one; up is above zero",
        ),
        Row("Right eye rolled", degrees(found.roll_deg), title="Against the left one"),
        Row("Right eye higher", length(found.higher_m)),
        Row("Right eye ahead", length(found.ahead_m)),
    ]


def of_plate(shot: Shot) -> dict:
    """What the page of a stereo plate shows beside the forms."""
    eyes, seat, found = plates.solved_eyes(shot), seat_of(shot), plates.solved(shot)
    out: dict = {"around": False, "pair": None, "seat": seat, "has_camera": eyes is not None}
    if found is not None:
        out["solved"] = solved_rows(shot, found)
    if eyes is None or found is None:
        return out
    rows = rows_of(shot, *eyes, seat)
    apart = [row["name"] for row in rows if row["diverges"]]
    says = (
        f"{', '.join(apart[:3])}: the eyes would have to look apart on a screen of"
        f" {seat.screen_m:g} m."
    )
    return out | {
        "pair": found,
        "parallaxes": rows,
        "seen": [Remark("Divergence", says, "bad")] if apart else [],
    }


def context(shot: Shot) -> dict:
    """What the page shows beside the forms."""
    if is_pair(shot.state):
        return of_plate(shot)
    camera, pair, seat = camera_of_state(shot.state), pair_of(shot), seat_of(shot)
    around = camera is not None and camera.lens.projection.around
    out: dict = {"around": around, "pair": pair, "seat": seat, "has_camera": camera is not None}
    if camera is None or pair is None or around:
        return out
    rows = rows_of(shot, *pair.cameras(camera), seat)
    return out | {
        "parallaxes": rows,
        "limits": limit_rows(shot, camera, pair, seat),
        "seen": remarks_of(shot, camera, pair, seat, rows),
    }
