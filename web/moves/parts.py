"""The parts of the state about moves: what came in, and which of them is the shot's camera."""

from aperture.moves.align import MOST_REFERENCES
from web.shows.schemas import ID, POSITIVE, TRUTH, listed, maybe, numbers, record, table, text
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
# `authored`: its keys, where it was drawn here (`aperture.moves.authored.Authored`); it has no file
# then. `aircraft`: what flies it (`aperture.moves.flight.Aircraft`), null where the camera is where
# the keys say.
MOVE = record(
    {
        "id": ID,
        "name": text(80),
        "file": maybe(BLOB),
        "file_name": text(200),
        "settings": {"type": "object"},
        "recipe": maybe({"type": "object"}),
        "says": record({"cameras": NAMES, "nodes": NAMES, "done": NAMES}, others=True),
        "baked": BLOB,
        "shift": {"type": "integer"},
        "stands": maybe(numbers(16)),
    },
    {"authored": BLOB, "aircraft": maybe({"type": "object"})},
)
# What tells where a move stands, by the move's id. Of a reference: `kind` is "point" (known in both
# spaces: `moves`, metres of the move's own), "axis" (what the lens axis pointed at on a frame, of
# this move or of move `of`) or "spot" (where it was seen on the plate, `px`). `frame`: as if the
# shot had never been shifted. `place`: the name of the point of the set; `world`: where that was
# last, metres. `plus_minus`: in metres, degrees or pixels, as the kind has it.
REFERENCE = record(
    {
        "id": ID,
        "kind": {"enum": ["point", "axis", "spot"]},
        "name": text(80),
        "place": text(200),
        "world": maybe(numbers(3)),
        "plus_minus": POSITIVE,
        "on": TRUTH,
    },
    {"moves": numbers(3), "frame": {"type": "integer"}, "px": numbers(2), "of": maybe(ID)},
)
ALIGNMENT = record(
    {
        "references": listed(REFERENCE, MOST_REFERENCES),
        "scale": TRUTH,
        "level_deg": maybe(POSITIVE),
        "pupil": TRUTH,
    }
)
PARTS = (
    Part("moves", [], listed(MOVE, MOST_MOVES), group="moves"),
    Part("alignments", {}, table(ALIGNMENT, MOST_MOVES), group="moves"),
    # Which move is evidence about the path, with the ± of its places and turns.
    Part(
        "move_evidence",
        None,
        maybe(record({"id": ID, "plus_minus": POSITIVE, "plus_minus_deg": POSITIVE})),
        group="moves",
    ),
    Part("serving", None, maybe(ID), group="moves", camera=True, renders=True),
)
