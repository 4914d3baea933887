"""What the Focus leaf shows: the ruler, what overrides what, and the check of the scene's size."""

import math

import numpy as np

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.light.focus import BASES, BlurScale, ThinLens, scale_from_blur
from aperture.render.tracer import Look, Scene
from aperture.scene.stand_in import StandIn
from web.expose import focusing, maps, page
from web.match.path_fits import camera_of_state, require_camera
from web.plates.models import frame_of, plate_of
from web.shows.models import Shot
from web.stage.stand_ins import stand_ins_of
from web.ui.rows import Remark, Row

WIDE, LINE, TOP = 336, 17, 44  # px of the ruler: its width, a stand-in's line, where they begin
WORD = 66  # px that a word of it takes
MOST_ITEMS = 12
LEAST_BLUR_PX, LEAST_SIGMA_PX = 3.0, 0.5  # for the check of scale
ROUND = (1.0, 2.0, 5.0)


def span(camera: Camera, item: StandIn) -> tuple[float, float]:
    """Nearest and farthest distance of a stand-in along the axis, metres."""
    away = -camera.to_camera_space(item.bounds())[:, 2]
    return float(away.min()), float(away.max())


def hit(shot: Shot, at: tuple[float, float]) -> tuple[float, str]:
    """What a place of the plate shows: its distance along the axis, metres, and what it is called.

    Raises Problem where it is neither a stand-in nor the floor.
    """
    camera = require_camera(shot.state)
    pixels = np.array([at], float)
    items = stand_ins_of(shot.state)
    ray = camera.rays(pixels)
    hits = Scene(camera, [(item, Look(name)) for name, item in items.items()]).hit(ray)
    if hits.met[0]:
        away = -float((hits.point[0] @ camera.rotation)[2])
        return away, list(items)[int(hits.item[0])]
    ground = camera.on_plane(pixels)[0]
    if not np.isfinite(ground).all():
        raise Problem("There is neither a stand-in nor floor: nothing says how far away that is.")
    return focusing.distance_to(camera, ground), "the floor"


def context(shot: Shot) -> dict:
    """All that the leaf shows."""
    camera = camera_of_state(shot.state)
    found = focusing.focus_at(shot)
    lens, problem = _lens(shot)
    remarks = [] if not problem else [Remark("The focus", problem, "bad")]
    out: dict = {
        "focus": found,
        "focus_says": _says(shot, found.metres),
        "others": [
            (wish.says, wish.why or f"{shot.show.length(wish.metres)[0]}, not in use")
            for wish in found.others
        ],
        "keys": _keys(shot),
        "close": focusing.catalogued(shot).get("close_focus_m"),
        "remarks": remarks,
    }
    if lens is None or camera is None:
        missing = _missing(shot, camera, found)
        if missing and not problem:
            remarks.append(Remark("Nothing to reckon with yet", missing, "note"))
        return out
    circle, basis = focusing.circle_of(shot, camera)
    out |= {
        "rows": _rows(shot, lens, circle, basis, camera),
        "ruler": ruler(shot, camera, lens, circle),
    }
    remarks += _near_limit(shot, lens) + scale_remarks(shot)
    return out


def _says(shot: Shot, metres: float | None) -> str:
    """The distance; of a film with the frame that it holds for, as another may be looked at."""
    if not metres:
        return "–"
    says = shot.show.length(metres)[0]
    return f"{says}, frame {frame_of(shot)}" if shot.state["film"] else says


def _lens(shot: Shot) -> tuple[ThinLens | None, str]:
    try:
        return focusing.lens_at(shot), ""
    except Problem as problem:
        return None, problem.sentence


def _missing(shot: Shot, camera: Camera | None, found: focusing.Focus) -> str:
    needs = [
        name
        for name, there in (
            ("a camera (Match)", camera is not None),
            ("the gate (Gate)", bool(shot.state["gate"])),
            ("a stop (Light)", focusing.stop_at(shot) is not None),
            ("a focus, below", found.metres is not None),
        )
        if not there
    ]
    return f"Depth of field needs {', '.join(needs)}." if needs else ""


def _keys(shot: Shot) -> list[dict]:
    shift = shot.state["shift"]
    return [
        {"frame": int(frame + shift), "says": shot.show.length(metres)[0]}
        for frame, metres in sorted(shot.state["focus"].get("keys", []))
    ]


def _rows(shot: Shot, lens: ThinLens, circle: float, basis: str, camera: Camera) -> list[Row]:
    near, far = lens.limits(circle)
    px = camera.grid.width / camera.grid.gate_mm[0]
    length = shot.show.length
    rows = [
        Row("Sharp from", length(near)[0]),
        Row("Sharp to", page.length_or_far(shot, far)),
        Row("Hyperfocal", length(lens.hyperfocal(circle))[0]),
        Row(
            "Circle",
            f"{1000 * circle:.1f} µm",
            f"{circle * px:.1f} px",
            "typed" if basis == "typed" else "assumed",
            f"What counts as sharp: {BASES[basis]}",
        ),
        Row("Blur at infinity", f"{float(lens.blur_mm(math.inf)) * px:.1f} px"),
    ]
    known = focusing.catalogued(shot)
    if "entrance_pupil_mm" in known:
        says = "Distances are from it"
        value = f"{known['entrance_pupil_mm']:g} mm"
        rows.append(Row("Entrance pupil", value, origin="catalogue", title=says))
    return rows


def _near_limit(shot: Shot, lens: ThinLens) -> list[Remark]:
    near = focusing.catalogued(shot).get("close_focus_m")
    if not near or lens.focus_m >= near:
        return []
    says = (
        f"The focus lies at {shot.show.length(lens.focus_m)[0]}, and "
        f"{shot.state['lens']['name']} can’t be focused nearer than {shot.show.length(near)[0]}."
    )
    return [Remark("Nearer than the lens can", says, "doubt")]


def _ticks(most: float) -> list[float]:
    """Round distances in metres up to the largest, eight at most."""
    step = next(
        base * 10**power
        for power in range(-4, 7)
        for base in ROUND
        if most / (base * 10**power) <= 7
    )
    return [step * n for n in range(int(most / step) + 1)]


def ruler(shot: Shot, camera: Camera, lens: ThinLens, circle: float) -> dict:
    """The ruler of distances, to scale: px along it."""
    items = {
        name: ends
        for name, item in stand_ins_of(shot.state).items()
        if (ends := span(camera, item))[1] > 0
    }
    nearest = dict(sorted(items.items(), key=lambda pair: pair[1][0])[:MOST_ITEMS])
    near, far = lens.limits(circle)
    reach = [1.25 * min(lens.focus_m, 1e4), *(high for _, high in nearest.values())]
    most = 1.08 * max(reach)
    if math.isfinite(far) and far < 2.2 * most:
        most = max(most, 1.05 * far)

    def x(metres: float) -> float:
        return WIDE * min(max(metres, 0.0), most) / most

    hyperfocal, endless = lens.hyperfocal(circle), math.isinf(far) or far > most
    room = WIDE - (1.6 * WORD if endless else WORD / 2)  # beside “sharp on” at the end
    return {
        "wide": WIDE,
        "high": TOP + LINE * len(nearest) + 6,
        "near": x(near),
        "far": x(far),
        "deep": x(far) - x(near),
        "endless": endless,
        "focus": x(lens.focus_m),
        "hyperfocal": x(hyperfocal) if hyperfocal < most else None,
        "hyperfocal_says": min(max(x(hyperfocal), WORD / 2), room),
        "ticks": [
            {"x": x(at), "says": shot.show.length(at, places=2)[0] if at else "0"}
            for at in _ticks(most)
        ],
        "items": [
            {
                "name": name,
                "x": x(low),
                "wide": max(x(high) - x(low), 2.0),
                "y": TOP + LINE * index,
                "text": TOP + LINE * index + 11,
                "sharp": near <= low and high <= far,
                "after": x(high) < 0.6 * WIDE,
                "at": x(high) + 5 if x(high) < 0.6 * WIDE else x(low) - 5,
            }
            for index, (name, (low, high)) in enumerate(nearest.items())
        ],
    }


def scale_remarks(shot: Shot) -> list[Remark]:
    """Whether the blur of the plate's edges agrees with what stop, focus and distances imply."""
    plate = plate_of(shot)
    if plate is None or not stand_ins_of(shot.state):
        return []
    try:
        implied, _ = maps.implied_blur(shot)
        found = maps.measured_blur(shot)
        compared = compare(implied, found, plate.width)
    except Problem:
        return []
    if compared is None:
        return []
    scale, cells = compared
    own = f"by {cells} places of the plate"
    if scale.agrees:
        says = (
            f"The blur of the plate’s edges agrees with stop, focus and distances, {own}: factor "
            f"{scale.factor:.2f} ± {scale.factor_plus_minus:.2f}."
        )
        return [Remark("The scene’s size fits its blur", says, "good")]
    less = "less" if scale.share < 1 else "more"
    size = f"{scale.factor:.2f} ± {scale.factor_plus_minus:.2f} times as large"
    if math.isinf(scale.factor):
        size = f"more than {scale.least_factor:.1f} times as large"
    says = (
        f"The plate’s edges are blurred {less} than stop, focus and distances imply, {own}. The "
        f"scene would have to be {size}; or stop, focus or focal length aren’t what they seem."
    )
    return [Remark("The blur asks for another size of the scene", says, "doubt")]


def compare(implied: np.ndarray, found, wide: int) -> tuple[BlurScale, int] | None:
    """What the blur says of the scene's size, and by how many places; None where too little is
    blurred.

    Raises Problem where it says nothing.
    """
    expected = np.full(found.diameter.shape, np.nan)
    scale = implied.shape[1] / wide
    for row, column in np.argwhere(np.isfinite(found.diameter)):
        top, left = row * found.cell * scale, column * found.cell * scale
        side = max(1, round(found.cell * scale))
        part = implied[int(top) : int(top) + side, int(left) : int(left) + side]
        own = part[np.isfinite(part)]
        # Only where one thing fills the place: else the edge may be another's.
        if own.size > 0.8 * part.size and own.size and np.ptp(own) < 0.3 * own.mean() + 1.0:
            expected[row, column] = float(np.median(own))
    known = np.isfinite(expected)
    if not known.any() or float(expected[known].max()) < LEAST_BLUR_PX:
        return None
    sigma = np.hypot(found.plus_minus[known], LEAST_SIGMA_PX)
    return scale_from_blur(expected[known], found.diameter[known], sigma), int(known.sum())
