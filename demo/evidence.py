"""What an artist would draw, measure and place in the shots of The Lantern Tide."""

from demo.boathouse import BENCH, DOOR, WINDOW
from demo.places import LOFT, LOFT_WINDOW, PLINTH, TABLE, TOWER_DOOR

# What an artist would trace: a name, the axis, and two world points on the edge (metres).
EDGES = (
    (
        "Lintel",
        "across",
        (DOOR[0] - 0.085, DOOR[3] + 0.085, 0.035),
        (DOOR[1] + 0.085, DOOR[3] + 0.085, 0.035),
    ),
    (
        "Window head",
        "across",
        (WINDOW[0] - 0.075, WINDOW[3] + 0.075, 0.035),
        (WINDOW[1] + 0.075, WINDOW[3] + 0.075, 0.035),
    ),
    (
        "Bench front, top",
        "across",
        (BENCH["left"], BENCH["height"], BENCH["front"]),
        (BENCH["right"], BENCH["height"], BENCH["front"]),
    ),
    ("Beam, second", "across", (-2.3, 2.88, 2.19), (2.6, 2.88, 2.19)),
    ("Door jamb, left", "up", (DOOR[0] - 0.085, 0.05, 0.035), (DOOR[0] - 0.085, 2.05, 0.035)),
    (
        "Bench corner",
        "up",
        (BENCH["left"] + 0.06, 0.10, BENCH["front"] - 0.06),
        (BENCH["left"] + 0.06, 0.84, BENCH["front"] - 0.06),
    ),
    ("Post, left wall", "up", (-2.44, 0.15, 3.64), (-2.44, 2.7, 3.64)),
    ("Crate, floor edge", "along", (-0.95, 0.0, 0.55), (-0.95, 0.0, 1.20)),
    ("Floor plank", "along", (1.88, 0.0, 1.0), (1.88, 0.0, 4.6)),
    ("Floor plank, middle", "along", (0.705, 0.0, 1.2), (0.705, 0.0, 4.2)),
    ("Chest, top", "along", (-1.60, 0.42, 3.4), (-1.60, 0.42, 4.3)),
)
LOFT_EDGES = (
    (
        "Window head",
        "across",
        (LOFT_WINDOW[0] - 0.07, LOFT_WINDOW[3] + 0.07, 0.03),
        (LOFT_WINDOW[1] + 0.07, LOFT_WINDOW[3] + 0.07, 0.03),
    ),
    (
        "Table, front",
        "across",
        (TABLE["left"], TABLE["height"], TABLE["front"]),
        (TABLE["right"], TABLE["height"], TABLE["front"]),
    ),
    ("Beam, third", "across", (-2.9, 2.40, 3.05), (3.3, 2.40, 3.05)),
    (
        "Window jamb",
        "up",
        (LOFT_WINDOW[1] + 0.07, LOFT_WINDOW[2] - 0.07, 0.03),
        (LOFT_WINDOW[1] + 0.07, LOFT_WINDOW[3] + 0.07, 0.03),
    ),
    (
        "Table leg",
        "up",
        (TABLE["left"] + 0.05, 0.0, TABLE["front"] - 0.05),
        (TABLE["left"] + 0.05, 0.73, TABLE["front"] - 0.05),
    ),
    ("Crate corner", "up", (-1.3, 0.02, 1.3), (-1.3, 0.60, 1.3)),
    ("Shelf", "along", (LOFT["right"] - 0.55, 0.885, 3.1), (LOFT["right"] - 0.55, 0.885, 5.4)),
    ("Floor plank", "along", (-0.47, 0.0, 1.0), (-0.47, 0.0, 4.4)),
    ("Floor plank, right", "along", (0.94, 0.0, 2.2), (0.94, 0.0, 5.0)),
)


# Three boards' joints near the foot of the window: the floor as the day's set report has it. Names
# and places in the loft, metres.
LOFT_FLOOR = (
    ("Joint, left", (-0.47, 0.0, 1.10)),
    ("Joint, middle", (-0.235, 0.0, 1.35)),
    ("Joint, right", (0.0, 0.0, 1.15)),
)
TOWER_EDGES = (
    (
        "Door head",
        "across",
        (TOWER_DOOR[0] - 0.09, TOWER_DOOR[3] + 0.09, 0.05),
        (TOWER_DOOR[1] + 0.09, TOWER_DOOR[3] + 0.09, 0.05),
    ),
    (
        "Plinth, front",
        "across",
        (PLINTH["left"] - 0.06, PLINTH["height"], PLINTH["front"] + 0.06),
        (PLINTH["right"] + 0.06, PLINTH["height"], PLINTH["front"] + 0.06),
    ),
    ("Course, back wall", "across", (-2.0, 2.04, 0.0), (0.6, 2.04, 0.0)),
    (
        "Door jamb, left",
        "up",
        (TOWER_DOOR[0] - 0.09, 0.02, 0.05),
        (TOWER_DOOR[0] - 0.09, 2.05, 0.05),
    ),
    (
        "Door jamb, right",
        "up",
        (TOWER_DOOR[1] + 0.09, 0.02, 0.05),
        (TOWER_DOOR[1] + 0.09, 2.05, 0.05),
    ),
    (
        "Plinth corner",
        "up",
        (PLINTH["right"], 0.05, PLINTH["front"]),
        (PLINTH["right"], 0.84, PLINTH["front"]),
    ),
    (
        "Plinth top, right",
        "along",
        (PLINTH["right"] + 0.06, PLINTH["height"] + 0.07, PLINTH["back"] - 0.06),
        (PLINTH["right"] + 0.06, PLINTH["height"] + 0.07, PLINTH["front"] + 0.06),
    ),
    ("Course, left wall", "along", (-2.2, 1.70, 0.3), (-2.2, 1.70, 2.4)),
    ("Course, left wall, low", "along", (-2.2, 0.68, 0.3), (-2.2, 0.68, 2.2)),
)


# Straight in life, bent by the wide lens: long boards and beams of the boathouse, and how many
# points are drawn on each.
BOWS = (
    ("Beam over the door", (-2.5, 2.88, 0.74), (5.5, 2.88, 0.74), 11),
    ("Beam, near", (-1.9, 2.88, 3.64), (4.4, 2.88, 3.64), 9),
    ("Foot of the back wall", (-0.9, 0.0, 0.0), (1.9, 0.0, 0.0), 7),
    ("Slipway, sill", (5.6, 0.0, 1.25), (5.6, 0.0, 3.6), 7),
    ("Slipway, head", (5.6, 2.75, 1.25), (5.6, 2.75, 3.4), 7),
    ("Floor plank, left", (-0.94, 0.0, 1.4), (-0.94, 0.0, 5.2), 9),
)


# Corners measured with a total station, as the survey's table has them: boathouse, metres, ± 4 mm.
SURVEY = (
    ("Door, foot left", (0.0, 0.0, 0.0)),
    ("Door, head left", (0.0, 2.03, 0.0)),
    ("Door, head right", (0.92, 2.03, 0.0)),
    ("Crate, top near right", (-0.95, 0.55, 1.20)),
    ("Crate, top near left", (-1.75, 0.55, 1.20)),
    ("Crate, foot near right", (-0.95, 0.0, 1.20)),
    ("Crate, foot near left", (-1.75, 0.0, 1.20)),
    ("Small crate, top right", (-1.08, 0.98, 1.10)),
    ("Small crate, top left", (-1.62, 0.98, 1.10)),
    ("Chest, top far right", (-1.60, 0.42, 3.4)),
    ("Chest, top near right", (-1.60, 0.42, 4.3)),
    ("Bench, front left", (2.0, 0.92, 0.78)),
    ("Window, lower left", (2.15, 1.15, 0.0)),
    ("Window, upper left", (2.15, 2.05, 0.0)),
    ("Door, foot right", (0.92, 0.0, 0.0)),
)
PLACED = 9  # of them on the demo shot; the rest wait to be placed
STAND_INS = (
    {
        "name": "Stand-in, workbench",
        "kind": "box",
        "base": [(BENCH["left"] + BENCH["right"]) / 2, 0.0, BENCH["front"] / 2],
        "turn_deg": 0.0,
        "size": [BENCH["right"] - BENCH["left"], BENCH["height"], BENCH["front"]],
        "part_of_plate": True,
    },
    {
        "name": "Floor",
        "kind": "plane",
        "base": [0.4, 0.0, 3.2],
        "size": [5.6, 0.0, 6.4],
        "turn_deg": 0.0,
        "part_of_plate": True,
        "material": "plate",
    },
    {
        "name": "New crate",
        "kind": "box",
        "base": [1.9, 0.0, 3.3],
        "size": [0.8, 0.6, 0.6],
        "turn_deg": 24.0,
    },
    {
        "name": "Net float",
        "kind": "sphere",
        "base": [1.9, 0.6, 3.3],
        "size": [0.3, 0.3, 0.3],
        "turn_deg": 0.0,
        "material": "mirror",
        "parent": "b3",
    },
    {
        "name": "Deckhand",
        "kind": "figure",
        "base": [3.0, 0.0, 2.2],
        "size": [0.5, 1.75, 0.3],
        "turn_deg": 30.0,
    },
    # Hung 2 cm too high, so that there is a gap to find.
    {
        "name": "Back wall",
        "kind": "plane",
        "base": [0.4, 1.42, 0.0],
        "size": [5.6, 0.0, 2.8],
        "turn_deg": 0.0,
        "tilt_deg": 90.0,
        "part_of_plate": True,
        "material": "plate",
    },
)
WITNESS = {
    "name": "Side camera",
    "position": [-1.6, 2.1, 5.2],
    "pan_deg": -52.0,
    "tilt_deg": -17.0,
    "focal_mm": 32.0,
}
FACTS = [
    {
        "id": "f1",
        "kind": "length",
        "name": "Doorway",
        "from": "s1",
        "to": "s2",
        "metres": 2.03,
        "plus_minus": 0.005,
        "along": "up",
    }
]


# Of the lamp room: measured from the door's foot, at its left.
IN_THE_TOWER = (
    {
        "name": "Plinth",
        "kind": "box",
        "size": [
            PLINTH["right"] - PLINTH["left"],
            PLINTH["height"],
            PLINTH["front"] - PLINTH["back"],
        ],
        "base": [
            (PLINTH["left"] + PLINTH["right"]) / 2 - TOWER_DOOR[0],
            0.0,
            (PLINTH["back"] + PLINTH["front"]) / 2,
        ],
        "turn_deg": 0.0,
        "part_of_plate": True,
    },
    {
        "name": "Crate, behind",
        "kind": "box",
        "size": [0.7, 0.5, 0.5],
        "base": [-0.55 - TOWER_DOOR[0], 0.0, 4.25],
        "turn_deg": 15.0,
        "material": "checker",
        "checker_m": 0.125,
    },
)
ABOUT = {
    "LT010": "Boathouse, morning",
    "LT020": "Toward the slipway, not matched yet",
    "LT030": "Boathouse, the wide zoom and its barrel",
    "LT040": "Net loft: two facts disagree",
    "LT050": "Lamp room, cropped off the middle",
    "LT060": "Boathouse, from surveyed points",
    "LT070": "A walk through the boathouse, by hand",
    "LT080": "Under the arm, past the slipway’s lantern",
    "LT090": "Lamp room, all around",
    "LT095": "Along the slipway, all around",
}
