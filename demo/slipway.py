"""LT080 of the demo: what of the slipway is modelled, and the move that the rig sends."""

import tempfile
from pathlib import Path

import numpy as np

from demo import films

# What of LT080 is modelled: its corners are where the rig's move is laid.
SLIPWAY = (
    {
        "name": "Crate",
        "kind": "box",
        "base": [2.95, 0.0, 4.7],
        "size": [0.7, 0.5, 0.6],
        "turn_deg": 0.0,
        "part_of_plate": True,
    },
    {
        "name": "Small crate",
        "kind": "box",
        "base": [2.95, 0.5, 4.675],
        "size": [0.4, 0.3, 0.35],
        "turn_deg": 0.0,
        "part_of_plate": True,
    },
    {
        "name": "Lantern’s post",
        "kind": "box",
        "base": [4.35, 0.0, 2.75],
        "size": [0.14, 1.44, 0.14],
        "turn_deg": 0.0,
        "part_of_plate": True,
    },
)


def from_the_rig(shot) -> None:
    """The move as it comes from the rig, and the points of the set that the rig knows: where it
    stands is left to the artist."""
    from aperture.formats import rig_files
    from aperture.moves.rig import play
    from web.moves import actions, align_actions
    from web.shows.models import Shot
    from web.stage.places import places_of

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "LT080_rig.usda"
        rig_files.write(path, play(films.rig_program(), films.SHOTS["LT080"].rate))
        shot = actions.take(shot, path.name, path.read_bytes(), None, None)
    rig_from_set = np.linalg.inv(films.rig_stands())
    random = np.random.default_rng(80)
    points = [
        {
            "name": name,
            "world": (rig_from_set[:3] @ [*at, 1] + 0.003 * random.normal(size=3)).tolist(),
            "plus_minus": 0.003,
        }
        for name, at in places_of(shot).items()
        if "upper" in name
    ]
    align_actions.add_points(Shot.objects.with_head().get(pk=shot.pk), "m1", points, None)
