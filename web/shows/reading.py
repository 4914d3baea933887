"""What pages and their scripts send: JSON, places, numbers of revisions and frames."""

from aperture import strict_json
from aperture.errors import Problem
from web.shows.refusals import Refused

MOST_PX = 1e7  # as the match document has it
MOST_DIGITS = 9


def wants_json(request) -> bool:
    """Whether the caller is one of our scripts."""
    return request.headers.get("Accept", "").startswith("application/json")


def body(request) -> dict:
    """The JSON object that was posted. Raises Problem."""
    data = strict_json.loads(request.body)
    if not isinstance(data, dict):
        raise Problem("The page sent nothing that can be read.")
    return data


def point(at):
    """A place on the picture, px. Raises Problem."""
    if not (
        isinstance(at, list)
        and len(at) == 2
        and all(isinstance(v, int | float) and abs(v) < MOST_PX for v in at)
    ):
        raise Problem("The pointer's place must be two finite numbers.")
    return at


def whole(value) -> int | None:
    """A revision's or a frame's number, as JSON or as a form or an address has it; None where it isn't one."""
    if isinstance(value, int) and not isinstance(value, bool):
        return value
    if isinstance(value, str) and value.isdecimal() and len(value) <= MOST_DIGITS:
        return int(value)
    return None


def require_base(value) -> int:
    """The revision that a page shows, as a form or a script's message says it.

    Whoever saves has to say what they had on screen. Raises Refused where that isn't said.
    """
    base = whole(value)
    if base is None:
        raise Refused("The page doesn't say which revision it shows. Load it again.")
    return base


def base_of(request) -> int:
    """The revision that the page shows, of a form, a script's message or an address. Raises Refused where it isn't said."""
    if request.content_type == "application/json":
        return require_base(body(request).get("base"))
    return require_base(request.POST.get("base") or request.GET.get("base"))


def given_name(request, most: int = 120) -> str:
    """The name that was typed, on one line. Raises Problem where it is empty."""
    name = " ".join(request.POST.get("name", "").split())[:most]
    if not name:
        raise Problem("Type a name.")
    return name
