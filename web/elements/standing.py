"""How far the Elements step is."""

from web.shows.steps import Standing


def standing(shot) -> Standing:
    """Settled with a render of what stands now; needs the artist where it is of an older camera."""
    from web.elements.actions import source_digest

    newest = shot.renders.first()
    if newest is None:
        return Standing("nothing", "nothing rendered")
    return (
        Standing("settled", "rendered")
        if newest.digest == source_digest(shot.state)
        else Standing("needs", "render is old")
    )
