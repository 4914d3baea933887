"""Build the show The Lantern Tide through the same verbs that the pages use."""

import copy
from pathlib import Path

import numpy as np

from aperture.light.character.look import Look
from demo import films
from demo.artist import Artist
from demo.boathouse import BENCH, DOOR, WINDOW
from demo.places import LOFT, LOFT_WINDOW, PLINTH, TABLE, TOWER_DOOR
from demo.plates import AROUND, FOLDER, PLATES, truth
from demo.slipway import SLIPWAY, from_the_rig

SLUG = "the-lantern-tide"
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
# Three boards' joints near the foot of the window: the floor as the day's set report has it. Names and places in the loft, metres.
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
# Straight in life, bent by the wide lens: long boards and beams of the boathouse, and how many points are drawn on each.
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


# A look of the show, for misty mornings.
HAZE = Look(veil=0.06, bloom=0.25, threshold=0.7, bloom_size=0.03, grain=0.02, response="soft")


def marks_for(camera, seed: int = 7) -> list[dict]:
    """The marks of the matched shot: true edges, the doorway's foot as the origin, and its head."""
    artist = Artist(camera, seed)
    return [
        *artist.edges(EDGES),
        artist.spot("s1", "Doorway, foot", (0, 0, 0), world=[0, 0, 0]),
        artist.spot("s2", "Doorway, head", (0, DOOR[3], 0)),
    ]


def match_of(code: str, camera) -> dict:
    """The parts of a shot's state that make its match: marks, facts, and where the shot needs them lens and survey. {} for LT020, which waits."""
    artist = Artist(camera, int(code[2:]))
    door = {
        "id": "f1",
        "kind": "length",
        "name": "Doorway",
        "from": "s1",
        "to": "s2",
        "metres": 2.03,
        "plus_minus": 0.005,
        "along": "up",
    }
    if code == "LT010":
        return {"marks": marks_for(camera), "facts": FACTS}
    if code == "LT095":
        marks = [
            *artist.edges([edge for edge in EDGES if edge[0] != "Post, left wall"], 5),
            artist.spot("s1", "Doorway, foot", (0, 0, 0), world=[0, 0, 0]),
            artist.spot("s2", "Doorway, head", (0, DOOR[3], 0)),
        ]
        return {"marks": marks, "facts": [door]}
    if code in ("LT030", "LT070"):
        marks = [
            *artist.edges([edge for edge in EDGES if edge[0] != "Post, left wall"], 4),
            *artist.bows(BOWS),
            artist.spot("s1", "Doorway, foot", (0, 0, 0), world=[0, 0, 0]),
            artist.spot("s2", "Doorway, head", (0, DOOR[3], 0)),
        ]
        return {
            "marks": marks,
            "facts": [door],
            "lens": {
                "focal_mm": None,
                "distortion": {"free": ["k1", "k2"] if code == "LT030" else ["k1"]},
            },
        }
    if code == "LT040":
        (low, high, _, _), height = LOFT_WINDOW, camera.position[1]
        marks = [
            *artist.edges(LOFT_EDGES),
            artist.spot("s1", "Window, lower left", (low, 0.85, 0.0), world=[None, None, 0]),
            artist.spot("s2", "Window, lower right", (high, 0.85, 0.0)),
            *(
                artist.spot(
                    f"s{index}", name, at, world=[0, 0, at[2]] if index == 5 else [None, 0, None]
                )
                for index, (name, at) in enumerate(LOFT_FLOOR, 3)
            ),
        ]
        # The tape was read to the frame's outside, 7 cm further each way; the height of the lens was measured to a quarter of an inch.
        return {
            "marks": marks,
            "facts": [
                {
                    "id": "f1",
                    "kind": "length",
                    "name": "Window’s width",
                    "from": "s1",
                    "to": "s2",
                    "metres": high - low + 0.14,
                    "plus_minus": 0.005,
                    "along": "across",
                },
                {
                    "id": "f2",
                    "kind": "camera_height",
                    "name": "Camera height",
                    "metres": round(height, 3),
                    "plus_minus": 0.00635,
                },
            ],
        }
    if code == "LT050":
        low, _, _, high = TOWER_DOOR
        return {
            "marks": [
                *artist.edges(TOWER_EDGES, 3),
                artist.spot("s1", "Door, foot", (low, 0, 0), world=[0, 0, 0]),
                artist.spot("s2", "Door, head", (low, high, 0)),
            ],
            "facts": [door | {"name": "Door", "metres": high}],
            "lens": {"focal_mm": None},
        }
    if code == "LT090":
        low, _, _, high = TOWER_DOOR
        marks = [
            *artist.edges(TOWER_EDGES, 6),
            artist.spot("s1", "Door, foot", (low, 0, 0), world=[0, 0, 0]),
            artist.spot("s2", "Door, head", (low, high, 0)),
        ]
        return {"marks": marks, "facts": [door | {"name": "Door", "metres": high}]}
    if code == "LT060":
        rng = np.random.default_rng(6)
        points = [
            {
                "name": name,
                "world": np.round(np.array(at) + rng.normal(size=3) * 0.004, 4).tolist(),
                "plus_minus": 0.004,
            }
            for name, at in SURVEY
        ]
        marks = [
            artist.spot(
                f"s{index}", point["name"], at, world=point["world"], world_plus_minus=0.004
            )
            for index, (point, (_, at)) in enumerate(zip(points[:PLACED], SURVEY), 1)
        ]
        return {"marks": marks, "facts": [], "survey": points}
    return {}


def build() -> None:
    """Make the show unless it is there: matched shots, one that waits for the newcomer, and two films."""
    from web.shows.models import Show

    if Show.objects.filter(slug=SLUG).exists():
        return
    print("Building the demo show, once.", flush=True)
    bodies, _ = catalogue()
    show = Show.objects.create(name="The Lantern Tide", slug=SLUG)
    for name in PLATES:
        _photographed(show, name, bodies["Saltmarsh One"])
    for name in AROUND:
        _photographed_around(show, name)
    for code in films.SHOTS:
        _filmed(show, code, bodies["Saltmarsh One"])


def _photographed(show, name: str, body: dict) -> None:
    from web.gates.actions import put_step, take_mode
    from web.plates.actions import bring_in, take_plate
    from web.shows.history import create_shot

    code = name.split("_")[0]
    shot = create_shot(show, code, ABOUT[code])
    shot = take_plate(shot, bring_in(FOLDER / f"{name}.jpg", f"{name}.jpg"))
    shot = take_mode(shot, body, body["modes"][1])
    if "crop" in PLATES[name]:
        left, top, width, height = PLATES[name]["crop"]
        shot = put_step(
            shot,
            {"do": "window", "left": left, "top": top, "width": width, "height": height},
            None,
            True,
        )
    shot = _matched(shot, match_of(code, truth(name)))
    if code == "LT010":
        _furnish(shot)
    if code == "LT030":
        # The bent plate, the straight working picture, and the render with the overscan that the bend needs.
        put_step(shot, {"do": "straighten"}, None, False)


def _photographed_around(show, name: str) -> None:
    """A panorama, with a chest of the lamp room as part of the plate and a new crate behind the camera."""
    from web.gates.actions import take_around
    from web.plates.actions import bring_in, take_plate
    from web.shows.history import create_shot
    from web.stage.actions import add_stand_in

    code = name.split("_")[0]
    shot = create_shot(show, code, ABOUT[code])
    shot = take_plate(shot, bring_in(FOLDER / f"{name}.jpg", f"{name}.jpg"))
    shot = _matched(take_around(shot), match_of(code, truth(name)))
    for item in IN_THE_TOWER:
        shot = add_stand_in(shot, copy.deepcopy(item), None)


def _matched(shot, found: dict):
    from web.shows.history import edit

    if not found:
        return shot
    return edit(shot, "Marks and facts", lambda state: state.update(copy.deepcopy(found)))


def _furnish(shot) -> None:
    """Stand-ins, a second camera, and a first render."""
    from web.expose.focusing import set_focus
    from web.stage.actions import add_stand_in
    from web.stage.cameras import set_camera, set_looks, type_camera
    from web.stereo.settings import set_stereo

    for item in STAND_INS:
        shot = add_stand_in(shot, copy.deepcopy(item), None)
    shot = type_camera(shot, None)
    shot = set_camera(shot, shot.state["cameras"][0] | WITNESS, None)
    shot = set_looks(shot, "c1", {"length_m": 3.0, "focus_m": 2.4}, None)
    shot = set_focus(shot, "Focus follows the deckhand", None, follow="Deckhand")
    set_stereo(shot, "A pair for two eyes", None, interaxial_m=0.065, convergence_m=5.0)
    shot.show.looks.create(name="Morning haze", data={"look": HAZE.to_json()})
    _render(shot)


def _filmed(show, code: str, body: dict) -> None:
    """A filmed plate with its small pictures; LT070 is matched on its first frame and has a stand-in."""
    from web.expose.exposure import set_exposure
    from web.gates.actions import take_around, take_mode
    from web.plates import film_actions
    from web.plates.time_actions import begin_shot_at
    from web.shows.history import create_shot
    from web.stage.actions import add_stand_in

    file = FOLDER / f"{films.SHOTS[code].name}.mp4"
    shot = create_shot(show, code, ABOUT[code])
    film = film_actions.bring_in_film([(file, file.name)])
    shot = film_actions.take_film(shot, film)
    for part in film_actions.parts_of(film):
        film_actions.make_part(film, part, lambda done: None)
    around = films.SHOTS[code].size == films.AROUND
    shot = take_around(shot) if around else take_mode(shot, body, body["modes"][3])
    shot = set_exposure(shot, dict(films.EXPOSURE), None)
    if code == "LT070":
        shot = begin_shot_at(shot, 1001)
        shot = _matched(shot, match_of(code, films.truth(code)[0]))
        for item in (STAND_INS[0], STAND_INS[2]):
            shot = add_stand_in(shot, copy.deepcopy(item), None)
    if code == "LT095":
        shot = begin_shot_at(shot, 1001)
        shot = _matched(shot, match_of(code, films.truth(code)[0]))
        add_stand_in(shot, copy.deepcopy(STAND_INS[0]), None)
    if code == "LT080":
        for item in (STAND_INS[0], *SLIPWAY):
            shot = add_stand_in(shot, copy.deepcopy(item), None)
        from_the_rig(shot)


def catalogue() -> tuple[dict, dict]:
    """The invented bodies and lenses, by name; brought into the catalogue, where they stay beside the artist's own."""
    from aperture.formats.catalogue import read
    from web.catalogue.actions import bring_in as take_in

    document = read((Path(__file__).parent / "catalogue.json").read_bytes())
    take_in(document)
    return tuple(
        {entry["name"]: entry for entry in document[kind]} for kind in ("bodies", "lenses")
    )


def _render(shot) -> None:
    from web.elements.actions import Order, render_now

    render_now(shot, Order(("depth", "masks", "lines", "shadow"), samples=2))
