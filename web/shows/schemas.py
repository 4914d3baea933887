"""Words for the JSON Schemas of the state's parts, so that an app's declarations read as they
mean."""

MOST = 1e9  # of any number, by magnitude
NUMBER = {"type": "number", "minimum": -MOST, "maximum": MOST}
POSITIVE = {"type": "number", "exclusiveMinimum": 0, "maximum": MOST}
PIXELS = {"type": "integer", "minimum": 1, "maximum": 1_000_000}
TRUTH = {"type": "boolean"}
ID = {"type": "string", "pattern": "^[A-Za-z0-9_-]{1,40}$"}


def text(most: int = 120) -> dict:
    """One line of text, without control characters."""
    return {"type": "string", "maxLength": most, "pattern": r"^[^\x00-\x1f\x7f]*$"}


def listed(item: dict, most: int = 2000, least: int = 0) -> dict:
    """A list of alike items."""
    return {"type": "array", "items": item, "maxItems": most, "minItems": least}


def numbers(count: int) -> dict:
    """So many numbers."""
    return listed(NUMBER, count, count)


def record(required: dict, more: dict | None = None, others: bool = False) -> dict:
    """An object with certain entries; `more` may be there, `others` may too."""
    return {
        "type": "object",
        "properties": required | (more or {}),
        "required": list(required),
        "additionalProperties": others,
    }


def table(item: dict, most: int = 2000) -> dict:
    """An object whose keys the artist or the application chooses."""
    return {
        "type": "object",
        "additionalProperties": item,
        "maxProperties": most,
        "propertyNames": text(),
    }


def maybe(schema: dict) -> dict:
    """This, or null."""
    return {"anyOf": [{"type": "null"}, schema]}
