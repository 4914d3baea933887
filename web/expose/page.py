"""What the Expose pages share: their leaves, the maps over the plate, boxes drawn there; rows of
the light."""

import math

import numpy as np

from aperture.errors import Problem
from aperture.light.metering import (
    BAND_COLOURS,
    BANDS,
    CLIPPED_COLOUR,
    CRUSHED_COLOUR,
    SURFACES,
    Levels,
    Metered,
    meter,
)
from aperture.plates.colour import linear_light
from web.expose import blurring, exposure, focusing, maps, rendered, whites
from web.match.path_fits import camera_of_state
from web.plates.models import frame_of, plate_of, transfer_of, working_pixels
from web.shows.models import Shot
from web.shows.views import step_page
from web.ui.rows import Remark, Row

LEAVES = (
    ("expose", "Light"),
    ("expose-white", "White"),
    ("expose-focus", "Focus"),
    ("expose-blur", "Blur"),
    ("expose-look", "Look"),
)
OF_LEAF = {
    "expose": ("false", "clip", "render"),
    "expose-white": ("white",),
    "expose-focus": ("sharp", "measured"),
    "expose-blur": ("smeared",),
    "expose-look": ("look", "both", "stray"),
}
NAMES = {"f_number": "Stop", "seconds": "Shutter", "iso": "ISO"}
BINS = 96


def leaf_page(request, shot: Shot, leaf: str, template: str, context: dict, status: int = 200):
    """A leaf of the Expose step. `context["tools"]`: what drawing on the plate does, for the
    script."""
    plate = plate_of(shot)
    titles = {name: title for name, (title, _) in maps.MAPS.items()}
    if rendered.render_of(shot) is not None:
        titles |= {"render": "The render", "both": "Render and plate with the look"}
    offered = [(name, titles[name]) for name in OF_LEAF[leaf] if name in titles]
    data = {
        "maps": {name: shot.url("expose-map", name) for name, _ in offered},
        "boxes": context.pop("boxes", []),
        "points": context.pop("points", []),
        "tools": context.pop("tools", {}),
        "key": f"map:{leaf}",
        "frame": frame_of(shot) if plate else None,
    }
    common = {
        "leaf": leaf,
        "leaves": [(name, title, shot.url(name)) for name, title in LEAVES],
        "plate": plate,
        "maps": offered,
        "page": data,
        "filmed": bool(shot.state["film"]),
    }
    return step_page(request, shot, "expose", template, common | context, status)


def camera_rows(shot: Shot) -> list[Row]:
    """The virtual camera's exposure, marked and exact."""
    given = exposure.of_camera(shot)
    out = [
        Row(NAMES[key], exposure.written(shot, key, one), exposure.exactly(key, one), one.origin)
        for key, one in given.items()
    ]
    own = exposure.camera_exposure(shot)
    origins = {one.origin for one in given.values()}
    origin = "typed" if "typed" in origins else "file"
    if own is None:
        return [*out, Row("EV at ISO 100", "–")]
    if own.transmittance < 1:
        lost = -math.log2(own.transmittance)
        out.append(Row("T-stop", f"T {own.t_number:.3g}", f"−{lost:.2f} stops", "typed"))
    if own.nd_stops:
        density = own.nd_stops * math.log10(2)
        out.append(Row("Filters", f"−{own.nd_stops:.3g} stops", f"D {density:.2f}", "typed"))
    out.append(Row("EV at ISO 100", f"{own.ev100:.2f}", origin=origin))
    if own.light_ev100 != own.ev100:
        says = "Of the light that is exposed rightly, through filters and glass"
        out.append(Row("EV of the light", f"{own.light_ev100:.2f}", origin=origin, title=says))
    return out


def costs(shot: Shot) -> list[Row]:
    """What the three figures cost: depth, smear, noise."""
    out = []
    lens, camera = _lens(shot), camera_of_state(shot.state)
    if lens is not None and camera is not None:
        circle, _ = focusing.circle_of(shot, camera)
        near, far = lens.limits(circle)
        depth = f"{shot.show.length(near)[0]} – {length_or_far(shot, far)}"
        out.append(Row("Sharp from", depth, title="Depth of field: the stop’s cost"))
    longest = longest_streak(shot)
    if longest is not None:
        out.append(
            Row("Longest streak", f"{longest:.1f} px", title="Motion blur: the shutter’s cost")
        )
    iso = exposure.of_camera(shot)["iso"].value
    if iso:
        noise = math.sqrt(iso / 100)
        says = "Photon noise against ISO 100: the ISO’s cost (common practice)"
        out.append(Row("Noise", f"× {noise:.2g} of ISO 100", title=says))
    return out


def _lens(shot: Shot):
    try:
        return focusing.lens_at(shot)
    except Problem:
        return None


def longest_streak(shot: Shot) -> float | None:
    """Px, of the corners of the stand-ins; None where nothing moves or is known."""
    items = blurring.exposed_items(shot.state).values()
    if not items:
        return None

    def corners(moment):
        return np.concatenate([item.at(moment).bounds() for item in items])

    found = blurring.streaks_of(shot, corners)
    if found is None or not np.isfinite(found.lengths).any():
        return None
    return float(np.nanmax(found.lengths))


def length_or_far(shot: Shot, metres: float) -> str:
    """A length in the show's unit; infinity by its sign."""
    return "∞" if math.isinf(metres) else shot.show.length(metres)[0]


def level_rows(found: Levels) -> list[Row]:
    """How bright the plate is, in stops from middle grey."""

    def stops(name: str) -> str:
        return f"{found.stops(name):+.2f}".replace("-", "−")

    return [
        Row("Mean", stops("mean"), f"{found.mean:.3f}"),
        Row("Log average", stops("log_average"), f"{found.log_average:.3f}"),
        Row("1 % – 99 %", f"{stops('low')} … {stops('high')}"),
        Row("Clipped, black", f"{100 * found.clipped:.2g} %, {100 * found.crushed:.2g} %"),
    ]


def plate_levels(shot: Shot) -> Levels | None:
    """How bright the plate is; None without one."""
    return maps.counted(shot, BINS)[0] if plate_of(shot) else None


def histogram_lines(shot: Shot) -> list[dict]:
    """Lines of the histogram for drawing, in a box of 336 × 90: red, green, blue and luminance."""
    _, found = maps.counted(shot, BINS)
    most = max(float(np.sort(found.ravel())[-4]), 1e-6)  # one bin of a blank sky isn't all there is
    out = []
    for name, row in zip(("red", "green", "blue", "all"), found):
        points = [
            f"{336 * (i + 0.5) / BINS:.1f} {90 - 86 * min(1.0, value / most):.1f}"
            for i, value in enumerate(row)
        ]
        out.append({"name": name, "d": "M" + "L".join(points)})
    return out


def legend() -> list[dict]:
    """The false colours and what each means."""
    ends = [f"below {BANDS[0]:+g}"]
    ends += [f"{low:+g} to {high:+g}" for low, high in zip(BANDS, BANDS[1:])]
    ends.append(f"above {BANDS[-1]:+g}")
    said = [text.replace("-", "−") for text in ends]
    bands = [{"colour": _hex(rgb), "says": says} for rgb, says in zip(BAND_COLOURS, said)]
    return [
        {"colour": _hex(CRUSHED_COLOUR), "says": "black"},
        *bands,
        {"colour": _hex(CLIPPED_COLOUR), "says": "clipped"},
    ]


def _hex(rgb: tuple[int, int, int]) -> str:
    return "#" + "".join(f"{value:02x}" for value in rgb)


def metered(shot: Shot) -> tuple[Metered | None, str]:
    """The patch that is known against the plate, and why it says nothing."""
    own = shot.state["metered"]
    plate = plate_of(shot)
    if own is None or plate is None:
        return None, ""
    pixels = working_pixels(plate)
    left, top, right, bottom = own["box"]
    try:
        # Only the patch's pixels are decoded.
        rows = slice(max(0, int(top) - 1), int(bottom) + 2)
        columns = slice(max(0, int(left) - 1), int(right) + 2)
        part = linear_light(np.asarray(pixels[rows, columns]), transfer_of(shot.state))
        box = (left - columns.start, top - rows.start, right - columns.start, bottom - rows.start)
        return meter(np.nan_to_num(part), box, own["surface"], maps.ceiling_of(shot)), ""
    except Problem as problem:
        return None, problem.sentence


def metered_rows(shot: Shot, found: Metered) -> list[Row]:
    """What the patch says."""
    name = SURFACES[shot.state["metered"]["surface"]][0]
    sign = f"{found.stops:+.2f} stops".replace("-", "−")
    return [
        Row("It is", name, origin="typed"),
        Row("As bright as", f"{found.luminance:.3f}", f"± {found.plus_minus:.3f}"),
        Row("To expose for it", sign, f"± {found.stops_plus_minus:.2f}", "solved"),
    ]


def light_remarks(shot: Shot) -> list[Remark]:
    """What needs the artist about the light."""
    plate = exposure.of_plate(shot)
    missing = [NAMES[key] for key, one in plate.items() if one.value is None]
    if not shot.state["plate"] or not missing:
        return []
    says = (
        f"The plate's file doesn't say: {', '.join(missing)}. Type it below, or on the Plate step "
        "where it is the plate's own."
    )
    return [Remark("The plate's exposure isn't known", says, "note")]


def apart(shot: Shot) -> str:
    """By how many stops the camera's picture is brighter or darker than the plate; empty where that
    isn't known."""
    plate, camera = exposure.together(exposure.of_plate(shot)), exposure.camera_exposure(shot)
    if not plate or not camera:
        return ""
    stops = camera.brighter_than(plate)
    if abs(stops) < 0.005:
        return "The camera is exposed as the plate was."
    word = "brighter" if stops > 0 else "darker"
    return f"The camera's picture is {abs(stops):.2f} stops {word} than the plate."


def white_rows(shot: Shot) -> list[dict]:
    """Each way of knowing the white, with what it would do."""
    out = []
    used = whites.chosen(shot)
    for way in whites.ways(shot):
        row = {
            "by": way.by,
            "says": way.says,
            "problem": way.problem,
            "used": used is not None and used.by == way.by,
        }
        if way.white is not None:
            gains = whites.gains_of(way.white)
            row |= {
                "kelvin": f"{way.white.kelvin:.0f} K",
                "mired": f"{way.white.mired:.0f} mired",
                "tint": f"{way.white.tint:+.1f}".replace("-", "−"),
                "gains": " · ".join(f"{gain:.2f}" for gain in gains),
            }
        out.append(row)
    return out
