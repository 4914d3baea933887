"""The part of a shot's state that tells which other one it was made from, at another speed."""

from aperture.cut.cut import BETWEEN, MOST_SPEEDS
from web.plates.parts import FRAME
from web.shows.schemas import POSITIVE, listed, maybe, record, text
from web.shows.state import Part

PARTS = (
    # `revision`, `of`: what the other one was then. Frames as if that had never been shifted.
    Part(
        "retimed",
        None,
        maybe(
            record(
                {
                    "shot": {"type": "integer", "minimum": 1},
                    "revision": {"type": "integer", "minimum": 1},
                    "of": text(64),
                    "first": FRAME,
                    "last": FRAME,
                    "speeds": listed(
                        {
                            "type": "array",
                            "prefixItems": [FRAME, POSITIVE],
                            "minItems": 2,
                            "maxItems": 2,
                        },
                        MOST_SPEEDS,
                    ),
                    "between": {"enum": list(BETWEEN)},
                }
            )
        ),
        group="match",
    ),
)
