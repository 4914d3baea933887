"""What the table of cameras across a show says of exposure and look."""

from aperture.light.exposure import format_seconds
from web.expose.looks import names_of
from web.shows.models import Shot


def shutters(shots: list[Shot]) -> list[str]:
    """The virtual cameras' shutters as they were typed; a dash where the plate's file is asked."""
    typed = (shot.state["exposure"].get("seconds") for shot in shots)
    return [format_seconds(seconds) if seconds else "–" for seconds in typed]


def looks(shots: list[Shot]) -> list[str]:
    """What of each look changes pictures."""
    return [", ".join(names_of(shot)) if shot.state["look"] else "–" for shot in shots]
