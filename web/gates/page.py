"""What the Gate page shows: the ledger, a grid's figures, the drawing to scale, the remarks.
Computed by the core, worded here."""

import math

import numpy as np

from aperture.gates import guides
from aperture.gates.chain import Chain, bends
from aperture.gates.checks import Finding, check_aspect, check_file_focal, check_render, check_sizes
from aperture.gates.steps import KINDS
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match.remarks import unseen_share
from aperture.units import format_number, format_value
from web.gates.gate import bent_chain, chain_of
from web.plates.models import metadata_of
from web.ui.rows import Remark, Row


def _deg(angle):
    return format_value(None if angle is None else math.degrees(angle), unit="°", places=2)[0]


def _mm(value, places=3):
    return format_value(value, unit="mm", places=places)[0]


def ledger(chain: Chain, selected: int) -> list[dict]:
    """A row a grid."""
    rows = []
    for index, stage in enumerate(chain.stages):
        figures = chain.figures(index)
        offset = figures.centre_mm if max(abs(v) for v in figures.centre_mm) > 5e-4 else None
        rows.append(
            {
                "index": index,
                "stage": stage,
                "is_plate": index == chain.plate,
                "selected": index == selected,
                "number": index + 1,
                "way_in": bool(stage.step and stage.step.get("from") == "way in"),
                "gate": _gate(chain, figures.gate_mm)[0],
                "aspect": f"{figures.aspect:.3f}",
                "pitch": "–" if stage.unsized or _around(chain) else f"{figures.pitch_um[0]:.3f}",
                "centre": (
                    "{:+.2f}, {:+.2f}".format(*offset).replace("-", "−") if offset else "middle"
                ),
                "across": _deg(figures.view.horizontal) if figures.view else "–",
            }
        )
    return rows


def _around(chain: Chain) -> bool:
    """Whether the chain is a panorama's, one focal length of which is a radian."""
    return chain.lens is not None and chain.lens.projection.wraps


def _gate(chain: Chain, sizes, places: int = 3) -> tuple[str, str]:
    """A grid's gate and its unit: of a panorama an angle, one focal length a radian."""
    if chain.lens is not None and chain.lens.projection.wraps:
        degrees = math.degrees(1 / chain.lens.focal_mm)
        return " × ".join(f"{size * degrees:.2f}" for size in sizes), "°"
    return " × ".join(f"{size:.{places}f}" for size in sizes), "mm"


def figure_rows(chain: Chain, index: int, gate_origin: str, lens_origin: str) -> list[Row]:
    """All that is known of one grid."""
    stage, figures = chain.stages[index], chain.figures(index)
    name = "computed from the sensor and the steps" if index else ""
    origin = chain.origin(index, gate_origin)
    size_origin = "file" if index == chain.plate else origin
    size = ("–", "") if stage.unsized else (f"{stage.size_text} px", size_origin)
    centre = "{:.3f}, {:.3f}".format(*figures.centre_mm).replace("-0.000", "0.000")
    centre = centre.replace("-", "−")
    gate, unit = _gate(chain, figures.gate_mm)
    off, _ = _gate(chain, figures.centre_mm)
    diagonal = [] if unit == "°" else [Row("Diagonal", _mm(figures.diagonal_mm), origin=origin)]
    rows = [
        Row("Pixels", size[0], origin=size[1]),
        Row(f"Gate, {unit}", gate, origin=origin, title=name),
        *diagonal,
        Row(f"Centre, {unit}", centre if unit == "mm" else off, origin=origin),
        Row("Aspect as shown", f"{figures.aspect:.4f}", origin=origin),
    ]
    if not stage.unsized:
        pitch = "{:.3f} × {:.3f}".format(*figures.pitch_um)
        rows += [
            Row("Pixel aspect", format_number(figures.pixel_aspect, 4), origin=origin),
            *([Row("Pixel pitch, µm", pitch, origin=origin)] if unit == "mm" else []),
        ]
    if figures.view is None or chain.lens is None:
        title = "Neither the file nor you say it; the match will solve it."
        return [*rows, Row("Focal length", "–", title=title)]
    return rows + _lens_rows(chain.lens, figures, stage.unsized, lens_origin)


def _lens_rows(lens: Lens, figures, unsized: bool, origin: str) -> list[Row]:
    """What the focal length makes of a grid: angles of view, and the equivalents on a full
    frame."""
    rows = [Row("Focal length", _mm(lens.focal_mm, 2), origin=origin)]
    if lens.projection.around:  # its focal length is a radian
        rows = [Row("Panorama", lens.projection.name, origin=origin)]
    if not unsized:
        focal = "{:.1f} × {:.1f}".format(*figures.focal_px)
        rows.append(Row("Focal length, px", focal, origin=origin))
    for word in ("horizontal", "vertical", "diagonal"):
        angle = _deg(getattr(figures.view, word))
        rows.append(Row(f"{word.capitalize()} angle of view", angle, origin=origin))
    for side, title in (
        ("width", "the focal length on a frame 36 mm wide"),
        ("diagonal", "the focal length on a frame with a diagonal of 43.27 mm"),
    ):
        equivalent = _mm(figures.equivalent[side], 2)
        rows.append(Row(f"Equivalent by {side}", equivalent, origin=origin, title=title))
    return rows


def render_table(chain: Chain, index: int) -> dict | None:
    """What a renderer needs for one grid, a line for each way of fitting its gate."""
    stage = chain.stages[index]
    if chain.lens is None or stage.unsized:
        return None
    figures, fits = chain.figures(index), chain.render_fits(index)
    return {
        "size": stage.size_text,
        "gate": "{:.4f} × {:.4f} mm".format(*fits[0].gate_mm),
        "focal": _mm(chain.lens.focal_mm, 4),
        "pixel_aspect": format_number(figures.pixel_aspect, 6),
        "curved": not chain.lens.projection.straight and not stage.straight,
        "bent": bends(chain.lens) and not stage.straight,
        "shift": (
            "{:.4f}, {:.4f} mm".format(*figures.centre_mm).replace("-", "−")
            if max(abs(v) for v in figures.centre_mm) > 5e-5
            else ""
        ),
        "fits": [
            {
                "fit": {"width": "to the width", "height": "to the height", "fill": "to fill"}[
                    fit.fit
                ],
                "angle": f"{math.degrees(fit.angle):.4f}°",
                "of": fit.angle_of,
                "fixed": f"{fit.fixed_focal_mm:.3f}",
            }
            for fit in fits
        ],
    }


# Remarks
# --------------------------------------------------------------------------------------------------


def findings(shot, plate) -> list[Finding]:
    """All checks of a shot's gate, the pressing ones first."""
    state = shot.state
    gate = state["gate"]
    if not gate:
        return []
    chain, found = bent_chain(state, plate)
    out = [
        Finding(f"broken-{key}", "A step can’t be made", sentence, "bad")
        for key, sentence in chain.problems
    ]
    if plate:
        known = metadata_of(state, plate)
        render = tuple(gate["render"]) if gate.get("render") else None
        checks = (
            check_aspect(chain, gate),
            check_file_focal(chain, gate, known.get("focal_mm"), known.get("equivalent_mm")),
            check_render(chain, gate, render),
        )
        out += [finding for finding in checks if finding is not None]
    out += check_sizes(chain, gate)
    if found and (share := unseen_share(found.lens, chain.plate_grid)):
        out.append(
            Finding(
                "folds",
                "The lens can't be used at the border",
                f"Its distortion folds back inside the picture: for {share:.0%} of it the model has"
                " no answer.",
                "bad",
            )
        )
    if np.linalg.det(chain.plate_grid.linear) < 0:
        out.append(
            Finding(
                "mirrored",
                "The plate is mirrored",
                "Everything matched on it is mirrored too: lettering reads backward, and left and"
                " right are exchanged in the set. Take the flip out of the chain only if the plate"
                " itself is brought in unflipped.",
                "note",
            )
        )
    order = {"bad": 0, "doubt": 1, "note": 2, "good": 3}
    return sorted((one for one in out if one), key=lambda finding: order[finding.kind])


def remark_of(shot, finding: Finding) -> Remark:
    """A finding as a remark: each remedy posts its key, and the server finds it again."""
    base = shot.head.number
    return Remark(
        finding.title,
        finding.says,
        finding.kind,
        tuple(
            (
                remedy.label,
                {"action": shot.url("gate-remedy"), "fields": {"key": remedy.key, "base": base}},
            )
            for remedy in finding.remedies
        ),
    )


# The drawing
# --------------------------------------------------------------------------------------------------

WIDE, HIGH = 860, 322
DRAWN = 540  # the rectangles take the left part, their labels the rest


def _kind_of_shape(chain, members, straight: bool) -> str:
    """How the outline of some grids is drawn."""
    if straight:
        return "straight"
    if chain.plate in members:
        return "plate"
    return "sensor" if 0 in members else "grid"


def drawing(chain: Chain, selected: int) -> dict:
    """The grids on the sensor, to scale, in an SVG of WIDE × HIGH units; `mm` tells the script how
    to get from it to millimetres."""
    corners = []
    for stage in chain.stages:
        width, height = stage.grid.width, stage.grid.height
        corners.append(stage.grid.to_mm([[0, 0], [width, 0], [width, height], [0, height]]))
    every = np.concatenate(corners)
    low, high = every.min(axis=0), every.max(axis=0)
    scale = min((DRAWN - 24) / (high[0] - low[0]), (HIGH - 44) / (high[1] - low[1]))
    middle = (low + high) / 2

    def place(mm):
        return (np.asarray(mm) - middle) * scale + (DRAWN / 2, HIGH / 2 - 10)

    merged = {}
    for index, (stage, box) in enumerate(zip(chain.stages, corners)):
        ends = np.round([box.min(axis=0), box.max(axis=0)], 4)
        merged.setdefault((tuple(ends.ravel()), stage.straight), []).append(index)
    shapes = []
    for (_, straight), members in merged.items():
        points = place(corners[members[0]])
        shapes.append(
            {
                "d": "M" + "L".join(f"{x:.2f} {y:.2f}" for x, y in points) + "Z",
                "right": points[:, 0].max(),
                "top": points[:, 1].min(),
                "kind": _kind_of_shape(chain, members, straight=straight),
                "chosen": selected in members,
                "index": selected if selected in members else members[-1],
                "tag": _span(members),
                "says": _says(chain, members),
            }
        )
    _place_labels(shapes)
    fills = [shape for kind in ("sensor", "plate") for shape in shapes if shape["kind"] == kind]
    shapes.sort(key=lambda shape: shape["chosen"])  # chosen last, so that nothing hides it
    origin = place([[0.0, 0.0]])[0].tolist()
    return {
        "shapes": shapes,
        "fills": fills,
        "bent": _bent_border(chain, place),
        "wide": WIDE,
        "high": HIGH,
        "origin": origin,
        "scale": float(scale),
        "bar": None if _around(chain) else _bar(scale),
    }


def _says(chain, members):
    """Two lines beside a rectangle: its millimetres, and its pixels with their pitch."""
    figures = chain.figures(members[0])
    sizes = list(
        dict.fromkeys(
            chain.stages[member].size_text for member in members if not chain.stages[member].unsized
        )
    )
    pixels = " → ".join(dict.fromkeys((sizes[0], sizes[-1]))) + " px" if sizes else ""
    pitch = f"{chain.figures(members[-1]).pitch_um[0]:.3f} µm" if len(sizes) == 1 else ""
    gate, unit = _gate(chain, figures.gate_mm)
    if unit == "°":  # a panorama's pixels have no size
        gate, unit, pitch = gate.replace(" × ", "° × ") + "°", "", ""
    return [
        f"{gate} {unit}".rstrip() + f" · {figures.aspect:.3f}",
        " · ".join(part for part in (pixels, pitch) if part),
    ]


def _span(members):
    numbers = [member + 1 for member in members]
    if len(numbers) > 2 and numbers == list(range(numbers[0], numbers[-1] + 1)):
        return f"{numbers[0]}–{numbers[-1]}"
    return ", ".join(str(number) for number in numbers)


def _place_labels(shapes):
    """Labels stand in a column at the right, in the order of their rectangles' upper edges, with a
    line to each."""
    ordered = sorted(shapes, key=lambda shape: (shape["top"], -shape["right"]))
    pitch = min(46.0, (HIGH - 16) / max(len(ordered), 1))
    first = max(14.0, (HIGH - pitch * len(ordered)) / 2)
    for index, shape in enumerate(ordered):
        shape["label_x"], shape["label_y"] = DRAWN + 26, first + index * pitch + 8
        shape["leader"] = (
            f"M{shape['right']:.1f} {shape['top']:.1f}L{DRAWN + 20} {shape['label_y'] - 4:.1f}"
        )


def _bent_border(chain, place):
    """Where the edge of the plate comes to lie on a straight picture."""
    straight = next(
        (
            index
            for index, stage in enumerate(chain.stages)
            if stage.straight and index > chain.plate
        ),
        None,
    )
    if straight is None or not bends(chain.lens):
        return ""
    grid = chain.plate_grid
    u = np.linspace(0, 1, 33)
    border = np.concatenate(
        [
            np.stack(pair, -1)
            for pair in ((u, 0 * u), (1 + 0 * u, u), (u[::-1], 1 + 0 * u), (0 * u, u[::-1]))
        ]
    ) * (grid.width, grid.height)
    moved = chain.stages[straight].grid.to_mm(chain.follow(border, chain.plate)[straight])
    if not np.isfinite(moved).all():
        return ""
    return "M" + "L".join(f"{x:.2f} {y:.2f}" for x, y in place(moved)) + "Z"


def _bar(scale):
    """A scale bar of a round length, at most 110 units long."""
    length = max(
        value
        for value in (0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100, 200)
        if value * scale <= 110 or value == 0.1
    )
    return {"length": length * scale, "says": f"{format_number(length, 1)} mm"}


# Guides
# --------------------------------------------------------------------------------------------------

NO_GUIDES = {"frames": [], "centre": False, "thirds": False, "areas": False}


def guide_shapes(shot) -> list[dict]:
    """What is drawn over the plate, in plate px: masks, frames, lines."""
    wanted, state = NO_GUIDES | (shot.state.get("guides") or {}), shot.state
    if not state["plate"]:
        return []
    grid, squeeze = _plate_grid(state)
    whole = guides.whole(grid)
    boxes = [(frame, guides.frame(grid, frame["aspect"], squeeze)) for frame in wanted["frames"]]
    shapes = [
        {
            "kind": "mask",
            "d": _outline(whole) + _outline(box),
            "opacity": frame["opacity"],
            "colour": frame["colour"],
        }
        for frame, box in boxes
        if frame["opacity"]
    ]
    shapes += [
        {
            "kind": "frame",
            "d": _outline(box),
            "says": f"{format_number(frame['aspect'], 3)} : 1",
            "at": [box.left, box.top],
        }
        for frame, box in boxes
    ]
    inner = min((box for _, box in boxes), key=lambda box: box.width * box.height, default=whole)
    if wanted["areas"]:
        shapes += [
            _area(inner.inset(guides.SAFE_ACTION), "action", at_end=False),
            _area(inner.inset(guides.SAFE_TITLE), "titles", at_end=True),
        ]
    if wanted["thirds"]:
        lines = "".join(f"M{a} {b}L{c} {d}" for a, b, c, d in guides.thirds(inner))
        shapes.append({"kind": "line", "d": lines})
    if wanted["centre"]:
        x, y, arm = grid.width / 2, grid.height / 2, min(grid.width, grid.height) / 24
        cross = f"M{x - arm} {y}H{x + arm}M{x} {y - arm}V{y + arm}"
        shapes.append({"kind": "line", "d": cross})
    return shapes


def _plate_grid(state) -> tuple[Grid, float]:
    """The plate's grid and squeeze; of a gate of 0.01 mm a pixel where no sensor is chosen."""
    chain = chain_of(state)
    if chain is not None:
        return chain.plate_grid, chain.squeeze
    width, height = state["plate"]["width"], state["plate"]["height"]
    return Grid.from_gate(width, height, width / 100, height / 100), 1.0


def _outline(box) -> str:
    return f"M{box.left} {box.top}h{box.width}v{box.height}h{-box.width}Z"


def _area(box, says: str, at_end: bool) -> dict:
    return {
        "kind": "area",
        "d": _outline(box),
        "says": says,
        "end": at_end,
        "at": [box.left + at_end * box.width, box.top + box.height],
    }


def step_choices(before_plate: bool) -> list[tuple[str, str]]:
    """The steps that make sense at a place of the chain."""
    late = ("overscan", "extract", "return")
    early = ("bin",)
    return [
        (key, name)
        for key, name in KINDS.items()
        if not (before_plate and key in late) and not (not before_plate and key in early)
    ]
