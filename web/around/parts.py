"""The parts of the state that belong to panoramas."""

from web.shows.schemas import NUMBER, POSITIVE, listed, record, text
from web.shows.state import Part

SIZE = {"type": "integer", "minimum": 16, "maximum": 16_384}
VIEW = record(
    {
        "name": text(60),
        "pan_deg": NUMBER,
        "tilt_deg": NUMBER,
        "roll_deg": NUMBER,
        "angle_deg": POSITIVE,
        "width": SIZE,
        "height": SIZE,
    }
)
PARTS = (
    # How a panorama is cut into ordinary views: `size` and `overlap_deg` of a cube's six, or views
    # of one's own (`aperture.around.views.View`).
    Part(
        "views",
        {},
        record(
            {},
            {
                "size": SIZE,
                "overlap_deg": {"type": "number", "minimum": 0, "maximum": 30},
                "own": listed(VIEW, 64),
            },
        ),
        group="views",
    ),
)
