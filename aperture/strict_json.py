"""JSON from outside, read strictly: what Python's reader lets through, and nothing else could store
or show, is refused."""

from __future__ import annotations

import json
import re
from typing import Any

from aperture.errors import Problem

ESCAPED_SURROGATE = re.compile(r"\\u[dD][89a-fA-F]")


def loads(text: str | bytes) -> Any:
    """The value that `text` holds (RFC 8259: no NaN, no infinity; and no half of a surrogate pair,
    RFC 8259 section 8.2).

    Raises Problem.
    """
    try:
        if isinstance(text, bytes):
            text = text.decode("utf-8-sig")
        value = json.loads(text, parse_constant=_refuse)
        if ESCAPED_SURROGATE.search(text):
            json.dumps(value, ensure_ascii=False).encode()
    except Problem:
        raise
    except UnicodeEncodeError:
        raise Problem("This JSON holds half a character, which no file can keep.") from None
    except (ValueError, RecursionError) as error:
        raise Problem(f"This is not JSON: {str(error)[:200]}.") from None
    return value


def _refuse(name: str) -> None:
    raise Problem(f"JSON has no {name}: every number must be finite.")
