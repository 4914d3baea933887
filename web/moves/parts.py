"""The parts of the state about moves: what came in, and which of them is the shot's camera."""

from web.shows.schemas import ID, listed, maybe, numbers, record, text
from web.shows.state import Part

BLOB = record({"blob": {"type": "string", "pattern": "^[0-9a-f]{64}$"}})
MOST_MOVES = 50
NAMES = listed({"type": "string", "maxLength": 500}, 1000)

# `file`, `file_name`: what came in, kept so that it can be understood otherwise. `settings`,
# `recipe`: how it is understood (`aperture.moves.source.Settings`,
# `aperture.formats.recipe.Recipe`). `says`: what the file said of itself
# (`aperture.moves.source.BroughtIn`). `baked`: the move as arrays. `shift`: by how much the shot
# was shifted then. `stands`: the rigid transform of the move's space into the set's, row by row;
# null where it is none.
MOVE = record(
    {
        "id": ID,
        "name": text(80),
        "file": BLOB,
        "file_name": text(200),
        "settings": {"type": "object"},
        "recipe": maybe({"type": "object"}),
        "says": record({"cameras": NAMES, "nodes": NAMES, "done": NAMES}, others=True),
        "baked": BLOB,
        "shift": {"type": "integer"},
        "stands": maybe(numbers(16)),
    }
)
PARTS = (
    Part("moves", [], listed(MOVE, MOST_MOVES), group="moves"),
    Part("serving", None, maybe(ID), group="moves", camera=True, renders=True),
)
