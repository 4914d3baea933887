"""The Set step's parts of the state."""

from web.shows.schemas import ID, POSITIVE, listed, maybe, numbers, record, table, text
from web.shows.state import Part

PARTS = (
    Part(
        "stand_ins",
        [],
        listed(record({"id": ID, "name": text()}, {"kind": text(40)}, others=True)),
        group="set",
        renders=True,
    ),
    Part(
        "cameras",
        [],
        listed(record({"id": ID, "name": text(), "kind": text(40)}, others=True), 200),
        group="cameras",
    ),
    Part("camera_looks", {}, table({"type": "object"}, 400), group="cameras"),
    Part(
        "card",
        {},
        record({}, {"in": text(20), "left": maybe(listed(numbers(3), 4, 4))}),
        group="card",
    ),
    Part("card_m", None, maybe(POSITIVE), group="card"),
)
