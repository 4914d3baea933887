"""Reads what pages and their scripts send: typed JSON messages, numbers of revisions and frames,
names.

A view that a script calls declares its message as a `Message` and reads it with `read`. What the
view gets has the types and bounds that the message states; anything else was refused with a
sentence before.
"""

import re
from typing import Annotated, TypeVar

import msgspec
from django.core.files.uploadedfile import UploadedFile

from aperture import strict_json
from aperture.errors import Problem
from web.shows.refusals import NotValid, Refused

MOST_PX = 1e7  # as the match document has it
MOST_METRES = 1e7  # likewise
MOST_DIGITS = 9
FRAME_RANGE = re.compile(r"\s*([-−]?\d+)(?:(?:\s*[,;–—-]\s*|\s+)([-−]?\d+))?\s*")
MOST_TEXT = 200

Pixels = Annotated[float, msgspec.Meta(gt=-MOST_PX, lt=MOST_PX)]
Place = tuple[Pixels, Pixels]  # x, y on the plate
Metres = Annotated[float, msgspec.Meta(gt=-MOST_METRES, lt=MOST_METRES)]
Text = Annotated[str, msgspec.Meta(max_length=MOST_TEXT)]


class Message(msgspec.Struct, frozen=True):
    """What a script posts. Fields that a message doesn't know are ignored."""


class Edit(Message, frozen=True, kw_only=True):
    """A message that changes the shot; `base` is the revision that the page shows."""

    base: int | str | None = None

    @property
    def revision(self) -> int:
        """The revision that the page shows. Raises Refused where the message doesn't say it."""
        return require_base(self.base)


M = TypeVar("M", bound=Message)


def wants_json(request) -> bool:
    """Whether the caller is one of our scripts."""
    return request.headers.get("Accept", "").startswith("application/json")


def read(request, message: type[M]) -> M:
    """Return the posted JSON as a `message`; an empty body counts as an empty object.

    Raises Problem where it isn't JSON, NotValid (with the place) where it isn't such a message.
    """
    data = strict_json.loads(request.body or b"{}")
    try:
        return msgspec.convert(data, message)
    except msgspec.ValidationError as error:
        reason, _, place = str(error).partition(" - at `$")
        path = place.rstrip("`").replace("[", "/").replace("]", "").replace(".", "/")
        raise NotValid(f"The page sent something that can't be used: {reason}.", path) from None


def integer(value) -> int | None:
    """A whole number with its sign, as JSON or as a form or an address has it: a frame, which may
    lie before a shot's frame 0; None where it isn't one."""
    if isinstance(value, str):
        text = value.strip().replace("−", "-")
        size = whole(text.removeprefix("-"))
        return -size if size is not None and text.startswith("-") else size
    return whole(value)


def frame_range(text: str) -> tuple[int, int] | None:
    """The first and the last frame of `1001–1012`, `-12 – -3` or `1001, 1012`, or of one number;
    None where they aren't two whole numbers in order."""
    ends = FRAME_RANGE.fullmatch(text)
    if ends is None:
        return None
    first, last = integer(ends[1]), integer(ends[2] or ends[1])
    return (first, last) if first is not None and last is not None and first <= last else None


def whole(value) -> int | None:
    """What is counted from 0 or 1, as JSON or as a form or an address has it: a revision, a row, a
    width in px; None where it isn't such a number."""
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
    """The revision that the page shows, of a form, a script's message or an address. Raises Refused
    where it isn't said."""
    if request.content_type == "application/json":
        return read(request, Edit).revision
    return require_base(request.POST.get("base") or request.GET.get("base"))


class Upload(UploadedFile):
    """A file that came with a form: it has a name there."""

    name: str


def given_file(request, field: str, what: str, most_bytes: int) -> Upload:
    """The file that a form has to bring; a sentence about `what` where it is missing or too
    large."""
    upload = request.FILES.get(field)
    if upload is None:
        raise Problem(f"Choose {what} first.", field)
    if upload.size > most_bytes:
        most, has = f"{most_bytes / 1e6:.0f} MB", f"{upload.size / 1e6:.1f} MB"
        raise Problem(f"This file has {has}, and {most} are the most that is taken.", field)
    return upload


def given_name(request, most: int = 120) -> str:
    """The name that was typed, on one line. Raises NotValid where it is empty."""
    name = " ".join(request.POST.get("name", "").split())[:most]
    if not name:
        raise NotValid("Type a name.")
    return name
