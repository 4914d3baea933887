"""How far the Plate step is."""

from web.shows.steps import Standing


def standing(shot) -> Standing:
    """Settled once there is a plate."""
    plate = shot.state["plate"]
    return (
        Standing("settled", f"{plate['width']} × {plate['height']}")
        if plate
        else Standing("nothing", "no picture")
    )
