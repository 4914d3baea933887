"""The Plate step's parts of the state."""

from aperture.plates.way_in import SMALLEST
from web.shows.schemas import NUMBER, PIXELS, TRUTH, listed, maybe, record, table, text
from web.shows.state import Part

NUMBER_OF_PICTURE = {"type": "integer", "minimum": 0, "maximum": 999_999_999}
OFFSET = {"type": "integer", "minimum": -999_999_999, "maximum": 999_999_999}
FRAME = {"type": "integer", "minimum": -1_999_999_998, "maximum": 1_999_999_998}
PARTS = (
    Part(
        "plate",
        None,
        maybe(
            record(
                {
                    "digest": {"type": "string", "pattern": "^[0-9a-f]{64}$"},
                    "name": text(255),
                    "width": PIXELS,
                    "height": PIXELS,
                }
            )
        ),
        group="match",  # marks lie on it
        camera=True,
        renders=True,
    ),
    # A filmed plate, of which `plate` is the picture with the number `shown`; frame = number +
    # offset.
    Part(
        "film",
        None,
        maybe(
            record(
                {
                    "digest": {"type": "string", "pattern": "^[0-9a-f]{64}$"},
                    "name": text(255),
                    "first": NUMBER_OF_PICTURE,
                    "last": NUMBER_OF_PICTURE,
                    "shown": NUMBER_OF_PICTURE,
                    "offset": OFFSET,
                },
                {"pair": TRUTH},
            )
        ),
        group="match",
    ),
    # What was drawn on other frames of a filmed plate, by picture number: see `frames.go_to`.
    Part(
        "aside",
        {},
        table(record({"marks": listed({"type": "object"}), "facts": listed({"type": "object"})})),
        group="match",
        camera=True,
    ),
    # What is done to its pictures on their way in: see `aperture.plates.way_in`.
    Part(
        "way_in",
        {},
        {
            "type": "object",
            "properties": {
                "flip": {"const": True},
                "quarters": {"type": "integer", "minimum": 1, "maximum": 3},
                "width": {"type": "integer", "minimum": SMALLEST, "maximum": 99_999},
            },
            "additionalProperties": False,
        },
        group="match",
        camera=True,
    ),
    # The range that was marked, first and last frame; None: the whole plate.
    Part(
        "range",
        None,
        maybe({"type": "array", "items": FRAME, "minItems": 2, "maxItems": 2}),
        group="range",
    ),
    # By how much the shot has been shifted since it began: renders keep the numbers that they were
    # made with.
    Part("shift", 0, OFFSET, group="match"),
    Part("plate_facts", {}, table({"anyOf": [NUMBER, text(200)]}), group="plate facts"),
)
