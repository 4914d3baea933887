"""The Expose step's part of the state: what is typed of the virtual camera's exposure. What isn't there is as the plate has it."""

from web.shows.schemas import POSITIVE, record
from web.shows.state import Part

PARTS = (
    Part(
        "exposure",
        {},
        # Of the shutter, either its time or its angle (radians) at the show's rate.
        record(
            {},
            {"f_number": POSITIVE, "seconds": POSITIVE, "angle": POSITIVE, "iso": POSITIVE},
        ),
        group="exposure",
    ),
)
