"""More places of the film: the slipway's signal lantern, the net loft above the boathouse, the lamp
room of the signal tower.

Metres; see `demo.boathouse`."""

import numpy as np
import trimesh

from demo import boathouse
from demo.boathouse import Builder, Place, opening

LOFT = {"left": -3.0, "right": 3.4, "back": 0.0, "front": 8.6, "height": 2.62}
LOFT_WINDOW, LOFT_HATCH = (
    (-0.9, 0.7, 0.85, 2.05),
    (2.2, 4.6, 0.55, 2.2),
)  # in the back wall; in the left wall, along
TABLE = {"left": 0.9, "right": 2.9, "back": 1.1, "front": 2.0, "height": 0.78}
TOWER = {"left": -2.2, "right": 2.3, "back": 0.0, "front": 5.2, "height": 3.3}
TOWER_DOOR, TOWER_WINDOW = (
    (0.95, 1.78, 0.0, 1.98),
    (0.9, 2.7, 1.0, 2.3),
)  # in the back wall; in the right wall, along
PLINTH = {"left": -1.15, "right": -0.05, "back": 0.9, "front": 2.0, "height": 0.86}

SIGNAL = (4.35, 1.66, 2.75)  # the middle of the slipway's lantern, on its post


def slipway() -> Place:
    """The boathouse with the signal lantern on its post beside the slipway; seen from the far side
    of the room."""
    b = Builder()
    boathouse.furnish(b)
    x, y, z = SIGNAL
    b.block([x - 0.07, 0, z - 0.07], [x + 0.07, y - 0.22, z + 0.07], "post")
    b.block([x - 0.22, 0, z - 0.22], [x + 0.22, 0.09, z + 0.22], "stone", "stone side")
    for radius, bottom, tall, material in (
        (0.155, -0.22, 0.05, "iron"),
        (0.115, -0.17, 0.31, "glass"),
        (0.155, 0.14, 0.05, "iron"),
        (0.06, 0.19, 0.09, "iron"),
    ):
        part = trimesh.creation.cylinder(radius=radius, height=tall, sections=64)
        part.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
        part.apply_translation([x, y + bottom + tall / 2, z])
        b.add(part, material)
    b.block([2.6, 0, 4.4], [3.3, 0.5, 5.0], "crate", "crate side")
    b.block([2.75, 0.5, 4.5], [3.15, 0.8, 4.85], "crate", "crate side")
    return Place(*b.finish(), boathouse.ROOM, boathouse.OPENINGS, SIGNAL)


def loft() -> Place:
    """The net loft: a long room of planks with a window at its end, a hatch on the left, a table,
    shelves, a ladder."""
    b, room = Builder(), LOFT
    left, right, front, height = room["left"], room["right"], room["front"], room["height"]
    b.block([left, -0.1, -0.2], [right, 0, front], "floor")
    b.wall_with_holes(2, 0.0, -0.12, (left, right, 0, height), [LOFT_WINDOW], "side wall")
    b.wall_with_holes(0, left, -0.12, (-0.12, front, 0, height), [LOFT_HATCH], "back wall")
    b.block([right, 0, -0.12], [right + 0.12, height, front], "back wall")
    b.block([left, height, -0.12], [right, height + 0.1, front], "roof")
    b.block([left, 0, front], [right, height, front + 0.12], "side wall")
    for z in np.arange(0.4, front, 1.25):
        b.block([left, height - 0.22, z], [right, height, z + 0.15], "beam")
        b.block([right - 0.14, 0, z], [right, height - 0.22, z + 0.15], "post")
    low, high, bottom, top = LOFT_WINDOW
    for x in (low - 0.07, (low + high) / 2 - 0.03, high):
        b.block(
            [x, bottom - 0.07, -0.02],
            [x + (0.07 if x != (low + high) / 2 - 0.03 else 0.06), top + 0.07, 0.03],
            "frame",
        )
    for y in (bottom - 0.07, top):
        b.block([low - 0.07, y, -0.02], [high + 0.07, y + 0.07, 0.03], "frame")
    t = TABLE
    b.block(
        [t["left"], t["height"] - 0.05, t["back"]],
        [t["right"], t["height"], t["front"]],
        "bench top",
    )
    for x in (t["left"] + 0.05, t["right"] - 0.13):
        for z in (t["back"] + 0.05, t["front"] - 0.13):
            b.block([x, 0, z], [x + 0.08, t["height"] - 0.05, z + 0.08], "frame")
    for y in (0.35, 0.85, 1.35, 1.85):  # shelves along the right wall
        b.block([right - 0.55, y, 3.1], [right - 0.14, y + 0.035, 6.2], "bench")
    for z, y, wide, tall in (
        (3.2, 0.385, 0.5, 0.32),
        (3.9, 0.385, 0.7, 0.40),
        (4.9, 0.885, 0.6, 0.36),
        (3.4, 0.885, 0.9, 0.28),
        (5.2, 1.385, 0.8, 0.34),
    ):
        b.block([right - 0.53, y, z], [right - 0.17, y + tall, z + wide], "crate", "crate side")
    b.block([-2.2, 0, 0.5], [-1.3, 0.62, 1.3], "crate", "crate side")
    b.block([-2.1, 0.62, 0.6], [-1.45, 1.02, 1.2], "crate", "crate side")
    b.block([-2.75, 0, 5.0], [-2.0, 0.5, 5.9], "crate", "crate side")
    for x in (0.3, 0.72):  # a ladder leaning on the back wall
        b.add(
            trimesh.creation.cylinder(
                radius=0.026, segment=[[x - 0.9, 0.0, 1.15], [x - 0.9, 2.3, 0.1]], sections=16
            ),
            "crate",
        )
    for step in np.linspace(0.1, 0.9, 7):
        at = [-0.6, 2.3 * step, 1.15 - 1.05 * step]
        b.add(
            trimesh.creation.cylinder(
                radius=0.018, segment=[at, [at[0] + 0.42, at[1], at[2]]], sections=12
            ),
            "crate",
        )
    for x, z, r in ((1.5, 1.5, 0.12), (2.4, 1.7, 0.09)):
        ball = trimesh.creation.icosphere(subdivisions=4, radius=r)
        ball.apply_translation([x, t["height"] + r, z])
        b.add(ball, "buoy")
    return Place(
        *b.finish(),
        room,
        (
            opening(2, -0.121, LOFT_WINDOW, outward=-1),
            opening(0, left - 0.121, LOFT_HATCH, 0.6, outward=-1),
        ),
    )


def tower() -> Place:
    """The lamp room of the signal tower: stone, flagged floor, a door, a window at the right, the
    lamp's plinth."""
    b, room = Builder(), TOWER
    left, right, front, height = room["left"], room["right"], room["front"], room["height"]
    b.block([left, -0.1, -0.3], [right, 0, front], "flags")
    b.wall_with_holes(2, 0.0, -0.3, (left, right, 0, height), [TOWER_DOOR], "stone")
    b.block([left - 0.3, 0, -0.3], [left, height, front], "stone side")
    b.wall_with_holes(0, right, 0.3, (-0.3, front, 0, height), [TOWER_WINDOW], "stone side")
    b.block([left, height, -0.3], [right, height + 0.1, front], "lime")
    b.block([left, 0, front], [right, height, front + 0.3], "stone")
    for z in (1.1, 2.9):
        b.block([left, height - 0.26, z], [right, height, z + 0.22], "beam")
    low, high, _, top = TOWER_DOOR
    for x in (low - 0.09, high):
        b.block([x, 0, -0.03], [x + 0.09, top + 0.09, 0.05], "frame")
    b.block([low, top, -0.03], [high, top + 0.09, 0.05], "frame")
    p = PLINTH
    b.block([p["left"], 0, p["back"]], [p["right"], p["height"], p["front"]], "stone", "stone side")
    b.block(
        [p["left"] - 0.06, p["height"], p["back"] - 0.06],
        [p["right"] + 0.06, p["height"] + 0.07, p["front"] + 0.06],
        "lime",
    )
    for radius, bottom, tall, material in (
        (0.27, 0.93, 0.06, "iron"),
        (0.20, 0.99, 0.42, "rope"),
        (0.27, 1.41, 0.06, "iron"),
        (0.06, 1.47, 0.16, "iron"),
    ):
        part = trimesh.creation.cylinder(radius=radius, height=tall, sections=64)
        part.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
        part.apply_translation([-0.6, bottom + tall / 2, 1.45])
        b.add(part, material)
    b.block([1.35, 0, 2.95], [2.2, 0.48, 3.9], "crate", "crate side")
    b.block([-2.15, 0, 2.9], [-1.55, 0.42, 4.0], "bench", "bench")
    b.block([-2.15, 0.42, 2.85], [-1.50, 0.47, 4.05], "bench top")
    b.block([-1.9, 1.25, 0.0], [-1.2, 1.29, 0.24], "bench top")
    for x in (-1.82, -1.55, -1.38):
        b.block([x, 1.29, 0.05], [x + 0.11, 1.52, 0.18], "crate", "crate side")
    return Place(
        *b.finish(),
        room,
        (opening(2, -0.301, TOWER_DOOR, outward=-1), opening(0, right + 0.301, TOWER_WINDOW, 0.8)),
    )
