"""What pages and their scripts send: JSON, places, numbers of revisions and frames."""

import json
import math

from aperture.errors import Problem


def body(request) -> dict:
    """The JSON object that was posted. Raises Problem."""
    try:
        data = json.loads(request.body)
    except ValueError:
        data = None
    if not isinstance(data, dict):
        raise Problem("The page sent nothing that can be read.")
    return data


def point(at):
    """A place on the picture, px. Raises Problem."""
    if not (isinstance(at, list) and len(at) == 2 and all(isinstance(v, (int, float)) and math.isfinite(v) for v in at)):
        raise Problem("The pointer's place must be two finite numbers.")
    return at


def whole(value) -> int | None:
    """A revision's or a frame's number, as JSON or as a form or an address has it; None where it isn't one."""
    return value if isinstance(value, int) and not isinstance(value, bool) else int(value) if isinstance(value, str) and value.isdecimal() else None


def base_of(request) -> int | None:
    """The revision that the page had on screen."""
    return whole(request.POST.get("base"))
