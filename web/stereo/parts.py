"""The part of the state that belongs to stereo."""

from aperture.stereo.pair import MODES
from web.shows.schemas import POSITIVE, listed, numbers, record
from web.shows.state import Part

MOST_KEYS = 2000
PARTS = (
    # `keys`: [picture number, interaxial, convergence], metres; they count before what is typed.
    # `screen_m`, `seat_m`, `eyes_m`: who looks at it.
    Part(
        "stereo",
        {},
        record(
            {},
            {
                "interaxial_m": POSITIVE,
                "convergence_m": POSITIVE,
                "mode": {"enum": list(MODES)},
                "screen_m": POSITIVE,
                "seat_m": POSITIVE,
                "eyes_m": POSITIVE,
                "keys": listed(numbers(3), MOST_KEYS),
            },
        ),
        group="stereo",
    ),
)
