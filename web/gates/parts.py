"""The Gate step's parts of the state."""

from web.shows.schemas import POSITIVE, TRUTH, listed, maybe, record, table, text
from web.shows.state import Part

PARTS = (
    Part(
        "gate",
        None,
        # Width and height are missing where only the picture's share of the photosites is known.
        maybe(
            record(
                {},
                {"width_mm": POSITIVE, "height_mm": POSITIVE, "name": text(200)},
                others=True,
            )
        ),
        group="gate",
        camera=True,
        renders=True,
    ),
    Part(
        "guides",
        {},
        record(
            {},
            {
                "frames": listed(table({"type": ["number", "string", "boolean", "null"]}), 40),
                "centre": TRUTH,
                "thirds": TRUTH,
                "areas": TRUTH,
            },
            others=True,
        ),
        group="guides",
    ),
)
