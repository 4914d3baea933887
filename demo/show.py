"""Build the show The Lantern Tide through the same verbs that the pages use."""

import copy
from pathlib import Path

import numpy as np

from aperture.light.character.look import Look
from demo import films
from demo.artist import Artist
from demo.boathouse import DOOR
from demo.evidence import (
    ABOUT,
    BOWS,
    EDGES,
    FACTS,
    IN_THE_TOWER,
    LOFT_EDGES,
    LOFT_FLOOR,
    PLACED,
    STAND_INS,
    SURVEY,
    TOWER_EDGES,
    WITNESS,
)
from demo.places import LOFT_WINDOW, TOWER_DOOR
from demo.plates import AROUND, FOLDER, PLATES, truth
from demo.slipway import SLIPWAY, from_the_rig

SLUG = "the-lantern-tide"


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
    """The parts of a shot's state that make its match: marks, facts, and where the shot needs them
    lens and survey. {} for LT020, which waits."""
    artist = Artist(camera, int(code[2:]))
    [door] = FACTS
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
        # The tape was read to the frame's outside, 7 cm further each way; the height of the lens
        # was measured to a quarter of an inch.
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
    """Make the show unless it is there: matched shots, one that waits for the newcomer, and two
    films."""
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
        # The bent plate, the straight working picture, and the render with the overscan that the
        # bend needs.
        put_step(shot, {"do": "straighten"}, None, False)


def _photographed_around(show, name: str) -> None:
    """A panorama, with a chest of the lamp room as part of the plate and a new crate behind the
    camera."""
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
    """A filmed plate with its small pictures; LT070 is matched on its first frame and has a
    stand-in."""
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
    """The invented bodies and lenses, by name; brought into the catalogue, where they stay beside
    the artist's own."""
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
