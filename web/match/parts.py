"""The Match step's parts of the state, after the schema of the match document. They mean something
only together."""

from aperture.match import document
from web.shows.schemas import ID, NUMBER, listed, maybe, numbers, record, table, text
from web.shows.state import Part

DIGEST = {"type": "string", "pattern": "^[0-9a-f]{64}$"}
COUNT = {"type": "integer", "minimum": 0, "maximum": 100_000_000}


def of_document(key: str, version: int = 1) -> dict:
    """The schema of one of the match document's entries."""
    whole = document.schema(version)
    return {"$defs": whole["$defs"], **whole["properties"][key]}


def _lens() -> dict:
    schema = of_document("lens")
    own = {"name": text(200), "focal_kept": maybe(schema["properties"]["focal_mm"])}
    return schema | {"properties": schema["properties"] | own}


def _part(key, default, schema=None, camera=True, renders=False) -> Part:
    return Part(key, default, schema or of_document(key), "match", camera, renders)


PARTS = (
    _part("lens", {"focal_mm": None}, _lens(), renders=True),
    _part("marks", [], renders=True),
    _part("facts", [], renders=True),
    _part("planes", [], renders=True),
    _part("robust", False, renders=True),
    _part(
        "survey",
        [],
        listed(
            record(
                {"name": text(), "world": numbers(3)},
                {"plus_minus": maybe({"anyOf": [NUMBER, numbers(3)]})},
            ),
            20_000,
        ),
        camera=False,
    ),
    Part(
        "tracks",
        None,
        maybe(record({"blob": DIGEST, "count": COUNT, "places": COUNT})),
        "tracks",
        camera=True,
    ),
    # Facts about tracks, or about the camera on one picture, whose number stands in `frame`.
    Part("path_facts", [], of_document("facts", 2), "tracks", camera=True),
    Part(
        "path",
        None,
        maybe(
            record({"blob": DIGEST, "of": DIGEST, "motion": text(10), "shift": {"type": "integer"}})
        ),
        "tracks",
        camera=True,
        renders=True,
    ),
    # Where the lens zooms: what is known of its focal length, by picture: number, millimetres, ±.
    Part(
        "zoom",
        None,
        maybe(record({"known": listed(numbers(3), 20_000)})),
        "tracks",
        camera=True,
    ),
    # The rolling shutter's readout: null where there is none; milliseconds, null where they are to
    # be solved for, and ±.
    Part(
        "readout",
        None,
        maybe(record({"ms": maybe(NUMBER), "plus_minus": NUMBER})),
        "tracks",
        camera=True,
    ),
    # Whether facts only lay the path down, and don't bend it.
    Part("stands", False, {"type": "boolean"}, "tracks", camera=True),
    Part(
        "keep_out",
        [],
        listed(
            record({"id": ID, "keys": table(listed(numbers(2), 200, 3))}, {"name": text()}), 200
        ),
        "keep out",
    ),
    _part("draft", "First", text(60)),
    _part("drafts", {}, table({"type": "object"}, 200), camera=False),
    _part("draft_locks", [], listed(text(60), 200), camera=False),
)
