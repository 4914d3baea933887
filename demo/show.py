"""Build the show The Lantern Tide through the same verbs that the pages use."""

import copy
from pathlib import Path

import numpy as np

from demo.boathouse import BENCH, DOOR, WINDOW
from demo.plates import FOLDER, PLATES, truth

SLUG = "the-lantern-tide"
# What an artist would trace: a name, the axis, and two world points on the edge (metres).
EDGES = (
    ("Lintel", "across", (DOOR[0] - 0.085, DOOR[3] + 0.085, 0.035), (DOOR[1] + 0.085, DOOR[3] + 0.085, 0.035)),
    ("Window head", "across", (WINDOW[0] - 0.075, WINDOW[3] + 0.075, 0.035), (WINDOW[1] + 0.075, WINDOW[3] + 0.075, 0.035)),
    ("Bench front, top", "across", (BENCH["left"], BENCH["height"], BENCH["front"]), (BENCH["right"], BENCH["height"], BENCH["front"])),
    ("Beam, second", "across", (-2.3, 2.88, 2.19), (2.6, 2.88, 2.19)),
    ("Door jamb, left", "up", (DOOR[0] - 0.085, 0.05, 0.035), (DOOR[0] - 0.085, 2.05, 0.035)),
    ("Bench corner", "up", (BENCH["left"] + 0.06, 0.10, BENCH["front"] - 0.06), (BENCH["left"] + 0.06, 0.84, BENCH["front"] - 0.06)),
    ("Post, left wall", "up", (-2.44, 0.15, 3.64), (-2.44, 2.7, 3.64)),
    ("Crate, floor edge", "along", (-0.95, 0.0, 0.55), (-0.95, 0.0, 1.20)),
    ("Floor plank", "along", (1.88, 0.0, 1.0), (1.88, 0.0, 4.6)),
    ("Floor plank, middle", "along", (0.705, 0.0, 1.2), (0.705, 0.0, 4.2)),
    ("Chest, top", "along", (-1.60, 0.42, 3.4), (-1.60, 0.42, 4.3)),
)
DRAWN_SIGMA_PX = 0.4
BOXES = (
    ("Stand-in, workbench", ((BENCH["left"] + BENCH["right"]) / 2, 0.0, BENCH["front"] / 2),
     (BENCH["right"] - BENCH["left"], BENCH["height"], BENCH["front"]), 0.0),
    ("New crate", (1.9, 0.0, 3.3), (0.8, 0.6, 0.6), 24.0),
)


def marks_for(camera, seed: int = 7) -> list[dict]:
    """The marks of the matched shot: true edges with an artist's unsteadiness of DRAWN_SIGMA_PX."""
    rng = np.random.default_rng(seed)

    def drawn(points):
        return np.round(camera.project(points) + rng.normal(size=(len(points), 2)) * DRAWN_SIGMA_PX, 2).tolist()

    marks = [{"id": f"e{index}", "kind": "edge", "name": name, "axis": axis, "points": drawn([start, end]), "sigma_px": 0.5}
             for index, (name, axis, start, end) in enumerate(EDGES, 1)]
    for id_, name, world in (("s1", "Doorway, foot", [0, 0, 0]), ("s2", "Doorway, head", None)):
        at = drawn([[0, 0, 0] if world else [0, DOOR[3], 0]])[0]
        marks.append({"id": id_, "kind": "spot", "name": name, "at": at, "sigma_px": 0.5, **({"world": world} if world else {})})
    return marks


FACTS = [{"id": "f1", "kind": "length", "name": "Doorway", "from": "s1", "to": "s2", "metres": 2.03, "plus_minus": 0.005, "along": "up"}]


def build() -> None:
    """Make the show unless it is there: one matched shot, and one that waits for the newcomer."""
    from web.gates.actions import take_mode
    from web.match.actions import add_fact, set_marks
    from web.plates.actions import bring_in, take_plate
    from web.shows.actions import create_shot
    from web.shows.models import Show
    from web.stage.actions import add_box

    if Show.objects.filter(slug=SLUG).exists():
        return
    print("Building the demo show, once.", flush=True)
    bodies, lenses = catalogue()
    show = Show.objects.create(name="The Lantern Tide", slug=SLUG)
    for name, about in zip(PLATES, ("Boathouse, morning", "Toward the slipway, not matched yet")):
        shot = create_shot(show, name.split("_")[0], about)
        shot = take_plate(shot, bring_in(FOLDER / f"{name}.jpg", f"{name}.jpg"))
        shot = take_mode(shot, bodies["Saltmarsh One"], bodies["Saltmarsh One"]["modes"][1])
        if name.startswith("LT010"):
            shot = set_marks(shot, marks_for(truth(name)), "Marks", None)
            for fact in copy.deepcopy(FACTS):
                shot = add_fact(shot, fact, None)
            for label, base, size, turn in BOXES:
                shot = add_box(shot, {"name": label, "base": list(base), "size": list(size), "turn_deg": turn}, None)
            _render(shot)


def catalogue() -> tuple[dict, dict]:
    """The invented bodies and lenses, by name; brought into the catalogue, where they stay beside the artist's own."""
    from aperture.formats.catalogue import read
    from web.catalogue.actions import bring_in as take_in

    document = read((Path(__file__).parent / "catalogue.json").read_bytes())
    take_in(document)
    return tuple({entry["name"]: entry for entry in document[kind]} for kind in ("bodies", "lenses"))


def _render(shot) -> None:
    from web.lineup.actions import render_now

    render_now(shot)
