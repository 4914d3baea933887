"""The Match step's parts of the state, after the schema of the match document. They mean something only together."""

from aperture.match import document
from web.shows.schemas import NUMBER, listed, maybe, numbers, record, table, text
from web.shows.state import Part


def of_document(key: str) -> dict:
    """The schema of one of the match document's entries."""
    whole = document.schema()
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
    _part("draft", "First", text(60)),
    _part("drafts", {}, table({"type": "object"}, 200), camera=False),
    _part("draft_locks", [], listed(text(60), 200), camera=False),
)
