"""The Expose step's parts of the state: exposure, focus, the blur's shape, the shutter, white and
look.

What isn't there is as the plate has it, or as usual.
"""

from aperture.light.focus import BASES
from aperture.light.metering import SURFACES
from aperture.light.motion import PHASES
from aperture.moves.move import MOST_FRAMES
from web.plates.parts import FRAME
from web.shows.schemas import ID, NUMBER, POSITIVE, TRUTH, listed, maybe, numbers, record, text
from web.shows.state import Part

BLOB = record({"blob": {"type": "string", "pattern": "^[0-9a-f]{64}$"}})
BOX = numbers(4)  # left, top, right, bottom; px of the plate
MOST_KEYS, MOST_PATCHES = 2000, 40
PARTS = (
    Part(
        "exposure",
        {},
        # Of the shutter, either its time or its angle (radians) at the show's rate.
        record(
            {},
            {
                "f_number": POSITIVE,
                "seconds": POSITIVE,
                "angle": POSITIVE,
                "iso": POSITIVE,
                "nd_stops": {"type": "number", "minimum": 0, "maximum": 30},
                "transmittance": {"type": "number", "exclusiveMinimum": 0, "maximum": 1},
            },
        ),
        group="exposure",
    ),
    # A patch of the plate that is known: `surface` is a key of metering.SURFACES.
    Part(
        "metered",
        None,
        maybe(record({"box": BOX, "surface": {"enum": list(SURFACES)}})),
        group="metered",
    ),
    # Pairs of patches that show the same surface on the plate and in the render; both in px of the
    # plate, as the render lies over it.
    Part(
        "pairs",
        [],
        listed(record({"id": ID, "plate": BOX, "render": BOX}), MOST_PATCHES),
        group="pairs",
    ),
    # `metres`: typed. `follow`: the name of a point of the set or of a stand-in. `keys`: [frame,
    # metres], frames as if the shot had never been shifted. `circle`: what counts as sharp.
    Part(
        "focus",
        {},
        record(
            {},
            {
                "metres": maybe(POSITIVE),
                "follow": maybe(text(200)),
                "keys": listed(numbers(2), MOST_KEYS),
                "circle": record({"basis": {"enum": list(BASES)}}, {"mm": POSITIVE}),
            },
        ),
        group="focus",
        renders=True,
    ),
    # `aperture.light.pupil.Pupil`, as its `to_json`; `picture`: grey, of the opening.
    Part(
        "pupil",
        {},
        record({}, {"picture": BLOB, "picture_name": text(200)}, others=True),
        group="pupil",
        renders=True,
    ),
    Part(
        "shutter",
        {},
        # `slow`: [frame, by], frames as if the shot had never been shifted: by how much longer it
        # seems to be open in a shot that was made from another one at another speed. `held`: what
        # its frames show from `first` on, by the frames of that one, where they are its nearest.
        record(
            {},
            {
                "phase": {"enum": list(PHASES)},
                "readout_ms": NUMBER,
                "slow": listed(numbers(2), MOST_FRAMES),
                "held": record({"first": FRAME, "at": listed(FRAME, MOST_FRAMES)}),
            },
        ),
        group="shutter",
        renders=True,
    ),
    # Which white the plate was balanced for: `by` says how that is known.
    Part(
        "white",
        {},
        record(
            {},
            {
                "by": {"enum": ["grey world", "picked", "file", "typed"]},
                "kelvin": POSITIVE,
                "tint": NUMBER,
                "box": BOX,
            },
        ),
        group="white",
    ),
    # `look`: `aperture.light.character.look.Look`, as its `to_json`. `on`: whether renders that are
    # delivered have it. `cube`: a lookup table.
    Part(
        "look",
        {},
        record(
            {},
            {
                "look": {"type": "object"},
                "on": TRUTH,
                "name": text(80),
                "cube": BLOB,
                "cube_name": text(200),
            },
        ),
        group="look",
    ),
)
