"""The Plate step's parts of the state."""

from web.shows.schemas import NUMBER, PIXELS, maybe, record, table, text
from web.shows.state import Part

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
    Part("plate_facts", {}, table({"anyOf": [NUMBER, text(200)]}), group="plate facts"),
)
