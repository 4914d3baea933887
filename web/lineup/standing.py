"""How far the Line-up step is."""

from web.shows.steps import Standing


def standing(shot) -> Standing:
    """Settled with a render of what stands now to lay over the plate; needs the artist where it is
    of an older camera."""
    from web.elements.actions import source_digest
    from web.elements.queries import newest_whole

    newest = newest_whole(shot)
    if newest is None:
        return Standing("nothing", "nothing rendered")
    return (
        Standing("settled", "lined up")
        if newest.digest == source_digest(shot.state)
        else Standing("needs", "render is old")
    )
